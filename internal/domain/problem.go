package domain

import (
	"errors"
	"fmt"
)

// ProblemKind sorts errors by what a caller can do about them.
type ProblemKind string

// The kinds of problem.
const (
	ProblemInvalid     ProblemKind = "invalid"     // the request is wrong; correct it
	ProblemNotFound    ProblemKind = "not-found"   // the thing named is not there
	ProblemConflict    ProblemKind = "conflict"    // not in this state
	ProblemForbidden   ProblemKind = "forbidden"   // the role does not allow it
	ProblemUnavailable ProblemKind = "unavailable" // a database or server cannot be reached now
)

// Problem is an error a person caused or can mend. Message is one sentence that
// says what is wrong and what to do.
type Problem struct {
	Kind    ProblemKind
	Message string
	Err     error
}

func (p *Problem) Error() string { return p.Message }

// Unwrap returns the cause, if any.
func (p *Problem) Unwrap() error { return p.Err }

// Invalid returns a problem of kind invalid.
func Invalid(format string, args ...any) error { return problem(ProblemInvalid, format, args) }

// NotFound returns a problem of kind not-found.
func NotFound(format string, args ...any) error { return problem(ProblemNotFound, format, args) }

// Conflict returns a problem of kind conflict.
func Conflict(format string, args ...any) error { return problem(ProblemConflict, format, args) }

// Forbidden returns a problem of kind forbidden.
func Forbidden(format string, args ...any) error { return problem(ProblemForbidden, format, args) }

// Unavailable returns a problem of kind unavailable that wraps its cause.
func Unavailable(err error, format string, args ...any) error {
	return &Problem{Kind: ProblemUnavailable, Message: fmt.Sprintf(format, args...), Err: err}
}

func problem(kind ProblemKind, format string, args []any) error {
	return &Problem{Kind: kind, Message: fmt.Sprintf(format, args...)}
}

// IsKind reports whether err is or wraps a problem of that kind.
func IsKind(err error, kind ProblemKind) bool {
	var p *Problem
	return errors.As(err, &p) && p.Kind == kind
}

// ErrTakenOver says that a newer holder (chunk, stream or task) exists: what was
// being done must be dropped without a trace.
var ErrTakenOver = errors.New("another worker took this over")

// ChangedMeanwhile says that a crossing is not as it was when somebody looked at it.
func ChangedMeanwhile(c *Crossing) error {
	return Conflict("crossing %s has changed in the meantime; look at it again", c.Name)
}
