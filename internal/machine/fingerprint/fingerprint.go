// Package fingerprint recognises tasks that need no work without computing their
// keys.
//
// For each task that a run or a plan finds current, it records a digest of everything that
// this depended on: the status of every file of the projects and directories
// that the task reads from, and of its outputs; the declarations, settings and
// variables; the answers of probes; the last results of the task and of those that it depends on;
// and this program.
// While the digest is the same, and the dependencies are current as well, the
// task is current. The digest is coarser than the key, so it may change without
// need, but never stays the same by mistake: statuses count only if a later
// change would show, as for remembered digests.
package fingerprint

import (
	"encoding/binary"
	"fmt"
	"runtime"
	"slices"
	"sync"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/machine/files"
	"grayloft.example/grayloft/internal/machine/look"
	"grayloft.example/grayloft/internal/machine/outputs"
	"grayloft.example/grayloft/internal/machine/probe"
	"grayloft.example/grayloft/internal/machine/statefile"
)

// format has, for each task, its address and the digest.
var format = statefile.Register(statefile.Format[map[string]digest.Digest]{
	Name: "current", Version: 5,
	Encode: func(w *statefile.Writer, recorded map[string]digest.Digest) {
		for addr, d := range recorded {
			w.Text(addr)
			w.Digest(d)
		}
	},
	Decode: func(r *statefile.Reader) map[string]digest.Digest {
		out := map[string]digest.Digest{}
		for r.More() {
			addr := r.Text()
			out[addr] = r.Digest()
		}
		return out
	},
})

// Fingerprints are those of one run.
type Fingerprints struct {
	file     string
	recorded map[string]digest.Digest // by earlier runs
	tasks    []*graph.Task            // in graph order
	taken    map[*graph.Task]fingerprint
}

// fingerprint is a digest, whether it may be recorded, and the last result that it contains.
type fingerprint struct {
	digest       digest.Digest
	settled      bool
	key, listing digest.Digest
}

// Found is what a run or a plan found out about a task.
type Found struct {
	Current      bool
	Key, Listing digest.Digest // of the result that is current
}

// Source is where fingerprints are taken from.
type Source struct {
	Look    *look.Looker
	Work    *outputs.Workspace
	Survey  *files.Survey
	Answers map[probe.Question]string
}

// Recorded are the fingerprints of earlier runs.
type Recorded struct {
	file string
	of   map[string]digest.Digest // by the address of the task
}

// Load reads the fingerprints of earlier runs.
func Load(state *checkout.State) Recorded {
	r := Recorded{file: state.CurrentFile()}
	if r.of, _ = format.Load(r.file); r.of == nil {
		r.of = map[string]digest.Digest{}
	}
	return r
}

// Take takes the fingerprints of tasks, which are in graph order and contain their dependencies.
func Take(tasks []*graph.Task, earlier Recorded, s Source) *Fingerprints {
	f := &Fingerprints{file: earlier.file, recorded: earlier.of, tasks: tasks, taken: make(map[*graph.Task]fingerprint, len(tasks))}
	of := inputs{s, s.common(), s.Survey.Sums(), s.left(tasks)}
	list := make([]fingerprint, len(tasks))
	inParallel(len(tasks), func(i int) { list[i] = s.withOutputs(tasks[i], of.take(tasks[i])) })
	for i, t := range tasks {
		f.taken[t] = list[i]
	}
	return f
}

// IsEmpty tells whether earlier runs recorded nothing.
func (f *Fingerprints) IsEmpty() bool { return f == nil || len(f.recorded) == 0 }

// IsUnchanged tells whether the task's fingerprint is the recorded one.
func (f *Fingerprints) IsUnchanged(t *graph.Task) bool {
	have, ok := f.recorded[t.Addr()]
	return ok && have == f.taken[t].digest
}

// AreAllUnchanged tells whether that is so for every task.
func (f *Fingerprints) AreAllUnchanged() bool {
	for t := range f.taken {
		if !f.IsUnchanged(t) {
			return false
		}
	}
	return true
}

// Save records the fingerprints of the tasks that were found current, and whose dependencies
// were: with the results that fingerprints contain, which were the last ones before the run.
// Another process may have replaced these since, or the run may have found another result that
// fits. What was recorded earlier stays: it is about another state of the task. Failing to save
// does no harm.
func (f *Fingerprints) Save(found func(*graph.Task) Found) {
	if f == nil {
		return
	}
	changed := false
	current := make(map[*graph.Task]bool, len(f.tasks))
	for _, t := range f.tasks {
		x, is := f.taken[t], found(t)
		isOther := func(u *graph.Task) bool { return !current[u] }
		current[t] = is.Current && is.Key == x.key && is.Listing == x.listing && !slices.ContainsFunc(t.Dependencies, isOther)
		if current[t] && x.settled && !x.digest.IsZero() && f.recorded[t.Addr()] != x.digest {
			f.recorded[t.Addr()] = x.digest
			changed = true
		}
	}
	if changed {
		_ = format.Save(f.file, f.recorded)
	}
}

// common is what every task depends on.
func (s Source) common() string {
	return fmt.Sprintf("%q %s %v %q %s\n", s.Look.Platform, s.Look.Graph.Repo.Digest, statefile.Program(), s.Survey.Ignored(),
		s.Work.Store.Withdrawals())
}

