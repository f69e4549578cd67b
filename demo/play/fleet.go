package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"grayloft.example/grayloft/internal/service"
)

// machine is a runner of Skerry Lines.
type machine struct{ name, pool, place string }

// machines carry out the runs of the main branch, and what people request.
var machines = []machine{{"harbour-1", "harbour", "harbour-ci"}, {"yard-1", "linux", "yard"}}

// protect makes the pool of the main branch carry out reviewed commits alone.
func (d *demo) protect(ctx context.Context) error {
	out, err := exec.CommandContext(ctx, filepath.Join(d.bin, "grayloftd"), "protect", "--data", d.path("service"),
		"--repo", "skerry", "--branches", "main,release/*", "--pools", "harbour").CombinedOutput()
	if err != nil {
		return fmt.Errorf("protecting the main branch: %w\n%s", err, out)
	}
	return nil
}

// start starts a runner, which writes to a log.
func (d *demo) start(m machine, ago time.Duration, flags ...string) (*exec.Cmd, error) {
	if err := os.MkdirAll(d.path("runners"), 0o755); err != nil {
		return nil, err
	}
	log, err := os.Create(d.path("runners", m.name+".log"))
	if err != nil {
		return nil, err
	}
	defer log.Close()
	cmd := exec.Command(filepath.Join(d.bin, "grayloft"), append([]string{
		"runner", "--pool", m.pool, "--from", d.path("origin.git"), "--dir", d.path("runners", m.name), "--name", m.name,
		"--place", m.place, "--env", "GRAYLOFT_CLOCK_OFFSET"}, flags...)...)
	cmd.Env = append(os.Environ(), "GRAYLOFT_SERVICE="+d.url, "GRAYLOFT_TOKEN="+d.state.Tokens[m.name])
	if ago > 0 {
		cmd.Env = append(cmd.Env, "GRAYLOFT_CLOCK_OFFSET=-"+ago.String())
	}
	cmd.Stdout, cmd.Stderr = log, log
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // this process forwards an interrupt to it
	return cmd, cmd.Start()
}

// request has a runner do what a step runs. The runner is made for this one job, at the
// time of the step, and starts without a cache of results.
func (d *demo) request(ctx context.Context, s step, dir, _ string) error {
	m, flags := machines[0], []string{"--branch", "main"}
	if s.ask {
		m, flags = machines[1], nil
	}
	caches, err := filepath.Glob(d.path("runners", m.name, "for", "*", "cache"))
	if err != nil {
		return err
	}
	for _, c := range caches {
		if err := os.RemoveAll(c); err != nil {
			return err
		}
	}
	runner, err := d.start(m, s.ago, "--max-jobs", "1")
	if err != nil {
		return err
	}
	ended := make(chan error, 1)
	go func() { ended <- runner.Wait() }()
	args := append([]string{"request", "--watch", "--keep-going", "--pool", m.pool}, append(flags, s.run...)...)
	cmd := exec.CommandContext(ctx, filepath.Join(d.bin, "grayloft"), args...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "GRAYLOFT_SERVICE="+d.url, "GRAYLOFT_TOKEN="+d.state.Tokens[s.who],
		"GRAYLOFT_CACHE="+d.path("places", s.who, "cache"))
	out, err := cmd.CombinedOutput()
	if err != nil {
		_ = runner.Process.Signal(syscall.SIGTERM)
		text, _ := os.ReadFile(d.path("runners", m.name+".log"))
		return errors.Join(fmt.Errorf("grayloft %s: %w\n%s\n%s", strings.Join(args, " "), err, out, text), <-ended)
	}
	if err := <-ended; err != nil {
		return fmt.Errorf("runner %s: %w", m.name, err)
	}
	summary := ""
	for line := range strings.Lines(string(out)) {
		if strings.HasPrefix(line, "Ran ") || strings.HasPrefix(line, "Nothing ") {
			summary = strings.TrimSpace(line)
		}
	}
	fmt.Printf("%-7s %-13s %-22s %s\n", s.who, m.place, clip(strings.Join(s.run, " "), 22), summary)
	return d.moveBack(ctx, s.ago)
}

// moveBack moves the date of the last request back, as its run is.
func (d *demo) moveBack(ctx context.Context, ago time.Duration) error {
	cfg := service.Defaults()
	cfg.Data = d.path("service")
	db, closeDB, err := service.OpenRecords(ctx, cfg)
	if err != nil {
		return err
	}
	for _, q := range []string{
		`UPDATE jobs SET started_at = started_at - make_interval(secs => $1), ended_at = ended_at - make_interval(secs => $1)
			WHERE request_id = (SELECT max(id) FROM requests)`,
		`UPDATE requests SET made_at = made_at - make_interval(secs => $1), started_at = started_at - make_interval(secs => $1),
			ended_at = ended_at - make_interval(secs => $1) WHERE id = (SELECT max(id) FROM requests)`,
	} {
		if err == nil {
			_, err = db.ExecContext(ctx, q, ago.Seconds())
		}
	}
	return errors.Join(err, closeDB())
}

// standBy starts the runners, and returns what ends them.
func (d *demo) standBy() (stop func(), err error) {
	var running []*exec.Cmd
	stop = func() {
		for _, cmd := range running {
			_ = cmd.Process.Signal(syscall.SIGTERM)
		}
		for _, cmd := range running {
			_ = cmd.Wait() // it was told to end
		}
	}
	for _, m := range machines {
		cmd, err := d.start(m, 0)
		if err != nil {
			stop()
			return nil, err
		}
		running = append(running, cmd)
	}
	return stop, nil
}
