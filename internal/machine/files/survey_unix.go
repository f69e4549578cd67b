//go:build linux || darwin

package files

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"sync"

	"golang.org/x/sys/unix"

	"grayloft.example/grayloft/internal/core/digest"
)

// surveyor walks a checkout once: it takes the status of every file on the way,
// separates files that git tracks from others, and asks git only about the
// others that it does not know yet.
type surveyor struct {
	c       *Checkout
	tracked map[string][]string // names by directory, sorted
	sum     digest.Digest       // of all tracked paths
	holds   map[string]bool     // directories that contain tracked files
	known   *ignores
	names   *directories
	root    int // the checkout's directory, open
	ctx     context.Context
	slots   chan struct{}
	wg      sync.WaitGroup

	mu      sync.Mutex
	files   []found
	unknown []found // not tracked by git, and git was not asked yet
	rules   []found // ignore files
	repos   []string
	links   []found // tracked names that are directories: submodules, unless they replaced files
	err     error
}

// found is a path with its status.
type found struct {
	path string
	st   stamp
}

func (f found) dir() bool { return f.st.Mode&unix.S_IFMT == unix.S_IFDIR }

// survey returns the files that tasks may read, sorted, with their status.
func (c *Checkout) survey(ctx context.Context) ([]found, error) {
	if list, ok := c.fromRoster(ctx); ok {
		return list, nil
	}
	began := c.now()
	index, known := c.indexState()
	known = known && index.settledBefore(began)
	tracked, err := c.trackedFiles(ctx)
	if err != nil {
		return nil, err
	}
	root, err := unix.Open(c.Root, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: c.Root, Err: err}
	}
	defer unix.Close(root)
	s := &surveyor{
		c: c, tracked: map[string][]string{}, sum: pathsSum(tracked), holds: map[string]bool{".": true}, ctx: ctx, root: root,
		slots: make(chan struct{}, 2*runtime.GOMAXPROCS(0)), known: loadIgnores(c.stateFile("ignored")),
		names: loadDirectories(c.stateFile("directories")),
	}
	s.sort(tracked)
	learned := len(s.known.answers) > 0
	if err := s.look(); err != nil {
		return nil, err
	}
	// An ignore file may be in a place that only another ignore file led to:
	// when any of them changes, everything that was learned under them is asked
	// again. Nothing was in a new checkout.
	if rules := rulesDigest(s.rules); rules != s.known.rules {
		if learned {
			s.known.forget()
			s.files, s.unknown, s.rules, s.repos, s.links = nil, nil, nil, nil, nil
			if err := s.look(); err != nil {
				return nil, err
			}
		}
		s.known.rules, s.known.changed = rulesDigest(s.rules), true
	}
	unsaved := s.known.save(c.stateFile("ignored"))
	s.names.save(c.stateFile("directories"))
	c.mu.Lock()
	c.ignored, c.links, c.repos = s.known.answers, s.submodules(), s.repos
	c.mu.Unlock()
	slices.SortFunc(s.files, byPath)
	if known && unsaved == nil {
		s.keepRoster(index, began.UnixNano())
	}
	return s.files, nil
}

// look walks the checkout and decides about untracked paths.
func (s *surveyor) look() error {
	s.start(".")
	s.wg.Wait()
	s.rules = append(s.rules, s.c.outerRules()...)
	if s.err != nil {
		return s.err
	}
	if err := s.settleLinks(); err != nil {
		return err
	}
	return s.settleUnknown()
}

// settleLinks separates submodules from directories that replaced a tracked file.
func (s *surveyor) settleLinks() error {
	are, err := s.c.Git.Submodules(s.ctx, s.submodules())
	if err != nil {
		return err
	}
	links := s.links
	s.links = nil
	for _, x := range links {
		if slices.Contains(are, x.path) {
			s.links = append(s.links, x)
		} else {
			s.unknown = append(s.unknown, x)
		}
	}
	return nil
}

// submodules returns the paths of the links, sorted.
func (s *surveyor) submodules() (out []string) {
	for _, x := range s.links {
		out = append(out, x.path)
	}
	slices.Sort(out)
	return out
}

func (s *surveyor) sort(tracked []string) {
	dir := ""
	for _, p := range tracked {
		if d := path.Dir(p); d != dir {
			dir = d
			for up := d; !s.holds[up]; up = path.Dir(up) {
				s.holds[up] = true
			}
		}
		s.tracked[dir] = append(s.tracked[dir], path.Base(p))
	}
}

func (s *surveyor) start(dir string) {
	s.wg.Go(func() {
		s.slots <- struct{}{}
		defer func() { <-s.slots }()
		if err := s.walk(dir); err != nil {
			s.mu.Lock()
			s.err = errors.Join(s.err, err)
			s.mu.Unlock()
		}
	})
}

