package clones_test

import (
	"bytes"
	"compress/zlib"
	"crypto/sha1"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"grayloft.example/grayloft/internal/machine/clones"
)

// git runs git and returns what it printed.
func git(t *testing.T, dir string, args ...string) string {
	t.Helper()
	cmd := exec.Command("git", append([]string{"-c", "user.name=Kari", "-c", "user.email=kari@skerry.example"}, args...)...)
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("git %v: %v\n%s", args, err, out)
	}
	return strings.TrimSpace(string(out))
}

func write(t *testing.T, dir, name, text string) {
	t.Helper()
	file := filepath.Join(dir, name)
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

// setUp makes a repository, a clone of it in which somebody works, and a mirror.
func setUp(t *testing.T) (work string, m clones.Mirror) {
	t.Helper()
	dir := t.TempDir()
	first := filepath.Join(dir, "first")
	git(t, dir, "init", "-q", "-b", "main", first)
	for name, text := range map[string]string{
		"a.txt": "a\n", "old.txt": "moved\nlines\nof text\n", "gone.txt": "x\n", "run.sh": "#!/bin/sh\n", ".gitignore": "ignored\n",
		"lib/x.txt": strings.Repeat("line\n", 1000),
	} {
		write(t, first, name, text)
	}
	git(t, first, "add", "-A")
	git(t, first, "commit", "-qm", "first")
	git(t, dir, "clone", "-q", "--bare", first, "origin.git")
	git(t, dir, "clone", "-q", "origin.git", "work")
	m = clones.Mirror{Dir: filepath.Join(dir, "mirror"), From: filepath.Join(dir, "origin.git")}
	if err := m.Fetch(t.Context()); err != nil {
		t.Fatal(err)
	}
	return filepath.Join(dir, "work"), m
}

var limits = clones.Limits{Pack: 1 << 20, Bytes: 8 << 20, Tree: 8 << 20, Entries: 1000}

// apply makes a checkout of a state on another machine.
func apply(t *testing.T, m clones.Mirror, pack []byte, l clones.Local) (dir string, err error) {
	t.Helper()
	dir = filepath.Join(t.TempDir(), "tree")
	if err := m.CheckOut(t.Context(), dir, "", ""); err != nil {
		t.Fatal(err)
	}
	return dir, clones.Apply(t.Context(), dir, bytes.NewReader(pack), l, limits)
}

func TestLocalChangesArriveAsTheyAre(t *testing.T) {
	work, m := setUp(t)
	write(t, work, "lib/x.txt", strings.Repeat("line\n", 1000)+"one more\n") // pushed by nobody
	git(t, work, "commit", "-qam", "second")
	write(t, work, "a.txt", "staged\n")
	git(t, work, "add", "a.txt")
	write(t, work, "a.txt", "staged, and changed again\n")
	write(t, work, "new file.bin", "\x00\x01\xff binary")
	write(t, work, "ignored", "secret")
	write(t, work, ".git/info/exclude", "only-here\n")
	write(t, work, "only-here", "counts: the repository does not ignore it")
	git(t, work, "mv", "old.txt", "renamed.txt")
	for _, err := range []error{
		os.Remove(filepath.Join(work, "gone.txt")), os.Chmod(filepath.Join(work, "run.sh"), 0o755),
		os.Symlink("a.txt", filepath.Join(work, "link")),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}
	before := git(t, work, "status", "--porcelain")
	objects := git(t, work, "count-objects")

	var pack bytes.Buffer
	l, err := clones.Collect(t.Context(), work, limits.Pack, &pack)
	if err != nil {
		t.Fatal(err)
	}
	if l.Branch != "main" || l.Ahead != 1 || l.Files != 8 {
		t.Errorf("%+v", l)
	}
	if pack.Len() > 2000 {
		t.Errorf("the pack has %d bytes: it contains more than the changes", pack.Len())
	}
	if after := git(t, work, "status", "--porcelain"); after != before || git(t, work, "count-objects") != objects {
		t.Errorf("collecting changed the checkout:\n%s", after)
	}

	dir, err := apply(t, m, pack.Bytes(), l)
	if err != nil {
		t.Fatal(err)
	}
	if got := git(t, dir, "rev-parse", "HEAD"); got != l.Commit {
		t.Errorf("HEAD is %s, not %s", got, l.Commit)
	}
	if got := git(t, dir, "symbolic-ref", "--short", "HEAD"); got != "main" {
		t.Errorf("on %s", got)
	}
	git(t, dir, "add", "-A")
	if got := git(t, dir, "write-tree"); got != l.Tree {
		t.Errorf("the work tree is %s, not %s:\n%s", got, l.Tree, git(t, dir, "status", "--porcelain"))
	}
	if info, err := os.Stat(filepath.Join(dir, "run.sh")); err != nil || info.Mode()&0o100 == 0 {
		t.Error("run.sh is not executable")
	}
	if _, err := os.Stat(filepath.Join(dir, "ignored")); err == nil {
		t.Error("an ignored file was sent")
	}
}

func TestNothingIsSentOfAPushedCheckout(t *testing.T) {
	work, _ := setUp(t)
	var pack bytes.Buffer
	l, err := clones.Collect(t.Context(), work, limits.Pack, &pack)
	if err != nil || l.State != "" || pack.Len() > 0 || l.Commit != git(t, work, "rev-parse", "HEAD") {
		t.Errorf("%+v, %d bytes, %v", l, pack.Len(), err)
	}
}

func TestTooLargeChangesNameTheLargestFile(t *testing.T) {
	work, _ := setUp(t)
	noise := make([]byte, 3<<20)
	for i := range noise {
		noise[i] = byte(i * i >> 3 * (i % 251))
	}
	write(t, work, "video.bin", string(noise))
	_, err := clones.Collect(t.Context(), work, 1<<10, &bytes.Buffer{})
	var large *clones.TooLargeError
	if !errors.As(err, &large) || large.Largest != "video.bin" || !strings.Contains(err.Error(), "video.bin (3 MB)") {
		t.Error(err)
	}
}

// hostile makes a pack of a commit whose tree git itself would not make.
func hostile(t *testing.T, work string, entries string) ([]byte, clones.Local) {
	t.Helper()
	l := clones.Local{Commit: git(t, work, "rev-parse", "HEAD"), Branch: "main"}
	tree := exec.Command("git", "hash-object", "-w", "-t", "tree", "--literally", "--stdin")
	tree.Dir, tree.Stdin = work, strings.NewReader(entries)
	out, err := tree.Output()
	if err != nil {
		t.Fatal(err)
	}
	l.Tree = strings.TrimSpace(string(out))
	l.State = git(t, work, "commit-tree", l.Tree, "-p", l.Commit, "-m", "x")
	pack := exec.Command("git", "pack-objects", "--revs", "--stdout", "--quiet")
	pack.Dir, pack.Stdin = work, strings.NewReader(l.State+"\n^"+l.Commit+"\n")
	text, err := pack.Output()
	if err != nil {
		t.Fatal(err)
	}
	return text, l
}

func TestHostileChangesWriteNothing(t *testing.T) {
	work, m := setUp(t)
	write(t, work, "payload", "#!/bin/sh\ntouch pwned\n")
	id := git(t, work, "hash-object", "-w", "payload")
	raw := func(mode, name string) string {
		var b [20]byte
		for i := range b {
			for _, c := range id[2*i : 2*i+2] {
				b[i] = b[i]<<4 | byte(strings.IndexRune("0123456789abcdef", c))
			}
		}
		return mode + " " + name + "\x00" + string(b[:])
	}
	for what, entries := range map[string]string{
		"a file in .git":         raw("100644", ".git"),
		"a path that leads out":  raw("100644", ".."),
		"a path with slashes":    raw("100644", "../../pwned"),
		"the same name twice":    raw("100644", "x") + raw("120000", "x"),
		".git in other letters":  raw("100644", ".GIT"),
		"an absolute path":       raw("100644", "/tmp/pwned"),
		"a name that is a drive": raw("100644", "git~1"),
	} {
		pack, l := hostile(t, work, entries)
		dir, err := apply(t, m, pack, l)
		if err == nil {
			t.Errorf("%s was accepted", what)
		}
		if list, _ := os.ReadDir(dir); len(list) != 1 {
			t.Errorf("%s: files were written: %v", what, list)
		}
	}
	// A link that leads out is a link, and nothing is written through it.
	link := strings.Replace(raw("120000", "way"), id, id, 1)
	pack, l := hostile(t, work, link)
	if _, err := apply(t, m, pack, l); err != nil {
		t.Error(err)
	}
	// The tree must be the one that the request names.
	l.Tree = git(t, work, "rev-parse", "HEAD^{tree}")
	if _, err := apply(t, m, pack, l); err == nil || !strings.Contains(err.Error(), "not what the request says") {
		t.Error(err)
	}
	if _, err := apply(t, m, []byte("PACK junk"), l); err == nil {
		t.Error("junk was accepted")
	}
}

func TestChangesThatUnpackToTooMuchAreRefused(t *testing.T) {
	work, m := setUp(t)
	write(t, work, "zeros", strings.Repeat("\x00", 20<<20))
	var pack bytes.Buffer
	l, err := clones.Collect(t.Context(), work, limits.Pack, &pack)
	if err != nil {
		t.Fatal(err)
	}
	dir, err := apply(t, m, pack.Bytes(), l)
	if err == nil || !strings.Contains(err.Error(), "unpack to more than 8 MB") {
		t.Error(err)
	}
	if _, err := os.Stat(filepath.Join(dir, "zeros")); err == nil {
		t.Error("the file was written")
	}
	// A tree that contains itself many times over is small in a pack.
	inner := git(t, work, "mktree", "--missing")
	for range 6 {
		line := ""
		for i := range 10 {
			line += "040000 tree " + inner + "\td" + string(rune('0'+i)) + "\n"
		}
		if inner == "4b825dc642cb6eb9a060e54bf8d69288fbee4904" { // the empty tree
			line = "100644 blob " + git(t, work, "hash-object", "-w", "a.txt") + "\tf\n"
		}
		mk := exec.Command("git", "mktree")
		mk.Dir, mk.Stdin = work, strings.NewReader(line)
		out, err := mk.Output()
		if err != nil {
			t.Fatal(err)
		}
		inner = strings.TrimSpace(string(out))
	}
	l = clones.Local{Commit: git(t, work, "rev-parse", "HEAD"), Tree: inner}
	l.State = git(t, work, "commit-tree", inner, "-p", l.Commit, "-m", "x")
	cmd := exec.Command("git", "pack-objects", "--revs", "--stdout", "--quiet")
	cmd.Dir, cmd.Stdin = work, strings.NewReader(l.State+"\n^"+l.Commit+"\n")
	text, err := cmd.Output()
	if err != nil {
		t.Fatal(err)
	}
	if _, err := apply(t, m, text, l); err == nil || !strings.Contains(err.Error(), "more than 1000 files") {
		t.Errorf("%d bytes: %v", len(text), err)
	}
}

// One object is many files, and a delta of some bytes is one of any size.
func TestSmallPacksDoNotBecomeLarge(t *testing.T) {
	work, m := setUp(t)
	for i := range 20 {
		write(t, work, fmt.Sprintf("copies/%d", i), strings.Repeat("\x00", 1<<20))
	}
	var pack bytes.Buffer
	l, err := clones.Collect(t.Context(), work, limits.Pack, &pack)
	if err != nil {
		t.Fatal(err)
	}
	dir, err := apply(t, m, pack.Bytes(), l)
	if err == nil || !strings.Contains(err.Error(), "the files have more than 8 MB") {
		t.Errorf("%d bytes: %v", pack.Len(), err)
	}
	if _, err := os.Stat(filepath.Join(dir, "copies")); err == nil {
		t.Error("files were written")
	}
	began := syscall.Rusage{}
	if err := syscall.Getrusage(syscall.RUSAGE_CHILDREN, &began); err != nil {
		t.Fatal(err)
	}
	bomb := deltaBomb(t, 16<<20-1, 300)
	if _, err := apply(t, m, bomb, l); err == nil || !strings.Contains(err.Error(), "cannot be unpacked") {
		t.Errorf("%d bytes: %v", len(bomb), err)
	}
	after := syscall.Rusage{}
	if err := syscall.Getrusage(syscall.RUSAGE_CHILDREN, &after); err != nil || after.Maxrss > 3<<20 {
		t.Errorf("git needed %d kB, %v", after.Maxrss, err)
	}
}

// deltaBomb makes a pack (gitformat-pack(5)) of an object of zeros, and of one that consists of
// many copies of it.
func deltaBomb(t *testing.T, size, copies int) []byte {
	t.Helper()
	varint := func(n int) (out []byte) {
		for ; n > 0x7f; n >>= 7 {
			out = append(out, byte(n)|0x80)
		}
		return append(out, byte(n))
	}
	head := func(kind, n int) []byte {
		first := byte(kind<<4 | n&15)
		if n >>= 4; n == 0 {
			return []byte{first}
		}
		return append([]byte{first | 0x80}, varint(n)...)
	}
	var out bytes.Buffer
	out.WriteString("PACK\x00\x00\x00\x02\x00\x00\x00\x02")
	deflate := func(text []byte) {
		w := zlib.NewWriter(&out)
		_, err := w.Write(text)
		if err := errors.Join(err, w.Close()); err != nil {
			t.Fatal(err)
		}
	}
	base := make([]byte, size)
	out.Write(head(3, size))
	deflate(base)
	delta := append(varint(size), varint(size*copies)...)
	for range copies {
		delta = append(delta, 0xf0, byte(size), byte(size>>8), byte(size>>16)) // copy from the start
	}
	id := sha1.Sum(append(fmt.Appendf(nil, "blob %d\x00", size), base...))
	out.Write(head(7, len(delta)))
	out.Write(id[:])
	deflate(delta)
	sum := sha1.Sum(out.Bytes())
	return append(out.Bytes(), sum[:]...)
}

func TestAMirrorFollowsItsRepository(t *testing.T) {
	work, m := setUp(t)
	write(t, work, "a.txt", "newer\n")
	git(t, work, "commit", "-qam", "newer")
	commit := git(t, work, "rev-parse", "HEAD")
	if _, err := m.Resolve(t.Context(), commit, ""); err == nil || !strings.Contains(err.Error(), "push it first") {
		t.Error(err)
	}
	git(t, work, "push", "-q", "origin", "main", "main:release/4")
	if err := m.Fetch(t.Context()); err != nil {
		t.Fatal(err)
	}
	if got, err := m.Resolve(t.Context(), "", "main"); err != nil || got != commit {
		t.Error(got, err)
	}
	if _, err := m.Resolve(t.Context(), "", "nowhere"); err == nil {
		t.Error("a branch that does not exist was found")
	}
	ref, err := m.BranchWith(t.Context(), commit, func(b string) bool { return strings.HasPrefix(b, "release/") })
	if err != nil || ref != "release/4" {
		t.Error(ref, err)
	}
	dir := filepath.Join(t.TempDir(), "tree")
	if err := m.CheckOut(t.Context(), dir, commit, "main"); err != nil {
		t.Fatal(err)
	}
	// What a job does to its repository does not reach the mirror.
	git(t, dir, "branch", "-f", "planted")
	git(t, dir, "commit", "-q", "--allow-empty", "-m", "planted")
	write(t, dir, ".git/hooks/post-checkout", "#!/bin/sh\ntouch "+m.Dir+"/pwned\n")
	if out := git(t, m.Dir, "for-each-ref", "refs/heads/planted"); out != "" {
		t.Error(out)
	}
	// A branch that was deleted is gone.
	git(t, work, "push", "-q", "origin", ":release/4")
	if err := m.Fetch(t.Context()); err != nil {
		t.Fatal(err)
	}
	if out := git(t, m.Dir, "for-each-ref", "refs/heads/release"); out != "" {
		t.Error(out)
	}
}
