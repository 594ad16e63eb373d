package test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"dustyferry/internal/contract"
)

// actingKeys are tables whose foreign keys act by themselves: in two steps, on a key
// of two columns, on the table itself, by NULL, by new values, and on a key of texts.
var actingKeys = []string{
	"CREATE TABLE keepers (id int PRIMARY KEY, code varchar(20) COLLATE utf8mb4_bin NOT NULL UNIQUE)",
	"CREATE TABLE hives (keeper int NOT NULL, number int NOT NULL, code varchar(20) COLLATE utf8mb4_bin, note " +
		"varchar(40), PRIMARY KEY (keeper, number), " +
		"FOREIGN KEY (keeper) REFERENCES keepers (id) ON DELETE CASCADE ON UPDATE CASCADE, FOREIGN KEY (code) REFERENCES " +
		"keepers (code) ON DELETE SET NULL ON UPDATE CASCADE)",
	"CREATE TABLE frames (id bigint PRIMARY KEY AUTO_INCREMENT, keeper int, number int, grams int, FOREIGN KEY (keeper, " +
		"number) REFERENCES hives (keeper, number) ON DELETE CASCADE ON UPDATE CASCADE)",
	"CREATE TABLE swarms (id int PRIMARY KEY, mother int, born int, FOREIGN KEY (mother) REFERENCES swarms (id) ON " +
		"DELETE CASCADE)",
	"CREATE TABLE visits (id bigint PRIMARY KEY AUTO_INCREMENT, keeper int, note varchar(30), seen timestamp NULL " +
		"DEFAULT '2020-01-01 00:00:00' ON UPDATE CURRENT_TIMESTAMP, " +
		"FOREIGN KEY (keeper) REFERENCES keepers (id) ON DELETE SET NULL)",
}

// TestForeignKeysThatAct follows a MariaDB database whose foreign keys remove and
// change rows that its log does not name, during the load and after it.
func TestForeignKeysThatAct(t *testing.T) {
	for _, to := range []string{"postgres", "mariadb"} {
		t.Run("to "+to, func(t *testing.T) { foreignKeysThatAct(t, to) })
	}
}

func foreignKeysThatAct(t *testing.T, to string) {
	name, db := newMaria(t)
	maria(t, db, actingKeys...)
	maria(t, db, "INSERT INTO keepers SELECT seq, concat('k', seq) FROM seq_1_to_600",
		"INSERT INTO hives SELECT 1 + seq DIV 4, seq % 4, concat('k', 1 + seq % 600), repeat('n', 30) FROM seq_1_to_2390",
		"INSERT INTO frames (keeper, number, grams) SELECT 1 + (seq % 2390) DIV 4, (seq % 2390) % 4, seq FROM "+
			"seq_1_to_20000 WHERE seq % 2390 > 0",
		"INSERT INTO swarms SELECT seq, IF(seq < 20, NULL, seq DIV 2), seq FROM seq_1_to_4000",
		"INSERT INTO visits (keeper, note) SELECT 1 + seq % 600, repeat('v', 20) FROM seq_1_to_8000")
	f := start(t)
	f.registerMaria("old", name, db, sourceRights(name)...)
	target := f.sideOf(to, "new")
	schema := name
	if to == "mariadb" {
		schema = target.schema
	}
	if a := f.cli("crossing", "create", "spring", "--source", "old", "--target", "new", "--table", name+".*",
		"--chunk-size", "64KiB", "--speed-limit", "150KB", "--stop-method", "word"); a.code != 0 {
		t.Fatal(a.err)
	}
	stop := writers(3).run(t, mariaDB(t).DSN(name), 15, 25*time.Millisecond, acting)
	defer stop()
	f.startCrossing()
	f.awaitPhase(contract.PhaseLoading)
	time.Sleep(4 * time.Second)
	if a := f.cli("crossing", "set", "spring", "--speed-limit", "0"); a.code != 0 {
		t.Fatal(a.err)
	}
	f.awaitPhase(contract.PhaseInStep)
	if r := f.reconcile(contract.NewReconciliationDepthHashes); r.State != "clean" || r.Tables != 5 {
		f.findings(r.Id)
		f.story()
		t.Errorf("%+v", r)
	}
	t.Logf("%d transactions", stop())
	// Without foreign keys nothing acts.
	maria(t, db, "SET STATEMENT foreign_key_checks = 0 FOR DELETE FROM keepers WHERE id = 595")
	same := func() bool {
		for _, table := range []string{"keepers", "hives", "frames", "swarms", "visits"} {
			query := "SELECT concat(count(*), '') FROM %s." + table
			if texts(t, db, fmt.Sprintf(query, name))[0] != target.texts(fmt.Sprintf(query, schema))[0] {
				return false
			}
		}
		return true
	}
	eventually(t, 20*time.Second, same)
	if r := f.reconcile(contract.NewReconciliationDepthHashes); r.State != "clean" {
		f.findings(r.Id)
		t.Errorf("%+v", r)
	}
	if n := texts(t, db, "SELECT count(*) FROM hives WHERE keeper = 595"); n[0] == "0" {
		t.Error("the test's own premise fails: nothing was left without its keeper")
	}
	for table, columns := range map[string]string{"hives": "keeper, number, coalesce(code, '~')",
		"frames": "id, coalesce(keeper, 0), coalesce(number, 0), grams", "swarms": "id, coalesce(mother, 0)",
		"visits": "id, coalesce(keeper, 0)"} {
		query := "SELECT concat_ws('|', " + columns + ") FROM %s." + table
		sameTexts(t, table, texts(t, db, fmt.Sprintf(query, name)), target.texts(fmt.Sprintf(query, schema)))
	}
}

// acting removes, renumbers and brings back what others refer to.
func acting(r *rand.Rand, writer, turn int) []string {
	k, fresh := 1+r.IntN(590), 1000+writer*100_000+turn
	return [][]string{
		{fmt.Sprintf("DELETE FROM keepers WHERE id = %d", k), fmt.Sprintf("INSERT IGNORE INTO keepers VALUES (%d, 'k%d')", k,
			k), fmt.Sprintf("INSERT IGNORE INTO hives VALUES (%d, 9, 'k%d', 'again')", k, k)},
		{fmt.Sprintf("UPDATE IGNORE keepers SET id = %d, code = 'c%d' WHERE id = %d", fresh, fresh, k)},
		{fmt.Sprintf("DELETE FROM hives WHERE keeper = %d AND number < 2", k),
			fmt.Sprintf("INSERT IGNORE INTO frames (keeper, number, grams) SELECT keeper, number, %d FROM hives WHERE "+
				"keeper = %d", turn, k)},
		{fmt.Sprintf("DELETE FROM swarms WHERE id = %d", 20+r.IntN(3000))},
		{fmt.Sprintf("INSERT INTO visits (keeper, note) SELECT id, 'late' FROM keepers WHERE id = %d", k),
			fmt.Sprintf("UPDATE hives SET note = 'n%d' WHERE keeper = %d", turn, k)},
	}[r.IntN(5)]
}
