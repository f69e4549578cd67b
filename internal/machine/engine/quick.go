package engine

import (
	"context"
	"fmt"
	"os"
	"runtime"
	"slices"
	"strings"
	"sync"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/files"
)

// A run that found every task current notes what that rested on: the status of
// every file that tasks may read and of every output, the declarations, the
// settings and variables, the answers of probes, the journal, and this program.
// While all of it is the same, the next such run is right without taking a
// single key. Statuses count only where a change after them would show, as for
// remembered digests; otherwise nothing is noted.

const quickHead = "grayloft-quick 1\n"

// quick is what one run knows of it.
type quick struct {
	mine   digest.Digest // what was asked, and declared
	files  digest.Digest
	taken  int64
	usable bool
}

// asked returns a digest of what is asked for and of what is declared about it,
// the machine and the person's environment as far as tasks count them.
func (r *run) askedFor() digest.Digest {
	h := digest.New()
	fmt.Fprintf(h, "%q %s %q %v\n", r.Platform, r.Graph.Repo.Sum, r.opt.Args, program())
	names := make([]string, 0, len(r.Graph.Chosen))
	for name := range r.Graph.Chosen {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		fmt.Fprintf(h, "set %q %q\n", name, r.Graph.Chosen[name])
	}
	var b strings.Builder
	seen := map[string]bool{}
	for _, n := range r.nodes {
		b.WriteString(n.task.Addr())
		if n.picked {
			b.WriteByte('+')
		}
		b.WriteByte('\n')
		for _, v := range slices.Concat(n.task.Env, n.task.Uncounted) {
			if val, ok := r.variable(v); !seen[v.Name] || v.Given {
				seen[v.Name] = true
				fmt.Fprintf(&b, "env %q %q %v\n", v.Name, val, ok)
			}
		}
	}
	_, _ = h.Write([]byte(b.String()))
	return digest.From(h)
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

// probesNow returns a digest of what every probe answers. Of a steady one, what
// its answer depends on beside files stands for the answer.
func (r *run) probesNow(ctx context.Context) (digest.Digest, error) {
	list := r.questions()
	h := digest.New()
	for _, q := range list {
		p := r.Graph.Repo.Probes[q.probe]
		text := ""
		if p.Steady {
			text = r.steadyOn(q)
		}
		if text == "" {
			var err error
			if text, err = r.ask1(ctx, q); err != nil {
				return digest.Digest{}, err
			}
		}
		where := ""
		if q.project != nil {
			where = q.project.Name
		}
		fmt.Fprintf(h, "%q %q %q\n", q.probe, where, text)
	}
	return digest.From(h), nil
}

// outputsNow returns a digest of what is at all writes of the plan's tasks.
func (r *run) outputsNow(taken int64) (sum digest.Digest, settled bool, err error) {
	parts := make([][]byte, len(r.nodes))
	fine := make([]bool, len(r.nodes))
	errs := make([]error, len(r.nodes))
	each(len(r.nodes), func(i int) {
		t := r.nodes[i].task
		fine[i] = true
		if t.Transparent() {
			return
		}
		var found listing.List
		if found, errs[i] = r.outputs(t).Found(); errs[i] != nil {
			return
		}
		paths := make([]string, len(found))
		var kinds []byte
		for j, f := range found {
			paths[j] = joinDir(t.Project, f.Path)
			kinds = append(kinds, byte(f.Kind))
		}
		parts[i], fine[i], errs[i] = r.Files.Stamps(kinds, paths, taken)
	})
	h := digest.New()
	settled = true
	for i := range parts {
		if errs[i] != nil {
			return sum, false, errs[i]
		}
		settled = settled && fine[i]
		fmt.Fprintf(h, "%d ", len(parts[i]))
		_, _ = h.Write(parts[i])
	}
	return digest.From(h), settled, nil
}

func joinDir(p *graph.Project, rel string) string {
	if p.Dir == "." {
		return rel
	}
	return p.Dir + "/" + rel
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

// journalNow identifies the journal's contents.
func (r *run) journalNow() string {
	info, err := os.Stat(r.State.Journal())
	if err != nil {
		return ""
	}
	return fmt.Sprint(info.Size(), info.ModTime().UnixNano())
}

// tryQuick tells whether all is as a run noted that found everything current;
// then every task has its result.
func (r *run) tryQuick(ctx context.Context, v *files.Survey) bool {
	if r.opt.Anew || !r.quickly {
		return false
	}
	r.quick.mine, r.quick.taken = r.askedFor(), v.Taken()
	r.quick.files, r.quick.usable = v.Sum()
	noted := files.Opened(quickHead, r.State.QuickFile())
	if len(noted) == 0 || r.journalNow() == "" {
		return false
	}
	probes, err := r.probesNow(ctx)
	if err != nil {
		return false
	}
	outputs, _, err := r.outputsNow(r.quick.taken)
	if err != nil || string(noted) != r.quickText(probes, outputs) {
		return false
	}
	for _, n := range r.nodes {
		last, ok := r.State.Last(n.task.Addr())
		if !ok || last.Failed {
			return false
		}
		n.result = &Result{
			Task: n.task, Outcome: Current, Key: last.Key, Listing: last.Listing, Log: last.Log, Made: last.Took, Ingredients: last.Ingredients,
			Picked: n.picked, At: r.Now().Sub(r.began),
		}
	}
	for _, n := range r.nodes {
		n.phase = done
		r.Observer.Done(n.result)
	}
	return true
}

func (r *run) quickText(probes, outputs digest.Digest) string {
	return fmt.Sprintf("%s\n%s\n%s\n%s\n%s\n", r.quick.mine, r.quick.files, probes, outputs, r.journalNow())
}

// noteQuick notes what a run rested on that found everything current.
func (r *run) noteQuick(ctx context.Context) {
	if !r.quick.usable || ctx.Err() != nil {
		return
	}
	for _, n := range r.nodes {
		if n.result == nil || n.result.Outcome != Current {
			return
		}
	}
	probes, err := r.probesNow(ctx)
	if err != nil {
		return
	}
	outputs, settled, err := r.outputsNow(r.quick.taken)
	if err != nil || !settled {
		return
	}
	// What cannot be noted is found out again the next time.
	_ = files.WriteFile(r.State.QuickFile(), files.Sealed(quickHead, []byte(r.quickText(probes, outputs))))
}
