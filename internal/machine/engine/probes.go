package engine

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/machine/files"
	"grayloft.example/grayloft/internal/machine/process"
)

// runProbes runs every probe that a task of the plan counts.
func (r *run) runProbes(ctx context.Context) (map[string]string, error) {
	wanted := map[string]bool{}
	for _, n := range r.nodes {
		for _, p := range n.task.Decl.Probes.Items {
			wanted[p.Text] = true
		}
	}
	names := make([]string, 0, len(wanted))
	for name := range wanted {
		names = append(names, name)
	}
	type answer struct {
		name, out string
		err       error
	}
	answers := make(chan answer)
	for _, name := range names {
		go func() {
			out, err := r.probe(ctx, r.Graph.Repo.Probes[name])
			answers <- answer{name, out, err}
		}()
	}
	out := map[string]string{}
	var errs []error
	for range names {
		a := <-answers
		out[a.name] = a.out
		if a.err != nil {
			errs = append(errs, a.err)
		}
	}
	return out, errors.Join(errs...)
}

// ProbeLimit is how long a probe may take.
const ProbeLimit = 10 * time.Second

func (r *run) probe(ctx context.Context, p *decl.Probe) (string, error) {
	memo, memoKey := r.probeMemo(p)
	if memo != "" {
		return memo, nil
	}
	var out limited
	res := process.Run(ctx, process.Command{
		Words: p.Run.Words(), Dir: r.State.Root, Env: r.environment(nil),
		Mark: r.opt.Run + "/probe/" + p.Name, Timeout: ProbeLimit, Grace: time.Second, Output: &out, Kill: r.opt.Kill,
	})
	if !res.OK() {
		return "", fmt.Errorf("probe %q (%s, in %s): %s\n%s", p.Name, p.Run, p.Pos.At(), res, strings.TrimRight(out.String(), "\n"))
	}
	text := strings.TrimRight(out.String(), "\n")
	if memoKey != "" {
		r.saveMemo(memoKey, text)
	}
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
func (r *run) probeMemo(p *decl.Probe) (out, memoKey string) {
	if !p.Steady {
		return "", ""
	}
	search, _ := lookupEnv(r.Env, "PATH")
	word := p.Run.Words()[0]
	if p.Run.Argv == nil {
		word = strings.Fields(p.Run.Shell)[0]
	}
	h := digest.New()
	fmt.Fprintf(h, "%q %q ", p.Run.Words(), search)
	full := find(word, search)
	if full == "" {
		return "", ""
	}
	info, err := os.Stat(full)
	if err != nil {
		return "", ""
	}
	fmt.Fprintf(h, "%q %d %d ", full, info.Size(), info.ModTime().UnixNano())
	for _, f := range r.snap.Paths() {
		for _, pat := range p.Reads {
			if pat.Match(f) {
				row, err := r.Files.Memory.Row(f)
				fmt.Fprintf(h, "%v %v ", row, err)
				break
			}
		}
	}
	memoKey = digest.From(h).String()
	b, err := os.ReadFile(filepath.Join(r.State.Root, checkout.Dir, "probes", memoKey))
	if err != nil {
		return "", memoKey
	}
	return string(b), memoKey
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
