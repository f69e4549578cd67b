package survey

import (
	"encoding/json"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/tailscale/hujson"

	"grayloft.example/grayloft/internal/core/pattern"
)

// compiled is what the TypeScript compiler writes by its configuration
// (https://www.typescriptlang.org/tsconfig), from the directory of a project.
type compiled struct {
	file  string   // the configuration, from the root
	dirs  []string // in which its results are
	state []string // files that say what it has compiled: with them, it writes only what changed since
	lost  string   // such a file outside the project, from the root
}

var (
	compiles    = pattern.New(`\b(?:vue-)?tsc\b([^;&|\n]*)`)
	compilesAll = pattern.New(`\s(?:-b|--build)\b`)
	compilesFor = pattern.New(`\s(?:-p|--project|-b|--build)[ =]["']?([\w./@-]*[\w/])`)
)

// compiled works out what a script writes that starts the compiler.
func (s *surveyor) compiled(p *Project, t *Task) (out compiled) {
	for _, m := range compiles.FindAllStringSubmatch(t.Script, -1) {
		at, all := ".", compilesAll.MatchString(m[1])
		if x := compilesFor.FindStringSubmatch(m[1]); x != nil {
			at = x[1]
		}
		if strings.Contains(m[1], "--noEmit") {
			continue
		}
		before := len(out.dirs)
		s.addCompiled(p, path.Join(p.Dir, at), all, &out, map[string]bool{})
		if strings.Contains(m[1], "--outDir") { // the command names another one
			out.dirs = out.dirs[:before]
		}
	}
	return out
}

// addCompiled adds what the compiler writes for a configuration, given from the root, or for the one
// in a directory; where it builds all that it refers to, for those too that are in the project.
func (s *surveyor) addCompiled(p *Project, file string, all bool, out *compiled, seen map[string]bool) {
	if !strings.HasSuffix(file, ".json") {
		file = path.Join(file, "tsconfig.json")
	}
	c, ok := s.compilerConfig(file, 0)
	if !ok || seen[file] || s.owner(file) != p.Dir {
		return
	}
	seen[file] = true
	within := func(name string) (string, bool) {
		if p.Dir != "." {
			return strings.CutPrefix(name, p.Dir+"/")
		}
		return name, name != "." && !strings.HasPrefix(name, "..")
	}
	if dir, ok := within(c.outDir); ok && c.outDir != "" && !c.noEmit {
		out.file = file
		out.dirs = append(out.dirs, dir)
	}
	if !c.noEmit && !c.hasOnlyReferences() && (all || c.incremental || c.composite) {
		if at := c.stateFile(file); s.owner(at) != p.Dir {
			out.lost = at
		} else if state, ok := within(at); ok {
			out.state = append(out.state, state)
		}
	}
	for _, r := range c.references {
		if all {
			s.addCompiled(p, path.Join(path.Dir(file), r.Path), all, out, seen)
		}
	}
}

// owner returns the directory of the project that a file belongs to.
func (s *surveyor) owner(file string) string {
	dir, _ := s.within(file)
	return dir
}

// compilerConfig are the options of a configuration and of those that it extends; paths are from the
// root, or start at configDir.
type compilerConfig struct {
	outDir, rootDir, stateAt string

	noEmit, incremental, composite bool

	references []struct{ Path string }
	files      *[]string
}

// hasOnlyReferences tells whether it names no file to compile.
func (c compilerConfig) hasOnlyReferences() bool {
	return c.files != nil && len(*c.files) == 0 && len(c.references) > 0
}

// stateFile returns where the compiler keeps what it has compiled, for a configuration.
func (c compilerConfig) stateFile(file string) string {
	plain := strings.TrimSuffix(file, ".json")
	switch {
	case c.stateAt != "":
		return c.stateAt
	case c.outDir == "":
		return plain + ".tsbuildinfo"
	case c.rootDir == "":
		return path.Join(c.outDir, path.Base(plain)) + ".tsbuildinfo"
	}
	from, err := filepath.Rel(filepath.FromSlash(c.rootDir), filepath.FromSlash(plain))
	if err != nil {
		return plain + ".tsbuildinfo"
	}
	return path.Join(c.outDir, filepath.ToSlash(from)) + ".tsbuildinfo"
}

// mostExtended is how many configurations may extend each other.
const mostExtended = 10

// compilerConfig reads a configuration.
func (s *surveyor) compilerConfig(file string, depth int) (c compilerConfig, ok bool) {
	text, ok := s.read(file)
	if plain, err := hujson.Standardize([]byte(text)); ok && err == nil {
		text = string(plain)
	}
	var own struct {
		Extends         json.RawMessage
		CompilerOptions struct {
			OutDir, RootDir, TSBuildInfoFile *string
			NoEmit, Incremental, Composite   *bool
		}
		References []struct{ Path string }
		Files      *[]string
	}
	if !ok || depth > mostExtended || json.Unmarshal([]byte(text), &own) != nil {
		return c, false
	}
	for _, base := range s.extended(file, own.Extends) {
		if b, ok := s.compilerConfig(base, depth+1); ok {
			c = b
		}
	}
	o := own.CompilerOptions
	for of, x := range map[*string]*string{&c.outDir: o.OutDir, &c.rootDir: o.RootDir, &c.stateAt: o.TSBuildInfoFile} {
		if x != nil && strings.HasPrefix(*x, configDir) {
			*of = *x
		} else if x != nil {
			*of = path.Join(path.Dir(file), *x)
		}
		if rest, ok := strings.CutPrefix(*of, configDir); ok && depth == 0 {
			*of = path.Join(path.Dir(file), rest)
		}
	}
	for of, x := range map[*bool]*bool{&c.noEmit: o.NoEmit, &c.incremental: o.Incremental, &c.composite: o.Composite} {
		if x != nil {
			*of = *x
		}
	}
	c.references, c.files = own.References, own.Files
	return c, true
}

// configDir stands for the directory of the configuration that extends others.
const configDir = "${configDir}"

// extended returns the configurations that one extends, of those in the repository.
func (s *surveyor) extended(file string, extends json.RawMessage) (out []string) {
	for _, name := range oneOrMore(extends) {
		at := path.Join(path.Dir(file), name)
		if !strings.HasPrefix(name, ".") {
			segs := strings.SplitN(name, "/", 3)
			n := min(len(segs), 1+strings.Count(name[:min(len(name), 1)], "@"))
			dir, ok := s.npmDirs[strings.Join(segs[:n], "/")]
			if !ok {
				continue
			}
			if at = path.Join(dir, strings.Join(segs[n:], "/")); at == dir {
				at = path.Join(dir, "tsconfig.json")
			}
		}
		if !strings.HasSuffix(at, ".json") && !s.files[at] {
			at += ".json"
		}
		if s.files[at] && !slices.Contains(out, at) {
			out = append(out, at)
		}
	}
	return out
}
