package main

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"grayloft.example/grayloft/demo/slowline"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/cluster"
)

const (
	speed       = 10e6 / 8              // bytes per second of the slow line
	delay       = 20 * time.Millisecond // each way
	connections = 32
	gets        = 3000 // blobs of 1 MB
	lookups     = 40   // of 3,000 keys
	keys        = 3000
)

// fleet is a service with its database, the servers it is compared with, and
// their test data.
type fleet struct {
	b       *bench
	ctx     context.Context
	url     string
	slow    string // the service behind a slow line
	files   string // of a plain file server
	slowly  string // of the file server behind a slow line
	nginx   string // empty: not installed
	token   string
	blobs   []string // of blobs of 1 MB, in hex
	keys    []string
	script  string // input of pgbench
	db      string
	stopped []func()
	last    int // the process that was started last
	daemon  int // the service's
}

func (f *fleet) stop() {
	for i := len(f.stopped) - 1; i >= 0; i-- {
		f.stopped[i]()
	}
}

// newFleet starts everything.
func newFleet(b *bench) (f *fleet, err error) {
	ctx, cancel := context.WithCancel(context.Background())
	f = &fleet{b: b, ctx: ctx, stopped: []func(){cancel}}
	begun := f // an error sets f to nil
	defer func() {
		if err != nil {
			begun.stop()
		}
	}()
	dir := filepath.Join(b.dir, "service")
	if err := os.RemoveAll(dir); err != nil {
		return nil, err
	}
	for d := dir; d != "/" && d != os.TempDir(); d = filepath.Dir(d) { // PostgreSQL's own user must be able to reach it
		if err := os.MkdirAll(d, 0o755); err != nil {
			return nil, err
		}
	}
	cl, err := cluster.Start(ctx, filepath.Join(dir, "postgres"))
	if err != nil {
		return nil, err
	}
	f.stopped = append(f.stopped, func() { _ = cl.Stop() })
	if err := cl.EnsureDatabase(ctx, "bench"); err != nil {
		return nil, err
	}
	f.db = cl.URL("bench")
	if err := f.serve(dir); err != nil {
		return nil, err
	}
	if err := f.lines(); err != nil {
		return nil, err
	}
	return f, f.fill()
}

func freeAddress() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	defer l.Close()
	return l.Addr().String(), nil
}

// start starts a program that ends with the fleet.
func (f *fleet) start(name string, args ...string) error {
	cmd := exec.Command(name, args...)
	cmd.Stdout, cmd.Stderr = os.Stderr, os.Stderr
	if err := cmd.Start(); err != nil {
		return err
	}
	f.last = cmd.Process.Pid
	f.stopped = append(f.stopped, func() {
		_ = cmd.Process.Signal(os.Interrupt)
		_ = cmd.Wait()
	})
	return nil
}

func (f *fleet) serve(dir string) error {
	daemon := filepath.Join(filepath.Dir(f.b.client), "grayloftd")
	ready := filepath.Join(dir, "ready")
	if err := f.start(daemon, "serve", "--database", f.db, "--data", dir, "--listen", "127.0.0.1:0", "--rate", "0", "--uploads", "0", "--cleanup-interval", "0", "--ready-file", ready); err != nil {
		return err
	}
	f.daemon = f.last
	for range 600 {
		if text, err := os.ReadFile(ready); err == nil {
			f.url = strings.TrimSpace(string(text))
			break
		}
		time.Sleep(50 * time.Millisecond) // the file is written by another program, so there is no event
	}
	if f.url == "" {
		return fmt.Errorf("the service did not start")
	}
	out, err := exec.Command(daemon, "token", "new", "--database", f.db, "--repo", "bulky", "--name", "bench", "--writes-to", "trusted").
		Output()
	f.token = strings.TrimSpace(string(out))
	return err
}

