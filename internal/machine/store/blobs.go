package store

import (
	"bytes"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/core/pack"
	"grayloft.example/grayloft/internal/machine/segments"
	"grayloft.example/grayloft/internal/protocol"
)

// ErrDamaged is returned for a blob whose contents do not match its digest. The
// blob has been deleted by then.
var ErrDamaged = errors.New("damaged in this machine's cache")

// blob is the file of a large blob. For the zero digest there is never one.
func (s *Store) blob(d digest.Digest) string {
	name := hex.EncodeToString(d[:])
	return filepath.Join(s.dir, "blobs", name[:2], name[2:])
}

// Flush lets other processes see the small blobs that were stored.
func (s *Store) Flush() error { return s.small.Flush() }

// Order returns where a small blob is: reading in the order of these pairs is fastest.
func (s *Store) Order(d digest.Digest) (segment uint64, position int64) { return s.small.Order(d) }

// Has tells whether a blob is in the cache. It may still turn out to be
// damaged.
func (s *Store) Has(d digest.Digest) bool {
	if _, ok := s.small.Find(d); ok {
		return true
	}
	info, err := os.Lstat(s.blob(d))
	return err == nil && info.Mode().IsRegular()
}

// Absent returns the blobs of a list that are not in the cache.
func (s *Store) Absent(list []digest.Digest) (absent []digest.Digest) {
	left := s.small.Absent(list)
	if len(left) < fewBlobs {
		return slices.DeleteFunc(left, s.Has)
	}
	files := map[digest.Digest]bool{}
	dirs, _ := os.ReadDir(filepath.Join(s.dir, "blobs")) // without it, all are absent
	for _, dir := range dirs {
		names, _ := os.ReadDir(filepath.Join(s.dir, "blobs", dir.Name()))
		for _, f := range names {
			if d, err := digest.Parse(dir.Name() + f.Name()); err == nil {
				files[d] = f.Type().IsRegular()
			}
		}
	}
	if len(files) == 0 {
		return left
	}
	return slices.DeleteFunc(left, func(d digest.Digest) bool { return files[d] })
}

// fewBlobs is the number of blobs from which on reading the directories takes less time than
// asking for each of them.
const fewBlobs = 1000

// Size returns the length of a blob in bytes.
func (s *Store) Size(d digest.Digest) (int64, error) {
	if size, ok := s.small.Find(d); ok {
		return size, nil
	}
	info, err := os.Stat(s.blob(d))
	if err != nil {
		return 0, err
	}
	return info.Size(), nil
}

// tempDirs is the number of directories for incoming files.
const tempDirs = 16

// temp opens a file in the cache's own directory, for [Incoming] and for copies
// of outputs.
func (s *Store) temp() (*os.File, error) {
	var b [12]byte
	_, _ = rand.Read(b[:])
	// In one of several directories, because creating files in one directory is
	// serialised by the file system.
	dir := filepath.Join(s.dir, "tmp", strconv.Itoa(int(b[0])%tempDirs))
	file := filepath.Join(dir, hex.EncodeToString(b[:]))
	f, err := os.OpenFile(file, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o644)
	if errors.Is(err, fs.ErrNotExist) {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return nil, err
		}
		f, err = os.OpenFile(file, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o644)
	}
	return f, err
}

// Incoming is a blob that is being written. Nobody sees it before
// [Incoming.Keep].
type Incoming struct {
	s     *Store
	small []byte   // what was written, as long as it is little
	f     *os.File // nil: everything is in small
	h     hash.Hash
	size  int64
}

// Incoming begins a blob.
func (s *Store) Incoming() *Incoming { return &Incoming{s: s, h: digest.New()} }

func (in *Incoming) Write(p []byte) (int, error) {
	if in.f == nil && len(in.small)+len(p) <= smallBlob {
		in.small = append(in.small, p...)
		in.h.Write(p)
		in.size += int64(len(p))
		return len(p), nil
	}
	if in.f == nil {
		var err error
		if in.f, err = in.s.temp(); err != nil {
			return 0, err
		}
		if _, err := in.f.Write(in.small); err != nil {
			return 0, err
		}
		in.small = nil
	}
	n, err := in.f.Write(p)
	in.h.Write(p[:n])
	in.size += int64(n)
	return n, err
}

