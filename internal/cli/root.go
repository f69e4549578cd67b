// Package cli defines the client's commands. It wires the parts together and
// contains no rule of the job itself.
package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"strings"

	"github.com/charmbracelet/lipgloss"
	"github.com/muesli/termenv"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/pick"
	"grayloft.example/grayloft/internal/machine/git"
	"grayloft.example/grayloft/internal/machine/process"
	"grayloft.example/grayloft/internal/machine/sandbox"
)

// Version is the program's version, set at build time.
var Version = "0.1.0"

// Exit codes.
const (
	exitFailed      = 1
	exitWrong       = 2
	exitInterrupted = 130
)

// exit is an error that ends the program with its own exit code. An empty
// message means that it was already printed.
type exit struct {
	code int
	msg  string
}

func (e exit) Error() string { return e.msg }

// app is what all commands share.
type app struct {
	repo    string
	format  string
	color   string
	quiet   bool
	verbose bool
	out     io.Writer
	err     io.Writer
	env     []string
	dir     string // the working directory
	style   *lipgloss.Renderer
	ctx     context.Context // of the whole call
	in      *bufio.Reader   // answers of a person
}

// Enter must be called first in main: some of the processes that the client
// starts are the client itself in another role.
func Enter() {
	sandbox.Enter()
	process.Enter()
}

// Main runs the client and returns its exit code.
func Main(ctx context.Context, args []string, out, errs io.Writer) int {
	collectLate()
	a := &app{out: out, err: errs, env: os.Environ(), in: bufio.NewReader(os.Stdin)}
	root := a.command()
	root.SetArgs(args)
	root.SetOut(out)
	root.SetErr(errs)
	a.ctx = ctx
	err := root.ExecuteContext(ctx)
	if err == nil {
		return 0
	}
	var ex exit
	if errors.As(err, &ex) {
		if ex.msg != "" {
			fmt.Fprintln(errs, ex.msg)
		}
		return ex.code
	}
	var pe *pick.Error
	if _, ok := graph.AsProblems(err); ok || errors.As(err, &pe) {
		fmt.Fprintln(errs, err)
		return exitWrong
	}
	fmt.Fprintln(errs, "grayloft:", err)
	return exitWrong
}

// collectLate delays the first garbage collection until memory has grown to a
// moderate size: most calls end before that.
func collectLate() {
	const fair = 96 << 20
	limit := debug.SetMemoryLimit(fair)
	percent := debug.SetGCPercent(-1)
	// The first collection, at that size, restores the usual settings.
	runtime.SetFinalizer(new([64]byte), func(*[64]byte) {
		debug.SetGCPercent(max(percent, 100))
		debug.SetMemoryLimit(limit)
	})
}

func (a *app) command() *cobra.Command {
	root := &cobra.Command{
		Use:   "grayloft",
		Short: "Run only what a change affects, and share what anyone has already built",
		Long: "Gray Loft runs the tasks of a repository with many projects: only those that a change affects, in parallel\n" +
			"and in the right order. What somebody has already built from the same files is fetched instead of built again.",
		Version: Version, SilenceErrors: true, SilenceUsage: true,
		PersistentPreRunE: func(*cobra.Command, []string) error { return a.begin() },
	}
	f := root.PersistentFlags()
	f.StringVar(&a.repo, "repo", "", "the repository's directory (default: the nearest above that has a "+decl.RootFile+")")
	f.StringVar(&a.format, "format", "text", "text or json")
	f.StringVar(&a.color, "color", "auto", "auto, always or never")
	f.BoolVarP(&a.quiet, "quiet", "q", false, "print only errors and failures")
	f.BoolVarP(&a.verbose, "verbose", "v", false, "also list tasks that needed no work")
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error {
		return exit{exitWrong, "grayloft: " + err.Error() + "; see grayloft --help"}
	})
	root.AddCommand(a.adoptCommand(), a.newCommand(), a.projectsCommand(), a.tasksCommand(), a.graphCommand(), a.showCommand(), a.reachCommand(), a.planCommand(), a.runCommand(), a.watchCommand(), a.historyCommand(), a.whyCommand(), a.compareCommand(), a.logCommand(), a.driftCommand(), a.reproduceCommand(), a.cacheCommand(), a.loginCommand(), a.logoutCommand(), a.schemaCommand(), a.doctorCommand(), a.versionCommand())
	for name, list := range map[string]func(*repository, string) []string{
		"run": taskWords, "plan": taskWords, "tasks": taskWords, "graph": taskWords, "watch": taskWords, "drift": taskWords,
		"why": addressWords, "log": addressWords, "history": addressWords, "reproduce": addressWords, "show": nameWords,
		"new": func(r *repository, _ string) []string { return named(r, "kind") },
	} {
		if c, _, err := root.Find([]string{name}); err == nil && c != root {
			c.ValidArgsFunction = a.completions(list)
		}
	}
	a.completeFlags(root)
	return root
}

