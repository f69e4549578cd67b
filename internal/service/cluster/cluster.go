// Package cluster runs a private PostgreSQL server from the installed server
// packages, in a directory, on loopback only. It is for a team of one, for the
// demonstration and for tests; others name a database.
//
// PostgreSQL refuses to run as root. If root starts it, the server runs as the
// user postgres, who must be able to reach the directory.
package cluster

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gofrs/flock"
)

// Cluster is a running server, and the lock that makes this process its owner.
type Cluster struct {
	dir    string
	bin    string
	port   int
	secret string
	owned  *flock.Flock // nil: another process owns it, so this one does not stop it
	watch  watch
}

// ErrNotInstalled is returned if the server packages are missing.
var ErrNotInstalled = errors.New("PostgreSQL's server is not installed: apt-get install postgresql (or name a database with --database)")

// ErrInUse is wrapped by errors about a cluster that another process owns.
var ErrInUse = errors.New("is in use")

// Start creates the cluster if necessary and starts its server. One that an
// earlier owner left running, because it was killed, is taken over. No other
// process may own the cluster at the same time.
func Start(ctx context.Context, dir string) (*Cluster, error) {
	c, err := open(dir)
	if err != nil {
		return nil, err
	}
	if err := c.own(ctx, "service"); err != nil {
		return nil, err
	}
	return c, c.ensure(ctx)
}

// Visit finds the server of a running service, or, without one, starts it for
// the time until [Cluster.Stop].
func Visit(ctx context.Context, dir string) (*Cluster, error) {
	c, err := open(dir)
	if err != nil {
		return nil, err
	}
	err = c.own(ctx, "command")
	if err == nil {
		return c, c.ensure(ctx)
	}
	if !errors.Is(err, ErrInUse) {
		return nil, err
	}
	if err := c.password(); err != nil {
		return nil, err
	}
	for end := time.Now().Add(startLimit); ; time.Sleep(100 * time.Millisecond) { // its owner may be starting it
		if port, ok := c.running(ctx); ok {
			c.port = port
			return c, nil
		}
		if time.Now().After(end) || ctx.Err() != nil {
			return nil, fmt.Errorf("the service that owns %s does not start its PostgreSQL: %w", c.dir, context.DeadlineExceeded)
		}
	}
}

// startLimit is how long a server may take to start.
const startLimit = 30 * time.Second

func open(dir string) (*Cluster, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	bin, err := binaries()
	return &Cluster{dir: dir, bin: bin}, err
}

// own takes the lock of the cluster. A command holds it only for a moment, so it
// is waited for; a service is not.
func (c *Cluster) own(ctx context.Context, role string) error {
	if err := os.MkdirAll(filepath.Dir(c.dir), 0o755); err != nil {
		return err
	}
	file := c.dir + ".lock"
	l := flock.New(file)
	for end := time.Now().Add(startLimit); ; time.Sleep(20 * time.Millisecond) {
		ok, err := l.TryLock()
		if err != nil {
			return fmt.Errorf("locking the data directory: %w", err)
		}
		if ok {
			c.owned = l
			return os.WriteFile(file, fmt.Appendf(nil, "%s %d\n", role, os.Getpid()), 0o600)
		}
		holder, _ := os.ReadFile(file)
		if strings.HasPrefix(string(holder), "service ") || time.Now().After(end) || ctx.Err() != nil {
			return fmt.Errorf("the data directory %s %w by another %s: stop that one first, or choose another --data",
				filepath.Dir(c.dir), ErrInUse, strings.TrimSpace(strings.Replace(string(holder), " ", ", process ", 1)))
		}
	}
}

// ensure makes the server run. On an error the lock is given back.
func (c *Cluster) ensure(ctx context.Context) error {
	err := c.prepare(ctx)
	if port, ok := c.running(ctx); err == nil && ok {
		c.port = port
		return nil
	}
	for try := 0; err == nil; try++ {
		if c.port, err = freePort(); err == nil {
			err = c.start(ctx)
		}
		if err == nil {
			return nil
		}
		if try < 3 && ctx.Err() == nil {
			err = nil
		}
	}
	return errors.Join(err, c.owned.Unlock())
}

// URL returns the address of a database in the cluster.
func (c *Cluster) URL(database string) string {
	return fmt.Sprintf("postgres://grayloft:%s@127.0.0.1:%d/%s?sslmode=disable", c.secret, c.port, database)
}

// Stop stops the server, if this process owns it.
func (c *Cluster) Stop() error {
	if c.owned == nil {
		return nil
	}
	c.watch.end()
	ctx, cancel := context.WithTimeout(context.Background(), startLimit)
	defer cancel()
	_, err := c.run(ctx, "pg_ctl", "stop", "-D", c.dir, "-m", "fast", "-w")
	return errors.Join(err, c.owned.Unlock())
}