// lines starts a plain file server, nginx if it is installed, and slow lines.
func (f *fleet) lines() error {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	srv := &http.Server{Handler: http.FileServer(http.Dir(f.b.dir))}
	go func() { _ = srv.Serve(l) }()
	f.stopped = append(f.stopped, func() { srv.Close() })
	f.files = "http://" + l.Addr().String()
	for of, slow := range map[string]*string{f.url: &f.slow, f.files: &f.slowly} {
		u, err := url.Parse(of)
		if err != nil {
			return err
		}
		line, err := slowline.Start(f.ctx, u.Host, speed, delay)
		if err != nil {
			return err
		}
		*slow = "http://" + line.Addr
	}
	if _, err := exec.LookPath("nginx"); err != nil {
		return fmt.Errorf("nginx is not installed: apt install nginx-light")
	}
	at, err := freeAddress()
	if err != nil {
		return err
	}
	root := filepath.Join(f.b.dir, "nginx")
	conf := fmt.Sprintf("daemon off; worker_processes auto; pid %[1]s/pid; error_log stderr error; events {}\n"+
		"http { access_log off; sendfile on; client_body_temp_path %[1]s/t; proxy_temp_path %[1]s/t; fastcgi_temp_path %[1]s/t; uwsgi_temp_path %[1]s/t; scgi_temp_path %[1]s/t;\n"+
		"server { listen %[2]s; root %[1]s/files; } }\n", root, at)
	if err := os.MkdirAll(filepath.Join(root, "files"), 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(root, "conf"), []byte(conf), 0o644); err != nil {
		return err
	}
	if err := f.start("nginx", "-c", filepath.Join(root, "conf")); err != nil {
		return err
	}
	f.nginx = "http://" + at
	return nil
}

// fill stores the test data in the service and the other servers.
func (f *fleet) fill() error {
	for range 64 {
		text := make([]byte, 1<<20)
		_, _ = rand.Read(text)
		d := digest.Of(text).String()
		if err := f.put("blobs/"+d, text); err != nil {
			return err
		}
		if f.nginx != "" {
			if err := os.WriteFile(filepath.Join(f.b.dir, "nginx", "files", d), text, 0o644); err != nil {
				return err
			}
		}
		f.blobs = append(f.blobs, d)
	}
	list, err := f.fillEntries()
	if err != nil {
		return err
	}
	f.script = filepath.Join(f.b.dir, "service", "lookup.sql")
	query := "SELECT shelf, key, early_key, task, listing, log, ingredients, seconds, bytes, checkout_paths, made_name, made_host, made_place, made_run, made_at FROM entries " +
		"WHERE repository_id = 1 AND key = ANY(ARRAY[" + strings.Join(
		list,
		",",
	) + "]::bytea[]);\n"
	return os.WriteFile(f.script, []byte(query), 0o644)
}

// put sends a body to the service.
func (f *fleet) put(path string, body []byte) error {
	req, err := http.NewRequest("PUT", f.url+"/v1/bulky/"+path, bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+f.token)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if resp.StatusCode >= 300 {
		text, _ := io.ReadAll(resp.Body)
		return fmt.Errorf("sending %s: %s: %s", path, resp.Status, text)
	}
	return nil
}

// fillEntries stores an entry for each key, and returns the keys as SQL
// literals.
func (f *fleet) fillEntries() ([]string, error) {
	outputs := listing.List{}.Encode()
	if err := f.put("blobs/"+digest.Of(outputs).String(), outputs); err != nil {
		return nil, err
	}
	var list []string
	var g errgroup.Group
	g.SetLimit(connections)
	for i := range keys {
		in := key.Ingredients{Dir: "p", Command: []string{"make", fmt.Sprint(i)}}
		k, text := in.Key(), in.Encode()
		f.keys = append(f.keys, k.String())
		list = append(list, fmt.Sprintf("'\\x%s'", k))
		g.Go(func() error {
			if err := f.put("blobs/"+digest.Of(text).String(), text); err != nil {
				return err
			}
			body, err := json.Marshal(protocol.Entry{
				Key: k, Task: "build@p", Listing: digest.Of(outputs), Ingredients: digest.Of(text), Seconds: 1,
				MadeBy: protocol.Maker{Name: "bench", Host: "bench", Place: "bench", Run: "bench-run", At: time.Now()},
			})
			if err != nil {
				return err
			}
			return f.put("entries/"+k.String()+"?shelf=trusted", body)
		})
	}
	return list, g.Wait()
}

// get fetches blobs over several connections.
func (f *fleet) get(address func(blob string) string) error {
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: connections, DisableCompression: true}}
	defer client.CloseIdleConnections()
	var next atomic.Int64
	var wg sync.WaitGroup
	var failed atomic.Value
	for range connections {
		wg.Go(func() {
			for i := next.Add(1); i <= gets; i = next.Add(1) {
				req, _ := http.NewRequest("GET", address(f.blobs[int(i)%len(f.blobs)]), nil)
				req.Header.Set("Authorization", "Bearer "+f.token)
				resp, err := client.Do(req)
				if err != nil {
					failed.Store(err)
					return
				}
				n, err := io.Copy(io.Discard, resp.Body)
				resp.Body.Close()
				if err != nil || n != 1<<20 || resp.StatusCode != 200 {
					failed.Store(fmt.Errorf("%s, %d bytes, %v", resp.Status, n, err))
				}
			}
		})
	}
	wg.Wait()
	if err, ok := failed.Load().(error); ok {
		return err
	}
	return nil
}

