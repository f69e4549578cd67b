package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"

	"github.com/spf13/cobra"

	"grayloft.example/grayloft/internal/core/amount"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/inspect"
	"grayloft.example/grayloft/internal/machine/transfer"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/term"
)

type outputsJSON struct {
	Task    string          `json:"task"`
	Listing digest.Digest   `json:"listing"`
	From    string          `json:"from"` // where the listing comes from, for people
	Outputs []outputRowJSON `json:"outputs"`
}

type outputRowJSON struct {
	Path   string `json:"path"`
	Kind   string `json:"kind"` // file, executable, link or directory
	Size   int64  `json:"size"`
	Digest string `json:"digest,omitempty"`
	Target string `json:"target,omitempty"` // of a link
}

func (a *app) outputsCommand() *cobra.Command {
	var run, to string
	c := &cobra.Command{
		Use: "outputs TASK", Short: "List a task's outputs with sizes and digests, or copy them out",
		Example: "  grayloft outputs package@booking\n  grayloft outputs package@booking --run 06gt --to /tmp/package",
		Args:    words(1, 1, "one task, such as build@fares"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			r, err := a.load(ctx)
			if err != nil {
				return err
			}
			t, err := a.oneTask(ctx, r, "outputs", args[0])
			if err != nil {
				return err
			}
			s, err := a.open(ctx, r, false)
			if err != nil {
				return err
			}
			defer s.Close()
			return a.outputs(ctx, s, t, run, to)
		},
	}
	c.Flags().
		StringVar(&run, "run", "", "the outputs of this run instead of the last one: of this checkout, or one that the service recorded")
	c.Flags().StringVar(&to, "to", "", "copy them into this directory, which must be empty or new")
	return c
}

func (a *app) outputs(ctx context.Context, s *session, t *graph.Task, run, to string) error {
	d, from, err := a.listingOf(ctx, s, t, run)
	if err != nil {
		return err
	}
	list, err := s.readListing(ctx, d)
	if err != nil {
		return machineFault("the list of the outputs of %s is no longer available: %v", t.Addr(), err)
	}
	if to != "" {
		if err := s.copyOut(ctx, list, to); err != nil {
			return err
		}
	}
	if a.Format == "json" {
		return a.JSON(outputsDocument(t, d, from, list))
	}
	if len(list) == 0 {
		fmt.Fprintf(a.Out, "%s has no outputs (%s).\n", t.Addr(), from)
		return nil
	}
	fmt.Fprintf(a.Out, "%s of %s, %s (%s).\n\n", amount.Count(len(list), "output", "outputs"), t.Addr(), term.Size(list.Bytes()), from)
	rows := [][]string{}
	for _, o := range outputsDocument(t, d, from, list).Outputs {
		what := term.Size(o.Size)
		if o.Target != "" {
			what = "→ " + o.Target
		}
		rows = append(rows, []string{o.Path, o.Kind, what, o.Digest[:min(len(o.Digest), 16)]})
	}
	a.Table([]string{"path", "kind", "size", "digest"}, rows)
	if to != "" {
		fmt.Fprintf(a.Out, "\nCopied to %s.\n", to)
	}
	return nil
}

func outputsDocument(t *graph.Task, d digest.Digest, from string, list listing.List) outputsJSON {
	out := outputsJSON{Task: t.Addr(), Listing: d, From: from, Outputs: []outputRowJSON{}}
	kinds := map[listing.Kind]string{
		listing.File:              "file",
		listing.Executable:        "executable",
		listing.PrivateFile:       "private file",
		listing.PrivateExecutable: "private executable",
		listing.Link:              "link",
		listing.EmptyDir:          "directory",
	}
	for _, r := range list {
		row := outputRowJSON{Path: path.Join(t.Project.Dir, r.Path), Kind: kinds[r.Kind], Target: r.Target}
		if b, ok := r.Blob(); ok {
			row.Size, row.Digest = r.Size, b.String()
		}
		out.Outputs = append(out.Outputs, row)
	}
	return out
}

