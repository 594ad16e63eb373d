package postgres

import (
	"errors"
	"fmt"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"dustyferry/internal/engine"
)

// TestClassesOfErrors: what an error of the server means for whoever tries again, explained or as
// the driver gave it.
func TestClassesOfErrors(t *testing.T) {
	d := &database{name: "here", conf: &pgx.ConnConfig{}}
	for _, c := range []struct {
		err  error
		want engine.Class
	}{
		{&pgconn.PgError{Code: "57P03", Message: "the database system is starting up"}, engine.Gone},
		{&pgconn.PgError{Code: "08006"}, engine.Gone},
		{&pgconn.PgError{Code: "53100", Message: "disk full"}, engine.NoRoom},
		{&pgconn.PgError{Code: "53300"}, engine.NoRoom},
		{&pgconn.PgError{Code: "58030", Message: "could not write"}, engine.NoRoom},
		{&pgconn.PgError{Code: "XX000", Message: "could not extend file \"base/1\""}, engine.NoRoom},
		{&pgconn.PgError{Code: "40P01"}, engine.Collision},
		{&pgconn.PgError{Code: "55P03"}, engine.Collision},
		{&pgconn.PgError{Code: "23505"}, engine.OfRows},
		{&pgconn.PgError{Code: "23514"}, engine.OfRows},
		{&pgconn.PgError{Code: "23514", Routine: "ExecFindPartition"}, engine.NoPartition},
		{&pgconn.PgError{Code: "22001"}, engine.OfRows},
		{&pgconn.PgError{Code: "42P01"}, engine.OfStatement},
		{&pgconn.PgError{Code: "28P01"}, engine.Unclassed},
		{&pgconn.PgError{}, engine.Unclassed},
		{errors.New("anything"), engine.Unclassed},
	} {
		for _, err := range []error{c.err, d.explain(c.err)} {
			if got := engine.ClassOf(fmt.Errorf("applying: %w", err)); got != c.want {
				t.Errorf("%v is of class %d, want %d", err, got, c.want)
			}
		}
	}
}
