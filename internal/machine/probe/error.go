package probe

import (
	"fmt"

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
	return fmt.Sprintf("probe %q (%s, in %s): %s\n%s", e.Name, e.Declared.Run, e.Declared.Pos.At(), e.Result, e.Output)
}
