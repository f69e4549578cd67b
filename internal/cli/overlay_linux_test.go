package cli_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"grayloft.example/grayloft/internal/trial"
)

// A checkout in the image of a container is the lower layer of an overlay: its directories cannot
// be renamed.
func TestAnImportInALowerLayerIsUpdated(t *testing.T) {
	t.Parallel()
	h, r := trial.New(t, house), trial.New(t, quayside)
	if a := r.Grayloft("import", "add", "house", "file://"+h.Dir, "--rev", "main"); a.Code != 0 {
		t.Fatalf("exit %d, %s", a.Code, a.Err)
	}
	r.Commit("an import")
	c := &trial.Repo{T: t, Dir: t.TempDir(), Env: r.Env}
	layers := fmt.Sprintf("lowerdir=%s,upperdir=%s,workdir=%s", r.Dir, t.TempDir(), t.TempDir())
	if err := unix.Mount("overlay", c.Dir, "overlay", 0, layers); errors.Is(err, unix.EPERM) {
		t.Skip("only root may mount an overlay")
	} else if err != nil {
		t.Skip("this system has no overlays here: ", err)
	}
	t.Cleanup(func() {
		if err := unix.Unmount(c.Dir, unix.MNT_DETACH); err != nil {
			t.Error(err)
		}
	})
	h.Write("templates/library/readme.txt", "%{name}, newer\n")
	h.Commit("newer")
	if a := c.Grayloft("import", "update", "house"); a.Code != 0 || !strings.Contains(a.Out, "house: ") {
		t.Errorf("exit %d, %s%s", a.Code, a.Out, a.Err)
	}
	if got := c.Read("build/imports/house/templates/library/readme.txt"); !strings.Contains(got, "newer") || c.Has("build/imports/.house.old") {
		t.Errorf("it has %q", got)
	}
	if got := c.Git("status", "--short"); strings.Contains(got, "??") || strings.Contains(got, " D") {
		t.Errorf("git sees\n%s", got)
	}
}
