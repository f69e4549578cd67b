package inspect

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"

	"grayloft.example/grayloft/internal/core/check"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/machine/files"
	"grayloft.example/grayloft/internal/machine/fingerprint"
	"grayloft.example/grayloft/internal/machine/statefile"
)

// checkedFormat has the fingerprint of what was checked, and the findings as JSON.
var checkedFormat = statefile.Register(statefile.Format[checked]{
	Name: "checked", Version: 1,
	Encode: func(w *statefile.Writer, c checked) { w.Digest(c.of); w.Text(c.findings) },
	Decode: func(r *statefile.Reader) checked { return checked{r.Digest(), r.Text()} },
})

type checked struct {
	of       digest.Digest
	findings string
}

// Checked remembers the findings of the last check of a checkout, so that one of the
// same files is not made again.
type Checked struct {
	file    string
	of      digest.Digest
	settled bool
}

// NewChecked returns what remembers the findings of these rules in the files of a
// survey.
func NewChecked(root string, v *files.Survey, rules []check.Rule) *Checked {
	sum, settled := v.Fingerprint()
	of := digest.Of(fmt.Appendf(nil, "%s %s %q", sum, fingerprint.Program(), rules))
	return &Checked{filepath.Join(root, checkout.Dir, "checked"), of, settled}
}

// Findings returns what was found in the same files, if it is known.
func (c *Checked) Findings() (found []check.Finding, ok bool) {
	have, ok := checkedFormat.Load(c.file)
	if !ok || have.of != c.of || json.Unmarshal([]byte(have.findings), &found) != nil {
		return nil, false
	}
	return found, true
}

// Remember stores what was found, if a later change of a file would show. It is only
// stored where the checkout already has a directory for it.
func (c *Checked) Remember(found []check.Finding) {
	text, err := json.Marshal(found)
	if _, missing := os.Stat(filepath.Dir(c.file)); err != nil || missing != nil || !c.settled {
		return
	}
	_ = checkedFormat.Save(c.file, checked{c.of, string(text)}) // the next check finds it again
}
