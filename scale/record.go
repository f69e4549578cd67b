package main

import (
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"time"

	"grayloft.example/grayloft/internal/core/company"
	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/shelf"
	"grayloft.example/grayloft/internal/service/insight"
	"grayloft.example/grayloft/internal/service/records"
)

// recorder reads the last days of a repository out of the records of a service.
type recorder struct {
	db         *records.DB
	repository int64
	from, to   time.Time

	out      company.Recording
	tasks    map[string]int
	machines map[string]int
	keys     map[string]int
	runs     map[string]int
	current  []int // by machine, how many tasks were current
	restored []int
	in       []float64 // bytes that a machine fetched
	fetching []float64 // seconds in which it fetched
	busy     []float64 // until when it did, in the run that is read
}

// record writes so many days before the last one with runs, and that one, to a file.
func record(ctx context.Context, db *records.DB, repository string, days int, file string) error {
	r := &recorder{db: db, machines: map[string]int{}, keys: map[string]int{}, runs: map[string]int{}, tasks: map[string]int{}}
	if err := db.GetContext(ctx, &r.repository, `SELECT id FROM repositories WHERE name = $1`, repository); err != nil {
		return fmt.Errorf("the repository %s: %w", repository, err)
	}
	// The busiest of the last week's days is the one that is compared.
	if err := db.GetContext(ctx, &r.to, `
		SELECT date_trunc('day', began, 'UTC') FROM runs
		WHERE repository_id = $1 AND began > (SELECT max(began) FROM runs WHERE repository_id = $1) - interval '7 days'
		GROUP BY 1 ORDER BY count(*) DESC, 1 DESC LIMIT 1`, r.repository); err != nil {
		return err
	}
	r.from, r.to = r.to.AddDate(0, 0, -days), r.to.AddDate(0, 0, 1)
	r.out.Repository = repository
	for _, step := range []func(context.Context) error{r.readTasks, r.readRuns, r.readItems} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	r.finish()
	return write(file, &r.out)
}

func write(file string, r *company.Recording) error {
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	z := gzip.NewWriter(f)
	return errors.Join(json.NewEncoder(z).Encode(r), z.Close(), f.Close())
}

// read reads a recording from a file.
func read(file string) (*company.Recording, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	z, err := gzip.NewReader(f)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	r, err := company.ReadRecording(z)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	return r, nil
}

func (r *recorder) readTasks(ctx context.Context) error {
	g, err := insight.NewDeclarations(r.db).Last(ctx, r.repository)
	if err != nil || g == nil {
		return fmt.Errorf("the declarations of %s: %w", r.out.Repository, err)
	}
	for n, t := range g.Tasks {
		r.tasks[t.Addr()] = n
		x := company.RecordedTask{Name: t.Name, Shareable: t.IsShareable()}
		for _, u := range t.Dependencies {
			x.After = append(x.After, u.Index)
		}
		r.out.Tasks = append(r.out.Tasks, x)
	}
	var sizes []struct {
		Name    string
		Seconds *float64
		Bytes   *int64
	}
	if err := r.db.SelectContext(ctx, &sizes, `
		SELECT t.name, percentile_cont(0.5) WITHIN GROUP (ORDER BY r.run_seconds) FILTER (WHERE r.outcome = 'ran') seconds,
			(percentile_cont(0.5) WITHIN GROUP (ORDER BY greatest(r.bytes_in, r.bytes_out))
				FILTER (WHERE r.bytes_in > 0 OR r.bytes_out > 0))::bigint bytes
		FROM run_tasks r JOIN tasks t ON t.id = r.task_id
		WHERE r.repository_id = $1 AND r.began < $2 AND r.began >= $2 - interval '90 days' GROUP BY 1`, r.repository, r.to); err != nil {
		return err
	}
	for _, s := range sizes {
		n, ok := r.tasks[s.Name]
		if !ok {
			continue // it is not declared any more
		}
		if s.Seconds != nil {
			r.out.Tasks[n].Seconds = *s.Seconds
		}
		if s.Bytes != nil && !g.Tasks[n].Transparent() { // otherwise it is the log
			r.out.Tasks[n].Bytes = *s.Bytes
		}
	}
	return nil
}

