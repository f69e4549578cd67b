package translate

import (
	"errors"
	"fmt"
	"maps"
	"path"
	"strings"

	"mvdan.cc/sh/v3/syntax"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/pattern"
)

// step is one command in the form in which commands are compared.
type step struct {
	dir   string            // where it runs, from the root
	verb  string            // what runs it: "script", "make", "go", "cargo", "run", or "text"
	words []string          // what it runs; settings are %{setting.NAME}
	vars  map[string]string // variables that are set for it
	args  []string          // for the script that it runs
	text  string            // as it is written
}

// errOutside is returned for a command that runs outside of the repository.
var errOutside = errors.New("it runs outside of this repository")

// shellReader reads a text of commands that run one after the other.
type shellReader struct {
	t    *translator
	dir  string
	vars map[string]string // exported
	out  []step
}

// parse returns the steps of a text: simple commands, joined by && or ;, with cd and
// export between them. The error says what else is there.
func (t *translator) parse(text, dir string) ([]step, error) {
	f, err := syntax.NewParser(syntax.Variant(syntax.LangPOSIX)).Parse(strings.NewReader(text), "")
	if err != nil {
		return nil, fmt.Errorf("it is not a command of a shell: %w", err)
	}
	r := &shellReader{t: t, dir: dir, vars: map[string]string{}}
	for _, s := range f.Stmts {
		if err := r.statement(s); err != nil {
			return nil, err
		}
	}
	if len(r.out) == 0 {
		return nil, errors.New("it runs nothing")
	}
	return r.out, nil
}

func printed(node syntax.Node) string {
	var b strings.Builder
	_ = syntax.NewPrinter(syntax.SingleLine(true)).Print(&b, node) // a builder takes everything
	return strings.TrimSpace(b.String())
}

func (r *shellReader) statement(s *syntax.Stmt) error {
	if s.Negated || s.Background || len(s.Redirs) > 0 {
		return fmt.Errorf("%q is more than a simple command: give it without redirections, ! and &", printed(s))
	}
	switch c := s.Cmd.(type) {
	case *syntax.BinaryCmd:
		if c.Op != syntax.AndStmt {
			return fmt.Errorf("%q is more than a simple command: give its parts one by one", printed(s))
		}
		if err := r.statement(c.X); err != nil {
			return err
		}
		return r.statement(c.Y)
	case *syntax.CallExpr:
		return r.call(c)
	}
	return fmt.Errorf("%q is more than a simple command: give its parts one by one", printed(s))
}

// export keeps the variables of an export for what follows.
func (r *shellReader) export(words []string) {
	for _, w := range words {
		if name, value, ok := strings.Cut(w, "="); ok {
			r.vars[name] = value
		}
	}
}

func (r *shellReader) call(c *syntax.CallExpr) error {
	s := step{dir: r.dir, vars: maps.Clone(r.vars), text: printed(c)}
	for _, a := range c.Assigns {
		value := ""
		if a.Value != nil {
			var err error
			if value, err = r.t.word(a.Value); err != nil {
				return err
			}
		}
		s.vars[a.Name.Value] = value
	}
	var words []string
	for _, w := range c.Args {
		text, err := r.t.word(w)
		if err != nil {
			return err
		}
		words = append(words, text)
	}
	switch {
	case len(words) == 0: // variables of this shell alone
		maps.Copy(r.vars, s.vars)
		return nil
	case words[0] == "export":
		r.export(words[1:])
		return nil
	case words[0] == "cd" && len(words) == 2:
		r.dir = path.Join(r.dir, words[1])
		return inside(r.dir)
	case words[0] == "set" || words[0] == ":" || words[0] == "echo":
		return nil // it makes nothing
	}
	steps, err := r.t.canonical(s, words)
	r.out = append(r.out, steps...)
	return err
}

func inside(dir string) error {
	if dir == ".." || strings.HasPrefix(dir, "../") || path.IsAbs(dir) {
		return errOutside
	}
	return nil
}

// word returns the text of a word without its quotes. Variables that pass a setting on
// become %{setting.NAME}; others stay as they are written.
func (t *translator) word(w *syntax.Word) (string, error) {
	var b strings.Builder
	var add func(parts []syntax.WordPart) error
	add = func(parts []syntax.WordPart) error {
		for _, p := range parts {
			switch p := p.(type) {
			case *syntax.Lit:
				b.WriteString(strings.ReplaceAll(p.Value, `\`, ""))
			case *syntax.SglQuoted:
				b.WriteString(p.Value)
			case *syntax.DblQuoted:
				if err := add(p.Parts); err != nil {
					return err
				}
			case *syntax.ParamExp:
				b.WriteString(t.parameter(p))
			default:
				return fmt.Errorf("%q is more than a simple command: its words depend on another one", printed(w))
			}
		}
		return nil
	}
	err := add(w.Parts)
	return b.String(), err
}

func (t *translator) parameter(p *syntax.ParamExp) string {
	for _, s := range t.Graph.Repo.Settings {
		if p.Param.Value == s.Var() && p.Exp == nil {
			return "%{setting." + s.Name + "}"
		}
	}
	return printed(p)
}

// taskForms returns what a task runs, in all forms.
func (t *translator) taskForms(task *graph.Task) [][]step {
	if known, ok := t.known[task]; ok {
		return known
	}
	list := t.commandSteps(task.Decl.Run, task.Project.Dir)
	forms := t.forms(list)
	t.known[task] = forms
	return forms
}

// commandSteps returns the steps of a declared command; a text that is more than simple
// commands is one step.
func (t *translator) commandSteps(run decl.Command, dir string) []step {
	if run.Argv != nil {
		s := step{dir: dir, vars: map[string]string{}, text: oneLine(run)}
		if steps, err := t.canonical(s, run.Argv); err == nil {
			return steps
		}
		return []step{{dir: dir, verb: "run", words: run.Argv, vars: map[string]string{}, text: oneLine(run)}}
	}
	steps, err := t.parse(run.Shell, dir)
	if err != nil {
		return []step{{dir: dir, verb: "text", words: []string{oneLine(run)}, vars: map[string]string{}, text: oneLine(run)}}
	}
	return steps
}

var plainWord = pattern.New(`^[A-Za-z0-9@%_+=:,./-]+$`)

// Quoted returns a word as a shell takes it.
func Quoted(word string) string {
	if plainWord.MatchString(word) {
		return word
	}
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}
