package decl

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2/unstable"

	"grayloft.example/grayloft/internal/core/pattern"
)

// SettingType is the type of a setting's values.
type SettingType string

// The types of settings.
const (
	Text    SettingType = "string"
	IsTrue  SettingType = "bool"
	Integer SettingType = "int"
)

// Setting is a typed value, repository-wide, that commands may use.
type Setting struct {
	Name    string
	Type    SettingType
	Values  []string // for strings: all allowed values; empty: any
	Default string   // in canonical form
	Help    string
	Pos     Pos
}

// Var returns the environment variable that passes the setting on.
func (s *Setting) Var() string {
	return "GRAYLOFT_SETTING_" + strings.ToUpper(strings.NewReplacer("-", "_", ".", "_", "/", "_").Replace(s.Name))
}

// Choices describes the values that the setting takes.
func (s *Setting) Choices() string {
	switch {
	case len(s.Values) > 0:
		return strings.Join(s.Values, ", ")
	case s.Type == IsTrue:
		return "true, false"
	case s.Type == Integer:
		return "a whole number"
	}
	return "any text"
}

// Canonical returns a value in the single form that is part of keys, or an
// error that lists the allowed values.
func (s *Setting) Canonical(value string) (string, error) {
	wrong := fmt.Errorf("setting %q cannot be %q: it takes %s", s.Name, value, s.Choices())
	switch {
	case len(s.Values) > 0:
		if !slices.Contains(s.Values, value) {
			return "", wrong
		}
	case s.Type == IsTrue:
		if value != "true" && value != "false" {
			return "", wrong
		}
	case s.Type == Integer:
		n, err := strconv.ParseInt(value, 10, 64)
		if err != nil {
			return "", wrong
		}
		return strconv.FormatInt(n, 10), nil
	case strings.ContainsRune(value, 0):
		return "", wrong
	}
	return value, nil
}

// Mode is a named bundle of values of settings.
type Mode struct {
	Name   string
	Pos    Pos
	Values map[string]Item
}

// Chosen is the value of every setting for one call.
type Chosen map[string]string

