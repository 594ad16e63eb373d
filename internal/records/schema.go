package records

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"

	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/lock"

	"dustyferry/internal/domain"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Migrate brings the schema up to date; several processes may do so at once.
func (s *conn) Migrate(ctx context.Context) error { return s.MigrateTo(ctx, Known()) }

// MigrateTo brings the schema up to a version, as the program that knew no newer one did.
func (s *conn) MigrateTo(ctx context.Context, version int64) error {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	locker, err := lock.NewPostgresSessionLocker()
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectPostgres, s.DB.DB, sub, goose.WithSessionLocker(locker))
	if err != nil {
		return err
	}
	stands, err := s.Schema(ctx)
	if err != nil {
		return err
	}
	if known := Known(); stands > known {
		return Newer(stands)
	}
	if _, err := p.UpTo(ctx, version); err != nil {
		return fmt.Errorf("bringing the control database's schema up to date: %w", err)
	}
	return nil
}

// Known is the newest version of the schema that this program knows.
func Known() int64 {
	list, _ := fs.Glob(migrations, "migrations/*.sql")
	var newest int64
	for _, name := range list {
		v, _ := goose.NumericComponent(name)
		newest = max(newest, v)
	}
	return newest
}

// Schema is the version of the control database's schema, 0 before the first.
func (s *conn) Schema(ctx context.Context) (int64, error) {
	there, err := single[bool](ctx, s, `SELECT to_regclass('goose_db_version') IS NOT NULL`)
	if err != nil || !there {
		return 0, err
	}
	return single[int64](ctx, s, `SELECT coalesce(max(version_id), 0) FROM goose_db_version WHERE is_applied`)
}

// Newer is the error of a program that is older than the control database.
func Newer(stands int64) error {
	return domain.Conflict("the control database has been brought to version %d by a newer program; this one knows "+
		"version %d. "+
		"Start the newer program here too", stands, Known())
}

// Older is the error of a program that is newer than the control database.
func Older(stands int64) error {
	return domain.Conflict("the control database is at version %d and this program needs version %d. Stop every process "+
		"of the older program, "+
		"then run 'dustyferry migrate' with this one's settings (or 'dustyferry serve --migrate'): it keeps a dump first",
		stands, Known())
}

// FactKey is the fact that holds the fingerprint of the key that seals secrets.
const FactKey = "key fingerprint"

// Fact returns what the control database is sure of, or "".
func (s *conn) Fact(ctx context.Context, name string) (string, error) {
	v, err := single[string](ctx, s, `SELECT value FROM facts WHERE name = $1`, name)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return v, err
}

// FirstFact keeps a fact where there is none yet, and returns the one that stands.
func (s *conn) FirstFact(ctx context.Context, name, value string) (string, error) {
	_, err := s.DB.ExecContext(ctx, `INSERT INTO facts (name, value) VALUES ($1, $2) ON CONFLICT DO NOTHING`, name, value)
	if err != nil {
		return "", err
	}
	return s.Fact(ctx, name)
}

// SetFact replaces a fact.
func (s *conn) SetFact(ctx context.Context, name, value string) error {
	_, err := s.DB.ExecContext(ctx, `
INSERT INTO facts (name, value) VALUES ($1, $2) ON CONFLICT (name) DO UPDATE SET value = excluded.value`, name, value)
	return err
}

// Superuser reports whether the control database lets us do everything on its server.
func (s *conn) Superuser(ctx context.Context) (bool, error) {
	return single[bool](ctx, s, `SELECT rolsuper FROM pg_roles WHERE rolname = current_user`)
}

// Live lists the processes that were seen within the last seconds.
func (s *conn) Live(ctx context.Context) ([]string, error) {
	return all[string](ctx, s, `SELECT name FROM workers WHERE seen_at > now() - interval '12 seconds' ORDER BY name`)
}
