package cli

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/amount"
	"grayloft.example/grayloft/internal/core/pattern"
	"grayloft.example/grayloft/internal/machine/store"
	"grayloft.example/grayloft/internal/term"
	"grayloft.example/grayloft/internal/usage"
)

func (a *app) cacheCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "cache", Short: "Inspect, trim, verify and share this machine's cache, and withdraw results", Args: onlyCommands,
		RunE: func(cmd *cobra.Command, _ []string) error { return wrong("%v", usage.Which(cmd)) },
	}
	c.AddCommand(a.cacheForget(), a.cacheShare(), a.cacheStats(), a.cacheTrim(), a.cacheVerify())
	return c
}

func (a *app) cacheStats() *cobra.Command {
	return &cobra.Command{
		Use: "stats", Short: "Show the contents of this machine's cache", Args: noArgs,
		RunE: func(*cobra.Command, []string) error {
			st, err := openStore()
			if err != nil {
				return err
			}
			s, err := st.Stats()
			if err != nil {
				return machineFault("%v", err)
			}
			if a.Format == "json" {
				return a.JSON(s)
			}
			fmt.Fprintf(a.Out, "%s on the disk in %s, for %s.\n\n",
				term.Size(s.DiskBytes), s.Dir, amount.Count(s.Entries, "entry", "entries"))
			rows := [][]string{}
			for _, repo := range sortedKeys(s.Repos) {
				rows = append(rows, []string{repo, fmt.Sprint(s.Repos[repo]), term.Size(s.Bytes[repo])})
			}
			if len(rows) > 0 {
				a.Table([]string{"repository", "entries", "outputs"}, rows)
			}
			if s.Segments > 0 {
				fmt.Fprintf(a.Out, "\n%s; the small ones are in %s (%s).\n", amount.Count(s.Blobs, "blob", "blobs"),
					amount.Count(s.Segments, "segment", "segments"), term.Size(s.SegmentBytes))
			}
			if s.Oldest != nil {
				fmt.Fprintf(a.Out, "\nThe least recently used entry was last used %s.\n", term.Clock(*s.Oldest, time.Now()))
			}
			if s.Spooled > 0 {
				fmt.Fprintf(
					a.Out,
					"%s to be sent to a service; the next run tries again.\n",
					amount.Count(s.Spooled, "item waits", "items wait"),
				)
			}
			return nil
		},
	}
}

func (a *app) cacheTrim() *cobra.Command {
	var size, age string
	var dry bool
	c := &cobra.Command{
		Use: "trim", Short: "Delete the least recently used results", Args: noArgs,
		Long: "Deletes entries by size and age, the least recently used first, and then the blobs that no entry names.\n" +
			"Whatever arrived or was used within the last hour stays, so it is safe while tasks run.",
		Example: "  grayloft cache trim --size 5GB --age 30d\n  grayloft cache trim --age 7d --dry-run",
		RunE: func(cmd *cobra.Command, _ []string) error {
			l := store.Limits{Dry: dry}
			var err error
			if l.Bytes, err = parseSize(size); err != nil {
				return wrong("--size: %v", err)
			}
			if l.Age, err = parseAge(age); err != nil {
				return wrong("--age: %v", err)
			}
			if l.Bytes == 0 && l.Age == 0 {
				return wrong("cache trim needs --size (such as 5GB), --age (such as 30d), or both")
			}
			st, err := openStore()
			if err != nil {
				return err
			}
			t, err := st.Trim(cmd.Context(), l, time.Now())
			if err != nil {
				return machineFault("%v", err)
			}
			if a.Format == "json" {
				return a.JSON(t)
			}
			fmt.Fprintf(a.Out, "%s %s and %s of %s; %s left.\n", orElse(dry, "Would delete", "Deleted"),
				amount.Count(t.Entries, "entry", "entries"), amount.Count(t.Blobs, "blob", "blobs"), term.Size(t.Bytes), term.Size(t.Left))
			return nil
		},
	}
	c.Flags().StringVar(&size, "size", "", "how much room on the disk to keep, such as 5GB")
	c.Flags().StringVar(&age, "age", "", "delete what was not used for this long, such as 30d or 12h")
	c.Flags().BoolVar(&dry, "dry-run", false, "show what would be deleted, but delete nothing")
	return c
}

func (a *app) cacheVerify() *cobra.Command {
	return &cobra.Command{
		Use: "verify", Short: "Read everything in this machine's cache, and delete what is damaged", Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			st, err := openStore()
			if err != nil {
				return err
			}
			read, damaged, err := st.Verify(cmd.Context(), nil)
			if err != nil {
				return machineFault("%v", err)
			}
			if a.Format == "json" {
				names := []string{}
				for _, d := range damaged {
					names = append(names, d.String())
				}
				if err := a.JSON(map[string]any{"read": read, "damaged": names}); err != nil {
					return err
				}
			} else if len(damaged) == 0 {
				fmt.Fprintf(a.Out, "Read %s; none is damaged.\n", amount.Count(read, "blob", "blobs"))
			} else {
				fmt.Fprintf(a.Out, "Read %s; deleted %s. What is needed is fetched or made again.\n",
					amount.Count(read, "blob", "blobs"), amount.Count(len(damaged), "damaged one", "damaged ones"))
			}
			if len(damaged) > 0 {
				return errFailed
			}
			return nil
		},
	}
}

var sizeForm = pattern.New(`^([0-9]+(?:\.[0-9]+)?)\s*([kKMGT]?)(i?)B?$`)

// parseSize reads a size: 5GB, 500 MB, 2GiB, or a number of bytes.
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
		return 0, fmt.Errorf("%q is not a positive size", s)
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

// parseAge reads a duration: 30d, 2w, or Go's form (12h).
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
		return 0, fmt.Errorf("%q is not a duration: write it like 30d, 2w or 12h", s)
	}
	return d, nil
}
