package fleet_test

import (
	"testing"

	"grayloft.example/grayloft/internal/core/fleet"
)

func TestARequestIsAsGoodAsItsWorstJob(t *testing.T) {
	const q, r, p, f, c, l = fleet.Queued, fleet.Running, fleet.Passed, fleet.Failed, fleet.Cancelled, fleet.Lost
	for _, x := range []struct {
		jobs []fleet.State
		want fleet.State
	}{
		{[]fleet.State{q, q}, q}, {[]fleet.State{q, r}, r}, {[]fleet.State{p, q}, r}, {[]fleet.State{f, r}, r},
		{[]fleet.State{p, p}, p}, {[]fleet.State{p, l}, l}, {[]fleet.State{l, f}, f}, {[]fleet.State{f, c}, c},
	} {
		if got := fleet.Of(x.jobs); got != x.want {
			t.Errorf("%v: %s, not %s", x.jobs, got, x.want)
		}
	}
}

func TestALostJobIsTriedAgainUnlessCancelled(t *testing.T) {
	for _, x := range []struct {
		losses, attempts int
		cancelled        bool
		want             fleet.State
	}{
		{1, 1, false, fleet.Queued}, {2, 5, false, fleet.Queued}, {3, 3, false, fleet.Lost}, {1, 1, true, fleet.Cancelled},
		{0, 19, false, fleet.Queued}, {0, 20, false, fleet.Lost},
	} {
		if got := fleet.AfterLoss(x.losses, x.attempts, x.cancelled); got != x.want {
			t.Errorf("%d losses, %d attempts, cancelled %v: %s, not %s", x.losses, x.attempts, x.cancelled, got, x.want)
		}
	}
}

func TestOnlyProtectedJobsWriteToTheTrustedShelf(t *testing.T) {
	for _, x := range []struct {
		writes    string
		protected bool
		branch    string
		want      string
	}{
		{"person/kari", false, "main", "person/kari"},
		{"person/kari", true, "main", "trusted"},
		{"trusted", false, "main", "branch/main"},
		{"trusted", false, "", "branch/detached"},
		{"branch/*", false, "quay", "branch/quay"},
		{"person/*", false, "main", "person/kari"},
	} {
		if got := (fleet.Asker{Name: "kari", WritesTo: x.writes}).Shelf(x.protected, x.branch); got != x.want {
			t.Errorf("%+v: %s, not %s", x, got, x.want)
		}
	}
}

func TestProtectedRefsAreBranchesOrPatterns(t *testing.T) {
	p := fleet.Protection{Refs: []string{"main", "release/*"}, Pools: []string{"deploy"}}
	if err := p.Check(); err != nil {
		t.Fatal(err)
	}
	for branch, want := range map[string]bool{"main": true, "release/4": true, "release/4/x": false, "mainly": false, "": false} {
		if p.HasRef(branch) != want {
			t.Errorf("%q: %v", branch, !want)
		}
	}
	for _, bad := range []fleet.Protection{{Refs: []string{""}}, {Refs: []string{"[x"}}, {Refs: []string{"--all"}}, {Pools: []string{"A b"}}} {
		if bad.Check() == nil {
			t.Errorf("%+v was accepted", bad)
		}
	}
}

func TestBranchesHaveNamesThatGitAccepts(t *testing.T) {
	for _, good := range []string{"main", "release/4", "kari/FARE-12_x", "a.b", "ø/æ", "a@b"} {
		if err := fleet.CheckBranch(good); err != nil {
			t.Error(err)
		}
	}
	for _, bad := range []string{"", "-x", "a..b", "a b", "a~1", "a^", "a:b", "a?", "a*", "a[", "a\\b", "/a", "a/", "a//b", ".a", "a/.b", "a.", "a.lock", "a.lock/b", "a@{1}", "@", "a\nb", "HEAD"} {
		if fleet.CheckBranch(bad) == nil {
			t.Errorf("%q was accepted", bad)
		}
	}
}

// Whoever has many requests open waits for those of others, whatever the priority.
func TestManyRequestsOfOneTakeTheirTurn(t *testing.T) {
	for _, x := range []struct{ priority, open, want int }{{1, 0, 1}, {1, 9, 1}, {1, 10, 2}, {2, 25, 4}, {3, 3000, 4}} {
		if got := fleet.Turn(x.priority, x.open); got != x.want {
			t.Errorf("priority %d with %d open: %d, not %d", x.priority, x.open, got, x.want)
		}
	}
}
