package cli

import (
	"io/fs"
	"path"
	"testing/fstest"

	"grayloft.example/grayloft/internal/core/adopt"
	"grayloft.example/grayloft/internal/core/survey"
)

// proposed returns the repository's declarations as they would be: its TOML
// files, with those of the proposal added or replaced, and the directories of
// templates.
func proposed(found *survey.Repo, p *adopt.Proposal) (fs.FS, error) {
	out := fstest.MapFS{}
	for _, f := range found.Files {
		if path.Ext(f) != ".toml" {
			out[f] = &fstest.MapFile{} // so that its directory exists
			continue
		}
		b, err := fs.ReadFile(found.FS, f)
		if err != nil {
			return nil, err
		}
		out[f] = &fstest.MapFile{Data: b}
	}
	for _, f := range p.Files {
		out[f.Path] = &fstest.MapFile{Data: []byte(f.New)}
	}
	return out, nil
}
