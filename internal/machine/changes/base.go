package changes

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"grayloft.example/grayloft/internal/core/change"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/machine/git"
	"grayloft.example/grayloft/internal/machine/statefile"
)

// remembered is what the declarations of one commit say. It was read by one program, for one choice
// of settings.
type remembered struct {
	of   string
	base *change.Base
}

var baseFormat = statefile.Register(statefile.Format[remembered]{
	Name: "base", Version: 1,
	Encode: func(w *statefile.Writer, x remembered) {
		w.Text(x.of)
		w.Uint(uint64(len(x.base.Dirs)))
		for _, dir := range x.base.Dirs {
			w.Text(dir)
		}
		for addr, d := range x.base.Declared {
			w.Text(addr)
			w.Digest(d)
		}
	},
	Decode: func(r *statefile.Reader) remembered {
		x := remembered{r.Text(), &change.Base{Declared: map[string]digest.Digest{}}}
		for range r.Count(1) {
			x.base.Dirs = append(x.base.Dirs, r.Text())
		}
		for r.More() {
			addr := r.Text()
			x.base.Declared[addr] = r.Digest()
		}
		return x
	},
})

// baseAt returns what the declarations of a commit say. The last commit that was asked for is
// remembered, if the checkout has room for what is remembered.
func baseAt(ctx context.Context, repo git.Repo, q Question, commit string) (*change.Base, error) {
	of := fmt.Sprintf("%s %q %q %q %s", commit, q.Graph.Repo.Name, q.Modes, q.Sets, statefile.Program())
	file := filepath.Join(repo.Dir, checkout.Dir, "base")
	if x, ok := baseFormat.Load(file); ok && x.of == of {
		return x.base, nil
	}
	texts, err := repo.At(ctx, commit, func(p string) bool { return strings.HasSuffix(p, ".toml") })
	if err != nil {
		return nil, err
	}
	base, err := change.LoadBase(texts, q.Graph.Repo.Name, q.Modes, q.Sets)
	if err == nil {
		_ = baseFormat.Save(file, remembered{of, base})
	}
	return base, err
}
