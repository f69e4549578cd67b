//go:build !linux && !darwin

package files

import "context"

// found is a path with its status.
type found struct {
	path string
	st   stamp
}

func (found) dir() bool { return false } // git lists no directories

// survey asks git on this system.
func (c *Checkout) survey(ctx context.Context) ([]found, error) {
	paths, err := c.Git.Files(ctx)
	out := make([]found, len(paths))
	for i, p := range paths {
		out[i].path = p
	}
	return out, err
}
