package key

import (
	"bytes"
	"encoding/hex"
	"flag"
	"os"
	"reflect"
	"testing"

	"grayloft.example/grayloft/internal/core/digest"
)

var update = flag.Bool("update", false, "write the golden files again")

func sample() *Ingredients {
	return &Ingredients{
		Dir: "libs/fares", Command: []string{"sh", "-e", "-c", "go build ./..."}, Writes: []string{"bin/**"},
		Isolation: "open", Platform: "linux/amd64",
		Env:          []EnvValue{{Name: "CGO_ENABLED", Set: true, Value: EnvDigest("0")}, {Name: "NONE"}},
		Probes:       []NamedValue{{"go", "go version go1.26"}},
		Files:        digest.Of([]byte("files")),
		Needs:        []Offer{{"money", "libs/money", digest.Of([]byte("money"))}},
		Dependencies: []Dependency{{"build@money", "libs/money", digest.Of([]byte("listing"))}},
	}
}

// The encoding and both keys are pinned: changing them invalidates every cache.
func TestGoldenVectors(t *testing.T) {
	const file = "testdata/ingredients.golden"
	in := sample()
	got := hex.EncodeToString(in.Encode()) + "\n" + in.Key().String() + "\n" + in.EarlyKey().String() + "\n"
	if *update {
		if err := os.WriteFile(file, []byte(got), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if got != string(want) {
		t.Errorf("the encoding changed:\n%s\nwant\n%s", got, want)
	}
}

func TestEncodingReadsBack(t *testing.T) {
	in := sample()
	back, err := Decode(in.Encode())
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(back.Encode(), in.Encode()) || !reflect.DeepEqual(back.Command, in.Command) || back.Key() != in.Key() {
		t.Errorf("read back as %+v", back)
	}
	for cut := range len(in.Encode()) {
		if _, err := Decode(in.Encode()[:cut]); err == nil {
			t.Fatalf("taken when cut off after %d bytes", cut)
		}
	}
	if _, err := Decode(append(in.Encode(), 0)); err == nil {
		t.Error("taken with a byte too many")
	}
}

// Every ingredient changes the key, and a comparison names it.
func TestEveryIngredientChangesTheKey(t *testing.T) {
	for name, c := range map[string]struct {
		change func(*Ingredients)
		reason Reason
		what   string
	}{
		"directory":   {func(in *Ingredients) { in.Dir = "libs/x" }, Declaration, "directory"},
		"command":     {func(in *Ingredients) { in.Command[3] = "go vet" }, Declaration, "run"},
		"writes":      {func(in *Ingredients) { in.Writes = nil }, Declaration, "writes"},
		"isolation":   {func(in *Ingredients) { in.Isolation = "sealed" }, Declaration, "isolation"},
		"network":     {func(in *Ingredients) { in.Network = true }, Declaration, "isolation"},
		"portable":    {func(in *Ingredients) { in.Portable = true }, Declaration, "portable"},
		"platform":    {func(in *Ingredients) { in.Platform = "plan9/mips" }, Declaration, "platform"},
		"arguments":   {func(in *Ingredients) { in.Args = []string{"-v"} }, Declaration, "arguments"},
		"scratch":     {func(in *Ingredients) { in.Scratch = []string{"x"} }, Declaration, "scratch"},
		"a value":     {func(in *Ingredients) { in.Env[0].Value = EnvDigest("1") }, Environment, "CGO_ENABLED"},
		"set, empty":  {func(in *Ingredients) { in.Env[1].Set = true }, Environment, "NONE"},
		"a variable":  {func(in *Ingredients) { in.Env = in.Env[:1] }, Environment, "NONE"},
		"unkeyed":     {func(in *Ingredients) { in.EnvUnkeyed = []EnvValue{{Name: "KEY"}} }, Environment, "KEY"},
		"a setting":   {func(in *Ingredients) { in.Settings = []NamedValue{{"optimise", "speed"}} }, Setting, "optimise"},
		"a probe":     {func(in *Ingredients) { in.Probes[0].Value = "go1.27" }, Probe, "go"},
		"files":       {func(in *Ingredients) { in.Files = digest.Of([]byte("other")) }, Files, ""},
		"offers":      {func(in *Ingredients) { in.Needs[0].Files = digest.Of([]byte("other")) }, Files, ""},
		"a need":      {func(in *Ingredients) { in.Needs = nil }, Declaration, "needs/money"},
		"a listing":   {func(in *Ingredients) { in.Dependencies[0].Listing = digest.Of(nil) }, Upstream, "build@money"},
		"a task less": {func(in *Ingredients) { in.Dependencies = nil }, Upstream, "build@money"},
	} {
		in := sample()
		c.change(in)
		if in.Key() == sample().Key() || in.EarlyKey() == sample().EarlyKey() {
			t.Errorf("%s: the key stayed the same", name)
		}
		unread := func(digest.Digest) ([]byte, error) { return nil, os.ErrNotExist }
		changes := Compare(sample(), in, unread)
		reason, of := First(changes)
		if reason != c.reason || len(of) == 0 || of[0].What != c.what {
			t.Errorf("%s: said to be %s %v, want %s %q", name, reason, of, c.reason, c.what)
		}
	}
	if sample().Key() == sample().EarlyKey() {
		t.Error("key and early key are one")
	}
}

func FuzzDecode(f *testing.F) {
	f.Add(sample().Encode())
	f.Fuzz(func(t *testing.T, b []byte) {
		in, err := Decode(b)
		if err == nil && !bytes.Equal(in.Encode(), b) {
			t.Errorf("taken in a form that is not canonical: %x", b)
		}
	})
}
