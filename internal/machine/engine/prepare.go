package engine

import (
	"context"
	"fmt"
	"path"
	"sync"

	"grayloft.example/grayloft/internal/core/decide"
	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/files"
	"grayloft.example/grayloft/internal/machine/find"
	"grayloft.example/grayloft/internal/machine/fingerprint"
	"grayloft.example/grayloft/internal/machine/probe"
	"grayloft.example/grayloft/internal/protocol"
)

// Prepare sets up a session without running anything: it looks at the files,
// runs the probes, and asks the service for the token's rights. If settle is not
// nil, it is called with the result of each task that is current because nothing
// of it has changed; if that is so of all, nothing more is prepared.
func Prepare(ctx context.Context, e *Engine, opt Options, settle func(*Result)) (*Session, error) {
	s := newSession(e, opt)
	return s, s.prepare(ctx, settle)
}

// Remember records which tasks are current, so that this is seen without their keys as long as
// nothing changes. Without settle in [Prepare], it does nothing.
func (s *Session) Remember(found func(*graph.Task) *Result) {
	if s.engine.Files.Memory.SawOpen() {
		return
	}
	s.prints.Save(func(t *graph.Task) fingerprint.Found {
		r := found(t)
		return fingerprint.Found{Current: r.Outcome == decide.Current, Key: r.Digests.Key, Listing: r.Digests.Listing}
	})
}

// prepare looks at the files and at the service, side by side. Settle is that of
// [Prepare].
func (s *Session) prepare(ctx context.Context, settle func(*Result)) error {
	for _, t := range s.Tasks {
		if _, err := t.Decl.Run.With(s.engine.Graph.Repo, s.engine.Graph.Chosen); err != nil {
			return err
		}
	}
	var wg sync.WaitGroup
	var err error
	wg.Go(func() { s.prints, err = s.lookAtFiles(ctx, settle) })
	if s.engine.Shared != nil {
		wg.Go(func() { s.askService(ctx) })
	}
	wg.Wait()
	if err != nil {
		return err
	}
	s.Find = s.newFinder()
	return nil
}

// askService asks for the token's rights. A service that fails has warned. If this machine
// knows what the token may read, the service is used as soon as it answers again.
func (s *Session) askService(ctx context.Context) {
	var err error
	if s.self, err = s.engine.Shared.Self(ctx); err != nil && s.self.Repo == "" {
		s.engine.Shared = nil
	}
}

func (s *Session) newFinder() *find.Finder {
	f := &find.Finder{
		Work: s.Delivery.Work, Blobs: s.Delivery.Blobs, Warn: s.engine.Observer.Warn,
		Origins: find.Origins(s.engine.Graph.Repo.Name, s.engine.Service, s.self),
	}
	if s.engine.Graph.Repo.CheckoutPathsLocal {
		f.Origins = find.WithCheckout(f.Origins, s.engine.State.Root)
	}
	if s.engine.Shared == nil {
		return f
	}
	f.Blobs.From = s.engine.Shared
	f.Blobs.SetLine(s.engine.Store.Line(s.engine.Service))
	f.Lookups = &find.Lookups{Catalogue: s.engine.Shared, Blobs: f.Blobs, Early: s.earlyQueries}
	return f
}

// earlyQueries returns the early keys of all tasks that may be shared.
func (s *Session) earlyQueries() []protocol.Query {
	keys := s.Look.EarlyKeys(s.Tasks)
	var out []protocol.Query
	for _, t := range s.Tasks {
		if k, ok := keys[t]; ok && t.IsShareable() && t.WithoutWrites() == nil {
			out = append(out, protocol.Query{Task: t.Addr(), EarlyKey: k})
		}
	}
	return out
}

