//go:build unix

package outputs

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"

	"grayloft.example/grayloft/internal/core/digest"
)

func TestFilesOfAllSizesAreKeptWithTheirContents(t *testing.T) {
	p := newPlace(t)
	sizes := []int{0, 1, 1024, 50_000, digest.Together - 1, digest.Together, digest.Together + 1, 3 * digest.Together, 0, 7}
	for i := range 40 { // which do not fit into one group
		sizes = append(sizes, 20_000+i)
	}
	texts := map[string]string{}
	for i, n := range sizes {
		name := fmt.Sprintf("gen/%02d", i)
		texts[name] = string(bytes.Repeat([]byte{byte('a' + i%26), byte(i)}, n/2+1)[:n])
		p.write("p/"+name, texts[name])
	}
	list := p.keep()
	if len(list) != len(texts) {
		t.Fatalf("%d of %d files were kept", len(list), len(texts))
	}
	for _, row := range list {
		text := texts[row.Path]
		if row.Digest != digest.Of([]byte(text)) || row.Size != int64(len(text)) {
			t.Errorf("%s with %d bytes has %d and the digest %s", row.Path, len(text), row.Size, row.Digest.Short())
		}
		var got bytes.Buffer
		if err := p.out.Store.WriteTo(row.Digest, &got); err != nil || got.String() != text {
			t.Errorf("%s with %d bytes: the cache has %d, %v", row.Path, len(text), got.Len(), err)
		}
	}
}

func TestASmallFileThatChangesWhileItIsReadIsReadToItsEnd(t *testing.T) {
	name := filepath.Join(t.TempDir(), "a")
	if err := os.WriteFile(name, []byte("short"), 0o644); err != nil {
		t.Fatal(err)
	}
	dir, err := os.Open(filepath.Dir(name))
	if err != nil {
		t.Fatal(err)
	}
	defer dir.Close()
	src, err := openSource(dir, "a")
	if err != nil {
		t.Fatal(err)
	}
	defer src.Close()
	long := bytes.Repeat([]byte("longer "), 1000)
	if err := os.WriteFile(name, long, 0o644); err != nil {
		t.Fatal(err)
	}
	small := newSmallFiles(keeping{})
	defer small.close()
	text, all, err := small.read(src)
	if err != nil || all {
		t.Fatalf("%q is all of it: %v, %v", text, all, err)
	}
	rest, err := io.ReadAll(src)
	if got := append(bytes.Clone(text), rest...); err != nil || !bytes.Equal(got, long) {
		t.Errorf("%d bytes were read of %d: %v", len(got), len(long), err)
	}
}
