package postgres

import "context"

// Transactions of ours say in the log whose rows they bring, before their first change, so
// that a capture of this database can tell them from the application's own. A message in the
// log needs no rights, and any number of sessions can write the same.

// originPrefix is what such a message begins with.
const originPrefix = "dusty_ferry origin"

// beginMarked begins a transaction that brings rows of the origin.
func beginMarked(origin string) string {
	return "BEGIN; SELECT pg_logical_emit_message(true, " + literal(originPrefix) + ", " + literal(origin) + ")"
}

// Origin names the database by the number that its server got when it was made, which a
// promoted copy keeps.
func (d *database) Origin(ctx context.Context) (string, error) {
	var name string
	err := d.pool.QueryRow(ctx, `SELECT 'postgres ' || system_identifier || ' ' || current_database()
  FROM pg_control_system()`).Scan(&name)
	return name, d.explain(err)
}
