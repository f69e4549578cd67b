// Package probe runs probes: commands whose output is part of keys. A probe
// runs once per run, or its output is remembered from an earlier run while its
// program and the files that it reads are the same.
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

	mu         sync.Mutex
	answers    map[Question]string
	identified map[place]identity
	records    map[string]*record  // by name
	kept       map[string][]string // names of remembered answers when the run began, by how they begin
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
	text, memoKey := p.recall(q, files)
	if text != "" {
		return text, nil
	}
	text, err := p.ask(ctx, q)
	if err == nil && memoKey != "" {
		p.remember(q, memoKey, text)
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
			if text, err := p.programs(q); err == nil {
				out[q] = text
				continue
			}
		}
		open = append(open, q)
	}
	err := inParallel(open, func(q Question) (string, error) { return p.answer(ctx, q, nil) }, out)
	return out, err
}

// ask runs a probe, unless it has already run in this run.
func (p *Prober) ask(ctx context.Context, q Question) (string, error) {
	p.mu.Lock()
	text, ok := p.answers[q]
	p.mu.Unlock()
	if ok {
		return text, nil
	}
	text, err := p.run(ctx, q)
	if err != nil {
		return "", err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.answers == nil {
		p.answers = map[Question]string{}
	}
	p.answers[q] = text
	return text, nil
}

func (p *Prober) run(ctx context.Context, q Question) (string, error) {
	declared := p.Graph.Repo.Probes[q.Probe]
	if declared.Installed.Text != "" {
		return p.installed(q)
	}
	env, name := p.Env.Base(), declared.Name
	if q.Project != nil {
		name += "@" + q.Project.Name
		env = append(env, "GRAYLOFT_PROJECT="+q.Project.Name, "GRAYLOFT_PROJECT_DIR="+q.Dir())
	}
	var out answer
	res := process.Run(ctx, process.Command{
		Words: declared.Run.Words(), Dir: p.dir(q), Env: env, Mark: p.Run + "/probe/" + name,
		Timeout: Limit, Grace: time.Second, Output: &out, Kill: p.Kill,
	})
	if !res.OK() {
		return "", &FailedError{name, declared, res, strings.TrimRight(out.head.String(), "\n")}
	}
	return out.String(), nil
}

func (p *Prober) dir(q Question) string { return filepath.Join(p.Root, filepath.FromSlash(q.Dir())) }
