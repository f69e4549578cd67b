package check

import "encoding/json"

// Types of SARIF 2.1.0 (OASIS), as far as a check has something to say:
// https://docs.oasis-open.org/sarif/sarif/v2.1.0/sarif-v2.1.0.html
type (
	sarifLog struct {
		Schema  string     `json:"$schema"`
		Version string     `json:"version"`
		Runs    []sarifRun `json:"runs"`
	}
	sarifRun struct {
		Tool       sarifTool     `json:"tool"`
		ColumnKind string        `json:"columnKind"`
		Results    []sarifResult `json:"results"`
	}
	sarifTool struct {
		Driver sarifDriver `json:"driver"`
	}
	sarifDriver struct {
		Name  string      `json:"name"`
		Rules []sarifRule `json:"rules"`
	}
	sarifRule struct {
		ID    string    `json:"id"`
		Short sarifText `json:"shortDescription"`
	}
	sarifText struct {
		Text string `json:"text"`
	}
	sarifResult struct {
		Rule         string            `json:"ruleId"`
		Level        string            `json:"level"`
		Message      sarifText         `json:"message"`
		Locations    []sarifLocation   `json:"locations"`
		Fingerprints map[string]string `json:"partialFingerprints"`
		Fixes        []sarifFix        `json:"fixes,omitempty"`
	}
	sarifLocation struct {
		Physical sarifPhysical `json:"physicalLocation"`
	}
	sarifPhysical struct {
		Artifact sarifArtifact `json:"artifactLocation"`
		Region   sarifRegion   `json:"region"`
	}
	sarifArtifact struct {
		URI  string `json:"uri"`
		Base string `json:"uriBaseId"`
	}
	sarifRegion struct {
		Line      int `json:"startLine"`
		Column    int `json:"startColumn"`
		EndLine   int `json:"endLine,omitempty"`
		EndColumn int `json:"endColumn,omitempty"`
	}
	sarifFix struct {
		Description sarifText     `json:"description"`
		Changes     []sarifChange `json:"artifactChanges"`
	}
	sarifChange struct {
		Artifact     sarifArtifact      `json:"artifactLocation"`
		Replacements []sarifReplacement `json:"replacements"`
	}
	sarifReplacement struct {
		Deleted  sarifRegion `json:"deletedRegion"`
		Inserted sarifText   `json:"insertedContent"`
	}
)

// SARIF returns findings in the Static Analysis Results Interchange Format, version
// 2.1.0.
func SARIF(list []Finding) ([]byte, error) {
	run := sarifRun{
		Tool: sarifTool{
			sarifDriver{Name: "Gray Loft", Rules: []sarifRule{}},
		}, ColumnKind: "unicodeCodePoints", Results: []sarifResult{},
	}
	for _, r := range Order {
		run.Tool.Driver.Rules = append(run.Tool.Driver.Rules, sarifRule{string(r), sarifText{Rules[r].Finds}})
	}
	for _, f := range list {
		r := sarifResult{
			Rule: string(f.Rule), Level: string(f.Severity), Message: sarifText{f.Message},
			Locations:    []sarifLocation{{sarifPhysical{artifact(f.File), sarifRegion{Line: f.Line, Column: f.Column}}}},
			Fingerprints: map[string]string{"subject/v1": f.Project + " " + f.Subject},
		}
		for _, e := range f.Edits {
			r.Fixes = append(r.Fixes, sarifFix{sarifText{f.Message}, []sarifChange{{artifact(e.File), []sarifReplacement{{
				sarifRegion{e.Line, e.Column, e.EndLine, e.EndColumn}, sarifText{e.Text},
			}}}}})
		}
		run.Results = append(run.Results, r)
	}
	text, err := json.MarshalIndent(sarifLog{
		"https://json.schemastore.org/sarif-2.1.0.json", "2.1.0", []sarifRun{run},
	}, "", "  ")
	return append(text, '\n'), err
}

func artifact(file string) sarifArtifact { return sarifArtifact{URI: file, Base: "%SRCROOT%"} }
