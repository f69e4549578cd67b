//go:build linux || darwin

package files

import (
	"os"
	"path/filepath"
	"slices"
	"testing"
)

// What is remembered is used again after changes that an editor or a commit makes: git is not asked
// which files it ignores, and the checkout is not walked.
func TestACheckoutIsNotWalkedAgainForAFewChanges(t *testing.T) {
	p := &place{t: t, root: t.TempDir()}
	p.withState()
	p.write(".gitignore", "*.tmp\nbuilt/\n")
	p.write("a/text", "one")
	p.write("a/built/x", "x")
	p.write("b/text", "two")
	p.git("add", "-A")
	p.git("commit", "-q", "-m", "first")
	p.visible()
	rename := func(from, to string) {
		t.Helper()
		if err := os.Rename(filepath.Join(p.root, from), filepath.Join(p.root, to)); err != nil {
			t.Fatal(err)
		}
	}
	remove := func(name string) { _ = os.RemoveAll(filepath.Join(p.root, name)) }
	first := []string{".gitignore", "a/text", "b/text"}
	more := []string{".gitignore", "a/more", "a/text", "b/text"}
	for _, c := range []struct {
		what   string
		change func()
		want   []string
	}{
		{"saved under another name first", func() { p.write("a/text.tmp", "new"); rename("a/text.tmp", "a/text") }, first},
		{"committed", func() { p.git("commit", "-q", "-a", "-m", "next") }, first},
		{"an ignored file", func() { p.write("b/x.tmp", "") }, first},
		{"ignored directories", func() { p.write("b/built/deep/x", "x"); _ = os.RemoveAll(filepath.Join(p.root, "a/built")) }, first},
		{"a new file", func() { p.write("a/more", "x") }, more},
		{"added", func() { p.git("add", "-A") }, more},
		{"removed", func() { p.git("rm", "-q", "-f", "a/more") }, first},
		{"a new directory", func() {
			p.write("c/deep/built/x", "")
			p.write("c/deep/x.tmp", "")
			p.write("c/deep/in", "")
			p.write("c/text", "")
		},
			append(slices.Clone(first), "c/deep/in", "c/text")},
		{"committed", func() { p.git("add", "-A"); p.git("commit", "-q", "-m", "more") }, append(slices.Clone(first), "c/deep/in", "c/text")},
		{"more in it", func() { p.write("c/deep/new", ""); remove("c/text") }, append(slices.Clone(first), "c/deep/in", "c/deep/new")},
		{"it is gone", func() { remove("c") }, first},
		{"it comes back from the last commit", func() { p.git("checkout", "-q", "-f", "HEAD", "c") },
			append(slices.Clone(first), "c/deep/in", "c/text")},
		{"another name for it", func() { rename("c", "b/c") }, []string{".gitignore", "a/text", "b/c/deep/in", "b/c/text", "b/text"}},
		{"a branch without it", func() { remove("b/c"); p.git("checkout", "-q", "-f", "HEAD~1") }, first},
		{"a branch with it", func() { p.git("checkout", "-q", "-f", "-") }, append(slices.Clone(first), "c/deep/in", "c/text")},
		{"a tracked file in an ignored directory", func() { p.write("d/built/kept", ""); p.write("d/built/x", ""); p.git("add", "-f", "d/built/kept") },
			append(slices.Clone(first), "c/deep/in", "c/text", "d/built/kept")},
		{"without new directories", func() { p.git("rm", "-q", "-r", "-f", "c", "d/built/kept"); remove("d") }, first},
		{"nothing", func() {}, first},
	} {
		c.change()
		if got, ok := p.settled().fromRoster(t.Context()); !ok {
			t.Errorf("%s: all files were looked for", c.what)
		} else if names := (&Survey{list: got}).Paths(); !slices.Equal(names, c.want) {
			t.Errorf("%s: %q, want %q", c.what, names, c.want)
		}
	}
}

// Where a new directory brings rules of its own, or a repository, the checkout is walked.
func TestANewDirectoryMayDecideWhatCounts(t *testing.T) {
	p := &place{t: t, root: t.TempDir()}
	p.withState()
	p.write("a/text", "one")
	p.git("add", "-A")
	p.git("commit", "-q", "-m", "first")
	for _, c := range []struct {
		what   string
		change func()
		want   []string
	}{
		{"at first", func() {}, []string{"a/text"}},
		{"rules", func() { p.write("b/c/.gitignore", "*.x\n"); p.write("b/c/1.x", ""); p.write("b/c/1.y", "") }, []string{"a/text", "b/c/.gitignore", "b/c/1.y"}},
		{"a repository", func() { p.git("init", "-q", "d/e"); p.write("d/e/text", ""); p.write("d/text", "") },
			[]string{"a/text", "b/c/.gitignore", "b/c/1.y", "d/text"}},
	} {
		c.change()
		if got := p.visible(); !slices.Equal(got, c.want) {
			t.Errorf("%s: %q, want %q", c.what, got, c.want)
		}
	}
}

