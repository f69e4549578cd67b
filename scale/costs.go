package main

import (
	"bytes"
	"context"
	"encoding/base32"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"grayloft.example/grayloft/internal/core/company"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/store"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/remote"
)

// user makes requests to the service as a client does.
type user struct {
	r      *running
	client *remote.Client
	store  *store.Store

	rnd    *rand.Rand
	shared []sharedResult
}

// sharedResult is what the service has.
type sharedResult struct {
	key   digest.Digest
	blobs []protocol.Blob
}

func newUser(ctx context.Context, r *running, dir string, n uint64) (*user, error) {
	st, err := store.Open(dir)
	if err != nil {
		return nil, err
	}
	u := &user{r: r, store: st, client: remote.New(r.url, repository, r.token, st), rnd: rand.New(rand.NewPCG(n, 5))}
	_, err = u.client.Self(ctx) // the client learns which shelf it writes to
	return u, err
}

// fileBytes is the size of the files of made-up outputs.
const fileBytes = 50 << 10

// quarry are bytes that compress about as well as programs do.
var quarry = sync.OnceValue(func() []byte {
	rnd := rand.New(rand.NewPCG(1, 2))
	var out []byte
	for len(out) < 4<<20 {
		if rnd.IntN(2) == 0 {
			out = fmt.Appendf(out, "sailing %d ", rnd.IntN(40))
		} else {
			out = append(out, byte(rnd.Uint32()), byte(rnd.Uint32()), byte(rnd.Uint32()), byte(rnd.Uint32()))
		}
	}
	return out
})

// text returns bytes that nobody else has.
func (u *user) text(n int) []byte {
	from := u.rnd.IntN(len(quarry()) - n)
	return append(fmt.Appendf(nil, "%016x", u.rnd.Uint64()), quarry()[from:from+n]...)[:n]
}

// share sends a result with outputs of about so many MB.
func (u *user) share(ctx context.Context, megabytes float64) error {
	list := listing.List{}
	var blobs []protocol.Blob
	keep := func(text []byte) digest.Digest {
		d := digest.Of(text)
		blobs = append(blobs, protocol.Blob{Digest: d, Size: int64(len(text))})
		if err := u.store.KeepText(d, text); err != nil {
			blobs = nil
		}
		return d
	}
	for left := int(megabytes * 1e6); left > 0; left -= fileBytes {
		text := u.text(min(left, fileBytes))
		list = append(list, listing.Row{
			Kind: listing.File, Path: fmt.Sprintf("out/%06d", len(list)), Digest: keep(text), Size: int64(len(text)),
		})
	}
	in := key.Ingredients{Dir: "fares", Command: []string{"make", fmt.Sprint(u.rnd.Uint64())}}
	outputs := len(blobs)
	e := protocol.Entry{
		Key: in.Key(), Task: "build@fares", Listing: keep(list.Encode()), Ingredients: keep(in.Encode()), Log: keep([]byte("built\n")),
		Seconds: 5, Shelf: "trusted", MadeBy: protocol.Maker{Name: "scale", Host: "desk", Place: "harbour", Run: runID(), At: time.Now()},
	}
	if len(blobs) != outputs+3 {
		return fmt.Errorf("this machine's cache could not keep the outputs")
	}
	_, _, err := u.client.Share(ctx, e, blobs)
	u.shared = append(u.shared, sharedResult{e.Key, blobs[:outputs]})
	return err
}

// runID returns a version 7 UUID (RFC 9562) in base 32.
func runID() string {
	id := uuid.Must(uuid.NewV7())
	return strings.ToLower(base32.HexEncoding.WithPadding(base32.NoPadding).EncodeToString(id[:]))
}

// lookup asks for so many keys, of which the service has what this user shared.
func (u *user) lookup(ctx context.Context, keys int) error {
	ask := make([]protocol.Query, keys)
	for n := range ask {
		ask[n] = protocol.Query{Task: "build@fares", Key: digest.Of(fmt.Append(nil, u.rnd.Uint64()))}
		if n%5 < 2 && len(u.shared) > 0 {
			ask[n].Key = u.shared[(n+u.rnd.IntN(len(u.shared)))%len(u.shared)].key
		}
	}
	_, err := u.client.Lookup(ctx, ask)
	return err
}

// fetch gets outputs of about so many MB, and throws them away.
func (u *user) fetch(ctx context.Context, megabytes float64) error {
	var ask struct {
		Digests []string `json:"digests"`
	}
	for left := int64(megabytes * 1e6); left > 0; {
		for _, b := range u.shared[u.rnd.IntN(len(u.shared))].blobs {
			if left > 0 {
				ask.Digests = append(ask.Digests, b.Digest.String())
			}
			left -= b.Size
		}
	}
	body, err := json.Marshal(ask)
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, "POST", u.r.url+"/v1/"+repository+"/packs/fetch", bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+u.r.token)
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Accept", protocol.TypeFrames)
	req.Header.Set("Accept-Encoding", "zstd")
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if n, err := io.Copy(io.Discard, resp.Body); err != nil || resp.StatusCode != http.StatusOK || n == 0 {
		return fmt.Errorf("%s, %d bytes: %w", resp.Status, n, err)
	}
	return nil
}

