// Package key computes what makes reuse safe: the key of a task from the full
// list of its ingredients, and, for two lists, what sets them apart.
//
// # Format, version 2
//
// Ingredients are kept as bytes in one canonical form: the line
// "grayloft-ingredients 2", then the fields of [Ingredients] in the order in
// which they are declared. A string is its length as an unsigned varint
// (encoding/binary) and its bytes; a list is its length as a varint and its
// members; a digest is 32 bytes; a truth value is one byte, 0 or 1. The key is
// BLAKE3 in derive-key mode of these bytes; an early key is the same, under
// another context, with early keys in place of the listings of upstream tasks.
//
// What tasks read is counted as trees of manifests (package listing), so that
// many tasks that read the same directory share its manifest.
package key

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"math"

	"grayloft.example/grayloft/internal/core/digest"
)

const (
	formatHead   = "grayloft-ingredients 2\n"
	keyContext   = "grayloft 2026-11-25 task key v2"
	earlyContext = "grayloft 2026-11-25 early key v2"
	envContext   = "grayloft 2026-11-25 environment value v2"
)

// Ingredients are everything that a key is computed from.
type Ingredients struct {
	Dir          string   // the project's directory
	Command      []string // the words executed, shell and flags included
	Writes       []string // patterns
	Scratch      []string // patterns
	Isolation    string
	Network      bool
	Portable     bool
	Platform     string   // os/arch; empty where portable
	Args         []string // after "--"
	Env          []EnvValue
	EnvUnkeyed   []EnvValue // Value is never set
	Secrets      []EnvValue // Value is never set
	Settings     []NamedValue
	Probes       []NamedValue  // with their output
	Files        digest.Digest // manifest of the files read, from the root
	Needs        []Offer
	Dependencies []Dependency
}

// EnvValue is an environment variable: its name, whether it is set, and the
// digest of its value.
type EnvValue struct {
	Name  string
	Set   bool
	Value digest.Digest
}

// EnvDigest returns the digest that stands for a value in a key.
func EnvDigest(value string) digest.Digest { return digest.Derive(envContext, []byte(value)) }

// NamedValue is a value with a name.
type NamedValue struct{ Name, Value string }

// Offer is what a needed project offers.
type Offer struct {
	Project, Dir string
	Files        digest.Digest
}

// Dependency is a task that the key depends on, with the listing of its
// outputs.
type Dependency struct {
	Task, Dir string
	Listing   digest.Digest
}

// Key returns the key.
func (in *Ingredients) Key() digest.Digest { return digest.Derive(keyContext, in.Encode()) }

// EarlyKey returns the early key, for ingredients whose Dependencies hold early
// keys.
func (in *Ingredients) EarlyKey() digest.Digest { return digest.Derive(earlyContext, in.Encode()) }

// OfEncoded returns the key of ingredients in their encoded form.
func OfEncoded(encoded []byte) digest.Digest { return digest.Derive(keyContext, encoded) }

// Encode returns the canonical form.
func (in *Ingredients) Encode() []byte {
	e := encoder{}
	e.WriteString(formatHead)
	in.visit(&e)
	return e.Bytes()
}

// Decode reads the canonical form and refuses any other.
func Decode(b []byte) (*Ingredients, error) {
	body, ok := bytes.CutPrefix(b, []byte(formatHead))
	if !ok {
		return nil, errors.New("ingredients: written by another version, or not ingredients")
	}
	d := decoder{rest: body}
	in := &Ingredients{}
	in.visit(&d)
	if d.err == nil && len(d.rest) > 0 {
		d.err = fmt.Errorf("%d extra bytes", len(d.rest))
	}
	if d.err != nil {
		return nil, fmt.Errorf("ingredients: %w", d.err)
	}
	if !bytes.Equal(in.Encode(), b) {
		return nil, errors.New("ingredients: not in canonical form")
	}
	return in, nil
}

// codec is one direction of the encoding, so that the order of fields is
// defined once.
type codec interface {
	text(*string)
	truth(*bool)
	digest(*digest.Digest)
	count(int) int
}

func (in *Ingredients) visit(c codec) {
	c.text(&in.Dir)
	texts(c, &in.Command)
	texts(c, &in.Writes)
	texts(c, &in.Scratch)
	c.text(&in.Isolation)
	c.truth(&in.Network)
	c.truth(&in.Portable)
	c.text(&in.Platform)
	texts(c, &in.Args)
	visitEach(c, &in.Env, visitEnv)
	visitEach(c, &in.EnvUnkeyed, visitEnv)
	visitEach(c, &in.Secrets, visitEnv)
	visitEach(c, &in.Settings, visitNamed)
	visitEach(c, &in.Probes, visitNamed)
	c.digest(&in.Files)
	visitEach(c, &in.Needs, func(c codec, o *Offer) { c.text(&o.Project); c.text(&o.Dir); c.digest(&o.Files) })
	visitEach(c, &in.Dependencies, func(c codec, u *Dependency) { c.text(&u.Task); c.text(&u.Dir); c.digest(&u.Listing) })
}

func visitEnv(c codec, v *EnvValue)     { c.text(&v.Name); c.truth(&v.Set); c.digest(&v.Value) }
func visitNamed(c codec, v *NamedValue) { c.text(&v.Name); c.text(&v.Value) }
func texts(c codec, l *[]string)        { visitEach(c, l, codec.text) }

func visitEach[T any](c codec, list *[]T, visit func(codec, *T)) {
	n := c.count(len(*list))
	for i := range n {
		if i >= len(*list) {
			var zero T
			*list = append(*list, zero)
		}
		visit(c, &(*list)[i])
	}
}

type encoder struct{ bytes.Buffer }

func (e *encoder) count(n int) int {
	e.Write(binary.AppendUvarint(nil, uint64(n)))
	return n
}

func (e *encoder) text(s *string)          { e.count(len(*s)); e.WriteString(*s) }
func (e *encoder) digest(d *digest.Digest) { e.Write(d[:]) }
func (e *encoder) truth(b *bool) {
	if *b {
		e.WriteByte(1)
	} else {
		e.WriteByte(0)
	}
}

type decoder struct {
	rest []byte
	err  error
}

func (d *decoder) take(n int) []byte {
	if d.err != nil || n > len(d.rest) {
		if d.err == nil {
			d.err = errors.New("cut off")
		}
		return nil
	}
	out := d.rest[:n]
	d.rest = d.rest[n:]
	return out
}

// count reads a length. Every member has at least one byte, so a length beyond
// the remaining bytes is an error, and memory stays bounded by the input.
func (d *decoder) count(int) int {
	n, width := binary.Uvarint(d.rest)
	if d.err == nil && (width <= 0 || n > math.MaxInt32 || int(n) > len(d.rest)-width) {
		d.err = errors.New("a length exceeds the remaining bytes")
	}
	if d.err != nil {
		return 0
	}
	d.rest = d.rest[width:]
	return int(n)
}

func (d *decoder) text(s *string)           { *s = string(d.take(d.count(0))) }
func (d *decoder) digest(to *digest.Digest) { copy(to[:], d.take(digest.Size)) }
func (d *decoder) truth(to *bool) {
	b := d.take(1)
	*to = len(b) == 1 && b[0] == 1
}
