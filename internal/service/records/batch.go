package records

import (
	"context"
	"encoding/json"
	"maps"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/protocol"
)

// taskRow is a row of run_tasks as PostgreSQL reads it from JSON: its names are
// those of the columns.
type taskRow struct {
	Task    string `json:"-"`
	Project string `json:"-"`

	RepositoryID int64     `json:"repository_id"`
	Began        time.Time `json:"began"`
	RunID        string    `json:"run_id"`
	TaskID       int64     `json:"task_id"`
	Place        string    `json:"place"`
	Running      bool      `json:"running"`
	At           float64   `json:"at"`
	Slot         int       `json:"slot"`
	Attempt      int       `json:"attempt"`
	Outcome      string    `json:"outcome"`
	Reason       string    `json:"reason"`
	Detail       []string  `json:"detail"`
	Message      string    `json:"message"`
	Seconds      float64   `json:"seconds"`
	RunSeconds   float64   `json:"run_seconds"`
	FetchSeconds float64   `json:"fetch_seconds"`
	WaitSeconds  float64   `json:"wait_seconds"`
	HashSeconds  float64   `json:"hash_seconds"`
	SavedSeconds float64   `json:"saved_seconds"`
	BytesIn      int64     `json:"bytes_in"`
	BytesOut     int64     `json:"bytes_out"`
	Picked       bool      `json:"picked"`
	Key          bytea     `json:"key"`
	Listing      bytea     `json:"listing"`
	Ingredients  bytea     `json:"ingredients"`
	Log          bytea     `json:"log"`
	MadeName     *string   `json:"made_name"`
	MadeHost     *string   `json:"made_host"`
	MadePlace    *string   `json:"made_place"`
	MadeRun      *string   `json:"made_run"`
	MadeAt       any       `json:"made_at"`
	Compared     string    `json:"compared"`
	Changed      []string  `json:"changed"`
	ChangedCount int       `json:"changed_count"`
	SameOutputs  *bool     `json:"same_outputs"`
	Tests        int       `json:"tests"`
	TestsFailed  int       `json:"tests_failed"`
	Critical     float64   `json:"critical"`
}

// bytea is a digest as PostgreSQL reads it; null if it is zero.
type bytea digest.Digest

// MarshalJSON implements [json.Marshaler].
func (b bytea) MarshalJSON() ([]byte, error) {
	if d := digest.Digest(b); !d.IsZero() {
		return json.Marshal(`\x` + d.String())
	}
	return []byte("null"), nil
}

// batch collects events of one run, to be written at once.
type batch struct {
	run    runHead
	rows   map[string]taskRow // by task: the last one holds
	tests  []protocol.TaskTests
	finish *protocol.RunFinish
}

func newBatch(run runHead) *batch { return &batch{run: run, rows: map[string]taskRow{}} }

func (b *batch) add(e protocol.Event) {
	switch {
	case e.Start != nil:
		row := b.row(e.Start.Task)
		row.Running, row.At, row.Slot = true, e.Start.At, e.Start.Slot
		b.rows[row.Task] = row
	case e.Task != nil:
		b.rows[e.Task.Task] = b.recordRow(*e.Task)
	case e.Tests != nil:
		b.tests = append(b.tests, *e.Tests)
	case e.Finish != nil:
		b.finish = e.Finish
	}
}

func (b *batch) row(task string) taskRow {
	return taskRow{
		Task: task, RepositoryID: b.run.Repository, Began: b.run.Began, RunID: b.run.ID, Place: b.run.Place,
		Detail: []string{}, Changed: []string{},
	}
}

func (b *batch) recordRow(r protocol.TaskRecord) taskRow {
	row := b.row(r.Task)
	row.Project = r.Project
	row.At, row.Slot, row.Attempt, row.Outcome, row.Reason = r.At, r.Slot, r.Attempt, r.Outcome, r.Reason
	row.Detail, row.Message = append(row.Detail, r.Detail...), r.Message
	row.Seconds, row.RunSeconds, row.FetchSeconds, row.WaitSeconds = r.Seconds, r.RunSeconds, r.FetchSeconds, r.WaitSeconds
	row.HashSeconds, row.SavedSeconds, row.BytesIn, row.BytesOut = r.HashSeconds, r.SavedSeconds, r.BytesIn, r.BytesOut
	row.Picked, row.Key, row.Listing, row.Ingredients, row.Log = r.Picked, bytea(
		r.Key,
	), bytea(
		r.Listing,
	), bytea(
		r.Ingredients,
	), bytea(
		r.Log,
	)
	if m := r.MadeBy; m != nil {
		row.MadeName, row.MadeHost, row.MadePlace, row.MadeRun, row.MadeAt = &m.Name, &m.Host, &m.Place, &m.Run, m.At
	}
	row.Compared, row.Changed, row.ChangedCount = r.Compared, append(row.Changed, r.Changed...), r.ChangedCount
	row.SameOutputs, row.Tests, row.TestsFailed = r.SameOutputs, r.Tests, r.TestsFailed
	return row
}

func (b *batch) write(ctx context.Context, tx *sqlx.Tx) error {
	projects := map[string]string{}
	for _, r := range b.rows {
		projects[r.Task] = r.Project
	}
	for _, t := range b.tests {
		if _, ok := projects[t.Task]; !ok {
			projects[t.Task] = ""
		}
	}
	ids, err := taskIDs(ctx, tx, b.run.Repository, projects)
	if err != nil {
		return err
	}
	if err := b.writeRows(ctx, tx, ids); err != nil {
		return err
	}
	if ended := b.ended(ids); len(ended) > 0 {
		if err := endLogs(ctx, tx, b.run, ended); err != nil {
			return err
		}
	}
	return b.writeTests(ctx, tx, ids)
}