// Choose returns the effective values: the defaults, then those of modes (later
// ones win), then single values given as "name=value".
func (r *Repo) Choose(modes, sets []string) (Chosen, error) {
	out := Chosen{}
	for name, s := range r.Settings {
		out[name] = s.Default
	}
	for _, m := range modes {
		mode, ok := r.Modes[m]
		if !ok {
			return nil, fmt.Errorf("no mode is named %q%s", m, orNone(meant(m, slices.Collect(maps.Keys(r.Modes))), "none is declared"))
		}
		for name, it := range mode.Values {
			out[name] = it.Text
		}
	}
	for _, given := range sets {
		name, value, ok := strings.Cut(given, "=")
		s, known := r.Settings[name]
		switch {
		case !known:
			return nil, fmt.Errorf(
				"no setting is named %q%s",
				name,
				orNone(meant(name, slices.Collect(maps.Keys(r.Settings))), "none is declared"),
			)
		case !ok:
			return nil, fmt.Errorf("add a value for setting %q: %s=…; it takes %s", name, name, s.Choices())
		}
		var err error
		if out[name], err = s.Canonical(value); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// IsOpen tells whether the setting takes any text: then its value can say anything to a shell in which a
// command uses it.
func (s *Setting) IsOpen() bool { return s.Type == Text && len(s.Values) == 0 }

func orNone(advice, none string) string {
	if advice == "" {
		return ": " + none
	}
	return "; " + advice
}

// placeholder is the only form that is replaced in a command.
var placeholder = pattern.New(`%\{setting\.([^}]*)\}`)

// bare matches values that a shell takes as one word without quotes.
var bare = pattern.New(`^[A-Za-z0-9_./:=@%+,-]+$`)

// Named returns the settings that a command names, each once, sorted.
func (c Command) Named() []string {
	var out []string
	for _, w := range c.template() {
		for _, m := range placeholder.FindAllStringSubmatch(w, -1) {
			out = append(out, m[1])
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

func (c Command) template() []string {
	if c.Argv != nil {
		return c.Argv
	}
	return []string{c.Shell}
}

// With returns the command with the values of settings inserted. In a shell
// text it inserts only values that the shell takes as one plain word; for any
// other value, the error names the variable that contains it.
func (c Command) With(repo *Repo, vals Chosen) (Command, error) {
	var wrong error
	put := func(text string) string {
		return placeholder.ReplaceAllStringFunc(text, func(m string) string {
			name := placeholder.FindStringSubmatch(m)[1]
			if c.Argv == nil && !bare.MatchString(vals[name]) {
				wrong = placeholderError(
					"%s: the value %q of setting %q contains characters that a "+
						"shell would split or expand: write \"$%s\" in run instead of %s",
					c.Pos,
					vals[name],
					name,
					repo.Settings[name].Var(),
					m,
				)
			}
			return vals[name]
		})
	}
	out := Command{Shell: put(c.Shell), Pos: c.Pos}
	if c.Argv != nil {
		out = Command{Pos: c.Pos}
		for _, w := range c.Argv {
			out.Argv = append(out.Argv, put(w))
		}
	}
	return out, wrong
}

// WithArgs returns the command with more words at its end. A shell text that
// uses its arguments ("$@", "$1") receives them as arguments.
func (c Command) WithArgs(args []string) Command {
	if len(args) == 0 {
		return c
	}
	if c.Argv != nil {
		return Command{Argv: append(slices.Clone(c.Argv), args...), Pos: c.Pos}
	}
	if arguments.MatchString(c.Shell) {
		return Command{Argv: append([]string{"sh", "-e", "-c", c.Shell, "sh"}, args...), Pos: c.Pos}
	}
	text := strings.TrimRight(c.Shell, " \t\n")
	for _, a := range args {
		text += " " + ShellQuote(a)
	}
	return Command{Shell: text, Pos: c.Pos}
}

// arguments matches a shell text's own arguments.
var arguments = pattern.New(`\$[@*1-9]|\$\{[@*1-9]`)

// ShellQuote quotes a word so that a shell takes it unchanged.
func ShellQuote(word string) string {
	if bare.MatchString(word) {
		return word
	}
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}

func (l *loader) setting(r *reader, name string, e *entry) {
	if have, ok := l.repo.Settings[name]; ok {
		r.fail(e.pos, "give one of them another name", "setting %q is already declared in %s", name, have.Pos.At())
		return
	}
	s := &Setting{Name: name, Type: Text, Pos: e.pos}
	for _, other := range l.repo.Settings {
		if other.Var() == s.Var() {
			r.fail(
				e.pos,
				"give one of them another name",
				"settings %q and %q (%s) would both be passed on as %s",
				name,
				other.Name,
				other.Pos.At(),
				s.Var(),
			)
		}
	}
	var values List
	var kind, help Item
	var standard *entry
	r.table(e.val.table, "[setting."+name+"]", map[string]field{
		"values": r.list(&values), "type": r.word(&kind), "help": r.text(&help),
		"default": func(e *entry) { standard = e },
	})
	s.Help, s.Values = help.Text, values.Texts()
	if kind.Text != "" {
		s.Type = SettingType(kind.Text)
		if all := []string{"string", "bool", "int"}; !slices.Contains(all, kind.Text) {
			r.fail(kind.Pos, meant(kind.Text, all), "type = %q is not valid", kind.Text)
			return
		}
	}
	switch {
	case values.Given && s.Type != Text:
		r.fail(values.Pos, "leave out values, or the type", "a setting with values is a string, not %s", s.Type)
	case values.Given && len(s.Values) == 0:
		r.fail(values.Pos, "list the allowed values", "setting %q has no allowed value", name)
	case standard == nil:
		r.fail(e.pos, "write default = …", "setting %q has no default", name)
	default:
		if v, ok := l.settingValue(r, s, standard); ok {
			s.Default = v
		}
	}
	l.repo.Settings[name] = s
}

// settingValue reads a value of a setting and checks its type.
func (l *loader) settingValue(r *reader, s *Setting, e *entry) (string, bool) {
	want := map[SettingType]struct {
		kind         unstable.Kind
		what, sample string
	}{
		Text: {unstable.String, "a string", `"…"`}, IsTrue: {unstable.Bool, "true or false", "true"},
		Integer: {unstable.Integer, "a whole number", "2"},
	}[s.Type]
	if e.val.kind != want.kind {
		r.wrong(e, want.what, e.key+" = "+want.sample)
		return "", false
	}
	v, err := s.Canonical(e.val.text)
	if err != nil {
		r.fail(e.val.pos, "valid here: "+s.Choices(), "setting %q cannot be %q", s.Name, e.val.text)
		return "", false
	}
	return v, true
}

// mode reads a mode's table; its values are checked after all settings are
// known.
func (l *loader) mode(r *reader, name string, e *entry) {
	if have, ok := l.repo.Modes[name]; ok {
		r.fail(e.pos, "give one of them another name", "mode %q is already declared in %s", name, have.Pos.At())
		return
	}
	l.repo.Modes[name] = &Mode{Name: name, Pos: e.pos, Values: map[string]Item{}}
	l.modes = append(l.modes, modeDecl{r, name, e.val.table})
}

type modeDecl struct {
	r     *reader
	name  string
	table *table
}

func (l *loader) resolveModes() {
	for _, m := range l.modes {
		for _, e := range m.table.entries {
			s, ok := l.repo.Settings[e.key]
			if !ok {
				m.r.fail(
					e.pos,
					meant(e.key, slices.Collect(maps.Keys(l.repo.Settings))),
					"mode %q sets %q, but no setting has that name",
					m.name,
					e.key,
				)
				continue
			}
			if v, ok := l.settingValue(m.r, s, e); ok {
				l.repo.Modes[m.name].Values[e.key] = Item{v, e.val.pos}
			}
		}
	}
}

// PlaceholderError says that the value of a setting cannot stand in a command.
type PlaceholderError struct{ Message string }

func (e *PlaceholderError) Error() string { return e.Message }

func placeholderError(format string, args ...any) error {
	return &PlaceholderError{fmt.Sprintf(format, args...)}
}
