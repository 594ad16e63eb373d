package test

import (
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/localserver"
)

// TestMariaDBCrashes kills the server that is both source and target while chunks
// land and changes are applied, and again when it has caught up. Every commit that
// the server told of is on both sides at the end, once.
func TestMariaDBCrashes(t *testing.T) {
	ctx := context.Background()
	m, err := localserver.StartMariaDB(ctx, localserver.Options{Password: "thyme & clover", Durable: true})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(m.Stop)
	db, err := sql.Open("mysql", m.DSN(""))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = db.Close() })
	maria(t, db, "CREATE DATABASE old CHARACTER SET utf8mb4", "CREATE DATABASE new CHARACTER SET utf8mb4",
		"CREATE TABLE old.readings (id bigint AUTO_INCREMENT PRIMARY KEY, weight decimal(9,3), note text)",
		"CREATE TABLE old.notes (who varchar(20), what text)",
		"INSERT INTO old.readings (weight, note) SELECT seq / 7, repeat('salt ', 40) FROM old.seq_1_to_40000",
		"INSERT INTO old.notes SELECT concat('v', seq % 5), 'sweet' FROM old.seq_1_to_300",
		"ANALYZE TABLE old.readings, old.notes")
	f := start(t)
	for _, name := range []string{"old", "new"} {
		disable := contract.Disable
		if _, err := client.Do[contract.Database](f.API.AddDatabaseWithResponse(t.Context(), contract.NewDatabase{Name: name,
			Engine: "mariadb", Host: m.Host, Port: m.Port, Database: name, User: m.User, Password: m.Password,
			Tls: &disable})); err != nil {
			t.Fatal(err)
		}
	}
	method := contract.ReadOnly
	if _, err := client.Do[contract.Crossing](f.API.AddCrossingWithResponse(t.Context(),
		contract.NewCrossing{Name: "spring", Source: "old", Target: "new",
			Settings: &contract.Settings{Lanes: ptr(3), ChunkBytes: ptr(int64(256 << 10)), StopMethod: &method,
				SpeedLimit: ptr(int64(1_000_000)), MaxAttempts: ptr(20)}})); err != nil {
		t.Fatal(err)
	}
	writing, stop := context.WithCancel(ctx)
	defer stop()
	var wg sync.WaitGroup
	var mu sync.Mutex
	told := 0
	for w := range 2 {
		wg.Go(func() {
			r := rand.New(rand.NewPCG(uint64(w), 3))
			for writing.Err() == nil {
				tx, err := db.BeginTx(writing, nil)
				if err != nil {
					time.Sleep(20 * time.Millisecond)
					continue
				}
				for _, q := range []string{"INSERT INTO old.readings (weight, note) VALUES (1, 'told')",
					fmt.Sprintf("UPDATE old.readings SET weight = weight + 1 WHERE id = %d", 1+r.IntN(40000)),
					fmt.Sprintf("DELETE FROM old.readings WHERE id = %d", 1+r.IntN(40000)),
					"INSERT INTO old.notes VALUES ('late', NULL)"} {
					if _, err = tx.Exec(q); err != nil {
						break
					}
				}
				if err != nil {
					_ = tx.Rollback()
				} else if tx.Commit() == nil {
					mu.Lock()
					told++
					mu.Unlock()
				}
				time.Sleep(5 * time.Millisecond)
			}
		})
	}
	f.startCrossing()
	f.awaitPhase(contract.PhaseLoading)
	for range 2 {
		time.Sleep(1500 * time.Millisecond)
		if err := m.Crash(ctx); err != nil {
			t.Fatal(err)
		}
	}
	f.awaitPhase(contract.PhaseInStep)
	if err := m.Crash(ctx); err != nil {
		t.Fatal(err)
	}
	time.Sleep(2 * time.Second)
	f.awaitPhase(contract.PhaseInStep)
	stop()
	wg.Wait()
	if r := f.reconcile(contract.NewReconciliationDepthHashes); r.State != "clean" {
		f.findings(r.Id)
		t.Errorf("%+v", r)
	}
	if k := f.cutOver(false, contract.Settings{}); k.State != "done" {
		f.story()
		t.Fatalf("cutover: %+v", k)
	}
	for _, table := range []string{"readings", "notes"} {
		columns := map[string]string{"readings": "id, weight, note", "notes": "who, coalesce(what, '~')"}[table]
		q := "SELECT concat_ws('|', " + columns + ") FROM %s." + table
		sameTexts(t, table, texts(t, db, fmt.Sprintf(q, "old")), texts(t, db, fmt.Sprintf(q, "new")))
	}
	// A commit that was cut off may stand without our having been told.
	if n := len(texts(t, db, "SELECT 1 FROM new.readings WHERE note = 'told'")); n < told || told < 100 {
		t.Errorf("%d commits were told of, %d are on the target", told, n)
	}
	// The server has forgotten that it is closed when it comes back, and nobody may write there any more.
	if err := m.Crash(ctx); err != nil {
		t.Fatal(err)
	}
	eventually(t, time.Minute, func() bool {
		var closed bool
		return db.QueryRowContext(t.Context(), "SELECT @@global.read_only").Scan(&closed) == nil && closed
	})
	eventually(t, 10*time.Second, func() bool {
		return strings.Contains(f.must("journal", "--crossing", "spring").out, "old was restarted, took writes for up to")
	})
	maria(t, db, "SET GLOBAL read_only = OFF") // a person's will
	eventually(t, 10*time.Second, func() bool {
		return strings.Contains(f.must("journal", "--crossing", "spring").out, "somebody has let old take writes again")
	})
	if got := texts(t, db, "SELECT @@global.read_only"); got[0] != "0" {
		t.Errorf("what a person opened is closed again: read_only is %s", got[0])
	}
	t.Logf("%d commits, four crashes", told)
}
