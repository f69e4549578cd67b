// Package sandbox runs a command so that it sees only what it was given, and
// finds out what a command opened.
//
// A sealed command runs in a staged tree. On Linux it has mount, process, IPC
// and network namespaces of its own (namespaces(7)), in which only that tree,
// the system's directories and those of its probes exist; it has no capability
// (capabilities(7)), and Landlock (landlock(7)) restricts it to the same
// directories once more. Where the system allows less, [Able] says what is
// enforced. Elsewhere the staged tree is the only measure.
package sandbox

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"grayloft.example/grayloft/internal/machine/process"
)

// Constant is where a sealed command sees its tree, home and temporary
// directory, if mount namespaces are available.
const Constant = "/srv/grayloft"

// The directories in a stage.
const (
	TreeDir = "tree" // the repository, as far as the task may read it
	HomeDir = "home"
	TempDir = "tmp"
)

// Stage describes the restrictions of a command.
type Stage struct {
	Dir      string   `json:"dir"`      // contains the three directories
	Work     string   `json:"work"`     // working directory, relative to the tree
	Readable []string `json:"readable"` // directories in addition to the system's
	Files    []string `json:"files"`    // regular files that it may read
	Writable []string `json:"writable"` // directories in addition to the stage
	Network  bool     `json:"network"`  // connections are allowed
	Nesting  bool     `json:"nesting"`  // the command may restrict others: namespaces alone restrict it
	Moving   bool     `json:"moving"`   // leave the stage in its own directory, even if it could be mounted at the constant path
}

// Ability is what this machine can enforce.
type Ability struct {
	Files     bool   // reads and writes outside the stage are refused, by Landlock
	Place     bool   // nothing else exists for the command, and its stage is at a constant path
	Processes bool   // other processes, and their shared memory, do not exist for the command
	Network   string // how connections are refused: "namespace", "landlock" (TCP alone), or empty
	Why       string // what the system said, if something is missing
}

// Lacks returns what is not enforced for a task, in words; nothing if
// everything is.
func (a Ability) Lacks(network bool) []string {
	var out []string
	if !a.Files {
		out = append(out, "reading and writing files outside its tree")
	}
	if !a.Place {
		out = append(out, "seeing which other files exist, and changing their times and rights")
	}
	if !a.Processes {
		out = append(out, "seeing other processes and sharing memory with them")
	}
	if !network && a.Network == "" {
		out = append(out, "connections")
	}
	return out
}

// String describes in a sentence how sealed tasks are restricted.
func (a Ability) String() string {
	var enforced []string
	if a.Files {
		enforced = append(enforced, "files by Landlock")
	}
	if a.Processes {
		enforced = append(enforced, "processes by a namespace")
	}
	switch a.Network {
	case "namespace":
		enforced = append(enforced, "connections by a network namespace")
	case "landlock":
		enforced = append(enforced, "TCP connections by Landlock (UDP is open)")
	}
	if a.Place {
		enforced = append(enforced, "only its tree and the system exist, the tree at "+Constant)
	}
	text := strings.Join(enforced, "; ")
	if text == "" {
		text = "by the staged tree only"
	}
	if a.Why != "" {
		text += " (" + a.Why + ")"
	}
	return text
}

// At returns the path at which the command sees a directory of the stage.
func (a Ability) At(s Stage, parts ...string) string {
	dir := s.Dir
	if a.Place && !s.Moving {
		dir = Constant
	}
	return filepath.Join(append([]string{dir}, parts...)...)
}

// childVar carries the instructions for a child before it becomes the command.
const childVar = "GRAYLOFT_SEAL"

// order is the instructions for the child.
type order struct {
	Stage   Stage
	Ability Ability
	Command []string
	Hidden  []string // files of the system that not everybody may read
	Try     bool     // run nothing: only find out whether it is possible
}

// Enter must be called first in main. In a process that [Wrap] started it does
// not return: it applies the restrictions and becomes the command.
func Enter() {
	text, ok := os.LookupEnv(childVar)
	if !ok {
		return
	}
	os.Unsetenv(childVar)
	var o order
	err := json.Unmarshal([]byte(text), &o)
	if err == nil {
		err = become(o)
	}
	fault := os.NewFile(3, "fault") // see Wrap
	fmt.Fprint(fault, err)
	os.Exit(125)
}

// Wrap changes a command that is about to start so that it runs restricted to a
// stage. After the start, began waits until the command itself has begun, and
// returns what prevented that; ended corrects the result of a command that ran
// below another process in its namespace.
func Wrap(cmd *exec.Cmd, s Stage, a Ability) (began func() error, ended func(*process.Result) error, err error) {
	return wrap(cmd, order{Stage: s, Ability: a, Command: cmd.Args, Hidden: hidden()})
}

func wrap(cmd *exec.Cmd, o order) (began func() error, ended func(*process.Result) error, err error) {
	self, err := os.Executable()
	if err != nil {
		return nil, nil, err
	}
	text, err := json.Marshal(o)
	if err != nil {
		return nil, nil, err
	}
	pr, pw, err := os.Pipe()
	if err != nil {
		return nil, nil, err
	}
	cmd.Path, cmd.Args, cmd.Err = self, []string{self}, nil
	cmd.Dir = o.Stage.Dir
	cmd.Env = append(cmd.Env, childVar+"="+string(text))
	cmd.ExtraFiles = []*os.File{pw}
	namespaces(cmd, o)
	said := bufio.NewReader(io.LimitReader(pr, 1<<16))
	began = func() error {
		pw.Close()
		line, err := said.ReadString('\n') // ends when the command begins, which closes or uses the other end
		if err == nil && line == saidBegun || line == "" {
			return nil
		}
		rest, _ := io.ReadAll(said)
		return fmt.Errorf("sealing: %s%s", line, rest)
	}
	ended = func(res *process.Result) error {
		defer pr.Close()
		text, _ := io.ReadAll(said)
		return readEnd(string(text), res)
	}
	return began, ended, nil
}

// What the first process of a namespace says about the command, in lines.
const (
	saidBegun  = "begun\n"
	saidExit   = "exit %d\n"
	saidSignal = "signal %s\n"
)

// readEnd takes over how the command itself ended.
func readEnd(text string, res *process.Result) error {
	var code int
	var name string
	switch {
	case res.Stopped || res.TimedOut > 0 || text == "":
	case scan(text, saidExit, &code):
		res.Exit, res.Signal = code, ""
	case scan(text, saidSignal, &name):
		res.Exit, res.Signal = -1, name
	}
	return nil
}

func scan(text, format string, to any) bool {
	n, err := fmt.Sscanf(text, format, to)
	return n == 1 && err == nil
}

// Resolver adds to files what names of other machines are looked up with, where the system's
// settings have a link to it (resolv.conf(5)).
func Resolver(files ...string) []string {
	at, err := filepath.EvalSymlinks("/etc/resolv.conf")
	if err == nil && !System(at) {
		files = append(files, at)
	}
	return files
}

// system are the directories that every sealed command may read: programs,
// libraries and the system's settings.
var system = []string{
	"/usr", "/bin", "/sbin", "/lib", "/lib32", "/lib64", "/libx32", "/etc", "/sys/devices/system", "/sys/kernel/mm",
	"/sys/fs/cgroup", "/nix/store", "/proc", "/dev",
}

// System tells whether a path is in a directory that every sealed command may
// read.
func System(p string) bool {
	for _, dir := range system {
		if p == dir || strings.HasPrefix(p, dir+"/") {
			return true
		}
	}
	return false
}
