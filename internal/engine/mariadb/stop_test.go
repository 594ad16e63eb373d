package mariadb

import (
	"database/sql"
	"fmt"
	"strings"
	"testing"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
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
			if err := db.QueryRowContext(t.Context(), "SELECT count(*) FROM information_schema.processlist WHERE db = ? AND "+
				"info LIKE ?", d.end.Database, like).Scan(&n); err != nil {
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
	if _, err := d.StopWrites(t.Context(), domain.StopReadOnly, "", nil, 100*time.Millisecond); err == nil ||
		!strings.Contains(err.Error(), "SHOW PROCESSLIST") {
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

// TestCountersAreTakenAsTheyStand: numbers that were given and removed again are not given
// twice by the target.
func TestCountersAreTakenAsTheyStand(t *testing.T) {
	d, root := open(t)
	run(t, root, "CREATE TABLE given (id int AUTO_INCREMENT PRIMARY KEY)",
		"INSERT INTO given VALUES (NULL), (NULL), (NULL)", "DELETE FROM given",
		"CREATE TABLE below (id bigint AUTO_INCREMENT PRIMARY KEY)", "INSERT INTO below VALUES (-7)",
		"CREATE TABLE far (id bigint unsigned AUTO_INCREMENT PRIMARY KEY)", "INSERT INTO far VALUES (9223372036854775900)",
		"CREATE TABLE none (id int AUTO_INCREMENT PRIMARY KEY)")
	of := func(table string) domain.Sequence {
		return domain.Sequence{OwnedBy: domain.TableName{Schema: d.end.Database, Name: table}, OwnedColumn: "id"}
	}
	for table, want := range map[string]string{"given": "3 true", "below": "1 false", "none": "1 false"} {
		v, err := d.SequenceValues(t.Context(), []domain.Sequence{of(table)})
		if err != nil {
			t.Fatal(err)
		}
		if got := fmt.Sprint(v[0].Last, v[0].Called); got != want {
			t.Errorf("%s: %s, want %s", table, got, want)
		}
	}
	if _, err := d.SequenceValues(t.Context(), []domain.Sequence{of("far")}); !domain.IsKind(err, domain.ProblemConflict) {
		t.Errorf("a counter beyond 2^63: %v", err)
	}
}

// TestAServerThatWasRestartedTakesWrites: read-only is lost with its process, and nobody is told.
func TestAServerThatWasRestartedTakesWrites(t *testing.T) {
	d, db := open(t)
	run(t, db, "SET GLOBAL read_only = ON")
	defer run(t, db, "SET GLOBAL read_only = OFF")
	if open, up, err := d.TakesWrites(t.Context(), domain.StopReadOnly); open || up <= 0 || err != nil {
		t.Errorf("a closed one takes writes: %v, %s, %v", open, up, err)
	}
	run(t, db, "SET GLOBAL read_only = OFF") // as a restart leaves it
	if open, _, err := d.TakesWrites(t.Context(), domain.StopReadOnly); !open || err != nil {
		t.Errorf("an open one takes none: %v, %v", open, err)
	}
	if open, _, err := d.TakesWrites(t.Context(), domain.StopWord); open || err != nil {
		t.Errorf("one that a person's word closed: %v, %v", open, err)
	}
	if err := d.CloseAgain(t.Context(), domain.StopReadOnly); err != nil {
		t.Fatal(err)
	}
	if open, _, err := d.TakesWrites(t.Context(), domain.StopReadOnly); open || err != nil {
		t.Errorf("closed again it takes writes: %v, %v", open, err)
	}
}

// TestAStopBindsATargetOnItsServer: a user who may not write there despite it is told of before the
// stop, and so is who may; a target of another kind, or a stop by word, concerns nobody.
func TestAStopBindsATargetOnItsServer(t *testing.T) {
	d, db := open(t)
	there, _ := open(t)
	run(t, db, "CREATE USER weak_stop@'127.0.0.1'", "GRANT SELECT ON "+there.end.Database+".* TO weak_stop@'127.0.0.1'",
		"GRANT SUPER ON *.* TO weak_stop@'127.0.0.1'")
	weak, err := sql.Open("mysql", fmt.Sprintf("weak_stop@tcp(%s:%d)/%s", host.Host, host.Port, there.end.Database))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = weak.Close() }()
	for what, c := range map[string]struct {
		method domain.StopMethod
		target engine.Database
		says   string // verdict and remedy
	}{
		"may not": {domain.StopReadOnly, &database{pool: weak, end: there.end},
			"blocker GRANT READ_ONLY ADMIN ON *.* TO 'weak_stop'@'127.0.0.1'"},
		"may":     {domain.StopReadOnly, there, "notice stop writes by a person's word"},
		"by word": {domain.StopWord, there, ""},
		"another": {domain.StopReadOnly, nil, ""},
	} {
		list, err := d.BindsTarget(t.Context(), c.method, c.target)
		got := ""
		for _, e := range list {
			got += fmt.Sprint(e.Verdict, " ", e.Remedy)
		}
		if err != nil || (got == "") != (c.says == "") || !strings.HasPrefix(got, c.says) {
			t.Errorf("%s: %v, %q, want %q", what, err, got, c.says)
		}
	}
}
