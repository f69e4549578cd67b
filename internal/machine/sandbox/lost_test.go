package sandbox

import (
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"testing/fstest"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/listing"
	"grayloft.example/grayloft/internal/machine/environment"
)

// lost is a cache that lost what it had.
type lost struct{}

func (lost) WriteTo(digest.Digest, io.Writer) error { return fs.ErrNotExist }

// The cache may be lost at any time: outputs that are right in the checkout are staged from there.
func TestOutputsThatTheCacheHasLostAreThoseOfTheCheckout(t *testing.T) {
	g, err := graph.Load(fstest.MapFS{
		"grayloft.toml": {Data: []byte("schema = 1\n[repo]\nname = \"t\"\nprojects = [\"a\"]\n")},
		"a/loft.toml": {Data: []byte("[project]\nname = \"a\"\n[task.gen]\nrun = \"true\"\nreads = []\nwrites = [\"out\"]\nprobes = []\n" +
			"[task.pack]\nrun = \"true\"\nreads = []\nwrites = []\nprobes = []\nafter = [\"gen\"]\nisolation = \"sealed\"\n")},
	}, "t")
	if err != nil {
		t.Fatal(err)
	}
	root := t.TempDir()
	row := listing.Row{Kind: listing.File, Path: "out", Size: 5, Digest: digest.Of([]byte("right"))}
	for text, ok := range map[string]bool{"right": true, "wrong": false, "": false} {
		if err := os.MkdirAll(filepath.Join(root, "a"), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(root, "a", "out"), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		st := NewStaging(g.Task("pack@a"), filepath.Join(t.TempDir(), "stage"), environment.Environment{}, false)
		st.Root, st.Blobs, st.Upstream = root, lost{}, []Upstream{{g.Task("gen@a"), listing.List{row}}}
		err := st.Begin(t.Context())
		if (err == nil) != ok {
			t.Errorf("with %q in the checkout: %v", text, err)
		}
		if got, _ := os.ReadFile(filepath.Join(st.Tree(), "a", "out")); ok && string(got) != text {
			t.Errorf("%q was staged", got)
		}
	}
}
