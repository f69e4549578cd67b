// Package daemon is the service's command line.
package daemon

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/netip"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/heap"
	"grayloft.example/grayloft/internal/service"
	"grayloft.example/grayloft/internal/usage"
)

// Main runs the command line and returns its exit code.
func Main(ctx context.Context, args []string, out, errs io.Writer) int {
	defaults := service.Defaults()
	cfg := &defaults
	cfg.Log = slog.New(slog.NewTextHandler(errs, nil))
	root := &cobra.Command{
		Use: "grayloftd", Short: "Share task outputs between people and CI runners, and keep records of runs",
		SilenceErrors: true, SilenceUsage: true,
	}
	f := root.PersistentFlags()
	f.StringVar(&cfg.Data, "data", defaultData(), "directory of blobs and, without --database, of the records")
	f.StringVar(&cfg.Database, "database", os.Getenv("GRAYLOFT_DATABASE"), "PostgreSQL's address (default: a private server in --data)")
	root.AddCommand(serve(cfg), tokens(cfg), retentionCommand(cfg), protect(cfg), announceCommand(cfg), rebuildCommand(cfg))
	root.SetFlagErrorFunc(usage.Flag)
	root.SetArgs(args)
	root.SetOut(out)
	root.SetErr(errs)
	if err := root.ExecuteContext(ctx); err != nil {
		fmt.Fprintln(errs, "grayloftd:", usage.Command(root, err))
		return 2
	}
	return 0
}

func defaultData() string {
	if os.Geteuid() == 0 {
		return "/var/lib/grayloft" // a directory that PostgreSQL's own user can reach
	}
	if d := os.Getenv("XDG_DATA_HOME"); d != "" {
		return filepath.Join(d, "grayloft")
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "grayloft-data"
	}
	return filepath.Join(home, ".local", "share", "grayloft")
}

func serve(cfg *service.Config) *cobra.Command {
	var ready, quota, file string
	var networks []string
	c := &cobra.Command{
		Use: "serve", Short: "Run the service", Args: usage.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			heap.CollectLate(128<<20, 128<<20)
			if (cfg.CertFile == "") != (cfg.KeyFile == "") {
				return errors.New("--cert and --key must be given together")
			}
			var err error
			if cfg.Retention.Quota, err = size("--quota", quota); err != nil {
				return err
			}
			if file != "" {
				if err := readConfig(file, cfg); err != nil {
					return err
				}
			}
			for _, text := range networks {
				p, err := netip.ParsePrefix(text)
				if err != nil {
					return fmt.Errorf("--announce-to %q is not a network: write it like 10.0.0.0/8", text)
				}
				cfg.AnnounceTo = append(cfg.AnnounceTo, p)
			}
			cfg.BucketKey, cfg.BucketSecret = os.Getenv("GRAYLOFT_BUCKET_KEY"), os.Getenv("GRAYLOFT_BUCKET_SECRET")
			s, err := service.Start(cmd.Context(), *cfg)
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "Gray Loft serves at %s, data in %s\n", s.URL, cfg.Data)
			if ready != "" {
				if err := os.WriteFile(ready, []byte(s.URL+"\n"), 0o644); err != nil {
					return errors.Join(err, s.Stop())
				}
			}
			select {
			case <-cmd.Context().Done():
				return s.Stop()
			case err := <-s.Done():
				return errors.Join(err, s.Stop())
			}
		},
	}
	c.Flags().StringVar(&cfg.Listen, "listen", "127.0.0.1:7420", "host:port to listen on; port 0 selects a free one")
	c.Flags().StringVar(&cfg.CertFile, "cert", "", "certificate file, for TLS")
	c.Flags().StringVar(&cfg.KeyFile, "key", "", "key file, for TLS")
	f := c.Flags()
	f.StringVar(&file, "config", "", "file that says what is requested by time and after pushes")
	f.StringSliceVar(&networks, "announce-to", nil, "private networks to which runs may be announced, such as 10.0.0.0/8")
	f.StringVar(
		&cfg.Bucket,
		"bucket",
		os.Getenv("GRAYLOFT_BUCKET"),
		"address of an S3-compatible bucket for blobs, such as https://host/bucket (default: "+
			"a directory in --data); GRAYLOFT_BUCKET_KEY and GRAYLOFT_BUCKET_SECRET hold its key",
	)
	f.IntVar(&cfg.Retention.Days, "keep-days", cfg.Retention.Days, "remove entries that were not used for this many days; 0 keeps them")
	f.IntVar(&cfg.Retention.RunDays, "keep-runs", cfg.Retention.RunDays, "remove records of runs after this many days; 0 keeps them")
	f.StringVar(&quota, "quota", "", "storage per repository, such as 50GB, unless it has a quota of its own (default: unlimited)")
	f.DurationVar(
		&cfg.CleanupInterval,
		"cleanup-interval",
		cfg.CleanupInterval,
		"interval between cleanups of expired data; 0 disables them",
	)
	f.Float64Var(&cfg.Limits.Rate, "rate", cfg.Limits.Rate, "requests per second and token; 0 for no limit")
	f.Int64Var(&cfg.Limits.Uploads, "uploads", cfg.Limits.Uploads, "concurrent uploads; 0 for no limit")
	c.Flags().StringVar(&ready, "ready-file", "", "write the service's address to this file once it is ready")
	return c
}

// expiry reads a duration that may be given in days.
func expiry(s string, now time.Time) (time.Time, error) {
	if d, ok := strings.CutSuffix(s, "d"); ok {
		if n, err := strconv.Atoi(d); err == nil && n > 0 {
			return now.AddDate(0, 0, n), nil
		}
	}
	d, err := time.ParseDuration(s)
	if err != nil || d <= 0 {
		return now, fmt.Errorf("--expires %q is not a duration: write it like 90d or 12h", s)
	}
	return now.Add(d), nil
}
