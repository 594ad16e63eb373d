package records

import (
	"errors"
	"io"
	"net"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"
)

// Away reports whether an error of the records is the control database's that is away: it ends its
// sessions (57P), takes no more (53), or the connection broke.
func Away(err error) bool {
	var said *pgconn.PgError
	if errors.As(err, &said) {
		return strings.HasPrefix(said.Code, "57P") || strings.HasPrefix(said.Code, "53") || strings.HasPrefix(said.Code, "08")
	}
	var broken net.Error
	return errors.As(err, &broken) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) ||
		errors.Is(err, net.ErrClosed)
}
