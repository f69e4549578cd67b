package pack_test

import (
	"archive/tar"
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/pack"
)

// made returns a pack, its members, and their contents.
func made(t *testing.T, texts ...[]byte) (whole []byte, frames [][]byte) {
	t.Helper()
	for _, text := range texts {
		f := pack.Frame(digest.Of(text), text)
		frames = append(frames, f)
		whole = append(whole, f...)
	}
	return append(whole, pack.End()...), frames
}

func texts() [][]byte {
	rnd := rand.NewChaCha8([32]byte{1})
	noise := make([]byte, 300_000)
	_, _ = rnd.Read(noise)
	return [][]byte{
		nil, []byte("x"), bytes.Repeat([]byte("tide table "), 40_000), noise, noise[:511], noise[:512], noise[:513], make([]byte, 1<<20),
	}
}

func TestAPackIsACompressedArchive(t *testing.T) {
	all := texts()
	_, frames := made(t, all...)
	// Any choice of frames, in any order, is a pack.
	var some []byte
	for _, i := range []int{3, 0, 2} {
		some = append(some, frames[i]...)
	}
	z, err := zstd.NewReader(bytes.NewReader(append(some, pack.End()...)))
	if err != nil {
		t.Fatal(err)
	}
	defer z.Close()
	in := tar.NewReader(z)
	for _, i := range []int{3, 0, 2} {
		h, err := in.Next()
		if err != nil {
			t.Fatal(err)
		}
		got, err := io.ReadAll(in)
		if err != nil || h.Name != digest.Of(all[i]).String() || !bytes.Equal(got, all[i]) {
			t.Errorf("%s: %d bytes, %v", h.Name, len(got), err)
		}
	}
	if _, err := in.Next(); !errors.Is(err, io.EOF) {
		t.Errorf("after the last member: %v", err)
	}
}

func TestTheIndexOfAPackIsRebuiltFromIt(t *testing.T) {
	all := texts()
	whole, frames := made(t, all...)
	list, err := pack.Index(bytes.NewReader(whole))
	if err != nil || len(list) != len(all) {
		t.Fatalf("%d members, %v", len(list), err)
	}
	for i, m := range list {
		frame := whole[m.Position : m.Position+m.Length]
		if m.Digest != digest.Of(all[i]) || m.Size != int64(len(all[i])) || !bytes.Equal(frame, frames[i]) {
			t.Errorf("member %d: %+v", i, m)
		}
		got, err := pack.Unframe(frame, m.Digest, m.Size)
		if err != nil || !bytes.Equal(got, all[i]) {
			t.Errorf("member %d: %d bytes, %v", i, len(got), err)
		}
	}
}

// A pack that was cut off anywhere has the members that are whole.
func TestAPackThatWasCutOff(t *testing.T) {
	whole, frames := made(t, []byte("first"), bytes.Repeat([]byte("second"), 1000), []byte("third"))
	for n := range whole {
		want, at := 0, 0
		for _, f := range frames {
			if at += len(f); at <= n {
				want++
			}
		}
		list, err := pack.Index(bytes.NewReader(whole[:n]))
		if err == nil || len(list) != want {
			t.Errorf("after %d of %d bytes: %d members, not %d; %v", n, len(whole), len(list), want, err)
		}
	}
}

func TestWhatIsDamagedInAPackIsNotReturned(t *testing.T) {
	text := bytes.Repeat([]byte("rope and twine "), 100)
	d := digest.Of(text)
	_, frames := made(t, text)
	for i := range frames[0] {
		bad := bytes.Clone(frames[0])
		bad[i] ^= 0x10
		if got, err := pack.Unframe(bad, d, int64(len(text))); err == nil && !bytes.Equal(got, text) {
			t.Errorf("with byte %d changed, other contents were returned", i)
		}
		if list, err := pack.Index(bytes.NewReader(append(bad, pack.End()...))); err == nil && len(list) == 1 && list[0].Digest != d {
			t.Errorf("with byte %d changed, another member was found", i)
		}
	}
	for _, size := range []int64{0, int64(len(text)) - 1, int64(len(text)) + 1, 1 << 40} {
		if _, err := pack.Unframe(frames[0], d, size); !errors.Is(err, pack.ErrDamaged) {
			t.Errorf("taken for %d bytes: %v", size, err)
		}
	}
	if _, err := pack.Unframe(frames[0], digest.Of([]byte("other")), int64(len(text))); !errors.Is(err, pack.ErrDamaged) {
		t.Error(err)
	}
}

