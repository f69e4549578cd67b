package engine

import (
	"context"
	"encoding/binary"
	"fmt"
	"os"
	"runtime"
	"slices"
	"strings"
	"sync"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/files"
)

// A run notes, of each task that it found current, what that rested on: the
// status of every file of the projects and places that the task reads from and
// of its outputs, the declarations, settings and variables, the answers of
// probes, how the task came out last, and this program. While all of it is the
// same, and the tasks before are current as well, so is the task, and its key
// need not be taken. Statuses count only where a change after them would show,
// as for remembered digests; otherwise nothing is noted.

const quickHead = "grayloft-quick 2\n"

// quick is what tasks rest on in this run.
type quick struct {
	rests map[*graph.Task]rest
	noted map[string]digest.Digest // by earlier runs
	taken int64
}

// rest is what a task rests on, and whether it may be noted.
type rest struct {
	on      digest.Digest
	settled bool
}

// program identifies this program.
var program = sync.OnceValue(func() string {
	self, err := os.Executable()
	if err != nil {
		return ""
	}
	info, err := os.Stat(self)
	if err != nil {
		return ""
	}
	return fmt.Sprint(self, info.Size(), info.ModTime().UnixNano(), runtime.Version())
})

// common is what every task rests on.
func (r *run) common() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%q %s %q %v\n", r.Platform, r.Graph.Repo.Digest, r.opt.Args, program())
	names := make([]string, 0, len(r.Graph.Chosen))
	for name := range r.Graph.Chosen {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		fmt.Fprintf(&b, "set %q %q\n", name, r.Graph.Chosen[name])
	}
	return b.String()
}

// probesNow returns what every probe answers. Of a steady one, what its answer
// depends on beside files stands for the answer.
func (r *run) probesNow(ctx context.Context) (map[question]string, error) {
	out := map[question]string{}
	for _, q := range r.questions() {
		text := ""
		if r.Graph.Repo.Probes[q.probe].Rememberable {
			text = r.steadyOn(q)
		}
		if text == "" {
			var err error
			if text, err = r.ask1(ctx, q); err != nil {
				return nil, err
			}
		}
		out[q] = text
	}
	return out, nil
}

// restOf returns what one task rests on.
func (r *run) restOf(t *graph.Task, common string, probes map[question]string, sums *files.Sums) rest {
	x := rest{settled: true}
	b := append(make([]byte, 0, 1024), common...)
	sum := func(d digest.Digest, settled bool) {
		b = append(b, d[:]...)
		x.settled = x.settled && settled
	}
	b = fmt.Appendf(b, "%s %v\n", t.Addr(), r.picked[t])
	for _, v := range slices.Concat(t.Env, t.EnvUnkeyed, t.Secrets) {
		val, ok := r.variable(v)
		b = fmt.Appendf(b, "env %q %q %v\n", v.Name, val, ok)
	}
	below := func(reads []decl.Read, own bool) {
		for _, read := range reads {
			if read.Scope == decl.Root && !read.Negated {
				sum(sums.Below(read.Pattern.LiteralStart()))
			}
		}
		if own {
			sum(sums.Project(t.Project))
		}
	}
	for _, p := range t.Decl.Probes.Items {
		q := r.asked(p.Text, t.Project)
		b = fmt.Appendf(b, "probe %q %q\n", p.Text, probes[q])
		below(r.Graph.Repo.Probes[p.Text].Reads, false)
	}
	below(t.Reads, true)
	if t.NeedsRead() {
		for _, p := range t.Project.NeedsAll {
			b = append(append(b, p.Name...), '\n')
			sum(sums.Project(p))
		}
	}
	last, ok := r.State.Last(t.Addr())
	b = fmt.Appendf(b, "last %v %v\n", ok, last.Failed)
	b = append(append(b, last.Key[:]...), last.Listing[:]...)
	x.on = digest.Of(b)
	return x
}

// withOutputs adds what is at the task's writes.
func (r *run) withOutputs(t *graph.Task, x rest) rest {
	if t.Transparent() {
		return x
	}
	found, err := r.outputs(t).Found()
	if err != nil {
		return rest{}
	}
	b := append([]byte{}, x.on[:]...)
	paths := make([]string, len(found))
	for i, f := range found {
		paths[i] = f.Path
		if t.Project.Dir != "." {
			paths[i] = t.Project.Dir + "/" + f.Path
		}
		b = append(b, byte(f.Kind))
	}
	b, settled, err := r.Files.Stamps(b, paths, r.quick.taken)
	if err != nil {
		return rest{}
	}
	return rest{digest.Of(b), x.settled && settled}
}

