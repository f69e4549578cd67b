package manifest

import (
	"bytes"
	"encoding/json"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"

	"grayloft.example/grayloft/internal/core/pattern"
)

// mentionedIn returns whether a package is used without an import in the files of its
// manifest: in scripts, in configurations, in style sheets, in what tasks run, as
// types, beside an installed package, by a path, by a package in a directory of
// this one, or by one that does not declare it.
func (s *npmSurvey) mentionedIn(p npmPackage) func(string) bool {
	var texts []string
	var named, quoted map[string]bool
	runsOthers := sync.OnceValue(func() bool { return s.runsUnknown(p) })
	return func(name string) bool {
		if strings.HasPrefix(name, "@types/") || s.locked.peers[name] || s.borrowed[name] {
			return true // types are used by files that import something else, or nothing
		}
		if texts == nil {
			texts, named = s.namingTexts(p), s.namedBy(p)
		}
		for _, word := range append(wordsFor(name), s.locked.programs[name]...) {
			if slices.ContainsFunc(texts, func(text string) bool { return hasWord(text, word) }) {
				return true
			}
		}
		if named[name] || s.isReadFrom(name) {
			return true
		}
		if quoted == nil {
			quoted = s.quotedIn(p)
		}
		return quoted[name] || s.locked.mayBring(name) && runsOthers()
	}
}

// extension matches the name of a package that extends a tool: as the tool's plugin,
// configuration and the like.
var extension = pattern.New(`^(?:@([^/]+)/)?(?:[a-z0-9]+-)*?(?:plugin|config|preset|parser|formatter)(?:-(.+))?$`)

// wordsFor returns the words by which configurations name a package: its name, also without a
// scope, and what a tool calls its extensions, such as "quay" for lint-plugin-quay and "@quay"
// for @quay/lint-plugin. A package for the command line has the program's name: quay-cli.
func wordsFor(name string) []string {
	plain := name[strings.LastIndexByte(name, '/')+1:]
	words := []string{name, plain}
	if tool := strings.TrimSuffix(plain, "-cli"); tool != plain {
		words = append(words, tool)
	} else if scope, ok := strings.CutSuffix(name, "/cli"); ok {
		words = append(words, strings.TrimPrefix(scope, "@"))
	}
	if m := extension.FindStringSubmatch(name); m != nil {
		for _, word := range m[1:] {
			if word != "" {
				words = append(words, word)
			}
		}
	}
	return words
}

// quotedIn returns the packages that no file of a package imports and some script names as a
// string: a tool may load them by it.
func (s *npmSurvey) quotedIn(p npmPackage) map[string]bool {
	open := maps.Clone(p.declared)
	for _, f := range s.files[p.dir] {
		for _, x := range s.Imports.Of(f).Imports {
			delete(open, packageOf(x.Spec))
		}
	}
	out := map[string]bool{}
	for _, f := range s.files[p.dir] {
		if isSheet(f) {
			continue
		}
		text := s.fresh(f)
		for name := range open {
			if strings.Contains(text, `"`+name+`"`) || strings.Contains(text, "'"+name+"'") {
				out[name] = true
				delete(open, name)
			}
		}
	}
	return out
}

// namingTexts returns the texts in which a package may be named as a word.
func (s *npmSurvey) namingTexts(p npmPackage) []string {
	texts := append(slices.Collect(maps.Values(p.scripts)), s.Commands)
	var rest map[string]json.RawMessage
	_ = json.Unmarshal([]byte(s.text(p.file)), &rest)
	for key, value := range rest {
		if _, isList := npmLists[key]; !isList && key != "name" && key != "description" && key != "keywords" {
			texts = append(texts, string(value))
		}
	}
	for _, f := range s.configsOf(p) {
		base := strings.TrimPrefix(path.Base(f), ".")
		stem, _, _ := strings.Cut(base, ".")
		texts = append(texts, s.text(f), base, strings.TrimSuffix(stem, "rc")) // .lintrc configures lint
		for word, names := range helpersOf {
			if strings.Contains(s.text(f), word) {
				texts = append(texts, names...)
			}
		}
	}
	return texts
}

// namedBy returns the packages that style sheets name, and those that packages in a
// directory of this one import: they find them here.
func (s *npmSurvey) namedBy(p npmPackage) map[string]bool {
	out := map[string]bool{}
	for dir, list := range s.files {
		isOwn := dir == p.dir
		if !isOwn && !isBelow(p.dir, dir+"/x") {
			continue
		}
		for _, f := range list {
			src := s.Imports.Of(f)
			for _, m := range src.Mentions {
				out[packageOf(m)] = true
			}
			for _, name := range compilersOf[path.Ext(f)] {
				out[name] = true
			}
			for _, x := range src.Imports {
				if !isOwn {
					out[packageOf(x.Spec)] = true
				}
			}
		}
	}
	return out
}

// compilersOf are the packages that files are compiled by, or with, without an import of them.
var compilersOf = map[string][]string{
	".scss": {"sass", "sass-embedded", "node-sass"}, ".ts": {"typescript"}, ".mts": {"typescript"}, ".cts": {"typescript"},
	".tsx": {"typescript", "react", "preact"}, ".jsx": {"react", "preact"},
}

// helpersOf are the packages that compiled code imports, by the words of a configuration that say so
// (https://www.typescriptlang.org/tsconfig/#importHelpers, https://babeljs.io/docs/babel-preset-env).
var helpersOf = map[string][]string{
	"importHelpers": {"tslib"}, "useBuiltIns": {"core-js"}, "transform-runtime": {"@babel/runtime", "@babel/runtime-corejs3"},
}

var installedPath = pattern.New(`node_modules/((?:@[\w.~-]+/)?[\w.~-]+)/`)

// isReadFrom tells whether some file names the directory in which a package is
// installed.
func (s *npmSurvey) isReadFrom(name string) bool {
	if s.installed == nil {
		s.installed = map[string]bool{}
		var mu sync.Mutex
		s.inParallel(s.Files, func(f string) {
			data, err := fs.ReadFile(s.FS, f)
			if err != nil || !bytes.Contains(data, []byte("node_modules/")) || strings.Contains(path.Base(f), "lock") {
				return
			}
			for _, m := range installedPath.FindAllSubmatch(data, -1) {
				mu.Lock()
				s.installed[string(m[1])] = true
				mu.Unlock()
			}
		})
	}
	return s.installed[name]
}
