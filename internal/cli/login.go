package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"grayloft.example/grayloft/internal/remote"
)

// attached is a service that a person has attached for a repository.
type savedLogin struct {
	URL   string `json:"url"`
	Token string `json:"token"`
}

// attachments are kept per person, by the repository's name, in a file that
// only they can read.
type savedLogins struct {
	Version int                   `json:"v"`
	Repos   map[string]savedLogin `json:"repos"`
}

// attachmentsFile is where they are kept; GRAYLOFT_CONFIG names another
// directory.
func loginsFile() (string, error) {
	dir := os.Getenv("GRAYLOFT_CONFIG")
	if dir == "" {
		base, err := os.UserConfigDir()
		if err != nil {
			return "", fmt.Errorf("no directory for settings: %w: set GRAYLOFT_CONFIG", err)
		}
		dir = filepath.Join(base, "grayloft")
	}
	return filepath.Join(dir, "services.json"), nil
}

func readLogins() (savedLogins, error) {
	at := savedLogins{Version: 1, Repos: map[string]savedLogin{}}
	file, err := loginsFile()
	if err != nil {
		return at, err
	}
	data, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return at, nil
	}
	if err != nil {
		return at, err
	}
	if err := json.Unmarshal(data, &at); err != nil || at.Version != 1 {
		return at, fmt.Errorf("%s is damaged or of another version: move it away and attach again", file)
	}
	return at, nil
}

func (at savedLogins) save() error {
	file, err := loginsFile()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	data, err := json.MarshalIndent(at, "", "  ")
	if err != nil {
		return err
	}
	// Nobody else may read it for a moment either.
	if err := os.WriteFile(file+".new", nil, 0o600); err != nil {
		return err
	}
	if err := os.Chmod(file+".new", 0o600); err != nil {
		return err
	}
	if err := os.WriteFile(file+".new", append(data, '\n'), 0o600); err != nil {
		return err
	}
	return os.Rename(file+".new", file)
}

