package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"grayloft.example/grayloft/internal/service/cluster"
)

// running is a service with a database of its own, as separate processes.
type running struct {
	url, token string
	daemon     *exec.Cmd
	cluster    *cluster.Cluster
	postgres   string // its directory
}

// repository is the one that requests are made for.
const repository = "skerry"

// serve starts a service whose data is in a directory.
func serve(ctx context.Context, bin, dir string) (r *running, err error) {
	r = &running{postgres: filepath.Join(dir, "postgres")}
	if err := os.MkdirAll(dir, 0o755); err != nil { // PostgreSQL's own user must be able to reach it
		return nil, err
	}
	if r.cluster, err = cluster.Start(ctx, r.postgres); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			r.stop()
		}
	}()
	if err := r.cluster.EnsureDatabase(ctx, "scale"); err != nil {
		return r, err
	}
	ready := filepath.Join(dir, "ready")
	r.daemon = exec.Command(filepath.Join(bin, "grayloftd"), "serve", "--database", r.cluster.URL("scale"), "--data", dir,
		"--listen", "127.0.0.1:0", "--rate", "0", "--uploads", "0", "--cleanup-interval", "0", "--ready-file", ready)
	r.daemon.Stderr = os.Stderr
	if err := r.daemon.Start(); err != nil {
		return r, err
	}
	for range 600 {
		if text, err := os.ReadFile(ready); err == nil && len(text) > 0 {
			r.url = strings.TrimSpace(string(text))
			break
		}
		time.Sleep(50 * time.Millisecond) // the file is written by another program, so there is no event
	}
	if r.url == "" {
		return r, fmt.Errorf("the service did not start within 30 s")
	}
	out, err := exec.Command(filepath.Join(bin, "grayloftd"), "token", "new", "--database", r.cluster.URL("scale"),
		"--repo", repository, "--name", "scale", "--writes-to", "trusted").Output()
	r.token = strings.TrimSpace(string(out))
	return r, err
}

// serveAside starts a service in a directory that is removed in the end.
func serveAside(ctx context.Context, bin string) (r *running, dir string, end func(), err error) {
	if dir, err = os.MkdirTemp("", "grayloft-scale-"); err != nil {
		return nil, "", nil, err
	}
	if err = os.Chmod(dir, 0o755); err == nil {
		r, err = serve(ctx, bin, dir)
	}
	if err != nil {
		os.RemoveAll(dir)
		return nil, "", nil, err
	}
	return r, dir, func() { r.stop(); os.RemoveAll(dir) }, nil
}

func (r *running) stop() {
	if r.daemon != nil && r.daemon.Process != nil {
		_ = r.daemon.Process.Signal(os.Interrupt)
		_ = r.daemon.Wait()
	}
	_ = r.cluster.Stop()
}

// used is processor time in seconds.
type used struct{ service, database float64 }

func (u used) less(v used) used { return used{u.service - v.service, u.database - v.database} }

// used returns what the service and the database have used so far (Linux).
func (r *running) used() (u used, err error) {
	if u.service, err = ticks(r.daemon.Process.Pid); err != nil {
		return u, err
	}
	text, err := os.ReadFile(filepath.Join(r.postgres, "postmaster.pid"))
	if err != nil {
		return u, err
	}
	first, _, _ := strings.Cut(string(text), "\n")
	postmaster, err := strconv.Atoi(first)
	if err != nil {
		return u, err
	}
	list, err := filepath.Glob("/proc/[0-9]*/stat")
	for _, file := range list {
		pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(file)))
		if stat, rerr := os.ReadFile(file); rerr == nil && (pid == postmaster || parent(stat) == postmaster) {
			seconds, terr := ticks(pid)
			if terr == nil {
				u.database += seconds
			}
		}
	}
	return u, err
}

// fields returns those of /proc/PID/stat that follow the name of the program, see proc(5).
func fields(stat []byte) []string {
	return strings.Fields(string(stat[strings.LastIndexByte(string(stat), ')')+1:]))
}

func parent(stat []byte) int {
	pid, _ := strconv.Atoi(fields(stat)[1])
	return pid
}

// ticks returns the processor time of a process and of its children that ended, in seconds.
func ticks(pid int) (float64, error) {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0, err
	}
	sum := 0
	for _, f := range fields(stat)[11:15] {
		n, err := strconv.Atoi(f)
		if err != nil {
			return 0, err
		}
		sum += n
	}
	return float64(sum) / 100, nil // USER_HZ, which is 100 on all platforms that Go supports
}
