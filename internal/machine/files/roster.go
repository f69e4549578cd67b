//go:build linux || darwin

package files

import (
	"bytes"
	"context"
	"encoding/binary"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"

	"golang.org/x/sys/unix"
)

// A survey is remembered as a roster: the directories that it looked into, with
// their status, and the names in them that count as files. While git's index,
// the ignore files and all these directories are unchanged, the same names
// count, and only the status of each file is taken again.

const rosterHead = "grayloft-survey 1\n"

// rosterDir is a directory of a roster.
type rosterDir struct {
	path  string
	st    stamp
	names []string
	ranks []int // of the files in files, sorted by path
}

type roster struct {
	dirs  []rosterDir
	rules []found  // ignore files
	repos []string // directories that were skipped because they are repositories of their own
	files int
}

// The file has the mark of git's index, the ignore files with their status, the
// repositories, and the directories. Numbers are uvarints; texts are preceded
// by their length.
func (r *roster) encode(mark []byte) []byte {
	b := make([]byte, 0, 64*r.files)
	text := func(s string) {
		b = binary.AppendUvarint(b, uint64(len(s)))
		b = append(b, s...)
	}
	text(string(mark))
	b = binary.AppendUvarint(b, uint64(len(r.rules)))
	for _, f := range r.rules {
		text(f.path)
		b = appendStamp(b, f.st)
	}
	b = binary.AppendUvarint(b, uint64(len(r.repos)))
	for _, d := range r.repos {
		text(d)
	}
	b = binary.AppendUvarint(b, uint64(r.files))
	b = binary.AppendUvarint(b, uint64(len(r.dirs)))
	for _, d := range r.dirs {
		text(d.path)
		b = appendStamp(b, d.st)
		b = binary.AppendUvarint(b, uint64(len(d.names)))
		for i, n := range d.names {
			text(n)
			b = binary.AppendUvarint(b, uint64(d.ranks[i]))
		}
	}
	return b
}

// parseRoster reads what encode wrote; ok is false for anything else.
func parseRoster(body []byte) (mark string, r *roster, ok bool) {
	p := rosterParser{text: string(body)}
	r = &roster{}
	mark = p.string()
	for range p.count(stampSize) {
		f := found{path: p.string()}
		f.st = p.stamp()
		r.rules = append(r.rules, f)
	}
	for range p.count(1) {
		r.repos = append(r.repos, p.string())
	}
	r.files = p.count(2)
	dirs := p.count(stampSize)
	r.dirs = make([]rosterDir, 0, dirs)
	names, ranks := make([]string, 0, r.files), make([]int, 0, r.files)
	taken := make([]bool, r.files)
	for range dirs {
		d := rosterDir{path: p.string()}
		d.st = p.stamp()
		from := len(names)
		for range p.count(2) {
			names = append(names, p.string())
			rank := int(p.number())
			if p.bad || rank >= r.files || taken[rank] {
				return "", nil, false
			}
			taken[rank] = true
			ranks = append(ranks, rank)
		}
		d.names, d.ranks = names[from:len(names):len(names)], ranks[from:len(ranks):len(ranks)]
		r.dirs = append(r.dirs, d)
	}
	return mark, r, !p.bad && p.text == "" && len(names) == r.files
}

type rosterParser struct {
	text string
	bad  bool
}

func (p *rosterParser) number() uint64 {
	var n uint64
	for i := 0; i < len(p.text) && i < 10; i++ {
		c := p.text[i]
		n |= uint64(c&0x7f) << (7 * i)
		if c < 0x80 {
			p.text = p.text[i+1:]
			return n
		}
	}
	p.bad, p.text = true, ""
	return 0
}

// count reads the number of items that take at least so many bytes each.
func (p *rosterParser) count(least int) int {
	n := p.number()
	if n > uint64(len(p.text)/least) {
		p.bad, p.text = true, ""
		return 0
	}
	return int(n)
}

func (p *rosterParser) string() string {
	n := p.count(1)
	s := p.text[:n]
	p.text = p.text[n:]
	return s
}

func (p *rosterParser) stamp() stamp {
	if len(p.text) < stampSize {
		p.bad, p.text = true, ""
		return stamp{}
	}
	st := readStamp([]byte(p.text[:stampSize]))
	p.text = p.text[stampSize:]
	return st
}

