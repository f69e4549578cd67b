// Package daemon is the service's command line.
package daemon

import (
	"context"
	"encoding/json"
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
	"grayloft.example/grayloft/internal/service/records"
)

// Main runs the command line and returns its exit code.
func Main(ctx context.Context, args []string, out, errs io.Writer) int {
	cfg := &service.Config{Log: slog.New(slog.NewTextHandler(errs, nil))}
	root := &cobra.Command{
		Use: "grayloftd", Short: "Share outputs between people and CI runners, and keep records of runs",
		SilenceErrors: true, SilenceUsage: true,
	}
	f := root.PersistentFlags()
	f.StringVar(&cfg.Data, "data", defaultData(), "directory of blobs and, without --database, of the records")
	f.StringVar(&cfg.Database, "database", os.Getenv("GRAYLOFT_DATABASE"), "PostgreSQL's address (default: a private server in --data)")
	root.AddCommand(serve(cfg), tokens(cfg))
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
	var ready string
	c := &cobra.Command{
		Use: "serve", Short: "Run the service", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if (cfg.CertFile == "") != (cfg.KeyFile == "") {
				return errors.New("--cert and --key go together")
			}
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
	c.Flags().StringVar(&ready, "ready-file", "", "write the service's address to this file once it answers")
	return c
}

func tokens(cfg *service.Config) *cobra.Command {
	group := &cobra.Command{Use: "token", Short: "Make tokens"}
	var t records.Token
	var expires, format string
	c := &cobra.Command{
		Use: "new", Short: "Make a token, and print it once", Args: cobra.NoArgs,
		Example: "  grayloftd token new --repo skerry --name ci --puts-on trusted --takes-from trusted\n" +
			"  grayloftd token new --repo skerry --name brenna --puts-on personal/brenna --takes-from personal/brenna,trusted --look",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if expires != "" {
				at, err := expiry(expires, time.Now())
				if err != nil {
					return err
				}
				t.ExpiresAt = &at
			}
			db, closeDB, err := service.OpenRecords(cmd.Context(), *cfg)
			if err != nil {
				return err
			}
			secret, err := db.NewToken(cmd.Context(), t)
			if err = errors.Join(err, closeDB()); err != nil {
				return err
			}
			if format == "json" {
				return json.NewEncoder(cmd.OutOrStdout()).Encode(map[string]any{"token": secret, "name": t.Name, "repo": t.Repository})
			}
			fmt.Fprintln(cmd.OutOrStdout(), secret)
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&t.Repository, "repo", "", "the repository that it is for, as in [repo] name")
	f.StringVar(&t.Name, "name", "", "who or what uses it")
	f.StringVar(&t.PutsOn, "puts-on", "", "the shelf that it puts on, or a pattern such as branch/* (default: none)")
	f.StringSliceVar((*[]string)(&t.TakesFrom), "takes-from", []string{records.Trusted}, "the shelves that it takes from, the first that has something wins")
	f.BoolVar(&t.MayLook, "look", false, "it may look at records, and sign in to the console")
	f.BoolVar(&t.MayManage, "manage", false, "it may manage tokens")
	f.StringVar(&expires, "expires", "", "after how long it ends, such as 90d or 12h (default: never)")
	f.StringVar(&format, "format", "text", "text or json")
	group.AddCommand(c)
	return group
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
