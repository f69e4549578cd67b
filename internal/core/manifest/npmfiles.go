package manifest

import (
	"path"
	"slices"
	"strings"
)

// fileRole is what a file is for, as its name tells.
type fileRole struct {
	test  bool // a test, story, measurement, example, script, or configuration of a tool: it is not shipped
	built bool // a bundler wrote it
	types bool // it describes types only
}

var (
	testDirs = strings.Fields("__tests__ __mocks__ test tests e2e spec stories bench benchmark benchmarks perf example examples " +
		"demo demos doc docs scripts")
	builtDirs = strings.Fields("dist build out umd cjs esm")
	testMarks = strings.Fields("test test-d spec stories bench e2e example config")
	testStems = strings.Fields("test tests spec bench benchmark benchmarks")
)

// roleOf returns the role of a script, given from the directory of its package.
func roleOf(file string) (r fileRole) {
	dir, base := path.Split(file)
	for seg := range strings.SplitSeq(strings.TrimSuffix(dir, "/"), "/") {
		r.test = r.test || slices.Contains(testDirs, seg)
		r.built = r.built || slices.Contains(builtDirs, seg)
	}
	ext := path.Ext(base)
	stem := strings.TrimSuffix(base, ext)
	mark := strings.TrimPrefix(path.Ext(stem), ".")
	isScript := strings.HasSuffix(ext, "js")
	r.test = r.test || slices.Contains(testMarks, mark) || slices.Contains(testStems, stem) || isScript && strings.HasSuffix(stem, "rc")
	r.built = r.built || isScript && mark == "min"
	r.types = mark == "d" && strings.HasSuffix(ext, "ts")
	return r
}

// isConfig tells whether a file may configure a tool, by its base name.
func isConfig(base string) bool {
	if base == "package.json" || strings.Contains(base, "lock") {
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
