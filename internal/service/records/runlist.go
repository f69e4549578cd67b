package records

import (
	"context"
	"fmt"
	"strings"
	"time"

	"grayloft.example/grayloft/internal/protocol"
)

// lostAfter is how long a run may be silent before it counts as lost.
const lostAfter = "5 minutes"

// Ended is the condition that a run r has ended, or fell silent. Until then it
// is not part of any balance.
const Ended = `(r.finished_at IS NOT NULL OR r.touched_at <= now() - interval '` + lostAfter + `')`

type runRow struct {
	ID          string     `db:"id"`
	Name        string     `db:"name"`
	Host        string     `db:"host"`
	Place       string     `db:"place"`
	Branch      string     `db:"branch"`
	Commit      string     `db:"commit"`
	Shelf       string     `db:"shelf"`
	Requested   texts      `db:"requested"`
	NoReuse     bool       `db:"no_reuse"`
	Jobs        int        `db:"jobs"`
	Tasks       int        `db:"tasks"`
	Graph       []byte     `db:"graph"`
	Join        string     `db:"join_id"`
	Generated   bool       `db:"generated"`
	Began       time.Time  `db:"began"`
	Started     time.Time  `db:"started_at"`
	Finished    *time.Time `db:"finished_at"`
	Running     bool       `db:"running"`
	OK          bool       `db:"ok"`
	Interrupted bool       `db:"interrupted"`
	Seconds     float64    `db:"seconds"`
	Saved       float64    `db:"saved_seconds"`
	Cost        float64    `db:"cost_seconds"`
	Fetch       float64    `db:"fetch_seconds"`
	In          int64      `db:"bytes_in"`
	Out         int64      `db:"bytes_out"`
	Critical    float64    `db:"critical_seconds"`

	NCurrent    int `db:"n_current"`
	NCached     int `db:"n_cached"`
	NRestored   int `db:"n_restored"`
	NFetched    int `db:"n_fetched"`
	NRan        int `db:"n_ran"`
	NFailed     int `db:"n_failed"`
	NBlocked    int `db:"n_blocked"`
	NStopped    int `db:"n_stopped"`
	NNotStarted int `db:"n_not_started"`
}

const runColumns = `r.id, r.name, r.host, r.place, r.branch, r.commit, r.shelf, r.requested, r.no_reuse, r.jobs, r.tasks, r.graph,
	r.join_id, r.generated, r.began, r.started_at, r.finished_at,
	r.finished_at IS NULL AND r.touched_at > now() - interval '` + lostAfter + `' AS running,
	r.ok, r.interrupted, r.seconds, r.saved_seconds, r.cost_seconds, r.fetch_seconds, r.bytes_in, r.bytes_out, r.critical_seconds,
	r.n_current, r.n_cached, r.n_restored, r.n_fetched, r.n_ran, r.n_failed, r.n_blocked, r.n_stopped, r.n_not_started`

func (r runRow) row() protocol.RunRow {
	return protocol.RunRow{
		Run: protocol.Run{
			ID: r.ID, Name: r.Name, Host: r.Host, Place: r.Place, Branch: r.Branch, Commit: r.Commit, Shelf: r.Shelf,
			Requested: append([]string{}, r.Requested...), NoReuse: r.NoReuse, Jobs: r.Jobs, Tasks: r.Tasks, Started: r.Started.UTC(),
			Graph: asDigest(r.Graph), Join: r.Join,
		},
		Finished: r.Finished, Running: r.Running, Generated: r.Generated, FetchSeconds: r.Fetch, CriticalSeconds: r.Critical,
		RunFinish: protocol.RunFinish{
			OK: r.OK, Interrupted: r.Interrupted, Seconds: r.Seconds, SavedSeconds: r.Saved, CostSeconds: r.Cost,
			BytesIn: r.In, BytesOut: r.Out, Totals: map[string]int{
				"current": r.NCurrent, "cached": r.NCached, "restored": r.NRestored, "fetched": r.NFetched, "ran": r.NRan,
				"failed":  r.NFailed,
				"blocked": r.NBlocked, "stopped": r.NStopped, "not-started": r.NNotStarted,
			},
		},
	}
}

// Range limits a number; a nil end is open.
type Range struct{ Least, Most *float64 }

