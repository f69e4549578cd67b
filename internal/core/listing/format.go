// Package listing reads and writes the two texts in which Gray Loft records
// sets of files: a listing (what a task wrote) and a manifest (one directory
// of what a task read). Both are sorted, hold no times, and so are the same
// wherever the same files were.
//
// # Format, version 1
//
// The first line names the format: "grayloft-listing 1" or
// "grayloft-manifest 1". Each further line is a row of four fields, parted by
// tabs and ended by a line feed:
//
//	kind    f file, x executable file, p file that others may not read,
//	        q executable file that others may not read, l symbolic link,
//	        d empty directory, and, in manifests alone, t a directory that
//	        has a manifest
//	size    bytes, in decimal without leading zeros; of a link, of its target;
//	        0 for d and t
//	what    the digest of the contents or of the manifest; the target of a
//	        link; "-" for d
//	path    relative, with slashes; in a manifest a single name
//
// In targets and paths a backslash, a control byte (below 0x20, or 0x7f) is
// written as \xNN with lower-case hex digits, and nothing else is escaped.
// Rows are sorted by the bytes of their unescaped path. Each text has exactly
// one form, and a reader refuses every other.
package listing

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"

	"grayloft.example/grayloft/internal/core/digest"
)

const (
	listingHead  = "grayloft-listing 1\n"
	manifestHead = "grayloft-manifest 1\n"
)

// Kind says what a row is.
type Kind byte

// The kinds of rows.
const (
	File              Kind = 'f'
	Executable        Kind = 'x'
	PrivateFile       Kind = 'p' // others than its owner may not read it
	PrivateExecutable Kind = 'q'
	Link              Kind = 'l'
	EmptyDir          Kind = 'd'
	Tree              Kind = 't' // in manifests only
)

// KindOf returns the kind of a regular file with a mode.
func KindOf(mode fs.FileMode) Kind {
	isExecutable, isPrivate := mode&0o100 != 0, mode&0o004 == 0
	switch {
	case isExecutable && isPrivate:
		return PrivateExecutable
	case isExecutable:
		return Executable
	case isPrivate:
		return PrivateFile
	}
	return File
}

// IsFile tells whether rows of the kind have contents.
func (k Kind) IsFile() bool {
	return k == File || k == Executable || k == PrivateFile || k == PrivateExecutable
}

// Mode returns the permissions with which a file of the kind is written.
func (k Kind) Mode() fs.FileMode {
	switch k {
	case Executable:
		return 0o755
	case PrivateFile:
		return 0o600
	case PrivateExecutable:
		return 0o700
	}
	return 0o644
}

// Row is one file, link or directory.
type Row struct {
	Kind   Kind
	Size   int64         // bytes; of a link, of its target
	Digest digest.Digest // of files and trees
	Target string        // of links
	Path   string        // relative, with slashes
}

// Blob returns the digest of the row's contents, if they are a blob.
func (r Row) Blob() (digest.Digest, bool) {
	return r.Digest, r.Kind.IsFile()
}

// List is a set of rows sorted by path.
type List []Row

// Sort puts the rows in their order.
func (l List) Sort() {
	slices.SortFunc(l, func(a, b Row) int { return strings.Compare(a.Path, b.Path) })
}

// Bytes returns the total size of all files, in bytes.
func (l List) Bytes() int64 {
	var n int64
	for _, r := range l {
		if r.Kind.IsFile() {
			n += r.Size
		}
	}
	return n
}

// Encode returns the text of a listing. The rows must be sorted.
func (l List) Encode() []byte { return encode(listingHead, l) }

// Digest returns the digest of the listing's text.
func (l List) Digest() digest.Digest { return digest.Of(l.Encode()) }

// usualRow is about how many bytes a row takes beside its path and target.
const usualRow = 2*digest.Size + 16

func encode(head string, rows []Row) []byte {
	room := len(head)
	for _, r := range rows {
		room += usualRow + len(r.Path) + len(r.Target)
	}
	b := append(make([]byte, 0, room), head...)
	for _, r := range rows {
		b = append(b, byte(r.Kind), '\t')
		b = strconv.AppendInt(b, r.Size, 10)
		b = append(b, '\t')
		switch r.Kind {
		case Link:
			b = escape(b, r.Target)
		case EmptyDir:
			b = append(b, '-')
		default:
			b = r.Digest.Append(b)
		}
		b = append(b, '\t')
		b = escape(b, r.Path)
		b = append(b, '\n')
	}
	return b
}

func escape(b []byte, s string) []byte {
	plain := 0 // what is before it was appended
	for i := 0; i < len(s); i++ {
		if c := s[i]; c < 0x20 || c == 0x7f || c == '\\' {
			b = append(b, s[plain:i]...)
			b = fmt.Appendf(b, `\x%02x`, c)
			plain = i + 1
		}
	}
	return append(b, s[plain:]...)
}

var errEscape = errors.New("a backslash must be followed by xNN, for a byte that has to be escaped")

func unescape(s string) (string, error) {
	if !strings.ContainsRune(s, '\\') {
		return s, nil
	}
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] != '\\' {
			b.WriteByte(s[i])
			continue
		}
		if i+4 > len(s) || s[i+1] != 'x' || strings.ToLower(s[i:i+4]) != s[i:i+4] {
			return "", errEscape
		}
		n, err := strconv.ParseUint(s[i+2:i+4], 16, 8)
		if c := byte(n); err != nil || (c >= 0x20 && c != 0x7f && c != '\\') {
			return "", errEscape
		}
		b.WriteByte(byte(n))
		i += 3
	}
	return b.String(), nil
}

