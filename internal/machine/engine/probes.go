package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/machine/files"
	"grayloft.example/grayloft/internal/machine/process"
)

// question is a probe as it is asked: once for the repository, or for one
// project.
type question struct {
	probe   string
	project *graph.Project // nil: the repository
}

// asked returns the question that answers a probe for a project.
func (r *run) asked(probe string, p *graph.Project) question {
	if !r.Graph.Repo.Probes[probe].PerProject {
		p = nil
	}
	return question{probe, p}
}

// questions returns what the probes of the plan's tasks are asked, in order.
func (r *run) questions() []question {
	seen := map[question]bool{}
	for _, n := range r.nodes {
		for _, p := range n.task.Decl.Probes.Items {
			seen[r.asked(p.Text, n.task.Project)] = true
		}
	}
	return slices.SortedFunc(maps.Keys(seen), func(a, b question) int {
		if c := cmp.Compare(a.probe, b.probe); c != 0 || a.project == nil || b.project == nil {
			return c
		}
		return cmp.Compare(a.project.Name, b.project.Name)
	})
}

// runProbes asks every probe that a task of the plan counts.
func (r *run) runProbes(ctx context.Context) (map[question]string, error) {
	out := map[question]string{}
	for _, q := range r.questions() {
		out[q] = ""
	}
	var mu sync.Mutex
	var errs []error
	var g errgroup.Group
	g.SetLimit(2 * runtime.GOMAXPROCS(0))
	for _, q := range slices.Collect(maps.Keys(out)) {
		g.Go(func() error {
			text, err := r.probe(ctx, q)
			mu.Lock()
			defer mu.Unlock()
			out[q] = text
			if err != nil {
				errs = append(errs, err)
			}
			return nil
		})
	}
	_ = g.Wait()
	slices.SortFunc(errs, func(a, b error) int { return cmp.Compare(a.Error(), b.Error()) })
	return out, errors.Join(errs...)
}

// ProbeLimit is how long a probe may take.
const ProbeLimit = 10 * time.Second

func (r *run) probe(ctx context.Context, q question) (string, error) {
	memo, memoKey := r.probeMemo(q)
	if memo != "" {
		return memo, nil
	}
	text, err := r.ask1(ctx, q)
	if err == nil && memoKey != "" {
		r.saveMemo(memoKey, text)
	}
	return text, err
}

// ask1 runs a probe, unless it has been run in this run.
func (r *run) ask1(ctx context.Context, q question) (string, error) {
	r.answersMu.Lock()
	text, ok := r.answers[q]
	r.answersMu.Unlock()
	if ok {
		return text, nil
	}
	p := r.Graph.Repo.Probes[q.probe]
	var out limited
	env, dir, name := r.environment(nil), ".", p.Name
	if q.project != nil {
		dir, name = q.project.Dir, p.Name+"@"+q.project.Name
		env = append(env, "GRAYLOFT_PROJECT="+q.project.Name, "GRAYLOFT_PROJECT_DIR="+dir)
	}
	res := process.Run(ctx, process.Command{
		Words: p.Run.Words(), Dir: filepath.Join(r.State.Root, filepath.FromSlash(dir)), Env: env,
		Mark: r.opt.Run + "/probe/" + name, Timeout: ProbeLimit, Grace: time.Second, Output: &out, Kill: r.opt.Kill,
	})
	if !res.OK() {
		return "", fmt.Errorf("probe %q (%s, in %s): %s\n%s", name, p.Run, p.Pos.At(), res, strings.TrimRight(out.String(), "\n"))
	}
	text = strings.TrimRight(out.String(), "\n")
	r.answersMu.Lock()
	defer r.answersMu.Unlock()
	if r.answers == nil {
		r.answers = map[question]string{}
	}
	r.answers[q] = text
	return text, nil
}

// limited keeps the first 64 KiB of what is written to it.
type limited struct{ strings.Builder }

func (l *limited) Write(p []byte) (int, error) {
	if room := 64<<10 - l.Len(); room > 0 {
		l.Builder.Write(p[:min(room, len(p))])
	}
	return len(p), nil
}

// probeMemo returns the remembered output of a steady probe, and the name
// under which to remember it: the resolved program, PATH, and the digests of
// the files that the probe reads.
func (r *run) probeMemo(q question) (out, memoKey string) {
	p, dir := r.Graph.Repo.Probes[q.probe], "."
	if q.project != nil {
		dir = q.project.Dir
	}
	on := r.steadyOn(q)
	if !p.Rememberable || on == "" {
		return "", ""
	}
	h := digest.New()
	_, _ = h.Write([]byte(on))
	for _, f := range r.snap.Paths() {
		if len(p.Reads) > 0 && p.ReadsFile(dir, f) {
			row, err := r.Files.Memory.Row(f)
			fmt.Fprintf(h, "%v %v ", row, err)
		}
	}
	memoKey = digest.From(h).String()
	b, err := os.ReadFile(filepath.Join(r.State.Root, checkout.Dir, "probes", memoKey))
	if err != nil {
		return "", memoKey
	}
	return string(b), memoKey
}

// steadyOn returns what the answer of a steady probe depends on beside the
// files that it reads; nothing where its program is not found.
func (r *run) steadyOn(q question) string {
	p, dir := r.Graph.Repo.Probes[q.probe], "."
	if q.project != nil {
		dir = q.project.Dir
	}
	search, _ := lookupEnv(r.Env, "PATH")
	word := p.Run.Words()[0]
	if p.Run.Argv == nil {
		word = strings.Fields(p.Run.Shell)[0]
	}
	full := find(word, search)
	if full == "" {
		return ""
	}
	info, err := os.Stat(full)
	if err != nil {
		return ""
	}
	return fmt.Sprintf("%q %q %q %q %d %d ", p.Run.Words(), search, dir, full, info.Size(), info.ModTime().UnixNano())
}

func find(word, path string) string {
	if strings.ContainsRune(word, '/') {
		return word
	}
	for _, dir := range filepath.SplitList(path) {
		full := filepath.Join(dir, word)
		if info, err := os.Stat(full); err == nil && info.Mode().IsRegular() && info.Mode()&0o111 != 0 {
			return full
		}
	}
	return ""
}

func (r *run) saveMemo(memoKey, text string) {
	dir := filepath.Join(r.State.Root, checkout.Dir, "probes")
	if os.MkdirAll(dir, 0o755) == nil {
		_ = files.WriteFile(filepath.Join(dir, memoKey), []byte(text))
	}
}
