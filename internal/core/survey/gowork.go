package survey

import (
	"path"
	"slices"

	"golang.org/x/mod/modfile"
)

// workspaceReads returns what the go command reads of the workspaces around a module,
// as patterns: their files, and those of all modules that they use. It is the same for
// all of these modules.
func (s *surveyor) workspaceReads(m *module) []string {
	var out []string
	for dir := m.dir; ; dir = path.Dir(dir) {
		file := path.Join(dir, "go.work")
		text, ok := s.read(file)
		work, err := modfile.ParseWork(file, []byte(text), nil)
		if ok && err == nil && s.files[file] {
			var used []string
			for _, use := range work.Use {
				used = append(used, path.Join(dir, use.Path))
			}
			if slices.Contains(used, m.dir) {
				return append(s.existing(dir, "go.work", "go.work.sum"), s.moduleFiles(used)...)
			}
		}
		if dir == "." {
			return out
		}
	}
}

// existing returns those files of a directory that are there.
func (s *surveyor) existing(dir string, names ...string) (out []string) {
	for _, name := range names {
		if f := path.Join(dir, name); s.files[f] {
			out = append(out, "repo:"+f)
		}
	}
	return out
}

// moduleFiles returns the go.mod and go.sum files of modules; of several beside each
// other by one pattern.
func (s *surveyor) moduleFiles(dirs []string) (out []string) {
	beside := map[string]int{}
	for _, dir := range dirs {
		beside[path.Dir(dir)]++
	}
	slices.Sort(dirs)
	for _, name := range []string{"go.mod", "go.sum"} {
		for _, dir := range dirs {
			if !s.files[path.Join(dir, name)] {
				continue
			}
			one := "repo:" + path.Join(dir, name)
			if parent := path.Dir(dir); dir != "." && beside[parent] > 1 {
				one = "repo:" + path.Join(parent, "*", name)
			}
			if !slices.Contains(out, one) {
				out = append(out, one)
			}
		}
	}
	return out
}

// caches are the directories below the home directory that the go command keeps between
// runs: what it compiled and, if a module needs others, their files, which it verifies.
func (s *surveyor) caches(mods []*module) []string {
	out := []string{"home:.cache/go-build"}
	if slices.ContainsFunc(mods, func(m *module) bool { return s.files[path.Join(m.dir, "go.sum")] }) {
		out = append(out, "home:go/pkg/mod")
	}
	return out
}
