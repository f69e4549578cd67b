package fleet_test

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/fleet"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/remote"
	"grayloft.example/grayloft/internal/service"
	"grayloft.example/grayloft/internal/service/records"
	"grayloft.example/grayloft/internal/trial"
)

func TestMain(m *testing.M) { trial.Main(m) }

const commit = "0123456789abcdef0123456789abcdef01234567"

// team is a service with somebody who requests runs, and runners of the pool linux.
type team struct {
	*trial.Service
	t      *testing.T
	person *remote.Client
}

func newTeam(t *testing.T, lease time.Duration) *team {
	t.Parallel()
	s := trial.ServeWith(t, func(c *service.Config) { c.RunnerLease = lease })
	x := &team{Service: s, t: t}
	x.person = x.client(records.Token{Name: "kari", WritesTo: "person/kari", ReadsFrom: []string{"person/kari", "trusted"}, MayRequest: true})
	return x
}

func (x *team) client(t records.Token) *remote.Client {
	x.t.Helper()
	t.Repository = x.Repo
	secret, err := x.DB.NewToken(context.Background(), t)
	if err != nil {
		x.t.Fatal(err)
	}
	return remote.New(x.URL, x.Repo, secret, nil)
}

// runner is a runner that carries nothing out: the tests say what it does.
type runner struct {
	*remote.Client
	x     *team
	id    int64
	known protocol.RunnerKnown
}

func (x *team) runner(name, pool string) *runner {
	x.t.Helper()
	r := &runner{Client: x.client(records.Token{Name: name, Serves: []string{pool}}), x: x}
	r.register(name, pool)
	return r
}

func (r *runner) register(name, pool string) {
	r.x.t.Helper()
	known, err := r.Register(r.x.t.Context(), protocol.RunnerHello{Name: name, Pool: pool, Host: "h", Platform: "p", Slots: 2, Jobs: 1})
	if err != nil {
		r.x.t.Fatal(err)
	}
	r.id, r.known = known.ID, known
}

// next asks once, and says what the runner does.
func (r *runner) next(free int, has ...int64) protocol.WorkAnswer {
	r.x.t.Helper()
	a, err := r.NextWork(r.x.t.Context(), r.id, protocol.WorkQuestion{Free: free, Jobs: append([]int64{}, has...)})
	if err != nil {
		r.x.t.Fatal(err)
	}
	return a
}

// job asks until there is a job.
func (r *runner) job() *protocol.Work {
	r.x.t.Helper()
	for range 100 {
		if a := r.next(1); a.Job != nil {
			return a.Job
		}
	}
	r.x.t.Fatal("no job came")
	return nil
}

func (r *runner) start(w *protocol.Work, ref string) (string, error) {
	s, err := r.StartJob(r.x.t.Context(), w.Job, protocol.JobStart{Attempt: w.Attempt, Commit: commit, Ref: ref})
	return s.Token, err
}

func (r *runner) end(w *protocol.Work, s fleet.State) error {
	return r.EndJob(r.x.t.Context(), w.Job, protocol.JobEnd{Attempt: w.Attempt, State: s})
}

// request makes a request.
func (x *team) request(change func(*protocol.Ask)) int64 {
	x.t.Helper()
	a := protocol.Ask{Pool: "linux", Tasks: []string{"test"}, Branch: "main"}
	if change != nil {
		change(&a)
	}
	made, err := x.person.Request(x.t.Context(), a)
	if err != nil {
		x.t.Fatal(err)
	}
	return made.ID
}

func (x *team) state(id int64) protocol.Request {
	x.t.Helper()
	q, err := x.person.RequestOf(x.t.Context(), id)
	if err != nil {
		x.t.Fatal(err)
	}
	return q
}

