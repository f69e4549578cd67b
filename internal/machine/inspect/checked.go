package inspect

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"sync"

	"grayloft.example/grayloft/internal/core/check"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/machine/checkout"
	"grayloft.example/grayloft/internal/machine/files"
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
	file string
	have checked
	any  bool
	of   func() (sum digest.Digest, settled bool)
}

// LastChecked reads what the last check of a checkout found.
func LastChecked(root string) *Checked {
	c := &Checked{file: filepath.Join(root, checkout.Dir, "checked")}
	c.have, c.any = checkedFormat.Load(c.file)
	return c
}

// Any tells whether there are findings of earlier, whatever they are of.
func (c *Checked) Any() bool { return c.any }

// Of says what is checked now: the files of a survey, by these rules.
func (c *Checked) Of(v *files.Survey, rules []check.Rule) {
	c.of = sync.OnceValues(func() (digest.Digest, bool) {
		sum, settled := v.Fingerprint()
		return digest.Of(fmt.Appendf(nil, "%s %s %q", sum, statefile.Program(), rules)), settled
	})
	if !c.any {
		go c.of() // for Remember, beside the check
	}
}

// Findings returns what was found in the same files, if it is known.
func (c *Checked) Findings() (found []check.Finding, ok bool) {
	if !c.any {
		return nil, false
	}
	if sum, _ := c.of(); c.have.of != sum || json.Unmarshal([]byte(c.have.findings), &found) != nil {
		return nil, false
	}
	return found, true
}

// Remember stores what was found, if a later change of a file would show. It is only
// stored where the checkout already has a directory for it.
func (c *Checked) Remember(found []check.Finding) {
	text, err := json.Marshal(found)
	sum, settled := c.of()
	if _, missing := os.Stat(filepath.Dir(c.file)); err != nil || missing != nil || !settled {
		return
	}
	_ = checkedFormat.Save(c.file, checked{sum, string(text)}) // the next check finds it again
}