// lookup looks all keys up, repeatedly.
func (f *fleet) lookup() error {
	type query struct {
		Task string `json:"task"`
		Key  string `json:"key"`
	}
	var in struct {
		Tasks []query `json:"tasks"`
	}
	for _, k := range f.keys {
		in.Tasks = append(in.Tasks, query{"build@p", k})
	}
	body, err := json.Marshal(in)
	if err != nil {
		return err
	}
	for range lookups {
		req, _ := http.NewRequest("POST", f.url+"/v1/bulky/entries/lookup", bytes.NewReader(body))
		req.Header.Set("Authorization", "Bearer "+f.token)
		req.Header.Set("Accept", protocol.TypeCompact)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			return err
		}
		answer, err := io.ReadAll(resp.Body)
		resp.Body.Close()
		if err != nil || resp.StatusCode != 200 || bytes.Count(answer, []byte("build@p")) != keys {
			return fmt.Errorf("%s, %d bytes, %v", resp.Status, len(answer), err)
		}
	}
	return nil
}

// rows are the rows that need a service.
func (f *fleet) rows() []row {
	b := f.b
	cache := filepath.Join(b.dir, "fetched") // its own, because each run begins without it
	share := "GRAYLOFT_CACHE=" + cache + " GRAYLOFT_SERVICE=" + f.url + " GRAYLOFT_TOKEN=" + f.token + " "
	slow := "GRAYLOFT_CACHE=" + cache + " GRAYLOFT_SERVICE=" + f.slow + " GRAYLOFT_TOKEN=" + f.token + " "
	fetch := share + b.client + " run copy -q --fetch all"
	pack := func(name string) string {
		return b.aside(cache) + "; " + share + b.client + " run copy -q --no-reuse; [ -e " + b.dir + "/" + name + ".tar.zst ] || tar -C " + filepath.Join(
			b.dir,
			name+"-source",
		) + " --zstd -cf " + b.dir + "/" + name + ".tar.zst ."
	}
	unpack := func(from, name string) string {
		return "mkdir ../copied; curl -sf " + from + "/" + name + ".tar.zst | tar --zstd -x -C ../copied"
	}
	rows := []row{
		{name: "fetching 10,000 files, 500 MB, empty cache, against curl and tar", goal: 1, in: "bulky", once: pack("bulky"),
			ours:     side{before: b.aside("out") + "; " + b.aside(cache), run: fetch},
			baseline: side{before: b.aside("../copied"), run: unpack(f.files, "bulky")}},
		{name: "fetching 100,000 files, 200 MB, empty cache, against the same", goal: 1, in: "tiny", once: pack("tiny"),
			ours:     side{before: b.aside("out") + "; " + b.aside(cache), run: fetch},
			baseline: side{before: b.aside("../copied"), run: unpack(f.files, "tiny")}},
		{name: "no goal: restoring the 10,000 files of the first row once they were fetched, against cp -r", in: "bulky",
			once:     pack("bulky") + "; " + b.aside("out") + "; " + b.aside(cache) + "; " + fetch,
			ours:     side{before: b.aside("out"), run: fetch},
			baseline: side{before: b.aside("../copied"), run: "cp -r --reflink=never " + filepath.Join(b.dir, "bulky-source") + " ../copied"}},
		{name: "500 files, 25 MB, through 10 Mbit/s and 40 ms, against the same", goal: 1.05, in: "small", once: pack("small"), rounds: 1,
			ours:     side{before: b.aside("out") + "; " + b.aside(cache), run: slow + b.client + " run copy -q --fetch all"},
			baseline: side{before: b.aside("../copied"), run: unpack(f.slowly, "small")}},
		{name: "service: 3,000 GETs of 1 MB blobs, 32 connections, against nginx", goal: 1.1,
			ours:     side{do: func() error { return f.get(func(d string) string { return f.url + "/v1/bulky/blobs/" + d }) }},
			baseline: side{do: func() error { return f.get(func(d string) string { return f.nginx + "/" + d }) }}},
		{
			name:   "memory of the service, 200 clients fetching 100 MB each, in MB",
			goal:   300,
			in:     "bulky",
			once:   pack("bulky"),
			memory: f.fetchAll,
		},
		{name: "service: 40 lookups of 3,000 keys, against pgbench", goal: 1.5, in: "bulky",
			ours:     side{do: f.lookup},
			baseline: side{run: fmt.Sprintf("pgbench -n -c 1 -t %d -f %s '%s' > /dev/null", lookups, f.script, f.db)}},
	}
	return rows
}
