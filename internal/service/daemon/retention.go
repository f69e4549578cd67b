package daemon

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/service"
	"grayloft.example/grayloft/internal/service/records"
	"grayloft.example/grayloft/internal/usage"
)

// retentionCommand shows what repositories store, and sets their quota and
// retention.
func retentionCommand(cfg *service.Config) *cobra.Command {
	var repo, quota, shelf string
	days := -1
	c := &cobra.Command{
		Use: "retention", Short: "Show what repositories store, or set the quota and retention of one", Args: usage.NoArgs,
		Example: "  grayloftd retention\n  grayloftd retention --repo skerry --quota 20GB --days 30\n" +
			"  grayloftd retention --repo skerry --shelf 'person/*' --quota 1GB",
		RunE: func(cmd *cobra.Command, _ []string) error {
			bytes := int64(-1)
			if quota != "" {
				var err error
				if bytes, err = size("--quota", quota); err != nil {
					return err
				}
			}
			if shelf != "" && (bytes < 0 || days >= 0) {
				return fmt.Errorf("--shelf sets the quota of shelves: give it with --quota, and without --days")
			}
			return withRecords(cmd.Context(), cfg, func(db *records.DB) error {
				if bytes >= 0 || days >= 0 {
					if repo == "" {
						return fmt.Errorf("name the repository with --repo")
					}
					err := error(nil)
					if shelf != "" {
						err = db.SetShelfQuota(cmd.Context(), repo, shelf, bytes)
					} else {
						err = db.SetRetention(cmd.Context(), repo, bytes, days)
					}
					if err == nil {
						err = db.NoteCommand(cmd.Context(), repo, records.Audit{
							Action: "retention changed", Subject: shelf,
							Detail: records.RetentionChange(bytes, days),
						})
					}
					if err != nil {
						return err
					}
				}
				return printUsage(cmd.Context(), cmd.OutOrStdout(), db, repo)
			})
		},
	}
	c.Flags().StringVar(&repo, "repo", "", "one repository")
	c.Flags().StringVar(&quota, "quota", "", "quota, such as 20GB; 0 for the service's default")
	c.Flags().StringVar(&shelf, "shelf", "", "set the quota of these shelves instead, such as 'person/*': each may hold that much")
	c.Flags().IntVar(&days, "days", -1, "remove its entries that were not used for this many days; 0 for the service's default")
	return c
}

// printUsage lists what repositories store, and the quotas of their shelves.
func printUsage(ctx context.Context, out io.Writer, db *records.DB, repo string) error {
	list, err := db.Usage(ctx)
	if err != nil {
		return err
	}
	w := tabwriter.NewWriter(out, 0, 4, 2, ' ', 0)
	fmt.Fprintln(w, "repository\tentries\tblobs\tbytes\tmarked\truns\tquota\tdays\tshelves")
	for _, u := range list {
		if repo != "" && u.Name != repo {
			continue
		}
		own, err := db.ShelfQuotas(ctx, u.ID)
		if err != nil {
			return err
		}
		shelves := []string{}
		for _, q := range own {
			shelves = append(shelves, fmt.Sprintf("%s %d", q.Pattern, q.Bytes))
		}
		fmt.Fprintf(w, "%s\t%d\t%d\t%d\t%d\t%d\t%s\t%s\t%s\n", u.Name, u.Entries, u.Blobs, u.Bytes, u.MarkedBytes, u.Runs,
			orDefault(u.Quota), orDefault(int64(u.Days)), cmp.Or(strings.Join(shelves, ", "), "-"))
	}
	return w.Flush()
}

func orDefault(n int64) string {
	if n == 0 {
		return "-"
	}
	return strconv.FormatInt(n, 10)
}

// size reads a number of bytes with a unit, in powers of 1,000 or 1,024.
func size(flag, text string) (int64, error) {
	if text == "" {
		return 0, nil
	}
	units := []struct {
		name string
		n    float64
	}{{"KiB", 1 << 10}, {"MiB", 1 << 20}, {"GiB", 1 << 30}, {"TiB", 1 << 40}, {"kB", 1e3}, {"KB", 1e3}, {"MB", 1e6}, {"GB", 1e9}, {"TB",
		1e12}, {"B", 1}, {"", 1}}
	for _, u := range units {
		if num, ok := strings.CutSuffix(text, u.name); ok {
			n, err := strconv.ParseFloat(strings.TrimSpace(num), 64)
			if err != nil || n < 0 || n*u.n > 1e18 {
				break
			}
			return int64(n * u.n), nil
		}
	}
	return 0, fmt.Errorf("%s %q is not a size: write it like 50GB or 500MiB", flag, text)
}
