package insight_test

import (
	"context"
	"encoding/base32"
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/junit"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/fleet"
	"grayloft.example/grayloft/internal/service/insight"
	"grayloft.example/grayloft/internal/service/records"
	"grayloft.example/grayloft/internal/trial"
)

func TestMain(m *testing.M) { trial.Main(m) }

// world is a repository with records.
type world struct {
	*testing.T
	db      *records.DB
	token   records.Token
	rollups *insight.Rollups
	reader  insight.Reader
	rnd     *rand.Rand
}

func newWorld(t *testing.T, seed uint64) *world {
	t.Helper()
	db, err := records.Open(t.Context(), trial.Database(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	secret, err := db.NewToken(t.Context(), records.Token{Repository: trial.Repository(t), Name: "ci", WritesTo: "trusted", ReadsFrom: []string{"trusted"}})
	if err != nil {
		t.Fatal(err)
	}
	token, err := db.FindToken(t.Context(), secret)
	if err != nil {
		t.Fatal(err)
	}
	declarations := insight.NewDeclarations(db)
	w := &world{t, db, token, &insight.Rollups{DB: db, Declarations: declarations}, insight.Reader{}, rand.New(rand.NewPCG(seed, 1))}
	w.reader = insight.Reader{DB: db, Repository: token.RepositoryID, Now: time.Now()}
	return w
}

// runID returns the id of a run that began at a moment.
func runID(at time.Time) string {
	id := uuid.Must(uuid.NewV7())
	for i := range 6 {
		id[i] = byte(at.UnixMilli() >> (40 - 8*i))
	}
	return strings.ToLower(base32.HexEncoding.WithPadding(base32.NoPadding).EncodeToString(id[:]))
}

const declarations = `schema = 1
[repo]
name = "test"
[task.rates]
run = "true"
reads = ["rates/*"]
writes = ["out/rates"]
probes = []
[task.fares]
run = "true"
reads = ["fares/*"]
writes = []
probes = []
after = ["rates"]
[task.test]
run = "true"
reads = ["test/*"]
writes = []
after = ["fares"]
`

var graph = protocol.Graph{Base: "test", Files: []protocol.DeclFile{{Path: "grayloft.toml", Text: declarations}}}

// record sends the events of a run, in random parts, some of them twice.
func (w *world) record(run protocol.Run, events []protocol.Event) {
	w.Helper()
	_, run.Graph = graph.Encode()
	if err := w.db.PutGraph(w.Context(), w.token.RepositoryID, graph); err != nil {
		w.Fatal(err)
	}
	if _, err := w.db.StartRun(w.Context(), w.token, run); err != nil {
		w.Fatal(err)
	}
	for i := range events {
		events[i].Seq = int64(i + 1)
	}
	for sent := 0; sent < len(events); {
		n := min(len(events), sent+1+w.rnd.IntN(4))
		if _, err := w.db.AddEvents(w.Context(), w.token, run.ID, events[max(0, sent-w.rnd.IntN(2)):n]); err != nil {
			w.Fatal(err)
		}
		sent = n
	}
}

var outcomes = []string{"current", "cached", "restored", "fetched", "ran", "failed", "blocked", "stopped"}

// random records a random run at a moment.
func (w *world) random(at time.Time) protocol.Run {
	run := protocol.Run{
		ID: runID(at), Host: "h", Place: []string{"harbour", "office", "home"}[w.rnd.IntN(3)], Branch: []string{"main", "rates"}[w.rnd.IntN(2)],
		Commit: fmt.Sprintf("%040x", w.rnd.IntN(50)), Requested: []string{"test"}, Jobs: 2, Tasks: 3, Started: at,
	}
	var events []protocol.Event
	clock := 0.0
	for _, task := range []string{"rates@test", "fares@test", "test@test"} {
		r := w.task(task, clock)
		clock += r.Seconds
		events = append(events, protocol.Event{Start: &protocol.TaskStart{Task: task, At: r.At}}, protocol.Event{Task: &r})
		if r.Outcome == "ran" || r.Outcome == "failed" {
			cases := []junit.Case{{Name: "TestTide", Result: junit.Passed}, {Name: "TestFog", Result: []junit.Result{junit.Passed, junit.Failed}[w.rnd.IntN(2)]}}
			events = append(events, protocol.Event{Tests: &protocol.TaskTests{Task: task, Cases: cases}})
		}
	}
	if w.rnd.IntN(10) > 0 {
		events = append(events, protocol.Event{Finish: &protocol.RunFinish{
			OK: w.rnd.IntN(4) > 0, Seconds: clock + 1, CostSeconds: w.rnd.Float64(), BytesOut: 7, Sent: map[string]int64{"rates@test": 7},
		}})
	}
	w.record(run, events)
	return run
}

func (w *world) task(name string, at float64) protocol.TaskRecord {
	r := protocol.TaskRecord{
		Task: name, Project: "test", Outcome: outcomes[w.rnd.IntN(len(outcomes))], At: at, Seconds: w.rnd.Float64() * 9,
		Key: digest.Of([]byte{byte(w.rnd.IntN(20))}), Listing: digest.Of([]byte{byte(w.rnd.IntN(3))}),
	}
	switch r.Outcome {
	case "ran", "failed":
		r.RunSeconds, r.Attempt, r.Reason, r.Compared = r.Seconds, 1, []string{"files", "new", "upstream"}[w.rnd.IntN(3)], "before"
		for range w.rnd.IntN(4) {
			r.Changed = append(r.Changed, []string{"rates/a.csv", "rates/deep/b.csv", "fares/c.csv", "grayloft.toml"}[w.rnd.IntN(4)])
		}
		r.ChangedCount = len(r.Changed)
		same := w.rnd.IntN(2) == 0
		r.SameOutputs = &same
	case "cached", "restored":
		r.SavedSeconds = 4 - r.Seconds
	case "fetched":
		r.SavedSeconds, r.BytesIn, r.FetchSeconds = 4-r.Seconds, int64(w.rnd.IntN(1e6)), r.Seconds
		r.MadeBy = &protocol.Maker{Name: "ci", Host: "h", Place: "harbour", Run: "r", At: time.Now()}
	}
	return r
}

// cells returns every row of every rollup, as text.
func (w *world) cells() map[string][]string {
	w.Helper()
	out := map[string][]string{}
	for _, table := range []string{"run_hours", "task_weeks", "task_repeats", "task_causes", "unstable_keys"} {
		rows := []string{}
		// Sums of floating-point numbers depend on their order.
		if err := w.db.SelectContext(w.Context(), &rows, `
			SELECT regexp_replace(t::text, '(\d+\.\d{6})\d*', '\1', 'g') FROM `+table+` t WHERE repository_id = $1 ORDER BY 1`, w.token.RepositoryID); err != nil {
			w.Fatal(err)
		}
		out[table] = rows
	}
	return out
}

// Runs come in any order, are rolled up one by one, some of them several times:
// the rollups equal those that are computed from all records at once.
func TestRollupsEqualWhatTheRecordsSay(t *testing.T) {
	t.Parallel()
	for seed := range uint64(3) {
		w := newWorld(t, seed)
		var runs []protocol.Run
		for range 60 {
			runs = append(runs, w.random(time.Now().Add(-time.Duration(w.rnd.IntN(20*24))*time.Hour-time.Duration(w.rnd.IntN(3600))*time.Second)))
			for range w.rnd.IntN(3) {
				if err := w.rollups.Roll(t.Context(), w.token.RepositoryID, runs[w.rnd.IntN(len(runs))].ID); err != nil {
					t.Fatal(err)
				}
			}
		}
		w.rnd.Shuffle(len(runs), func(i, j int) { runs[i], runs[j] = runs[j], runs[i] })
		for _, r := range runs {
			if err := w.rollups.Roll(t.Context(), w.token.RepositoryID, r.ID); err != nil {
				t.Fatal(err)
			}
		}
		step := w.cells()
		if err := w.rollups.Rebuild(t.Context(), w.token.RepositoryID); err != nil {
			t.Fatal(err)
		}
		for table, rows := range w.cells() {
			if len(rows) == 0 || !reflect.DeepEqual(rows, step[table]) {
				t.Errorf("seed %d: %s differs: %d rows step by step, %d at once\n%v\n%v", seed, table, len(step[table]), len(rows), step[table], rows)
			}
		}
		w.checkFigures()
	}
}

// checkFigures compares what pages show with what simple queries over the raw
// records say.
func (w *world) checkFigures() {
	w.Helper()
	var raw struct {
		Runs  int     `db:"runs"`
		Saved float64 `db:"saved"`
		Bytes int64   `db:"bytes"`
	}
	if err := w.db.GetContext(w.Context(), &raw, `
		SELECT count(DISTINCT r.id) AS runs, sum(CASE WHEN t.saved_seconds <> 0 THEN t.saved_seconds + t.seconds ELSE 0 END) AS saved, sum(t.bytes_in)::bigint AS bytes
		FROM runs r JOIN run_tasks t ON t.run_id = r.id WHERE r.repository_id = $1 AND r.finished_at IS NOT NULL`, w.token.RepositoryID); err != nil {
		w.Fatal(err)
	}
	near := func(a, b float64) bool { return a-b < 1e-6 && b-a < 1e-6 }
	f := records.RunFilter{Since: time.Now().AddDate(0, 0, -30), Until: time.Now().Add(time.Minute)}
	for _, by := range []string{"place", "branch", "person", "shelf"} {
		for _, text := range []string{"", "test"} { // with a text, the rows of runs are added up
			f.Text = text
			b, err := w.reader.Balance(w.Context(), f, by, 50)
			if err != nil || b.Total.Runs != raw.Runs || !near(b.Total.SavedSeconds, raw.Saved) || b.Total.BytesIn != raw.Bytes {
				w.Errorf("by %s, text %q: %+v, %v; the records say %+v", by, text, b.Total, err, raw)
			}
		}
	}
	page, err := w.reader.Tasks(w.Context(), insight.TaskFilter{Weeks: 5, Limit: 10})
	if err != nil || len(page.Tasks) != 3 {
		w.Fatal(page, err)
	}
	for _, row := range page.Tasks {
		var n, failed int64
		if err := w.db.QueryRowContext(w.Context(), `
			SELECT count(*) FILTER (WHERE outcome IN ('ran', 'failed')), count(*) FILTER (WHERE outcome = 'failed')
			FROM run_tasks t JOIN tasks n ON n.id = t.task_id WHERE t.repository_id = $1 AND n.name = $2 AND NOT t.running`,
			w.token.RepositoryID, row.Task).Scan(&n, &failed); err != nil || n != row.Executed || failed != row.Failed {
			w.Errorf("%s: %d executed, %d failed; the records say %d and %d; %v", row.Task, row.Executed, row.Failed, n, failed, err)
		}
	}
}

func TestARunOfSeveralMachinesCountsOnce(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 10)
	now := time.Now()
	var first []string
	members := fleet.New(w.db, 0)
	for i := range 12 {
		at := now.Add(-time.Duration(i) * time.Minute)
		run := protocol.Run{ID: runID(at), Host: "h", Place: "office", Branch: "main", Requested: []string{"build"}, Started: at}
		if i < 8 { // members of two joins, and an impostor of each: the first recorded member stands for all
			run.Join = fmt.Sprint("join-", i%2)
			if i < 6 {
				if _, err := members.Join(t.Context(), w.token, protocol.JoinHello{ID: run.Join, Plan: digest.Of([]byte(run.Join)), Run: run.ID}); err != nil {
					t.Fatal(err)
				}
			}
		}
		w.record(run, []protocol.Event{{Finish: &protocol.RunFinish{OK: true, Seconds: 1}}})
		if i < 2 || i >= 6 {
			first = append(first, run.ID)
		}
	}
	for _, f := range []records.RunFilter{{}, {Since: now.Add(-time.Hour)}, {Branch: "main"}, {Place: "office", Since: now.Add(-time.Hour)}} {
		rows, total, err := w.db.Runs(t.Context(), w.token.RepositoryID, f, records.RunOrder{Limit: 100})
		if err != nil || total != len(rows) {
			t.Errorf("%+v: %d rows of %d, %v", f, len(rows), total, err)
		}
		for _, row := range rows {
			if !slices.Contains(first, row.ID) {
				t.Errorf("%+v: another part of a run is listed", f)
			}
		}
		if f.Branch == "" && f.Place == "" && total != len(first) {
			t.Errorf("%+v: %d runs instead of %d", f, total, len(first))
		}
	}
}

func TestEveryFilterFindsWhatIsOnTheLastPage(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 9)
	oldest := time.Now().Add(-200 * time.Hour)
	special := protocol.Run{ // the branch has letters that no run id has, which texts are searched for in as well
		ID: runID(oldest), Host: "h", Place: "lighthouse", Branch: "foxy", Commit: "feed" + strings.Repeat("0", 36), Requested: []string{"signal"}, Started: oldest,
	}
	same := false
	w.record(special, []protocol.Event{
		{Task: &protocol.TaskRecord{Task: "signal@tower", Project: "tower", Outcome: "failed", Seconds: 500, RunSeconds: 500, SameOutputs: &same}},
		{Finish: &protocol.RunFinish{Seconds: 5000, CostSeconds: 50}},
	})
	for i := range 30 {
		w.random(time.Now().Add(-time.Duration(i) * time.Hour))
	}
	number := func(n float64) *float64 { return &n }
	for name, f := range map[string]records.RunFilter{
		"place": {Place: "lighthouse"}, "branch": {Branch: "foxy"}, "commit": {Commit: "feed"}, "task": {Task: "signal@tower"},
		"text of a task": {Text: "SIGNAL@"}, "text of a branch": {Text: "foxy"}, "took": {Seconds: records.Range{Least: number(4000)}},
		"cost": {Cost: records.Range{Least: number(40)}}, "outcome of a task": {Task: "signal@tower", TaskOutcome: "failed"},
		"time": {Until: time.Now().Add(-100 * time.Hour)},
	} {
		rows, total, err := w.db.Runs(t.Context(), w.token.RepositoryID, f, records.RunOrder{Limit: 5})
		if err != nil || total != 1 || len(rows) != 1 || rows[0].ID != special.ID {
			t.Errorf("%s: %d of %d, %v", name, len(rows), total, err)
		}
	}
	// Pages by the last id and by position, in each order, contain every run once.
	for _, column := range []string{"", "took", "saved", "cost", "ran", "transferred"} {
		for _, up := range []bool{true, false} {
			var byID, bySkip []string
			for after, more := "", true; more; {
				rows, _, err := w.db.Runs(t.Context(), w.token.RepositoryID, records.RunFilter{}, records.RunOrder{Column: column, Ascending: up, After: after, Limit: 7})
				if err != nil {
					t.Fatal(err)
				}
				next, _, _ := w.db.Runs(t.Context(), w.token.RepositoryID, records.RunFilter{}, records.RunOrder{Column: column, Ascending: up, Skip: len(byID), Limit: 7})
				for i := range rows {
					byID, bySkip = append(byID, rows[i].ID), append(bySkip, next[i].ID)
				}
				if more = len(rows) == 7; more {
					after = rows[6].ID
				}
			}
			if len(byID) != 31 || !reflect.DeepEqual(byID, bySkip) {
				t.Errorf("by %q: %d runs", column, len(byID))
			}
		}
	}
}

