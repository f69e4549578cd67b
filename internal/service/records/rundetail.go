package records

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/junit"
	"grayloft.example/grayloft/internal/protocol"
)

// RecordRow is a record of a task with the task's names.
type RecordRow struct {
	Task         string     `db:"name"`
	Project      string     `db:"project"`
	Run          string     `db:"run_id"`
	Began        time.Time  `db:"began"`
	Place        string     `db:"place"`
	Running      bool       `db:"running"`
	At           float64    `db:"at"`
	Slot         int        `db:"slot"`
	Attempt      int        `db:"attempt"`
	Outcome      string     `db:"outcome"`
	Reason       string     `db:"reason"`
	Detail       texts      `db:"detail"`
	Message      string     `db:"message"`
	Seconds      float64    `db:"seconds"`
	RunSeconds   float64    `db:"run_seconds"`
	FetchSeconds float64    `db:"fetch_seconds"`
	WaitSeconds  float64    `db:"wait_seconds"`
	HashSeconds  float64    `db:"hash_seconds"`
	SavedSeconds float64    `db:"saved_seconds"`
	BytesIn      int64      `db:"bytes_in"`
	BytesOut     int64      `db:"bytes_out"`
	Picked       bool       `db:"picked"`
	Key          []byte     `db:"key"`
	Listing      []byte     `db:"listing"`
	Ingredients  []byte     `db:"ingredients"`
	Log          []byte     `db:"log"`
	MadeName     *string    `db:"made_name"`
	MadeHost     *string    `db:"made_host"`
	MadePlace    *string    `db:"made_place"`
	MadeRun      *string    `db:"made_run"`
	MadeAt       *time.Time `db:"made_at"`
	Compared     string     `db:"compared"`
	Changed      texts      `db:"changed"`
	ChangedCount int        `db:"changed_count"`
	SameOutputs  *bool      `db:"same_outputs"`
	Tests        int        `db:"tests"`
	TestsFailed  int        `db:"tests_failed"`
	Critical     float64    `db:"critical"`
}

const recordColumns = `n.name, n.project, t.run_id, t.began, t.place, t.running, t.at, t.slot, t.attempt, t.outcome, t.reason, t.detail,
	t.message, t.seconds, t.run_seconds, t.fetch_seconds, t.wait_seconds, t.hash_seconds, t.saved_seconds, t.bytes_in, t.bytes_out,
		t.picked,
	t.key, t.listing, t.ingredients, t.log, t.made_name, t.made_host, t.made_place, t.made_run, t.made_at, t.compared, t.changed,
	t.changed_count, t.same_outputs, t.tests, t.tests_failed, t.critical`

func (r RecordRow) record() protocol.TaskRecord {
	out := protocol.TaskRecord{
		Task: r.Task, Project: r.Project, Outcome: r.Outcome, Reason: r.Reason, Detail: r.Detail, Message: r.Message, At: r.At,
		Seconds: r.Seconds, Slot: r.Slot, Key: asDigest(r.Key), Listing: asDigest(r.Listing), Log: asDigest(r.Log),
		Ingredients: asDigest(r.Ingredients), SavedSeconds: r.SavedSeconds, RunSeconds: r.RunSeconds, FetchSeconds: r.FetchSeconds,
		WaitSeconds: r.WaitSeconds, HashSeconds: r.HashSeconds, BytesIn: r.BytesIn, BytesOut: r.BytesOut, Attempt: r.Attempt,
		Picked:   r.Picked,
		Compared: r.Compared, Changed: r.Changed, ChangedCount: r.ChangedCount, SameOutputs: r.SameOutputs, Tests: r.Tests,
		TestsFailed: r.TestsFailed, Critical: r.Critical > 0,
	}
	if r.MadeName != nil && r.MadeAt != nil {
		out.MadeBy = &protocol.Maker{Name: *r.MadeName, Host: *r.MadeHost, Place: *r.MadePlace, Run: *r.MadeRun, At: r.MadeAt.UTC()}
	}
	return out
}

