package cli

import (
	"cmp"
	"context"
	"errors"

	"widecrate/core/fault"
	"widecrate/core/report"
)

// exitCodes are part of the interface.
var exitCodes = map[fault.Kind]int{
	fault.Other:      1,
	fault.Usage:      2,
	fault.Refused:    3,
	fault.Incomplete: 4,
	fault.Password:   5,
	fault.NoMatch:    6,
	fault.Damaged:    7,
	fault.Unreadable: 8,
	fault.Unsafe:     9,
	fault.Unwritable: 10,
}

// So is that of an interrupt.
const (
	exitInterrupted = 130
	exitUnread      = 141 // whoever read standard output closed it; that of a program that SIGPIPE ends
	interrupted     = "interrupted; what was not complete has been removed"
)

// codeOf is the exit code for a kind of failure.
func codeOf(k fault.Kind) int { return exitCodes[k] }

// reported is an error that the command has shown already.
type reported struct{ error }

func (r reported) Unwrap() error { return r.error }

// both is the error of a command that failed in two ways. Each is shown, once; but what an
// interrupt brings with it is not.
func (s *streams) both(first, second error) error {
	if errors.Is(first, context.Canceled) {
		return first
	}
	if first == nil || second == nil {
		return cmp.Or(first, second)
	}
	var failures report.Failures
	for _, err := range []error{first, second} {
		if _, shown := errors.AsType[reported](err); !shown {
			s.Failed(err)
		}
		failures.Add(err)
	}
	return reported{failures.Err()}
}

// exitCode is that of an error.
func exitCode(err error) int {
	switch {
	case err == nil:
		return 0
	case errors.Is(err, context.Canceled):
		return exitInterrupted
	}
	return codeOf(fault.Of(err))
}

// errShortHelp is the error of a command line that only asks for the short help.
var errShortHelp = errors.New("short help")
