package test

import (
	"database/sql"
	"fmt"
	"strings"
	"testing"
	"time"

	"dustyferry/internal/contract"
	"dustyferry/internal/localserver"
)

// TestAReplicaIsPromoted: the source dies, its replica takes its place, and the
// crossing goes on from there by GTID: what the first server had sent is not applied
// again, what only the replica has is not lost.
func TestAReplicaIsPromoted(t *testing.T) {
	var server [2]*localserver.MariaDB
	var db [2]*sql.DB
	for i := range server {
		var err error
		if server[i], err = localserver.StartMariaDB(t.Context(), localserver.Options{Password: "honey & salt", Durable: true,
			Settings: map[string]string{"log-slave-updates": "ON", "gtid-domain-id": "3",
				"gtid-strict-mode": "ON"}}); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(server[i].Stop)
		if db[i], err = sql.Open("mysql", server[i].DSN("")); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = db[i].Close() })
	}
	maria(t, db[0], "CREATE DATABASE dunes", "CREATE TABLE dunes.hives (id int PRIMARY KEY AUTO_INCREMENT, grams "+
		"int NOT NULL)", "INSERT INTO dunes.hives SELECT seq, 40000 FROM dunes.seq_1_to_500")
	// The replica has a log of other files and places: it wrote things of its own first.
	maria(t, db[1], "CREATE DATABASE elsewhere", "FLUSH BINARY LOGS", "FLUSH BINARY LOGS", "RESET MASTER",
		"FLUSH BINARY LOGS", "FLUSH BINARY LOGS", "SET GLOBAL gtid_slave_pos = ''",
		fmt.Sprintf("CHANGE MASTER TO MASTER_HOST = '127.0.0.1', MASTER_PORT = %d, MASTER_USER = 'root', MASTER_PASSWORD = "+
			"'honey & salt', MASTER_USE_GTID = slave_pos", server[0].Port), "START SLAVE")
	follows := func() {
		t.Helper()
		at := texts(t, db[0], "SELECT @@gtid_binlog_pos")[0]
		if texts(t, db[1], fmt.Sprintf("SELECT concat(master_gtid_wait('%s', 30), '')", at))[0] != "0" {
			t.Fatal("the replica does not follow")
		}
	}
	follows()

	f := start(t)
	add := func(port int) answer {
		return f.cli("database", "add", "old", "--engine", "mariadb", "--port", itoa(port), "--database", "dunes", "--user",
			"root", "--tls", "disable")
	}
	if a := add(server[0].Port); a.code != 0 {
		t.Fatal(a.err)
	}
	target := f.sideOf("postgres", "new")
	if a := f.cli("crossing", "create", "spring", "--source", "old", "--target", "new", "--table", "dunes.*",
		"--stop-method", "word"); a.code != 0 {
		t.Fatal(a.err)
	}
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	if a := f.cli("crossing", "failover", "spring"); a.code == 0 || !strings.Contains(a.err, "is running") {
		t.Errorf("taken up without need: %+v", a)
	}
	maria(t, db[0], "UPDATE dunes.hives SET grams = grams + 1", "DELETE FROM dunes.hives WHERE id % 50 = 0")
	f.await(30*time.Second, "490 rows", func(contract.Crossing) bool {
		return target.texts("SELECT count(*)::text FROM dunes.hives WHERE grams = 40001")[0] == "490"
	})
	// Paused: the last of the first server's changes reach the replica, and not us.
	if a := f.cli("crossing", "pause", "spring"); a.code != 0 {
		t.Fatal(a.err)
	}
	time.Sleep(2 * time.Second)
	maria(t, db[0], "UPDATE dunes.hives SET grams = grams + 1", "INSERT INTO dunes.hives (grams) VALUES (7)")
	follows()
	server[0].Stop()
	maria(t, db[1], "STOP SLAVE", "RESET SLAVE ALL", "UPDATE dunes.hives SET grams = grams + 1",
		"INSERT INTO dunes.hives (grams) VALUES (8)")

	if a := f.cli("database", "change", "old", "--port", itoa(server[1].Port), "--password"); a.code != 0 ||
		!strings.Contains(a.out, itoa(server[1].Port)) {
		t.Fatalf("%+v", a)
	}
	if a := f.cli("crossing", "resume", "spring"); a.code != 0 {
		t.Fatal(a.err)
	}
	c := f.await(30*time.Second, "held", func(c contract.Crossing) bool { return c.Condition == contract.ConditionHeld })
	if !strings.Contains(c.Reason, "dustyferry crossing failover spring") {
		t.Errorf("held: %s", c.Reason)
	}
	a := f.cli("crossing", "failover", "spring")
	t.Log(a.out, a.err)
	if a.code != 0 {
		t.Fatal(a.err)
	}
	f.awaitPhase(contract.PhaseInStep)
	maria(t, db[1], "INSERT INTO dunes.hives (grams) VALUES (9)")
	query := "SELECT concat_ws('|', id, grams) FROM dunes.hives"
	f.await(30*time.Second, "the last row there", func(contract.Crossing) bool {
		return target.texts("SELECT count(*)::text FROM dunes.hives WHERE grams = 9")[0] == "1"
	})
	sameTexts(t, "hives", texts(t, db[1], query), target.texts(query))
	if r := f.reconcile(contract.NewReconciliationDepthHashes); r.State != "clean" || r.SourceRows != 493 {
		t.Errorf("%+v", r)
	}

	// A server with another history is refused, and nothing is changed by asking.
	maria(t, db[1], "SET GLOBAL server_id = 4242", "RESET MASTER")
	eventually(t, 30*time.Second, func() bool { // capture meets it too, and may change the crossing meanwhile
		a := f.cli("crossing", "pause", "spring")
		if a.code != 0 && !strings.Contains(a.err, "look at it again") {
			t.Fatal(a.err)
		}
		return a.code == 0
	})
	if a := f.cli("crossing", "failover", "spring"); a.code == 0 || !strings.Contains(a.err, "does not lead on") {
		t.Errorf("a log that begins later was taken up: %+v", a)
	}
}
