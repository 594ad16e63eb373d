package mariadb

import (
	"testing"

	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/engine/enginetest"
)

func TestTheContract(t *testing.T) {
	enginetest.Holds(t, enginetest.Subject{Name: typemap.MariaDB, Stop: domain.StopReadOnly, Above: true,
		Fresh: func(t *testing.T) (*engine.Opened, string, func(string) error) {
			d, plain := open(t)
			db, err := engine.Open(t.Context(), Driver{}, d.end)
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(db.Close)
			return db, d.end.Database, func(q string) error { _, err := plain.ExecContext(t.Context(), q); return err }
		}})
}
