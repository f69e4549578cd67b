package registry

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"github.com/google/renameio/v2/maybe"

	"grayloft.example/grayloft/internal/core/digest"
)

// request is what is asked about one package at one registry.
type request struct {
	base    string // of the registry, without a slash at its end
	path    string // of the package, escaped
	accept  string
	header  func(*http.Request) // adds credentials
	parse   func([]byte) ([]string, error)
	anyFail bool // the next registry is asked after any failure, not only where the package is missing
}

// errMissing is returned for a package that a registry does not have.
var errMissing = errors.New("it has no such package")

func (q request) next(err error) bool { return q.anyFail || errors.Is(err, errMissing) }

func (p *problem) Unwrap() error { return p.err }

// get returns the versions that a registry names, or those that it named within the
// last hour.
func (r *Registries) get(ctx context.Context, q request) ([]string, error) {
	address := q.base + "/" + q.path
	known, isFresh := r.cache.load(address)
	if isFresh {
		return known.Versions, nil
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, http.NoBody)
	if err != nil {
		return nil, &problem{where: q.base, err: errors.New("it is not an address")}
	}
	if q.accept != "" {
		req.Header.Set("Accept", q.accept)
	}
	if known.ETag != "" {
		req.Header.Set("If-None-Match", known.ETag)
	}
	q.header(req)
	res, err := r.client.Do(req)
	if err != nil {
		var inner *url.Error
		if errors.As(err, &inner) {
			err = inner.Err // without the address, which may have a password
		}
		return nil, &problem{where: q.base, err: err, down: ctx.Err() == nil}
	}
	defer res.Body.Close()
	switch res.StatusCode {
	case http.StatusOK:
	case http.StatusNotModified:
		r.cache.store(address, known)
		return known.Versions, nil
	case http.StatusNotFound, http.StatusGone:
		return nil, &problem{where: q.base, err: errMissing, known: true}
	case http.StatusUnauthorized, http.StatusForbidden:
		return nil, &problem{where: q.base, err: fmt.Errorf("it refuses the person's credentials (%s)", res.Status)}
	default:
		return nil, &problem{where: q.base, err: fmt.Errorf("it answers %s", res.Status)}
	}
	body, err := io.ReadAll(io.LimitReader(res.Body, maxAnswer+1))
	if err == nil && len(body) > maxAnswer {
		err = fmt.Errorf("its answer has more than %d MB", maxAnswer>>20)
	}
	var list []string
	if err == nil {
		list, err = q.parse(body)
	}
	if err != nil {
		return nil, &problem{where: q.base, err: err}
	}
	r.cache.store(address, answer{Address: address, ETag: res.Header.Get("ETag"), Versions: list})
	return list, nil
}

// cache keeps answers as files of JSON, named by the digest of the address.
type cache struct {
	dir string // empty: nothing is kept
	now func() time.Time
}

type answer struct {
	Address  string    `json:"address"`
	At       time.Time `json:"at"`
	ETag     string    `json:"etag,omitempty"`
	Versions []string  `json:"versions"`
}

// freshFor is how long an answer is used without asking again.
const freshFor = time.Hour

func (c cache) file(address string) string {
	return filepath.Join(c.dir, digest.Of([]byte(address)).String()+".json")
}

func (c cache) load(address string) (a answer, isFresh bool) {
	if c.dir == "" {
		return answer{}, false
	}
	data, err := os.ReadFile(c.file(address))
	if err != nil || json.Unmarshal(data, &a) != nil || a.Address != address {
		return answer{}, false
	}
	age := c.now().Sub(a.At)
	return a, age >= 0 && age < freshFor
}

// store keeps an answer; whatever goes wrong, the next call asks again.
func (c cache) store(address string, a answer) {
	if c.dir == "" {
		return
	}
	a.At = c.now().UTC()
	data, err := json.Marshal(a)
	if err == nil && os.MkdirAll(c.dir, 0o700) == nil {
		_ = maybe.WriteFile(c.file(address), data, 0o600)
	}
}
