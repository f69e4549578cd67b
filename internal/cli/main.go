// Package cli defines the client's commands. It wires the parts together and
// contains no rule of the job itself.
package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/muesli/termenv"
	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/heap"
	"grayloft.example/grayloft/internal/machine/environment"
	"grayloft.example/grayloft/internal/machine/process"
	"grayloft.example/grayloft/internal/machine/sandbox"
	"grayloft.example/grayloft/internal/term"
	"grayloft.example/grayloft/internal/usage"
)

// Version is the program's version, set at build time.
var Version = "0.1.0"

// app is what all commands share.
type app struct {
	*term.Screen
	repo  string // --repo
	color string // --color
	env   environment.Environment
	dir   string        // the working directory
	in    *bufio.Reader // answers of a person
	token string        // GRAYLOFT_TOKEN, which nothing that the client starts sees

	called    bool // the arguments were accepted, and the command has started
	explained bool // a warning about the service was printed
}

// Enter must be called first in main: some of the processes that the client
// starts are the client itself in another role.
func Enter() {
	sandbox.Enter()
	process.Enter()
}

// Main runs the client and returns its exit code.
func Main(ctx context.Context, args []string, out, errs io.Writer) int {
	process.CloseInherited()
	heap.CollectLate(64<<20, 48<<20) // most calls end before the first time, or soon after
	token := environment.Hide(tokenVar)
	a := &app{
		Screen: &term.Screen{
			Out: term.Clean(out),
			Err: term.Clean(errs),
		}, env: os.Environ(), in: bufio.NewReader(os.Stdin), token: token,
	}
	root := a.command()
	root.SetArgs(args)
	root.SetOut(out)
	root.SetErr(errs)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return 0
	}
	code, message := exitOf(err)
	if !a.called { // the arguments were not accepted
		var own exit
		if code = exitWrong; !errors.As(err, &own) {
			message = "grayloft: " + usage.Command(root, err).Error()
		}
	}
	if message != "" {
		fmt.Fprintln(a.Err, message)
	}
	return code
}

func (a *app) command() *cobra.Command {
	root := &cobra.Command{
		Use:   "grayloft",
		Short: "Run only what a change affects, and share what anyone has already built",
		Long: "Gray Loft runs the tasks of a repository with many projects: only those that a change affects, in parallel\n" +
			"and in the right order. What somebody has already built from the same files is fetched instead of built again.",
		Version: Version, SilenceErrors: true, SilenceUsage: true,
		PersistentPreRunE: func(*cobra.Command, []string) error {
			a.called = true
			return a.begin()
		},
	}
	f := root.PersistentFlags()
	f.StringVar(&a.repo, "repo", "", "the repository's directory (default: the nearest above that has a "+decl.RootFile+")")
	f.StringVar(&a.Format, "format", "text", "text or json")
	f.StringVar(&a.color, "color", "auto", "auto, always or never; auto: on a terminal, and not in CI")
	f.BoolVarP(&a.Quiet, "quiet", "q", false, "print only errors and failures")
	f.BoolVarP(&a.Verbose, "verbose", "v", false, "list everything: tasks that needed no work, and all of a long list")
	root.SetFlagErrorFunc(func(cmd *cobra.Command, err error) error { return wrong("%v", usage.Flag(cmd, err)) })
	root.AddCommand(
		a.adoptCommand(),
		a.newCommand(),
		a.projectsCommand(),
		a.tasksCommand(),
		a.graphCommand(),
		a.showCommand(),
		a.reachCommand(),
		a.planCommand(),
		a.runCommand(),
		a.watchCommand(),
		a.outputsCommand(),
		a.historyCommand(),
		a.statsCommand(),
		a.adviseCommand(),
		a.whyCommand(),
		a.compareCommand(),
		a.logCommand(),
		a.checkCommand(), a.translateCommand(), a.importCommand(),
		a.driftCommand(),
		a.reproduceCommand(),
		a.requestCommand(),
		a.requestsCommand(),
		a.runnerCommand(),
		a.cacheCommand(),
		a.loginCommand(),
		a.logoutCommand(),
		a.schemaCommand(),
		a.doctorCommand(),
		a.versionCommand(),
	)
	for name, list := range map[string]func(*repository, string) []string{
		"run": taskWords, "request": taskWords,
		"plan": taskWords, "tasks": taskWords, "graph": taskWords, "watch": taskWords, "drift": taskWords,
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
	if a.Format != "text" && a.Format != "json" {
		return wrong("--format %q is not valid: text or json", a.Format)
	}
	if a.Format == "json" {
		a.Raw()
	}
	a.Style = term.NewStyle(a.Out)
	switch a.color {
	case "auto":
		if os.Getenv("NO_COLOR") != "" || os.Getenv("CI") != "" { // logs of CI are read as text
			a.Style.SetColorProfile(termenv.Ascii)
		}
	case "always":
		a.Style.SetColorProfile(termenv.TrueColor)
	case "never":
		a.Style.SetColorProfile(termenv.Ascii)
	default:
		return wrong("--color %q is not valid: auto, always or never", a.color)
	}
	dir, err := os.Getwd()
	a.dir = dir
	return err
}
