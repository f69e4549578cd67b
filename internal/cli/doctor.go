package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/amount"
	"grayloft.example/grayloft/internal/machine/inspect"
	"grayloft.example/grayloft/internal/machine/process"
	"grayloft.example/grayloft/internal/machine/sandbox"
	"grayloft.example/grayloft/internal/machine/store"
	"grayloft.example/grayloft/internal/remote"
)

// checked is the result of one check by doctor.
type checked struct {
	What string `json:"what"`
	OK   bool   `json:"ok"`
	Said string `json:"said"`
	Fix  string `json:"fix,omitempty"`
}

func (a *app) doctorCommand() *cobra.Command {
	return &cobra.Command{
		Use: "doctor", Short: "Show what Gray Loft can do on this machine, and what prevents more", Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			list := a.examine(cmd.Context())
			bad := false
			for _, c := range list {
				bad = bad || !c.OK
			}
			if a.Format == "json" {
				if err := a.JSON(list); err != nil {
					return err
				}
			} else {
				for _, c := range list {
					mark := "✓"
					if !c.OK {
						mark = "✕"
					}
					fmt.Fprintf(a.Out, "%s %-13s %s\n", mark, c.What, c.Said)
					if c.Fix != "" {
						fmt.Fprintf(a.Out, "  %-13s %s\n", "", a.Soft(c.Fix))
					}
				}
			}
			if bad {
				return errFailed
			}
			return nil
		},
	}
}

func (a *app) examine(ctx context.Context) []checked {
	var out []checked
	add := func(what string, err error, said, fix string) {
		c := checked{what, err == nil, said, ""}
		if err != nil {
			c.Said, c.Fix = err.Error(), fix
		}
		out = append(out, c)
	}
	version, err := exec.CommandContext(ctx, "git", "version").Output()
	add("git", err, strings.TrimSpace(string(version)), "install git: Gray Loft finds files and changes with it")
	dir, err := store.DefaultDir()
	var st *store.Store
	if err == nil {
		if st, err = store.Open(dir); err == nil {
			_, err = st.Put([]byte("doctor\n"))
		}
	}
	add("cache", err, dir, "set GRAYLOFT_CACHE to a writable directory, or free space with grayloft cache trim")
	tmp, err := os.MkdirTemp("", "grayloft-doctor-")
	if err == nil {
		defer os.RemoveAll(tmp)
		able := sandbox.Able(filepath.Clean(tmp))
		said := "enforced: " + able.String()
		if lacks := able.Lacks(false); len(lacks) > 0 {
			said += "; outputs of such tasks stay on this machine"
		}
		add("sealed tasks", nil, said, "")
	}
	add("killed runs", nil, "processes of tasks that are ended if this client is killed: "+process.Reach(), "")
	add(
		"traced",
		inspect.CanTrace(),
		"strace is installed",
		"traced tasks run, but their outputs stay on this machine; grayloft drift does not work",
	)
	r, err := a.load(ctx)
	if err != nil {
		advice, said := apart(err)
		if strings.Contains(advice, "\n") {
			advice = "grayloft projects lists all errors"
		}
		add("repository", said, "", advice)
		return out
	}
	advice, said := apart(r.git.Check(ctx))
	add(
		"repository",
		said,
		fmt.Sprintf(
			"%s: %s, %s",
			r.graph.Repo.Name,
			amount.Count(len(r.graph.Projects), "project", "projects"),
			amount.Count(len(r.graph.Tasks), "task", "tasks"),
		),
		strings.Join(strings.Fields(advice), " "),
	)
	return append(out, a.examineService(ctx, r, st))
}

// apart divides an error into its first line and what it advises below that.
func apart(err error) (advice string, said error) {
	if err == nil {
		return "", nil
	}
	first, rest, _ := strings.Cut(strings.TrimPrefix(err.Error(), "grayloft: "), "\n")
	return strings.Trim(rest, "\n"), errors.New(first)
}

func (a *app) examineService(ctx context.Context, r *repository, st *store.Store) checked {
	url, token := a.service(r)
	switch {
	case url == "":
		return checked{"service", true, "none: only this machine's cache", ""}
	case token == "":
		return checked{"service", false, url + ", but no token for it", "grayloft login " + url}
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	client := remote.New(url, r.graph.Repo.Name, token, st)
	began := time.Now()
	self, err := client.WhoAmI(ctx)
	if err != nil {
		return checked{
			"service",
			false,
			"the service at " + url + " " + remote.Explain(err),
			"runs work without it; grayloft login changes the address or the token",
		}
	}
	text := fmt.Sprintf(
		"%s answers in %d ms; %s writes to %s, reads from %s",
		url,
		time.Since(began).Milliseconds(),
		self.Name,
		orNone(self.WritesTo),
		orNone(strings.Join(self.ReadsFrom, ", ")),
	)
	if self.Expires != nil {
		text += ", until " + self.Expires.Local().Format("2 January 2006")
	}
	return checked{"service", true, text, ""}
}
