package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/google/renameio/v2/maybe"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"grayloft.example/grayloft/internal/remote"
)

// savedLogin is a service and a token that a person uses for a repository.
type savedLogin struct {
	URL   string `json:"url"`
	Token string `json:"token"`
}

// savedLogins are stored per person, by the repository's name, in a file that
// only this person can read.
type savedLogins struct {
	Version int                   `json:"v"`
	Repos   map[string]savedLogin `json:"repos"`
}

// loginsFile is the path of that file; GRAYLOFT_CONFIG names another directory.
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
		return at, fmt.Errorf("%s is damaged or of another version: move it away and run grayloft login again", file)
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
	return maybe.WriteFile(file, append(data, '\n'), 0o600) // nobody else can read it, not even for a moment
}

func (a *app) loginCommand() *cobra.Command {
	var rotate bool
	c := &cobra.Command{
		Use: "login URL", Short: "Remember a service and a token for this repository and this person",
		Long: "Asks the service whether it knows the token, and remembers both for this person and this repository.\n" +
			"The token is read from standard input or from GRAYLOFT_TOKEN; it never appears in a command line.",
		Example: "  grayloft login http://127.0.0.1:7420\n  echo \"$TOKEN\" | grayloft login http://127.0.0.1:7420",
		Args: func(_ *cobra.Command, args []string) error {
			if rotate && len(args) == 0 {
				return nil
			}
			if len(args) != 1 || rotate {
				return wrong("login needs the address of a service: grayloft login http://127.0.0.1:7420")
			}
			if !isAddress(args[0]) {
				return wrong("%q is not the address of a service: write it like http://127.0.0.1:7420", args[0])
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
	c.Flags().BoolVar(&rotate, "rotate", false, "ask the remembered service for a new token; the old one stays valid for an hour")
	return c
}

// rotate replaces the remembered token by a new one with the same rights.
func (a *app) rotate(ctx context.Context) error {
	r, err := a.load(ctx)
	if err != nil {
		return err
	}
	at, err := readLogins()
	if err != nil {
		return machineFault("%v", err)
	}
	name := r.graph.Repo.Name
	have, ok := at.Repos[name]
	if !ok {
		return wrong("no service is remembered for %s, so there is no token to rotate", name)
	}
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	got, err := remote.New(have.URL, name, have.Token, nil).Rotate(ctx)
	if err != nil {
		return machineFault("the service at %s did not issue a new token: %v. The old one is still in use", have.URL, err)
	}
	at.Repos[name] = savedLogin{have.URL, got.Token}
	if err := at.save(); err != nil {
		return machineFault(
			"the new token could not be saved: %v. The old one is valid until %s",
			err,
			got.OldUntil.Local().Format("15:04"),
		)
	}
	fmt.Fprintf(a.Out, "%s has a new token. The old one is valid until %s.\n", name, got.OldUntil.Local().Format("15:04"))
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
	self, err := client.WhoAmI(ctx)
	if err != nil {
		code := exitMachine
		if remote.IsRefusal(err) {
			code = exitWrong
		}
		return exit{code, fmt.Sprintf("grayloft: the service at %s %s. Nothing was remembered", url, remote.Explain(err))}
	}
	at, err := readLogins()
	if err != nil {
		return machineFault("%v", err)
	}
	at.Repos[r.graph.Repo.Name] = savedLogin{url, token}
	if err := at.save(); err != nil {
		return machineFault("remembering the service: %v", err)
	}
	file, _ := loginsFile()
	if a.Format == "json" {
		return a.JSON(
			map[string]any{
				"url":        url,
				"repo":       self.Repo,
				"name":       self.Name,
				"writes_to":  self.WritesTo,
				"reads_from": self.ReadsFrom,
				"expires":    self.Expires,
				"kept_in":    file,
			},
		)
	}
	fmt.Fprintf(
		a.Out,
		"Logged in to %s as %s: writes to %s, reads from %s.\n",
		url,
		self.Name,
		orNone(self.WritesTo),
		orNone(strings.Join(self.ReadsFrom, ", ")),
	)
	if self.Expires != nil {
		fmt.Fprintf(a.Out, "The token expires on %s.\n", self.Expires.Local().Format("2 January 2006"))
	}
	a.mentionEarlier(r)
	fmt.Fprintf(
		a.Out,
		"Saved in %s, for %s only. GRAYLOFT_TOKEN takes precedence over it; grayloft logout deletes it.\n",
		file,
		r.graph.Repo.Name,
	)
	return nil
}

// readToken takes the token from the environment, from a pipe, or from a
// person, without showing it.
func (a *app) readToken() (string, error) {
	if a.token != "" {
		return a.token, nil
	}
	var text []byte
	var err error
	if fd := int(os.Stdin.Fd()); term.IsTerminal(fd) {
		fmt.Fprint(a.Err, "Token: ")
		text, err = term.ReadPassword(fd)
		fmt.Fprintln(a.Err)
	} else {
		text, err = io.ReadAll(io.LimitReader(a.in, 4096))
	}
	token := strings.TrimSpace(string(text))
	if err != nil || token == "" {
		return "", wrong("there is no token: pipe it in, or set GRAYLOFT_TOKEN; grayloftd token new makes one")
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
				return machineFault("%v", err)
			}
			have, ok := at.Repos[r.graph.Repo.Name]
			if !ok {
				fmt.Fprintf(a.Out, "No service is remembered for %s.\n", r.graph.Repo.Name)
				return nil
			}
			delete(at.Repos, r.graph.Repo.Name)
			if err := at.save(); err != nil {
				return machineFault("%v", err)
			}
			fmt.Fprintf(a.Out, "Forgot %s and its token. The token is still valid: a person who manages tokens can revoke it.\n", have.URL)
			return nil
		},
	}
}

// tokenVar is the variable with a token; it is hidden from everything that the
// client starts.
const tokenVar = "GRAYLOFT_TOKEN"

// service returns the address and the token to use for a repository. A token is
// sent only to the address that it was given for, by a person: by login, or in
// GRAYLOFT_SERVICE beside GRAYLOFT_TOKEN. What the repository declares only says
// where to log in. A declared address that is not used is explained.
func (a *app) service(r *repository) (url, token string) {
	given := strings.TrimSuffix(os.Getenv("GRAYLOFT_SERVICE"), "/")
	at, err := readLogins()
	if err != nil {
		fmt.Fprintf(a.Err, "warning: %v\n", err)
	}
	kept := at.Repos[r.graph.Repo.Name]
	declared := strings.TrimSuffix(r.graph.Repo.ServiceURL, "/")
	switch {
	case given != "" && !isAddress(given):
		a.explain(fmt.Sprintf("GRAYLOFT_SERVICE is %q, which is not an address: write it like http://127.0.0.1:7420; "+
			"until then no service is used", given))
		return "", ""
	case given != "" && a.token != "":
		return given, a.token
	case given != "" && kept.URL == given:
		return given, kept.Token
	case given != "":
		return given, ""
	case kept.URL == "" && a.token == "":
		return declared, ""
	case kept.URL == "" && declared == "":
		a.explain("GRAYLOFT_TOKEN is set, but not the address that it is for: set GRAYLOFT_SERVICE as well; until then no service is used")
		return "", ""
	case kept.URL == "":
		a.explain("GRAYLOFT_TOKEN is sent only to an address that is given with it, not to the one that the repository declares. " +
			"Set GRAYLOFT_SERVICE=" + declared + " if that service may have the token; " +
			"until then no service is used")
		return "", ""
	}
	if declared != "" && declared != kept.URL {
		a.explain("the repository declares the service " + declared + ", but you are logged in to " + kept.URL +
			", which is used. If the service has moved: grayloft login " + declared)
	}
	return kept.URL, orElse(a.token != "", a.token, kept.Token)
}

// explain prints a warning about the service, once.
func (a *app) explain(sentence string) {
	if !a.explained {
		fmt.Fprintf(a.Err, "warning: %s\n", sentence)
	}
	a.explained = true
}

// isAddress tells whether a text can be the address of a service.
func isAddress(text string) bool {
	at, err := url.Parse(text)
	return err == nil && (at.Scheme == "http" || at.Scheme == "https") && at.Host != ""
}
