package postgres

import (
	"context"
	"testing"

	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/engine/enginetest"

	"github.com/jackc/pgx/v5"
)

func TestTheContract(t *testing.T) {
	enginetest.Holds(t, enginetest.Subject{Name: typemap.Postgres, Stop: domain.StopLock,
		Fresh: func(t *testing.T) (*engine.Opened, string, func(string) error) {
			d := fresh(t)
			db, err := engine.Open(t.Context(), Driver{}, engine.Endpoint{Host: host.Host, Port: host.Port,
				Database: d.conf.Database, User: "postgres", Password: host.Password, TLS: "disable"})
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(db.Close)
			plain, err := pgx.Connect(t.Context(), host.URL(d.conf.Database))
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { _ = plain.Close(context.Background()) })
			return db, d.conf.Database, func(q string) error { _, err := plain.Exec(t.Context(), q); return err }
		}})
}
