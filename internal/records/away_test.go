package records_test

import (
	"errors"
	"fmt"
	"io"
	"net"
	"testing"

	"github.com/jackc/pgx/v5/pgconn"

	"dustyferry/internal/records"
)

// TestAControlDatabaseThatIsAway is no fault inside the service: a client asks again.
func TestAControlDatabaseThatIsAway(t *testing.T) {
	for _, c := range []struct {
		err  error
		away bool
	}{
		{fmt.Errorf("reading: %w", &pgconn.PgError{Code: "57P01"}), true},
		{&pgconn.PgError{Code: "08006"}, true},
		{&net.OpError{Op: "dial", Err: errors.New("connection refused")}, true},
		{fmt.Errorf("reading: %w", io.ErrUnexpectedEOF), true},
		{&pgconn.PgError{Code: "42P01"}, false},
		{errors.New("another"), false},
	} {
		if records.Away(c.err) != c.away {
			t.Errorf("%v: away %t", c.err, !c.away)
		}
	}
}