func TestRowsMoveToAPartitionThatIsMadeLater(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 4)
	at := time.Date(2019, 5, 4, 12, 0, 0, 0, time.UTC) // no partition
	run := w.random(at)
	count := func(table string) (n int) {
		if err := w.db.GetContext(context.Background(), &n, `SELECT count(*) FROM `+table+` WHERE repository_id = $1`, w.token.RepositoryID); err != nil {
			t.Fatal(err)
		}
		return n
	}
	if count("run_tasks_other") != 3 {
		t.Fatal("the records are not in the default partition")
	}
	if err := w.db.EnsurePartitions(t.Context(), at, at); err != nil {
		t.Fatal(err)
	}
	if count("run_tasks_other") != 0 || count("run_tasks_2019_05") != 3 {
		t.Error("the records did not move")
	}
	if d, err := w.db.Run(t.Context(), w.token.RepositoryID, run.ID); err != nil || len(d.Records) != 3 {
		t.Errorf("%d records, %v", len(d.Records), err)
	}
}

// Beyond twelve groups, the others are added up, and come last however much they
// saved.
func TestTheOtherGroupsComeLast(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 6)
	for i := range 20 {
		at := time.Now().Add(-time.Duration(i+1) * time.Hour)
		run := protocol.Run{ID: runID(at), Host: "h", Place: "home", Branch: fmt.Sprintf("b%02d", i), Requested: []string{"test"}, Tasks: 1, Started: at}
		saved := 1000.0 - float64(i)
		w.record(run, []protocol.Event{
			{Task: &protocol.TaskRecord{Task: "test@test", Project: "test", Outcome: "cached", SavedSeconds: saved}},
			{Finish: &protocol.RunFinish{OK: true, Seconds: 1}},
		})
		if err := w.rollups.Roll(t.Context(), w.token.RepositoryID, run.ID); err != nil {
			t.Fatal(err)
		}
	}
	b, err := w.reader.Balance(t.Context(), records.RunFilter{Since: time.Now().AddDate(0, 0, -2), Until: time.Now()}, "branch", 20)
	if err != nil || len(b.Groups) != 12 {
		t.Fatal(len(b.Groups), err)
	}
	if first, last := b.Groups[0], b.Groups[11]; first.Name != "b00" || last.Name != "others" || last.Total.Runs != 9 || last.Total.SavedSeconds <= first.Total.SavedSeconds {
		t.Errorf("first %s, last %s with %d runs", first.Name, last.Name, last.Total.Runs)
	}
}