// RunFilter selects runs. Empty fields do not filter.
type RunFilter struct {
	Since, Until time.Time // by when they began
	Person       string
	Branch       string
	Place        string
	Shelf        string
	Commit       string // its start
	Outcome      string // passed, failed, interrupted, running or lost
	Task         string // it was not current there
	TaskOutcome  string // of Task
	Text         string // anywhere in what describes the run, or in a task that was not current
	Seconds      Range
	Saved        Range
	Cost         Range
	Ran          Range
}

// RunOrder says in which order runs are listed, and from where.
type RunOrder struct {
	Column    string // a key of runOrders; empty: when they began
	Ascending bool
	After     string // id of the last run of the previous page
	Skip      int
	Limit     int
}

// executed is how many tasks a run executed.
const executed = "(r.n_ran + r.n_failed)"

// runOrders are the columns by which runs are sorted.
var runOrders = map[string]string{
	"": "r.began", "began": "r.began", "took": "r.seconds", "saved": "r.saved_seconds", "cost": "r.cost_seconds",
	"ran": executed, "transferred": "r.bytes_in",
}

// RunOrders tells whether runs can be sorted by a column.
func RunOrders(column string) bool { _, ok := runOrders[column]; return ok }

// where collects conditions with their arguments.
type where struct {
	conditions []string
	args       []any
}

// add adds a condition. Each ? in it is the next of the arguments.
func (w *where) add(condition string, args ...any) {
	for _, a := range args {
		w.args = append(w.args, a)
		condition = strings.Replace(condition, "?", fmt.Sprintf("$%d", len(w.args)), 1)
	}
	w.conditions = append(w.conditions, condition)
}

func (w *where) equal(column, value string) {
	if value != "" {
		w.add(column+" = ?", value)
	}
}

func (w *where) within(column string, r Range) {
	if r.Least != nil {
		w.add(column+" >= ?", *r.Least)
	}
	if r.Most != nil {
		w.add(column+" <= ?", *r.Most)
	}
}

func (w *where) String() string { return strings.Join(w.conditions, " AND ") }

var runOutcomes = map[string]string{
	"passed":      "r.ok",
	"failed":      "r.finished_at IS NOT NULL AND NOT r.ok AND NOT r.interrupted",
	"interrupted": "r.interrupted",
	"running":     "r.finished_at IS NULL AND r.touched_at > now() - interval '" + lostAfter + "'",
	"lost":        "r.finished_at IS NULL AND r.touched_at <= now() - interval '" + lostAfter + "'",
}

// RunOutcomes tells whether runs can be filtered by an outcome.
func RunOutcomes(outcome string) bool { _, ok := runOutcomes[outcome]; return ok || outcome == "" }

