package main

import (
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strings"
)

// sourceFiles are the sources of each project of the repository that check reads: 1,000
// projects with 10 Go files or 10 scripts each, and tests.
const sourceFiles = 20

// sources writes a repository of Go modules and npm packages of 20,000 sources, which
// import each other and packages from elsewhere. Its declarations and manifests are
// right.
func sources(dir string) error {
	rnd := rand.New(rand.NewPCG(11, 11))
	const projects = 1000
	root := "schema = 1\n\n[repo]\nname = \"sources\"\nprojects = [\"libs/*\", \"web/*\"]\n"
	if err := write(filepath.Join(dir, "grayloft.toml"), []byte(root)); err != nil {
		return err
	}
	if err := write(filepath.Join(dir, "package.json"), []byte("{\"private\": true, \"workspaces\": [\"web/*\"]}\n")); err != nil {
		return err
	}
	for i := range projects {
		language, group := goSources, "libs"
		if i%2 == 1 {
			language, group = webSources, "web"
		}
		name := func(i int) string { return fmt.Sprintf("p%04d", i) }
		var needs []string
		if i >= 10 {
			needs = append(needs, name(i-2*(1+rnd.IntN(4))))
		}
		at := filepath.Join(dir, group, name(i))
		decl := fmt.Sprintf("[project]\nname = %q\nneeds = [", name(i))
		for _, n := range needs {
			decl += fmt.Sprintf("%q", n)
		}
		files := language(rnd, name(i), needs)
		files["loft.toml"] = decl + "]\n\n[task.test]\nrun = \"true\"\nwrites = []\nprobes = []\n"
		for file, text := range files {
			if err := write(filepath.Join(at, file), []byte(text)); err != nil {
				return err
			}
		}
	}
	return commit(dir)
}

func goSources(rnd *rand.Rand, name string, needs []string) map[string]string {
	mod := "module skerry.example/" + name + "\n\ngo 1.24\n\nrequire pier.example/fog v1.2.0\n"
	imports := "\t\"context\"\n\t\"fmt\"\n\t\"strings\"\n\n\t\"pier.example/fog/thick\"\n"
	for _, n := range needs {
		mod += "\nrequire skerry.example/" + n + " v0.0.0\n\nreplace skerry.example/" + n + " => ../" + n + "\n"
		imports += "\t\"skerry.example/" + n + "\"\n"
	}
	out := map[string]string{"go.mod": mod}
	for f := range sourceFiles {
		ending := ""
		if f%4 == 3 {
			ending = "_test"
		}
		out[fmt.Sprintf("f%02d%s.go", f, ending)] = "// Package " + name + " is made up.\npackage " + name + "\n\nimport (\n" + imports + ")\n\n" + code(
			rnd,
			"func f%d(ctx context.Context) string {\n\treturn fmt.Sprint(%d, strings.ToUpper(%q))\n}\n\n",
		)
	}
	return out
}

func webSources(rnd *rand.Rand, name string, needs []string) map[string]string {
	list := "\"fog\": \"^1.2.0\""
	imports := "import { thick } from 'fog/thick';\nimport fs from 'node:fs';\nimport { own } from './own.js';\n"
	for _, n := range needs {
		list += ", \"" + n + "\": \"*\""
		imports += "import * as other from '" + n + "';\n"
	}
	out := map[string]string{"package.json": "{\"name\": \"" + name + "\", \"dependencies\": {" + list + "}}\n"}
	for f := range sourceFiles {
		ending := []string{".ts", ".js", ".tsx", ".test.ts"}[f%4]
		out[fmt.Sprintf("src/f%02d%s", f, ending)] = imports + "\n" + code(
			rnd,
			"export function f%d(x: number) {\n  return `${x + %d}` + %q;\n}\n\n",
		)
	}
	return out
}

// code returns about four kilobytes of functions in a form that takes two numbers and
// a text.
func code(rnd *rand.Rand, form string) string {
	var b strings.Builder
	for i := 0; b.Len() < 4000; i++ {
		fmt.Fprintf(&b, form, i, rnd.IntN(1000), strings.TrimSpace(string(noise(rnd, 60))))
	}
	return b.String()
}