// lookAtFiles surveys the files, settles unchanged tasks, and runs the probes of
// the others.
func (s *Session) lookAtFiles(ctx context.Context, settle func(*Result)) (*fingerprint.Fingerprints, error) {
	if len(s.Tasks) == 0 && settle != nil {
		return nil, nil
	}
	prober := &probe.Prober{
		Graph: s.engine.Graph, Env: s.engine.Env, Root: s.engine.State.Root, Memo: s.engine.State.ProbeDir(), Run: s.opt.Run,
		Kill: s.opt.Kill,
	}
	s.prober = prober
	questions := probe.Questions(s.engine.Graph, s.Tasks)
	var asked sync.WaitGroup
	var answers map[probe.Question]string
	var failed error
	defer asked.Wait()
	if settle != nil { // a probe that is not remembered runs while files are looked at
		asked.Go(func() { answers, failed = prober.Fingerprints(ctx, questions) })
	}
	recorded := fingerprint.Load(s.engine.State)
	survey, err := s.engine.Files.Survey(ctx) // begun before: what comes first takes no time
	if err != nil {
		return nil, fmt.Errorf("looking at the repository's files: %w", err)
	}
	shot := sync.OnceValues(func() (*files.Snapshot, error) { return s.engine.Files.SnapshotOf(survey) })
	var wg sync.WaitGroup
	defer wg.Wait()
	begin := func() { _, _ = shot() } // whoever needs it gets the error again
	var prints *fingerprint.Fingerprints
	// An error of a probe is reported below, where its answer is required.
	if asked.Wait(); settle != nil && failed == nil {
		from := fingerprint.Source{Look: s.Look, Work: s.Delivery.Work, Survey: survey, Answers: answers}
		prints = fingerprint.Take(s.Tasks, recorded, from)
		if !prints.AreAllUnchanged() {
			wg.Go(begin)
		}
		if !s.opt.NoReuse {
			s.settleUnchanged(prints, settle)
		}
	}
	open := s.unsettled()
	if len(open) == 0 && prints != nil {
		return prints, nil
	}
	snap, err := shot()
	if err != nil {
		return nil, fmt.Errorf("looking at the repository's files: %w", err)
	}
	s.Look.SetSnapshot(snap)
	if !prints.IsEmpty() && s.isLittle(open, questions) {
		s.engine.Files.Memory.Forgo()
	}
	snap.Warm(ctx, open)
	s.Look.Answers, err = prober.All(ctx, questions, filesOf{s})
	return prints, err
}

// filesOf are the files of a session as probes see them.
type filesOf struct{ s *Session }

func (f filesOf) Paths() []string { return f.s.Look.Snapshot().Paths() }

func (f filesOf) Row(p string) (listing.Row, error) {
	return f.s.engine.Files.Memory.Row(p)
}

// unsettled returns the tasks without a result.
func (s *Session) unsettled() []*graph.Task {
	var out []*graph.Task
	for _, t := range s.Tasks {
		if s.Outputs.Get(t) == nil {
			out = append(out, t)
		}
	}
	return out
}

const (
	fewFiles   = 4000     // that are read faster than all remembered digests are loaded
	smallBytes = 32 << 20 // of outputs, likewise
)

// isLittle tells whether the tasks without a result read so few files, and wrote
// so little the last time, that reading everything again is faster than loading
// the remembered digests of the whole repository.
func (s *Session) isLittle(open []*graph.Task, questions []probe.Question) bool {
	snap := s.Look.Snapshot()
	if len(open) > len(s.Tasks)/10 || snap.Reading(open, fewFiles) == fewFiles {
		return false
	}
	bytes := int64(0)
	for _, t := range open {
		if last, ok := s.Delivery.Work.LastListing(t); ok {
			bytes += last.Bytes()
		}
	}
	for _, q := range questions {
		for _, read := range s.engine.Graph.Repo.Probes[q.Probe].Reads {
			name := read.Pattern.String()
			if q.Project != nil && read.Scope == decl.Own {
				name = path.Join(q.Project.Dir, name)
			}
			if !snap.Has(name) {
				return false // more than one file, and nobody knows how much
			}
		}
	}
	return bytes < smallBytes
}
