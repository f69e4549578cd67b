package outputs

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"time"

	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/core/needle"
	"grayloft.example/grayloft/internal/machine/files"
)

// Kept is what was found when the outputs of a task were copied to the cache.
type Kept struct {
	List          listing.List
	Text          []byte       // the list, encoded
	CheckoutPaths []string     // files that contain the path of the checkout
	Secret        string       // a file, from the root, that contains a secret; "" if there is none
	Left          listing.List // if not all could be kept: files on the disk that are the task's own
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
	k := keeping{o, base, needle.New(o.root() + "/"), rootEntries(o.root()), secrets, time.Now()}
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
	last := ""
	for i, row := range list {
		n, dir := len(out), dirOf(row.Path)
		isNext := i > 0 && dir == last
		last = dir
		if isNext && i-out[n-1].from < together {
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
	root    *needle.Needle  // the checkout's path
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
	small := newSmallFiles(k)
	defer small.close()
	for i := part.from; i < part.to; i++ {
		if err = k.file(in, list[i], &into[i], small); err != nil {
			return fmt.Errorf("keeping %s: %w", list[i].Path, err)
		}
	}
	return small.keep()
}

// file keeps a file, or adds it to the small ones, which will set its digest.
func (k keeping) file(in *os.File, f listing.Row, into *keptFile, small *smallFiles) error {
	into.row = listing.Row{Path: f.Path, Kind: f.Kind}
	row := &into.row
	switch f.Kind {
	case listing.Link:
		target, err := k.base.Readlink(f.Path)
		if err != nil {
			return err
		}
		row.Target = filepath.ToSlash(target)
		row.Size = int64(len(row.Target))
	case listing.File:
		src, err := openSource(in, path.Base(f.Path))
		if err != nil {
			return err
		}
		defer src.Close()
		row.Kind = listing.KindOf(src.mode)
		text, all, err := small.read(src)
		if err != nil {
			return err
		}
		paths := &rootScan{root: k.root, entries: k.entries}
		hunt := &secretScan{secrets: k.secrets}
		see := io.MultiWriter(paths, hunt)
		if all {
			_, err = see.Write(text)
			row.Size = int64(len(text))
			small.add(into, text, src.opened)
		} else {
			row.Digest, row.Size, err = k.o.Store.Copy(io.MultiReader(bytes.NewReader(text), src), see)
			if err == nil && src.opened == src.status() {
				k.note(k.noted(row, src.opened))
			}
		}
		into.hasPath, into.hasSecret = paths.found, hunt.found
		return err
	}
	return nil
}

// noted is what can be remembered of a file that has not changed since it was opened.
func (k keeping) noted(row *listing.Row, opened files.Status) files.Noted {
	return files.Noted{Path: k.o.fromRoot(row.Path), Status: opened, Digest: row.Digest}
}

func (k keeping) note(list ...files.Noted) {
	if k.o.Tree == "" {
		k.o.Files.Memory.Note(k.began, list...)
	}
}

// errReplaced is for a file that became something else since it was found.
var errReplaced = errors.New("it was replaced while it was read")
