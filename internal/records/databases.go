package records

import (
	"context"
	"errors"

	"github.com/jackc/pgx/v5/pgconn"

	"dustyferry/internal/domain"
)

// DatabaseStore keeps the registered databases.
type DatabaseStore struct{ *conn }

const databaseColumns = `SELECT id, uid, name, engine, host, port, dbname AS db_name, username, secret, tls, created_at
  FROM databases`

// AddDatabase registers a database.
func (s DatabaseStore) AddDatabase(ctx context.Context, d domain.Database) error {
	_, err := s.DB.NamedExecContext(ctx, `
INSERT INTO databases (uid, name, engine, host, port, dbname, username, secret, tls)
VALUES (:uid, :name, :engine, :host, :port, :db_name, :username, :secret, :tls)`, d)
	if duplicate(err) {
		return domain.Conflict("a database named %s is registered already; choose another name, or remove that one first",
			d.Name)
	}
	return err
}

// Databases lists all, by name.
func (s DatabaseStore) Databases(ctx context.Context) ([]domain.Database, error) {
	return all[domain.Database](ctx, s, databaseColumns+` ORDER BY name`)
}

// UsersOfDatabases names the crossings that use each database, by its number.
func (s DatabaseStore) UsersOfDatabases(ctx context.Context) (map[int64][]string, error) {
	rows, err := all[struct {
		ID   int64  `db:"id"`
		Name string `db:"name"`
	}](ctx, s, `
SELECT source_id AS id, name FROM crossings UNION SELECT target_id, name FROM crossings ORDER BY 1, 2`)
	out := map[int64][]string{}
	for _, r := range rows {
		out[r.ID] = append(out[r.ID], r.Name)
	}
	return out, err
}

// Database returns one by its name.
func (s DatabaseStore) Database(ctx context.Context, name string) (domain.Database, error) {
	var d domain.Database
	err := s.DB.GetContext(ctx, &d, databaseColumns+` WHERE name = $1`, name)
	return d, notFound(err, "no database named %s is registered; 'dustyferry database list' shows those that are", name)
}

// ChangeDatabase keeps how a database is reached now.
func (s DatabaseStore) ChangeDatabase(ctx context.Context, d domain.Database) error {
	_, err := s.DB.NamedExecContext(ctx, `
UPDATE databases SET uid = :uid, host = :host, port = :port, username = :username, secret = :secret, tls = :tls
  WHERE id = :id`, d)
	return err
}

// RemoveDatabase forgets a database that no crossing uses.
func (s DatabaseStore) RemoveDatabase(ctx context.Context, name string) error {
	if _, err := s.Database(ctx, name); err != nil {
		return err
	}
	_, err := s.DB.ExecContext(ctx, `DELETE FROM databases WHERE name = $1`, name)
	var pe *pgconn.PgError
	if errors.As(err, &pe) && pe.Code == "23503" {
		return domain.Conflict("database %s is used by a crossing; remove that crossing first", name)
	}
	return err
}
