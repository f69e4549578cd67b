package decl

import (
	"path"
	"slices"
	"strings"
)

// Inner are the directories of repositories inside a repository: what they declare is theirs.
type Inner []string

// InnerOf finds them by the files of the repository, relative to its root.
func InnerOf(files []string) (in Inner) {
	for _, f := range files {
		if dir := path.Dir(f); path.Base(f) == RootFile && dir != "." && !in.Has(f) {
			in = slices.DeleteFunc(in, func(d string) bool { return strings.HasPrefix(d, dir+"/") })
			in = append(in, dir)
		}
	}
	return in
}

// Has tells whether a file is in one of them.
func (in Inner) Has(file string) bool {
	return slices.ContainsFunc(in, func(dir string) bool { return strings.HasPrefix(file, dir+"/") })
}