// ErrForm is wrapped by errors about a text that is not a listing, or one that could do harm.
var ErrForm = errors.New("listing")

// Parse reads a listing and refuses everything that could do harm when it is
// written to disk: see [Row] and the package comment for the form, [CheckPath]
// for paths. [CheckLinks] checks links.
func Parse(text []byte) (List, error) {
	rows, err := decode(listingHead, text)
	if at := slices.IndexFunc(rows, func(r Row) bool { return r.Kind == Tree }); err == nil && at >= 0 {
		err = fmt.Errorf("row %d: a tree is allowed only in a manifest", at+1)
	}
	if err == nil {
		err = check(rows)
	}
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrForm, err)
	}
	return rows, nil
}

// ParseOwn reads a listing that this machine made for itself: its paths are checked one by one, but
// they need not be able to exist together on every file system.
func ParseOwn(text []byte) (List, error) { return decode(listingHead, text) }

func decode(head string, text []byte) ([]Row, error) {
	body, ok := bytes.CutPrefix(text, []byte(head))
	if !ok {
		return nil, fmt.Errorf("the first line is not %q: written by a newer version, or not a listing", strings.TrimSpace(head))
	}
	parts := divide(body)
	starts := make([]int, len(parts)+1) // of the rows of each part
	for i, part := range parts {
		starts[i+1] = starts[i] + bytes.Count(part, newline)
	}
	rows := make([]Row, starts[len(parts)])
	if len(parts) == 1 {
		return rows, decodeRows(body, rows, 0)
	}
	errs := make([]error, len(parts))
	var wg sync.WaitGroup
	for i, part := range parts {
		wg.Go(func() { errs[i] = decodeRows(part, rows[starts[i]:starts[i+1]], starts[i]) })
	}
	wg.Wait()
	for i, err := range errs {
		if err != nil {
			return nil, err
		}
		if n := starts[i]; 0 < n && n < len(rows) && rows[n-1].Path >= rows[n].Path {
			return nil, fmt.Errorf("row %d: %q is out of order", n+1, rows[n].Path)
		}
	}
	return rows, nil
}

var newline = []byte("\n")

// fewBytes is the length of a text that is not worth being decoded in several parts.
const fewBytes = 256 << 10

// divide divides rows into parts for all processors, between two rows.
func divide(body []byte) (parts [][]byte) {
	for n := runtime.GOMAXPROCS(0); n > 1 && len(body) > fewBytes; n-- {
		at := bytes.IndexByte(body[len(body)/n:], '\n')
		if at < 0 {
			break
		}
		at += len(body)/n + 1
		parts, body = append(parts, body[:at]), body[at:]
	}
	return append(parts, body)
}

// decodeRows decodes rows, before which there are some others.
func decodeRows(body []byte, rows []Row, before int) error {
	for i := range rows {
		line, rest, _ := bytes.Cut(body, newline)
		r, err := decodeRow(line)
		if err != nil {
			return fmt.Errorf("row %d: %w", before+i+1, err)
		}
		if i > 0 && rows[i-1].Path >= r.Path {
			return fmt.Errorf("row %d: %q is out of order", before+i+1, r.Path)
		}
		rows[i], body = r, rest
	}
	if len(body) > 0 {
		return fmt.Errorf("row %d is incomplete", before+len(rows)+1)
	}
	return nil
}

// fields divides a row. The kind has one character.
func fields(line []byte) (kind Kind, size, what, name []byte, err error) {
	one, rest, _ := bytes.Cut(line, tab)
	two, rest, _ := bytes.Cut(rest, tab)
	three, four, ok := bytes.Cut(rest, tab)
	if !ok || len(one) != 1 || bytes.Contains(four, tab) {
		return 0, nil, nil, nil, errors.New("a row must have four fields: kind, size, what, path")
	}
	return Kind(one[0]), two, three, four, nil
}

var tab = []byte("\t")

func decodeRow(line []byte) (r Row, err error) {
	kind, size, what, name, err := fields(line)
	if err != nil {
		return Row{}, err
	}
	r.Kind = kind
	r.Size, err = strconv.ParseInt(string(size), 10, 64)
	if err != nil || r.Size < 0 || len(size) > 1 && (size[0] < '1' || size[0] > '9') {
		return Row{}, fmt.Errorf("%q is not a size", size)
	}
	if r.Path, err = unescape(string(name)); err != nil {
		return Row{}, err
	}
	if err := CheckPath(r.Path); err != nil {
		return Row{}, err
	}
	switch r.Kind {
	case File, Executable, PrivateFile, PrivateExecutable:
		if r.Digest, err = digest.ParseText(what); err == nil && r.Digest.IsZero() {
			err = errors.New("the zero digest is not the digest of anything")
		}
	case Tree:
		if r.Digest, err = digest.ParseText(what); err == nil && r.Size != 0 {
			err = errors.New("a tree has no size")
		}
	case Link:
		r.Target, err = unescape(string(what))
		switch {
		case err != nil:
		case r.Target == "" || strings.ContainsRune(r.Target, 0) || !utf8.ValidString(r.Target):
			err = fmt.Errorf("%q is not a valid target of a link", r.Target)
		case int64(len(r.Target)) != r.Size:
			err = fmt.Errorf("the link %q does not have the declared length", r.Path)
		}
	case EmptyDir:
		if string(what) != "-" || r.Size != 0 {
			err = errors.New("an empty directory has neither size nor digest")
		}
	default:
		err = fmt.Errorf("%q is not a kind of row", string(kind))
	}
	return r, err
}
