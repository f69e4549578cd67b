package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"golang.org/x/sync/errgroup"
	"grayloft.example/grayloft/internal/protocol"
)

// measureMemory is the result of a row about memory, in MB.
func (b *bench) measureMemory(r row) (result, error) {
	if r.once != "" {
		for range 2 { // after the first one, the cache and what is remembered are warm
			if err := shell(filepath.Join(b.dir, r.in), r.once, b.env()...); err != nil {
				return result{}, err
			}
		}
	}
	n, err := r.memory()
	return result{Name: r.name, Goal: r.goal, Ratio: float64(n) / 1e6}, err
}

func (b *bench) env() []string { return []string{"GRAYLOFT_CACHE=" + filepath.Join(b.dir, "cache")} }

// peak runs a command and returns the most memory that it had at a time, in bytes.
func peak(dir, name string, args ...string) (int64, error) {
	cmd := exec.Command(name, args...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "GRAYLOFT_CACHE="+filepath.Join(filepath.Dir(dir), "cache"))
	if out, err := cmd.CombinedOutput(); err != nil {
		return 0, fmt.Errorf("%s: %w: %s", name, err, lastLines(string(out)))
	}
	used, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage)
	if !ok {
		return 0, fmt.Errorf("this system does not say how much memory a process had")
	}
	return used.Maxrss << 10, nil
}

// peakOf returns the most memory that a running process had at a time, in bytes (Linux).
func peakOf(pid int) (int64, error) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0, err
	}
	for line := range strings.Lines(string(text)) {
		if rest, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			kb, err := strconv.ParseInt(strings.Fields(rest)[0], 10, 64)
			return kb << 10, err
		}
	}
	return 0, fmt.Errorf("no VmHWM in the status of process %d", pid)
}

// fetchers is how many clients fetch at the same time.
const fetchers = 200

// fetchAll makes clients fetch a pack of everything in a listing at the same time, and returns
// the most memory that the service had.
func (f *fleet) fetchAll() (int64, error) {
	var outputs struct {
		Outputs []struct {
			Digest string `json:"digest"`
		} `json:"outputs"`
	}
	cmd := exec.Command(f.b.client, "outputs", "copy", "--format", "json")
	cmd.Dir = filepath.Join(f.b.dir, "bulky")
	cmd.Env = append(os.Environ(), f.b.env()...)
	text, err := cmd.Output()
	if err != nil {
		return 0, err
	}
	if err := json.Unmarshal(text, &outputs); err != nil || len(outputs.Outputs) < 10_000 {
		return 0, fmt.Errorf("%d outputs: %w", len(outputs.Outputs), err)
	}
	var ask struct {
		Digests []string `json:"digests"`
	}
	for _, o := range outputs.Outputs[:2000] { // 100 MB for each client
		ask.Digests = append(ask.Digests, o.Digest)
	}
	body, err := json.Marshal(ask)
	if err != nil {
		return 0, err
	}
	var g errgroup.Group
	for range fetchers {
		g.Go(func() error {
			req, err := http.NewRequest("POST", f.url+"/v1/bulky/packs/fetch", bytes.NewReader(body))
			if err != nil {
				return err
			}
			req.Header.Set("Authorization", "Bearer "+f.token)
			req.Header.Set("Content-Type", "application/json")
			req.Header.Set("Accept", protocol.TypeFrames)
			req.Header.Set("Accept-Encoding", "zstd")
			resp, err := http.DefaultClient.Do(req)
			if err != nil {
				return err
			}
			defer resp.Body.Close()
			if n, err := io.Copy(io.Discard, resp.Body); err != nil || resp.StatusCode != 200 || n < 10<<20 {
				return fmt.Errorf("%s, %d bytes, %w", resp.Status, n, err)
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return 0, err
	}
	return peakOf(f.daemon)
}
