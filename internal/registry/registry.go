// Package registry asks package registries which versions of packages there are, by
// the Go module proxy protocol (https://go.dev/ref/mod#goproxy-protocol) and the npm
// registry protocol (https://github.com/npm/registry/blob/main/docs/REGISTRY-API.md).
// Registries and credentials are those that the person configured for go and npm. It
// makes one request for each package, a few at a time, remembers the answers for an
// hour, and trusts none of them beyond their form.
package registry

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"grayloft.example/grayloft/internal/core/check"
)

// Limits of what is asked at a time, and of answers.
const (
	atATime      = 4
	patience     = 20 * time.Second
	maxAnswer    = 64 << 20 // bytes
	maxRedirects = 5
)

// Registries are those of a person, for one repository.
type Registries struct {
	golang goSettings
	npm    npmSettings
	client *http.Client
	cache  cache
}

// Load reads the configuration of go and npm: variables of the environment, the
// person's files, and for npm the file of the repository, which may name registries
// but no credentials. Answers are remembered in the cache directory; empty: nowhere.
func Load(env func(string) string, home, repository, cacheDir string) *Registries {
	return &Registries{
		golang: loadGo(env, home), npm: loadNPM(env, home, repository), cache: cache{cacheDir, time.Now},
		client: &http.Client{
			Timeout:       patience,
			Transport:     &http.Transport{Proxy: http.ProxyFromEnvironment, MaxConnsPerHost: atATime, ForceAttemptHTTP2: true},
			CheckRedirect: checkRedirect,
		},
	}
}

func checkRedirect(req *http.Request, via []*http.Request) error {
	if len(via) > maxRedirects {
		return errors.New("too many redirects")
	}
	if via[0].URL.Scheme == "https" && req.URL.Scheme != "https" {
		return errors.New("it redirects to an address without encryption")
	}
	if req.URL.Host != via[0].URL.Host { // another port is another server
		req.Header.Del("Authorization")
	}
	return nil
}

// Failure is a registry that could not be asked, or packages that it does not have.
type Failure struct {
	Where    string // the address, or why there is none
	Problem  string
	Packages []string
	// Unanswered tells that a registry should have answered, and did not: another try
	// may succeed.
	Unanswered bool
}

func (f Failure) String() string {
	list := f.Packages
	more := ""
	if len(list) > shownPackages {
		list, more = list[:shownPackages], fmt.Sprintf(" and %d more", len(list)-shownPackages)
	}
	return fmt.Sprintf("%s: %s (for %s%s)", f.Where, f.Problem, strings.Join(list, ", "), more)
}

const shownPackages = 3

// problem is why a package's versions are not known.
type problem struct {
	where string
	err   error
	down  bool // the registry did not answer
	known bool // the answer is that there is none to expect
}

func (p *problem) Error() string { return p.where + ": " + p.err.Error() }

// Ask asks for the versions of packages. It calls step after each of them. Packages of
// other ecosystems are left out. A registry that does not answer is asked once more for
// none of the others.
func (r *Registries) Ask(ctx context.Context, list []check.Package, step func()) (map[check.Package][]string, []Failure) {
	var mu sync.Mutex
	found := map[check.Package][]string{}
	failed := map[string]*Failure{}
	var down sync.Map // addresses that did not answer → the problem
	var group errgroup.Group
	group.SetLimit(atATime)
	for _, p := range list {
		group.Go(func() error {
			versions, err := r.versions(ctx, p, &down)
			mu.Lock()
			defer mu.Unlock()
			var bad *problem
			if errors.As(err, &bad) {
				f := failed[bad.Error()]
				if f == nil {
					f = &Failure{Where: bad.where, Problem: bad.err.Error(), Unanswered: !bad.known}
					failed[bad.Error()] = f
				}
				f.Packages = append(f.Packages, p.Name)
			} else {
				found[p] = versions
			}
			step()
			return nil
		})
	}
	_ = group.Wait() // none of them fails
	var failures []Failure
	for _, f := range failed {
		slices.Sort(f.Packages)
		failures = append(failures, *f)
	}
	slices.SortFunc(failures, func(a, b Failure) int {
		return cmp.Or(strings.Compare(a.Where, b.Where), strings.Compare(a.Problem, b.Problem))
	})
	return found, failures
}

// Asks tells whether packages of an ecosystem are asked for.
func Asks(ecosystem string) bool { return ecosystem == "go" || ecosystem == "npm" }

func (r *Registries) versions(ctx context.Context, p check.Package, down *sync.Map) ([]string, error) {
	var requests []request
	var err error
	switch p.Ecosystem {
	case "go":
		requests, err = r.golang.requests(p.Name)
	case "npm":
		requests, err = r.npm.requests(p.Name)
	}
	if err != nil {
		return nil, err
	}
	for i, q := range requests {
		if bad, ok := down.Load(q.base); ok {
			err = bad.(*problem)
		} else {
			var list []string
			if list, err = r.get(ctx, q); err == nil {
				return list, nil
			}
		}
		var bad *problem
		if errors.As(err, &bad) && bad.down {
			down.Store(q.base, bad)
		}
		if i+1 < len(requests) && !q.next(err) {
			return nil, err
		}
	}
	return nil, err
}
