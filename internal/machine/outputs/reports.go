package outputs

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"

	"grayloft.example/grayloft/internal/core/junit"
	"grayloft.example/grayloft/internal/core/listing"
)

// mostReports limits how many reports of a task are read.
const mostReports = 1000

// Reports reads the JUnit XML files that the task made. Problems are sentences
// about those that cannot be read; the others are returned all the same.
func (o *Set) Reports() (cases []junit.Case, problems []error) {
	base, err := o.open()
	if base == nil || err != nil {
		return nil, nil
	}
	defer base.Close()
	found, err := o.reports()
	if err != nil {
		return nil, []error{err}
	}
	for i, f := range found {
		if i == mostReports {
			return cases, append(problems, fmt.Errorf("only the first %d reports are read", mostReports))
		}
		more, err := readReport(base.Open, f.Path)
		if err != nil {
			problems = append(problems, fmt.Errorf("the report %s is not used: %w", o.fromRoot(f.Path), err))
		}
		cases = append(cases, more...)
		if len(cases) > junit.MaxCases {
			return cases[:junit.MaxCases], append(problems, fmt.Errorf("only the first %d test cases are recorded", junit.MaxCases))
		}
	}
	return cases, problems
}

func readReport[F fs.File](open func(string) (F, error), name string) ([]junit.Case, error) {
	f, err := open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, junit.MaxBytes+1))
	if err != nil {
		return nil, err
	}
	return junit.Parse(text)
}

// ClearReports deletes the reports of an earlier run, so that they are not taken
// for those of the next one.
func (o *Set) ClearReports(ctx context.Context) error {
	found, err := o.reports()
	if err != nil || len(found) == 0 {
		return err
	}
	base, err := o.open()
	if base == nil || err != nil {
		return err
	}
	defer base.Close()
	for _, f := range found {
		if err := base.Remove(f.Path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("deleting an earlier report: %w", err)
		}
	}
	return ctx.Err()
}

// reports lists the files that match the task's reports.
func (o *Set) reports() (listing.List, error) {
	all, _, err := o.search(o.Task.Reports)
	return slices.DeleteFunc(all, func(r listing.Row) bool { return r.Kind != listing.File }), err
}
