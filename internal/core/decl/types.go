// Package decl reads declarations: grayloft.toml at the root of a repository
// and loft.toml in the directories of its projects. It takes an
// [io/fs.FS], and returns projects and tasks with all kinds folded in, or all
// problems of all files at once, each with its position and its fix.
//
// Relations between projects and tasks (needs, after, overlapping writes) are
// checked by package graph, which builds on this one.
package decl

import (
	"path"
	"slices"
	"strings"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/glob"
)

// The names of the two declaration files.
const (
	RootFile    = "grayloft.toml"
	ProjectFile = "loft.toml"
)

// Schema is the version of the declarations that this package reads.
const Schema = 1

// Ecosystems are the names of the package systems that declarations speak of.
var Ecosystems = []string{"go", "npm", "python", "cargo"}

// Repo is everything that a repository declares.
type Repo struct {
	Name               string
	Since              string // the revision that changes are measured against
	ServiceURL         string
	CheckoutPathsLocal bool // outputs that contain the checkout's path are not shared
	Probes             map[string]*Probe
	Settings           map[string]*Setting
	Modes              map[string]*Mode
	Kinds              map[string]*Kind
	Picks              map[string]*SavedPick
	Checks             map[string]Check   // by rule
	Imports            map[string]*Import // by name
	AdoptSkip          []string           // patterns of tasks and directories that adopt leaves alone
	// Provides are the modules of packages whose names differ, by ecosystem and package.
	Provides  map[string]map[string][]string
	Projects  []*Project    // sorted by name
	Files     []string      // every declaration that was read
	Digest    digest.Digest // of their texts
	KindFiles []Item        // patterns of the directories that may hold a project
	Unread    bool          // some file is not valid TOML or not there: names that seem missing may be in it
	sources   map[string]*document
}

// Item is a string with its position.
type Item struct {
	Text string
	Pos  Pos
}

// Probe is a named command whose output is part of keys, or the record of a package manager, of which
// the packages of each project are.
type Probe struct {
	Name      string
	Run       Command
	Installed Item   // the record, in each project, or after repo: from the root; then there is no command
	Reads     []Read // the output is remembered while these stay the same
	// Rememberable says that reads was given: the output depends only on the
	// program and on these files, so it may be remembered between runs.
	Rememberable bool
	PerProject   bool     // runs in each project's directory instead of once at the root
	Dirs         []string // toolchain directories that a sealed task may read
	Pos          Pos
}

// Asks returns the words of the probe's command, or "installed" and the record.
func (p *Probe) Asks() []string {
	if p.Installed.Text != "" {
		return []string{"installed", p.Installed.Text}
	}
	return p.Run.Words()
}

// ReadsFile tells whether the probe, when it runs for a project in dir, reads a
// path given from the root.
func (p *Probe) ReadsFile(dir, name string) bool {
	in := false
	for _, r := range p.Reads {
		rel := name
		if r.Scope == Own && dir != "." {
			below, ok := strings.CutPrefix(name, dir+"/")
			if !ok {
				continue
			}
			rel = below
		}
		if r.Pattern.Match(rel) {
			in = !r.Negated
		}
	}
	return in
}

