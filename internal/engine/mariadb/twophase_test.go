package mariadb

import (
	"database/sql"
	"database/sql/driver"
	"slices"
	"strings"
	"testing"
	"time"

	"dustyferry/internal/domain"
)

// session runs statements one after another on a connection of their own.
func session(t *testing.T, db *sql.DB, statements ...string) {
	t.Helper()
	conn, err := db.Conn(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	// A session whose transaction is prepared takes nothing else: it ends.
	defer func() { _ = conn.Raw(func(any) error { return driver.ErrBadConn }) }()
	for _, q := range statements {
		_, err := conn.ExecContext(t.Context(), q)
		// What a session has prepared is nobody else's until the server has seen it go.
		for end := time.Now().Add(5 * time.Second); err != nil && strings.Contains(err.Error(), "XAER_NOTA") &&
			time.Now().Before(end); _, err = conn.ExecContext(t.Context(), q) {
			time.Sleep(5 * time.Millisecond)
		}
		if err != nil {
			t.Fatalf("%s: %v", q, err)
		}
	}
}

func prepare(t *testing.T, db *sql.DB, name string, statements ...string) {
	t.Helper()
	session(t, db, slices.Concat([]string{"XA START " + name}, statements, []string{"XA END " + name,
		"XA PREPARE " + name})...)
}

func texts(changes []domain.Change) (out []string) {
	for _, c := range changes {
		out = append(out, rowText(c.New))
	}
	return out
}

// TestTwoPhaseTransactions: what was prepared comes where it was committed, from wherever
// the stream begins; what was rolled back never comes.
func TestTwoPhaseTransactions(t *testing.T) {
	d, db := open(t)
	run(t, db, "CREATE TABLE x (id int PRIMARY KEY, v longtext) ENGINE=InnoDB",
		"CREATE TABLE other (id int PRIMARY KEY) ENGINE=InnoDB")
	p := plan(t, d, "x")
	from := here(t, d)
	prepare(t, db, "'a','b',7", "INSERT INTO x VALUES (1, 'first')", "INSERT INTO other VALUES (1)",
		"INSERT INTO x VALUES (2, repeat('w', 40000))", "UPDATE x SET v = 'changed' WHERE id = 1")
	prepare(t, db, "'never'", "INSERT INTO x VALUES (3, 'never')")
	prepare(t, db, "'elsewhere'", "INSERT INTO other VALUES (5)")
	run(t, db, "INSERT INTO x VALUES (10, 'between')")
	if list, err := d.PreparedTransactions(t.Context(), nil); err != nil || len(list) != 3 ||
		!slices.Contains(list, "XA COMMIT X'61',X'62',7") {
		t.Errorf("%v, %v", list, err)
	}
	between := here(t, d)
	run(t, db, "FLUSH BINARY LOGS", "INSERT INTO x VALUES (11, 'in the next file')", "FLUSH BINARY LOGS")
	session(t, db, "XA COMMIT 'a','b',7", "XA ROLLBACK 'never'", "XA COMMIT 'elsewhere'")
	// The same name once more, and in one phase.
	prepare(t, db, "'never'", "INSERT INTO x VALUES (4, 'again')")
	session(t, db, "XA COMMIT 'never'", "XA START 'one'", "INSERT INTO x VALUES (5, 'one phase')", "XA END 'one'",
		"XA COMMIT 'one' ONE PHASE")
	end := here(t, d)
	late := []string{"11|in the next file", "1|first", "2|" + strings.Repeat("w", 40000), "1|changed", "4|again",
		"5|one phase"}
	for _, c := range []struct {
		what string
		from domain.Position
		want []string
	}{
		{"from before", from, append([]string{"10|between"}, late...)},
		{"between prepare and commit", between, late},
	} {
		stream := follow(t, d, c.from, p)
		changes, commits := until(t, stream, end)
		stream.Close()
		if got := texts(changes); !slices.Equal(got, c.want) {
			t.Errorf("%s: %.300q", c.what, got)
		}
		for i := range commits[1:] {
			if commits[i+1].Commit.Before(commits[i].End) {
				t.Errorf("%s: commit %d does not follow", c.what, i+1)
			}
		}
	}
	// What was prepared in a file that is gone cannot be known any more.
	prepare(t, db, "'lost'", "INSERT INTO x VALUES (6, 'lost')")
	run(t, db, "FLUSH BINARY LOGS")
	at := here(t, d)
	for left := 2; left > 1; time.Sleep(50 * time.Millisecond) { // a file that is being read stays
		left = 0
		last := ""
		if err := d.logFiles(t.Context(), func(name string, _ uint64, _ int64) { last, left = name, left+1 }); err != nil {
			t.Fatal(err)
		}
		run(t, db, "PURGE BINARY LOGS TO '"+last+"'")
	}
	session(t, db, "XA COMMIT 'lost'")
	c := follow(t, d, at, p)
	for e := range c.Events() {
		c.Took(&e)
		if e.Kind == domain.EventCommit {
			t.Fatal("it came after all")
		}
	}
	if err := c.Err(); !domain.IsKind(err, domain.ProblemConflict) || !strings.Contains(err.Error(), "X'6c6f7374'") ||
		!strings.Contains(err.Error(), "restart the crossing") {
		t.Errorf("%v", err)
	}
}