// awaitState waits until a request has a state.
func (x *team) awaitState(id int64, want fleet.State) protocol.Request {
	x.t.Helper()
	var q protocol.Request
	for range 200 {
		if q = x.state(id); q.State == want {
			return q
		}
		time.Sleep(50 * time.Millisecond)
	}
	x.t.Fatalf("request %d is %s, not %s: %+v", id, q.State, want, q.Jobs)
	return q
}

func TestARequestIsCarriedOutOnce(t *testing.T) {
	x := newTeam(t, 0)
	r := x.runner("north", "linux")
	id := x.request(func(a *protocol.Ask) { a.Sets = []string{"optimise=speed"} })
	w := r.job()
	if w.Request != id || w.Attempt != 1 || w.Shelf != "person/kari" || !slices.Equal(w.Ask.Sets, []string{"optimise=speed"}) {
		t.Errorf("%+v", w)
	}
	if q := x.state(id); q.State != fleet.Running || q.Jobs[0].Runner != "north" {
		t.Errorf("%+v", q)
	}
	secret, err := r.start(w, "")
	if err != nil {
		t.Fatal(err)
	}
	// The job's token writes to the person's shelf, for as long as the job runs.
	own := remote.New(x.URL, x.Repo, secret, nil)
	self, err := own.Self(t.Context())
	if err != nil || self.Name != "kari" || self.WritesTo != "person/kari" || self.Request || self.View || len(self.Serves) > 0 ||
		!slices.Equal(self.ReadsFrom, []string{"person/kari", "trusted"}) {
		t.Errorf("%+v, %v", self, err)
	}
	// The token ends at once where the job ended, even if the database tells nobody.
	if _, err := x.DB.ExecContext(t.Context(), `
		SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = current_database() AND query ILIKE 'listen %'`); err != nil {
		t.Fatal(err)
	}
	if err := r.end(w, fleet.Passed); err != nil {
		t.Fatal(err)
	}
	if _, err := own.Self(t.Context()); err == nil {
		t.Error("the token of a job outlives it")
	}
	if q := x.state(id); q.State != fleet.Passed || q.Ended == nil || q.Jobs[0].Commit != commit {
		t.Errorf("%+v", q)
	}
	if list, err := x.DB.Tokens(t.Context(), x.Repo); err != nil || len(list) != 2 {
		t.Errorf("tokens of jobs are listed: %+v, %v", list, err)
	}
	if err := r.end(w, fleet.Failed); !errors.Is(err, protocol.ErrGone) {
		t.Errorf("a job ended twice: %v", err)
	}
}

