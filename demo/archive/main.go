// Command archive fills a second repository of the demonstration,
// skerry-archive, with generated records: a year of forty people and CI in five
// places. Nothing of it ran; every page says so. The same seed gives the same
// records, but for the day on which they end.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"time"

	"grayloft.example/grayloft/demo/home"
	"grayloft.example/grayloft/internal/service"
	"grayloft.example/grayloft/internal/service/insight"
	"grayloft.example/grayloft/internal/service/records"
)

func main() {
	cfg := service.Defaults()
	p := plan{until: time.Now()}
	var projects int
	var plain bool
	dir := flag.String("dir", ".demo", "directory of the demonstration")
	flag.StringVar(&cfg.Database, "database", "", "address of the database; empty: that of the demonstration")
	flag.Uint64Var(&p.seed, "seed", 20, "what the records follow from")
	flag.IntVar(&p.runs, "runs", 100_000, "how many runs, about")
	flag.IntVar(&p.days, "days", 360, "how many days they take; records of runs are kept for 365 days")
	flag.IntVar(&p.people, "people", 40, "how many people, at most 40")
	flag.IntVar(&projects, "projects", 300, "how many projects, each with five tasks")
	flag.BoolVar(&plain, "plain", false, "without anything for the advice to find")
	flag.Parse()
	if err := locate(&cfg, *dir); err != nil {
		fmt.Fprintln(os.Stderr, "archive:", err)
		os.Exit(1)
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	if err := generate(ctx, cfg, p, projects, plain); err != nil {
		fmt.Fprintln(os.Stderr, "archive:", err)
		os.Exit(1)
	}
}

func locate(cfg *service.Config, dir string) error {
	dir, err := home.Dir(dir)
	cfg.Data = filepath.Join(dir, "service")
	return err
}

func generate(ctx context.Context, cfg service.Config, p plan, projects int, plain bool) error {
	db, closeDB, err := service.OpenRecords(ctx, cfg)
	if err != nil {
		return err
	}
	return errors.Join(archive(ctx, db, p, projects, plain), closeDB())
}

// archive fills the repository, unless it has runs already.
func archive(ctx context.Context, db *records.DB, p plan, projects int, plain bool) error {
	var has bool
	if err := db.GetContext(ctx, &has, `
		SELECT EXISTS (SELECT FROM runs WHERE repository_id = (SELECT id FROM repositories WHERE name = $1))`, repository); err != nil {
		return err
	}
	if !has {
		if err := fill(ctx, db, p, projects, plain); err != nil {
			return err
		}
	} else {
		fmt.Println(repository + " is there already.")
	}
	secret, err := db.NewToken(ctx, records.Token{Repository: repository, Name: "visitor", MayView: true, MayManage: true, ReadsFrom: []string{trusted}})
	if err == nil {
		fmt.Printf("Sign in to the demonstration (make demo) with %s to see it.\n", secret)
	}
	return err
}

func fill(ctx context.Context, db *records.DB, p plan, projects int, plain bool) error {
	began := time.Now()
	took := func(what string) {
		fmt.Printf("%6.1f s  %s\n", time.Since(began).Seconds(), what)
	}
	m, err := newModel(projects, plain)
	if err != nil {
		return err
	}
	o := newOffice(m, p, nil)
	f := &filler{db: db, m: m}
	if err := f.prepare(ctx, o); err != nil {
		return err
	}
	if err := f.fill(ctx, o); err != nil {
		return err
	}
	took(fmt.Sprintf("%d runs of %d tasks in %d projects", len(f.runs), len(m.tasks), len(m.projects)))
	for _, table := range []string{"runs", "run_tasks", "test_cases", "entries", "cache_days"} {
		if _, err := db.ExecContext(ctx, `ANALYZE `+table); err != nil {
			return err
		}
	}
	rollups := &insight.Rollups{DB: db, Declarations: insight.NewDeclarations(db)}
	if err := rollups.Rebuild(ctx, f.repository); err != nil {
		return fmt.Errorf("rolling up: %w", err)
	}
	for _, table := range []string{"run_hours", "task_weeks", "task_repeats", "task_causes", "unstable_keys"} {
		if _, err := db.ExecContext(ctx, `ANALYZE `+table); err != nil {
			return err
		}
	}
	took("rolled up")
	return nil
}
