package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"sync"
	"time"

	"grayloft.example/grayloft/demo/slowline"
	"grayloft.example/grayloft/internal/core/company"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/pack"
)

// The load test: so many users make requests one after the other, for so long.
const (
	loadUsers   = 200
	loadTime    = 40 * time.Second
	loadResults = 160 // that the service has before
)

// loaded is what a load test found.
type loaded struct {
	Users    int              `json:"users"`
	GaveUp   int              `json:"gave_up"` // of them: the service took too long for them
	Late     int              `json:"late"`    // requests about claims that took more than two seconds
	Seconds  float64          `json:"seconds"`
	Requests map[string]int64 `json:"requests"`
	// Processor seconds, used and as the costs predict them.
	Service           float64 `json:"service"`
	Database          float64 `json:"database"`
	PredictedService  float64 `json:"predicted_service"`
	PredictedDatabase float64 `json:"predicted_database"`
	// Of the busier direction, in MB a second as they are sent, while requests were made: counted
	// on the line, or by the requests.
	Moved float64 `json:"moved"`
	Line  float64 `json:"line,omitempty"` // MB a second, each way; 0: none
}

// loads are load tests of a service without a line, and behind one.
type loads struct {
	Direct loaded `json:"direct"`
	Behind loaded `json:"behind"`
}

// The line of the second test, and how much of it the clients ask for, with pauses between their
// requests. The line is a tenth of the report's, so that this machine's two cores can fill it.
const (
	narrowMB = lineMB / 10
	asked    = 0.9
)

// load makes requests to a real service in the proportions of the simulated peak, and compares
// what they cost with what the model assumes.
func load(ctx context.Context, bin, peakFile, costsFile, file string) error {
	var asks [company.Kinds]company.Ask
	var costs company.Costs
	for name, to := range map[string]any{peakFile: &asks, costsFile: &costs} {
		if err := readJSON(name, to); err != nil {
			return err
		}
	}
	r, dir, end, err := serveAside(ctx, bin)
	if err != nil {
		return err
	}
	defer end()
	users, err := crowd(ctx, r, dir, 0)
	if err != nil {
		return err
	}
	var out loads
	if out.Direct, err = press(ctx, r, users, test{asks, costs, 0, nil}); err != nil {
		return fmt.Errorf("without a line: %w", err)
	}
	u, err := url.Parse(r.url)
	if err != nil {
		return err
	}
	line, err := slowline.Start(ctx, u.Host, narrowMB*1e6, 0)
	if err != nil {
		return err
	}
	behind := *r
	behind.url = "http://" + line.Addr
	if users, err = crowd(ctx, &behind, filepath.Join(dir, "behind"), loadUsers); err != nil {
		return err
	}
	t := test{asks, costs, 0, line}
	t.pause = t.pauseFor(users, asked*narrowMB)
	if out.Behind, err = press(ctx, &behind, users, t); err != nil {
		return fmt.Errorf("behind a line: %w", err)
	}
	out.Behind.Line = narrowMB
	fmt.Printf("%+v\n", out)
	return writeJSON(file, out)
}

// crowd returns users that know results which the service has.
func crowd(ctx context.Context, r *running, dir string, first uint64) (users []*user, err error) {
	for n := range loadUsers {
		u, err := newUser(ctx, r, filepath.Join(dir, fmt.Sprint("cache-", n)), first+uint64(n))
		if err != nil {
			return nil, err
		}
		users = append(users, u)
	}
	for range loadResults {
		if err := users[0].share(ctx, 1); err != nil {
			return nil, err
		}
	}
	for _, u := range users[1:] {
		u.shared = append(u.shared, users[0].shared...)
	}
	return users, nil
}

// test is what users ask, what that costs, and how long they pause between requests in the middle.
type test struct {
	asks  [company.Kinds]company.Ask
	costs company.Costs
	pause time.Duration
	line  *slowline.Line // nil: none
}

