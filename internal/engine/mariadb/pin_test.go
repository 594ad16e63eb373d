package mariadb

import (
	"strings"
	"testing"

	"dustyferry/internal/domain"
)

// TestSessionsAreOurs: whatever the server gives its sessions, all of ours are set alike, and
// one that cannot be is told of.
func TestSessionsAreOurs(t *testing.T) {
	d, root := open(t)
	run(t, root, "SET GLOBAL init_connect = 'SET NAMES latin1, sql_select_limit = 2'", "SET GLOBAL sql_select_limit = "+
		"2, GLOBAL max_statement_time = 0.5, GLOBAL time_zone = '+05:00', GLOBAL wait_timeout = 2, GLOBAL sql_mode = "+
		"'PAD_CHAR_TO_FULL_LENGTH', GLOBAL sql_notes = 0")
	t.Cleanup(func() {
		for _, q := range []string{"SET GLOBAL init_connect = ''", "SET GLOBAL sql_select_limit = DEFAULT, GLOBAL " +
			"max_statement_time = 0, GLOBAL wait_timeout = DEFAULT, GLOBAL time_zone = 'SYSTEM', GLOBAL sql_mode = DEFAULT, " +
			"GLOBAL sql_notes = 1"} {
			if _, err := root.Exec(q); err != nil {
				t.Error(err)
			}
		}
	})
	d.pool.SetMaxIdleConns(0)
	const look = "SELECT CONCAT_WS(' ', @@character_set_client, @@character_set_results, @@sql_select_limit, " +
		"@@max_statement_time, @@time_zone, @@wait_timeout, @@foreign_key_checks, @@sql_mode LIKE '%PAD_CHAR%', " +
		"@@sql_notes + 0)"
	const want = "utf8mb4 utf8mb4 18446744073709551615 0.000000 +00:00 28800 ON 0 1"
	var pooled, wired string
	if err := d.pool.QueryRowContext(t.Context(), look).Scan(&pooled); err != nil {
		t.Fatal(err)
	}
	w, err := d.dial(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer w.close()
	if err := w.rows(t.Context(), look, func(f [][]byte) error { wired = string(f[0]); return nil }); err != nil {
		t.Fatal(err)
	}
	if pooled != want || wired != want {
		t.Errorf("sessions are %q and %q, want %q", pooled, wired, want)
	}
	if err := d.unpinned(" sql_mode time_zone"); !domain.IsKind(err, domain.ProblemConflict) ||
		!strings.Contains(err.Error(), "sql_mode, time_zone") {
		t.Error(err)
	}
}
