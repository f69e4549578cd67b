package decl

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"runtime"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/pelletier/go-toml/v2/unstable"
	"golang.org/x/sync/errgroup"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/glob"
)

// ErrNoRoot is returned if there is no grayloft.toml.
var ErrNoRoot = errors.New("no " + RootFile + " here")

// Load reads every declaration below fsys, the root of a repository whose
// directory is named base. It returns what it could read even if there are
// problems, so that later checks can add theirs. The error is for failures to
// read the files.
func Load(fsys fs.FS, base string) (*Repo, Problems, error) {
	l := &loader{
		fsys: fsys,
		repo: &Repo{
			Name: base, Probes: map[string]*Probe{}, Kinds: map[string]*Kind{},
			Settings: map[string]*Setting{}, Modes: map[string]*Mode{},
			Picks: map[string]*SavedPick{}, Checks: map[string]Check{},
			Provides: map[string]map[string][]string{}, Imports: map[string]*Import{}, sources: map[string]*document{},
		},
		projects: List{},
	}
	data, err := fs.ReadFile(fsys, RootFile)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil, ErrNoRoot
	}
	if err != nil {
		return nil, nil, fmt.Errorf("reading %s: %w", RootFile, err)
	}
	if err := l.root(data); err != nil {
		return nil, nil, err
	}
	l.resolveModes()
	l.resolve()
	l.repo.Digest = l.sum(base)
	slices.SortFunc(l.repo.Projects, func(a, b *Project) int { return strings.Compare(a.Name, b.Name) })
	return l.repo, l.problems.Sorted(), nil
}

// sum returns a digest of all declarations that were read, with their names.
func (l *loader) sum(base string) digest.Digest {
	h := digest.New()
	fmt.Fprintf(h, "%q\n", base)
	for _, name := range slices.Sorted(maps.Keys(l.repo.sources)) {
		fmt.Fprintf(h, "%q %s\n", name, l.repo.sources[name].sum)
	}
	return digest.From(h)
}

// Texts returns the text of every file of declarations that was read, by its
// path from the root.
func (r *Repo) Texts() map[string]string {
	out := map[string]string{}
	for name, doc := range r.sources {
		out[name] = strings.Join(doc.lines, "\n")
	}
	return out
}

type loader struct {
	fsys     fs.FS
	repo     *Repo
	problems Problems
	projects List
	include  List
	found    []*projectDecl
	modes    []modeDecl
	folds    map[string]fold
	tasks    map[*TaskDecl]*Task
	lacks    bool // of the project that is resolved: see [Project]
}

// projectDecl is a project's tables before its kinds are folded in.
type projectDecl struct {
	r      *reader
	dir    string
	pos    Pos
	name   Item
	kinds  List
	needs  List
	tags   List
	owner  Item
	omit   List
	offers List
	to     List
	tasks  map[string]*TaskDecl
}

func (l *loader) open(file string, data []byte) (*reader, bool) {
	doc, problem := parse(file, data)
	return l.opened(file, doc, problem)
}

func (l *loader) opened(file string, doc *document, problem *Problem) (*reader, bool) {
	l.repo.sources[file] = doc
	l.repo.Files = append(l.repo.Files, file)
	if problem != nil {
		l.problems = append(l.problems, *problem)
		l.repo.Unread = true
	}
	return &reader{doc: doc, problems: &l.problems}, problem == nil
}

