package manifest

import (
	"iter"
	"path"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/decl"
)

// fileRole is what a file is for, as its name tells.
type fileRole struct {
	test    bool // a test, story, measurement, example, script, or configuration of a tool: it is not shipped
	unclear bool // whether it is shipped cannot be told
	built   bool // a bundler wrote it
	types   bool // it describes types only
}

var (
	testDirs = strings.Fields("__tests__ __mocks__ test tests e2e spec stories bench benchmark benchmarks perf example examples " +
		"demo demos doc docs scripts")
	builtDirs = strings.Fields("dist build out umd cjs esm")
	testMarks = strings.Fields("test test-d spec stories bench e2e example config setup")
	testStems = strings.Fields("test tests spec bench benchmark benchmarks setuptests setup-tests setupjest setup-jest setupvitest " +
		"setup-vitest test-setup jest-setup vitest-setup")
	// unclearDirs are those of scripts that people run, and of what a tool is configured with; an
	// application may have them, too.
	unclearDirs = strings.Fields("tool tools ci config configs tasks gulp webpack .storybook")
)

// roleOf returns the role of a script, given from the directory of its package.
func roleOf(file string) (r fileRole) {
	dir, base := path.Split(file)
	for seg := range strings.SplitSeq(strings.TrimSuffix(dir, "/"), "/") {
		r.test = r.test || slices.Contains(testDirs, seg)
		r.built = r.built || slices.Contains(builtDirs, seg)
		r.unclear = r.unclear || slices.Contains(unclearDirs, seg)
	}
	ext := path.Ext(base)
	stem := strings.TrimSuffix(base, ext)
	mark := strings.TrimPrefix(path.Ext(stem), ".")
	isScript := strings.HasSuffix(ext, "js")
	r.test = r.test || slices.Contains(testMarks, mark) || slices.Contains(testStems, strings.ToLower(stem)) ||
		isScript && strings.HasSuffix(stem, "rc")
	r.unclear = !r.test && (r.unclear || dir == "" && strings.Contains(strings.ToLower(stem), "config"))
	r.built = r.built || isScript && mark == "min"
	r.types = mark == "d" && strings.HasSuffix(ext, "ts")
	return r
}

var (
	interpreters = strings.Fields("node nodejs tsx ts-node bun deno jiti")
	serving      = strings.Fields("start serve server dev develop preview prod production worker")
)

// isRun tells whether scripts of a package name a file, given from its directory, as one that is not
// shipped: an interpreter runs it. It is unclear of what a script copies, compiles or bundles, and of
// the program that the package may be.
func (p npmPackage) isRun(file string) (tool, unclear bool) {
	for name, script := range p.scripts {
		first, _, _ := strings.Cut(strings.ReplaceAll(name, "-", ":"), ":")
		for before := range namings(script, file) {
			if !slices.Contains(serving, first) && isInterpreter(before) {
				tool = true
			} else {
				unclear = true
			}
		}
	}
	return tool && !unclear, unclear
}

// namings yields the text before each place of a script that names a file, given from the directory of
// the package.
func namings(script, file string) iter.Seq[string] {
	return func(yield func(string) bool) {
		for at := 0; ; {
			i := strings.Index(script[at:], file)
			if i < 0 {
				return
			}
			i += at
			at = i + len(file)
			before := strings.TrimSuffix(script[:i], "./")
			starts := before == "" || strings.ContainsAny(before[len(before)-1:], " \t\n'\"=;&|(")
			ends := at == len(script) || strings.ContainsAny(script[at:at+1], " \t\n'\";&|)")
			if starts && ends && !yield(before) {
				return
			}
		}
	}
}

// isInterpreter tells whether a part of a script ends in an interpreter, with options or without.
func isInterpreter(script string) bool {
	words := strings.Fields(script[strings.LastIndexAny(script, "\n;&|(")+1:])
	for len(words) > 0 && strings.HasPrefix(words[len(words)-1], "-") {
		words = words[:len(words)-1]
	}
	return len(words) > 0 && slices.Contains(interpreters, words[len(words)-1])
}

// isConfig tells whether a file may configure a tool, by its base name.
func isConfig(base string) bool {
	if base == "package.json" || base == decl.RootFile || base == decl.ProjectFile || strings.Contains(base, "lock") {
		return false
	}
	switch path.Ext(base) {
	case ".json", ".yml", ".yaml", ".toml":
		return true
	}
	name := strings.ToLower(base)
	return name[0] == '.' || strings.Contains(name, "config") || strings.HasSuffix(name, "rc") || strings.Contains(name, "rc.") ||
		strings.Contains(name, "makefile") || strings.Contains(name, "dockerfile")
}
