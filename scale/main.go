// Scale answers how Gray Loft does in a large company: by simulating one in virtual time, with
// the product's own rules and with measured costs per request. It writes docs/scale.md.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"

	"grayloft.example/grayloft/demo/home"
	"grayloft.example/grayloft/internal/service"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	if err := run(ctx); err != nil {
		fmt.Fprintln(os.Stderr, "scale:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context) error {
	dir := flag.String("dir", ".demo", "with -record: where the demonstration is")
	repository := flag.String(
		"record",
		"",
		"write the last days of a repository of the demonstration to scale/recorded, instead of simulating",
	)
	costs := flag.Bool(
		"measure",
		false,
		"measure what requests cost on this machine, and write that to scale/costs.json, instead of simulating",
	)
	loading := flag.Bool(
		"load",
		false,
		"make the requests of the simulated peak to a real service, and write what they cost to scale/load.json",
	)
	days := flag.Int("days", 10, "with -record: how many days before the one that is compared")
	flag.Parse()
	if *costs {
		return measure(ctx, "bin", filepath.Join("scale", "costs.json"))
	}
	if *loading {
		return load(
			ctx,
			"bin",
			filepath.Join("scale", "peak.json"),
			filepath.Join("scale", "costs.json"),
			filepath.Join("scale", "load.json"),
		)
	}
	if *repository == "" {
		s, err := simulate("scale")
		if err != nil {
			return err
		}
		return s.write("scale", "docs")
	}
	at, err := home.Dir(*dir)
	if err != nil {
		return err
	}
	db, closeDB, err := service.OpenRecords(ctx, service.Config{Data: filepath.Join(at, "service")})
	if err != nil {
		return err
	}
	return errors.Join(record(ctx, db, *repository, *days, filepath.Join("scale", "recorded", *repository+".json.gz")), closeDB())
}
