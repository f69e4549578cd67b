package api

import (
	"context"
	"errors"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/service/blobs"
	"grayloft.example/grayloft/internal/service/records"
)

const (
	tokenHolds = time.Second // how long a revoked token may still be accepted
	blobHolds  = time.Minute
	mostKept   = 100_000 // size at which everything is forgotten
)

// expiringMap remembers answers of the database for a short time, so that many
// small requests do not ask for the same row.
type expiringMap[K comparable, V any] struct {
	mu    sync.Mutex
	holds time.Duration
	of    map[K]expiring[V]
}

type expiring[V any] struct {
	value V
	until time.Time
}

func newExpiringMap[K comparable, V any](holds time.Duration) *expiringMap[K, V] {
	return &expiringMap[K, V]{holds: holds, of: map[K]expiring[V]{}}
}

// get returns the remembered value, or else the answer of ask; errors are not
// remembered.
func (r *expiringMap[K, V]) get(k K, ask func() (V, error)) (V, error) {
	now := time.Now()
	r.mu.Lock()
	have, ok := r.of[k]
	r.mu.Unlock()
	if ok && now.Before(have.until) {
		return have.value, nil
	}
	v, err := ask()
	if err != nil {
		return v, err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.of) >= mostKept {
		clear(r.of)
	}
	r.of[k] = expiring[V]{v, now.Add(r.holds)}
	return v, nil
}

func (r *expiringMap[K, V]) forget(k K) {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.of, k)
}

// blobKey names a blob.
type blobKey struct {
	repository int64
	digest     digest.Digest
}

// blob returns a blob's record.
func (s *Server) blob(c *gin.Context, d digest.Digest) (records.Blob, error) {
	repo := token(c).RepositoryID
	return s.blobsKnown.get(blobKey{repo, d}, func() (records.Blob, error) { return s.Records.Blob(c.Request.Context(), repo, d) })
}

// tokenOf returns the token with a secret. An expired token is detected at
// once.
func (s *Server) tokenOf(ctx context.Context, secret string) (records.Token, error) {
	t, err := s.tokensKnown.get(secret, func() (records.Token, error) { return s.Records.FindToken(ctx, secret) })
	if err == nil && t.ExpiresAt != nil && t.ExpiresAt.Before(time.Now()) {
		return t, records.ErrExpired
	}
	return t, err
}

// openBlob opens a part of a blob. If its object is gone, another may have
// replaced it since the lookup.
func (s *Server) openBlob(c *gin.Context, d digest.Digest, open func(records.Blob) error) error {
	for try := 0; ; try++ {
		b, err := s.blob(c, d)
		if err != nil {
			return err
		}
		err = open(b)
		if !errors.Is(err, blobs.ErrNotExist) || try > 0 {
			return err
		}
		s.blobsKnown.forget(blobKey{token(c).RepositoryID, d})
	}
}
