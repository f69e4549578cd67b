package api

import (
	"bytes"
	"cmp"
	"context"
	"net/http"
	"strings"
	"unicode/utf8"

	"github.com/aymanbagabas/go-udiff"
	"github.com/gin-gonic/gin"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/key"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/records"
)

// What a page shows of a task at most.
const (
	shownFiles   = 2000
	shownOutputs = 2000
	shownTests   = 2000

	countedFiles   = 100_000
	shownManifests = 5000
)

// runTask answers what a task of a run was built from.
func (s *Server) runTask(c *gin.Context) {
	ctx, repo, run, task := c.Request.Context(), token(c).RepositoryID, c.Param("id"), c.Query("task")
	rec, err := s.Records.TaskOfRun(ctx, repo, run, task)
	if err != nil {
		s.fault(c, err)
		return
	}
	d := protocol.TaskDetail{Record: rec, Outputs: []protocol.OutputRow{}}
	if d.Run, err = s.Records.RunHead(ctx, repo, run); err != nil {
		s.fault(c, err)
		return
	}
	if d.Made, err = s.ingredients(ctx, repo, rec.Ingredients); err != nil {
		s.fault(c, err)
		return
	}
	if d.Outputs, d.Total, err = s.outputs(ctx, repo, rec.Listing); err != nil {
		s.fault(c, err)
		return
	}
	if d.Tests, err = s.Records.TaskTests(ctx, repo, run, task, shownTests); err != nil {
		s.fault(c, err)
		return
	}
	c.JSON(http.StatusOK, d)
}

// ingredients returns ingredients for people.
func (s *Server) ingredients(ctx context.Context, repo int64, d digest.Digest) (*protocol.Ingredients, error) {
	in, err := s.stored().Ingredients(ctx, repo, d)
	if in == nil || err != nil {
		return nil, err
	}
	out := &protocol.Ingredients{
		Dir: in.Dir, Command: in.Command, Args: append([]string{}, in.Args...), Writes: append([]string{}, in.Writes...),
		Isolation: in.Isolation,
		Platform:  in.Platform, Env: []protocol.Ingredient{}, Settings: named(in.Settings), Probes: named(in.Probes),
		Files: []protocol.Ingredient{}, Dependencies: []protocol.Ingredient{}, Digest: d,
	}
	for _, list := range [][]key.EnvValue{in.Env, in.EnvUnkeyed, in.Secrets} {
		for _, v := range list {
			value := "not set"
			if v.Set {
				value = "set"
			}
			out.Env = append(out.Env, protocol.Ingredient{Name: v.Name, Value: value})
		}
	}
	for _, u := range in.Dependencies {
		out.Dependencies = append(out.Dependencies, protocol.Ingredient{Name: u.Task, Value: u.Listing.String()})
	}
	return out, s.addFiles(ctx, repo, in, out)
}

func named(list []key.NamedValue) []protocol.Ingredient {
	out := []protocol.Ingredient{}
	for _, n := range list {
		out = append(out, protocol.Ingredient{Name: n.Name, Value: n.Value})
	}
	return out
}

// addFiles lists the files among ingredients with their digests.
func (s *Server) addFiles(ctx context.Context, repo int64, in *key.Ingredients, out *protocol.Ingredients) error {
	var fault error
	read := func(d digest.Digest) ([]byte, error) {
		text, err := s.stored().ReadIfThere(ctx, repo, d)
		if err != nil {
			fault = err
		}
		if text == nil && err == nil {
			err = records.ErrNotExist
		}
		return text, err
	}
	roots := []digest.Digest{in.Files}
	for _, n := range in.Needs {
		roots = append(roots, n.Files)
	}
	for _, root := range roots {
		_ = listing.Walk(root, shownManifests, read, func(r listing.Row) bool { // what is missing is not shown
			if out.FileCount++; len(out.Files) < shownFiles {
				out.Files = append(out.Files, protocol.Ingredient{Name: r.Path, Value: r.Digest.String()})
			}
			return out.FileCount < countedFiles
		})
	}
	return fault
}