func (l *loader) root(data []byte) error {
	r, ok := l.open(RootFile, data)
	var schema Item
	own := &projectDecl{r: r, dir: ".", pos: Pos{File: RootFile}, tasks: map[string]*TaskDecl{}}
	inRoot := false
	r.table(r.doc.root, RootFile, merge(l.shared(r), map[string]field{
		"schema":  r.atom(&schema, unstable.Integer, "a whole number", "1"),
		"repo":    func(e *entry) { r.sub(e, func(t *table) { l.repoTable(r, t) }) },
		"service": func(e *entry) { r.sub(e, func(t *table) { l.serviceTable(r, t) }) },
		"adopt":   func(e *entry) { r.sub(e, func(t *table) { l.adoptTable(r, t) }) },
		"import":  func(e *entry) { r.named(e, "import", func(n string, e *entry) { l.declareImport(r, n, e) }) },
		"project": func(e *entry) { inRoot = true; own.read(e) },
		"task":    func(e *entry) { inRoot = true; own.readTasks(e) },
	}))
	if ok && schema.Text != fmt.Sprint(Schema) {
		pos, msg := schema.Pos, fmt.Sprintf("schema %s is not supported", schema.Text)
		if schema.Text == "" {
			pos, msg = Pos{File: RootFile, Line: 1, Col: 1}, "the first line must state the schema"
		}
		r.fail(pos, "write schema = 1", "%s", msg)
	}
	if inRoot {
		l.found = append(l.found, own)
	}
	if err := l.includes(r); err != nil {
		return err
	}
	if err := l.imports(r); err != nil {
		return err
	}
	return l.projectFiles(r)
}

func merge(a, b map[string]field) map[string]field {
	for k, f := range b {
		a[k] = f
	}
	return a
}

// shared are the tables that an included file may contain as well.
func (l *loader) shared(r *reader) map[string]field {
	return map[string]field{
		"kind":  func(e *entry) { r.named(e, "kind", func(n string, e *entry) { l.kind(r, n, e) }) },
		"probe": func(e *entry) { r.named(e, "probe", func(n string, e *entry) { l.probe(r, n, e) }) },
		"pick":  func(e *entry) { r.named(e, "pick", func(n string, e *entry) { l.savedPick(r, n, e) }) },
		"check": func(e *entry) { r.named(e, "check", func(n string, e *entry) { l.check(r, n, e) }) },

		"provides": func(e *entry) { r.named(e, "provides", func(n string, e *entry) { l.provides(r, n, e) }) },

		"setting": func(e *entry) { r.named(e, "setting", func(n string, e *entry) { l.setting(r, n, e) }) },
		"mode":    func(e *entry) { r.named(e, "mode", func(n string, e *entry) { l.mode(r, n, e) }) },
	}
}

func (l *loader) repoTable(r *reader, t *table) {
	var name, since, paths Item
	r.table(t, "[repo]", map[string]field{
		"name": r.word(&name), "projects": r.list(&l.projects), "since": r.text(&since),
		"include": r.list(&l.include), "checkout_paths": r.word(&paths),
	})
	if name.Text != "" {
		if msg := badName(name.Text, true); msg != "" || strings.Contains(name.Text, "/") {
			r.fail(name.Pos, "choose another name", "repository %q: %s", name.Text, orElse(msg, "it must not contain /"))
		} else {
			l.repo.Name = name.Text
		}
	}
	if paths.Text != "" && paths.Text != "local" && paths.Text != "share" {
		r.fail(paths.Pos, `write "share" or "local"`, "checkout_paths = %q is not valid", paths.Text)
	}
	l.repo.Since, l.repo.CheckoutPathsLocal = since.Text, paths.Text == "local"
	l.repo.KindFiles = l.projects.Items
}

func orElse(s, other string) string {
	if s == "" {
		return other
	}
	return s
}

func (l *loader) serviceTable(r *reader, t *table) {
	var url Item
	r.table(t, "[service]", map[string]field{"url": r.word(&url)})
	if url.Text != "" && !strings.HasPrefix(url.Text, "http://") && !strings.HasPrefix(url.Text, "https://") {
		r.fail(url.Pos, "write it like http://127.0.0.1:7420", "%q is not the address of a service", url.Text)
		return
	}
	l.repo.ServiceURL = strings.TrimSuffix(url.Text, "/")
}

