// Command shoot takes the pictures of pages in docs/screenshots from the running demonstration,
// in headless Chromium.
package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"grayloft.example/grayloft/internal/browser"
)

func main() {
	dir := flag.String("demo", ".demo", "the demonstration's directory")
	out := flag.String("out", "docs/screenshots", "directory for the pictures")
	only := flag.String("only", "", "only the pictures whose name contains this")
	path := flag.String("path", "", "one page instead, such as /tasks; --out is then the picture's file")
	scheme := flag.String("scheme", "light", "with --path: light or dark")
	width := flag.Int64("width", 1280, "with --path: pixels")
	flag.Parse()
	var list []picture
	if *path != "" {
		list = []picture{{strings.TrimSuffix(filepath.Base(*out), ".png"), *path, *scheme, *width, "h1"}}
		*out = filepath.Dir(*out)
	}
	if err := shoot(*dir, *out, *only, list); err != nil {
		fmt.Fprintln(os.Stderr, "shoot:", err)
		os.Exit(1)
	}
}

type picture struct {
	name   string
	path   string
	scheme string
	width  int64
	wait   string // selector of an element that must be visible
}

func shoot(demo, out, only string, list []picture) error {
	url, token, err := where(demo)
	if err != nil {
		return err
	}
	run, err := interesting(url, token)
	if err != nil {
		return err
	}
	ctx, stop, err := browser.Start(context.Background())
	if err != nil {
		return err
	}
	defer stop()
	ctx, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	if err := chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800), chromedp.Navigate(url), chromedp.WaitVisible(browser.CSS("#token"))); err != nil {
		return err
	}
	if list == nil && (strings.Contains("sign-in", only) || only == "") {
		if err := save(ctx, filepath.Join(out, "sign-in.png")); err != nil {
			return err
		}
	}
	if err := chromedp.Do(ctx, chromedp.SendKeys(browser.CSS("#token"), token), chromedp.Click(browser.CSS("button[type=submit]")), chromedp.WaitVisible(browser.CSS("[data-row]"))); err != nil {
		return fmt.Errorf("signing in: %w", err)
	}
	if list == nil {
		list = pictures(run)
	}
	for _, p := range list {
		if !strings.Contains(p.name, only) {
			continue
		}
		if err := browser.Scheme(ctx, p.scheme); err != nil {
			return err
		}
		if err := chromedp.Do(ctx,
			chromedp.EmulateViewport(p.width, 800), chromedp.Navigate(url+p.path),
			chromedp.WaitVisible(browser.CSS(p.wait)), chromedp.Sleep(900*time.Millisecond), // for what arrives later: logs, fonts
		); err != nil {
			return fmt.Errorf("%s: %w", p.name, err)
		}
		if err := save(ctx, filepath.Join(out, p.name+".png")); err != nil {
			return err
		}
	}
	return nil
}

// pictures are those in docs/screenshots.
func pictures(run string) []picture {
	return []picture{
		{"runs", "/", "light", 1280, "[data-row]"},
		{"runs-dark", "/", "dark", 1280, "[data-row]"},
		{"runs-narrow", "/", "light", 400, "[data-row]"},
		{"run", "/runs/" + run, "light", 1280, "table [data-row]"},
		{"run-compare", "/runs/" + run + "?task=test@fares&tab=compare", "light", 1280, "h1"},
		{"tasks", "/tasks", "light", 1280, "table [data-row]"},
		{"task", "/tasks/test@fares", "light", 1280, "h1"},
		{"advice", "/advice", "light", 1280, "h1"},
		{"projects", "/projects?project=fares", "light", 1280, ".svelte-flow__node"},
		{"cache", "/cache", "light", 1280, "h1"},
		{"fleet", "/fleet", "light", 1280, "[data-runner]"},
	}
}

func save(ctx context.Context, file string) error {
	fmt.Println(file)
	return browser.Save(ctx, file)
}

func where(demo string) (url, token string, err error) {
	ready, err := os.ReadFile(filepath.Join(demo, "ready"))
	if err != nil {
		return "", "", fmt.Errorf("the demonstration is not running (make demo): %w", err)
	}
	var state struct {
		Tokens map[string]string `json:"tokens"`
	}
	data, err := os.ReadFile(filepath.Join(demo, "state.json"))
	if err == nil {
		err = json.Unmarshal(data, &state)
	}
	return strings.TrimSpace(string(ready)), state.Tokens["brenna"], err
}

// get asks the service.
func get(url, token string, out any) error {
	req, err := http.NewRequest(http.MethodGet, url, nil)
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+token)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	return json.NewDecoder(resp.Body).Decode(out)
}

// interesting returns the run with the most different outcomes, and a task of
// it that ran because of a file.
func interesting(url, token string) (string, error) {
	var page struct {
		Runs []struct {
			ID     string         `json:"id"`
			Totals map[string]int `json:"totals"`
		} `json:"runs"`
	}
	if err := get(url+"/v1/skerry/runs", token, &page); err != nil {
		return "", err
	}
	best, most := "", -1
	for _, r := range page.Runs {
		score := 10*min(r.Totals["failed"], 1) + min(r.Totals["fetched"], 6) + min(r.Totals["ran"], 12)
		if score > most {
			best, most = r.ID, score
		}
	}
	var run struct {
		Records []struct {
			Task   string   `json:"task"`
			Reason string   `json:"reason"`
			Detail []string `json:"detail"`
		} `json:"records"`
	}
	if err := get(url+"/v1/skerry/runs/"+best, token, &run); err != nil {
		return "", err
	}
	for _, r := range run.Records {
		if r.Reason == "files" && len(r.Detail) > 0 {
			return best + "?task=" + r.Task, nil
		}
	}
	return best, nil
}
