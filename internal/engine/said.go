package engine

import (
	"context"
	"errors"
	"io"
	"net"
	"strings"

	"dustyferry/internal/domain"
)

// ServerError is what a database server said, as one sentence.
type ServerError struct {
	Text  string
	State string // SQLSTATE
	Err   error
}

func (e *ServerError) Error() string    { return e.Text }
func (e *ServerError) Unwrap() error    { return e.Err }
func (e *ServerError) SQLState() string { return e.State }

// Collided reports whether a server ended a statement because another stood in its
// way: it can be tried again as it was.
func Collided(err error) bool {
	var said *ServerError
	if !errors.As(err, &said) {
		return false
	}
	switch said.State {
	case "40P01", "40001", "55P03": // deadlock, serialization, lock not available
		return true
	}
	return strings.Contains(said.Text, "error 1205") // MariaDB's lock wait timeout has no state of its own
}

// Away reports whether a server was not there: it was not reached, cut the connection, or is
// starting or stopping. It can come back by itself.
func Away(err error) bool {
	var said *ServerError
	if errors.As(err, &said) && strings.HasPrefix(said.State, "57P") {
		return true
	}
	var state interface{ SQLState() string }
	if errors.As(err, &state) {
		return strings.HasPrefix(state.SQLState(), "57P")
	}
	var op *net.OpError
	return errors.As(err, &op) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
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
		return domain.Unavailable(err, "%s cannot be reached (%s); check host and port, that the server runs and that a firewall lets us in", name, op.Err)
	case errors.Is(err, context.DeadlineExceeded):
		return domain.Unavailable(err, "%s did not answer in time; check host and port, and that a firewall lets us in", name)
	}
	return err
}
