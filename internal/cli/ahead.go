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
)

// ahead is what a run needs and can be begun before its declarations are read:
// the files of the checkout, their remembered digests, how tasks came out last.
type ahead struct {
	root   string
	files  *files.Checkout
	loaded sync.WaitGroup // how tasks came out last
	state  func() (*checkout.State, error)
}

// begun begins it.
func (a *app) begun(ctx context.Context, root string) *ahead {
	h := &ahead{root: root, files: &files.Checkout{Root: root, Git: git.Repo{Dir: root}, Memory: files.NewMemory(root)}}
	h.files.Ahead(ctx)
	h.files.Memory.Load(filepath.Join(root, checkout.Dir, checkout.DigestFile))
	h.state = sync.OnceValues(func() (*checkout.State, error) { return checkout.Open(root) })
	h.loaded.Go(func() { _, _ = h.state() }) // an error is met again by who needs it
	return h
}

// loadAhead loads a repository for a command that will look at its files.
func (a *app) loadAhead(ctx context.Context) (*repository, error) {
	root, err := a.findRoot()
	if err != nil {
		return nil, err
	}
	var h *ahead
	// Nothing is begun, and nothing written, where there is nothing to read.
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