func (l *loader) adoptTable(r *reader, t *table) {
	var skip List
	r.table(t, "[adopt]", map[string]field{"skip": r.list(&skip)})
	l.repo.AdoptSkip = skip.Texts()
}

func (l *loader) kind(r *reader, name string, e *entry) {
	if have, ok := l.repo.Kinds[name]; ok {
		r.fail(e.pos, "give one of them another name", "kind %q is already declared in %s", name, have.Pos.At())
		return
	}
	k := &Kind{Name: name, Pos: e.pos, Tasks: map[string]*TaskDecl{}}
	var help Item
	r.table(e.val.table, "[kind."+name+"]", map[string]field{
		"offers": r.list(&k.Offers), "tags": r.list(&k.Tags), "help": r.text(&help), "template": r.text(&k.Template),
		"task": func(e *entry) {
			r.named(e, "task", func(n string, e *entry) { k.Tasks[n] = r.task(n, e) })
		},
	})
	k.Help = help.Text
	if k.Template.Text != "" {
		l.template(r, k)
	}
	l.repo.Kinds[name] = k
}

func (l *loader) savedPick(r *reader, name string, e *entry) {
	if have, ok := l.repo.Picks[name]; ok {
		r.fail(e.pos, "give one of them another name", "pick %q is already declared in %s", name, have.Where.Pos.At())
		return
	}
	s := &SavedPick{Name: name}
	r.table(e.val.table, "[pick."+name+"]", map[string]field{"where": r.text(&s.Where)})
	l.repo.Picks[name] = s
}

func (l *loader) check(r *reader, name string, e *entry) {
	if have, ok := l.repo.Checks[name]; ok {
		r.fail(e.pos, "keep one of them", "[check.%s] is already in %s", name, have.Pos.At())
		return
	}
	c := Check{Pos: e.pos}
	r.table(e.val.table, "[check."+name+"]", map[string]field{"level": r.word(&c.Level), "allow": r.list(&c.Allow)})
	l.repo.Checks[name] = c
}

// provides reads which modules the packages of an ecosystem provide.
func (l *loader) provides(r *reader, ecosystem string, e *entry) {
	if !slices.Contains(Ecosystems, ecosystem) {
		r.fail(e.pos, "the ecosystems are "+strings.Join(Ecosystems, ", "), "[provides.%s] is not known", ecosystem)
		return
	}
	if l.repo.Provides[ecosystem] == nil {
		l.repo.Provides[ecosystem] = map[string][]string{}
	}
	for _, pkg := range e.val.table.entries {
		var modules List
		r.list(&modules)(pkg)
		for _, it := range modules.Items {
			l.repo.Provides[ecosystem][pkg.key] = append(l.repo.Provides[ecosystem][pkg.key], it.Text)
		}
	}
}

func (l *loader) includes(r *reader) error {
	for _, it := range l.include.Items {
		pat, err := glob.Parse(it.Text)
		if err != nil {
			r.fail(it.Pos, "patterns are relative to the root", "%s", err)
			continue
		}
		files, err := doublestar.Glob(l.fsys, pat.String(), doublestar.WithFilesOnly())
		if err != nil {
			return fmt.Errorf("searching %s: %w", pat, err)
		}
		if len(files) == 0 {
			r.fail(it.Pos, "name an existing file", "nothing matches %q", it.Text)
			l.repo.Unread = true
		}
		slices.Sort(files)
		for _, f := range files {
			data, err := fs.ReadFile(l.fsys, f)
			if err != nil {
				return fmt.Errorf("reading %s: %w", f, err)
			}
			if ir, ok := l.open(f, data); ok {
				ir.table(ir.doc.root, f, l.shared(ir))
			}
		}
	}
	return nil
}