// Keep stores the blob under the digest of its contents, which must equal want
// unless want is zero.
func (in *Incoming) Keep(want digest.Digest) (digest.Digest, int64, error) {
	d := digest.From(in.h)
	if !want.IsZero() && d != want {
		in.Drop()
		return d, 0, fmt.Errorf("its digest is %s, but %s was requested", d.Short(), want.Short())
	}
	if in.f == nil {
		return d, in.size, in.s.small.Add(d, in.small)
	}
	name := in.f.Name()
	defer os.Remove(name)
	if err := in.f.Close(); err != nil {
		return d, 0, err
	}
	to := in.s.blob(d)
	if in.s.Has(d) {
		if size, err := in.s.Size(d); err == nil && size == in.size {
			return d, in.size, nil
		}
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return d, 0, err
	}
	return d, in.size, os.Rename(name, to)
}

// Drop discards the blob.
func (in *Incoming) Drop() {
	if in.f != nil {
		in.f.Close()
		os.Remove(in.f.Name())
	}
}

// writeFile puts a file into the cache; nobody sees a part of it.
func (s *Store) writeFile(to string, data []byte) error {
	f, err := s.temp()
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	if _, err := f.Write(data); err != nil {
		return errors.Join(err, f.Close())
	}
	if err := f.Close(); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return err
	}
	return os.Rename(f.Name(), to)
}

// Keep stores the contents of r as a blob, if they match the digest.
func (s *Store) Keep(d digest.Digest, r io.Reader) error {
	in := s.Incoming()
	if _, err := io.Copy(in, r); err != nil {
		in.Drop()
		return fmt.Errorf("blob %s was cut off: %w", d.Short(), err)
	}
	if _, _, err := in.Keep(d); err != nil {
		return fmt.Errorf("the contents are not those of blob %s: %w", d.Short(), err)
	}
	return nil
}

// KeepText stores bytes whose digest was computed already.
func (s *Store) KeepText(d digest.Digest, text []byte) error {
	return s.KeepTexts([]pack.Blob{{Digest: d, Text: text}})
}

// KeepTexts stores blobs whose digests were computed already.
func (s *Store) KeepTexts(list []pack.Blob) error {
	small := make([]pack.Blob, 0, len(list))
	for _, b := range list {
		if len(b.Text) <= smallBlob {
			small = append(small, b)
		} else if err := s.Keep(b.Digest, bytes.NewReader(b.Text)); err != nil {
			return err
		}
	}
	return s.small.AddAll(small)
}

// KeepFrame stores the blobs of a frame ([pack.Frames.Frame]), all of which were verified: as the
// frame, if that is much smaller.
func (s *Store) KeepFrame(frame []byte, list []pack.Blob) error {
	plain := int64(0)
	for _, b := range list {
		if len(b.Text) > smallBlob {
			return s.KeepTexts(list)
		}
		plain += int64(len(b.Text))
	}
	if int64(len(frame)) > plain/4*3 {
		return s.KeepTexts(list)
	}
	return s.small.AddFrame(frame, list)
}

// Put stores bytes as a blob.
func (s *Store) Put(b []byte) (digest.Digest, error) {
	d := digest.Of(b)
	if size, err := s.Size(d); err == nil && size == int64(len(b)) {
		return d, nil
	}
	if len(b) <= smallBlob {
		return d, s.small.Add(d, b)
	}
	in := s.Incoming()
	if _, err := in.Write(b); err != nil {
		in.Drop()
		return d, err
	}
	_, _, err := in.Keep(d)
	return d, err
}

