package mariadb

import (
	"database/sql"
	"strings"
	"testing"
	"time"

	"dustyferry/internal/domain"
)

// TestStoppingWritesAmongWaiters: a transaction that waits for another's row, which
// itself still has statements to run, does not keep writes from being stopped; one
// that never ends does, is said, and leaves nothing behind.
func TestStoppingWritesAmongWaiters(t *testing.T) {
	d, db := open(t)
	run(t, db, "CREATE TABLE x (id int PRIMARY KEY, v int) ENGINE=InnoDB", "INSERT INTO x VALUES (1, 0), (2, 0)",
		"CREATE USER app_stop@'127.0.0.1'", "GRANT SELECT, UPDATE ON "+d.end.Database+".* TO app_stop@'127.0.0.1'")
	m := *host
	m.User, m.Password = "app_stop", ""
	app, err := sql.Open("mysql", m.DSN(d.end.Database))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = app.Close() }()
	first, err := app.BeginTx(t.Context(), nil)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := first.ExecContext(t.Context(), "UPDATE x SET v = 1 WHERE id = 1"); err != nil {
		t.Fatal(err)
	}
	second := make(chan error, 1)
	go func() {
		_, err := app.ExecContext(t.Context(), "UPDATE x SET v = v + 2 WHERE id = 1")
		second <- err
	}()
	state := func(like string) {
		t.Helper()
		for range 400 {
			var n int
			if err := db.QueryRowContext(t.Context(), "SELECT count(*) FROM information_schema.processlist WHERE db = ? AND info LIKE ?", d.end.Database, like).Scan(&n); err != nil {
				t.Fatal(err)
			}
			if n > 0 {
				return
			}
			time.Sleep(10 * time.Millisecond)
		}
		t.Fatalf("no statement like %s runs", like)
	}
	state("%v + 2%")
	if _, err := d.StopWrites(t.Context(), domain.StopReadOnly, "", nil, 100*time.Millisecond); err == nil || !strings.Contains(err.Error(), "SHOW PROCESSLIST") {
		t.Errorf("writes that do not end: %v", err)
	}
	stopped := make(chan error, 1)
	go func() {
		_, err := d.StopWrites(t.Context(), domain.StopReadOnly, "", nil, 20*time.Second)
		stopped <- err
	}()
	state("SET GLOBAL read_only%")
	if _, err := first.ExecContext(t.Context(), "UPDATE x SET v = 1 WHERE id = 2"); err != nil {
		t.Errorf("the first transaction's next statement: %v", err)
	}
	if err := first.Commit(); err != nil {
		t.Errorf("the first transaction's commit: %v", err)
	}
	if err := <-second; err != nil {
		t.Errorf("the transaction that waited: %v", err)
	}
	if err := <-stopped; err != nil {
		t.Fatalf("stopping writes: %v", err)
	}
	if _, err := app.ExecContext(t.Context(), "UPDATE x SET v = 9 WHERE id = 1"); err == nil {
		t.Error("a write came through after the stop")
	}
	if err := d.Reopen(t.Context(), domain.StopReadOnly, "", nil); err != nil {
		t.Fatal(err)
	}
	if _, err := app.ExecContext(t.Context(), "UPDATE x SET v = 9 WHERE id = 1"); err != nil {
		t.Errorf("a write after the source was opened again: %v", err)
	}
}