// walk looks at one directory, and starts the walks below it.
func (s *surveyor) walk(dir string) error {
	if err := s.ctx.Err(); err != nil {
		return err
	}
	names, err := s.list(dir)
	if errors.Is(err, fs.ErrPermission) && dir != "." {
		return s.noteClosed(dir)
	}
	if err != nil {
		return err
	}
	tracked := s.tracked[dir]
	var files, unknown, rules []found
	var links []found
	for _, name := range names {
		if name == ".git" || (dir == "." && name == ".grayloft") {
			continue
		}
		p := name
		if dir != "." {
			p = dir + "/" + name
		}
		st, err := statAt(s.root, p)
		if err != nil {
			continue // deleted meanwhile
		}
		x := found{p, st}
		if name == ".gitignore" {
			rules = append(rules, x)
		}
		for len(tracked) > 0 && tracked[0] < name {
			tracked = tracked[1:]
		}
		switch {
		case len(tracked) > 0 && tracked[0] == name:
			if x.dir() {
				links = append(links, x)
			} else {
				files = append(files, x)
			}
		case x.dir() && s.holds[x.path]:
			s.start(x.path)
		default:
			unknown = append(unknown, x)
		}
	}
	s.mu.Lock()
	s.files, s.unknown, s.rules = append(s.files, files...), append(s.unknown, unknown...), append(s.rules, rules...)
	s.links = append(s.links, links...)
	s.mu.Unlock()
	return nil
}

// noteClosed lists a directory that cannot be read as if it were a file, whose content is an error.
func (s *surveyor) noteClosed(dir string) error {
	st, err := statAt(s.root, dir)
	if err != nil {
		return nil // deleted meanwhile
	}
	s.mu.Lock()
	s.files = append(s.files, found{dir, st})
	s.mu.Unlock()
	return nil
}

// list returns the names in a directory, sorted. They are remembered while its
// status is the same.
func (s *surveyor) list(dir string) ([]string, error) {
	taken := s.c.now().UnixNano()
	st, err := statAt(s.root, dir)
	if err != nil || st.Mode&unix.S_IFMT != unix.S_IFDIR {
		return nil, nil // deleted, or replaced by something else
	}
	if names, ok := s.names.of(dir, st); ok {
		return names, nil
	}
	full := filepath.Join(s.c.Root, filepath.FromSlash(dir))
	f, err := os.Open(full)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	names, err := f.Readdirnames(-1)
	if err != nil {
		return nil, err
	}
	slices.Sort(names)
	s.names.note(dir, st, taken, names)
	return names, nil
}

// settleUnknown adds the untracked paths that the ignore files do not exclude;
// directories among them are walked in turn.
func (s *surveyor) settleUnknown() error {
	for len(s.unknown) > 0 {
		list := s.unknown
		s.unknown = nil
		if err := s.known.ask(s.ctx, s.c, list); err != nil {
			return err
		}
		var dirs []string
		for _, x := range list {
			switch {
			case s.known.answers[x.ruled()]:
			case !x.dir():
				s.files = append(s.files, x)
			case s.repository(x.path):
				s.repos = append(s.repos, x.path)
			default:
				dirs = append(dirs, x.path)
			}
		}
		for _, d := range dirs { // from here on the walkers own the results
			s.start(d)
		}
		s.wg.Wait()
		if s.err != nil {
			return s.err
		}
	}
	return nil
}

// repository tells whether a directory is a repository of its own, whose files
// do not belong to this one.
func (s *surveyor) repository(dir string) bool {
	_, err := os.Lstat(filepath.Join(s.c.Root, filepath.FromSlash(dir), ".git"))
	return err == nil
}

// outerRules returns the ignore files above a repository that is inside a
// larger one.
func (c *Checkout) outerRules() (rules []found) {
	for d := c.Root; ; d = filepath.Dir(d) {
		if _, err := os.Lstat(filepath.Join(d, ".git")); err == nil || d == filepath.Dir(d) {
			return rules
		}
		up := filepath.Join(filepath.Dir(d), ".gitignore")
		if info, err := os.Lstat(up); err == nil {
			if st, ok := stampOf(info); ok {
				rules = append(rules, found{up, st})
			}
		}
	}
}

func rulesDigest(rules []found) digest.Digest {
	slices.SortFunc(rules, byPath)
	h := digest.New()
	for _, r := range rules {
		_, _ = h.Write(appendStamp([]byte(r.path+"\x00"), r.st))
	}
	return digest.From(h)
}
