package cli

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/machine/store"
)

func (a *app) cacheCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "cache", Short: "Look at, trim and verify this machine's cache", Args: noArgs,
		RunE: func(*cobra.Command, []string) error {
			return exit{exitWrong, "grayloft: cache stats, cache trim or cache verify?"}
		},
	}
	c.AddCommand(a.cacheStats(), a.cacheTrim(), a.cacheVerify())
	return c
}

func openStore() (*store.Store, error) {
	dir, err := store.DefaultDir()
	if err != nil {
		return nil, err
	}
	return store.Open(dir)
}

func (a *app) cacheStats() *cobra.Command {
	return &cobra.Command{
		Use: "stats", Short: "Say what this machine's cache holds", Args: noArgs,
		RunE: func(*cobra.Command, []string) error {
			st, err := openStore()
			if err != nil {
				return err
			}
			s, err := st.Stats()
			if err != nil {
				return exit{exitFailed, "grayloft: " + err.Error()}
			}
			if a.format == "json" {
				return a.json(s)
			}
			fmt.Fprintf(a.out, "%s in %s, for %s.\n\n", bytesText(s.BlobBytes), s.Dir, counted(s.Entries, "entry", "entries"))
			rows := [][]string{}
			for _, repo := range sortedKeys(s.Repos) {
				rows = append(rows, []string{repo, fmt.Sprint(s.Repos[repo]), bytesText(s.Bytes[repo])})
			}
			if len(rows) > 0 {
				a.table([]string{"repository", "entries", "outputs"}, rows)
			}
			if s.Oldest != nil {
				fmt.Fprintf(a.out, "\nWhat was not used for longest was last used %s.\n", clock(*s.Oldest, time.Now()))
			}
			if s.Spooled > 0 {
				fmt.Fprintf(a.out, "%s to be sent to a service; the next run tries again.\n", counted(s.Spooled, "thing waits", "things wait"))
			}
			return nil
		},
	}
}

func (a *app) cacheTrim() *cobra.Command {
	var size, age string
	var dry bool
	c := &cobra.Command{
		Use: "trim", Short: "Take away what was used least recently", Args: noArgs,
		Long:    "Takes away entries by size and age, those that were used least recently first, and the blobs that nothing\nis left to name. What came or was used within the last hour stays: it is safe beside running work.",
		Example: "  grayloft cache trim --size 5GB --age 30d\n  grayloft cache trim --age 7d --dry-run",
		RunE: func(cmd *cobra.Command, _ []string) error {
			l := store.Limits{Dry: dry}
			var err error
			if l.Bytes, err = parseSize(size); err != nil {
				return exit{exitWrong, "grayloft: --size: " + err.Error()}
			}
			if l.Age, err = parseAge(age); err != nil {
				return exit{exitWrong, "grayloft: --age: " + err.Error()}
			}
			if l.Bytes == 0 && l.Age == 0 {
				return exit{exitWrong, "grayloft: cache trim wants --size (such as 5GB), --age (such as 30d), or both"}
			}
			st, err := openStore()
			if err != nil {
				return err
			}
			t, err := st.Trim(cmd.Context(), l, time.Now())
			if err != nil {
				return exit{exitFailed, "grayloft: " + err.Error()}
			}
			if a.format == "json" {
				return a.json(t)
			}
			fmt.Fprintf(a.out, "%s %s and %s of %s; %s left.\n", orElse(dry, "Would take away", "Took away"),
				counted(t.Entries, "entry", "entries"), counted(t.Blobs, "blob", "blobs"), bytesText(t.Bytes), bytesText(t.Left))
			return nil
		},
	}
	c.Flags().StringVar(&size, "size", "", "how much may be left, such as 5GB")
	c.Flags().StringVar(&age, "age", "", "take away what was not used for so long, such as 30d or 12h")
	c.Flags().BoolVar(&dry, "dry-run", false, "say what would go, and leave it")
	return c
}

func (a *app) cacheVerify() *cobra.Command {
	return &cobra.Command{
		Use: "verify", Short: "Read everything in this machine's cache, and take away what is damaged", Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			st, err := openStore()
			if err != nil {
				return err
			}
			read, damaged, err := st.Verify(cmd.Context(), nil)
			if err != nil {
				return exit{exitFailed, "grayloft: " + err.Error()}
			}
			if a.format == "json" {
				names := []string{}
				for _, d := range damaged {
					names = append(names, d.String())
				}
				if err := a.json(map[string]any{"read": read, "damaged": names}); err != nil {
					return err
				}
			} else if len(damaged) == 0 {
				fmt.Fprintf(a.out, "Read %s; all are what their names say.\n", counted(read, "blob", "blobs"))
			} else {
				fmt.Fprintf(a.out, "Read %s; %s damaged and taken away. What needs them is fetched or made again.\n", counted(read, "blob", "blobs"), counted(len(damaged), "was", "were"))
			}
			if len(damaged) > 0 {
				return exit{exitFailed, ""}
			}
			return nil
		},
	}
}

var sizeForm = regexp.MustCompile(`^([0-9]+(?:\.[0-9]+)?)\s*([kKMGT]?)(i?)B?$`)

// parseSize reads a size: 5GB, 500 MB, 2GiB, or bytes alone.
func parseSize(s string) (int64, error) {
	if s == "" {
		return 0, nil
	}
	m := sizeForm.FindStringSubmatch(strings.TrimSpace(s))
	if m == nil {
		return 0, fmt.Errorf("%q is not a size: write it like 5GB or 500MB", s)
	}
	n, err := strconv.ParseFloat(m[1], 64)
	if err != nil || n <= 0 {
		return 0, fmt.Errorf("%q is not a size from 1", s)
	}
	unit := 1000.0
	if m[3] != "" {
		unit = 1024
	}
	for range power(m[2]) {
		n *= unit
	}
	return int64(n), nil
}

func power(prefix string) int {
	if prefix == "" {
		return 0
	}
	return strings.Index("KMGT", strings.ToUpper(prefix)) + 1
}

// parseAge reads a length of time: 30d, 2w, or what Go writes (12h).
func parseAge(s string) (time.Duration, error) {
	if s == "" {
		return 0, nil
	}
	for _, u := range []struct {
		end  string
		days int
	}{{"d", 1}, {"w", 7}} {
		if n, ok := strings.CutSuffix(s, u.end); ok {
			days, err := strconv.Atoi(n)
			if err == nil && days > 0 {
				return time.Duration(days*u.days) * 24 * time.Hour, nil
			}
		}
	}
	d, err := time.ParseDuration(s)
	if err != nil || d <= 0 {
		return 0, fmt.Errorf("%q is not a length of time: write it like 30d, 2w or 12h", s)
	}
	return d, nil
}
