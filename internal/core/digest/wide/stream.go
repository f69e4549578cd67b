package wide

// trunk are the values of subtrees on the left of what follows, the largest first: one for each bit
// of the number of spans (section 5.1.2).
type trunk struct {
	pairs [54][2]value // the value in [0]; room for its partner in [1]
	n     int
	spans uint64
}

// push adds a span, which others follow.
func (s *hasher) push(t *trunk, text []byte) {
	v := s.one(text, t.spans*span, 0)
	t.spans++
	for n := t.spans; n%2 == 0; n /= 2 {
		v = s.join(t, v, 0)
	}
	t.pairs[t.n][0] = v
	t.n++
}

// sum returns the digest of what was pushed, of which there is some, and a last text of up to a span.
// It leaves what was pushed as it is.
func (s *hasher) sum(t *trunk, text []byte) value {
	v := s.one(text, t.spans*span, 0)
	n := t.n
	defer func() { t.n = n }()
	for t.n > 1 {
		v = s.join(t, v, 0)
	}
	return s.join(t, v, root)
}

// one returns the value of one text.
func (s *hasher) one(text []byte, base uint64, flags uint32) value {
	s.hash([][]byte{text}, base, flags)
	return s.values[0]
}

// join takes the last value off the trunk and returns its parent with v.
func (s *hasher) join(t *trunk, v value, flags uint32) value {
	t.n--
	t.pairs[t.n][1] = v
	s.parent(&t.pairs[t.n][0], flags, 0)
	s.flushParents()
	return s.values[0]
}

// Hash computes a digest of what is written to it.
type Hash struct {
	trunk trunk
	text  []byte // what follows the trunk: up to a span
}

// New returns a hash. It must not be called where the package is not [Available].
func New() *Hash { return &Hash{} }

// Write adds a text.
func (h *Hash) Write(text []byte) (int, error) {
	size := len(text)
	if len(h.text)+size > span*chunk {
		s := hashers.Get().(*hasher)
		defer hashers.Put(s)
		if cap(h.text) < span*chunk && len(h.text) > 0 {
			h.text = append(make([]byte, 0, span*chunk), h.text...)
		}
		if n := len(h.text); n > 0 {
			h.text = append(h.text, text[:span*chunk-n]...)
			text = text[span*chunk-n:]
			s.push(&h.trunk, h.text)
			h.text = h.text[:0]
		}
		for len(text) > span*chunk {
			s.push(&h.trunk, text[:span*chunk])
			text = text[span*chunk:]
		}
	}
	h.text = append(h.text, text...)
	return size, nil
}

// Sum appends the digest of what was written so far.
func (h *Hash) Sum(b []byte) []byte {
	if h.trunk.n == 0 {
		sum := Sum(h.text)
		return append(b, sum[:]...)
	}
	s := hashers.Get().(*hasher)
	defer hashers.Put(s)
	sum := s.sum(&h.trunk, h.text)
	return append(b, sum[:]...)
}

// Reset forgets what was written.
func (h *Hash) Reset() { h.trunk.n, h.trunk.spans, h.text = 0, 0, h.text[:0] }

// Size is the length of the digest in bytes.
func (h *Hash) Size() int { return 32 }

// BlockSize is the length of a block in bytes.
func (h *Hash) BlockSize() int { return block }