// binaries finds the newest installed server.
func binaries() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	slices.SortFunc(found, func(a, b string) int { return version(b) - version(a) })
	if len(found) > 0 {
		return filepath.Dir(found[0]), nil
	}
	if p, err := exec.LookPath("initdb"); err == nil {
		return filepath.Dir(p), nil
	}
	return "", ErrNotInstalled
}

func version(initdb string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(initdb))))
	return n
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

func (c *Cluster) prepare(ctx context.Context) error {
	if err := os.MkdirAll(c.dir, 0o700); err != nil {
		return err
	}
	if err := c.giveToServer(); err != nil {
		return err
	}
	if err := c.password(); err != nil {
		return err
	}
	if _, err := os.Stat(filepath.Join(c.dir, "PG_VERSION")); err == nil {
		return nil
	}
	given, err := c.handOver()
	if err != nil {
		return err
	}
	defer os.Remove(given)
	_, err = c.run(ctx, "initdb", "-D", c.dir, "-U", "grayloft", "-A", "scram-sha-256", "--pwfile", given, "-E", "UTF8", "--locale=C.UTF-8")
	return err
}

// password returns the server's password, and creates it if necessary; only the
// service's own user may read it.
func (c *Cluster) password() error {
	file := c.dir + ".password"
	text, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		var b [20]byte
		_, _ = rand.Read(b[:])
		text = []byte(hex.EncodeToString(b[:]))
		err = os.WriteFile(file, text, 0o600)
	}
	c.secret = strings.TrimSpace(string(text))
	return err
}

// handOver writes the password to a file that the server's user may read.
func (c *Cluster) handOver() (string, error) {
	f, err := os.CreateTemp("", "grayloft-*")
	if err != nil {
		return "", err
	}
	defer f.Close()
	if _, err := f.WriteString(c.secret + "\n"); err != nil {
		return f.Name(), err
	}
	return f.Name(), chown(f.Name())
}

// running returns the port of a server that already runs in the directory.
func (c *Cluster) running(ctx context.Context) (int, bool) {
	if _, err := c.run(ctx, "pg_ctl", "status", "-D", c.dir); err != nil {
		return 0, false
	}
	data, err := os.ReadFile(filepath.Join(c.dir, "postmaster.pid"))
	lines := strings.Split(string(data), "\n")
	if err != nil || len(lines) < 4 {
		return 0, false
	}
	port, err := strconv.Atoi(strings.TrimSpace(lines[3]))
	return port, err == nil
}

func (c *Cluster) start(ctx context.Context) error {
	opts := fmt.Sprintf("-c listen_addresses=127.0.0.1 -c port=%d -c unix_socket_directories='' -c max_connections=100", c.port)
	log := filepath.Join(c.dir, "server.log")
	wait := strconv.Itoa(int(startLimit.Seconds()))
	if _, err := c.run(ctx, "pg_ctl", "start", "-D", c.dir, "-l", log, "-o", opts, "-w", "-t", wait); err != nil {
		text, _ := os.ReadFile(log)
		return fmt.Errorf("%w\n%s", err, tail(text, 5))
	}
	return nil
}

func tail(text []byte, n int) string {
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	return strings.Join(lines[max(0, len(lines)-n):], "\n")
}

// run runs one of PostgreSQL's programs, as a user that PostgreSQL accepts.
func (c *Cluster) run(ctx context.Context, name string, args ...string) (string, error) {
	cmd := exec.CommandContext(ctx, filepath.Join(c.bin, name), args...)
	cmd.Dir = "/"
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "LC_ALL=C", "TZ=UTC", "PGPASSWORD=" + c.secret}
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := asServer(cmd); err != nil {
		return "", err
	}
	// pg_ctl leaves the server with its output open: wait for pg_ctl alone.
	cmd.WaitDelay = time.Second
	err := cmd.Run()
	if errors.Is(err, exec.ErrWaitDelay) {
		err = nil
	}
	if err != nil {
		return out.String(), fmt.Errorf("%s: %w: %s", name, err, tail(out.Bytes(), 3))
	}
	return out.String(), nil
}

// CreateDatabase creates a database, which must not exist yet.
func (c *Cluster) CreateDatabase(ctx context.Context, name string) error {
	_, err := c.run(ctx, "createdb", "-h", "127.0.0.1", "-p", strconv.Itoa(c.port), "-U", "grayloft", name)
	return err
}

// EnsureDatabase creates a database unless it exists.
func (c *Cluster) EnsureDatabase(ctx context.Context, name string) error {
	err := c.CreateDatabase(ctx, name)
	if err != nil && strings.Contains(err.Error(), "already exists") {
		return nil
	}
	return err
}