// outputs lists the outputs of a listing, and how many there are.
func (s *Server) outputs(ctx context.Context, repo int64, d digest.Digest) (rows []protocol.OutputRow, total int, err error) {
	rows = []protocol.OutputRow{}
	text, err := s.stored().ReadIfThere(ctx, repo, d)
	if text == nil || err != nil {
		return rows, 0, err
	}
	list, err := listing.Parse(text)
	if err != nil {
		return rows, 0, nil // written by another version
	}
	var blobs []digest.Digest
	for _, r := range list[:min(len(list), shownOutputs)] {
		rows = append(rows, protocol.OutputRow{Path: r.Path, Kind: string(r.Kind), Size: r.Size, Digest: r.Digest})
		blobs = append(blobs, r.Digest)
	}
	lacking, err := s.Records.Missing(ctx, repo, blobs)
	if err != nil {
		return rows, 0, err
	}
	absent := map[digest.Digest]bool{}
	for _, x := range lacking {
		absent[x] = true
	}
	for i := range rows {
		rows[i].Stored = !rows[i].Digest.IsZero() && !absent[rows[i].Digest]
	}
	return rows, len(list), nil
}

// comparedTexts is how large texts are whose lines are compared, in bytes.
const comparedTexts = 1 << 20

// difference answers what sets a task of two runs apart.
func (s *Server) difference(c *gin.Context) {
	ctx, repo, task := c.Request.Context(), token(c).RepositoryID, c.Query("task")
	d := protocol.Difference{
		Task: task, Runs: [2]string{c.Query("with"), c.Param("id")}, Changes: []protocol.ChangeRow{}, Outputs: []protocol.ChangeRow{},
	}
	var made [2]*key.Ingredients
	var lists [2]listing.List
	for i, run := range d.Runs {
		rec, err := s.Records.TaskOfRun(ctx, repo, run, task)
		if err == nil {
			d.Records = append(d.Records, rec)
			made[i], err = s.stored().Ingredients(ctx, repo, rec.Ingredients)
		}
		if err == nil {
			lists[i], err = s.listingOf(ctx, repo, rec.Listing)
		}
		if err != nil {
			s.fault(c, err)
			return
		}
	}
	t := texts{s, ctx, repo}
	if made[0] != nil && made[1] != nil {
		d.Known = true
		for _, x := range key.Compare(made[0], made[1], t.read) {
			d.Changes = append(d.Changes, t.change(x))
		}
	}
	for _, x := range lists[0].Differences(lists[1]) {
		d.Outputs = append(d.Outputs, t.change(outputChange(x)))
	}
	c.JSON(http.StatusOK, d)
}

func outputChange(x listing.Difference) key.Change {
	out := key.Change{Reason: key.Outputs, What: x.Path, How: "changed"}
	text := func(r *listing.Row) string {
		if d, ok := r.Blob(); ok {
			return d.String()
		}
		return "→ " + r.Target
	}
	if x.Before == nil {
		out.How = "new"
	} else {
		out.Before = text(x.Before)
	}
	if x.After == nil {
		out.How = "gone"
	} else {
		out.After = text(x.After)
	}
	return out
}

func (s *Server) listingOf(ctx context.Context, repo int64, d digest.Digest) (listing.List, error) {
	text, err := s.stored().ReadIfThere(ctx, repo, d)
	if text == nil || err != nil {
		return nil, err
	}
	list, err := listing.Parse(text)
	if err != nil {
		return nil, nil // written by another version
	}
	return list, nil
}

// texts reads blobs to compare them.
type texts struct {
	s    *Server
	ctx  context.Context //nolint:containedctx // of one request, which this does not outlive
	repo int64
}

func (t texts) read(d digest.Digest) ([]byte, error) {
	text, err := t.s.stored().ReadIfThere(t.ctx, t.repo, d)
	if text == nil && err == nil {
		err = records.ErrNotExist
	}
	return text, err
}

func (t texts) change(x key.Change) protocol.ChangeRow {
	out := protocol.ChangeRow{Reason: string(x.Reason), What: cmp.Or(x.Path, x.What), How: x.How, Before: x.Before, After: x.After}
	if x.How == "evicted" {
		out.How = "gone"
	}
	if x.Reason == key.Files || x.Reason == key.Outputs {
		out.Diff = t.diff(x)
	} else if lines := x.Lines(); lines != nil && x.How == "changed" {
		out.Diff = "--- before\n+++ after\n" + strings.Join(lines, "\n")
	}
	return out
}

// diff returns the changed lines of a text, if both versions are here.
func (t texts) diff(x key.Change) string {
	var versions [2]string
	for i, name := range []string{x.Before, x.After} {
		d, err := digest.Parse(name)
		if err != nil {
			return ""
		}
		text, err := t.s.stored().Read(t.ctx, t.repo, d, comparedTexts+1)
		if err != nil || len(text) > comparedTexts || !utf8.Valid(text) || bytes.IndexByte(text, 0) >= 0 {
			return ""
		}
		versions[i] = string(text)
	}
	return udiff.Unified("before", "after", versions[0], versions[1])
}