func (a *app) begin() error {
	if a.format != "text" && a.format != "json" {
		return exit{exitWrong, fmt.Sprintf("grayloft: --format %q is not valid: text or json", a.format)}
	}
	a.style = lipgloss.NewRenderer(a.out)
	switch a.color {
	case "auto":
		if os.Getenv("NO_COLOR") != "" {
			a.style.SetColorProfile(termenv.Ascii)
		}
	case "always":
		a.style.SetColorProfile(termenv.TrueColor)
	case "never":
		a.style.SetColorProfile(termenv.Ascii)
	default:
		return exit{exitWrong, fmt.Sprintf("grayloft: --color %q is not valid: auto, always or never", a.color)}
	}
	dir, err := os.Getwd()
	a.dir = dir
	return err
}

// width returns the columns of the terminal, or 0 if the output is not a
// terminal.
func (a *app) width() int {
	f, ok := a.out.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return 0
	}
	w, _, err := term.GetSize(int(f.Fd()))
	if err != nil {
		return 80
	}
	return w
}

// repository is a loaded repository.
type repository struct {
	root  string
	graph *graph.Graph
	git   git.Repo
	here  string // the working directory, from the root; empty if it is outside

	choice choice // the chosen settings
	ahead  *ahead // what was started before the declarations were read
}

func (a *app) load(ctx context.Context) (*repository, error) {
	root, err := a.findRoot()
	if err != nil {
		return nil, err
	}
	r := &repository{root: root, git: git.Repo{Dir: root}}
	if r.graph, err = graph.Load(os.DirFS(root), filepath.Base(root)); err != nil {
		return nil, err
	}
	if dir, err := filepath.EvalSymlinks(a.dir); err == nil {
		if rel, err := filepath.Rel(root, dir); err == nil && rel != ".." && !strings.HasPrefix(rel, ".."+string(filepath.Separator)) {
			r.here = filepath.ToSlash(rel)
		}
	}
	return r, nil
}

// start returns the directory in which the search for a repository starts.
func (a *app) start() (string, error) {
	start := a.dir
	if a.repo != "" {
		start = a.repo
	}
	start, err := filepath.Abs(start)
	if err == nil {
		start, err = filepath.EvalSymlinks(start)
	}
	if err != nil {
		return "", exit{exitWrong, "grayloft: --repo: " + err.Error()}
	}
	return start, nil
}

func (a *app) findRoot() (string, error) {
	start, err := a.start()
	if err != nil {
		return "", err
	}
	for d := start; ; d = filepath.Dir(d) {
		if _, err := os.Stat(filepath.Join(d, decl.RootFile)); err == nil {
			return d, nil
		}
		if a.repo != "" {
			return "", exit{exitWrong, fmt.Sprintf("grayloft: there is no %s in %s", decl.RootFile, start)}
		}
		if d == filepath.Dir(d) {
			return "", exit{exitWrong, fmt.Sprintf("grayloft: there is no %s in %s or above it.\n"+
				"grayloft adopt proposes one from existing scripts and manifests.", decl.RootFile, start)}
		}
	}
}

func (a *app) json(v any) error {
	enc := json.NewEncoder(a.out)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	return enc.Encode(v)
}

func (a *app) versionCommand() *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "Print the version", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if a.format == "json" {
				return a.json(map[string]any{"version": Version, "schema": decl.Schema})
			}
			fmt.Fprintf(a.out, "grayloft %s, schema %d of declarations\n", Version, decl.Schema)
			return nil
		},
	}
}