func (l *loader) projectFiles(r *reader) error {
	seen := map[string]bool{}
	var all []string
	for _, it := range l.projects.Items {
		pat, err := glob.Parse(it.Text)
		if err != nil {
			r.fail(it.Pos, "patterns are relative to the root", "%s", err)
			continue
		}
		files, err := l.declared(pat)
		if err != nil {
			return fmt.Errorf("searching %s for projects: %w", pat, err)
		}
		if len(files) == 0 && pat.Literal() {
			r.fail(
				it.Pos,
				"add a "+ProjectFile+" there, or remove the directory from the list",
				"there is no %s in %q",
				ProjectFile,
				it.Text,
			)
		}
		slices.Sort(files)
		for _, f := range files {
			if seen[f] || strings.HasPrefix(f, ".git/") || strings.HasPrefix(f, ".grayloft/") {
				continue
			}
			seen[f] = true
			all = append(all, f)
		}
	}
	parsed := make([]parsedFile, len(all))
	if err := l.parseAll(all, parsed); err != nil {
		return err
	}
	for i, f := range all {
		l.projectFile(f, parsed[i])
	}
	return nil
}

// declared returns the declarations of projects whose directories match a pattern.
func (l *loader) declared(pat glob.Pattern) ([]string, error) {
	if strings.Contains(pat.String(), "**") {
		return doublestar.Glob(l.fsys, pat.String()+"/"+ProjectFile, doublestar.WithFilesOnly(), doublestar.WithNoFollow())
	}
	// A name without wildcards is asked for, instead of searched in a list of all names.
	dirs, err := doublestar.Glob(l.fsys, pat.String(), doublestar.WithNoFollow())
	var out []string
	for _, d := range dirs {
		if info, err := fs.Lstat(l.fsys, path.Join(d, ProjectFile)); err == nil && !info.IsDir() {
			out = append(out, path.Join(d, ProjectFile))
		}
	}
	return out, err
}

type parsedFile struct {
	doc     *document
	problem *Problem
}

// parseAll reads and parses files in parallel.
func (l *loader) parseAll(names []string, out []parsedFile) error {
	var g errgroup.Group
	workers := min(runtime.GOMAXPROCS(0), len(names))
	for w := range workers {
		g.Go(func() error {
			for i := w; i < len(names); i += workers {
				data, err := fs.ReadFile(l.fsys, names[i])
				if err != nil {
					return fmt.Errorf("reading %s: %w", names[i], err)
				}
				out[i].doc, out[i].problem = parse(names[i], data)
			}
			return nil
		})
	}
	return g.Wait()
}

func (l *loader) projectFile(file string, p0 parsedFile) {
	r, ok := l.opened(file, p0.doc, p0.problem)
	p := &projectDecl{r: r, dir: path.Dir(file), pos: Pos{File: file}, tasks: map[string]*TaskDecl{}}
	if ok {
		r.table(r.doc.root, file, map[string]field{"project": p.read, "task": p.readTasks})
	}
	l.found = append(l.found, p)
}

func (p *projectDecl) read(e *entry) {
	p.pos = e.pos
	p.r.sub(e, func(t *table) {
		p.r.table(t, "[project]", map[string]field{
			"name": p.r.word(&p.name), "kind": p.r.listOrText(&p.kinds), "needs": p.r.list(&p.needs),
			"tags": p.r.list(&p.tags), "owner": p.r.text(&p.owner), "omit": p.r.list(&p.omit),
			"offers": p.r.list(&p.offers), "offers_to": p.r.list(&p.to),
		})
	})
}

func (p *projectDecl) readTasks(e *entry) {
	p.r.named(e, "task", func(n string, e *entry) { p.tasks[n] = p.r.task(n, e) })
}

// Problem makes a problem with the line it refers to.
func (r *Repo) Problem(pos Pos, advice, format string, args ...any) Problem {
	p := Problem{Pos: pos, Message: fmt.Sprintf(format, args...), Advice: advice}
	if doc, ok := r.sources[pos.File]; ok {
		return *doc.problem(p)
	}
	return p
}
