package sqlite

import (
	"testing"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/engine/enginetest"
)

func TestTheContract(t *testing.T) {
	enginetest.Holds(t, enginetest.Subject{Name: "sqlite", Stop: domain.StopReadOnly, Marked: true,
		Fresh: func(t *testing.T) (*engine.Opened, string, func(string) error) {
			db, w := apiary(t, "PRAGMA journal_mode = WAL")
			return db, schema, func(q string) error { _, err := w.ExecContext(t.Context(), q); return err }
		}})
}
