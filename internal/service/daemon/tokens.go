package daemon

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/service"
	"grayloft.example/grayloft/internal/service/records"
	"grayloft.example/grayloft/internal/usage"
)

func tokens(cfg *service.Config) *cobra.Command {
	group := &cobra.Command{
		Use: "token", Short: "Make, list, rotate and revoke tokens",
		Args: usage.OnlyCommands, RunE: func(cmd *cobra.Command, _ []string) error { return usage.Which(cmd) },
	}
	var t records.Token
	var expires, format string
	c := &cobra.Command{
		Use: "new", Short: "Make a token and print it once", Args: usage.NoArgs,
		Example: "  grayloftd token new --repo skerry --name ci --writes-to trusted --reads-from trusted\n" +
			"  grayloftd token new --repo skerry --name brenna --writes-to person/brenna --reads-from person/brenna,trusted --view " +
			"--request\n" +
			"  grayloftd token new --repo skerry --name north-1 --reads-from trusted --serve linux",
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
			if err == nil {
				err = db.NoteCommand(
					cmd.Context(),
					t.Repository,
					records.Audit{Action: "token made", Subject: t.Name, Detail: records.Rights(t)},
				)
			}
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
	f.StringVar(&t.Repository, "repo", "", "the repository of the token, as in [repo] name")
	f.StringVar(&t.Name, "name", "", "the person or job that uses it")
	f.StringVar(&t.WritesTo, "writes-to", "", "the shelf that it writes to, or a pattern such as branch/* (default: none)")
	f.StringSliceVar(
		(*[]string)(&t.ReadsFrom),
		"reads-from",
		[]string{records.Trusted},
		"the shelves that it reads from; the first one with a result wins",
	)
	f.BoolVar(&t.MayView, "view", false, "right to view records and to sign in to the console")
	f.BoolVar(&t.MayRequest, "request", false, "right to request runs from runners")
	f.StringSliceVar((*[]string)(&t.Serves), "serve", nil, "pools that a runner with this token may serve")
	f.BoolVar(&t.MayManage, "manage", false, "right to manage tokens, quota and retention")
	f.StringVar(&expires, "expires", "", "expiry, such as 90d or 12h from now (default: never)")
	f.StringVar(&format, "format", "text", "text or json")
	group.AddCommand(c, listTokens(cfg), rotateToken(cfg), revokeToken(cfg))
	return group
}

// withRecords opens the records for one operation.
func withRecords(ctx context.Context, cfg *service.Config, ask func(db *records.DB) error) error {
	db, closeDB, err := service.OpenRecords(ctx, *cfg)
	if err != nil {
		return err
	}
	return errors.Join(ask(db), closeDB())
}

func listTokens(cfg *service.Config) *cobra.Command {
	var repo, format string
	c := &cobra.Command{
		Use: "list", Short: "List the tokens of a repository; their secrets are not stored", Args: usage.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return withRecords(cmd.Context(), cfg, func(db *records.DB) error {
				list, err := db.Tokens(cmd.Context(), repo)
				if err != nil {
					return err
				}
				return showTokens(cmd.OutOrStdout(), format, list)
			})
		},
	}
	c.Flags().StringVar(&repo, "repo", "", "the repository, as in [repo] name")
	c.Flags().StringVar(&format, "format", "text", "text or json")
	_ = c.MarkFlagRequired("repo")
	return c
}

func showTokens(out io.Writer, format string, list []records.Token) error {
	if format == "json" {
		type row struct {
			ID        int64      `json:"id"`
			Name      string     `json:"name"`
			PutsOn    string     `json:"writes_to"`
			TakesFrom []string   `json:"reads_from"`
			Look      bool       `json:"view"`
			Request   bool       `json:"request"`
			Serves    []string   `json:"serves"`
			Manage    bool       `json:"manage"`
			Expires   *time.Time `json:"expires"`
		}
		rows := []row{}
		for _, t := range list {
			rows = append(rows, row{t.ID, t.Name, t.WritesTo, t.ReadsFrom, t.MayView, t.MayRequest, t.Serves, t.MayManage, t.ExpiresAt})
		}
		return json.NewEncoder(out).Encode(rows)
	}
	w := tabwriter.NewWriter(out, 0, 4, 2, ' ', 0)
	fmt.Fprintln(w, "id\tname\twrites to\treads from\trights\texpires")
	for _, t := range list {
		ends := "never"
		if t.ExpiresAt != nil {
			ends = t.ExpiresAt.Format(time.DateOnly)
			if t.ExpiresAt.Before(time.Now()) {
				ends += ", over"
			}
		}
		puts := t.WritesTo
		if puts == "" {
			puts = "-"
		}
		fmt.Fprintf(
			w,
			"%d\t%s\t%s\t%s\t%s\t%s\n",
			t.ID,
			t.Name,
			puts,
			strings.Join(t.ReadsFrom, ", "),
			strings.Join(t.OtherRights(), ", "),
			ends,
		)
	}
	return w.Flush()
}

func rotateToken(cfg *service.Config) *cobra.Command {
	var expires string
	var grace time.Duration
	c := &cobra.Command{
		Use: "rotate ID", Short: "Give a token a new secret and print it " +
			"once; the previous one stays valid for a while", Args: usage.Words(1, 1, "the id of a token"),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := tokenID(args[0])
			if err != nil {
				return err
			}
			var at *time.Time
			if expires != "" {
				end, err := expiry(expires, time.Now())
				if err != nil {
					return err
				}
				at = &end
			}
			return withRecords(cmd.Context(), cfg, func(db *records.DB) error {
				secret, err := db.Rotate(cmd.Context(), id, records.Rotation{Grace: grace, Expires: at})
				if err != nil {
					return err
				}
				fmt.Fprintln(cmd.OutOrStdout(), secret)
				return db.NoteTokenCommand(cmd.Context(), id, "token rotated")
			})
		},
	}
	c.Flags().DurationVar(&grace, "grace", time.Hour, "how long the previous secret stays valid")
	c.Flags().StringVar(&expires, "expires", "", "new expiry of the token, such as 90d from now (default: unchanged)")
	return c
}

func revokeToken(cfg *service.Config) *cobra.Command {
	return &cobra.Command{
		Use: "revoke ID", Short: "Revoke a token at once", Args: usage.Words(1, 1, "the id of a token"),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := tokenID(args[0])
			if err != nil {
				return err
			}
			return withRecords(cmd.Context(), cfg, func(db *records.DB) error {
				if err := db.Revoke(cmd.Context(), id); err != nil {
					return err
				}
				return db.NoteTokenCommand(cmd.Context(), id, "token revoked")
			})
		},
	}
}

func tokenID(text string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return 0, fmt.Errorf("%q is not the number of a token: see grayloftd token list", text)
	}
	return id, nil
}