func TestMembersInOtherFormsAreRefused(t *testing.T) {
	name := digest.Of([]byte("abc")).String()
	for _, c := range []struct {
		h    tar.Header
		want error
	}{
		{tar.Header{Name: name, Size: 3, Format: tar.FormatUSTAR}, nil},
		{tar.Header{Name: name, Size: 3, Format: tar.FormatPAX, PAXRecords: map[string]string{"GRAYLOFT.x": "y"}}, pack.ErrForm},
		{tar.Header{Name: name, Size: 3, Format: tar.FormatGNU}, pack.ErrForm},
		{tar.Header{Name: name, Typeflag: tar.TypeSymlink, Linkname: "/etc", Format: tar.FormatUSTAR}, pack.ErrForm},
		{tar.Header{Name: "../" + name, Size: 3, Format: tar.FormatUSTAR}, pack.ErrName},
		{tar.Header{Name: digest.Digest{}.String(), Size: 3, Format: tar.FormatUSTAR}, pack.ErrName},
		{tar.Header{Name: name, Size: 11, Format: tar.FormatUSTAR}, pack.ErrLarge},
	} {
		var text bytes.Buffer
		w := tar.NewWriter(&text)
		if err := w.WriteHeader(&c.h); err != nil {
			t.Fatal(err)
		}
		_, _ = w.Write(make([]byte, c.h.Size))
		_ = w.Close()
		in := &pack.Reader{From: tar.NewReader(&text), Largest: 10, Left: 100}
		if _, _, err := in.Next(); !errors.Is(err, c.want) {
			t.Errorf("%+v: %v", c.h, err)
		}
	}
}

// What is stored as it came must be what would have been made of it.
func TestOnlyFramesLikeOursAreStoredAsTheyCome(t *testing.T) {
	text := bytes.Repeat([]byte("tide table "), 400)
	d := digest.Of(text)
	enc, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedBetterCompression))
	if err != nil {
		t.Fatal(err)
	}
	raw, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithNoEntropyCompression(true))
	if err != nil {
		t.Fatal(err)
	}
	plain := func(change func(h *tar.Header)) []byte {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		h := pack.Header(d, int64(len(text)))
		change(h)
		_ = w.WriteHeader(h)
		_, _ = w.Write(text)
		_ = w.Flush()
		return b.Bytes()
	}
	same := plain(func(*tar.Header) {})
	padded := bytes.Clone(same)
	padded[len(padded)-1] = 1
	own := pack.Frame(d, text)
	for name, c := range map[string]struct {
		frame []byte
		want  bool
	}{
		"ours":                      {own, true},
		"compressed in another way": {enc.EncodeAll(same, nil), true},
		"another mode":              {enc.EncodeAll(plain(func(h *tar.Header) { h.Mode = 0o777 }), nil), false},
		"an owner":                  {enc.EncodeAll(plain(func(h *tar.Header) { h.Uname = "olve" }), nil), false},
		"bytes after the contents":  {enc.EncodeAll(padded, nil), false},
		"barely compressed":         {raw.EncodeAll(same, nil), true},
		"padded with empty blocks":  {withEmptyBlocks(raw.EncodeAll(same, nil), 4000), false},
	} {
		frames := pack.NewFrames(bytes.NewReader(append(bytes.Clone(c.frame), pack.End()...)))
		var room []byte
		got, contents, _, err := frames.Next(&room, 1<<20)
		if err != nil || got != d || !bytes.Equal(contents, text) {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if frame, ok := frames.Frame(); ok != c.want || ok && !bytes.Equal(frame, c.frame) {
			t.Errorf("%s: %v", name, ok)
		}
	}
}

