// Command play sets up Skerry Lines: a git repository with some history, the
// service, and real runs from three places, one of them behind a slow line.
// Every run is real; only its date is moved back, so that the runs spread over
// a few days.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"grayloft.example/grayloft/demo/home"
	"grayloft.example/grayloft/demo/slowline"
)

// The line of the home office: 10 Mbit/s, and 20 ms each way.
const (
	lineSpeed = 10e6 / 8
	lineDelay = 20 * time.Millisecond
)

func main() {
	var d demo
	stay := flag.Bool("stay", true, "stay up until interrupted")
	flag.StringVar(&d.dir, "dir", ".demo", "directory for everything")
	flag.StringVar(&d.bin, "bin", "bin", "directory of grayloft and grayloftd")
	flag.StringVar(&d.source, "source", "demo/skerry", "the repository's files")
	flag.StringVar(&d.port, "port", "7420", "the service's port; a free one if it is taken")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := d.run(ctx, *stay); err != nil {
		fmt.Fprintln(os.Stderr, "demo:", err)
		os.Exit(1)
	}
}

type demo struct {
	dir, bin, source, port string
	url                    string
	state                  state
}

// state is what a later start has to know.
type state struct {
	Port   string            `json:"port"`
	Tokens map[string]string `json:"tokens"`
	Played bool              `json:"played"`
	// Registry is the address of the Go module proxy that the demonstration starts.
	Registry string `json:"registry"`
}

func (d *demo) path(parts ...string) string {
	return filepath.Join(append([]string{d.dir}, parts...)...)
}

func (d *demo) run(ctx context.Context, stay bool) error {
	if err := d.paths(); err != nil {
		return err
	}
	if url, ok := d.running(); ok {
		d.url = url
		if err := d.load(); err != nil {
			return err
		}
		fmt.Println("The demonstration is already running.")
		d.tell()
		return nil
	}
	if err := d.load(); err != nil {
		return err
	}
	stop, err := d.serve(ctx)
	if err != nil {
		return err
	}
	return errors.Join(d.show(ctx, stay), stop())
}

// show fills the service, and starts what stands beside it.
func (d *demo) show(ctx context.Context, stay bool) error {
	if err := d.fill(ctx); err != nil {
		return err
	}
	if err := d.serveRegistry(ctx); err != nil {
		return err
	}
	endRunners, err := d.standBy()
	if err != nil {
		return err
	}
	defer endRunners()
	d.tell()
	if stay {
		fmt.Println("\nCtrl-C stops it; the next start finds everything as it is.")
		<-ctx.Done()
	}
	return nil
}

func (d *demo) paths() (err error) {
	for _, p := range []*string{&d.bin, &d.source} {
		if *p, err = filepath.Abs(*p); err != nil {
			return err
		}
	}
	if d.dir, err = home.Dir(d.dir); err != nil {
		return err
	}
	return os.MkdirAll(d.dir, 0o755)
}

func (d *demo) running() (string, bool) {
	url, err := os.ReadFile(d.path("ready"))
	if err != nil {
		return "", false
	}
	c := http.Client{Timeout: 2 * time.Second}
	resp, err := c.Get(strings.TrimSpace(string(url)) + "/healthz")
	if err != nil {
		return "", false
	}
	resp.Body.Close()
	return strings.TrimSpace(string(url)), resp.StatusCode == http.StatusOK
}

func (d *demo) load() error {
	data, err := os.ReadFile(d.path("state.json"))
	if errors.Is(err, os.ErrNotExist) {
		d.state = state{Tokens: map[string]string{}}
		return nil
	}
	if err == nil {
		err = json.Unmarshal(data, &d.state)
	}
	return err
}

func (d *demo) save() error {
	data, err := json.MarshalIndent(d.state, "", " ")
	if err != nil {
		return err
	}
	return os.WriteFile(d.path("state.json"), data, 0o600)
}

