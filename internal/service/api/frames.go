package api

import (
	"bytes"
	"errors"
	"fmt"
	"slices"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/pack"
)

// group is members that share a frame.
type group struct {
	members []arrived
	frame   []byte
}

// grouped puts members together that share a frame: one that arrived, if all of its members are
// to be stored, or else one that is to be made.
func grouped(list []arrived) (out []group, err error) {
	var loose []arrived
	for len(list) > 0 {
		n := 1
		for list[0].frame != nil && n < len(list) && list[n].frame == list[0].frame {
			n++
		}
		part := list[:n]
		list = list[n:]
		switch f := part[0].frame; {
		case f == nil:
			loose = append(loose, part...)
		case f.members == n:
			out = append(out, group{part, f.bytes})
		default:
			part, err = f.take(part)
			loose = append(loose, part...)
		}
		if err != nil {
			return nil, err
		}
	}
	sizes := make([]int64, len(loose))
	for i, a := range loose {
		sizes[i] = a.size
	}
	from := 0
	for _, to := range pack.Groups(sizes) {
		out = append(out, group{members: loose[from:to]})
		from = to
	}
	return out, nil
}

// join makes the frame.
func (g *group) join() error {
	list := make([]pack.Blob, len(g.members))
	for i, a := range g.members {
		list[i] = pack.Blob{Digest: a.digest, Text: a.text}
	}
	g.frame = pack.Join(list)
	return nil
}

// frame is a frame that arrived and can be stored as it is, if all of its members are stored.
type frame struct {
	bytes   []byte
	members int
}

// take returns members of the frame with their texts.
func (f *frame) take(part []arrived) ([]arrived, error) {
	texts := map[digest.Digest][]byte{}
	list, err := pack.Take(f.bytes, func(digest.Digest) bool { return true }) // they were verified when it came
	for _, m := range list {
		texts[m.Digest] = m.Text
	}
	for i, a := range part {
		part[i].frame, part[i].text = nil, texts[a.digest]
	}
	return part, err
}

// readFrame reads a member of a frame.
func (in *incoming) readFrame(p *members) (a arrived, err error) {
	begins := !p.frames.More()
	var text []byte
	a.digest, text, _, err = p.frames.Next(&p.room, min(p.Largest, p.Left))
	if begins {
		p.whole = nil
		if bytes, ok := p.frames.Frame(); ok {
			p.whole = &frame{slices.Clone(bytes), p.frames.Members()}
		}
	}
	switch {
	case errors.Is(err, pack.ErrDamaged) && !a.digest.IsZero():
		return a, errMismatch
	case err != nil:
		return a, err
	}
	a.size = int64(len(text))
	p.Left -= a.size
	if p.plain += pack.Plain(a.size); p.plain > plainMost {
		return a, fmt.Errorf("%w: its members have too many bytes together", pack.ErrLarge)
	}
	if a.room, err = in.s.reserve(in.c, a.size); err != nil {
		return a, err
	}
	if p.whole != nil && a.size <= ownObject {
		a.frame = p.whole
	} else {
		a.text = bytes.Clone(text)
	}
	return a, nil
}