func TestEveryRequestOfManyIsHandedOutOnce(t *testing.T) {
	const requests, runners = 1000, 10
	x := newTeam(t, 0)
	var wg sync.WaitGroup
	for i := range 8 {
		wg.Go(func() {
			for range requests / 8 {
				if _, err := x.person.Request(t.Context(), protocol.Ask{Pool: "linux", Tasks: []string{"test"}, Branch: fmt.Sprint("b", i)}); err != nil {
					t.Error(err)
				}
			}
		})
	}
	var mu sync.Mutex
	got := map[int64]int{}
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	for i := range runners {
		r := x.runner(fmt.Sprint("north-", i), "linux")
		wg.Go(func() {
			for ctx.Err() == nil {
				a, err := r.NextWork(ctx, r.id, protocol.WorkQuestion{Free: 1, Jobs: []int64{}})
				if err != nil || a.Job == nil {
					continue
				}
				if err := r.end(a.Job, fleet.Passed); err != nil {
					t.Error(err)
				}
				mu.Lock()
				if got[a.Job.Request]++; len(got) == requests {
					cancel()
				}
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	for id, n := range got {
		if n != 1 {
			t.Errorf("request %d was handed out %d times", id, n)
		}
	}
	if len(got) != requests {
		t.Errorf("%d requests were handed out", len(got))
	}
}

func TestTheQueueGoesByPriorityAndThenByAge(t *testing.T) {
	x := newTeam(t, 0)
	low := x.request(func(a *protocol.Ask) { a.Priority = protocol.PriorityLow })
	first, second := x.request(nil), x.request(nil)
	high := x.request(func(a *protocol.Ask) { a.Priority = protocol.PriorityHigh })
	other := x.request(func(a *protocol.Ask) { a.Pool = "mac" })
	if q := x.state(low); q.Ahead != 3 {
		t.Errorf("%d are said to wait before the low one", q.Ahead)
	}
	r := x.runner("north", "linux")
	for _, want := range []int64{high, first, second, low} {
		w := r.job()
		if w.Request != want {
			t.Errorf("request %d came, not %d", w.Request, want)
		}
		if err := r.end(w, fleet.Passed); err != nil {
			t.Fatal(err)
		}
	}
	if q := x.state(other); q.State != fleet.Queued {
		t.Errorf("a job of another pool is %s", q.State)
	}
}

func TestAJobOfARunnerThatDoesNotReportGoesToAnother(t *testing.T) {
	x := newTeam(t, time.Second)
	lost, other := x.runner("lost", "linux"), x.runner("other", "linux")
	id := x.request(nil)
	w := lost.job()
	secret, err := lost.start(w, "")
	if err != nil {
		t.Fatal(err)
	}
	again := other.job() // after the lease
	if again.Job != w.Job || again.Attempt != 2 {
		t.Fatalf("%+v", again)
	}
	// The first runner can do nothing for the job any more, and neither can its token.
	if a := lost.next(0, w.Job); !slices.Equal(a.Gone, []int64{w.Job}) {
		t.Errorf("%+v", a)
	}
	if err := lost.end(w, fleet.Passed); !errors.Is(err, protocol.ErrGone) {
		t.Errorf("a lost runner ended a job: %v", err)
	}
	if _, err := remote.New(x.URL, x.Repo, secret, nil).Self(t.Context()); err == nil {
		t.Error("the token of a lost attempt is valid")
	}
	if err := other.end(again, fleet.Passed); err != nil {
		t.Fatal(err)
	}
	x.awaitState(id, fleet.Passed)
	out, err := x.person.OutputOf(t.Context(), id, 0, 0)
	if err != nil || len(out.Lines) != 1 || !strings.Contains(out.Lines[0].Text, "runner lost: it does not report any more; another runner starts again") {
		t.Errorf("%+v, %v", out, err)
	}
}

func TestAJobThatLosesThreeRunnersIsLost(t *testing.T) {
	x := newTeam(t, 0)
	r := x.runner("north", "linux")
	id := x.request(nil)
	for range 2 {
		if err := r.end(r.job(), fleet.Queued); err != nil { // the runner ends: that counts as nothing
			t.Fatal(err)
		}
	}
	for range fleet.MaxLosses {
		if err := r.EndJob(t.Context(), id, protocol.JobEnd{}); err == nil {
			t.Fatal("an end without a state was accepted")
		}
		w := r.job()
		if err := r.end(w, fleet.Lost); err != nil {
			t.Fatal(err)
		}
	}
	q := x.awaitState(id, fleet.Lost)
	if q.Jobs[0].Attempt != 5 {
		t.Errorf("%+v", q.Jobs)
	}
}

// An answer that never arrived is no reason to wait for the end of the lease.
func TestAJobThatItsRunnerDoesNotKnowGoesToAnother(t *testing.T) {
	x := newTeam(t, time.Hour)
	r, other := x.runner("north", "linux"), x.runner("other", "linux")
	id := x.request(nil)
	r.job()
	r.next(0) // without the job
	if w := other.job(); w.Request != id || w.Attempt != 2 {
		t.Errorf("%+v", w)
	}
	// Neither do those of a runner that says that it ends, or that starts again.
	if err := other.LeaveFleet(t.Context(), other.id); err != nil {
		t.Fatal(err)
	}
	if w := r.job(); w.Attempt != 3 {
		t.Errorf("%+v", w)
	}
	again := &runner{Client: r.Client, x: x}
	known, err := again.Register(t.Context(), protocol.RunnerHello{Name: "north", Pool: "linux", Slots: 1, Jobs: 1, Replaces: r.id})
	if err != nil {
		t.Fatal(err)
	}
	again.id = known.ID
	if q := x.awaitState(id, fleet.Lost); q.Jobs[0].Attempt != 3 { // the third runner that was lost
		t.Errorf("%+v", q)
	}
	// Nobody replaces a runner of another token.
	if _, err := other.Register(t.Context(), protocol.RunnerHello{Name: "o", Pool: "linux", Slots: 1, Jobs: 1, Replaces: again.id}); err != nil {
		t.Fatal(err)
	}
	if f, err := x.person.FleetNow(t.Context()); err != nil || !slices.ContainsFunc(f.Runners, func(r protocol.Runner) bool {
		return r.ID == again.id && r.State == "idle"
	}) {
		t.Errorf("%+v, %v", f.Runners, err)
	}
}

func TestCancellingReachesARunnerAtOnce(t *testing.T) {
	x := newTeam(t, 0)
	r := x.runner("north", "linux")
	waiting, running := x.request(nil), int64(0)
	w := r.job()
	running, waiting = waiting, x.request(nil)
	told := make(chan time.Time, 1)
	go func() {
		a, err := r.NextWork(t.Context(), r.id, protocol.WorkQuestion{Jobs: []int64{w.Job}})
		if err == nil && slices.Equal(a.Cancel, []int64{w.Job}) {
			told <- time.Now()
		}
		close(told)
	}()
	time.Sleep(100 * time.Millisecond) // so that it waits
	began := time.Now()
	for _, id := range []int64{running, waiting} {
		if err := x.person.CancelRequest(t.Context(), id); err != nil {
			t.Fatal(err)
		}
	}
	at, ok := <-told
	if !ok || at.Sub(began) > 2*time.Second {
		t.Errorf("the runner was told after %s", at.Sub(began))
	}
	if q := x.state(waiting); q.State != fleet.Cancelled || q.CancelledBy != "kari" {
		t.Errorf("%+v", q)
	}
	// However the runner puts it, the request was cancelled.
	if err := r.end(w, fleet.Failed); err != nil {
		t.Fatal(err)
	}
	x.awaitState(running, fleet.Cancelled)
	if a := r.next(1); a.Job != nil {
		t.Errorf("a cancelled request was handed out: %+v", a.Job)
	}
}

// Handing a job over and cancelling its request lock the two in one order.
func TestHandingOverDoesNotDeadlockWithCancelling(t *testing.T) {
	x := newTeam(t, 0)
	id := x.request(nil)
	tx, err := x.DB.BeginTxx(t.Context(), nil)
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Rollback()
	if _, err := tx.Exec(`SELECT FROM requests WHERE id = $1 FOR UPDATE`, id); err != nil {
		t.Fatal(err)
	}
	r := x.runner("north", "linux")
	answer := make(chan protocol.WorkAnswer, 1)
	go func() { answer <- r.next(1) }()
	trial.Wait(t, "the job being handed over", func() bool {
		blocked := 0
		err := x.DB.Get(&blocked, `
			SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND wait_event_type = 'Lock'`)
		return err == nil && blocked > 0
	})
	if _, err := tx.Exec(`SET LOCAL deadlock_timeout = '10ms'; UPDATE jobs SET state = 'cancelled', ended_at = now() WHERE request_id = ` +
		fmt.Sprint(id)); err != nil {
		t.Fatal(err)
	}
	if err := tx.Commit(); err != nil {
		t.Fatal(err)
	}
	if a := <-answer; a.Job != nil {
		t.Errorf("a cancelled job was handed out: %+v", a.Job)
	}
}

// The job is cancelled between the choice of a runner and the moment in which it becomes the
// runner's.
func TestARunnerIsAnsweredWhenNothingComesOfAnOffer(t *testing.T) {
	x := newTeam(t, 0)
	id := x.request(nil)
	tx, err := x.DB.BeginTxx(t.Context(), nil)
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Rollback()
	if _, err := tx.Exec(`SELECT 1 FROM jobs WHERE request_id = $1 FOR UPDATE`, id); err != nil {
		t.Fatal(err)
	}
	r := x.runner("north", "linux")
	answer := make(chan protocol.WorkAnswer, 1)
	go func() { answer <- r.next(1) }()
	blocked := 0
	for range 200 {
		if err := x.DB.Get(&blocked, `
			SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND wait_event_type = 'Lock'`); err != nil {
			t.Fatal(err)
		}
		if blocked > 0 {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	if blocked == 0 {
		t.Fatal("the job was not offered")
	}
	if _, err := tx.Exec(`UPDATE jobs SET state = 'cancelled' WHERE request_id = $1`, id); err != nil {
		t.Fatal(err)
	}
	if err := tx.Commit(); err != nil {
		t.Fatal(err)
	}
	select {
	case a := <-answer:
		if a.Job != nil {
			t.Errorf("a cancelled job was handed out: %+v", a.Job)
		}
	case <-time.After(30 * time.Second):
		t.Error("the runner has no answer")
	}
}

func TestOnlyItsPersonOrAManagerCancelsARequest(t *testing.T) {
	x := newTeam(t, 0)
	id := x.request(nil)
	other := x.client(records.Token{Name: "olve", WritesTo: "person/olve", MayRequest: true})
	if err := other.CancelRequest(t.Context(), id); err == nil || !strings.Contains(err.Error(), "another person's") {
		t.Error(err)
	}
	if err := x.client(records.Token{Name: "lead", MayManage: true}).CancelRequest(t.Context(), id); err != nil {
		t.Error(err)
	}
	x.awaitState(id, fleet.Cancelled)
}

func TestRightsAreNeededForEverything(t *testing.T) {
	x := newTeam(t, 0)
	r := x.runner("north", "linux")
	id := x.request(nil)
	w := r.job()
	nobody := x.client(records.Token{Name: "nobody", WritesTo: "person/nobody", MayView: true})
	mac := x.client(records.Token{Name: "mac", Serves: []string{"mac"}})
	for what, err := range map[string]error{
		"requesting": func() error {
			_, err := nobody.Request(t.Context(), protocol.Ask{Pool: "linux", Tasks: []string{"x"}, Branch: "main"})
			return err
		}(),
		"cancelling":  nobody.CancelRequest(t.Context(), id),
		"registering": func() error { _, err := nobody.Register(t.Context(), protocol.RunnerHello{}); return err }(),
		"registering in another pool": func() error {
			_, err := mac.Register(t.Context(), protocol.RunnerHello{Name: "m", Pool: "linux", Slots: 1, Jobs: 1})
			return err
		}(),
		"asking as another runner": func() error { _, err := mac.NextWork(t.Context(), r.id, protocol.WorkQuestion{}); return err }(),
		"starting another's job": func() error {
			_, err := mac.StartJob(t.Context(), w.Job, protocol.JobStart{Attempt: 1, Commit: commit})
			return err
		}(),
		"ending another's job":         mac.EndJob(t.Context(), w.Job, protocol.JobEnd{Attempt: 1, State: fleet.Passed}),
		"printing for another's job":   mac.SendJobLines(t.Context(), w.Job, protocol.JobLines{Attempt: 1, Lines: []string{"x"}}),
		"looking at requests":          func() error { _, err := mac.RequestOf(t.Context(), id); return err }(),
		"a person's runner registered": func() error { _, err := x.person.Register(t.Context(), protocol.RunnerHello{}); return err }(),
	} {
		if err == nil {
			t.Errorf("%s was allowed", what)
		}
	}
	if q := x.state(id); q.State != fleet.Running {
		t.Errorf("%+v", q)
	}
}

func TestAProtectedPoolCarriesOutProtectedJobsAlone(t *testing.T) {
	x := newTeam(t, 0)
	manager := x.client(records.Token{Name: "lead", MayManage: true})
	if err := manager.Protect(t.Context(), fleet.Protection{Refs: []string{"main", "release/*"}, Pools: []string{"deploy"}}); err != nil {
		t.Fatal(err)
	}
	if err := x.person.Protect(t.Context(), fleet.Protection{}); err == nil {
		t.Error("anybody may change what is protected")
	}
	for what, change := range map[string]func(*protocol.Ask){
		"local changes": func(a *protocol.Ask) {
			a.Commit = commit
			a.Changes = &protocol.LocalChanges{Blob: digest.Of([]byte("x")), Bytes: 1, State: commit, Tree: commit}
		},
		"arguments": func(a *protocol.Ask) { a.Args = []string{"--publish"} },
	} {
		a := protocol.Ask{Pool: "deploy", Tasks: []string{"test"}, Branch: "main"}
		change(&a)
		if _, err := x.person.Request(t.Context(), a); err == nil || !strings.Contains(err.Error(), "protected jobs alone") {
			t.Errorf("%s: %v", what, err)
		}
	}
	r := x.runner("guarded", "deploy")
	if !r.known.Protected {
		t.Error("the runner was not told that its pool is protected")
	}
	id := x.request(func(a *protocol.Ask) { a.Pool = "deploy" })
	w := r.job()
	if w.Shelf != "trusted" || !slices.Equal(w.Refs, []string{"main", "release/*"}) {
		t.Errorf("%+v", w)
	}
	for _, ref := range []string{"", "quay", "release/4/x"} {
		if _, err := r.start(w, ref); err == nil || !strings.Contains(err.Error(), "no protected branch") {
			t.Errorf("ref %q: %v", ref, err)
		}
	}
	secret, err := r.start(w, "release/4")
	if err != nil {
		t.Fatal(err)
	}
	self, err := remote.New(x.URL, x.Repo, secret, nil).Self(t.Context())
	if err != nil || self.WritesTo != "trusted" || !slices.Equal(self.ReadsFrom, []string{"trusted"}) {
		t.Errorf("%+v, %v", self, err)
	}
	// In other pools nobody writes to the trusted shelf, not even with a token that may.
	ci := x.client(records.Token{Name: "ci", WritesTo: "trusted", ReadsFrom: []string{"trusted"}, MayRequest: true})
	made, err := ci.Request(t.Context(), protocol.Ask{Pool: "linux", Tasks: []string{"test"}, Branch: "main"})
	if err != nil || made.Shelf != "branch/main" {
		t.Errorf("%+v, %v", made, err)
	}
	_ = id
}

func TestOutputComesInOrderAndOnce(t *testing.T) {
	x := newTeam(t, 0)
	r := x.runner("north", "linux")
	id := x.request(nil)
	w := r.job()
	send := func(first int, lines ...string) {
		t.Helper()
		if err := r.SendJobLines(t.Context(), w.Job, protocol.JobLines{Attempt: w.Attempt, First: first, Lines: lines}); err != nil {
			t.Fatal(err)
		}
	}
	send(0, "a", "b")
	send(0, "a", "b", "c") // an answer was lost
	send(5, "after a gap")
	texts := func(o protocol.Output) (list []string) {
		for _, l := range o.Lines {
			list = append(list, l.Text)
		}
		return list
	}
	out, err := x.person.OutputOf(t.Context(), id, 0, 0)
	if err != nil || !slices.Equal(texts(out), []string{"a", "b", "c"}) || out.Ended {
		t.Errorf("%+v, %v", out, err)
	}
	// A question for more waits for it.
	go func() {
		time.Sleep(200 * time.Millisecond)
		_ = r.SendJobLines(t.Context(), w.Job, protocol.JobLines{Attempt: w.Attempt, First: 3, Lines: []string{"d"}})
	}()
	began := time.Now()
	more, err := x.person.OutputOf(t.Context(), id, out.Next, 15)
	if err != nil || !slices.Equal(texts(more), []string{"d"}) || time.Since(began) > 5*time.Second {
		t.Errorf("%+v, %v, after %s", more, err, time.Since(began))
	}
	if err := r.end(w, fleet.Failed); err != nil {
		t.Fatal(err)
	}
	if last, err := x.person.OutputOf(t.Context(), id, more.Next, 15); err != nil || !last.Ended || last.State != fleet.Failed {
		t.Errorf("%+v, %v", last, err)
	}
	if err := r.SendJobLines(t.Context(), w.Job, protocol.JobLines{Attempt: w.Attempt, Lines: []string{"x"}}); !errors.Is(err, protocol.ErrGone) {
		t.Errorf("a job that ended printed: %v", err)
	}
}

func TestARequestWithoutItsLocalChangesIsRefused(t *testing.T) {
	x := newTeam(t, 0)
	_, err := x.person.Request(t.Context(), protocol.Ask{Pool: "linux", Tasks: []string{"test"}, Commit: commit,
		Changes: &protocol.LocalChanges{Blob: digest.Of([]byte("nowhere")), Bytes: 7, State: commit, Tree: commit}})
	if err == nil || !strings.Contains(err.Error(), "not stored") {
		t.Error(err)
	}
	for what, a := range map[string]protocol.Ask{
		"no tasks":       {Pool: "linux", Branch: "main"},
		"no revision":    {Pool: "linux", Tasks: []string{"x"}},
		"a strange pool": {Pool: "Linux Pool", Tasks: []string{"x"}, Branch: "main"},
		"an option":      {Pool: "linux", Tasks: []string{"--help"}, Branch: "main"},
		"an upload-pack": {Pool: "linux", Tasks: []string{"x"}, Branch: "--upload-pack=x"},
		"a short commit": {Pool: "linux", Tasks: []string{"x"}, Commit: "abc"},
	} {
		if _, err := x.person.Request(t.Context(), a); err == nil {
			t.Errorf("%s was accepted", what)
		}
	}
}

func TestTheOverviewSaysWhatIsWorkedOn(t *testing.T) {
	x := newTeam(t, 0)
	r := x.runner("north", "linux")
	x.runner("idle", "mac")
	x.request(nil)
	x.request(nil)
	w := r.job()
	f, err := x.person.FleetNow(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	states := map[string]string{}
	for _, r := range f.Runners {
		states[r.Name] = r.State
	}
	if states["north"] != "busy" || states["idle"] != "idle" {
		t.Errorf("%v", states)
	}
	if len(f.Pools) != 2 || f.Pools[0].Name != "linux" || f.Pools[0].Queued != 1 || f.Pools[0].Running != 1 || f.Pools[0].Free != 0 ||
		f.Pools[1].Free != 1 || f.Pools[0].OldestSeconds <= 0 {
		t.Errorf("%+v", f.Pools)
	}
	if err := r.end(w, fleet.Passed); err != nil {
		t.Fatal(err)
	}
	if err := r.LeaveFleet(t.Context(), r.id); err != nil {
		t.Fatal(err)
	}
	if f, err = x.person.FleetNow(t.Context()); err != nil || f.Pools[0].Runners != 0 || f.Runners[1].State != "gone" || f.Runners[1].Done != 1 {
		t.Errorf("%+v, %v", f, err)
	}
	r.register("north", "linux") // a runner that starts again is one runner
	if f, err = x.person.FleetNow(t.Context()); err != nil || len(f.Runners) != 2 || f.Runners[0].State != "idle" || f.Runners[0].Done != 1 {
		t.Errorf("%+v, %v", f, err)
	}
}

// A service that starts again, or another replica, goes on with what runs and what waits.
func TestJobsOutliveAServiceThatEnds(t *testing.T) {
	x := newTeam(t, 20*time.Second)
	r := x.runner("north", "linux")
	running, waiting := x.request(nil), x.request(nil)
	w := r.job()
	cfg := x.Config
	cfg.Listen = strings.TrimPrefix(x.URL, "http://")
	if err := x.Stop(); err != nil {
		t.Fatal(err)
	}
	again, err := service.Start(context.Background(), cfg)
	if err != nil {
		t.Fatal(err)
	}
	x.Service.Service = again // stopped at the end of the test
	if err := r.end(w, fleet.Passed); err != nil {
		t.Fatal(err)
	}
	x.awaitState(running, fleet.Passed)
	if w := r.job(); w.Request != waiting {
		t.Errorf("%+v", w)
	}
}

// What a request printed is for those who may know what its run did; its changes are its maker's.
func TestOthersDoNotReadWhatARequestPrinted(t *testing.T) {
	x := newTeam(t, 0)
	id := x.request(nil)
	shelf := x.state(id).Shelf
	for name, c := range map[string]struct {
		token records.Token
		may   bool
	}{
		"another person":               {records.Token{WritesTo: "person/ola", ReadsFrom: []string{"trusted"}, MayRequest: true}, false},
		"somebody who reads its shelf": {records.Token{WritesTo: "person/liv", ReadsFrom: []string{shelf}, MayRequest: true}, true},
		"somebody who may view":        {records.Token{ReadsFrom: []string{"trusted"}, MayView: true}, true},
	} {
		c.token.Name = name
		_, err := x.client(c.token).OutputOf(t.Context(), id, 0, 0)
		if (err == nil) != c.may {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := x.person.OutputOf(t.Context(), id, 0, 0); err != nil {
		t.Error(err)
	}
}

// A person who asks for thousands stops neither others nor the lists.
func TestThousandsOfRequestsStopNobody(t *testing.T) {
	x := newTeam(t, 0)
	high := func(a *protocol.Ask) { a.Priority = protocol.PriorityHigh }
	first := x.request(high)
	if _, err := x.DB.Exec(`
		INSERT INTO requests (repository_id, token_id, name, origin, source, pool, shelf, protected, ask)
		SELECT repository_id, token_id, name, origin, '', pool, shelf, protected, ask FROM requests, generate_series(1, 998) WHERE id = $1`,
		first); err != nil {
		t.Fatal(err)
	}
	last := x.request(high)
	if _, err := x.person.Request(t.Context(), protocol.Ask{Pool: "linux", Tasks: []string{"test"}, Branch: "main"}); err == nil ||
		!strings.Contains(err.Error(), "1000 requests") {
		t.Errorf("one more: %v", err)
	}
	if q := x.state(last); q.Ahead != 999 {
		t.Errorf("%d are ahead of the last one", q.Ahead)
	}
	// The queue itself hands the one of somebody else over before most of them.
	var priority []int
	if err := x.DB.Select(&priority, `
		SELECT priority FROM river_job WHERE (args->>'job')::bigint IN (SELECT id FROM jobs WHERE request_id = ANY($1)) ORDER BY id`,
		[]int64{first, last}); err != nil || !slices.Equal(priority, []int{1, 4}) {
		t.Errorf("%v, %v", priority, err)
	}
	// Ended jobs by the hundred thousand do not slow the overview: each statement has a limit.
	r := x.runner("north", "linux")
	if _, err := x.DB.Exec(`
		INSERT INTO jobs (repository_id, request_id, member, runner_id, state, ended_at)
		SELECT repository_id, id, 1000 + n, $2, 'passed', now() FROM requests, generate_series(1, 100000) n WHERE id = $1`,
		first, r.id); err != nil {
		t.Fatal(err)
	}
	f, err := x.person.FleetNow(t.Context())
	if err != nil || len(f.Runners) != 1 || f.Runners[0].Done != 100000 {
		t.Errorf("%+v, %v", f.Runners, err)
	}
}