// each calls do for every number below n, several at a time.
func each(n int, do func(i int)) {
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

// tryQuick gives a result to every task that rests on what an earlier run noted
// of it, and tells whether those are all.
func (r *run) tryQuick(ctx context.Context, v *files.Survey) (all bool) {
	if !r.quickly {
		return false
	}
	probes, err := r.probesNow(ctx)
	if err != nil {
		return false // who needs the answer meets it again
	}
	r.quick.taken, r.quick.noted = v.Taken(), readQuick(r.State.QuickFile())
	sums, common := v.Sums(), r.common()
	rests := make([]rest, len(r.nodes))
	each(len(r.nodes), func(i int) {
		t := r.nodes[i].task
		rests[i] = r.withOutputs(t, r.restOf(t, common, probes, sums))
	})
	r.quick.rests = make(map[*graph.Task]rest, len(r.nodes))
	for i, n := range r.nodes {
		r.quick.rests[n.task] = rests[i]
	}
	if r.opt.NoReuse || len(r.quick.noted) == 0 {
		return false
	}
	return r.takeNoted()
}

// takeNoted gives results to the tasks that are as they were noted. Tasks are in
// the order of the graph, so those before each have theirs.
func (r *run) takeNoted() (all bool) {
	all = true
	for _, n := range r.nodes {
		last, ok := r.State.Last(n.task.Addr())
		on, noted := r.quick.noted[n.task.Addr()]
		good := ok && noted && !last.Failed && on == r.quick.rests[n.task].on
		for _, b := range n.before {
			good = good && b.result != nil
		}
		if good && n.task.WritesGiven() {
			n.result = &Result{
				Task: n.task, Outcome: Current, Key: last.Key, Listing: last.Listing, Log: last.Log, Made: last.Took, Ingredients: last.Ingredients,
				Picked: n.picked, At: r.Now().Sub(r.began),
			}
		}
		all = all && n.result != nil
	}
	if !all && !r.readNoted() {
		for _, n := range r.nodes {
			n.result = nil
		}
		return false
	}
	for _, n := range r.nodes {
		if n.result == nil {
			continue
		}
		n.phase = done
		n.place.set, n.place.onDisk, n.place.digest = true, true, n.result.Listing
		for _, a := range n.after {
			a.blocked--
		}
		r.Observer.Done(n.result)
	}
	for _, n := range r.nodes {
		r.offer(n)
	}
	return all
}

// readNoted reads the listings of tasks with a result that others count which
// have none.
func (r *run) readNoted() bool {
	for _, n := range r.nodes {
		if n.result != nil {
			continue
		}
		for _, u := range n.task.KeyDependencies() {
			b := r.of[u]
			if b.result == nil || b.place.list != nil {
				continue
			}
			list, ok := r.readListing(b.result.Listing)
			if !ok {
				return false
			}
			b.place.list = append(listing.List{}, list...)
		}
	}
	return true
}

// noteQuick notes what the tasks rest on that this run found current.
func (r *run) noteQuick() {
	if r.quick.rests == nil {
		return
	}
	changed := false
	for _, n := range r.nodes {
		x, addr := r.quick.rests[n.task], n.task.Addr()
		have, noted := r.quick.noted[addr]
		switch {
		case noted && have == x.on:
		case n.result != nil && n.result.Outcome == Current && x.settled && !x.on.IsZero():
			r.quick.noted[addr] = x.on
			changed = true
		case noted:
			delete(r.quick.noted, addr)
			changed = true
		}
	}
	if changed { // what cannot be noted is found out again the next time
		_ = writeQuick(r.State.QuickFile(), r.quick.noted)
	}
}

// The file holds, for each task, the length of its address (uvarint), the
// address, and a digest.
func readQuick(file string) map[string]digest.Digest {
	out := map[string]digest.Digest{}
	body := files.Opened(quickHead, file)
	for len(body) > 0 {
		n, width := binary.Uvarint(body)
		if width <= 0 || n > uint64(len(body)-width) || len(body)-width-int(n) < digest.Size {
			return map[string]digest.Digest{}
		}
		body = body[width:]
		out[string(body[:n])] = digest.Digest(body[n : int(n)+digest.Size])
		body = body[int(n)+digest.Size:]
	}
	return out
}

func writeQuick(file string, noted map[string]digest.Digest) error {
	var b []byte
	for addr, d := range noted {
		b = binary.AppendUvarint(b, uint64(len(addr)))
		b = append(append(b, addr...), d[:]...)
	}
	return files.WriteFile(file, files.Sealed(quickHead, b))
}
