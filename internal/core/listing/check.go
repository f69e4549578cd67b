package listing

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"

	"grayloft.example/grayloft/internal/core/digest"
)

// CheckPath refuses a path that is not relative and clean, is not UTF-8, or
// leads into .git or .grayloft.
func CheckPath(p string) error {
	if isPlain(p) {
		return nil
	}
	return checkPath(p)
}

func checkPath(p string) error {
	switch {
	case p == "":
		return fmt.Errorf("a path must not be empty")
	case !utf8.ValidString(p):
		return fmt.Errorf("path %q is not UTF-8", p)
	case strings.ContainsRune(p, 0):
		return fmt.Errorf("path %q contains a NUL byte", p)
	case strings.HasPrefix(p, "/"):
		return fmt.Errorf("path %q is absolute", p)
	}
	for seg := range strings.SplitSeq(p, "/") {
		switch fold(seg) {
		case "", ".":
			return fmt.Errorf("path %q has an empty segment", p)
		case "..":
			return fmt.Errorf("path %q leaves its directory with \"..\"", p)
		case ".git", ".grayloft":
			return fmt.Errorf("path %q leads into %s", p, seg)
		}
	}
	return nil
}

// isPlain tells that nothing can be wrong with a path, and that it is already as [foldPath]
// returns it. It is so for nearly all paths, and takes a fraction of the time of finding it out
// step by step: a path of visible ASCII characters, no upper case or backslash, whose segments neither
// begin nor end with a dot.
func isPlain(p string) bool {
	before := byte('/')
	for i := 0; i < len(p); i++ {
		c := p[i]
		switch {
		case c <= ' ', c > '~', c >= 'A' && c <= 'Z', c == '\\':
			return false
		case before == '/' && (c == '/' || c == '.'), before == '.' && c == '/':
			return false
		}
		before = c
	}
	return before != '/' && before != '.'
}

// fold maps names that some file system treats as equal to one name: letter
// case, and the trailing dots and spaces that one of them drops.
func fold(s string) string {
	if s == "." || s == ".." {
		return s
	}
	return strings.TrimRight(strings.Map(foldRune, s), ". ")
}

func foldRune(r rune) rune {
	if r >= 0x200b && r <= 0x200f || r == 0xfeff {
		return -1 // invisible: some file systems ignore them
	}
	least := r
	for f := unicode.SimpleFold(r); f != r; f = unicode.SimpleFold(f) {
		least = min(least, f)
	}
	return unicode.ToLower(least)
}

func foldPath(p string) string {
	segs := strings.Split(p, "/")
	for i := range segs {
		segs[i] = fold(segs[i])
	}
	return strings.Join(segs, "/")
}

// check is [checkTogether] and [checkSizes].
func check(rows []Row) error {
	const few = 1000 // that are not worth two goroutines
	if len(rows) < few {
		return cmp.Or(checkTogether(rows), checkSizes(rows))
	}
	var together error
	var wg sync.WaitGroup
	wg.Go(func() { together = checkTogether(rows) })
	sizes := checkSizes(rows)
	wg.Wait()
	return cmp.Or(together, sizes)
}

// checkTogether refuses rows that cannot coexist on a disk: something below a
// file or a link, and names that fold together.
func checkTogether(rows []Row) error {
	if !slices.ContainsFunc(rows, func(r Row) bool { return !isPlain(r.Path) }) {
		return checkPlain(rows)
	}
	return checkFolded(rows)
}

func checkFolded(rows []Row) error {
	leaf := make(map[string]string, len(rows))
	dirs := map[string]string{}
	for _, r := range rows {
		f := foldPath(r.Path)
		if other, ok := leaf[f]; ok {
			return fmt.Errorf("%q and %q are the same name on some file systems", other, r.Path)
		}
		leaf[f] = r.Path
		for d, fd := path.Dir(r.Path), path.Dir(f); d != "."; d, fd = path.Dir(d), path.Dir(fd) {
			if other, ok := dirs[fd]; ok {
				if other != d {
					return fmt.Errorf("%q and %q are the same name on some file systems", other, d)
				}
				break
			}
			dirs[fd] = d
		}
	}
	for fd, d := range dirs {
		if at, ok := leaf[fd]; ok {
			return fmt.Errorf("%q is not a directory, but %q would be below it", at, d)
		}
	}
	return nil
}

// checkPlain is [checkTogether] for rows with plain paths, which are in order and so are all
// different.
func checkPlain(rows []Row) error {
	last := "."
	for _, r := range rows {
		dir := path.Dir(r.Path)
		if dir == last {
			continue
		}
		last = dir
		for d := dir; d != "."; d = path.Dir(d) {
			if _, there := slices.BinarySearchFunc(rows, d, func(r Row, d string) int { return strings.Compare(r.Path, d) }); there {
				return fmt.Errorf("%q is not a directory, but %q would be below it", d, r.Path)
			}
		}
	}
	return nil
}

// CheckLinks refuses links that are absolute or lead out of the repository, for
// a listing with paths relative to dir.
func (l List) CheckLinks(dir string) error {
	for _, r := range l {
		if r.Kind != Link {
			continue
		}
		if strings.HasPrefix(r.Target, "/") {
			return fmt.Errorf("the link %q leads to the absolute path %q", r.Path, r.Target)
		}
		to := path.Join(dir, path.Dir(r.Path), r.Target)
		if to == ".." || strings.HasPrefix(to, "../") {
			return fmt.Errorf("the link %q leads out of the repository, to %q", r.Path, r.Target)
		}
		if err := CheckPath(to); to != "." && err != nil {
			return fmt.Errorf("the link %q: %w", r.Path, err)
		}
	}
	return nil
}

// MaxFile is the size, in bytes, of the largest file that a listing may name.
const MaxFile = 8 << 30

// checkSizes refuses sizes that no file has: larger than [MaxFile], or two of
// them for the same contents.
func checkSizes(rows []Row) error {
	sizes := make(map[digest.Digest]int64, len(rows))
	for _, r := range rows {
		d, ok := r.Blob()
		if !ok {
			continue
		}
		if r.Size > MaxFile {
			return fmt.Errorf("%q has %d bytes; at most %d are allowed", r.Path, r.Size, int64(MaxFile))
		}
		if size, seen := sizes[d]; seen && size != r.Size {
			return fmt.Errorf("%q is declared with %d bytes, and the same contents elsewhere with %d", r.Path, r.Size, size)
		}
		sizes[d] = r.Size
	}
	return nil
}