// blobsOf are the blobs with these texts.
func blobsOf(texts ...string) (out []pack.Blob) {
	for _, text := range texts {
		out = append(out, pack.Blob{Digest: digest.Of([]byte(text)), Text: []byte(text)})
	}
	return out
}

func TestMembersShareAFrame(t *testing.T) {
	together := blobsOf("rope", "", strings.Repeat("twine ", 500))
	alone := blobsOf(strings.Repeat("anchor", 50_000))
	whole := slices.Concat(pack.Join(together), pack.Join(alone), pack.End())
	list, err := pack.Index(bytes.NewReader(whole))
	if err != nil || len(list) != 4 {
		t.Fatalf("%+v, %v", list, err)
	}
	for i, m := range slices.Concat(together, alone) {
		got := list[i]
		frame := whole[got.Position : got.Position+got.Length]
		if text, err := pack.Unframe(frame, m.Digest, got.Size); err != nil || !bytes.Equal(text, m.Text) {
			t.Errorf("%d: %+v, %v", i, got, err)
		}
		if got.Position != 0 && i < 3 || i == 3 && got.Position != list[0].Length {
			t.Errorf("%d is at %d", i, got.Position)
		}
	}
	frame := whole[:list[0].Length]
	if n, ok := pack.Contains(frame); !ok || n != 3*512+512+3072 {
		t.Errorf("the frame says that it contains %d bytes", n)
	}
	some, err := pack.Take(frame, func(d digest.Digest) bool { return d != together[1].Digest })
	if err != nil || !reflect.DeepEqual(some, []pack.Blob{together[0], together[2]}) {
		t.Errorf("%+v, %v", some, err)
	}
}

// What is wrong with a member concerns that one; what is wrong with the frame, all.
func TestFramesWithSeveralMembersThatAreWrong(t *testing.T) {
	read := func(frame []byte, most int64) (n int, bad []digest.Digest, err error) {
		frames := pack.NewFrames(bytes.NewReader(append(bytes.Clone(frame), pack.End()...)))
		var room []byte
		for {
			d, _, _, err := frames.Next(&room, most)
			switch {
			case err == nil:
				n++
			case errors.Is(err, pack.ErrDamaged) && !d.IsZero():
				bad = append(bad, d)
			case errors.Is(err, io.EOF):
				return n, bad, nil
			default:
				return n, bad, err
			}
		}
	}
	wrong := blobsOf("rope", "twine", "anchor")
	wrong[1].Text = []byte("fog")
	if n, bad, err := read(pack.Join(wrong), 1000); n != 2 || err != nil || !slices.Equal(bad, []digest.Digest{wrong[1].Digest}) {
		t.Errorf("a member that does not match its digest: %d, %v, %v", n, bad, err)
	}
	if list, err := pack.Take(pack.Join(wrong), func(digest.Digest) bool { return true }); err != nil || len(list) != 2 {
		t.Errorf("%+v, %v", list, err)
	}
	if n, _, err := read(pack.Join(blobsOf("rope", strings.Repeat("x", 2000))), 1000); n != 1 || !errors.Is(err, pack.ErrLarge) {
		t.Errorf("a member that is too large: %d, %v", n, err)
	}
	many := blobsOf(strings.Repeat("a", pack.Together/2), strings.Repeat("b", pack.Together/2))
	if n, _, err := read(pack.Join(many), 1<<20); n != 0 || !errors.Is(err, pack.ErrDamaged) {
		t.Errorf("members that are too many together: %d, %v", n, err)
	}
	plain := pack.AppendMember(nil, wrong[0].Digest, wrong[0].Text, time.Time{})
	enc, err := zstd.NewWriter(nil)
	if err != nil {
		t.Fatal(err)
	}
	if n, _, err := read(enc.EncodeAll(append(plain, plain[:700]...), nil), 1000); n != 0 || !errors.Is(err, pack.ErrDamaged) {
		t.Errorf("half a member at the end: %d, %v", n, err)
	}
}

