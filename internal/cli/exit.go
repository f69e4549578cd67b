package cli

import (
	"errors"
	"fmt"

	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/core/pick"
	"grayloft.example/grayloft/internal/machine/changes"
	"grayloft.example/grayloft/internal/machine/git"
	"grayloft.example/grayloft/internal/machine/inspect"
	"grayloft.example/grayloft/internal/machine/probe"
	"grayloft.example/grayloft/internal/remote"
)

// Exit codes. If several apply, the order of precedence is interrupted, wrong
// call, machine, failure.
const (
	exitFailed      = 1   // a task or a probe failed, or a check found something
	exitWrong       = 2   // the call or the declarations are wrong
	exitMachine     = 3   // neither the task's nor the caller's fault: disk, cache, service, missing program
	exitInterrupted = 130 // as shells report SIGINT
)

// exit is an error that ends the program with its own exit code. An empty
// message means that it was already printed.
type exit struct {
	code int
	msg  string
}

func (e exit) Error() string { return e.msg }

// wrong reports a mistake in the call.
func wrong(format string, args ...any) error {
	return exit{exitWrong, "grayloft: " + fmt.Sprintf(format, args...)}
}

// machineFault reports a fault that is neither the task's nor the caller's.
func machineFault(format string, args ...any) error {
	return exit{exitMachine, "grayloft: " + fmt.Sprintf(format, args...)}
}

// errFailed ends a command that has already printed what failed.
var errFailed = exit{exitFailed, ""}

// exitOf returns the exit code and the message of an error.
func exitOf(err error) (code int, message string) {
	var chosen exit
	if errors.As(err, &chosen) {
		return chosen.code, chosen.msg
	}
	if _, ok := graph.AsProblems(err); ok {
		return exitWrong, err.Error()
	}
	var expression *pick.Error
	var name *pick.NameError
	var since *changes.SinceError
	var unknown *inspect.UnknownError
	var placeholder *decl.PlaceholderError
	var noRepo *git.NoRepositoryError
	var probed *probe.FailedError
	var record *probe.RecordError
	var asked *inspect.ServiceError
	switch {
	case errors.As(err, &expression), errors.As(err, &name), errors.As(err, &since), errors.As(err, &unknown):
		return exitWrong, err.Error()
	case errors.As(err, &placeholder), errors.As(err, &noRepo):
		return exitWrong, "grayloft: " + err.Error()
	case errors.As(err, &probed), errors.As(err, &record):
		return exitFailed, "grayloft: " + err.Error()
	case errors.As(err, &asked):
		if code = exitMachine; remote.IsRefusal(err) { // it knows nothing by that name either
			code = exitWrong
		}
		return code, fmt.Sprintf("grayloft: %s, and the service %s", asked.Lacks, remote.Explain(asked.Err))
	}
	return exitMachine, "grayloft: " + err.Error()
}
