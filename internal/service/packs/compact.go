package packs

import (
	"context"
	"errors"
	"fmt"
	"time"

	"grayloft.example/grayloft/internal/service/blobs"
	"grayloft.example/grayloft/internal/service/records"
)

// Compactor writes packs again of which little is live, and puts small ones together.
type Compactor struct {
	Records *records.DB
	Store   blobs.Store
	Delay   time.Duration // before an old pack is deleted: somebody may be reading it
}

// Compacted is what one pass did.
type Compacted struct {
	Packs int // that were written again
	Bytes int64
	Blobs int
}

// Compact makes one pass over every repository. An error in one does not affect the others.
func (c Compactor) Compact(ctx context.Context) (sum Compacted, err error) {
	ids, err := c.Records.Repositories(ctx)
	if err != nil {
		return sum, err
	}
	var failed []error
	for _, id := range ids {
		if err := c.repository(ctx, id, &sum); err != nil {
			failed = append(failed, fmt.Errorf("repository %d: %w", id, err))
		}
	}
	return sum, errors.Join(failed...)
}

// atOnce is how many packs are read for one pass over them.
const atOnce = 64

func (c Compactor) repository(ctx context.Context, id int64, sum *Compacted) error {
	worn, err := c.Records.WornPacks(ctx, id)
	if err != nil {
		return err
	}
	for len(worn) > 0 {
		n := min(len(worn), atOnce)
		list, err := c.Records.PackedBlobs(ctx, worn[:n])
		if err != nil {
			return err
		}
		w := &rewriting{Compactor: c, repository: id, sum: sum}
		for _, r := range Ranges(list) {
			if err := w.copy(ctx, r); err != nil {
				w.drop(ctx)
				return err
			}
		}
		if err := w.end(ctx); err != nil {
			return err
		}
		sum.Packs += n
		worn = worn[n:]
	}
	return nil
}

// rewriting copies frames into a new pack.
type rewriting struct {
	Compactor
	repository int64
	sum        *Compacted
	to         *Object
	moved      []records.Moved
}

func (w *rewriting) copy(ctx context.Context, r Range) error {
	content, err := w.Store.Open(ctx, r.Object, r.From, r.Length)
	if errors.Is(err, blobs.ErrNotExist) {
		return nil // its rows say that to whoever asks for it
	}
	if err != nil {
		return err
	}
	defer content.Close()
	return r.Frames(content, func(list []records.Blob, frame []byte) error {
		live, frame, err := Only(list, frame)
		if err != nil {
			return nil // as above
		}
		if w.to != nil && w.to.Bytes()+int64(len(frame)) > Most {
			if err := w.end(ctx); err != nil {
				return err
			}
		}
		if w.to == nil {
			name := Name(w.repository)
			if err := w.Records.Announce(ctx, w.repository, records.Stored{Object: name}); err != nil {
				return err
			}
			w.to = Begin(ctx, w.Store, name)
		}
		position, err := w.to.Add(frame)
		for _, b := range live {
			w.moved = append(w.moved, records.Moved{Blob: b, To: w.to.Name, At: position, Length: int64(len(frame))})
		}
		return err
	})
}

// end ends the new pack, and moves the rows to it.
func (w *rewriting) end(ctx context.Context) error {
	if w.to == nil {
		return nil
	}
	to, moved := w.to, w.moved
	w.to, w.moved = nil, nil
	err := to.Close()
	if err == nil {
		err = w.Records.MovePacked(ctx, w.repository, moved, w.Delay)
	}
	if err != nil {
		return errors.Join(err, w.Records.Unannounce(context.WithoutCancel(ctx), records.Stored{Object: to.Name}))
	}
	w.sum.Blobs += len(moved)
	w.sum.Bytes += to.Bytes()
	return nil
}

func (w *rewriting) drop(ctx context.Context) {
	if w.to != nil {
		w.to.Drop()
		_ = w.Records.Unannounce(context.WithoutCancel(ctx), records.Stored{Object: w.to.Name}) // otherwise it is deleted later
	}
}
