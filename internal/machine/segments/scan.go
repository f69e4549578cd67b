package segments

import (
	"archive/tar"
	"errors"
	"io"
	"io/fs"
	"os"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/pack"
)

// scan returns the blobs in a segment, up to the first member that is not whole.
func (s *Set) scan(id uint64) (rows []row, err error) {
	f, err := os.Open(s.file(id))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	count := &counter{r: f}
	members := tar.NewReader(count)
	var text []byte
	var opened pack.Opened
	for {
		h, err := members.Next()
		if err != nil { // the end, or what somebody left unfinished
			return rows, nil
		}
		p := place{segment: id, at: uint32(count.n), time: uint32(max(0, h.ModTime.Unix()))}
		name, isFrame := strings.CutSuffix(h.Name, pack.FrameSuffix)
		d, err := digest.Parse(name)
		if err != nil || h.Size < 0 || h.Size > Largest {
			return rows, nil
		}
		text = slices.Grow(text[:0], int(h.Size))[:h.Size]
		if _, err := io.ReadFull(members, text); err != nil {
			return rows, nil
		}
		p.sum = sum(text)
		list := []pack.Blob{{Digest: d, Text: text}}
		if isFrame {
			p.frame = uint32(h.Size)
			if opened.Open(text, largestFrame) != nil {
				continue
			}
			list = opened.Blobs()
		}
		for _, b := range list {
			if p.size = uint32(len(b.Text)); digest.Of(b.Text) == b.Digest {
				rows = append(rows, row{digest: b.Digest, place: p})
			}
		}
	}
}

type counter struct {
	r io.Reader
	n int64
}

func (c *counter) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}
