package survey_test

import (
	"maps"
	"slices"
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/core/adopt"
	. "grayloft.example/grayloft/internal/core/survey"
)

func TestPythonPackagesOfAnyManifest(t *testing.T) {
	s, p := propose(t, repo(map[string]string{
		"a/pyproject.toml": "[project]\nname = \"Skerry.A\"\ndependencies = [\"skerry_b>=1\"]\n[tool.pytest]\n",
		"b/setup.cfg":      "[metadata]\nname = skerry-b\n[options]\ninstall_requires =\n    fog>=2\n    skerry-c ; python_version > '3'\npackages = find:\n",
		"b/setup.py":       "from setuptools import setup\nsetup()\n", "b/test/test_b.py": "import os, skerry_c\n", "b/skerry_c/__init__.py": "",
		"c/setup.py":            "setup(\n    name='skerry_c',\n    install_requires=[\n        'skerry-d>1', \"fog\",\n    ],\n)\n",
		"c/tests/__init__.py":   "",
		"c/tests/test_c.py":     "import fog\n",
		"d/setup.py":            "setup(name='skerry-d')\n",
		"e/setup.cfg":           "[flake8]\nmax-line-length = 100\n",
		"e/tests/test_alone.py": "", "uv.lock": "", "requirements-dev.txt": "", "README.txt": "",
	}), Choices{})
	needed, runs, probes := map[string]string{}, map[string]string{}, map[string]string{}
	for _, x := range s.Projects {
		needed[x.Dir] = strings.Join(needs(x), " ")
		if test := x.Task("test"); test != nil {
			runs[x.Dir], probes[x.Dir] = test.Run, strings.Join(test.Probes, " ")
		}
	}
	if want := (map[string]string{"a": "b", "b": "c", "c": "d", "d": ""}); !maps.Equal(needed, want) {
		t.Errorf("needs: %v, want %v", needed, want)
	}
	if want := (map[string]string{
		"a": "python3 -m pytest", "b": "python3 -m unittest discover -s test", "c": "python3 -m unittest discover",
	}); !maps.Equal(runs, want) {
		t.Errorf("tests: %v, want %v", runs, want)
	}
	// b's modules come with the interpreter or are its own; the others' results depend on what is installed.
	if want := (map[string]string{"a": "python python-packages", "b": "python", "c": "python python-packages"}); !maps.Equal(probes, want) {
		t.Errorf("probes: %v, want %v", probes, want)
	}
	// What is installed follows the lock files: a change of them selects the tests that depend on it.
	for dir, want := range map[string][]string{"a": {"repo:requirements-dev.txt", "repo:uv.lock"}, "b": nil} {
		if got := slices.DeleteFunc(of(s, dir).Task("test").Reads, func(r string) bool { return !strings.HasPrefix(r, "repo:") }); !slices.Equal(got, want) {
			t.Errorf("%s reads %q of the root", dir, got)
		}
	}
	root := p.Files[slices.IndexFunc(p.Files, func(f adopt.File) bool { return f.Path == "grayloft.toml" })].New
	_, after, _ := strings.Cut(root, "[probe.python-packages]\n")
	if rows, _, _ := strings.Cut(after, "\n\n"); !strings.HasPrefix(rows, "run = ") || strings.Contains(rows, "reads") {
		t.Errorf("no file tells that the same packages are installed, so the probe always runs:\n%s", rows)
	}
}

// Tests that unittest does not find are run by what does: without any test, it says that all is well.
func TestPytestRunsItsTests(t *testing.T) {
	const class = "import unittest\nclass T(unittest.TestCase):\n    def test_level(self): pass\n"
	for _, c := range []struct {
		file, text, tests string
		want              bool
	}{
		{"b/x.py", "", class, false},
		{"a/pytest.ini", "", class, true},
		{"conftest.py", "", class, true},
		{"pyproject.toml", "[tool.pytest.ini_options]\n", class, true},
		{"a/pyproject.toml", "[project]\nname = \"a\"\n[dependency-groups]\ndev = [\"pytest>=8\"]\n", class, true},
		{"a/requirements-dev.txt", "pytest\n", class, true},
		{"a/tests/deep/conftest.py", "", class, true},
		{"b/conftest.py", "", class, false},
		{"b/x.py", "", "import pytest\n", true},
		{"b/x.py", "", "def test_level(): pass\n", true},
		{"b/x.py", "", "import fog\nclass T(fog.Case):\n    def test_level(self): pass\n", false},
	} {
		s, _ := propose(t, repo(map[string]string{"a/pyproject.toml": "[project]\nname = \"a\"\n", "a/tests/test_a.py": c.tests, c.file: c.text}), Choices{})
		if run := of(s, "a").Task("test").Run; strings.Contains(run, "pytest") != c.want {
			t.Errorf("%s, %q: %s", c.file, c.tests, run)
		}
	}
}
