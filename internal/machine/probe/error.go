package probe

import (
	"fmt"
	"slices"
	"strings"

	"grayloft.example/grayloft/internal/core/amount"
	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/machine/process"
)

// FailedError says that a probe did not exit with success.
type FailedError struct {
	Name     string
	Declared *decl.Probe
	Result   process.Result
	Output   string
}

func (e *FailedError) Error() string {
	return fmt.Sprintf("probe %q (%s, in %s): %s\n%s", e.Name, e.Declared.Run, e.Declared.Pos.At(), e.Result, shortened(e.Output))
}

// shownAtEachEnd is how many lines of a long output an error shows of its beginning and end.
const shownAtEachEnd = 10

func shortened(text string) string {
	lines := strings.Split(text, "\n")
	more := len(lines) - 2*shownAtEachEnd
	if more <= 1 {
		return text
	}
	between := "… " + amount.Count(more, "line", "lines") + " …"
	return strings.Join(slices.Concat(lines[:shownAtEachEnd], []string{between}, lines[len(lines)-shownAtEachEnd:]), "\n")
}

// RecordError says that what a package manager installed cannot be told.
type RecordError struct {
	Declared *decl.Probe
	Err      error // which file is missing or damaged, and what to do
}

func (e *RecordError) Error() string {
	return fmt.Sprintf("probe %q (%s): %v", e.Declared.Name, e.Declared.Pos.At(), e.Err)
}

func (e *RecordError) Unwrap() error { return e.Err }