// Copy copies a file aside and stores the copy, whose digest it returns: the
// contents are hashed as they are copied, whatever happens to the file
// meanwhile. See, if set, receives the contents as they pass.
func (s *Store) Copy(src io.Reader, see io.Writer) (digest.Digest, int64, error) {
	if see == nil {
		see = io.Discard
	}
	room := buffers.Get().(*[]byte)
	defer buffers.Put(room)
	buf := (*room)[:smallBlob]
	n, err := io.ReadFull(src, buf)
	switch {
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		if _, err := see.Write(buf[:n]); err != nil {
			return digest.Digest{}, 0, err
		}
		d := digest.Of(buf[:n])
		return d, int64(n), s.small.Add(d, buf[:n])
	case err != nil:
		return digest.Digest{}, 0, err
	}
	in := s.Incoming()
	to := io.MultiWriter(in, see)
	if _, err = to.Write(buf); err == nil {
		_, err = io.CopyBuffer(struct{ io.Writer }{to}, struct{ io.Reader }{src}, buf)
	}
	if err != nil {
		in.Drop()
		return digest.Digest{}, 0, err
	}
	return in.Keep(digest.Digest{})
}

// Read returns a small blob, verified.
func (s *Store) Read(d digest.Digest) ([]byte, error) {
	if b, err := s.small.Read(d, nil); !errors.Is(err, fs.ErrNotExist) {
		return b, ofSegment(err)
	}
	b, err := os.ReadFile(s.blob(d))
	if err != nil {
		return nil, err
	}
	if digest.Of(b) != d {
		s.damaged(d)
		return nil, fmt.Errorf("blob %s: %w", d.Short(), ErrDamaged)
	}
	return b, nil
}

// manyRows is the number of rows from which on a listing is remembered.
const manyRows = 500

// Listing returns a listing, verified. Nobody may change its rows. The error wraps
// [listing.ErrForm] if it is one that must not be used.
func (s *Store) Listing(d digest.Digest) (listing.List, error) {
	if list, ok := s.listings.Get(d); ok {
		return list, nil
	}
	text, err := s.Read(d)
	if err != nil {
		return nil, err
	}
	list, err := listing.Parse(text)
	if err == nil && len(list) >= manyRows {
		s.listings.Add(d, list)
	}
	return list, err
}

// WriteTo writes a blob's contents to w while verifying them. After an error
// the written bytes must not be used.
func (s *Store) WriteTo(d digest.Digest, w io.Writer) error {
	r := s.Reader()
	defer r.Release()
	return r.WriteTo(d, w)
}

// Reader reads blobs one after the other: those that were fetched together are decompressed once.
// It is for one goroutine.
type Reader struct {
	s     *Store
	small *segments.Reader
	room  []byte
}

// Reader returns a reader, which must be released.
func (s *Store) Reader() *Reader {
	if r, ok := s.idle.Get().(*Reader); ok {
		return r
	}
	return &Reader{s, s.small.Reader(), make([]byte, smallBlob)}
}

// Release lets others use the room of the reader.
func (r *Reader) Release() { r.s.idle.Put(r) }

// WriteTo is [Store.WriteTo].
func (r *Reader) WriteTo(d digest.Digest, w io.Writer) error {
	text, err := r.small.Read(d, r.room)
	if err == nil {
		_, err = w.Write(text)
		return err
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return ofSegment(err)
	}
	f, err := os.Open(r.s.blob(d))
	if err != nil {
		return err
	}
	defer f.Close()
	h := digest.New()
	if _, err := io.Copy(io.MultiWriter(w, h), f); err != nil {
		return err
	}
	if digest.From(h) != d {
		r.s.damaged(d)
		return fmt.Errorf("blob %s: %w", d.Short(), ErrDamaged)
	}
	return nil
}

// buffers are for small blobs.
var buffers = sync.Pool{New: func() any { b := make([]byte, smallBlob); return &b }}

// ofSegment says of a damaged blob in a segment what is said of one in a file.
func ofSegment(err error) error {
	if errors.Is(err, segments.ErrDamaged) {
		return fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	return err
}

func (s *Store) damaged(d digest.Digest) { os.Remove(s.blob(d)) }

// ReaderAt opens a blob, without verifying it.
func (s *Store) ReaderAt(d digest.Digest) (protocol.OpenBlob, error) {
	if text, err := s.small.Read(d, nil); !errors.Is(err, fs.ErrNotExist) {
		return openSmall{bytes.NewReader(text)}, ofSegment(err)
	}
	f, err := os.Open(s.blob(d))
	if err != nil {
		return nil, err // not a nil file in an interface
	}
	return f, nil
}

// openSmall is a small blob that was read.
type openSmall struct{ *bytes.Reader }

func (openSmall) Close() error { return nil }
