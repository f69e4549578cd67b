package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
)

type person struct {
	name, place string
	rights      []string
}

var people = []person{
	{"ci", "harbour-ci", []string{"--writes-to", "trusted", "--reads-from", "trusted", "--request"}},
	{"brenna", "north-office", []string{"--writes-to", "person/brenna", "--reads-from", "person/brenna,trusted", "--request", "--manage"}},
	{"oskar", "north-office", []string{"--writes-to", "person/oskar", "--reads-from", "person/oskar,trusted", "--request"}},
	{"isla", "home", []string{"--writes-to", "person/isla", "--reads-from", "person/isla,trusted"}},
}

// step is an event of the story: somebody changes files and pushes, or only
// pulls, and then runs tasks.
type step struct {
	ago    time.Duration
	who    string
	commit string            // empty: nothing is changed
	append map[string]string // text to append to files
	change map[string][2]string
	run    []string
	fails  bool
	ask    bool // a runner of the pool linux does it, with the changes
}

const day = 24 * time.Hour

// stretch spreads the story, which covers four days, over more days.
const stretch = 2.4

func at(days float64, hours float64) time.Duration {
	return time.Duration(days*stretch*float64(day) + hours*float64(time.Hour))
}

var all = []string{"--pick", "all"}

// story is what happened at Skerry Lines in the last days.
var story = []step{
	{ago: at(4, 2), who: "ci", run: all},
	{ago: at(4, 1), who: "brenna", run: []string{"build", "test"}},
	{ago: at(4, 0.5), who: "isla", run: []string{"build", "test", "tiles"}},
	{ago: at(4, 0), who: "oskar", commit: "Gull Haven has a second berth",
		change: map[string][2]string{"data/port-data/ports/gullhaven.json": {`"berths": 1`, `"berths": 2`}}, run: []string{"--pick", "affected"}},
	{ago: at(3, 23.8), who: "ci", run: all},
	{ago: at(3, 22), who: "isla", run: all},
	{ago: at(3, 21), who: "brenna", commit: "Summer on the Eelport crossing is dearer",
		change: map[string][2]string{"libs/fares/rates/summer.csv": {"eelport,1720", "eelport,1790"}}, run: []string{"test"}, fails: true},
	{ago: at(3, 20.9), who: "brenna", commit: "The page's test knows the new fare",
		change: map[string][2]string{"apps/passenger-web/page.test.mjs": {`£34\.4`, `£35\.8`}}, run: []string{"test"}},
	{ago: at(3, 20.7), who: "ci", run: all},
	{ago: at(3, 4), who: "oskar", run: []string{"build", "test"}},
	{ago: at(3, 2), who: "oskar", commit: "Say what a booking is",
		append: map[string]string{"libs/wire-schema/schema/booking.wire": "\n# A booking is paid at the desk or not at all.\n"}, run: []string{"build", "test"}},
	{ago: at(3, 1.9), who: "ci", run: all},
	{ago: at(3, 1), who: "isla", run: []string{"package"}},
	{ago: at(2, 23), who: "isla", commit: "Round halves of a penny up, always",
		append: map[string]string{"libs/money/money.go": "\n// Half is what is rounded up.\nconst Half = 500\n"}, run: []string{"build", "test"}},
	{ago: at(2, 22.9), who: "ci", run: all},
	{ago: at(2, 21), who: "brenna", run: []string{"build", "test", "package"}},
	{ago: at(2, 19), who: "brenna", commit: "A test for a closed desk",
		append: map[string]string{"libs/fares/fares_test.go": "\n// A closed desk sells nothing.\n"}, run: []string{"test"}},
	{ago: at(2, 18.9), who: "ci", run: all},
	{ago: at(2, 3), who: "isla", run: all},
	{ago: at(1, 23), who: "oskar", commit: "Badges are read aloud",
		change: map[string][2]string{"libs/ui-kit/src/kit.mjs": {`class="badge"`, `class="badge" role="status"`}}, run: []string{"--pick", "affected"}, fails: true},
	{ago: at(1, 22.8), who: "oskar", commit: "The kit's test expects the role",
		change: map[string][2]string{"libs/ui-kit/kit.test.mjs": {`<span class="badge">`, `<span class="badge" role="status">`}}, run: []string{"--pick", "affected"}},
	{ago: at(1, 22.7), who: "ci", run: all},
	{ago: at(1, 20), who: "isla", run: []string{"build", "test"}},
	{ago: at(1, 2), who: "ci", run: append([]string{"--no-reuse"}, all...)},
	{ago: at(0, 23), who: "brenna", commit: "Thornholm's tides, surveyed again",
		change: map[string][2]string{"libs/tides/constituents.csv": {"thornholm,M2,0.97", "thornholm,M2,0.99"}}, run: []string{"--pick", "affected"}},
	{ago: at(0, 22.9), who: "ci", run: all},
	{ago: at(0, 5), who: "isla", run: all},
	{ago: at(0, 3.1), who: "oskar", ask: true,
		change: map[string][2]string{"services/notices/main.go": {`"fog"}, 160`, `"fog"}, 140`}}, run: []string{"test@notices"}},
	{ago: at(0, 3), who: "oskar", commit: "Notices fit in one message",
		run: []string{"build", "test"}},
	{ago: at(0, 2.9), who: "ci", run: all},
	{ago: at(0, 1), who: "isla", run: []string{"build", "test"}},
	{ago: at(0, 0.2), who: "brenna", run: []string{"build", "test"}},
}

