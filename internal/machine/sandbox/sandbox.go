// Package isolate runs a command so that it sees only what it was given, and
// finds out what a command opened.
//
// A sealed command runs in a staged tree. On Linux, Landlock (landlock(7))
// restricts it to that tree; where the system allows it, it has mount and
// network namespaces of its own (namespaces(7)) and sees its tree at
// [Constant]. Elsewhere the staged tree is the only measure; [Able] says what
// is enforced.
package sandbox

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
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
	Writable []string `json:"writable"` // directories in addition to the stage
	Network  bool     `json:"network"`  // connections are allowed
	Moving   bool     `json:"moving"`   // leave the stage in its own directory, even if it could be mounted at the constant path
}

// Ability is what this machine can enforce.
type Ability struct {
	Files   bool   // reads and writes outside the stage are refused
	Place   bool   // the stage is mounted at a constant path
	Network string // how connections are refused: "namespace", "landlock" (TCP alone), or empty
	Why     string // what the system said, if something is missing
}

// Lacks returns what is not enforced for a task, in words; nothing if
// everything is.
func (a Ability) Lacks(network bool) []string {
	var out []string
	if !a.Files {
		out = append(out, "reading and writing files outside its tree")
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
	switch a.Network {
	case "namespace":
		enforced = append(enforced, "connections by a network namespace")
	case "landlock":
		enforced = append(enforced, "TCP connections by Landlock (UDP is open)")
	}
	if a.Place {
		enforced = append(enforced, "the tree is mounted at "+Constant)
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
	Try     bool // run nothing: only find out whether it is possible
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
// stage. After the start, fault waits until the command itself has begun, and
// returns what prevented that.
func Wrap(cmd *exec.Cmd, s Stage, a Ability) (fault func() error, err error) {
	return wrap(cmd, order{Stage: s, Ability: a, Command: cmd.Args})
}

func wrap(cmd *exec.Cmd, o order) (fault func() error, err error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	text, err := json.Marshal(o)
	if err != nil {
		return nil, err
	}
	pr, pw, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	cmd.Path, cmd.Args, cmd.Err = self, []string{self}, nil
	cmd.Dir = o.Stage.Dir
	cmd.Env = append(cmd.Env, childVar+"="+string(text))
	cmd.ExtraFiles = []*os.File{pw}
	namespaces(cmd, o)
	return func() error {
		defer pr.Close()
		pw.Close()
		buf := make([]byte, 4096)
		n, _ := pr.Read(buf) // ends when the command begins, which closes the other end
		if n > 0 {
			return fmt.Errorf("sealing: %s", buf[:n])
		}
		return nil
	}, nil
}

// system are the directories that every sealed command may read: programs,
// libraries and the system's settings.
var system = []string{
	"/usr", "/bin", "/sbin", "/lib", "/lib32", "/lib64", "/libx32", "/etc", "/proc", "/sys/devices/system", "/sys/kernel/mm",
	"/sys/fs/cgroup", "/nix/store", "/dev",
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
