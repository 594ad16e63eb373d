package mariadb

import (
	"strings"
	"testing"
	"time"
)

// TestLockedNamesWhatWaits: a statement of ours that waits for a table's lock is named.
func TestLockedNamesWhatWaits(t *testing.T) {
	d, db := open(t)
	run(t, db, "CREATE TABLE hives (id int PRIMARY KEY)")
	holds, err := db.Conn(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = holds.Close() }()
	if _, err := holds.ExecContext(t.Context(), "LOCK TABLES hives WRITE"); err != nil {
		t.Fatal(err)
	}
	if list, err := d.Locked(t.Context(), 0); err != nil || len(list) != 0 {
		t.Fatalf("nobody waits: %v (%v)", list, err)
	}
	waits := make(chan error, 1)
	go func() {
		_, err := d.pool.ExecContext(t.Context(), "ALTER TABLE hives ADD COLUMN n int")
		waits <- err
	}()
	for end := time.Now().Add(30 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		list, err := d.Locked(t.Context(), 100*time.Millisecond)
		if err != nil {
			t.Fatal(err)
		}
		if len(list) == 1 && strings.Contains(list[0], "ALTER TABLE hives") &&
			strings.Contains(list[0], "Waiting for table metadata lock") {
			break
		}
		if time.Now().After(end) {
			t.Fatalf("it says %v", list)
		}
	}
	if _, err := holds.ExecContext(t.Context(), "UNLOCK TABLES"); err != nil {
		t.Fatal(err)
	}
	if err := <-waits; err != nil {
		t.Fatal(err)
	}
}
