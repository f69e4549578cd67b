package probe

import (
	"bytes"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// launcher returns an error if a program lets something else decide which program runs, such as
// one that chooses among installed versions of a toolchain: it stays the same while its answer
// changes. It is one of several names for a file, or a short script of a shell that executes
// another program.
func launcher(full, target string, info fs.FileInfo) error {
	if other := sameLink(full, target); other != "" {
		return fmt.Errorf("%s leads to the same program as %s, which may start another version at any time", full, other)
	}
	if links(info) > 1 {
		if other := sameFile(target, info); other != "" {
			return fmt.Errorf("%s is the same file as %s, which may start another version at any time", full, other)
		}
	}
	if info.Size() <= longestLauncher && executes(target) {
		return fmt.Errorf("%s is a script that executes another program", full)
	}
	return nil
}

// sameLink returns another link, beside one on the way from a name to a file of another name, that
// leads to the same place under a name of its own; empty if there is none.
func sameLink(full, target string) string {
	if isVersion(filepath.Base(target), filepath.Base(full)) {
		return ""
	}
	for at := full; ; {
		to, err := os.Readlink(at)
		if err != nil {
			return "" // the file
		}
		dir, name := filepath.Split(at)
		list, _ := os.ReadDir(dir)
		for _, e := range list {
			if e.Type()&fs.ModeSymlink == 0 || isVersion(e.Name(), name) {
				continue
			}
			if other, err := os.Readlink(dir + e.Name()); err == nil && other == to {
				return e.Name()
			}
		}
		if at = to; !filepath.IsAbs(to) {
			at = filepath.Join(dir, to)
		}
	}
}

// sameFile returns another name of a file in its directory; empty if there is none.
func sameFile(full string, info fs.FileInfo) string {
	dir, name := filepath.Split(full)
	list, _ := os.ReadDir(dir)
	for _, e := range list {
		if !e.Type().IsRegular() || isVersion(e.Name(), name) {
			continue
		}
		if other, err := e.Info(); err == nil && os.SameFile(info, other) {
			return e.Name()
		}
	}
	return ""
}

// isVersion tells whether two names are those of one program, such as perl and perl5.36, or cc and
// x86_64-linux-gnu-cc.
func isVersion(a, b string) bool {
	return strings.HasPrefix(a, b) || strings.HasPrefix(b, a) || strings.HasSuffix(a, "-"+b) || strings.HasSuffix(b, "-"+a)
}

// longestLauncher is the size of a script, in bytes, up to which it is taken for one that only
// starts another program. Longer ones are programs of their own.
const longestLauncher = 1024

// executes tells whether a file is a script of a shell that replaces itself by another program.
func executes(name string) bool {
	text, err := os.ReadFile(name)
	if err != nil || !bytes.HasPrefix(text, []byte("#!")) {
		return false
	}
	first, rest, _ := bytes.Cut(text, []byte("\n"))
	for line := range bytes.Lines(rest) {
		if words := bytes.Fields(line); len(words) > 1 && string(words[0]) == "exec" {
			return slices.ContainsFunc(bytes.Fields(first), func(w []byte) bool { return bytes.HasSuffix(w, []byte("sh")) })
		}
	}
	return false
}
