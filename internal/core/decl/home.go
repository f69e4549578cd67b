package decl

import (
	"path"
	"slices"
	"strings"
)

// toolHomes are directories below a person's home in which compilers and package managers keep
// what they can make or fetch again, and the tools themselves. A repository may name those, and
// what is below them; of the rest of a home only what its person allows.
var toolHomes = []string{
	".cache", "Library/Caches", "go", "sdk", ".cargo/bin", ".cargo/git", ".cargo/registry", ".rustup", ".npm", ".yarn", ".pnpm-store",
	".local/bin", ".local/lib", ".local/share/pnpm", ".deno", ".nvm", ".pyenv", ".m2/repository", ".gradle/caches", ".gradle/wrapper",
	".ivy2/cache", ".gem", ".rbenv", ".nuget/packages", ".dotnet", ".conan2", ".cabal", ".stack", ".ghcup",
}

// IsToolHome tells whether a repository may name a directory, below the home, without its person
// having allowed it. Allowed are more such directories.
func IsToolHome(dir string, allowed ...string) bool {
	if dir = path.Clean(dir); dir == "." || strings.HasPrefix(dir, "..") {
		return false
	}
	return slices.ContainsFunc(slices.Concat(toolHomes, allowed), func(d string) bool {
		return dir == path.Clean(d) || strings.HasPrefix(dir, path.Clean(d)+"/")
	})
}
