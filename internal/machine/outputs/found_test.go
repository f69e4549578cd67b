package outputs

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"grayloft.example/grayloft/internal/core/listing"
)

// Directories are looked at side by side; what is found is in order, and all of it, with what
// cannot be kept.
func TestManyDirectoriesAreFoundInOrder(t *testing.T) {
	p := newPlace(t)
	var want listing.List
	for i := range 400 {
		name := fmt.Sprintf("gen/%d/%d/%d", i%3, i%17, i)
		if i%40 == 7 {
			if err := os.MkdirAll(filepath.Join(p.root, "p", name), 0o755); err != nil {
				t.Fatal(err)
			}
			want = append(want, listing.Row{Path: name, Kind: listing.EmptyDir})
			continue
		}
		p.write("p/"+name, "")
		want = append(want, listing.Row{Path: name, Kind: listing.File})
	}
	p.write("p/gen/inner/deep/x", "another project's")
	slices.SortFunc(want, func(a, b listing.Row) int { return strings.Compare(a.Path, b.Path) })
	for range 20 {
		if found, err := p.out.Found(); err != nil || !slices.Equal(found, want) {
			t.Fatalf("%d instead of %d, %v", len(found), len(want), err)
		}
	}
}