// claim makes a claim, and ends it.
func (u *user) claim(ctx context.Context) error {
	answer, err := u.client.Claim(ctx, protocol.Claim{
		Key: digest.Of(fmt.Append(nil, u.rnd.Uint64())), Shelf: "trusted", Run: runID(), Task: "build@fares", Seconds: 20,
	})
	if err != nil {
		return err
	}
	return u.client.EndClaim(ctx, answer.Granted, protocol.ClaimFailed)
}

// record records a run of so many tasks.
func (u *user) record(tasks int) error {
	run := protocol.Run{
		ID: runID(), Name: "scale", Host: "desk", Place: "harbour", Branch: "main", Shelf: "trusted", Requested: []string{"all"},
		Jobs: 4, Tasks: tasks, Started: time.Now(),
	}
	r := remote.Record(
		u.client, run.ID, func() protocol.Run { return run }, func() protocol.Graph { return protocol.Graph{} },
	)
	for n := range tasks {
		r.Done(protocol.TaskRecord{
			Task: fmt.Sprintf("build@p%d", n), Project: fmt.Sprintf("p%d", n), Outcome: "cached", At: float64(n) / 100, Seconds: 0.01,
			Key: digest.Of(fmt.Append(nil, n)), Listing: digest.Of(fmt.Append(nil, n)),
		})
	}
	r.Finish(protocol.RunFinish{OK: true, Seconds: float64(tasks) / 100, Totals: map[string]int{"cached": tasks}})
	return nil
}

// probe is a kind of request, made with few and with many units.
type probe struct {
	kind      company.Kind
	few, many float64
	each      int // requests of each user
	counted   int // requests of the model that one of them is
	do        func(ctx context.Context, u *user, units float64) error
}

var probes = []probe{
	{company.Share, 0.05, 2, 80, 1, func(ctx context.Context, u *user, n float64) error { return u.share(ctx, n) }},
	{company.Fetch, 0.05, 30, 40, 1, func(ctx context.Context, u *user, n float64) error { return u.fetch(ctx, n) }},
	{company.Lookup, 1, 1000, 60, 1, func(ctx context.Context, u *user, n float64) error { return u.lookup(ctx, max(1, int(n))) }},
	{company.Claim, 0, 0, 300, 2, func(ctx context.Context, u *user, _ float64) error { return u.claim(ctx) }},
	{company.Record, 1, 400, 40, 1, func(_ context.Context, u *user, n float64) error { return u.record(int(n)) }},
}

// measure measures what requests cost, and writes it to a file.
func measure(ctx context.Context, bin, file string) error {
	r, dir, end, err := serveAside(ctx, bin)
	if err != nil {
		return err
	}
	defer end()
	users := make([]*user, 4)
	for n := range users {
		if users[n], err = newUser(ctx, r, filepath.Join(dir, fmt.Sprint("cache-", n)), uint64(n)); err != nil {
			return err
		}
	}
	costs := company.Costs{Service: map[string]company.Cost{}, Database: map[string]company.Cost{}}
	for _, p := range probes {
		few, err := p.measure(ctx, r, users, p.few)
		if err != nil {
			return fmt.Errorf("%s: %w", company.Names[p.kind], err)
		}
		s, d := company.Cost{Request: few.service}, company.Cost{Request: few.database}
		if p.many > p.few {
			many, err := p.measure(ctx, r, users, p.many)
			if err != nil {
				return fmt.Errorf("%s: %w", company.Names[p.kind], err)
			}
			s = line(few.service, many.service, p.few, p.many)
			d = line(few.database, many.database, p.few, p.many)
		}
		costs.Service[company.Names[p.kind]], costs.Database[company.Names[p.kind]] = s, d
		fmt.Printf("%-8s service %+v, database %+v\n", company.Names[p.kind], s, d)
	}
	return writeJSON(file, costs)
}

// line returns the cost that explains two measurements.
func line(few, many, fewUnits, manyUnits float64) company.Cost {
	unit := max(0, many-few) / (manyUnits - fewUnits)
	return company.Cost{Request: max(0, few-unit*fewUnits), Unit: unit}
}

// settling is how long what requests left to do in the background is counted as theirs.
const settling = 3 * time.Second

// measure returns what a request costs, in seconds of processor time.
func (p probe) measure(ctx context.Context, r *running, users []*user, units float64) (used, error) {
	before, err := r.used()
	if err != nil {
		return used{}, err
	}
	var wg sync.WaitGroup
	errs := make([]error, len(users))
	for n, u := range users {
		wg.Go(func() {
			for range p.each {
				if errs[n] == nil {
					errs[n] = p.do(ctx, u, units)
				}
			}
		})
	}
	wg.Wait()
	time.Sleep(settling)
	after, err := r.used()
	for _, e := range errs {
		if e != nil {
			err = e
		}
	}
	sum, n := after.less(before), float64(p.each*len(users)*p.counted)
	return used{sum.service / n, sum.database / n}, err
}