// fromRoster returns the files of an earlier survey's roster, with their
// current status. It fails if anything changed that decides which files count.
func (c *Checkout) fromRoster(ctx context.Context) ([]found, bool) {
	body := opened(rosterHead, c.stateFile("survey"))
	if body == nil {
		return nil, false
	}
	mark, r, ok := parseRoster(body)
	if now, _ := c.indexMark(); !ok || now == nil || !bytes.Equal(now, []byte(mark)) {
		return nil, false
	}
	for _, rule := range r.rules {
		full := rule.path
		if !filepath.IsAbs(full) {
			full = filepath.Join(c.Root, filepath.FromSlash(full))
		}
		info, err := os.Lstat(full)
		if err != nil {
			return nil, false
		}
		if st, ok := stampOf(info); !ok || st != rule.st {
			return nil, false
		}
	}
	for _, d := range r.repos {
		if _, err := os.Lstat(filepath.Join(c.Root, filepath.FromSlash(d), ".git")); err != nil {
			return nil, false
		}
	}
	if outer := c.outerRules(); len(outer) != len(slices.DeleteFunc(slices.Clone(r.rules), func(f found) bool { return !filepath.IsAbs(f.path) })) {
		return nil, false
	}
	list, ok := r.take(ctx, c.Root)
	if !ok {
		return nil, false
	}
	c.mu.Lock()
	c.ignored = loadIgnores(c.stateFile("ignored")).answers
	c.mu.Unlock()
	return list, true
}

// take takes the status of all directories and files.
func (r *roster) take(ctx context.Context, root string) ([]found, bool) {
	at, err := unix.Open(root, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, false
	}
	defer unix.Close(at)
	list := make([]found, r.files)
	var failed atomic.Bool
	var next atomic.Int64
	const chunk = 64
	var wg sync.WaitGroup
	for range 2 * runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for !failed.Load() && ctx.Err() == nil {
				from := int(next.Add(chunk)) - chunk
				if from >= len(r.dirs) {
					return
				}
				for i := from; i < min(from+chunk, len(r.dirs)); i++ {
					if !r.dirs[i].take(at, list) {
						failed.Store(true)
						return
					}
				}
			}
		})
	}
	wg.Wait()
	return list, !failed.Load() && ctx.Err() == nil
}

func (d *rosterDir) take(root int, list []found) bool {
	fd, err := openDirectory(root, d.path)
	if err != nil {
		return false
	}
	defer unix.Close(fd)
	var st unix.Stat_t
	if unix.Fstat(fd, &st) != nil || asStamp(&st) != d.st {
		return false
	}
	prefix := d.path + "/"
	if d.path == "." {
		prefix = ""
	}
	for i, name := range d.names {
		if unix.Fstatat(fd, name, &st, unix.AT_SYMLINK_NOFOLLOW) != nil || st.Mode&unix.S_IFMT == unix.S_IFDIR {
			return false
		}
		list[d.ranks[i]] = found{prefix + name, asStamp(&st)}
	}
	return true
}

// keepRoster remembers a survey for the next run, if a later change to anything
// it depends on would show.
func (s *surveyor) keepRoster(mark []byte, taken int64) {
	if mark == nil {
		return
	}
	safe := func(st stamp, taken int64) bool { return (remembered{Stamp: st, Taken: taken}).safe() }
	r := &roster{rules: s.rules, repos: s.repos, files: len(s.files)}
	for _, f := range s.rules {
		if !safe(f.st, taken) {
			return
		}
	}
	at := make(map[string]int, len(s.names.seen))
	for _, dir := range sortedKeys(s.names.seen) {
		l := s.names.seen[dir]
		if !safe(l.st, l.taken) {
			return
		}
		at[dir] = len(r.dirs)
		r.dirs = append(r.dirs, rosterDir{path: dir, st: l.st})
	}
	for rank, f := range s.files {
		i, ok := at[path.Dir(f.path)]
		if !ok {
			return
		}
		r.dirs[i].names = append(r.dirs[i].names, path.Base(f.path))
		r.dirs[i].ranks = append(r.dirs[i].ranks, rank)
	}
	_ = WriteFile(s.c.stateFile("survey"), sealed(rosterHead, r.encode(mark)))
}

func sortedKeys(m map[string]listed) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}