// listingOf returns the digest of the outputs of a task in a run, and where it is
// known from.
func (a *app) listingOf(ctx context.Context, s *session, t *graph.Task, run string) (d digest.Digest, from string, err error) {
	if run == "" {
		last, ok := s.engine.State.Last(t.Addr())
		if !ok || last.Listing.IsZero() {
			return d, "", wrong("%s has no outputs in this checkout yet: grayloft run %s", t.Addr(), t.Addr())
		}
		return last.Listing, "of its last result here, " + term.Clock(last.At, a.now()), nil
	}
	lacks := fmt.Sprintf("no run of this checkout starts with %q", run)
	p, err := pastRun(s.engine.State, run)
	if err == nil {
		if x, ok := p.Of(t.Addr()); ok && !x.Listing.IsZero() {
			return x.Listing, "run " + p.ID + " in this checkout", nil
		}
		lacks = fmt.Sprintf("%s had no outputs in run %s of this checkout", t.Addr(), p.ID)
	}
	if s.client == nil {
		if err == nil {
			err = wrong("%s had no outputs in run %s: it did not run there, or was current", t.Addr(), p.ID)
		}
		return d, "", err
	}
	detail, serr := s.client.TaskOfRun(ctx, run, t.Addr())
	if serr != nil {
		return d, "", &inspect.ServiceError{Lacks: lacks, Err: serr}
	}
	if detail.Record.Listing.IsZero() {
		return d, "", wrong("%s had no outputs in run %s: its outcome was %s", t.Addr(), run, detail.Record.Outcome)
	}
	return detail.Record.Listing, fmt.Sprintf("run %s by %s at %s", run, detail.Run.Name, detail.Run.Place), nil
}

// have brings blobs into this machine's cache, from the shared one if needed.
func (s *session) have(ctx context.Context, blobs []protocol.Blob) error {
	b := &transfer.Blobs{Store: s.engine.Store, Now: s.engine.Now}
	if s.client != nil {
		b.From = s.client
	}
	_, err := b.Have(ctx, blobs)
	return err
}

func (s *session) readListing(ctx context.Context, d digest.Digest) (listing.List, error) {
	if !s.engine.Store.Has(d) {
		if err := s.have(ctx, []protocol.Blob{{Digest: d, Size: -1}}); err != nil {
			return nil, err
		}
	}
	text, err := s.engine.Store.Read(d)
	if err != nil {
		return nil, err
	}
	return listing.Parse(text)
}

// copyOut copies outputs into a directory that is empty or new. Everything is
// written below it, whatever the listing says.
func (s *session) copyOut(ctx context.Context, list listing.List, to string) error {
	if err := s.have(ctx, transfer.Of(list)); err != nil {
		return machineFault("not all outputs are available any more: %v", err)
	}
	if err := os.MkdirAll(to, 0o755); err != nil {
		return machineFault("--to: %v", err)
	}
	if entries, err := os.ReadDir(to); err != nil || len(entries) > 0 {
		return wrong("--to %s: the directory is not empty: name a new one", to)
	}
	root, err := os.OpenRoot(to)
	if err != nil {
		return machineFault("--to: %v", err)
	}
	defer root.Close()
	for _, r := range list {
		if err := s.copyRow(root, r); err != nil {
			return machineFault("--to: %s: %v", r.Path, err)
		}
	}
	return nil
}

func (s *session) copyRow(root *os.Root, r listing.Row) error {
	if dir := path.Dir(r.Path); dir != "." {
		if err := root.MkdirAll(dir, 0o755); err != nil {
			return err
		}
	}
	switch r.Kind {
	case listing.Link:
		return root.Symlink(r.Target, r.Path)
	case listing.EmptyDir:
		return root.MkdirAll(r.Path, 0o755)
	}
	f, err := root.OpenFile(r.Path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, r.Kind.Mode())
	if err != nil {
		return err
	}
	return errors.Join(s.engine.Store.WriteTo(r.Digest, io.Writer(f)), f.Close())
}
