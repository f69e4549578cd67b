package checkout

import (
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"golang.org/x/sync/errgroup"

	"grayloft.example/grayloft/internal/core/listing"
)

// Kept is what was found when the outputs of a task were copied to the cache.
type Kept struct {
	List          listing.List
	CheckoutPaths []string // files that contain the path of the checkout
	Secret        string   // a file, from the root, that contains a secret; "" if there is none
}

// Keep copies the task's outputs aside, hashes the copies, stores them as
// blobs, and returns the listing. Secrets are texts that are searched for.
func (o *Outputs) Keep(secrets []string) (Kept, error) {
	base, err := o.open()
	if err != nil {
		return Kept{}, err
	}
	if base == nil {
		return Kept{}, nil
	}
	defer base.Close()
	found, err := o.found(base)
	if err != nil {
		return Kept{}, err
	}
	files := make([]keptFile, len(found))
	entries := rootEntries(o.root())
	var g errgroup.Group
	g.SetLimit(atOnce)
	for i, f := range found {
		if err := listing.CheckPath(f.Path); err != nil {
			return Kept{}, err
		}
		g.Go(func() (err error) {
			files[i], err = o.keepFile(base, f, entries, secrets)
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return Kept{}, err
	}
	kept := Kept{List: make(listing.List, len(found))}
	for i, f := range files {
		kept.List[i] = f.row
		if f.hasPath {
			kept.CheckoutPaths = append(kept.CheckoutPaths, f.row.Path)
		}
		if f.hasSecret {
			kept.Secret = o.fromRoot(f.row.Path)
		}
	}
	if err := kept.List.CheckLinks(o.Task.Project.Dir); err != nil {
		return Kept{}, err
	}
	// The listing must be one that [listing.Parse] accepts.
	_, err = listing.Parse(kept.List.Encode())
	return kept, err
}

// keptFile is a file with what was found in it while it was copied.
type keptFile struct {
	row       listing.Row
	hasPath   bool // it contains the path of the checkout
	hasSecret bool // it contains the value of a secret
}

func (o *Outputs) keepFile(base *os.Root, f listing.Row, entries map[string]bool, secrets []string) (keptFile, error) {
	row := listing.Row{Path: f.Path, Kind: f.Kind}
	switch f.Kind {
	case listing.Link:
		target, err := base.Readlink(f.Path)
		if err != nil {
			return keptFile{}, err
		}
		row.Target = filepath.ToSlash(target)
		row.Size = int64(len(row.Target))
	case listing.File:
		src, info, err := openFile(base, f.Path)
		if err != nil {
			return keptFile{}, err
		}
		defer src.Close()
		if info.Mode()&0o100 != 0 {
			row.Kind = listing.Executable
		}
		paths := &rootScan{root: []byte(o.root() + "/"), entries: entries}
		hunt := &secretScan{secrets: secrets}
		row.Digest, row.Size, err = o.Store.Copy(src, io.MultiWriter(paths, hunt))
		return keptFile{row, paths.found, hunt.found}, err
	}
	return keptFile{row: row}, nil
}

// openFile opens a file, and refuses one that a link has replaced meanwhile.
func openFile(base *os.Root, rel string) (*os.File, fs.FileInfo, error) {
	info, err := base.Lstat(rel)
	if err != nil {
		return nil, nil, err
	}
	f, err := base.Open(rel)
	if err != nil {
		return nil, nil, err
	}
	if now, err := f.Stat(); err != nil || !now.Mode().IsRegular() || !os.SameFile(info, now) {
		f.Close()
		return nil, nil, fmt.Errorf("%s was replaced while it was read", rel)
	}
	return f, info, nil
}