// serve starts the service as a separate process.
func (d *demo) serve(ctx context.Context) (stop func() error, err error) {
	os.Remove(d.path("ready"))
	port := d.port
	if l, err := net.Listen("tcp", "127.0.0.1:"+port); err != nil {
		port = "0"
	} else {
		l.Close()
	}
	cmd := exec.Command(
		filepath.Join(d.bin, "grayloftd"),
		"serve",
		"--data",
		d.path("service"),
		"--listen",
		"127.0.0.1:"+port,
		"--ready-file",
		d.path("ready"),
	)
	log, err := os.Create(d.path("service.log"))
	if err != nil {
		return nil, err
	}
	defer log.Close()
	cmd.Stdout, cmd.Stderr = log, log
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // this process forwards an interrupt to it
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	exited := make(chan error, 1)
	go func() { exited <- cmd.Wait() }()
	for {
		if url, ok := d.running(); ok {
			d.url = url
			break
		}
		select {
		case <-exited:
			text, _ := os.ReadFile(d.path("service.log"))
			return nil, fmt.Errorf("the service did not start:\n%s", text)
		case <-ctx.Done():
			_ = cmd.Process.Signal(syscall.SIGTERM)
			<-exited
			return nil, ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
	return func() error {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		return <-exited
	}, nil
}

// fill makes the tokens, the repository and the runs that an earlier start has
// not made.
func (d *demo) fill(ctx context.Context) error {
	for _, t := range people {
		if err := d.token(ctx, t.name, append([]string{"--view"}, t.rights...)); err != nil {
			return err
		}
	}
	for _, m := range machines {
		if err := d.token(ctx, m.name, []string{"--serve", m.pool}); err != nil {
			return err
		}
	}
	if d.state.Played {
		return nil
	}
	for _, old := range []string{"origin.git", "places", "work", "runners"} { // left by a start that was interrupted
		if err := os.RemoveAll(d.path(old)); err != nil {
			return err
		}
	}
	if err := d.protect(ctx); err != nil {
		return err
	}
	if err := d.play(ctx); err != nil {
		return err
	}
	d.state.Played = true
	return d.save()
}

// token makes a token, unless an earlier start made it.
func (d *demo) token(ctx context.Context, name string, rights []string) error {
	if d.state.Tokens[name] != "" {
		return nil
	}
	out, err := exec.CommandContext(ctx, filepath.Join(d.bin, "grayloftd"), append([]string{
		"token", "new", "--data", d.path("service"), "--repo", "skerry", "--name", name}, rights...)...).Output()
	if err != nil {
		return fmt.Errorf("making a token for %s: %w", name, err)
	}
	d.state.Tokens[name] = strings.TrimSpace(string(out))
	return d.save()
}

func (d *demo) tell() {
	dir := d.path("places", "brenna", "skerry")
	fmt.Printf(`
Gray Loft is at   %s
sign in with      %s

Some commands to try, as brenna in the north office:

  export PATH=%s:$PATH GRAYLOFT_SERVICE=%s GRAYLOFT_TOKEN=%s \
         GRAYLOFT_CACHE=%s GRAYLOFT_PLACE=north-office
  cd %s

  grayloft run build test
  echo "# dearer in August" >> libs/fares/rates/summer.csv; grayloft reach; grayloft run test
  grayloft show build@booking

On the team's runners:

  grayloft request test@fares --watch
  grayloft requests

What is out of date (the second command asks a registry that the demonstration starts):

  grayloft check --baseline build/known-findings.json
  GOPROXY=%s grayloft check --updates update-available
`, d.url, d.state.Tokens["brenna"], d.bin, d.url, d.state.Tokens["brenna"], d.path("places", "brenna", "cache"), dir, d.state.Registry)
}

// slow starts the slow line of the home office.
func (d *demo) slow(ctx context.Context) (string, error) {
	line, err := slowline.Start(ctx, strings.TrimPrefix(d.url, "http://"), lineSpeed, lineDelay)
	if err != nil {
		return "", err
	}
	return "http://" + line.Addr, nil
}