// ended returns the ids of the tasks that do not run any more.
func (b *batch) ended(ids map[string]int64) (list []int64) {
	for name, row := range b.rows {
		if !row.Running {
			list = append(list, ids[name])
		}
	}
	return list
}

func (b *batch) writeRows(ctx context.Context, tx *sqlx.Tx, ids map[string]int64) error {
	if len(b.rows) == 0 {
		return nil
	}
	var rows []taskRow
	for _, name := range slices.Sorted(maps.Keys(b.rows)) {
		row := b.rows[name]
		row.TaskID = ids[name]
		rows = append(rows, row)
	}
	text, err := json.Marshal(rows)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `
		INSERT INTO run_tasks SELECT * FROM jsonb_populate_recordset(NULL::run_tasks, $1)
		ON CONFLICT (repository_id, began, run_id, task_id) DO UPDATE SET
			running = excluded.running, at = excluded.at, slot = excluded.slot, attempt = excluded.attempt, outcome = excluded.outcome,
			reason = excluded.reason, detail = excluded.detail, message = excluded.message, seconds = excluded.seconds,
			run_seconds = excluded.run_seconds, fetch_seconds = excluded.fetch_seconds, wait_seconds = excluded.wait_seconds,
			hash_seconds = excluded.hash_seconds, saved_seconds = excluded.saved_seconds, bytes_in = excluded.bytes_in,
			bytes_out = excluded.bytes_out, picked = excluded.picked, key = excluded.key, listing = excluded.listing,
			ingredients = excluded.ingredients, log = excluded.log, made_name = excluded.made_name, made_host = excluded.made_host,
			made_place = excluded.made_place, made_run = excluded.made_run, made_at = excluded.made_at, compared = excluded.compared,
			changed = excluded.changed, changed_count = excluded.changed_count, same_outputs = excluded.same_outputs,
			tests = excluded.tests, tests_failed = excluded.tests_failed`, string(text))
	return err
}

// testRow is a row of test_cases.
type testRow struct {
	RepositoryID int64     `json:"repository_id"`
	Began        time.Time `json:"began"`
	RunID        string    `json:"run_id"`
	TaskID       int64     `json:"task_id"`
	Number       int       `json:"number"`
	Name         string    `json:"name"`
	Result       string    `json:"result"`
	Seconds      float64   `json:"seconds"`
	Message      string    `json:"message"`
}

func (b *batch) writeTests(ctx context.Context, tx *sqlx.Tx, ids map[string]int64) error {
	var rows []testRow
	for _, t := range b.tests {
		for i, c := range t.Cases {
			rows = append(rows, testRow{
				b.run.Repository, b.run.Began, b.run.ID, ids[t.Task], t.First + i, c.Name, string(c.Result), c.Seconds, c.Message,
			})
		}
	}
	if len(rows) == 0 {
		return nil
	}
	text, err := json.Marshal(rows)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `
		INSERT INTO test_cases SELECT * FROM jsonb_populate_recordset(NULL::test_cases, $1) ON CONFLICT DO NOTHING`, string(text))
	return err
}

// taskIDs returns the ids of tasks, given their projects, and adds those that
// are new.
func taskIDs(ctx context.Context, tx *sqlx.Tx, repository int64, projects map[string]string) (map[string]int64, error) {
	ids := map[string]int64{}
	find := func() error {
		var rows []struct {
			ID      int64  `db:"id"`
			Name    string `db:"name"`
			Project string `db:"project"`
		}
		err := tx.SelectContext(ctx, &rows, `
			SELECT id, name, project FROM tasks WHERE repository_id = $1 AND name = ANY($2)`, repository,
			slices.Collect(maps.Keys(projects)))
		for _, r := range rows {
			if r.Project != "" || projects[r.Name] == "" {
				ids[r.Name] = r.ID
			}
		}
		return err
	}
	if len(projects) == 0 {
		return ids, nil
	}
	if err := find(); err != nil {
		return nil, err
	}
	var names, of []string
	for _, name := range slices.Sorted(maps.Keys(projects)) { // sorted, so that two transactions never wait for each other
		if _, known := ids[name]; !known {
			names, of = append(names, name), append(of, projects[name])
		}
	}
	if len(names) == 0 {
		return ids, nil
	}
	if _, err := tx.ExecContext(ctx, `
		INSERT INTO tasks (repository_id, name, project) SELECT $1, n, p FROM unnest($2::text[], $3::text[]) AS u (n, p)
		ON CONFLICT (repository_id, name) DO UPDATE SET project = excluded.project WHERE tasks.project = ''`, repository, names,
		of); err != nil {
		return nil, err
	}
	return ids, find()
}

// sentRows returns the bytes that were sent for each task as JSON rows.
func sentRows(sent map[string]int64) (string, error) {
	type row struct {
		Task  string `json:"task"`
		Bytes int64  `json:"bytes"`
	}
	rows := []row{}
	for task, n := range sent {
		rows = append(rows, row{task, n})
	}
	text, err := json.Marshal(rows)
	return string(text), err
}
