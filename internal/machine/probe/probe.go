// Package probe runs probes: commands whose output is part of keys. A probe
// runs once per run, or its output is remembered from an earlier run while
// everything that it opened, looked for or ran is the same, as a tracer recorded it.
package probe

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/environment"
	"grayloft.example/grayloft/internal/machine/process"
	"grayloft.example/grayloft/internal/machine/sandbox"
)

// Limit is how long a probe may take.
const Limit = 10 * time.Second

// Question is a probe as it is run: once for the repository, or for a project.
type Question struct {
	Probe   string
	Project *graph.Project // nil: the repository
}

// Dir returns the directory that the probe runs in, relative to the root.
func (q Question) Dir() string {
	if q.Project == nil {
		return "."
	}
	return q.Project.Dir
}

// Of returns the question that answers a probe for a project.
func Of(g *graph.Graph, name string, p *graph.Project) Question {
	if !g.Repo.Probes[name].PerProject {
		p = nil
	}
	return Question{name, p}
}

// Questions returns the questions of the probes of tasks, in order.
func Questions(g *graph.Graph, tasks []*graph.Task) []Question {
	seen := map[Question]bool{}
	for _, t := range tasks {
		for _, p := range t.Decl.Probes.Items {
			seen[Of(g, p.Text, t.Project)] = true
		}
	}
	return slices.SortedFunc(maps.Keys(seen), func(a, b Question) int {
		return cmp.Or(cmp.Compare(a.Probe, b.Probe), cmp.Compare(a.Dir(), b.Dir()))
	})
}

// Prober runs probes for one run. It is safe for concurrent use.
type Prober struct {
	Graph *graph.Graph
	Env   environment.Environment
	Root  string // of the repository
	Memo  string // directory of remembered answers
	Run   string // id
	Kill  <-chan struct{}

	seen    sync.Map // statuses that were taken when the run began
	mu      sync.Mutex
	answers map[Question]given
	records map[string]*record // by name
	again   map[Question]*asking
}

// given is an answer of this run: when it was asked for or confirmed, and what it depended on; nil if
// that is not known.
type given struct {
	text      string
	at        time.Time
	depends   depends
	unknown   error // why that is not known, although it was traced
	wasTraced bool  // there is no point in tracing it again
}

// All answers questions in parallel, from memory if possible. Files are the
// files that probes read.
func (p *Prober) All(ctx context.Context, list []Question, files Files) (map[Question]string, error) {
	out := map[Question]string{}
	err := inParallel(list, func(q Question) (string, error) { return p.answer(ctx, q, files) }, out)
	return out, err
}

// inParallel adds the answers to questions, and returns all errors in order.
func inParallel(list []Question, answer func(Question) (string, error), to map[Question]string) error {
	var mu sync.Mutex
	var errs []error
	var g errgroup.Group
	g.SetLimit(2 * runtime.GOMAXPROCS(0))
	for _, q := range list {
		g.Go(func() error {
			text, err := answer(q)
			mu.Lock()
			defer mu.Unlock()
			to[q] = text
			if err != nil {
				errs = append(errs, err)
			}
			return nil
		})
	}
	_ = g.Wait()
	slices.SortFunc(errs, func(a, b error) int { return cmp.Compare(a.Error(), b.Error()) })
	return errors.Join(slices.CompactFunc(errs, func(a, b error) bool { return a.Error() == b.Error() })...) // of one record, one
}

func (p *Prober) answer(ctx context.Context, q Question, files Files) (string, error) {
	declared := p.Graph.Repo.Probes[q.Probe]
	if !declared.Rememberable || declared.Installed.Text != "" {
		return p.ask(ctx, q, false)
	}
	asked := p.asked(q, files)
	at := time.Now()
	r, ok := p.recall(q, asked)
	if ok && r.Unknown == "" {
		on := slices.Clone(r.Depends)
		if len(declared.Reads) > 0 {
			for _, f := range declared.FilesOf(q.Dir(), files.Paths()) {
				x := dependence{Path: filepath.Join(p.Root, filepath.FromSlash(f))}
				x.Status = p.look(x)
				on = append(on, x)
			}
		}
		p.keep(q, given{text: r.Text, at: at, depends: on, wasTraced: true})
		return r.Text, nil
	}
	text, err := p.ask(ctx, q, !ok)
	switch known := p.known(q); {
	case err != nil:
	case known.depends != nil:
		p.remember(q, recall{Asked: asked, Text: text, Depends: known.depends.without(p.isDeclared(q))})
	case errors.Is(known.unknown, errUnknown): // nor will it be known the next time
		p.remember(q, recall{Asked: asked, Unknown: known.unknown.Error()})
	}
	return text, err
}

