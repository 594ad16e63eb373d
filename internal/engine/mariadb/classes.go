package mariadb

import (
	"errors"
	"strings"

	"github.com/go-sql-driver/mysql"

	"dustyferry/internal/engine"
)

func init() {
	engine.Classifies(func(err error) engine.Class {
		var e *mysql.MySQLError
		if !errors.As(err, &e) {
			return engine.Unclassed
		}
		return classOf(e)
	})
}

// classOf sorts the server's errors by their numbers, as many have a state that says little
// (its documentation, "MariaDB Error Code Reference").
func classOf(e *mysql.MySQLError) engine.Class {
	switch e.Number {
	case 1053, 1152, 1158, 1159, 1160, 1161, 1184, 1927, 2006, 2013: // stopping, or the connection ended
		return engine.Gone
	case 1205, 1213, 1020: // a lock, a deadlock, a row that changed meanwhile
		return engine.Collision
	// disk, memory, table space, threads or a user's share used up; read-only
	case 1021, 1037, 1038, 1041, 1114, 1135, 1226, 1836:
		return engine.NoRoom
	case 1290:
		if strings.Contains(e.Message, "read-only") || strings.Contains(e.Message, "read_only") {
			return engine.NoRoom
		}
	case 3, 1005, 1026, 1030: // of files, with the system's number: no space, or a quota
		if strings.Contains(e.Message, "28") || strings.Contains(e.Message, "122") ||
			strings.Contains(e.Message, "No space left") {
			return engine.NoRoom
		}
	case 1062: // an index that is built while rows change meets them before they have settled, and cannot name its key
		if strings.Contains(e.Message, "*UNKNOWN*") {
			return engine.Collision
		}
	case 1118, 1153, 1406, 1301, 1265: // a row, a packet or a value too large; one that would be cut or become another
		return engine.OfRows
	}
	switch string(e.SQLState[:2]) { // the standard's classes, for all others
	case "08":
		return engine.Gone
	case "22", "23":
		return engine.OfRows
	case "40":
		return engine.Collision
	case "42":
		return engine.OfStatement
	}
	return engine.Unclassed
}