// pauseFor returns the pause with which users move so many MB a second.
func (t test) pauseFor(users []*user, megabytes float64) time.Duration {
	requests := 0.0
	for k, a := range t.asks {
		requests += float64(a.Requests) / float64(counted(company.Kind(k)))
	}
	moved := users[0].ratio() * max(t.asks[company.Fetch].Units, t.asks[company.Share].Units) // by these requests
	return time.Duration(float64(len(users)) * moved / requests / megabytes * float64(time.Second))
}

func counted(k company.Kind) int {
	for _, p := range probes {
		if p.kind == k {
			return p.counted
		}
	}
	return 1
}

func press(ctx context.Context, r *running, users []*user, t test) (out loaded, err error) {
	var made company.Span
	gaveUp, late := 0, 0
	before, err := r.used()
	if err != nil {
		return out, err
	}
	var start float64
	if t.line != nil {
		up, down := t.line.Passed()
		start = float64(max(up, down)) / 1e6
	}
	began := time.Now()
	until := began.Add(loadTime)
	var mu sync.Mutex
	var wg sync.WaitGroup
	for _, u := range users {
		wg.Go(func() {
			for time.Now().Before(until) && !u.client.Down() {
				time.Sleep(time.Duration(u.rnd.ExpFloat64() * float64(t.pause)))
				k := u.draw(t.asks)
				units := t.asks[k].Units / float64(max(1, t.asks[k].Requests))
				n, derr := u.ask(ctx, k, units)
				mu.Lock()
				made.Asks[k].Requests += n
				made.Asks[k].Units += units
				switch {
				case u.client.Down():
					gaveUp++
				case errors.Is(derr, context.DeadlineExceeded):
					late++
				case derr != nil:
					err = fmt.Errorf("%s: %w", company.Names[k], derr)
				}
				mu.Unlock()
			}
		})
	}
	time.Sleep(time.Until(until))
	var passed float64
	if t.line != nil {
		up, down := t.line.Passed()
		passed = float64(max(up, down))/1e6 - start
	}
	wg.Wait()
	time.Sleep(settling)
	after, uerr := r.used()
	if err == nil {
		err = uerr
	}
	u := after.less(before)
	ratio := users[0].ratio()
	out = loaded{
		Users: len(
			users,
		), GaveUp: gaveUp, Late: late, Seconds: time.Since(began).Seconds() - settling.Seconds(), Requests: map[string]int64{},
		Service: u.service, Database: u.database,
		PredictedService: made.Load(t.costs.Service), PredictedDatabase: made.Load(t.costs.Database),
		Moved: ratio * max(made.Asks[company.Fetch].Units, made.Asks[company.Share].Units) / (time.Since(began) - settling).Seconds(),
	}
	if t.line != nil {
		out.Moved = passed / loadTime.Seconds()
	}
	for k, a := range made.Asks {
		out.Requests[company.Names[k]] = a.Requests
	}
	return out, err
}

// ratio returns how much smaller made-up outputs are when they are sent.
func (u *user) ratio() float64 {
	text := u.text(fileBytes)
	return float64(len(pack.Frame(digest.Of(text), text))) / float64(len(text))
}

// draw returns a kind of request, as often as it is asked.
func (u *user) draw(asks [company.Kinds]company.Ask) company.Kind {
	sum := int64(0)
	for k, a := range asks {
		sum += a.Requests / int64(counted(company.Kind(k)))
	}
	at := u.rnd.Int64N(sum)
	for k, a := range asks {
		if at -= a.Requests / int64(counted(company.Kind(k))); at < 0 {
			return company.Kind(k)
		}
	}
	return 0
}

// ask makes a request, and returns how many of the model's it is.
func (u *user) ask(ctx context.Context, k company.Kind, units float64) (n int64, err error) {
	for _, p := range probes {
		if p.kind == k {
			return int64(p.counted), p.do(ctx, u, units)
		}
	}
	return 0, fmt.Errorf("nobody makes requests of this kind")
}

func readJSON(file string, to any) error {
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	if err := json.Unmarshal(text, to); err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	return nil
}

func writeJSON(file string, of any) error {
	text, err := json.MarshalIndent(of, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(file, append(text, '\n'), 0o644)
}
