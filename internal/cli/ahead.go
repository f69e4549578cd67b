package cli

import (
	"context"
	"os"
	"path/filepath"
	"sync"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/machine/files"
	"grayloft.example/grayloft/internal/machine/git"
	"grayloft.example/grayloft/internal/machine/outputs"
)

// ahead is the part of a run's preparation that can start before its
// declarations are read: the files of the checkout, their remembered digests,
// and the last outcomes of tasks.
type ahead struct {
	root   string
	files  *files.Checkout
	loaded sync.WaitGroup // the last outcomes of tasks
	state  func() (*checkout.State, error)
}

// begun starts it.
func (a *app) begun(ctx context.Context, root string) *ahead {
	h := &ahead{root: root, files: &files.Checkout{Root: root, Git: git.Repo{Dir: root}, Memory: files.NewMemory(root)}}
	recovered := outputs.PutBackAll(root) // before anything looks at the files
	h.files.Ahead(ctx)
	h.files.Memory.Load(filepath.Join(root, checkout.Dir, checkout.DigestFile))
	h.state = sync.OnceValues(func() (*checkout.State, error) {
		if recovered != nil {
			return nil, recovered
		}
		return checkout.Open(root)
	})
	h.loaded.Go(func() { _, _ = h.state() }) // whoever needs the state gets the error again
	return h
}

// loadAhead loads a repository for a command that will look at its files.
func (a *app) loadAhead(ctx context.Context) (*repository, error) {
	root, err := a.findRoot()
	if err != nil {
		return nil, err
	}
	var h *ahead
	// If there is no repository, nothing is started and nothing is written.
	if _, err := os.Stat(filepath.Join(root, decl.RootFile)); err == nil {
		h = a.begun(ctx, root)
	}
	r, err := a.load(ctx)
	if err != nil {
		return nil, err
	}
	r.ahead = h
	return r, nil
}