// A frame that does not state its size is refused when its first bytes are there.
func TestAFrameWithoutASizeIsNotReadToItsEnd(t *testing.T) {
	in, out := io.Pipe()
	defer out.Close()
	go func() {
		enc, err := zstd.NewWriter(out)
		if err != nil {
			t.Error(err)
		}
		_, _ = enc.Write(make([]byte, 1<<20)) // no end comes
		_ = enc.Flush()
	}()
	var room []byte
	if _, _, _, err := pack.NewFrames(in).Next(&room, 1000); !errors.Is(err, pack.ErrDamaged) {
		t.Error(err)
	}
	in.Close()
}

func TestGroupsFillFrames(t *testing.T) {
	for _, c := range []struct {
		sizes []int64
		want  []int
	}{
		{nil, nil},
		{[]int64{5}, []int{1}},
		{[]int64{512, 512, pack.Together - 3*512, 1}, []int{2, 4}},
		{[]int64{pack.Together, 1, 1}, []int{1, 3}},
		{[]int64{pack.Together/2 - 512, pack.Together/2 - 512, 0}, []int{2, 3}},
	} {
		if got := pack.Groups(c.sizes); !slices.Equal(got, c.want) {
			t.Errorf("%v: %v, not %v", c.sizes, got, c.want)
		}
	}
}

func TestAnOpenedFrameHasItsMembers(t *testing.T) {
	list := blobsOf("rope", "", strings.Repeat("twine ", 500), "anchor")
	var o pack.Opened
	for range 2 { // in the same room
		if err := o.Open(pack.Join(list), 1<<20); err != nil {
			t.Fatal(err)
		}
		for _, i := range []int{0, 1, 2, 3, 3, 0, 2} {
			if text, ok := o.Find(list[i].Digest); !ok || !bytes.Equal(text, list[i].Text) {
				t.Errorf("%d: %q, %v", i, text, ok)
			}
		}
		if _, ok := o.Find(digest.Of([]byte("none"))); ok || len(o.Blobs()) != len(list) {
			t.Errorf("%d members", len(o.Blobs()))
		}
	}
	for name, frame := range map[string][]byte{"no frame": []byte("text"), "cut off": pack.Join(list)[:40], "no member": pack.End()} {
		if err := o.Open(frame, 1<<20); !errors.Is(err, pack.ErrDamaged) && name != "no member" || err == nil {
			t.Errorf("%s: %v", name, err)
		}
		if _, ok := o.Find(list[0].Digest); ok {
			t.Errorf("%s: a member of the frame before", name)
		}
	}
	if err := o.Open(pack.Join(list), 1000); !errors.Is(err, pack.ErrLarge) {
		t.Error(err)
	}
}

// withEmptyBlocks returns a frame with blocks before its first one that contain nothing (RFC
// 8878, section 3.1.1.2).
func withEmptyBlocks(frame []byte, n int) []byte {
	flags := frame[4]
	head := 5 + []int{0, 1, 2, 4}[flags&3] + []int{0, 2, 4, 8}[flags>>6]
	if flags&0x20 == 0 || flags>>6 == 0 {
		head++
	}
	out := append(bytes.Clone(frame[:head]), make([]byte, 3*n)...)
	return append(out, frame[head:]...)
}

func FuzzIndex(f *testing.F) {
	var seed []byte
	for i := range 3 {
		text := fmt.Append(nil, "text ", i)
		frame := pack.Frame(digest.Of(text), text)
		seed = append(seed, frame...)
	}
	f.Add(append(seed, pack.End()...))
	f.Add([]byte{0x28, 0xb5, 0x2f, 0xfd, 0x20, 0x00, 0x01, 0x00, 0x00})
	f.Fuzz(func(t *testing.T, data []byte) {
		list, _ := pack.Index(bytes.NewReader(data))
		for _, m := range list {
			if _, err := pack.Unframe(data[m.Position:m.Position+m.Length], m.Digest, m.Size); err != nil {
				t.Errorf("%+v: %v", m, err)
			}
		}
	})
}
