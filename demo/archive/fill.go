package main

import (
	"context"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/service/records"
)

// filler writes a generated repository into the database.
type filler struct {
	db         *records.DB
	m          *model
	repository int64
	graph      digest.Digest
	taskIDs    []int64 // by index
	runs       [][]any
	records    chan [][]any
	cases      chan [][]any
}

// prepare makes the tokens, the tasks, the partitions and the declarations, and
// removes what an interrupted filling left.
func (f *filler) prepare(ctx context.Context, o *office) error {
	var err error
	for _, a := range append([]*actor{o.ci, o.lanes}, o.people...) {
		t := records.Token{Repository: repository, Name: a.name, WritesTo: a.shelf, ReadsFrom: []string{a.shelf, trusted}, MayView: true}
		switch a {
		case o.ci:
			t.ReadsFrom = []string{trusted}
		case o.lanes:
			t.WritesTo, t.ReadsFrom = "branch/*", []string{trusted}
		}
		if a.token, _, err = f.db.MakeToken(ctx, t); err != nil {
			return err
		}
	}
	if err := f.db.GetContext(ctx, &f.repository, `SELECT id FROM repositories WHERE name = $1`, repository); err != nil {
		return err
	}
	for _, table := range []string{
		"run_tasks", "test_cases", "cache_days", "evictions", "entries", "listing_blobs", "blobs",
	} {
		if _, err := f.db.ExecContext(ctx, `DELETE FROM `+table+` WHERE repository_id = $1`, f.repository); err != nil {
			return err
		}
	}
	if err := f.db.EnsurePartitions(ctx, o.until.AddDate(0, 0, -o.days-1), o.until); err != nil {
		return err
	}
	_, f.graph = f.m.declared.Encode()
	if err := f.db.PutGraph(ctx, f.repository, f.m.declared); err != nil {
		return err
	}
	return f.nameTasks(ctx)
}

func (f *filler) nameTasks(ctx context.Context) error {
	for _, t := range f.m.tasks {
		var id int64
		if err := f.db.GetContext(ctx, &id, `
			INSERT INTO tasks (repository_id, name, project) VALUES ($1, $2, $3)
			ON CONFLICT (repository_id, name) DO UPDATE SET project = excluded.project RETURNING id`, f.repository, t.addr, t.project); err != nil {
			return err
		}
		f.taskIDs = append(f.taskIDs, id)
	}
	return nil
}

// fill plays a year and writes it. The runs come last: a repository without
// runs was not filled.
func (f *filler) fill(ctx context.Context, o *office) error {
	f.records, f.cases = make(chan [][]any, 64), make(chan [][]any, 64)
	group, both := errgroup.WithContext(ctx)
	group.Go(func() error {
		defer close(f.records)
		defer close(f.cases)
		o.out = func(r *run) error { return f.add(both, r) }
		return o.year()
	})
	group.Go(func() error { return f.copy(both, "run_tasks", recordColumns, stream(f.records)) })
	group.Go(func() error { return f.copy(both, "test_cases", caseColumns, stream(f.cases)) })
	if err := group.Wait(); err != nil {
		return err
	}
	if err := f.fillCache(ctx, o.cache); err != nil {
		return err
	}
	return f.copy(ctx, "runs", runColumns, pgx.CopyFromRows(f.runs))
}