// FilesOf returns those of sorted paths from the root that the probe reads when it runs for a project in dir,
// sorted. It looks only where patterns start.
func (p *Probe) FilesOf(dir string, paths []string) (out []string) {
	for _, r := range p.Reads {
		if r.Negated {
			continue
		}
		start := r.Pattern.LiteralStart()
		if r.Scope == Own && dir != "." {
			start = path.Join(dir, start)
		}
		i, _ := slices.BinarySearch(paths, start)
		for ; i < len(paths) && strings.HasPrefix(paths[i], start); i++ {
			if p.ReadsFile(dir, paths[i]) {
				out = append(out, paths[i])
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// SavedPick is a named pick.
type SavedPick struct {
	Name  string
	Where Item
}

// Check is what a repository says about a rule of check. Which rules and levels
// there are, package check knows.
type Check struct {
	Pos   Pos
	Level Item
	Allow List
}

// Kind is a named set of tasks and defaults.
type Kind struct {
	Name   string
	Pos    Pos
	Help   string
	Offers List
	Tags   List
	Tasks  map[string]*TaskDecl
	// Template is the directory, from the root, that new projects of the kind
	// are copied from; optional.
	Template Item
}

// Project is one project with its kinds folded in.
type Project struct {
	Name   string
	Dir    string // relative to the root; "." is the root
	Kinds  []Item
	Needs  []Item
	Tags   []Item
	Owner  string
	Offers List // absent: the same as the default reads
	// OffersTo are patterns over the names (or, with a leading "./", the
	// directories) of projects that may need this one; absent: everyone.
	OffersTo List
	Tasks    []*Task
	Pos      Pos
	// Lacks says that a kind of the project is not declared, so that tasks and
	// lists may be missing.
	Lacks bool
}

// List is a list of strings; an absent list differs from an empty one.
type List struct {
	Given bool
	Pos   Pos
	Items []Item
}

// Texts returns the strings without positions.
func (l List) Texts() []string {
	out := make([]string, len(l.Items))
	for i, it := range l.Items {
		out[i] = it.Text
	}
	return out
}

// Command is what a task or a probe runs.
type Command struct {
	Shell string   // for sh -e -c
	Argv  []string // run as it is
	Pos   Pos
}

// Words returns the argument vector to execute.
func (c Command) Words() []string {
	if c.Argv != nil {
		return c.Argv
	}
	return []string{"sh", "-e", "-c", c.Shell}
}

func (c Command) String() string {
	if c.Argv != nil {
		return strings.Join(c.Argv, " ")
	}
	return c.Shell
}

// Given tells whether there is a command.
func (c Command) Given() bool { return c.Argv != nil || c.Shell != "" }

// Reuse says how a task's outputs may be reused.
type Reuse string

// The values of reuse.
const (
	Auto   Reuse = "auto"   // the faster of fetching and running
	Always Reuse = "always" // always, if available
	Local  Reuse = "local"  // only on this machine
	Never  Reuse = "never"  // never
)

// TaskDecl is a task as one table declares it, before folding.
type TaskDecl struct {
	Name     string
	Pos      Pos
	Run      Command
	Reads    List
	Writes   List
	After    List
	Env      List
	Probes   List
	Reuse    Item
	Help     Item
	Timeout  Item
	Slots    Item
	Portable Item

	EnvUnkeyed List
	Secrets    List
	Opens      List
	Reports    List
	Scratch    List
	Settings   List
	Locks      List
	Isolation  Item
	Network    Item
	Retries    Item
}

// Isolation says what a task can see beyond its declaration.
type Isolation string

// The values of isolation.
const (
	Open   Isolation = "open"   // it runs in the checkout
	Traced Isolation = "traced" // the same, and the files it opens are compared with its declaration
	Sealed Isolation = "sealed" // it sees only what it declares
)

// Task is a task with its kinds folded in.
type Task struct {
	Name     string
	Project  *Project
	Decl     *TaskDecl
	Reads    []Read // empty and not given: the default
	Writes   []glob.Pattern
	Env      []EnvVar
	Reuse    Reuse
	Help     string
	Timeout  time.Duration // 0: none
	Slots    int
	Portable bool
	Pos      Pos

	EnvUnkeyed  []EnvVar       // passed on; only whether each is set is part of the key
	Secrets     []EnvVar       // as EnvUnkeyed, and their values are masked
	Opens       []Read         // files the command opens although its result does not depend on them
	Scratch     []glob.Pattern // kept between runs; never part of an output
	HomeScratch []string       // the same, below the home directory
	Reports     []glob.Pattern // JUnit XML files that it makes; like a log, never part of an output
	Settings    []string       // names of the settings that it uses, sorted
	Locks       []string       // held exclusively while it runs, sorted
	Isolation   Isolation
	Network     bool // whether a sealed task may open connections
	Retries     int
}

// Addr returns the task's address, task@project.
func (t *Task) Addr() string { return t.Name + "@" + t.Project.Name }

// ReadsGiven tells whether the task declares its reads.
func (t *Task) ReadsGiven() bool { return t.Decl.Reads.Given }

// WritesGiven tells whether the task declares its writes; if not, it always
// runs.
func (t *Task) WritesGiven() bool { return t.Decl.Writes.Given }

// ProbesGiven tells whether the task declares its probes; if not, its outputs
// stay on this machine.
func (t *Task) ProbesGiven() bool { return t.Decl.Probes.Given }

// NeedsRead tells whether the task reads what needed projects offer.
func (t *Task) NeedsRead() bool {
	for _, r := range t.Reads {
		if r.Scope == Needs {
			return true
		}
	}
	return false
}

// EnvVar is a variable that is passed on, or given a value.
type EnvVar struct {
	Name  string
	Value string
	Given bool // Value is used, not the person's environment
}

// Scope says what a pattern of reads is relative to.
type Scope int

// The scopes of reads.
const (
	Own   Scope = iota // the project's directory
	Root               // the repository's root
	Needs              // what needed projects offer; no pattern
)

// Read is one pattern of a task's reads.
type Read struct {
	Scope   Scope
	Negated bool
	Pattern glob.Pattern
	Item    Item
}
