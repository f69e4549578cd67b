package pack

import (
	"fmt"

	"grayloft.example/grayloft/internal/core/digest"
)

// Opened is a frame that was decompressed. Its room serves for the next one.
type Opened struct {
	room []byte
	list []Blob
	next int // where the next blob most likely is
}

// Open decompresses a frame of at most so many bytes. Its members are not compared with their
// digests: whoever calls it has done so before, and knows that the frame is still the same.
func (o *Opened) Open(frame []byte, most int64) error {
	o.list, o.next = o.list[:0], 0
	plain, err := unpack(frame, &o.room, spare, most)
	if err != nil {
		return err
	}
	if o.list, _, err = members(plain, most, o.list); err != nil {
		o.list = o.list[:0]
		return fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	return nil
}

// Blobs returns the members, until the next frame is opened.
func (o *Opened) Blobs() []Blob { return o.list }

// Find returns the contents of a member, until the next frame is opened. Asking in the order of the
// members is fastest.
func (o *Opened) Find(d digest.Digest) (text []byte, ok bool) {
	for i := range o.list {
		at := (o.next + i) % len(o.list)
		if o.list[at].Digest == d {
			o.next = at + 1
			return o.list[at].Text, true
		}
	}
	return nil, false
}
