package mariadb

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"testing"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/protocol/binlog"
)

// TestASnapshotsPlaceIsExact: under writers, the rows a snapshot sees are those
// of the transactions before its place in the log, no more and no fewer; also among
// two-phase transactions, whose end the server logs before their rows can be seen.
func TestASnapshotsPlaceIsExact(t *testing.T) {
	d, db := open(t)
	run(t, db, "CREATE TABLE x (id int AUTO_INCREMENT PRIMARY KEY, v int) ENGINE=InnoDB")
	p := plan(t, d, "x")
	from := here(t, d)
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	// Writers get so many writes for each read, so that what is read stays small however slow
	// the machine is.
	turns := make(chan struct{}, 100)
	for range 2 {
		go func() {
			for range turns {
				_, _ = db.ExecContext(ctx, "INSERT INTO x (v) VALUES (1), (2)")
				time.Sleep(time.Millisecond)
			}
		}()
	}
	var ending sync.WaitGroup
	for w := range 3 {
		ending.Go(func() {
			conn, err := db.Conn(ctx)
			if err != nil {
				return
			}
			defer func() { _ = conn.Close() }()
			i := 0
			for range turns {
				i++
				x := fmt.Sprintf("'keeper %d','lot %d'", w, i)
				for _, q := range []string{"XA START " + x, "INSERT INTO x (v) VALUES (3)", "XA END " + x, "XA PREPARE " + x,
					"XA COMMIT " + x} {
					_, _ = conn.ExecContext(t.Context(), q)
				}
			}
		})
	}
	type seen struct {
		rows map[string]bool
		at   domain.Snapshot
	}
	var shots []seen
	for range 120 {
		for range 40 {
			turns <- struct{}{}
		}
		rows, at := read(t, d, p)
		s := seen{map[string]bool{}, at}
		for _, r := range rows {
			s.rows[r] = true
		}
		shots = append(shots, s)
	}
	close(turns)
	stop()
	ending.Wait()
	time.Sleep(100 * time.Millisecond)
	c := follow(t, d, from, p)
	end := here(t, d)
	var changes []domain.Change
	for done := false; !done; {
		e := <-c.Events()
		c.Took(&e)
		switch e.Kind {
		case domain.EventChange:
			changes = append(changes, e.Change)
		case domain.EventCommit:
			for _, ch := range changes {
				for i, s := range shots {
					if sees := s.at.Sees(e.Tx); sees != s.rows[rowText(ch.New)] {
						t.Errorf("snapshot %d at %s: the rule says %v of the transaction at %s, the rows say otherwise", i,
							Driver{}.FormatPosition(s.at.Log), sees, Driver{}.FormatPosition(e.Tx.Commit))
					}
				}
			}
			changes = nil
			done = !e.Tx.End.Before(end)
		case domain.EventProgress:
			done = !e.Position.Before(end)
		case 0:
			t.Fatal(c.Err())
		}
	}
}

// TestASnapshotAmongTheUnended: a transaction that stays prepared delays nobody for long,
// and a view stands where none is just ending.
func TestASnapshotAmongTheUnended(t *testing.T) {
	d, db := open(t)
	run(t, db, "CREATE TABLE x (id int PRIMARY KEY) ENGINE=InnoDB")
	p := plan(t, d, "x")
	prepare(t, db, "'stays'", "INSERT INTO x VALUES (1)")
	defer session(t, db, "XA ROLLBACK 'stays'")
	rows, at := read(t, d, p)
	id := nameOf(binlog.XID{Format: 1, Global: 5, Data: "stays"})
	if len(rows) != 0 || !slices.Contains(at.Running, id) {
		t.Errorf("%v, %+v", rows, at)
	}
	v, _, err := d.OpenView(t.Context(), true, 0) // waits until it is certain
	if err != nil {
		t.Fatal(err)
	}
	defer v.Close()
	if n, err := v.Count(context.Background(), p); n != 0 || err != nil {
		t.Errorf("%d, %v", n, err)
	}
	if _, at = read(t, d, p); slices.Contains(at.Running, id) {
		t.Errorf("it has stood for a second: %+v", at)
	}
}
