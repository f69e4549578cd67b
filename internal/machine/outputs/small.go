package outputs

import (
	"errors"
	"io"
	"sync"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/pack"
	"grayloft.example/grayloft/internal/machine/files"
)

// smallFiles are files that were read one after the other, and will be hashed and stored together.
type smallFiles struct {
	keeping
	room  *[smallRoom]byte
	used  int // bytes of the room
	list  []smallFile
	texts [][]byte
	sums  []digest.Digest
}

// smallFile is one of them.
type smallFile struct {
	into   *keptFile
	opened files.Status
}

// smallRoom is for the texts of small files, and a byte that shows that one does not go on.
const smallRoom = digest.Together + 1

var smallRooms = sync.Pool{New: func() any { return new([smallRoom]byte) }}

func newSmallFiles(k keeping) *smallFiles {
	return &smallFiles{keeping: k, room: smallRooms.Get().(*[smallRoom]byte)}
}

// close frees the room.
func (s *smallFiles) close() { smallRooms.Put(s.room) }

// read reads a file if it is a small one, and tells whether that was all of it: the file did not
// change since it was opened. Otherwise what was read is its beginning.
func (s *smallFiles) read(src source) (text []byte, all bool, err error) {
	if src.size >= smallRoom {
		return nil, false, nil
	}
	if s.used+int(src.size) >= smallRoom {
		if err := s.keep(); err != nil {
			return nil, false, err
		}
	}
	room := s.room[s.used:][:src.size+1]
	n, err := src.Read(room)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, false, err
	}
	return room[:n], n == int(src.size) && src.opened == src.status(), nil
}

// add adds a file that was read.
func (s *smallFiles) add(into *keptFile, text []byte, opened files.Status) {
	s.used += len(text)
	s.texts = append(s.texts, text)
	s.list = append(s.list, smallFile{into, opened})
}

// keep stores the files that were added, and sets their digests.
func (s *smallFiles) keep() error {
	s.sums = digest.OfEach(s.texts, s.sums)
	blobs := make([]pack.Blob, len(s.list))
	noted := make([]files.Noted, len(s.list))
	for i, f := range s.list {
		row := &f.into.row
		row.Digest = s.sums[i]
		blobs[i] = pack.Blob{Digest: row.Digest, Text: s.texts[i]}
		noted[i] = s.noted(row, f.opened)
	}
	s.used, s.list, s.texts = 0, s.list[:0], s.texts[:0]
	err := s.o.Store.KeepTexts(blobs)
	if err == nil {
		s.note(noted...)
	}
	return err
}
