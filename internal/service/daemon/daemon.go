// Package daemon is the service's command line.
package daemon

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/service"
)

// Main runs the command line and returns its exit code.
func Main(ctx context.Context, args []string, out, errs io.Writer) int {
	defaults := service.Defaults()
	cfg := &defaults
	cfg.Log = slog.New(slog.NewTextHandler(errs, nil))
	root := &cobra.Command{
		Use: "grayloftd", Short: "Share outputs between people and CI runners, and keep records of runs",
		SilenceErrors: true, SilenceUsage: true,
	}
	f := root.PersistentFlags()
	f.StringVar(&cfg.Data, "data", defaultData(), "directory of blobs and, without --database, of the records")
	f.StringVar(&cfg.Database, "database", os.Getenv("GRAYLOFT_DATABASE"), "PostgreSQL's address (default: a private server in --data)")
	root.AddCommand(serve(cfg), tokens(cfg), retentionCommand(cfg))
	root.SetArgs(args)
	root.SetOut(out)
	root.SetErr(errs)
	if err := root.ExecuteContext(ctx); err != nil {
		fmt.Fprintln(errs, "grayloftd:", err)
		return 2
	}
	return 0
}

func defaultData() string {
	if os.Geteuid() == 0 {
		return "/var/lib/grayloft" // a place that PostgreSQL's own user can reach
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
	var ready, quota string
	c := &cobra.Command{
		Use: "serve", Short: "Run the service", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if (cfg.CertFile == "") != (cfg.KeyFile == "") {
				return errors.New("--cert and --key go together")
			}
			var err error
			if cfg.Retention.Quota, err = size("--quota", quota); err != nil {
				return err
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
	c.Flags().StringVar(&cfg.Listen, "listen", "127.0.0.1:7420", "host:port to listen at; port 0 takes a free one")
	c.Flags().StringVar(&cfg.CertFile, "cert", "", "certificate file, for TLS")
	c.Flags().StringVar(&cfg.KeyFile, "key", "", "key file, for TLS")
	f := c.Flags()
	f.StringVar(&cfg.Bucket, "bucket", os.Getenv("GRAYLOFT_BUCKET"), "address of an S3-compatible bucket for blobs, such as https://host/bucket (default: a directory in --data); GRAYLOFT_BUCKET_KEY and GRAYLOFT_BUCKET_SECRET hold its key")
	f.IntVar(&cfg.Retention.Days, "keep-days", cfg.Retention.Days, "let entries go that nobody used for so many days; 0 keeps them")
	f.IntVar(&cfg.Retention.RunDays, "keep-runs", cfg.Retention.RunDays, "let records of runs go after so many days; 0 keeps them")
	f.StringVar(&quota, "quota", "", "how much each repository may hold, such as 50GB, where its own row does not say (default: any amount)")
	f.DurationVar(&cfg.CleanupInterval, "sweep", cfg.CleanupInterval, "how often to let go of what is over its time; 0 never does")
	f.Float64Var(&cfg.Limits.Rate, "rate", cfg.Limits.Rate, "requests per second that a token may make; 0 for any number")
	f.Int64Var(&cfg.Limits.Uploads, "uploads", cfg.Limits.Uploads, "uploads that may go on at a time; 0 for any number")
	c.Flags().StringVar(&ready, "ready-file", "", "write the service's address to this file once it answers")
	return c
}

// expiry reads a length of time that may be given in days.
func expiry(s string, now time.Time) (time.Time, error) {
	if d, ok := strings.CutSuffix(s, "d"); ok {
		if n, err := strconv.Atoi(d); err == nil && n > 0 {
			return now.AddDate(0, 0, n), nil
		}
	}
	d, err := time.ParseDuration(s)
	if err != nil || d <= 0 {
		return now, fmt.Errorf("--expires %q is not a length of time: write it like 90d or 12h", s)
	}
	return now.Add(d), nil
}