func (a *app) loginCommand() *cobra.Command {
	var rotate bool
	c := &cobra.Command{
		Use: "attach URL", Short: "Remember a service and a token for this repository and this person",
		Long: "Asks the service whether it knows the token, and remembers both for this person and this repository.\n" +
			"The token is read from standard input, or from GRAYLOFT_TOKEN; it never stands in a command line.",
		Example: "  grayloft login http://127.0.0.1:7420\n  echo \"$TOKEN\" | grayloft login http://127.0.0.1:7420",
		Args: func(_ *cobra.Command, args []string) error {
			if rotate && len(args) == 0 {
				return nil
			}
			if len(args) != 1 || rotate {
				return exit{exitWrong, "grayloft: attach wants the address of a service: grayloft login http://127.0.0.1:7420"}
			}
			if !strings.HasPrefix(args[0], "http://") && !strings.HasPrefix(args[0], "https://") {
				return exit{exitWrong, fmt.Sprintf("grayloft: %q is not the address of a service: write it like http://127.0.0.1:7420", args[0])}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if rotate {
				return a.rotate(cmd.Context())
			}
			return a.login(cmd.Context(), strings.TrimSuffix(args[0], "/"))
		},
	}
	c.Flags().BoolVar(&rotate, "rotate", false, "ask the attached service for a new token in place of the one that is kept; the old one goes on for an hour")
	return c
}

// rotate changes the token that is kept for a new one with the same rights.
func (a *app) rotate(ctx context.Context) error {
	r, err := a.load(ctx)
	if err != nil {
		return err
	}
	at, err := readLogins()
	if err != nil {
		return exit{exitFailed, "grayloft: " + err.Error()}
	}
	name := r.graph.Repo.Name
	have, ok := at.Repos[name]
	if !ok {
		return exit{exitWrong, fmt.Sprintf("grayloft: %s is attached to no service, so there is no token to change", name)}
	}
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	got, err := remote.New(have.URL, name, have.Token, nil).Rotate(ctx)
	if err != nil {
		return exit{exitFailed, fmt.Sprintf("grayloft: the service at %s gave no new token: %v. The old one is kept", have.URL, err)}
	}
	at.Repos[name] = savedLogin{have.URL, got.Token}
	if err := at.save(); err != nil {
		return exit{exitFailed, "grayloft: the new token could not be kept: " + err.Error() + ". The old one works until " + got.OldUntil.Local().Format("15:04")}
	}
	fmt.Fprintf(a.out, "%s has a new token. The old one works until %s.\n", name, got.OldUntil.Local().Format("15:04"))
	return nil
}

func (a *app) login(ctx context.Context, url string) error {
	r, err := a.load(ctx)
	if err != nil {
		return err
	}
	token, err := a.readToken()
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	client := remote.New(url, r.graph.Repo.Name, token, nil)
	said := ""
	client.Warn = func(s string) { said = s }
	self, err := client.WhoAmI(ctx)
	if err != nil {
		if said == "" {
			said = "the service at " + url + ": " + err.Error()
		}
		return exit{exitFailed, "grayloft: " + strings.TrimSuffix(said, "; going on with this machine's cache alone") + ". Nothing was remembered"}
	}
	at, err := readLogins()
	if err != nil {
		return exit{exitFailed, "grayloft: " + err.Error()}
	}
	at.Repos[r.graph.Repo.Name] = savedLogin{url, token}
	if err := at.save(); err != nil {
		return exit{exitFailed, "grayloft: remembering the service: " + err.Error()}
	}
	file, _ := loginsFile()
	if a.format == "json" {
		return a.json(map[string]any{"url": url, "repo": self.Repo, "name": self.Name, "writes_to": self.WritesTo, "reads_from": self.ReadsFrom, "expires": self.Expires, "kept_in": file})
	}
	fmt.Fprintf(a.out, "Attached to %s as %s: puts on %s, takes from %s.\n", url, self.Name, orNone(self.WritesTo), orNone(strings.Join(self.ReadsFrom, ", ")))
	if self.Expires != nil {
		fmt.Fprintf(a.out, "The token expires on %s.\n", self.Expires.Local().Format("2 January 2006"))
	}
	fmt.Fprintf(a.out, "Kept in %s, for %s alone. GRAYLOFT_TOKEN goes before it; grayloft logout forgets it.\n", file, r.graph.Repo.Name)
	return nil
}

// readToken takes the token from the environment, from what is piped in, or
// from a person, without showing it.
func (a *app) readToken() (string, error) {
	if t := os.Getenv("GRAYLOFT_TOKEN"); t != "" {
		return t, nil
	}
	var text []byte
	var err error
	if fd := int(os.Stdin.Fd()); term.IsTerminal(fd) {
		fmt.Fprint(a.err, "Token: ")
		text, err = term.ReadPassword(fd)
		fmt.Fprintln(a.err)
	} else {
		text, err = io.ReadAll(io.LimitReader(a.in, 4096))
	}
	token := strings.TrimSpace(string(text))
	if err != nil || token == "" {
		return "", exit{exitWrong, "grayloft: no token: pipe it in, or set GRAYLOFT_TOKEN; grayloftd token new makes one"}
	}
	return token, nil
}

func (a *app) logoutCommand() *cobra.Command {
	return &cobra.Command{
		Use: "logout", Short: "Forget the service and the token of this repository", Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			r, err := a.load(cmd.Context())
			if err != nil {
				return err
			}
			at, err := readLogins()
			if err != nil {
				return exit{exitFailed, "grayloft: " + err.Error()}
			}
			have, ok := at.Repos[r.graph.Repo.Name]
			if !ok {
				fmt.Fprintf(a.out, "%s is attached to no service.\n", r.graph.Repo.Name)
				return nil
			}
			delete(at.Repos, r.graph.Repo.Name)
			if err := at.save(); err != nil {
				return exit{exitFailed, "grayloft: " + err.Error()}
			}
			fmt.Fprintf(a.out, "Forgot %s and its token. The token still works: whoever manages tokens can revoke it.\n", have.URL)
			return nil
		},
	}
}

// service returns the address and the token that hold for a repository: the
// environment first, then what was attached, the address also from the
// declarations.
func (a *app) service(r *repository) (url, token string) {
	url, token = os.Getenv("GRAYLOFT_SERVICE"), os.Getenv("GRAYLOFT_TOKEN")
	if url != "" && token != "" {
		return url, token
	}
	at, err := readLogins()
	if err != nil {
		fmt.Fprintf(a.err, "warning: %v\n", err)
	}
	kept := at.Repos[r.graph.Repo.Name]
	if url == "" {
		url = orElse(kept.URL != "", kept.URL, r.graph.Repo.ServiceURL)
	}
	if token == "" && kept.URL == strings.TrimSuffix(url, "/") { // a token is for the service that it was given to
		token = kept.Token
	}
	return url, token
}
