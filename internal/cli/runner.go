package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/pelletier/go-toml/v2"
	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/fleet"
	"grayloft.example/grayloft/internal/machine/clones"
	"grayloft.example/grayloft/internal/machine/process"
	"grayloft.example/grayloft/internal/machine/runner"
	"grayloft.example/grayloft/internal/machine/sandbox"
	"grayloft.example/grayloft/internal/machine/store"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/remote"
)

// runnerFlags are the flags of a runner.
type runnerFlags struct {
	pool, from, dir, name, place string
	prepare                      string
	slots, jobs, maxJobs         int
	time                         time.Duration
	disk                         string
	readable, env                []string
	unconfined                   bool
}

func (a *app) runnerCommand() *cobra.Command {
	var f runnerFlags
	c := &cobra.Command{
		Use: "runner", Short: "Carry out requested runs on this machine",
		Long: "Takes jobs of a pool from the service: clones the repository with git, makes a clean checkout for each job and\n" +
			"runs the client in it, with a token of the job. GRAYLOFT_SERVICE is the service's address, and GRAYLOFT_TOKEN a\n" +
			"token that was made with --serve POOL. Ctrl-C or SIGTERM: no more jobs, those that run are finished; a second\n" +
			"one gives them back, for other runners.",
		Example: "  grayloft runner --pool linux --from https://git.skerry.example/skerry.git\n" +
			"  grayloft runner --pool linux --from /srv/git/skerry.git --slots 4 --jobs 2\n" +
			"  grayloft runner --pool linux --from /srv/git/skerry.git --prepare 'npm ci' --max-jobs 1",
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return a.runner(cmd.Context(), f) },
	}
	fl := c.Flags()
	fl.StringVar(&f.pool, "pool", "", "the pool whose jobs it takes")
	fl.StringVar(&f.from, "from", "", "the repository, as git clone takes it")
	fl.StringVar(&f.dir, "dir", "", "directory for everything of the runner (default: one of the pool in the user's cache directory)")
	fl.StringVar(&f.name, "name", "", "its name in lists (default: the host's)")
	fl.StringVar(&f.place, "place", "", "the place that its runs are recorded under (default: the pool)")
	fl.IntVar(&f.slots, "slots", runtime.NumCPU(), "maximum number of tasks that a job runs at the same time")
	fl.IntVar(&f.jobs, "jobs", 1, "maximum number of jobs at the same time")
	fl.IntVar(&f.maxJobs, "max-jobs", 0, "end after so many jobs; 0: never (1 for machines that are made for one job)")
	fl.StringVar(&f.prepare, "prepare", "", "a command that is run in the checkout of each job before its tasks, such as \"npm ci\"")
	fl.DurationVar(&f.time, "job-time", 2*time.Hour, "maximum duration of a job")
	fl.StringVar(&f.disk, "job-disk", "20GB", "maximum size of what a job writes to its checkout")
	fl.StringSliceVar(&f.readable, "readable", nil,
		"directories that jobs may read in addition to the system's, such as compilers elsewhere or, on protected runners, secrets")
	fl.StringSliceVar(&f.env, "env", nil, "environment variables of the runner that jobs get (default: PATH alone)")
	fl.BoolVar(&f.unconfined, "unconfined", false,
		"let jobs read and write everything that the runner's user may: where the system has no Landlock, or each job has its own machine")
	return c
}

func (a *app) runner(ctx context.Context, f runnerFlags) error {
	c, err := a.runnerConfig(f)
	if err != nil {
		return err
	}
	url := strings.TrimSuffix(os.Getenv("GRAYLOFT_SERVICE"), "/")
	if url == "" || a.token == "" {
		return wrong("set GRAYLOFT_SERVICE to the service's address, and GRAYLOFT_TOKEN to a token that was made with\n"+
			"grayloftd token new --repo REPOSITORY --name RUNNER --serve %s", f.pool)
	}
	c.Address = url
	ctx, kill, stop := interrupts(ctx)
	defer stop()
	process.Prepare()
	name, err := repositoryOf(ctx, clones.Mirror{Dir: filepath.Join(c.Dir, "mirror"), From: c.From})
	if err != nil {
		return machineFault("%v", err)
	}
	c.Changes = func(ctx context.Context, dir string, blob digest.Digest, size int64) (io.ReadCloser, error) {
		return fetchChanges(ctx, remoteAt{url, name, a.token}, dir, protocol.Blob{Digest: blob, Size: size})
	}
	c.Say = func(sentence string) { fmt.Fprintf(a.Out, "%s  %s\n", time.Now().Format(time.TimeOnly), sentence) }
	if err := runner.Serve(ctx, c, remote.New(url, name, a.token, nil), kill); err != nil && ctx.Err() == nil {
		return machineFault("%v", err)
	}
	return nil
}