// What decides which files count is looked at, beside the directories of a roster.
func TestFilesCountAsGitSaysNow(t *testing.T) {
	p := &place{t: t, root: t.TempDir()}
	p.withState()
	p.write(".gitignore", "*.tmp\nbuilt/\n")
	p.write("a/text", "one")
	p.write("a/x.tmp", "ignored")
	p.write("a/built/kept", "tracked, although ignored")
	p.git("add", "-A")
	p.git("add", "-f", "a/built/kept")
	p.git("commit", "-q", "-m", "first")
	remove := func(name string) { _ = os.RemoveAll(filepath.Join(p.root, name)) }
	all := []string{".gitignore", "a/built/kept", "a/text"}
	for _, c := range []struct {
		what   string
		change func()
		want   []string
	}{
		{"at first", func() {}, all},
		{"tracked from now on, although ignored", func() { p.git("add", "-f", "a/x.tmp") }, append(slices.Clone(all), "a/x.tmp")},
		{"tracked no more, and ignored", func() { p.git("rm", "-q", "--cached", "a/x.tmp") }, all},
		{"an ignored directory with a tracked file is gone", func() { remove("a/built") }, []string{".gitignore", "a/text"}},
		{"it is there again", func() { p.write("a/built/kept", "again") }, all},
		{"an ignored directory without tracked files", func() { p.write("b/built/x", "x"); p.write("b/text", "x") },
			append(slices.Clone(all), "b/text")},
		{"it gets a tracked file, which is gone again", func() { p.git("add", "-f", "b/built/x"); p.visible(); remove("b/built") },
			append(slices.Clone(all), "b/text")},
		{"the tracked file is there again", func() { p.write("b/built/x", "x") }, append(slices.Clone(all), "b/built/x", "b/text")},
		{"without them", func() { p.git("rm", "-q", "--cached", "b/built/x"); remove("b") }, all},
		{"an ignored file that is tracked is gone", func() { p.git("add", "-f", "a/x.tmp"); remove("a/x.tmp") }, all},
		{"it is there again", func() { p.write("a/x.tmp", "again") }, append(slices.Clone(all), "a/x.tmp")},
		{"a directory instead of a file", func() { remove("a/text"); p.write("a/text/in", "x") },
			[]string{".gitignore", "a/built/kept", "a/text/in", "a/x.tmp"}},
		{"a file instead of the directory", func() { remove("a/text"); p.write("a/text", "x") }, append(slices.Clone(all), "a/x.tmp")},
	} {
		c.change()
		if got := p.visible(); !slices.Equal(got, c.want) {
			t.Errorf("%s: %q, want %q", c.what, got, c.want)
		}
	}
}

// A directory is a submodule as long as git's index says so.
func TestADirectoryInPlaceOfASubmoduleCounts(t *testing.T) {
	other := &place{t: t, root: t.TempDir()}
	other.withState()
	other.write("inside", "x")
	other.git("add", "-A")
	other.git("commit", "-q", "-m", "first")
	p := &place{t: t, root: t.TempDir()}
	p.withState()
	p.write("a/text", "one")
	p.git("-c", "protocol.file.allow=always", "submodule", "add", "-q", other.root, "part")
	p.git("add", "-A")
	p.git("commit", "-q", "-m", "first")
	for _, c := range []struct {
		what   string
		change func()
		want   []string
	}{
		{"a submodule", func() {}, []string{".gitmodules", "a/text", "part/inside"}},
		{"it is gone", func() { p.git("rm", "-q", "-f", "part") }, []string{".gitmodules", "a/text"}},
		{"a directory of that name", func() { p.write("part/plain", "x") }, []string{".gitmodules", "a/text", "part/plain"}},
		{"more in it", func() { p.write("part/more", "x") }, []string{".gitmodules", "a/text", "part/more", "part/plain"}},
	} {
		c.change()
		if got := p.visible(); !slices.Equal(got, c.want) {
			t.Errorf("%s: %q, want %q", c.what, got, c.want)
		}
	}
}
