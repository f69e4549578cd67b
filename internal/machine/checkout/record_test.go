package checkout

import (
	"encoding/json"
	"math/rand/v2"
	"os"
	"path/filepath"
	"reflect"
	"testing"
	"time"

	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/machine/statefile"
)

// randomRecord is a record as the client writes it, now and then with a text that needs escapes.
func randomRecord(r *rand.Rand) Record {
	some := func() (d digest.Digest) {
		if r.IntN(4) > 0 {
			d = digest.Of([]byte{byte(r.Uint32())})
		}
		return d
	}
	names := []string{"build@fares", "test@a/b", "ü@x", "a\"b@x", "back\\slash@x", "<&>@x", "tab\t@x"}
	return Record{
		Version: recordVersion, Task: names[r.IntN(len(names))], Key: some(), Ingredients: some(), Listing: some(), Log: some(),
		Failed: r.IntN(3) == 0, Run: []string{"", "06h1gt", "r\"1"}[r.IntN(3)], At: time.Unix(r.Int64N(1<<32), r.Int64N(1e9)).UTC(),
		Took: []float64{0, 1e-9, 0.25, 12345.678, 1e21}[r.IntN(5)], Here: float64(r.IntN(2)) * 1.5, Fetch: r.IntN(3) == 0,
	}
}

func TestTheShortWayToReadARecordAgreesWithTheLongOne(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	usual := 0
	for range 3000 {
		want := randomRecord(r)
		line, err := json.Marshal(want)
		if err != nil {
			t.Fatal(err)
		}
		got, ok := readRecord(line)
		if !ok || !reflect.DeepEqual(got, want) {
			t.Fatalf("%s was read as %+v, %v", line, got, ok)
		}
		if task := taskOf(line); len(task) > 0 && string(task) != want.Task {
			t.Fatalf("the task of %s is %q", line, task)
		}
		if _, ok := readUsual(line); ok {
			usual++
		}
	}
	if usual < 500 {
		t.Errorf("only %d of 3000 records were read the short way", usual)
	}
}

func TestTheLastWholeLineOfATaskCounts(t *testing.T) {
	root := t.TempDir()
	if err := os.MkdirAll(filepath.Join(root, Dir), 0o755); err != nil {
		t.Fatal(err)
	}
	line := func(r Record) []byte {
		r.Version = recordVersion
		text, _ := json.Marshal(r)
		return append(append([]byte("\n"), statefile.SealLine(text)...), '\n')
	}
	var text []byte
	for _, run := range []string{"first", "second"} {
		text = append(text, line(Record{Task: "plain@x", Run: run})...)
		text = append(text, line(Record{Task: "quo\"ted@x", Run: run})...)
		text = append(text, line(Record{Task: "damaged@x", Run: run})...)
	}
	text[len(text)-20] ^= 1 // in the checksum of the last line
	text = append(text, line(Record{Task: "cut@x"})[:40]...)
	if err := os.WriteFile(filepath.Join(root, Dir, "journal"), text, 0o644); err != nil {
		t.Fatal(err)
	}
	s, err := Open(root)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	for task, want := range map[string]string{"plain@x": "second", "quo\"ted@x": "second", "damaged@x": "first", "cut@x": ""} {
		if r, _ := s.Last(task); r.Run != want {
			t.Errorf("the last run of %s is %q, not %q", task, r.Run, want)
		}
	}
	if s.lines != 7 {
		t.Errorf("%d lines were counted, not 7", s.lines)
	}
}