// runnerConfig checks the flags.
func (a *app) runnerConfig(f runnerFlags) (c runner.Config, err error) {
	if f.pool == "" || f.from == "" {
		return c, wrong("a runner needs a pool and a repository: grayloft runner --pool linux --from https://git.skerry.example/skerry.git")
	}
	if err := fleet.CheckPool(f.pool); err != nil {
		return c, wrong("--pool: %v", err)
	}
	for flag, n := range map[string]int{"--slots": f.slots, "--jobs": f.jobs} {
		if n < 1 {
			return c, wrong("%s must be at least 1", flag)
		}
	}
	disk, err := humanize.ParseBytes(f.disk)
	if err != nil || disk == 0 {
		return c, wrong("--job-disk %q is not a size: write it like 20GB", f.disk)
	}
	host, _ := os.Hostname()
	c = runner.Config{
		Hello: protocol.RunnerHello{
			Name: orElse(f.name != "", f.name, host), Host: host, Pool: f.pool, Place: orElse(f.place != "", f.place, f.pool),
			Platform: runtime.GOOS + "/" + runtime.GOARCH, Slots: f.slots, Jobs: f.jobs,
		},
		From: f.from, Dir: f.dir, MaxJobs: f.maxJobs, Prepare: f.prepare, Time: f.time, Disk: int64(disk),
		Readable: f.readable, Confined: !f.unconfined,
	}
	for _, name := range f.env {
		if value, ok := os.LookupEnv(name); ok {
			c.Env = append(c.Env, name+"="+value)
		}
	}
	if c.Dir == "" {
		base, err := os.UserCacheDir()
		if err != nil {
			return c, wrong("no directory for the runner: %v: give one with --dir", err)
		}
		c.Dir = filepath.Join(base, "grayloft-runner", c.Hello.Name+"-"+f.pool)
	}
	if c.Dir, err = filepath.Abs(c.Dir); err != nil {
		return c, err
	}
	if _, err := os.Stat(c.From); err == nil { // a path on this machine
		c.From, _ = filepath.Abs(c.From)
	}
	if c.Program, err = os.Executable(); err != nil {
		return c, err
	}
	if c.Program, err = filepath.EvalSymlinks(c.Program); err != nil {
		return c, err
	}
	if c.Confined {
		if err := os.MkdirAll(c.Dir, 0o700); err != nil {
			return c, machineFault("%v", err)
		}
		able := sandbox.Able(c.Dir)
		if os.Getuid() == 0 && !(able.Files && able.Place && able.Processes) {
			return c, machineFault("a runner of root cannot confine its jobs here (%s): run it as another user, or give each job its own "+
				"machine, for example with --max-jobs 1, and say --unconfined", able.Why)
		}
		if !able.Files {
			return c, machineFault("this machine cannot confine jobs to their own files (%s): give each job its own machine, "+
				"for example with --max-jobs 1, and say --unconfined", able.Why)
		}
	}
	return c, nil
}

// repositoryOf fetches a mirror, and returns the name that the repository declares.
func repositoryOf(ctx context.Context, m clones.Mirror) (string, error) {
	if err := m.Fetch(ctx); err != nil {
		return "", fmt.Errorf("fetching %s: %w", m.From, err)
	}
	text, err := m.File(ctx, decl.RootFile)
	if err != nil {
		return "", fmt.Errorf("the default branch of %s has no %s", m.From, decl.RootFile)
	}
	var root struct {
		Repo struct {
			Name string `toml:"name"`
		} `toml:"repo"`
	}
	if err := toml.Unmarshal([]byte(text), &root); err != nil || root.Repo.Name == "" {
		return "", fmt.Errorf(
			"%s of the default branch of %s does not say the repository's name: add name to [repo]",
			decl.RootFile,
			m.From,
		)
	}
	return root.Repo.Name, nil
}

// remoteAt says which service is asked about which repository.
type remoteAt struct{ url, repo, token string }

// fetchChanges fetches local changes into a directory, and opens them.
func fetchChanges(ctx context.Context, at remoteAt, dir string, b protocol.Blob) (io.ReadCloser, error) {
	st, err := store.Open(filepath.Join(dir, "changes"))
	if err != nil {
		return nil, err
	}
	c := remote.New(at.url, at.repo, at.token, st)
	if _, err := c.Fetch(ctx, []protocol.Blob{b}); err != nil {
		return nil, err
	}
	pr, pw := io.Pipe()
	go func() { pw.CloseWithError(st.WriteTo(b.Digest, pw)) }()
	return pr, nil
}

// fleetClient returns a client of the repository's service for a command that is about it.
func (a *app) fleetClient(r *repository, st *store.Store) (*remote.Client, error) {
	client, _ := a.client(r, st)
	if client == nil {
		if url, _ := a.service(r); url != "" {
			return nil, wrong("there is no token for the service at %s: grayloft login %s, or set GRAYLOFT_TOKEN", url, url)
		}
		return nil, wrong("this needs a service: grayloft login URL, or set GRAYLOFT_SERVICE and GRAYLOFT_TOKEN")
	}
	return client, nil
}
