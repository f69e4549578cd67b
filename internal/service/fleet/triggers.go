package fleet

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"path"
	"slices"

	"github.com/robfig/cron/v3"
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/records"
)

// Trigger is what the service requests by itself: after a push, or by a schedule.
type Trigger struct {
	Repository string
	Name       string       // of whoever requests it
	Ask        protocol.Ask // without a revision
	Branches   []string     // of a push: branches, or patterns such as release/*
	Secret     string       // of a push: by which its sender signs it
	Branch     string       // of a schedule
	Cron       string       // of a schedule: minute, hour, day of the month, month, day of the week (crontab(5)), in UTC
}

// Check refuses what cannot be carried out.
func (t Trigger) Check() error {
	switch {
	case t.Repository == "" || t.Name == "":
		return errors.New("it needs a repo and a name")
	case t.Cron == "" && t.Secret == "":
		return errors.New("it needs a cron, or the secret_file of pushes")
	case t.Cron != "" && t.Branch == "":
		return errors.New("a schedule needs a branch")
	case t.Cron == "" && len(t.Branches) == 0:
		return errors.New("a push needs branches")
	}
	if t.Cron != "" {
		if _, err := cron.ParseStandard(t.Cron); err != nil {
			return fmt.Errorf("cron %q: %w", t.Cron, err)
		}
	}
	for _, b := range t.Branches {
		if _, err := path.Match(b, ""); err != nil {
			return fmt.Errorf("branches: %q is not a pattern", b)
		}
	}
	if t.Secret != "" {
		if _, err := standardwebhooks.NewWebhook(t.Secret); err != nil {
			return fmt.Errorf("its secret must be base64 after \"whsec_\": %w", err)
		}
	}
	a := t.Ask
	a.Branch = "any"
	return check(a, false)
}

// Signed tells whether a push was signed with the trigger's secret, after the Standard
// Webhooks specification.
func (t Trigger) Signed(body []byte, header http.Header) bool {
	w, err := standardwebhooks.NewWebhook(t.Secret)
	return err == nil && t.Secret != "" && w.Verify(body, header) == nil
}

// Wants tells whether a push to a branch starts a run.
func (t Trigger) Wants(branch string) bool {
	return slices.ContainsFunc(t.Branches, func(pattern string) bool {
		ok, err := path.Match(pattern, branch)
		return err == nil && ok
	})
}

// Launch requests what a trigger says, of the newest commit of a branch or of a given one,
// once for each source.
func (f *Fleet) Launch(ctx context.Context, t Trigger, o Origin, branch, commit string) (protocol.RequestMade, error) {
	repository, err := f.DB.RepositoryID(ctx, t.Repository)
	if err != nil {
		return protocol.RequestMade{}, err
	}
	a := t.Ask
	a.Branch, a.Commit = branch, commit
	who := records.Token{RepositoryID: repository, Repository: t.Repository, Name: t.Name, WritesTo: "branch/*"}
	return f.Make(ctx, who, o, a)
}

// Origin says what made a request.
type Origin struct {
	Kind   string // see [protocol.Request]
	Source string // at most one request has it; empty: any number
}
