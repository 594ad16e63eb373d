package mariadb

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"
	"testing"

	"dustyferry/internal/core/fold"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// after puts a server back as it was, when the test is over.
func after(t *testing.T, db *sql.DB, query string) {
	t.Helper()
	if _, err := db.ExecContext(context.WithoutCancel(t.Context()), query); err != nil {
		t.Error(err)
	}
}

// TestWhatAReplaceLeavesOut: with images that hold parts of rows, the log of a REPLACE lacks
// columns that it has set to their defaults, just as that of an UPDATE lacks those that stay. The
// first is to be read from the source, the other not.
func TestWhatAReplaceLeavesOut(t *testing.T) {
	for _, image := range []string{"MINIMAL", "NOBLOB", "FULL"} {
		t.Run(image, func(t *testing.T) {
			from, db := openFor(t)
			to, _ := openFor(t)
			run(t, db, "SET GLOBAL binlog_row_image = '"+image+"'")
			t.Cleanup(func() { after(t, db, "SET GLOBAL binlog_row_image = 'FULL'") })
			run(t, db, "CREATE TABLE lots (id int PRIMARY KEY, a int, b text)",
				"CREATE TABLE orders (id int PRIMARY KEY, n int)", "CREATE DATABASE IF NOT EXISTS other_of_"+from.end.Database,
				"INSERT INTO lots VALUES (1, 1, 'x'), (2, 2, 'y'), (3, 3, 'z'), (4, 4, 'w')", "INSERT INTO orders VALUES (1, 1)",
				"CREATE PROCEDURE anew(i int) REPLACE INTO lots (id, a) VALUES (i, 70)", "CREATE FUNCTION f(i int) RETURNS int "+
					"DETERMINISTIC MODIFIES SQL DATA BEGIN REPLACE INTO lots (id, a) VALUES (i, 71); RETURN i; END",
				"CREATE TRIGGER t AFTER UPDATE ON orders FOR EACH ROW REPLACE INTO lots (id, a) VALUES (2, 72)",
				"CREATE VIEW seen AS SELECT * FROM lots",
				"CREATE TABLE other_of_"+from.end.Database+".lots (id int PRIMARY KEY, a int)", "INSERT INTO other_of_"+
					from.end.Database+".lots VALUES (1, 1)",
				"CREATE TRIGGER other_of_"+from.end.Database+".t AFTER UPDATE ON other_of_"+from.end.Database+
					".lots FOR EACH ROW REPLACE INTO "+from.end.Database+".lots (id, a) VALUES (3, 73)")
			t.Cleanup(func() { after(t, db, "DROP DATABASE other_of_"+from.end.Database) })
			p := carry(t, from, to, "lots")
			capture := follow(t, from, here(t, from), p)
			conn, err := db.Conn(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			defer func() { _ = conn.Close() }()
			var want []string
			for _, q := range []struct {
				sql    string
				unsure bool // with parts of rows
			}{
				{"SET @@session.binlog_row_image = '" + image + "'", false},
				{"UPDATE lots SET a = 10 WHERE id = 1", false},
				{"INSERT INTO lots (id, a) VALUES (1, 11) ON DUPLICATE KEY UPDATE a = 11", false},
				{"REPLACE INTO lots (id, a) VALUES (1, 12)", true},
				{"CALL anew(2)", true},
				{"SELECT f(3)", true},
				{"UPDATE orders SET n = n + 1", true},
				{"UPDATE seen SET a = 13 WHERE id = 4", true}, // the view's name says nothing
				{"UPDATE " + from.end.Database + ".lots SET a = 14 WHERE id = 4", false},
				{"SET @@session.binlog_annotate_row_events = OFF", false},
				{"UPDATE lots SET a = 15 WHERE id = 4", true}, // a log without the texts
				{"SET @@session.binlog_annotate_row_events = ON", false},
				{"USE other_of_" + from.end.Database, false},
				{"UPDATE lots SET a = a + 1", true},
				{"USE " + from.end.Database, false},
			} {
				if _, err := conn.ExecContext(t.Context(), q.sql); err != nil {
					t.Fatalf("%s: %v", q.sql, err)
				}
				if verb, _, _ := strings.Cut(q.sql, " "); verb != "SET" && verb != "USE" {
					want = append(want, fmt.Sprint(q.unsure && image != "FULL"))
				}
			}
			changes, _ := until(t, capture, here(t, from))
			var got []string
			for _, c := range changes {
				if c.Kind != domain.Update {
					t.Errorf("a change of kind %d: %v", c.Kind, c)
				}
				if c.Unsure && slices.ContainsFunc(p.KeyIndexes(p.CopiedColumns()), func(i int) bool {
					return c.New[i].Kind != domain.Present
				}) {
					t.Errorf("nothing says which row is to be read: %v", c.New)
				}
				if image == "FULL" && fold.HasUnchanged(c.New) {
					t.Errorf("whole rows lack something: %v", c.New)
				}
				got = append(got, fmt.Sprint(c.Unsure))
			}
			if !slices.Equal(got, want) {
				t.Errorf("unsure are %v\nwant       %v", got, want)
			}
		})
	}
}

// TestAnUnsureRowWithoutAKey: there is nothing to read it by.
func TestAnUnsureRowWithoutAKey(t *testing.T) {
	k := &captured{table: engine.CaptureTable{Plan: &domain.TablePlan{Source: domain.TableName{Schema: "marsh",
		Name: "lots"}, Columns: []domain.Column{{Name: "a"}, {Name: "b"}}}}}
	row := func() *domain.Change {
		return &domain.Change{Kind: domain.Update, Old: domain.Row{{}, {}}, OldWhole: true,
			New: domain.Row{{Kind: domain.Present, Data: []byte("1")}, {Kind: domain.Unchanged}}}
	}
	c := &capture{}
	if err := c.complete(t.Context(), k, row()); err == nil || !strings.Contains(err.Error(),
		"marsh.lots, which has no key to read it by") {
		t.Errorf("a row that cannot be read: %v", err)
	}
	c.ran, c.maps = "UPDATE lots SET a = 1", 1
	if err := c.complete(t.Context(), k, row()); err != nil {
		t.Errorf("an update that says all: %v", err)
	}
}
