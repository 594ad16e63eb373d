package mariadb

import (
	"errors"
	"fmt"
	"testing"

	"github.com/go-sql-driver/mysql"

	"dustyferry/internal/engine"
)

// TestClassesOfErrors: what an error of the server means for whoever tries again.
func TestClassesOfErrors(t *testing.T) {
	d := &database{name: "here"}
	for _, c := range []struct {
		err  error
		want engine.Class
	}{
		{mysql.ErrInvalidConn, engine.Gone}, {&mysql.MySQLError{Number: 1053, SQLState: [5]byte{'0', '8', 'S', '0', '1'},
			Message: "Server shutdown in progress"}, engine.Gone},
		{&mysql.MySQLError{Number: 1927, SQLState: [5]byte{'7', '0', '1', '0', '0'}, Message: "Connection was killed"},
			engine.Gone},
		{&mysql.MySQLError{Number: 1213, Message: "Deadlock found"}, engine.Collision},
		{&mysql.MySQLError{Number: 1205, Message: "Lock wait timeout exceeded"}, engine.Collision},
		{&mysql.MySQLError{Number: 1062, SQLState: [5]byte{'2', '3', '0', '0', '0'},
			Message: "Duplicate entry '' for key '*UNKNOWN*'"}, engine.Collision},
		{&mysql.MySQLError{Number: 1062, SQLState: [5]byte{'2', '3', '0', '0', '0'},
			Message: "Duplicate entry '7' for key 'u'"}, engine.OfRows},
		{&mysql.MySQLError{Number: 1114, Message: "The table 'hives' is full"}, engine.NoRoom},
		{&mysql.MySQLError{Number: 1021, Message: "Disk full"}, engine.NoRoom},
		{&mysql.MySQLError{Number: 1290, Message: "The MariaDB server is running with the --read-only option so it cannot " +
			"execute this statement"}, engine.NoRoom},
		{&mysql.MySQLError{Number: 1290, Message: "The MariaDB server is running with the --secure-file-priv option"},
			engine.Unclassed},
		{&mysql.MySQLError{Number: 1030, Message: "Got error 28 \"No space left on device\" from storage engine InnoDB"},
			engine.NoRoom},
		{&mysql.MySQLError{Number: 1040, Message: "Too many connections"}, engine.NoRoom},
		{&mysql.MySQLError{Number: 1153, Message: "Got a packet bigger than 'max_allowed_packet' bytes"}, engine.OfRows},
		{&mysql.MySQLError{Number: 1146, SQLState: [5]byte{'4', '2', 'S', '0', '2'}, Message: "Table 'x' doesn't exist"},
			engine.OfStatement}, {errors.New("anything"), engine.Unclassed},
	} {
		if got := engine.ClassOf(fmt.Errorf("applying: %w", d.explain(c.err))); got != c.want {
			t.Errorf("%v is of class %d, want %d", c.err, got, c.want)
		}
	}
}