// copy writes rows by COPY, all or none of them.
func (f *filler) copy(ctx context.Context, table, columns string, rows pgx.CopyFromSource) error {
	conn, err := pgx.Connect(ctx, f.db.URL())
	if err != nil {
		return err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	if _, err = conn.CopyFrom(ctx, pgx.Identifier{table}, strings.Fields(columns), rows); err != nil {
		return fmt.Errorf("filling %s: %w", table, err)
	}
	return nil
}

// stream reads rows that come in parts.
func stream(parts <-chan [][]any) pgx.CopyFromSource {
	var part [][]any
	return pgx.CopyFromFunc(func() ([]any, error) {
		for len(part) == 0 {
			var ok bool
			if part, ok = <-parts; !ok {
				return nil, nil
			}
		}
		row := part[0]
		part = part[1:]
		return row, nil
	})
}

const runColumns = `repository_id id began token_id name host place branch commit shelf requested no_reuse jobs tasks graph generated
	started_at touched_at finished_at through rolled ok seconds saved_seconds cost_seconds fetch_seconds bytes_in bytes_out n_current
	n_cached n_restored n_fetched n_ran n_failed n_blocked critical_seconds words`

const recordColumns = `repository_id began run_id task_id place running at slot attempt outcome reason detail message seconds run_seconds
	fetch_seconds wait_seconds hash_seconds saved_seconds bytes_in bytes_out picked key listing made_name made_host made_place made_run
	made_at compared changed changed_count same_outputs tests tests_failed critical`

const caseColumns = `repository_id began run_id task_id number name result seconds message`

// add turns a run into rows.
func (f *filler) add(ctx context.Context, r *run) error {
	end := r.began.Add(time.Duration(r.seconds * float64(time.Second)))
	commit := fmt.Sprintf("%016x%016x%08x", r.commit, mix(r.commit, 1), uint32(mix(r.commit, 2)))
	words := strings.ToLower(strings.Join(append([]string{r.id, r.by.name, r.by.host, r.place.name, r.branch, commit}, r.requested...), " "))
	n := func(o decide.Outcome) int { return r.totals[o] }
	f.runs = append(f.runs, []any{
		f.repository, r.id, r.began, r.by.token, r.by.name, r.by.host, r.place.name, r.branch, commit, r.shelf, r.requested, r.noReuse,
		r.jobs, len(r.records), f.graph[:], true, r.began, end, end, int64(1), int64(1), r.ok, r.seconds, r.saved,
		r.fetching + float64(r.out)/r.place.speed, r.fetching, r.in, r.out, n(decide.Current), n(decide.Cached), n(decide.Restored),
		n(decide.Fetched), n(decide.Ran), n(decide.Failed), n(decide.Blocked), r.critical, words,
	})
	if err := send(ctx, f.records, f.recordRows(r)); err != nil || len(r.cases) == 0 {
		return err
	}
	var cases [][]any
	for _, c := range r.cases {
		cases = append(cases, []any{f.repository, r.began, r.id, f.taskIDs[c.task], c.number, c.name, c.result, c.seconds, c.message})
	}
	return send(ctx, f.cases, cases)
}

func send(ctx context.Context, to chan<- [][]any, rows [][]any) error {
	select {
	case to <- rows:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (f *filler) recordRows(r *run) [][]any {
	rows := make([][]any, 0, len(r.records))
	for i := range r.records {
		x := &r.records[i]
		var name, host, place, made *string
		var at *time.Time
		if e := x.made; e != nil {
			name, host, place, made, at = &e.maker.name, &e.maker.host, &e.maker.place, &e.maker.run, &e.at
		}
		message := ""
		if x.outcome == decide.Failed {
			message = "the command ended with exit 1"
		}
		rows = append(rows, []any{
			f.repository, r.began, r.id, f.taskIDs[x.task], r.place.name, false, x.at, x.slot, x.attempt, string(x.outcome), string(x.reason),
			texts(x.detail), message, x.seconds, x.runSeconds, x.fetchSeconds, 0.0, 0.0004, x.saved, x.in, x.out, x.picked,
			digestOf(x.key), digestOf(x.listing), name, host, place, made, at, x.compared, texts(x.changed), len(x.changed), x.same,
			x.tests, x.failed, x.critical,
		})
	}
	return rows
}

func texts(list []string) []string { return append([]string{}, list...) }

// digestOf returns a digest that stands for a number; nil for 0.
func digestOf(x uint64) []byte {
	if x == 0 {
		return nil
	}
	d := digest.Of(fmt.Appendf(nil, "%x", x))
	return d[:]
}

const entryColumns = `repository_id shelf key task listing ingredients seconds bytes made_name made_host made_place made_run made_at token_id
	filed_at last_used`

// fillCache writes what the shared cache holds, and how it got there. There are
// no files behind the entries.
func (f *filler) fillCache(ctx context.Context, c *cache) error {
	var days, removed, entries, blobs, refs [][]any
	for _, d := range c.days {
		days = append(days, []any{f.repository, d.day, d.shelf, f.m.projects[d.project].name, d.entries, d.bytes})
	}
	for _, e := range c.removed {
		removed = append(removed, []any{f.repository, e.at, e.shelf, f.m.projects[e.project].name, "unused", e.entries, e.bytes})
	}
	stored := map[uint64]bool{}
	for _, shelf := range slices.Sorted(maps.Keys(c.shelves)) {
		for _, key := range slices.Sorted(maps.Keys(c.shelves[shelf])) {
			e := c.shelves[shelf][key]
			t := f.m.tasks[e.task]
			listing := digestOf(e.listing)
			entries = append(entries, []any{
				f.repository, shelf, digestOf(key), t.addr, listing, digestOf(mix(key, 3)), e.seconds, t.bytes, e.maker.name, e.maker.host,
				e.maker.place, e.maker.run, e.at, e.maker.token, e.at, e.used,
			})
			if !stored[e.listing] {
				stored[e.listing] = true
				object := "generated/" + hex.EncodeToString(listing)
				blobs = append(blobs, []any{f.repository, listing, object, t.bytes, e.at, e.at})
				refs = append(refs, []any{f.repository, listing, listing})
			}
		}
	}
	for _, part := range []struct {
		table, columns string
		rows           [][]any
	}{
		{"cache_days", "repository_id day shelf project entries bytes", days},
		{"evictions", "repository_id at shelf project why entries bytes", removed},
		{"entries", entryColumns, entries},
		{"blobs", "repository_id digest object size stored_at leased_until", blobs},
		{"listing_blobs", "repository_id listing blob", refs},
	} {
		if err := f.copy(ctx, part.table, part.columns, pgx.CopyFromRows(part.rows)); err != nil {
			return err
		}
	}
	return nil
}