func (d *demo) play(ctx context.Context) error {
	slow, err := d.slow(ctx)
	if err != nil {
		return err
	}
	if err := d.origin(ctx); err != nil {
		return err
	}
	for i, s := range story {
		if err := d.step(ctx, s, slow); err != nil {
			return fmt.Errorf("step %d, %s: %w", i+1, s.who, err)
		}
	}
	return nil
}

// origin makes the repository that everyone clones.
func (d *demo) origin(ctx context.Context) error {
	work := d.path("work")
	if err := os.CopyFS(work, os.DirFS(d.source)); err != nil {
		return err
	}
	chart := filepath.Join(work, "data", "chart-tiles")
	survey := exec.CommandContext(ctx, "node", "tools/survey.mjs", "chart.bin", "8")
	survey.Dir = chart
	if out, err := survey.CombinedOutput(); err != nil {
		return fmt.Errorf("making up a chart: %w\n%s", err, out)
	}
	when := story[0].ago + day
	for _, args := range [][]string{
		{"init", "-q", "-b", "main", "."}, {"add", "-A"}, {"commit", "-q", "-m", "Skerry Lines as it is"},
		{"clone", "-q", "--bare", ".", d.path("origin.git")},
	} {
		if err := d.git(ctx, work, "ci", when, args...); err != nil {
			return err
		}
	}
	for _, p := range people {
		dir := d.path("places", p.name)
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return err
		}
		if err := d.git(ctx, dir, p.name, when, "clone", "-q", d.path("origin.git"), "skerry"); err != nil {
			return err
		}
	}
	return nil
}

func (d *demo) git(ctx context.Context, dir, who string, ago time.Duration, args ...string) error {
	date := time.Now().Add(-ago).Format(time.RFC3339)
	cmd := exec.CommandContext(ctx, "git", args...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "GIT_AUTHOR_NAME="+who, "GIT_COMMITTER_NAME="+who, "GIT_AUTHOR_EMAIL="+who+"@skerry.example",
		"GIT_COMMITTER_EMAIL="+who+"@skerry.example", "GIT_AUTHOR_DATE="+date, "GIT_COMMITTER_DATE="+date,
		"GIT_CONFIG_GLOBAL="+os.DevNull, "GIT_CONFIG_NOSYSTEM=1")
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("git %s: %w\n%s", args[0], err, out)
	}
	return nil
}

func (d *demo) step(ctx context.Context, s step, slow string) error {
	dir := d.path("places", s.who, "skerry")
	if err := d.git(ctx, dir, s.who, s.ago, "pull", "-q", "--ff-only"); err != nil {
		return err
	}
	for file, text := range s.append {
		old, err := os.ReadFile(filepath.Join(dir, file))
		if err == nil {
			err = os.WriteFile(filepath.Join(dir, file), append(old, text...), 0o644)
		}
		if err != nil {
			return err
		}
	}
	for file, c := range s.change {
		old, err := os.ReadFile(filepath.Join(dir, file))
		if err != nil {
			return err
		}
		if !strings.Contains(string(old), c[0]) {
			return fmt.Errorf("%s does not contain %q", file, c[0])
		}
		if err := os.WriteFile(filepath.Join(dir, file), []byte(strings.ReplaceAll(string(old), c[0], c[1])), 0o644); err != nil {
			return err
		}
	}
	do := d.tasks
	if s.who == "ci" || s.ask {
		do = d.request
	}
	if err := do(ctx, s, dir, slow); err != nil {
		return err
	}
	if s.commit == "" {
		return nil
	}
	if err := d.git(ctx, dir, s.who, s.ago, "commit", "-q", "-a", "-m", s.commit); err != nil {
		return err
	}
	return d.git(ctx, dir, s.who, s.ago, "push", "-q")
}

// tasks runs tasks at somebody's place.
func (d *demo) tasks(ctx context.Context, s step, dir, slow string) error {
	place, url := "", d.url
	for _, p := range people {
		if p.name == s.who {
			place = p.place
		}
	}
	if place == "home" {
		url = slow
	}
	cmd := exec.CommandContext(ctx, filepath.Join(d.bin, "grayloft"), append([]string{"run", "--logs", "none", "--keep-going"}, s.run...)...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "GRAYLOFT_SERVICE="+url, "GRAYLOFT_TOKEN="+d.state.Tokens[s.who],
		"GRAYLOFT_CACHE="+d.path("places", s.who, "cache"), "GRAYLOFT_PLACE="+place, "GRAYLOFT_CLOCK_OFFSET=-"+s.ago.String())
	out, err := cmd.CombinedOutput()
	var exit *exec.ExitError
	failed := errors.As(err, &exit) && exit.ExitCode() == 1
	if (err != nil && !failed) || failed != s.fails {
		return fmt.Errorf("grayloft run %s: %w\n%s", strings.Join(s.run, " "), err, out)
	}
	lines := strings.Split(strings.TrimSpace(string(out)), "\n")
	fmt.Printf("%-7s %-13s %-22s %s\n", s.who, place, clip(strings.Join(s.run, " "), 22), lines[len(lines)-1])
	return nil
}

func clip(s string, n int) string {
	if len(s) > n {
		return s[:n-1] + "…"
	}
	return s
}
