package outputs

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"time"

	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/files"
)

// Kept is what was found when the outputs of a task were copied to the cache.
type Kept struct {
	List          listing.List
	Text          []byte   // the list, encoded
	CheckoutPaths []string // files that contain the path of the checkout
	Secret        string   // a file, from the root, that contains a secret; "" if there is none
}

// Keep copies the task's outputs aside, hashes the copies, stores them as
// blobs, and returns the listing. Secrets are texts that are searched for.
func (o *Set) Keep(secrets []string) (Kept, error) {
	base, err := o.open()
	if err != nil {
		return Kept{}, err
	}
	if base == nil {
		return Kept{}, nil
	}
	defer base.Close()
	found, err := o.Found()
	if err != nil {
		return Kept{}, err
	}
	for _, f := range found {
		if err := listing.CheckPath(f.Path); err != nil {
			return Kept{}, err
		}
	}
	files := make([]keptFile, len(found))
	k := keeping{o, base, rootEntries(o.root()), secrets, time.Now()}
	dirs := byDirectory(found)
	if err := inParallel(len(dirs), func(i int) error { return k.directory(found, files, dirs[i]) }); err != nil {
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
	kept.Text = kept.List.Encode()
	_, err = listing.Parse(kept.Text)
	return kept, err
}

// keptFile is a file with what was found in it while it was copied.
type keptFile struct {
	row       listing.Row
	hasPath   bool // it contains the path of the checkout
	hasSecret bool // it contains the value of a secret
}

// span is a part of a list: the rows from one number to before another.
type span struct{ from, to int }

// byDirectory divides sorted rows into neighbours in the same directory.
func byDirectory(list listing.List) (out []span) {
	for i, row := range list {
		n := len(out)
		if i > 0 && path.Dir(row.Path) == path.Dir(list[i-1].Path) && i-out[n-1].from < together {
			out[n-1].to = i + 1
			continue
		}
		out = append(out, span{i, i + 1})
	}
	return out
}

// keeping is what all files have in common.
type keeping struct {
	o       *Set
	base    *os.Root
	entries map[string]bool // in the checkout's directory
	secrets []string
	began   time.Time
}

// directory keeps files of one directory, which is opened once.
func (k keeping) directory(list listing.List, into []keptFile, part span) error {
	dir := path.Dir(list[part.from].Path)
	if !reachable(k.base, path.Join(dir, "x")) {
		return fmt.Errorf("%s was replaced while it was read", dir)
	}
	in, err := k.base.Open(dir)
	if err != nil {
		return err
	}
	defer in.Close()
	for i := part.from; i < part.to; i++ {
		if into[i], err = k.file(in, list[i]); err != nil {
			return fmt.Errorf("keeping %s: %w", list[i].Path, err)
		}
	}
	return nil
}

func (k keeping) file(in *os.File, f listing.Row) (keptFile, error) {
	row := listing.Row{Path: f.Path, Kind: f.Kind}
	switch f.Kind {
	case listing.Link:
		target, err := k.base.Readlink(f.Path)
		if err != nil {
			return keptFile{}, err
		}
		row.Target = filepath.ToSlash(target)
		row.Size = int64(len(row.Target))
	case listing.File:
		src, mode, err := openSource(in, path.Base(f.Path))
		if err != nil {
			return keptFile{}, err
		}
		defer src.Close()
		if mode&0o100 != 0 {
			row.Kind = listing.Executable
		}
		paths := &rootScan{root: []byte(k.o.root() + "/"), entries: k.entries}
		hunt := &secretScan{secrets: k.secrets}
		before := src.status()
		row.Digest, row.Size, err = k.o.Store.Copy(src, io.MultiWriter(paths, hunt))
		if err == nil && k.o.Tree == "" && before == src.status() {
			k.o.Files.Memory.Note(k.began, files.Noted{Path: k.o.fromRoot(f.Path), Status: before, Digest: row.Digest})
		}
		return keptFile{row, paths.found, hunt.found}, err
	}
	return keptFile{row: row}, nil
}

// errReplaced is for a file that became something else since it was found.
var errReplaced = errors.New("it was replaced while it was read")
