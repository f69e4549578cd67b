package main

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/insight"
	"grayloft.example/grayloft/internal/service/records"
	"grayloft.example/grayloft/internal/trial"
)

func TestMain(m *testing.M) { trial.Main(m) }

// small fills a smaller archive into a database of its own, and returns what
// there is to ask.
func small(t *testing.T, plain bool) insight.Reader {
	t.Helper()
	db, err := records.Open(t.Context(), trial.Database(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	p := plan{seed: 3, runs: 2500, days: 50, until: time.Now(), people: 12}
	if err := archive(t.Context(), db, p, 60, plain); err != nil {
		t.Fatal(err)
	}
	declarations := insight.NewDeclarations(db)
	r := insight.Reader{DB: db, Now: time.Now()}
	if err := db.GetContext(t.Context(), &r.Repository, `SELECT id FROM repositories WHERE name = $1`, repository); err != nil {
		t.Fatal(err)
	}
	if r.Graph, err = declarations.Last(t.Context(), r.Repository); err != nil || r.Graph == nil {
		t.Fatal("the declarations:", err)
	}
	return r
}

func findings(t *testing.T, r insight.Reader) (found []string) {
	t.Helper()
	page, err := r.Advise(t.Context(), 9)
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range page.Findings {
		found = append(found, fmt.Sprint(f.Kind, " ", f.Task))
	}
	slices.Sort(found)
	return found
}

func TestTheAdviceFindsWhatIsPlantedAndNothingElse(t *testing.T) {
	want := []string{
		"flaky " + flakyTask, "never-shared " + lonelyTask, "not-reproducible " + randomTask, "not-worth-sharing " + slowTask,
		"reruns-for-nothing " + idleTask,
	}
	if got := findings(t, small(t, false)); !slices.Equal(got, want) {
		t.Errorf("the advice says %q, want %q", got, want)
	}
}

// Without anything planted the advice is silent. A generated run looks like a
// recorded one: its row says what its records say.
func TestAPlainArchive(t *testing.T) {
	r := small(t, true)
	if got := findings(t, r); len(got) > 0 {
		t.Errorf("the advice says %q", got)
	}
	list, total, err := r.DB.Runs(t.Context(), r.Repository, records.RunFilter{}, records.RunOrder{Limit: 100})
	if err != nil || total < 2000 {
		t.Fatal(total, err)
	}
	for _, row := range list {
		d, err := r.DB.Run(t.Context(), r.Repository, row.ID)
		if err != nil {
			t.Fatal(err)
		}
		counted, saved := map[string]int{}, 0.0
		for _, x := range d.Records {
			counted[x.Outcome]++
			if x.SavedSeconds != 0 {
				saved += x.SavedSeconds + x.Seconds
			}
		}
		if !row.Generated || len(d.Records) != row.Tasks || !agree(row, counted) || max(saved-row.SavedSeconds, row.SavedSeconds-saved) > 1e-6 {
			t.Errorf("run %s: %d tasks, %v, saved %v; its records: %d, %v, %v", row.ID, row.Tasks, row.Totals, row.SavedSeconds,
				len(d.Records), counted, saved)
		}
	}
}

func agree(row protocol.RunRow, counted map[string]int) bool {
	for outcome, n := range row.Totals {
		if counted[outcome] != n {
			return false
		}
	}
	return true
}
