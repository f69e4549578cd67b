package check

import (
	"encoding/json"
	"fmt"
	"slices"
)

// baselineVersion is the version of the format of baselines: JSON with "version"
// and "findings", each with rule, project and subject. Lines are not part of it,
// so that it holds while a file is edited elsewhere.
const baselineVersion = 1

type baseline struct {
	Version  int     `json:"version"`
	Findings []known `json:"findings"`
}

type known struct {
	Rule    Rule   `json:"rule"`
	Project string `json:"project"`
	Subject string `json:"subject"`
}

// WriteBaseline returns a baseline with some findings.
func WriteBaseline(list []Finding) ([]byte, error) {
	b := baseline{Version: baselineVersion, Findings: []known{}}
	for _, f := range list {
		b.Findings = append(b.Findings, known{f.Rule, f.Project, f.Subject})
	}
	text, err := json.MarshalIndent(b, "", "  ")
	return append(text, '\n'), err
}

// New returns the findings that are not in a baseline, and how many are. The error
// says that the text is no baseline.
func New(list []Finding, text []byte) (fresh []Finding, old int, err error) {
	var b baseline
	if err := json.Unmarshal(text, &b); err != nil {
		return nil, 0, fmt.Errorf("it is not a baseline: %w", err)
	}
	if b.Version != baselineVersion {
		return nil, 0, fmt.Errorf("it is a baseline of version %d, and this program reads version %d", b.Version, baselineVersion)
	}
	fresh = []Finding{}
	for _, f := range list {
		if slices.Contains(b.Findings, known{f.Rule, f.Project, f.Subject}) {
			old++
			continue
		}
		fresh = append(fresh, f)
	}
	return fresh, old, nil
}
