package sandbox

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path"
	"strconv"
	"strings"
	"sync"
)

// Opened is what a command and its descendants opened, by absolute path.
type Opened struct {
	mu    sync.Mutex
	Read  map[string]bool // files that were read or executed
	Wrote map[string]bool // files that were written, created, renamed to or deleted
	// With All set, Touched has every path that was opened, looked for or run, whether it exists or not,
	// Listed the directories that were listed, and Talked tells whether something else was asked.
	All     bool
	Touched map[string]bool
	Listed  map[string]bool
	Talked  bool
}

// calls returns the arguments by which the tracer reports what is recorded.
func (o *Opened) calls() []string {
	if o.All {
		o.Touched, o.Listed = map[string]bool{}, map[string]bool{}
		return []string{"-e", "trace=%file,fchdir,clone,clone3,fork,vfork,connect,sendto"}
	}
	return []string{"-z", "-e", "trace=open,openat,openat2,creat,execve,execveat,chdir,fchdir,clone,clone3,fork,vfork," +
		"rename,renameat,renameat2,unlink,unlinkat,symlink,symlinkat,link,linkat,truncate"}
}

// ErrNoTracer is returned if there is no program to trace with.
var ErrNoTracer = errors.New("tracing needs strace, which is not installed (Debian: apt install strace)")

// CanTrace returns why tracing is impossible here, or nil.
func CanTrace() error {
	if _, err := exec.LookPath("strace"); err != nil {
		return ErrNoTracer
	}
	return nil
}

// Trace changes a command that is about to start so that the files it opens are
// recorded in seen. The tracer starts as a grandchild and outlives the
// command's group: ended returns when it has seen all of its processes end.
func Trace(cmd *exec.Cmd, mark string, seen *Opened) (ended func() error, err error) {
	tracer, err := exec.LookPath("strace")
	if err != nil {
		return nil, ErrNoTracer
	}
	pr, pw, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	seen.Read, seen.Wrote = map[string]bool{}, map[string]bool{}
	args := []string{tracer, "-DDD", "-f", "-qqq", "-y", "--seccomp-bpf", "-s", "4096", "-e", "signal=none", "-o", "/dev/fd/3"}
	args = append(args, seen.calls()...)
	// The tracer does not carry the mark by which a task's processes are found.
	for i, kv := range cmd.Env {
		if name, val, ok := strings.Cut(kv, "="); ok && name == mark {
			cmd.Env = append(cmd.Env[:i:i], cmd.Env[i+1:]...)
			args = append(args, "-E", name+"="+val)
			break
		}
	}
	dir := cmd.Dir
	// The command itself must not hold the tracer's end of the pipe open.
	args = append(args, "sh", "-c", `exec 3>&-; exec "$@"`, "sh")
	cmd.Args = append(args, cmd.Args...)
	cmd.Path, cmd.Err = tracer, nil
	cmd.ExtraFiles = []*os.File{pw}
	done := make(chan error, 1)
	go func() {
		done <- seen.follow(pr, dir)
		pr.Close()
	}()
	return func() error {
		pw.Close()
		return <-done
	}, nil
}

// follow reads the tracer's output: a line for each call that succeeded, `PID
// name(arguments) = result`, with the path of a descriptor in angle brackets
// after it (strace(1), --decode-fds).
func (o *Opened) follow(r io.Reader, dir string) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	in := bufio.NewScanner(r)
	in.Buffer(make([]byte, 64<<10), 4<<20)
	at := map[string]string{} // directory by process
	unfinished := map[string]string{}
	lines := 0
	for in.Scan() {
		lines++
		pid, call, ok := strings.Cut(strings.TrimSpace(in.Text()), " ")
		if !ok {
			continue
		}
		call = strings.TrimLeft(call, " ")
		if head, ok := strings.CutSuffix(call, " <unfinished ...>"); ok {
			unfinished[pid] = head
			continue
		}
		if rest, ok := strings.CutPrefix(call, "<... "); ok {
			_, tail, _ := strings.Cut(rest, " resumed>")
			call = unfinished[pid] + tail
			delete(unfinished, pid)
		}
		here, ok := at[pid]
		if !ok {
			here = dir
		}
		o.call(call, here, pid, at)
	}
	if err := in.Err(); err != nil {
		return fmt.Errorf("reading the trace: %w", err)
	}
	if lines == 0 {
		return errors.New("the tracer saw nothing: this system may forbid tracing")
	}
	return nil
}