// likePattern escapes a text for LIKE.
var likePattern = strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`)

// mostTextTasks is how many tasks may match a text so that it also finds the
// runs in which they did something; a text that matches more is too general.
const mostTextTasks = 20

func (db *DB) conditions(ctx context.Context, repository int64, f RunFilter) (*where, error) {
	w := &where{}
	w.add("r.repository_id = ?", repository)
	if !f.Since.IsZero() {
		w.add("r.began >= ?", f.Since)
	}
	if !f.Until.IsZero() {
		w.add("r.began < ?", f.Until)
	}
	w.equal("r.name", f.Person)
	w.equal("r.branch", f.Branch)
	w.equal("r.place", f.Place)
	w.equal("r.shelf", f.Shelf)
	if f.Commit != "" {
		w.add("r.commit LIKE ?", likePattern.Replace(strings.ToLower(f.Commit))+"%")
	}
	if c := runOutcomes[f.Outcome]; c != "" {
		w.add("(" + c + ")")
	}
	w.within("r.seconds", f.Seconds)
	w.within("r.saved_seconds", f.Saved)
	w.within("r.cost_seconds", f.Cost)
	w.within(executed, f.Ran)
	if f.Task != "" {
		w.withTask(repository, f)
	}
	if f.Text != "" {
		if err := db.addText(ctx, w, repository, f); err != nil {
			return nil, err
		}
	}
	return w, nil
}

// RunConditions returns the condition of a filter over runs r, with its
// arguments.
func (db *DB) RunConditions(ctx context.Context, repository int64, f RunFilter) (condition string, args []any, err error) {
	w, err := db.conditions(ctx, repository, f)
	if err != nil {
		return "", nil, err
	}
	return w.String(), w.args, nil
}

// withTask keeps the runs in which a task was not current.
func (w *where) withTask(repository int64, f RunFilter) {
	outcome := "t.outcome NOT IN ('current', 'not-started')"
	args := []any{repository, repository, f.Task, f.Since}
	if f.TaskOutcome != "" {
		outcome = "t.outcome = ?"
		args = append(args, f.TaskOutcome)
	}
	w.add(`r.id IN (SELECT t.run_id FROM run_tasks t WHERE t.repository_id = ?
		AND t.task_id = (SELECT id FROM tasks WHERE repository_id = ? AND name = ?) AND t.began >= ? AND `+outcome+`)`, args...)
}

// addText keeps the runs that a text describes, or that did something with a
// task of that name.
func (db *DB) addText(ctx context.Context, w *where, repository int64, f RunFilter) error {
	pattern := "%" + likePattern.Replace(strings.ToLower(f.Text)) + "%"
	var tasks []int64
	if err := db.SelectContext(ctx, &tasks, `
		SELECT id FROM tasks WHERE repository_id = $1 AND lower(name) LIKE $2 LIMIT $3`, repository, pattern, mostTextTasks+1); err != nil {
		return err
	}
	if len(tasks) == 0 || len(tasks) > mostTextTasks {
		w.add("r.words LIKE ?", pattern)
		return nil
	}
	w.add(`(r.words LIKE ? OR r.id IN (SELECT t.run_id FROM run_tasks t WHERE t.repository_id = ? AND t.task_id = ANY(?)
		AND t.began >= ? AND t.outcome NOT IN ('current', 'not-started')))`, pattern, repository, tasks, f.Since)
	return nil
}

// Runs returns a page of the runs that the filter selects, newest first or in
// another order, and how many there are in total.
func (db *DB) Runs(ctx context.Context, repository int64, f RunFilter, o RunOrder) (out []protocol.RunRow, total int, err error) {
	w, err := db.conditions(ctx, repository, f)
	if err != nil {
		return nil, 0, err
	}
	// The other parts, of which there are few, are counted apart: an index alone then answers the rest.
	if err := db.GetContext(ctx, &total, `
		SELECT (SELECT count(*) FROM runs r WHERE `+w.String()+`) -
			(SELECT count(*) FROM runs r WHERE `+w.String()+` AND r.follows)`, w.args...); err != nil {
		return nil, 0, err
	}
	w.add("NOT r.follows") // the first member of a join stands for all: its page shows them
	column, direction, beyond := runOrders[o.Column], "DESC", "<"
	if o.Ascending {
		direction, beyond = "ASC", ">"
	}
	if o.After != "" {
		w.add(fmt.Sprintf(`(%s, r.id) %s (SELECT %[1]s, r.id FROM runs r WHERE r.repository_id = ? AND r.id = ?)`, column, beyond),
			repository, o.After)
	}
	var rows []runRow
	err = db.SelectContext(ctx, &rows, fmt.Sprintf(`
		SELECT %s FROM runs r WHERE %s ORDER BY %s %[4]s, r.id %[4]s LIMIT %d OFFSET %d`,
		runColumns, w, column, direction, o.Limit, o.Skip), w.args...)
	out = make([]protocol.RunRow, len(rows))
	for i, r := range rows {
		out[i] = r.row()
	}
	return out, total, err
}

// RunFacets returns the values by which the runs since a moment can be
// filtered, by their frequency.
func (db *DB) RunFacets(ctx context.Context, repository int64, since time.Time) (protocol.Facets, error) {
	f := protocol.Facets{Places: []string{}, Branches: []string{}, People: []string{}, Shelves: []string{}}
	for column, to := range map[string]*[]string{"place": &f.Places, "branch": &f.Branches, "person": &f.People, "shelf": &f.Shelves} {
		if err := db.SelectContext(ctx, to, `
			SELECT `+column+` FROM run_hours WHERE repository_id = $1 AND hour >= date_trunc('hour', $2::timestamptz)
			GROUP BY 1 ORDER BY sum(runs) DESC, 1 LIMIT 200`, repository, since); err != nil {
			return f, err
		}
	}
	return f, nil
}
