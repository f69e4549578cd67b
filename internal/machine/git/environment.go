package git

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// elsewhere are the variables by which git tells its hooks and aliases which repository they are
// called for. In another directory they name the wrong one: git would answer for a submodule from
// the index of the repository around it.
var elsewhere = []string{"GIT_DIR", "GIT_WORK_TREE", "GIT_IMPLICIT_WORK_TREE", "GIT_COMMON_DIR", "GIT_INDEX_FILE", "GIT_PREFIX"}

// pathspecs are the variables that change what a path given to git means.
var pathspecs = []string{"GIT_LITERAL_PATHSPECS", "GIT_GLOB_PATHSPECS", "GIT_NOGLOB_PATHSPECS", "GIT_ICASE_PATHSPECS"}

// Environment returns this process's environment for a call of git in a directory, without what
// makes git answer for another repository. A directory that git finds no repository for keeps
// the variables: only they can say where it is.
func Environment(dir string) []string {
	without := pathspecs
	if inRepository(dir) {
		without = slices.Concat(pathspecs, elsewhere)
	}
	return slices.DeleteFunc(os.Environ(), func(v string) bool {
		name, _, _ := strings.Cut(v, "=")
		return slices.Contains(without, name)
	})
}

// inRepository tells whether a directory is in a checkout, or is a repository without one.
func inRepository(dir string) bool {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return false
	}
	if there(dir, "HEAD") && there(dir, "objects") {
		return true
	}
	for ; ; dir = filepath.Dir(dir) {
		if there(dir, ".git") {
			return true
		}
		if dir == filepath.Dir(dir) {
			return false
		}
	}
}

func there(dir, name string) bool {
	_, err := os.Lstat(filepath.Join(dir, name))
	return err == nil
}