func (o *Opened) call(call, here, pid string, at map[string]string) {
	name, rest, ok := strings.Cut(call, "(")
	if !ok {
		return
	}
	i := strings.LastIndex(rest, ") = ")
	if i < 0 {
		return
	}
	args, result := rest[:i], rest[i+4:]
	words := quoted(args)
	from := here
	if _, after, ok := strings.Cut(args, "<"); ok && !strings.HasPrefix(args, `"`) {
		if p, _, ok := strings.Cut(after, ">"); ok {
			from = unescape(p)
		}
	}
	if o.All {
		o.touch(tracedCall{name, args, result}, words, from)
	}
	if strings.HasPrefix(result, "-") {
		return
	}
	switch name {
	case "open", "openat", "openat2", "creat":
		p := descriptor(result)
		if p == "" && len(words) > 0 {
			p = abs(words[0], from)
		}
		if strings.Contains(args, "O_DIRECTORY") || strings.Contains(args, "O_PATH") {
			return
		}
		if name == "creat" || strings.Contains(args, "O_WRONLY") || strings.Contains(args, "O_RDWR") || strings.Contains(args, "O_CREAT") {
			o.Wrote[p] = true
		}
		if !strings.Contains(args, "O_WRONLY") && name != "creat" {
			o.Read[p] = true
		}
	case "execve", "execveat":
		if len(words) > 0 {
			o.Read[abs(words[0], from)] = true
		}
	case "chdir":
		if len(words) > 0 {
			at[pid] = abs(words[0], here)
		}
	case "fchdir":
		at[pid] = from
	case "clone", "clone3", "fork", "vfork":
		child, _, _ := strings.Cut(result, " ")
		if _, known := at[child]; !known {
			at[child] = here
		}
	case "rename", "renameat", "renameat2", "symlink", "symlinkat", "link", "linkat":
		if len(words) > 0 {
			o.Wrote[abs(words[len(words)-1], lastDirectory(args, from))] = true
		}
		if strings.HasPrefix(name, "rename") && len(words) > 0 {
			o.Wrote[abs(words[0], from)] = true
		}
	case "unlink", "unlinkat", "truncate":
		if len(words) > 0 {
			o.Wrote[abs(words[0], from)] = true
		}
	}
}

// tracedCall is a call as the tracer reports it.
type tracedCall struct{ name, args, result string }

// touch records what a call asked for, also if it failed. Words are its quoted arguments, and from is the
// directory that they are relative to.
func (o *Opened) touch(c tracedCall, words []string, from string) {
	name, args, result := c.name, c.args, c.result
	switch name {
	case "connect", "sendto":
		o.Talked = o.Talked || !strings.HasPrefix(result, "-1 E") || strings.Contains(result, "EINPROGRESS")
		return
	case "fchdir", "clone", "clone3", "fork", "vfork":
		return
	}
	if len(words) == 0 {
		return
	}
	p := abs(words[0], from)
	if words[0] == "" && from != "" { // the status of an open file
		p = from
	}
	o.Touched[p] = true
	if len(words) > 1 && !strings.HasPrefix(name, "exec") {
		o.Touched[abs(words[len(words)-1], lastDirectory(args, from))] = true
	}
	if strings.Contains(args, "O_DIRECTORY") {
		o.Listed[p] = true
	}
}

// abs returns a path that is relative to a directory.
func abs(p, from string) string {
	if p != "" && p[0] != '/' {
		p = from + "/" + p
	}
	return path.Clean(p)
}

// lastDirectory returns the directory that the last path of a call is relative
// to.
func lastDirectory(args, from string) string {
	i := strings.LastIndex(args, "<")
	if i < 0 {
		return from
	}
	p, _, ok := strings.Cut(args[i+1:], ">")
	if !ok {
		return from
	}
	return unescape(p)
}

// descriptor returns the path of a result like `3</a/b>`.
func descriptor(result string) string {
	_, p, ok := strings.Cut(result, "<")
	if !ok {
		return ""
	}
	p = strings.TrimSuffix(strings.TrimSpace(p), ">")
	return strings.TrimSuffix(unescape(p), " (deleted)")
}

// quoted returns the quoted arguments, in order, up to an array.
func quoted(args string) []string {
	var out []string
	for {
		i := strings.IndexAny(args, `"[`)
		if i < 0 || args[i] == '[' {
			return out
		}
		end := i + 1
		for end < len(args) && args[end] != '"' {
			if args[end] == '\\' {
				end++
			}
			end++
		}
		if end >= len(args) {
			return out
		}
		out = append(out, unescape(args[i+1:end]))
		args = args[end+1:]
	}
}

// unescape reverses the escapes of C, with octal numbers.
func unescape(s string) string {
	if !strings.ContainsRune(s, '\\') {
		return s
	}
	var b bytes.Buffer
	for i := 0; i < len(s); i++ {
		if s[i] != '\\' || i+1 == len(s) {
			b.WriteByte(s[i])
			continue
		}
		i++
		switch c := s[i]; {
		case c == 'n':
			b.WriteByte('\n')
		case c == 't':
			b.WriteByte('\t')
		case c == 'x' && i+2 < len(s):
			if n, err := strconv.ParseUint(s[i+1:i+3], 16, 8); err == nil {
				b.WriteByte(byte(n))
				i += 2
			}
		case c >= '0' && c <= '7':
			end := i
			for end < len(s) && end < i+3 && s[end] >= '0' && s[end] <= '7' {
				end++
			}
			if n, err := strconv.ParseUint(s[i:end], 8, 8); err == nil {
				b.WriteByte(byte(n))
			}
			i = end - 1
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}
