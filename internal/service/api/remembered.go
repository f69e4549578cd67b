package api

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/hashicorp/golang-lru/v2/expirable"
	"golang.org/x/sync/singleflight"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/service/blobs"
	"grayloft.example/grayloft/internal/service/packs"
	"grayloft.example/grayloft/internal/service/records"
)

const (
	tokenHolds = time.Second // how long a revoked token may still be accepted
	blobHolds  = time.Minute
	mostKept   = 100_000 // answers; the least recently used is forgotten first
	mostPacks  = 32      // of up to 10,000 blobs, which take 1.6 MB; a fetch of 100,000 asks for 17
)

// answers remembers answers of the database for a short time, so that many small
// requests do not ask for the same row. Simultaneous questions about one key are
// asked once.
type answers[K comparable, V any] struct {
	known  *expirable.LRU[K, V]
	asking singleflight.Group
}

func newAnswers[K comparable, V any](most int, holds time.Duration) *answers[K, V] {
	return &answers[K, V]{known: expirable.NewLRU[K, V](most, nil, holds)}
}

// get returns the remembered answer, or else the answer of ask; errors are not
// remembered.
func (r *answers[K, V]) get(k K, ask func() (V, error)) (V, error) {
	if v, ok := r.known.Get(k); ok {
		return v, nil
	}
	v, err, _ := r.asking.Do(fmt.Sprintf("%#v", k), func() (any, error) {
		v, err := ask()
		if err == nil {
			r.known.Add(k, v)
		}
		return v, err
	})
	return v.(V), err
}

func (r *answers[K, V]) forget(k K) { r.known.Remove(k) }

// clear forgets everything.
func (r *answers[K, V]) clear() { r.known.Purge() }

// blobKey names a blob.
type blobKey struct {
	repository int64
	digest     digest.Digest
}

// blob returns a blob's record.
func (s *Server) blob(c *gin.Context, d digest.Digest) (records.Blob, error) {
	repo := token(c).RepositoryID
	// Another request may be waiting for the same answer: the end of this one must not cancel it.
	ctx := context.WithoutCancel(c.Request.Context())
	return s.blobsKnown.get(blobKey{repo, d}, func() (records.Blob, error) { return s.Records.Blob(ctx, repo, d) })
}

// tokenOf returns the token with a secret. An expired token is detected at
// once.
func (s *Server) tokenOf(ctx context.Context, secret string) (records.Token, error) {
	ctx = context.WithoutCancel(ctx)
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

// packKey names the blobs of a pack by a digest of their digests.
type packKey struct {
	repository int64
	list       digest.Digest
}

// packPlan says where the blobs of a pack are.
type packPlan struct {
	ranges []packs.Range
	bytes  int64 // of the blobs
}

// planPack finds the blobs of a pack. Whoever fetches the same results asks for the same blobs:
// the members of a CI matrix, one after the other. A plan that lacks blobs is not remembered,
// because they may arrive.
func (s *Server) planPack(c *gin.Context, list []digest.Digest) (packPlan, packKey, error) {
	hash := digest.New()
	for i := range list {
		hash.Write(list[i][:])
	}
	k := packKey{token(c).RepositoryID, digest.From(hash)}
	ctx := context.WithoutCancel(c.Request.Context()) // others may wait for the same answer
	whole := true
	plan, err := s.packsKnown.get(k, func() (packPlan, error) {
		have, err := s.Records.Blobs(ctx, k.repository, list)
		if err != nil {
			return packPlan{}, err
		}
		whole = len(have) == len(list)
		var plan packPlan
		all := make([]records.Blob, 0, len(have))
		names := map[string]string{} // the same objects and owners again and again
		for _, b := range have {
			b.Object, b.Owner = once(names, b.Object), once(names, b.Owner)
			all = append(all, b)
			plan.bytes += b.Size
		}
		plan.ranges = packs.Ranges(all)
		return plan, nil
	})
	if !whole {
		s.packsKnown.forget(k)
	}
	return plan, k, err
}

func once(names map[string]string, name string) string {
	if have, ok := names[name]; ok {
		return have
	}
	names[name] = name
	return name
}