// Fingerprints returns, for each question, a text that changes if the answer
// may have changed for another reason than the files that the probe reads: the
// answer itself, if no files have to be looked at for it.
func (p *Prober) Fingerprints(ctx context.Context, list []Question) (map[Question]string, error) {
	out := map[Question]string{}
	var open []Question
	for _, q := range list {
		declared := p.Graph.Repo.Probes[q.Probe]
		if declared.Rememberable && (q.Project != nil || len(declared.Reads) > 0) {
			if text, ok := p.texts(q); ok {
				out[q] = text
				continue
			}
		}
		open = append(open, q)
	}
	err := inParallel(open, func(q Question) (string, error) {
		if len(p.Graph.Repo.Probes[q.Probe].Reads) > 0 {
			return p.ask(ctx, q, true) // which files it reads is not known yet
		}
		return p.answer(ctx, q, nil)
	}, out)
	return out, err
}

// ask runs a probe, unless it has already run in this run.
func (p *Prober) ask(ctx context.Context, q Question, traced bool) (string, error) {
	if known := p.known(q); !known.at.IsZero() {
		return known.text, nil
	}
	g, err := p.run(ctx, q, traced)
	if err != nil {
		return "", err
	}
	p.keep(q, g)
	return g.text, nil
}

// known returns the answer of this run; its time is zero if there is none.
func (p *Prober) known(q Question) given {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.answers[q]
}

func (p *Prober) keep(q Question, g given) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.answers == nil {
		p.answers = map[Question]given{}
	}
	p.answers[q] = g
}

// isDeclared returns a function that tells whether a probe declares that it reads a file, by its path
// on the disk.
func (p *Prober) isDeclared(q Question) func(path string) bool {
	declared := p.Graph.Repo.Probes[q.Probe]
	return func(name string) bool {
		rel, ok := strings.CutPrefix(filepath.ToSlash(name), filepath.ToSlash(p.Root)+"/")
		return ok && len(declared.FilesOf(q.Dir(), []string{rel})) > 0
	}
}

// environment is that of a probe.
func (p *Prober) environment(q Question) []string {
	env := p.Env.Base()
	if q.Project != nil {
		env = append(env, "GRAYLOFT_PROJECT="+q.Project.Name, "GRAYLOFT_PROJECT_DIR="+q.Dir())
	}
	return env
}

func (p *Prober) run(ctx context.Context, q Question, traced bool) (given, error) {
	declared := p.Graph.Repo.Probes[q.Probe]
	at := time.Now()
	if declared.Installed.Text != "" {
		text, on, err := p.installed(q, at)
		return given{text: text, at: at, depends: on, wasTraced: true}, err
	}
	name := declared.Name
	if q.Project != nil {
		name += "@" + q.Project.Name
	}
	var out answer
	cmd := process.Command{
		Words: declared.Run.Words(), Dir: p.dir(q), Env: p.environment(q), Mark: p.Run + "/probe/" + name,
		Timeout: Limit, Grace: time.Second, Output: &out, Kill: p.Kill,
	}
	var w watched
	if traced = traced && sandbox.CanTrace() == nil; traced {
		w.dress(&cmd)
	}
	res := process.Run(ctx, cmd)
	if !res.OK() {
		return given{}, &FailedError{name, declared, res, strings.TrimRight(out.head.String(), "\n")}
	}
	g := given{text: out.String(), at: at, wasTraced: traced}
	if traced {
		g.depends, g.unknown = w.depends(at, p.isDeclared(q))
	}
	return g, nil
}

func (p *Prober) dir(q Question) string { return filepath.Join(p.Root, filepath.FromSlash(q.Dir())) }
