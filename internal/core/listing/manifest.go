package listing

import (
	"fmt"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/digest"
)

// Manifests turns a sorted list into a tree of manifests, one per directory, so
// that two sets of files can be compared by descending only where digests
// differ. It returns the digest of the root, and the text of every manifest by
// its digest.
func (l List) Manifests() (digest.Digest, map[digest.Digest][]byte) {
	texts := map[digest.Digest][]byte{}
	root := l.manifest(0, texts)
	return root, texts
}

// Root returns the digest of the root of [List.Manifests] alone.
func (l List) Root() digest.Digest { return l.manifest(0, nil) }

func (l List) manifest(skip int, texts map[digest.Digest][]byte) digest.Digest {
	var rows List
	for i := 0; i < len(l); {
		rel := l[i].Path[skip:]
		name, _, below := strings.Cut(rel, "/")
		if !below {
			r := l[i]
			r.Path = name
			rows = append(rows, r)
			i++
			continue
		}
		j := i + 1
		prefix := l[i].Path[:skip+len(name)+1]
		for j < len(l) && strings.HasPrefix(l[j].Path, prefix) {
			j++
		}
		rows = append(rows, Row{Kind: Tree, Path: name, Digest: l[i:j].manifest(len(prefix), texts)})
		i = j
	}
	rows.Sort()
	text := encode(manifestHead, rows)
	d := digest.Of(text)
	if texts != nil {
		texts[d] = text
	}
	return d
}

// ParseManifest reads one manifest: its rows are single names.
func ParseManifest(text []byte) (List, error) {
	rows, err := decode(manifestHead, text)
	if err != nil {
		return nil, fmt.Errorf("manifest: %w", err)
	}
	for i, r := range rows {
		if strings.Contains(r.Path, "/") {
			return nil, fmt.Errorf("manifest: row %d: %q is not a single name", i+1, r.Path)
		}
	}
	return rows, nil
}

// Expand reads a tree of manifests back into one list. Read returns the text
// of a manifest.
func Expand(root digest.Digest, read func(digest.Digest) ([]byte, error)) (List, error) {
	var out List
	var walk func(d digest.Digest, prefix string, depth int) error
	walk = func(d digest.Digest, prefix string, depth int) error {
		if depth > 256 {
			return fmt.Errorf("manifest: %q is more than 256 directories deep", prefix)
		}
		text, err := read(d)
		if err != nil {
			return err
		}
		rows, err := ParseManifest(text)
		if err != nil {
			return err
		}
		for _, r := range rows {
			r.Path = prefix + r.Path
			if r.Kind == Tree {
				if err := walk(r.Digest, r.Path+"/", depth+1); err != nil {
					return err
				}
				continue
			}
			out = append(out, r)
		}
		return nil
	}
	if err := walk(root, "", 0); err != nil {
		return nil, err
	}
	out.Sort()
	return out, nil
}

// Walk visits the files of a tree of manifests, in the order of the manifests,
// until visit returns false. It reads at most as many manifests as limit, so that
// a tree that names itself many times over ends.
func Walk(root digest.Digest, limit int, read func(digest.Digest) ([]byte, error), visit func(Row) bool) error {
	var walk func(d digest.Digest, prefix string) (bool, error)
	walk = func(d digest.Digest, prefix string) (bool, error) {
		if limit--; limit < 0 || strings.Count(prefix, "/") > 256 {
			return false, nil
		}
		text, err := read(d)
		if err != nil {
			return false, err
		}
		rows, err := ParseManifest(text)
		if err != nil {
			return false, err
		}
		for _, r := range rows {
			r.Path = prefix + r.Path
			more := false
			if r.Kind == Tree {
				more, err = walk(r.Digest, r.Path+"/")
			} else {
				more = visit(r)
			}
			if err != nil || !more {
				return false, err
			}
		}
		return true, nil
	}
	_, err := walk(root, "")
	return err
}

// Difference is one path in which two lists differ. Before or After is nil if
// the path is absent.
type Difference struct {
	Path          string
	Before, After *Row
}

// Compare returns the differences between two trees of manifests, in path
// order, without reading the parts that both share.
func Compare(before, after digest.Digest, read func(digest.Digest) ([]byte, error)) ([]Difference, error) {
	return compareDirs(before, after, "", read)
}

func compareDirs(before, after digest.Digest, prefix string, read func(digest.Digest) ([]byte, error)) ([]Difference, error) {
	if before == after {
		return nil, nil
	}
	a, err := readRows(before, read)
	if err != nil {
		return nil, err
	}
	b, err := readRows(after, read)
	if err != nil {
		return nil, err
	}
	var out []Difference
	for _, d := range a.Differences(b) {
		below, err := d.below(prefix, read)
		if err != nil {
			return nil, err
		}
		out = append(out, below...)
	}
	slices.SortFunc(out, func(x, y Difference) int { return strings.Compare(x.Path, y.Path) })
	return out, nil
}

func readRows(d digest.Digest, read func(digest.Digest) ([]byte, error)) (List, error) {
	if d == (digest.Digest{}) {
		return nil, nil
	}
	text, err := read(d)
	if err != nil {
		return nil, err
	}
	return ParseManifest(text)
}

// below turns a difference between two rows of a directory into differences
// between files.
func (d Difference) below(prefix string, read func(digest.Digest) ([]byte, error)) ([]Difference, error) {
	var trees [2]digest.Digest
	leaf := Difference{Path: prefix + d.Path}
	for i, r := range []*Row{d.Before, d.After} {
		switch {
		case r == nil:
		case r.Kind == Tree:
			trees[i] = r.Digest
		case i == 0:
			leaf.Before = r
		default:
			leaf.After = r
		}
	}
	var out []Difference
	if leaf.Before != nil || leaf.After != nil {
		out = append(out, leaf)
	}
	inside, err := compareDirs(trees[0], trees[1], leaf.Path+"/", read)
	return append(out, inside...), err
}

// Differences returns what differs between two sorted lists.
func (l List) Differences(after List) []Difference {
	var out []Difference
	i, j := 0, 0
	for i < len(l) || j < len(after) {
		switch {
		case j == len(after) || (i < len(l) && l[i].Path < after[j].Path):
			out = append(out, Difference{Path: l[i].Path, Before: &l[i]})
			i++
		case i == len(l) || after[j].Path < l[i].Path:
			out = append(out, Difference{Path: after[j].Path, After: &after[j]})
			j++
		default:
			if l[i] != after[j] {
				out = append(out, Difference{Path: l[i].Path, Before: &l[i], After: &after[j]})
			}
			i++
			j++
		}
	}
	return out
}