// Run returns one run with its tasks.
func (db *DB) Run(ctx context.Context, repository int64, id string) (protocol.RunDetail, error) {
	d := protocol.RunDetail{Records: []protocol.TaskRecord{}, Starts: []protocol.TaskStart{}}
	var row runRow
	if err := db.GetContext(ctx, &row, `SELECT `+runColumns+` FROM runs r WHERE r.repository_id = $1 AND r.id = $2`, repository,
		id); err != nil {
		return d, missing(err, "run "+id)
	}
	d.RunRow = row.row()
	if row.Join != "" {
		if err := db.SelectContext(ctx, &d.Members, `
			SELECT id, host, place FROM runs WHERE repository_id = $1 AND join_id = $2 AND shelf = $3
			ORDER BY follows, id LIMIT 100`, repository, row.Join, row.Shelf); err != nil {
			return d, err
		}
	}
	tasks, err := RunRecords(ctx, db, repository, row.Began, id)
	for _, t := range tasks {
		if t.Running {
			d.Starts = append(d.Starts, protocol.TaskStart{Task: t.Task, At: t.At, Slot: t.Slot})
			continue
		}
		d.Records = append(d.Records, t.record())
		if d.Finished == nil {
			d.Totals[t.Outcome]++
		}
	}
	return d, err
}

// RunRecords returns the records of the tasks of a run.
func RunRecords(
	ctx context.Context,
	db sqlx.QueryerContext,
	repository int64,
	began time.Time,
	run string,
) (rows []RecordRow, err error) {
	return rows, sqlx.SelectContext(ctx, db, &rows, `
		SELECT `+recordColumns+` FROM run_tasks t JOIN tasks n ON n.id = t.task_id
		WHERE t.repository_id = $1 AND t.began = $2 AND t.run_id = $3 ORDER BY t.at, n.name`, repository, began, run)
}

// TaskOfRun returns the record of one task in a run.
func (db *DB) TaskOfRun(ctx context.Context, repository int64, run, task string) (protocol.TaskRecord, error) {
	var row RecordRow
	err := db.GetContext(ctx, &row, `
		SELECT `+recordColumns+` FROM runs r
		JOIN tasks n ON n.repository_id = r.repository_id AND n.name = $3
		JOIN run_tasks t ON t.repository_id = r.repository_id AND t.began = r.began AND t.run_id = r.id AND t.task_id = n.id
		WHERE r.repository_id = $1 AND r.id = $2 AND NOT t.running`, repository, run, task)
	if err != nil {
		return protocol.TaskRecord{}, missing(err, "record of "+task+" in run "+run)
	}
	return row.record(), nil
}

// RunLog returns the digest of the log of a task in a run.
func (db *DB) RunLog(ctx context.Context, repository int64, run, task string) (digest.Digest, error) {
	r, err := db.TaskOfRun(ctx, repository, run, task)
	if err == nil && r.Log.IsZero() {
		err = missingf("log of " + task + " in run " + run)
	}
	return r.Log, err
}

// TaskTests returns the test cases of a task in a run: those that failed first.
func (db *DB) TaskTests(ctx context.Context, repository int64, run, task string, limit int) ([]junit.Case, error) {
	out := []junit.Case{}
	var rows []struct {
		Name    string  `db:"name"`
		Result  string  `db:"result"`
		Seconds float64 `db:"seconds"`
		Message string  `db:"message"`
	}
	err := db.SelectContext(ctx, &rows, `
		SELECT c.name, c.result, c.seconds, c.message FROM runs r
		JOIN tasks n ON n.repository_id = r.repository_id AND n.name = $3
		JOIN test_cases c ON c.repository_id = r.repository_id AND c.began = r.began AND c.run_id = r.id AND c.task_id = n.id
		WHERE r.repository_id = $1 AND r.id = $2 ORDER BY c.result <> 'failed', c.number LIMIT $4`, repository, run, task, limit)
	for _, r := range rows {
		out = append(out, junit.Case{Name: r.Name, Result: junit.Result(r.Result), Seconds: r.Seconds, Message: r.Message})
	}
	return out, err
}

// RunHead returns what a run's client announced.
func (db *DB) RunHead(ctx context.Context, repository int64, id string) (protocol.Run, error) {
	row, err := db.RunRow(ctx, repository, id)
	return row.Run, err
}

// RunRow returns one run as it is listed.
func (db *DB) RunRow(ctx context.Context, repository int64, id string) (protocol.RunRow, error) {
	var row runRow
	err := db.GetContext(ctx, &row, `SELECT `+runColumns+` FROM runs r WHERE r.repository_id = $1 AND r.id = $2`, repository, id)
	return row.row(), missing(err, "run "+id)
}
