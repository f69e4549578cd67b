package statefile_test

import (
	"testing"

	_ "grayloft.example/grayloft/internal/machine/files"
	_ "grayloft.example/grayloft/internal/machine/fingerprint"
	"grayloft.example/grayloft/internal/machine/statefile"
)

// Whatever a state file contains, reading it ends, and what is accepted can be
// written and read again.
func FuzzStateFiles(f *testing.F) {
	f.Add([]byte{})
	f.Add([]byte("\x01a\x00\x00"))
	f.Add([]byte{0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0x01})
	all := statefile.RoundTrips()
	if len(all) != 8 {
		f.Fatalf("%d formats are registered, not 8", len(all))
	}
	f.Fuzz(func(t *testing.T, body []byte) {
		for _, check := range all {
			if err := check(body); err != nil {
				t.Error(err)
			}
		}
	})
}
