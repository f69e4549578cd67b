package makefile

import (
	"strings"

	"grayloft.example/grayloft/internal/core/pattern"
)

// Variables are those that a Makefile sets, by name.
type Variables map[string]Variable

// Variable is the value of one, as it is written.
type Variable struct {
	Value string
	// Default tells that the environment may set it instead (?=).
	Default bool
}

var (
	assignment = pattern.New(`^(?:export\s+|override\s+)*([A-Za-z_][\w.-]*)\s*(\?|:{0,3}|\+)=\s*(.*)$`)
	reference  = pattern.New(`\$\$|\$(?:\([A-Za-z_][\w.-]*\)|\{[A-Za-z_][\w.-]*\})`) // or a dollar for the shell
)

// VariablesOf returns the variables that a Makefile sets by assignments, outside of recipes. Of several
// assignments the last one counts; conditions around them are not looked at.
func VariablesOf(text string) Variables {
	out := Variables{}
	for line := range strings.Lines(strings.ReplaceAll(text, "\\\n", " ")) {
		m := assignment.FindStringSubmatch(strings.TrimRight(line, "\r\n"))
		if strings.HasPrefix(line, "\t") || m == nil {
			continue
		}
		name, value := m[1], strings.TrimSpace(m[3])
		if i := strings.Index(value, " #"); i >= 0 {
			value = strings.TrimSpace(value[:i])
		}
		switch m[2] {
		case "+":
			v := out[name]
			v.Value = strings.TrimSpace(v.Value + " " + value)
			out[name] = v
		case "?":
			if _, ok := out[name]; !ok {
				out[name] = Variable{value, true}
			}
		default:
			out[name] = Variable{Value: value}
		}
	}
	return out
}

const (
	mostExpanded = 64 << 10 // bytes that are put into a text
	deepest      = 8        // variables in values of variables
)

// Expand puts the values of variables into a text. Those that the environment may set stay, with their
// values in comments behind the text.
func (v Variables) Expand(text string) string {
	defaults, left := map[string]bool{}, mostExpanded
	var behind strings.Builder
	for range deepest {
		changed := false
		next := reference.ReplaceAllStringFunc(text, func(ref string) string {
			name := strings.Trim(ref, "$(){}")
			x, ok := v[name]
			switch {
			case !ok || left < len(x.Value):
				return ref
			case x.Default:
				if !defaults[name] {
					defaults[name] = true
					behind.WriteString("\n# " + name + " = " + x.Value)
				}
				return ref
			}
			changed, left = true, left-len(x.Value)
			return x.Value
		})
		if text = next; !changed {
			break
		}
	}
	if behind.Len() > 0 {
		return strings.TrimRight(text, "\n") + behind.String() + "\n"
	}
	return text
}