func (r *recorder) readRuns(ctx context.Context) error {
	var runs []struct {
		ID, Name, Host, Shelf string
		At, Seconds           float64
		Jobs                  int
		NoReuse               bool `db:"no_reuse"`
	}
	if err := r.db.SelectContext(ctx, &runs, `
		SELECT id, name, host, shelf, extract(epoch FROM began - $2)::float8 at, jobs, no_reuse, seconds FROM runs
		WHERE repository_id = $1 AND began >= $2 AND began < $3 AND finished_at IS NOT NULL AND NOT interrupted
		ORDER BY began`, r.repository, r.from, r.to); err != nil {
		return err
	}
	for n, x := range runs {
		r.runs[x.ID] = n
		r.out.Runs = append(r.out.Runs, company.RecordedRun{
			At: x.At, Machine: r.machine(x.Name, x.Host, x.Shelf), Slots: x.Jobs, NoReuse: x.NoReuse, Seconds: x.Seconds,
		})
	}
	return nil
}

// machine returns the number of a machine. One that writes to another shelf is another one.
func (r *recorder) machine(name, host, on string) int {
	id := name + "\n" + host + "\n" + on
	n, ok := r.machines[id]
	if !ok {
		n = len(r.out.Machines)
		r.machines[id] = n
		reads := []string{on}
		if on != shelf.Trusted {
			reads = append(reads, shelf.Trusted)
		}
		r.out.Machines = append(r.out.Machines, company.Place{Shelf: on, Reads: reads, Pace: 1, Clean: true, Empty: true})
		r.current, r.restored = append(r.current, 0), append(r.restored, 0)
		r.in, r.fetching, r.busy = append(r.in, 0), append(r.fetching, 0), append(r.busy, 0)
	}
	return n
}

func (r *recorder) readItems(ctx context.Context) error {
	rows, err := r.db.QueryxContext(ctx, `
		SELECT r.run_id, t.name, r.outcome, r.picked, coalesce(encode(r.key, 'hex'), ''), r.run_seconds, r.at, r.fetch_seconds, r.bytes_in
		FROM run_tasks r JOIN tasks t ON t.id = r.task_id
		WHERE r.repository_id = $1 AND r.began >= $2 AND r.began < $3 AND NOT r.running
		ORDER BY r.began, r.run_id, r.at`, r.repository, r.from, r.to)
	if err != nil {
		return err
	}
	defer rows.Close()
	last := ""
	for rows.Next() {
		var run, name, outcome, key string
		var picked bool
		var seconds, at, fetching float64
		var in int64
		if err := rows.Scan(&run, &name, &outcome, &picked, &key, &seconds, &at, &fetching, &in); err != nil {
			return err
		}
		n, known := r.runs[run]
		task, declared := r.tasks[name]
		if !known || !declared {
			continue
		}
		x := &r.out.Runs[n]
		if o := decide.Outcome(outcome); o == decide.Current {
			r.current[x.Machine]++
		} else if o == decide.Restored {
			r.restored[x.Machine]++
		}
		if run != last {
			last, r.busy[x.Machine] = run, 0
		}
		if fetching > 0 { // several transfers may share the line
			m := x.Machine
			r.in[m] += float64(in)
			r.fetching[m] += max(0, at+fetching-max(at, r.busy[m]))
			r.busy[m] = max(r.busy[m], at+fetching)
		}
		x.Items = append(x.Items, company.NewRecordedItem(task, r.key(key), picked, decide.Outcome(outcome), int(seconds*1000)))
	}
	return rows.Err()
}

func (r *recorder) key(hex string) int {
	n, ok := r.keys[hex]
	if !ok || hex == "" { // without a key, it is nobody else's
		n = len(r.keys) + 1
		if hex == "" {
			hex = fmt.Sprint("none ", n)
		}
		r.keys[hex] = n
	}
	return n
}

// usualRate is that of a machine that fetched nothing, in bytes a second.
const usualRate = 40e6

func (r *recorder) finish() {
	for n := range r.out.Machines {
		m := &r.out.Machines[n]
		m.Clean = r.current[n] == 0
		m.Empty = m.Clean && r.restored[n] == 0
		m.Rate = usualRate
		if r.fetching[n] > 0 {
			m.Rate = r.in[n] / r.fetching[n]
		}
	}
}
