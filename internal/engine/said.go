package engine

import (
	"context"
	"errors"
	"io"
	"net"

	"dustyferry/internal/domain"
)

// ServerError is what a database server said, as one sentence.
type ServerError struct {
	Text  string
	Class Class // as the engine knows it
	Err   error
}

func (e *ServerError) Error() string { return e.Text }
func (e *ServerError) Unwrap() error { return e.Err }

// OfServer tells what a database server said from all other errors.
func (e *ServerError) OfServer() {}

// Class is what a refusal means for whoever tries again. Each engine sorts its server's
// errors into them.
type Class int

// The classes.
const (
	Unclassed   Class = iota
	Gone              // the server was not there: it can come back by itself
	NoRoom            // it can take nothing now: no disk, memory or connections left, or read-only
	Collision         // another statement stood in the way: it can be tried again as it was
	OfRows            // rows themselves were refused, by their values, by rules or as too large
	NoPartition       // a row was, as no partition is there for it
	OfStatement       // the statement was: an object or a right is missing
)

// classifiers are how engines sort errors of their servers that come as a driver gave them.
var classifiers []func(error) Class

// Classifies adds an engine's own way; each engine does so as it is linked in.
func Classifies(f func(error) Class) { classifiers = append(classifiers, f) }

// ClassOf is the class of an error, whoever gave it.
func ClassOf(err error) Class {
	var said *ServerError
	if errors.As(err, &said) && said.Class != Unclassed {
		return said.Class
	}
	for _, f := range classifiers {
		if c := f(err); c != Unclassed {
			return c
		}
	}
	var op *net.OpError
	if errors.As(err, new(gone)) || errors.As(err, &op) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) ||
		errors.Is(err, context.DeadlineExceeded) { // it did not answer in time
		return Gone
	}
	return Unclassed
}

// gone marks an error that came of a connection that ended.
type gone struct{ error }

func (g gone) Unwrap() error { return g.error }

// MarkGone marks an error of a driver as one of a connection that ended.
func MarkGone(err error) error { return gone{err} }

// Collided reports whether a server ended a statement because another stood in its
// way: it can be tried again as it was.
func Collided(err error) bool { return ClassOf(err) == Collision }

// Away reports whether a server was not there, or can take nothing now: it was not reached,
// cut the connection, is starting or stopping, is full or read-only. It can come back by itself.
func Away(err error) bool {
	c := ClassOf(err)
	return c == Gone || c == NoRoom
}

// Unreached says of an error on the way to a server what to do about it; other
// errors come back as they are.
func Unreached(name string, err error) error {
	var op *net.OpError
	var dns *net.DNSError
	switch {
	case errors.As(err, &dns):
		return domain.Unavailable(err, "the host of %s cannot be found; check its name", name)
	case errors.As(err, &op):
		return domain.Unavailable(err, "%s cannot be reached (%s); check host and port, that the server runs and that a "+
			"firewall lets us in", name, op.Err)
	case errors.Is(err, context.DeadlineExceeded):
		return domain.Unavailable(err, "%s did not answer in time; check host and port, and that a firewall lets us in", name)
	}
	return err
}

// RowsRefused reports whether rows themselves may be what was refused: by their values, by
// rules of the table, or as larger than the server can take.
func RowsRefused(err error) bool {
	c := ClassOf(err)
	return c == OfRows || c == NoPartition || domain.IsKind(err, domain.ProblemConflict)
}

// Lasting reports whether trying again cannot help: the database itself says that data or
// permissions are wrong, or a person has to do something.
func Lasting(err error) bool { return RowsRefused(err) || ClassOf(err) == OfStatement }
