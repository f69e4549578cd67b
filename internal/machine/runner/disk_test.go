package runner

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/machine/sandbox"
	"grayloft.example/grayloft/internal/protocol"
)

// Whoever runs jobs as root restricts them by namespaces as well.
func TestConfinementFollowsTheUser(t *testing.T) {
	all := sandbox.Ability{Files: true, Place: true, Processes: true}
	for _, c := range []struct {
		able sandbox.Ability
		uid  int
		want sandbox.Ability
	}{
		{all, 0, all},
		{all, 1000, sandbox.Ability{Place: true, Processes: true}},
		{sandbox.Ability{Files: true}, 1000, sandbox.Ability{Files: true}},
		{sandbox.Ability{Files: true, Place: true}, 1000, sandbox.Ability{Files: true}},
	} {
		if got := confinement(c.able, c.uid); got != c.want {
			t.Errorf("%+v of user %d: %+v", c.able, c.uid, got)
		}
	}
}

func TestAJobIsStoppedWhereverItWrites(t *testing.T) {
	t.Parallel()
	for what, c := range map[string]struct {
		write func(d jobDirs) error
		want  string
	}{
		"the checkout": {func(d jobDirs) error { return os.WriteFile(filepath.Join(d.root, "x"), make([]byte, 2000), 0o644) }, "more than"},
		"its home":     {func(d jobDirs) error { return os.WriteFile(filepath.Join(d.home, "x"), make([]byte, 2000), 0o644) }, "more than"},
		"its cache":    {func(d jobDirs) error { return os.WriteFile(filepath.Join(d.cache, "x"), make([]byte, 2000), 0o644) }, "more than"},
		"little":       {func(d jobDirs) error { return os.WriteFile(filepath.Join(d.cache, "x"), make([]byte, 100), 0o644) }, ""},
	} {
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			top := t.TempDir()
			d := jobDirs{root: filepath.Join(top, "job"), home: filepath.Join(top, "home"), cache: filepath.Join(top, "cache")}
			for _, dir := range []string{d.root, d.home, d.cache} {
				if err := os.Mkdir(dir, 0o755); err != nil {
					t.Fatal(err)
				}
			}
			// What others had there does not count.
			if err := os.WriteFile(filepath.Join(d.cache, "old"), make([]byte, 5000), 0o644); err != nil {
				t.Fatal(err)
			}
			before, _ := sizeOf(t.Context(), d.home, d.cache)
			if err := c.write(d); err != nil {
				t.Fatal(err)
			}
			if err := tooMuch(t.Context(), d, before, 1000); (err != nil) != (c.want != "") || err != nil && !strings.Contains(err.Error(), c.want) {
				t.Error(err)
			}
		})
	}
}

// Homes and caches of shelves have a bound, and those in use stay.
func TestHomesOfShelvesAreBounded(t *testing.T) {
	r := &Runner{Config: Config{Dir: t.TempDir(), Disk: 1000, Say: func(s string) { t.Error(s) }}}
	work := func(shelf string) func() {
		end := r.use(shelf)
		if _, err := r.dirsOf(protocol.Work{Shelf: shelf}); err != nil {
			t.Fatal(err)
		}
		return end
	}
	kept := func() int {
		list, _ := os.ReadDir(filepath.Join(r.Dir, "for"))
		return len(list)
	}
	long := work("long")
	for i := range mostShelves + 20 {
		work(fmt.Sprint("person/", i))()
	}
	if n := kept(); n > mostShelves+1 {
		t.Errorf("%d homes are kept", n)
	}
	if _, err := os.Stat(r.sharedDir("long")); err != nil {
		t.Error("the home of a job that runs was removed")
	}
	if err := os.WriteFile(filepath.Join(r.sharedDir("long"), "home", "x"), make([]byte, 2000), 0o644); err != nil {
		t.Fatal(err)
	}
	long()
	if _, err := os.Stat(r.sharedDir("long")); err == nil {
		t.Error("a home that is too large was kept")
	}
	r.trim(time.Now().Add(keepShelf + time.Hour))
	if n := kept(); n != 0 {
		t.Errorf("%d homes are kept for ever", n)
	}
}

func TestADirectoryThatCannotBeListedIsSeen(t *testing.T) {
	if os.Getuid() == 0 {
		t.Skip("root can list everything")
	}
	dir := t.TempDir()
	if err := os.Mkdir(filepath.Join(dir, "closed"), 0); err != nil {
		t.Fatal(err)
	}
	if _, closed := sizeOf(context.Background(), dir); closed == "" {
		t.Error("it was not seen")
	}
}