// material collects what a fingerprint is computed from.
type material struct {
	b       []byte
	settled bool
}

// addTexts adds texts, each behind its length, so that none can look like two.
func (m *material) addTexts(texts ...string) {
	for _, s := range texts {
		m.b = append(binary.AppendUvarint(m.b, uint64(len(s))), s...)
	}
}

// addList adds texts and how many there are.
func (m *material) addList(texts ...string) {
	m.b = binary.AppendUvarint(m.b, uint64(len(texts)))
	m.addTexts(texts...)
}

func (m *material) addFlag(set bool) {
	if set {
		m.b = append(m.b, 1)
	} else {
		m.b = append(m.b, 0)
	}
}

func (m *material) add(d digest.Digest, settled bool) {
	m.b = append(m.b, d[:]...)
	m.settled = m.settled && settled
}

// addReads adds the directories that patterns from the root start in.
func (m *material) addReads(reads []decl.Read, sums *files.Sums) {
	for _, read := range reads {
		if read.Scope == decl.Root && !read.Negated {
			m.add(sums.Below(read.Pattern.LiteralStart()))
		}
	}
}

// addValues adds a task's settings and variables: as in its key, no others, and only whether one
// is set whose value is not part of the key.
func (s Source) addValues(m *material, t *graph.Task) {
	m.b = binary.AppendUvarint(m.b, uint64(len(t.Settings)))
	for _, name := range t.Settings {
		m.addTexts(name, s.Look.Graph.Chosen[name])
	}
	for i, list := range [][]decl.EnvVar{t.Env, t.EnvUnkeyed, t.Secrets} {
		m.b = binary.AppendUvarint(m.b, uint64(len(list)))
		for _, v := range list {
			val, ok := s.Look.Env.Value(v)
			if i > 0 {
				val = ""
			}
			m.addTexts(v.Name, val)
			m.addFlag(ok)
		}
	}
}

// left returns a digest of what each task, and all that it depends on, left last: a result
// counts for whatever comes after it, also if another run made it.
func (s Source) left(tasks []*graph.Task) map[*graph.Task]digest.Digest {
	out := make(map[*graph.Task]digest.Digest, len(tasks))
	var b []byte
	for _, t := range tasks {
		last, _ := s.Work.State.Last(t.Addr())
		b = append(b[:0], last.Listing[:]...)
		for _, u := range t.Dependencies {
			before := out[u]
			b = append(b, before[:]...)
		}
		out[t] = digest.Of(b)
	}
	return out
}

var rooms = sync.Pool{New: func() any { return new([]byte) }}

// inputs is what fingerprints of everything but the outputs are taken from.
type inputs struct {
	Source
	common string
	sums   *files.Sums
	left   map[*graph.Task]digest.Digest
}

// take returns the fingerprint of everything but the task's outputs.
func (s inputs) take(t *graph.Task) fingerprint {
	room := rooms.Get().(*[]byte)
	m := &material{b: append((*room)[:0], s.common...), settled: true}
	defer func() {
		*room = m.b
		rooms.Put(room)
	}()
	m.addTexts(t.Addr())
	m.addList(s.Look.ArgsOf(t)...)
	s.addValues(m, t)
	m.b = binary.AppendUvarint(m.b, uint64(len(t.Decl.Probes.Items)))
	for _, p := range t.Decl.Probes.Items {
		m.addTexts(p.Text, s.Answers[probe.Of(s.Look.Graph, p.Text, t.Project)])
		m.addReads(s.Look.Graph.Repo.Probes[p.Text].Reads, s.sums)
	}
	m.addReads(t.Reads, s.sums)
	m.add(s.sums.Project(t.Project))
	if t.NeedsRead() {
		for _, p := range t.Project.NeedsAll {
			m.addTexts(p.Name)
			m.add(s.sums.Project(p))
		}
	}
	m.b = binary.AppendUvarint(m.b, uint64(len(t.Dependencies)))
	for _, u := range t.Dependencies {
		m.add(s.left[u], true)
	}
	last, ok := s.Work.State.Last(t.Addr())
	m.addFlag(ok)
	m.addFlag(last.Failed)
	m.b = append(append(m.b, last.Key[:]...), last.Listing[:]...)
	return fingerprint{digest.Of(m.b), m.settled, last.Key, last.Listing}
}

// withOutputs adds the files that match the task's writes.
func (s Source) withOutputs(t *graph.Task, x fingerprint) fingerprint {
	if t.Transparent() {
		return x
	}
	b, settled, err := s.Work.Outputs(t).Stamps(append([]byte{}, x.digest[:]...), s.Survey.Taken())
	if err != nil {
		return fingerprint{}
	}
	x.digest, x.settled = digest.Of(b), x.settled && settled
	return x
}

// inParallel calls do for every number below n.
func inParallel(n int, do func(i int)) {
	var wg sync.WaitGroup
	workers := min(n, runtime.GOMAXPROCS(0))
	for w := range workers {
		wg.Go(func() {
			for i := w; i < n; i += workers {
				do(i)
			}
		})
	}
	wg.Wait()
}
