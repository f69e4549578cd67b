// Package join makes one run of several machines: each executes the same plan, and before
// it runs a task it asks the service whether that is its part. If the service cannot be
// asked, the machine goes on alone.
package join

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/machine/claim"
	"grayloft.example/grayloft/internal/protocol"
)

// Service is the part of the service that knows joins.
type Service interface {
	JoinStep(ctx context.Context, join string, a protocol.JoinAsk) (protocol.JoinAnswer, error)
	JoinReport(ctx context.Context, join string, r protocol.JoinReport) error
	FollowLog(ctx context.Context, run, task string, first int) ([]string, error)
}

// Member is this machine's part of a join. It is safe for concurrent use.
type Member struct {
	Service Service
	ID      string // of the join
	Run     string // of this member
	Maker   func() protocol.Maker
	Warn    func(sentence string)

	mu      sync.Mutex
	mine    map[digest.Digest][]string // tasks that are this member's and have not ended, by key
	asked   map[string]bool            // tasks whose result was said to be shared: if one is asked again, it could not be used
	alone   bool
	renewer claim.Renewer
}

const (
	patience = 3 * time.Second // for one question
	tries    = 4               // before this machine goes on alone
	between  = 500 * time.Millisecond
)

// Take asks what to do with a task that would run.
func (m *Member) Take(ctx context.Context, r claim.Request) claim.Answer {
	a := protocol.JoinAsk{
		Run: m.Run, Task: r.Task, Key: r.Key, Ingredients: r.Ingredients(), Place: m.Maker().Place, Seconds: r.Seconds,
		Shareable: r.Shareable, Once: r.Once,
	}
	m.mu.Lock()
	a.Missing = m.asked[r.Task]
	alone := m.alone
	m.mu.Unlock()
	if alone {
		return m.onItsOwn(r)
	}
	var answer protocol.JoinAnswer
	err := m.insist(ctx, func(ctx context.Context) (err error) {
		answer, err = m.Service.JoinStep(ctx, m.ID, a)
		return err
	})
	if err != nil {
		if ctx.Err() == nil {
			m.leave(err)
		}
		return m.onItsOwn(r)
	}
	return m.answer(r, answer)
}

// onItsOwn is what a member does that nobody tells what the others do: it runs everything but
// what must not run twice.
func (m *Member) onItsOwn(r claim.Request) claim.Answer {
	if r.Once {
		return claim.Answer{Failure: "it must not run twice, and the service does not say whether another member of " + m.ID + " runs it"}
	}
	return claim.Answer{}
}

func (m *Member) answer(r claim.Request, a protocol.JoinAnswer) claim.Answer {
	place := "another member"
	if a.Other != nil && a.Other.Place != "" {
		place = a.Other.Place
	}
	switch a.Step {
	case decide.StepWait:
		if a.Other == nil {
			a.Other = &protocol.HeldClaim{}
		}
		return claim.Answer{Held: a.Other, Must: true}
	case decide.StepFetch:
		m.mu.Lock()
		defer m.mu.Unlock()
		m.asked = set(m.asked, r.Task)
		return claim.Answer{Stored: true}
	case decide.StepDone:
		return claim.Answer{Done: a.Other}
	case decide.StepFailed:
		return claim.Answer{Failure: fmt.Sprintf("%s (on %s)", a.Message, place)}
	case decide.StepLost:
		return claim.Answer{Failure: place + ", which ran it, is lost; it must not run twice"}
	case decide.StepDiffer:
		return claim.Answer{Failure: fmt.Sprintf("its inputs are not those on %s: %s", place, strings.Join(a.Differ, ", "))}
	}
	m.grant(r)
	return claim.Answer{}
}

func set(in map[string]bool, name string) map[string]bool {
	if in == nil {
		in = map[string]bool{}
	}
	in[name] = true
	return in
}

// insist asks a few times.
func (m *Member) insist(ctx context.Context, ask func(context.Context) error) (err error) {
	for i := range tries {
		once, cancel := context.WithTimeout(ctx, patience)
		err = ask(once)
		cancel()
		if err == nil || ctx.Err() != nil || errors.Is(err, protocol.ErrGone) || i == tries-1 {
			return err
		}
		select {
		case <-time.After(between):
		case <-ctx.Done():
		}
	}
	return err
}

// leave makes this machine go on alone.
func (m *Member) leave(err error) {
	m.mu.Lock()
	first := !m.alone
	m.alone = true
	m.mu.Unlock()
	if first {
		m.Warn(fmt.Sprintf("the service does not say what the other members of %s do (%v): this machine goes on alone", m.ID, err))
	}
}

// grant notes a task that is this member's, and starts to renew.
func (m *Member) grant(r claim.Request) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.mine == nil {
		m.mine = map[digest.Digest][]string{}
	}
	m.mine[r.Key] = append(m.mine[r.Key], r.Task)
	m.renewer.Start(protocol.RunnerLease, m.renew)
}

func (m *Member) renew() {
	m.mu.Lock()
	var tasks []string
	for _, list := range m.mine {
		tasks = append(tasks, list...)
	}
	m.mu.Unlock()
	if len(tasks) > 0 {
		ctx, cancel := context.WithTimeout(context.Background(), patience)
		defer cancel()
		_ = m.Service.JoinReport(ctx, m.ID, protocol.JoinReport{Run: m.Run, State: decide.JoinRunning, Tasks: tasks})
	}
}

// report ends tasks with a key.
func (m *Member) report(ctx context.Context, k digest.Digest, s decide.JoinState, message string) {
	m.mu.Lock()
	tasks, alone := m.mine[k], m.alone
	delete(m.mine, k)
	m.mu.Unlock()
	if len(tasks) == 0 || alone {
		return
	}
	err := m.insist(context.WithoutCancel(ctx), func(ctx context.Context) error {
		return m.Service.JoinReport(ctx, m.ID, protocol.JoinReport{Run: m.Run, State: s, Tasks: tasks, Message: message})
	})
	if err != nil {
		m.leave(err) // the others see that the lease is over
	}
}

// Uploaded says that the upload of a result has ended.
func (m *Member) Uploaded(k digest.Digest, shared bool) {
	s := decide.JoinUnshared
	if shared {
		s = decide.JoinShared
	}
	m.report(context.Background(), k, s, "")
}

// End says that a task has ended, and its result is not uploaded.
func (m *Member) End(ctx context.Context, k digest.Digest, e claim.Ending) {
	switch e.Outcome {
	case "", decide.Stopped: // it is settled again, or taken over after its lease
	case decide.Ran:
		m.report(ctx, k, decide.JoinUnshared, "")
	default:
		m.report(ctx, k, decide.JoinFailed, e.Message)
	}
}

// Follow returns what a task has printed where it runs, from a line on.
func (m *Member) Follow(ctx context.Context, run, task string, first int) []string {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	lines, _ := m.Service.FollowLog(ctx, run, task, first) // what cannot be told is not printed
	return lines
}

// Finish stops to renew.
func (m *Member) Finish(context.Context) {
	m.mu.Lock()
	wait := m.renewer.Halt()
	m.mu.Unlock()
	if wait != nil {
		wait()
	}
}
