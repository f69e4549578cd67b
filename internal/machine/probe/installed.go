package probe

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"sync"
	"time"

	"grayloft.example/grayloft/internal/core/installed"
)

// record is what a package manager installed, read once.
type record struct {
	once  sync.Once
	state *installed.State
	names []string // of the files that were read
	err   error
}

// installed answers a question about the packages of a project, and returns what the answer depends on.
func (p *Prober) installed(q Question, at time.Time) (string, depends, error) {
	declared := p.Graph.Repo.Probes[q.Probe]
	found := declared.Record(q.Dir())
	p.mu.Lock()
	r := p.records[found.Name]
	if r == nil {
		if p.records == nil {
			p.records = map[string]*record{}
		}
		r = &record{}
		p.records[found.Name] = r
	}
	p.mu.Unlock()
	r.once.Do(func() {
		var err error
		read := func(name string) ([]byte, error) {
			r.names = append(r.names, name)
			return p.read(name)
		}
		if r.state, err = found.Read(read); err == nil {
			return
		}
		if at := "repo:" + declared.Installed.Text; q.Dir() != "." && errors.Is(err, fs.ErrNotExist) {
			if _, atRoot := os.Lstat(filepath.Join(p.Root, filepath.FromSlash(declared.Installed.Text))); atRoot == nil {
				err = fmt.Errorf("%w, or declare installed = %q for what is installed at the root", err, at)
			}
		}
		r.err = &RecordError{declared, err}
	})
	if r.err != nil {
		return "", nil, r.err
	}
	manifest, err := p.read(path.Join(q.Dir(), installed.Manifest))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", nil, &RecordError{declared, err}
	}
	var out answer
	_, _ = out.Write([]byte(r.state.Part(q.Dir(), string(manifest), neededDirs(q))))
	on := depends{}
	for _, name := range append(r.names[:len(r.names):len(r.names)], path.Join(q.Dir(), installed.Manifest)) {
		x := dependence{Path: filepath.Join(p.Root, filepath.FromSlash(name))}
		var settled bool
		if x.Status, settled = x.look(at); !settled {
			return out.String(), nil, nil // it is read again
		}
		on = append(on, x)
	}
	return out.String(), on, nil
}

// missingError is of a file, named from the root, that does not exist.
type missingError string

func (e missingError) Error() string { return "there is no " + string(e) }

func (e missingError) Unwrap() error { return fs.ErrNotExist }

// read reads a file of the repository.
func (p *Prober) read(name string) ([]byte, error) {
	text, err := os.ReadFile(filepath.Join(p.Root, filepath.FromSlash(name)))
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, missingError(name)
	case err != nil:
		return nil, fmt.Errorf("cannot read %s: %w", name, err)
	}
	return text, nil
}

// neededDirs returns the directories of the projects that a question's project needs.
func neededDirs(q Question) (out []string) {
	if q.Project == nil {
		return nil
	}
	for _, n := range q.Project.NeedsAll {
		out = append(out, n.Dir)
	}
	return out
}
