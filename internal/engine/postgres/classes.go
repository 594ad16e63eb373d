package postgres

import (
	"errors"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"dustyferry/internal/engine"
)

func init() { engine.Classifies(classOf) }

// classOf sorts the server's errors by SQLSTATE: the standard's classes and PostgreSQL's own (its
// documentation, appendix "PostgreSQL Error Codes").
func classOf(err error) engine.Class {
	var pe *pgconn.PgError
	if !errors.As(err, &pe) || len(pe.Code) != 5 {
		return engine.Unclassed
	}
	switch pe.Code {
	case "40P01", "40001", "55P03": // deadlock, serialization, lock not available
		return engine.Collision
	case "23514":
		if pe.Routine == "ExecFindPartition" {
			return engine.NoPartition
		}
	}
	if strings.Contains(pe.Message, "could not extend file") { // a full disk comes as an error of the system
		return engine.NoRoom
	}
	switch pe.Code[:2] {
	case "22", "23", "54":
		return engine.OfRows
	case "42":
		return engine.OfStatement
	case "53", "58":
		return engine.NoRoom
	case "08":
		return engine.Gone
	}
	if strings.HasPrefix(pe.Code, "57P") {
		return engine.Gone
	}
	return engine.Unclassed
}
