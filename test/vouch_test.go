package test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

// TestTouchedRowsAreVouchedFor: what the target does to rows that changes touch is found while the
// application writes on, and a cutover compares no more than these and how many rows there are.
func TestTouchedRowsAreVouchedFor(t *testing.T) {
	for _, pair := range [][2]string{{"postgres", "postgres"}, {"mariadb", "mariadb"}, {"postgres", "mariadb"},
		{"mariadb", "postgres"}} {
		t.Run(pair[0]+" to "+pair[1], func(t *testing.T) { vouchedFor(t, pair[0], pair[1]) })
	}
}

func vouchedFor(t *testing.T, from, to string) {
	f := start(t)
	source, target := f.sideOf(from, "old"), f.sideOf(to, "new")
	there := "hives" // a MariaDB database becomes a schema of its name
	if from == "mariadb" {
		defer source.exec("SET GLOBAL read_only = OFF") // as a cutover leaves it
		if to == "postgres" {
			there = source.schema + ".hives"
		}
	}
	number := map[string]string{"postgres": "generate_series(%d, %d) AS t(seq)", "mariadb": "seq_%d_to_%d"}[from]
	source.exec("CREATE TABLE hives (id int PRIMARY KEY, name varchar(30), frames int NOT NULL);\n" +
		"CREATE TABLE notes (note varchar(30))")
	source.exec("INSERT INTO hives SELECT seq, concat('hive ', seq), seq FROM " + fmt.Sprintf(number, 1, 3000) + ";\n" +
		"INSERT INTO notes VALUES ('calm'), ('calm'), ('wild')")
	if _, err := client.Do[contract.Crossing](f.API.AddCrossingWithResponse(t.Context(),
		contract.NewCrossing{Name: "spring", Source: "old", Target: "new", Settings: &contract.Settings{
			InStepDwellSeconds: ptr(0.2), VouchEverySeconds: ptr(1.0), GuardTarget: ptr(contract.SettingsGuardTargetRefuse),
			CutoverDepth: ptr(contract.SettingsCutoverDepthVouched)}})); err != nil {
		t.Fatal(err)
	}
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	if r := f.reconcile(contract.NewReconciliationDepthHashes); r.Findings != 0 {
		t.Fatalf("%d findings", r.Findings)
	}
	vouched := func(rows int64) {
		t.Helper()
		eventually(t, 30*time.Second, func() bool {
			p := f.show().Progress
			return p.VouchedRows != nil && *p.VouchedRows >= rows && p.VouchedAt != nil && p.VouchedPosition != nil
		})
	}
	source.exec("UPDATE hives SET frames = frames + 1 WHERE id <= 40;\nDELETE FROM hives WHERE id = 41;\n" +
		"UPDATE hives SET id = 5000 WHERE id = 42;\nINSERT INTO notes VALUES ('late')")
	vouched(40 + 1 + 2)
	if n := f.openFindings(); n != 0 {
		t.Fatalf("%d findings of rows that are equal", n)
	}
	// A trigger of the target's own cuts what is written there, also by us.
	target.exec(map[string]string{
		"postgres": "CREATE FUNCTION cut() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN NEW.name := left(NEW.name, 3); " +
			"RETURN NEW; END';\n" +
			"CREATE TRIGGER cuts BEFORE UPDATE ON " + there + " FOR EACH ROW EXECUTE FUNCTION cut();\n" +
			"ALTER TABLE " + there + " ENABLE ALWAYS TRIGGER cuts",
		"mariadb": "CREATE TRIGGER cuts BEFORE UPDATE ON hives FOR EACH ROW SET NEW.name = left(NEW.name, 3)"}[to])
	source.exec("UPDATE hives SET frames = frames + 1 WHERE id BETWEEN 101 AND 107")
	eventually(t, 30*time.Second, func() bool { return f.openFindings() == 7 })
	if a := f.cli("cutover", "start", "spring", "--confirm", "spring"); a.code == 0 {
		t.Fatal("a cutover began with open findings")
	}
	target.exec(map[string]string{"postgres": "DROP TRIGGER cuts ON " + there, "mariadb": "DROP TRIGGER cuts"}[to])
	f.must("repair", "spring", "--confirm", "spring")
	f.must("recheck", "spring")
	eventually(t, 30*time.Second, func() bool { return f.openFindings() == 0 })

	// What others would write is refused where the target can, and counted where it cannot.
	if to == "postgres" {
		target.exec("SET dusty_ferry.ours = 'no'; DO $$ BEGIN INSERT INTO " + there +
			" VALUES (9001, 'nobody''s', 1); RAISE 'it was taken'; EXCEPTION " +
			"WHEN read_only_sql_transaction THEN NULL; END $$")
	} else {
		target.exec("INSERT INTO hives VALUES (9001, 'nobody''s', 1)")
		if a := f.cli("cutover", "rehearse", "spring"); a.code == 0 || !strings.Contains(a.err+a.out, "difference") {
			t.Errorf("a row too many: %s %s", a.out, a.err)
		}
		target.exec("DELETE FROM hives WHERE id = 9001")
		if r := f.reconcile(contract.NewReconciliationDepthHashes); r.Findings != 0 {
			t.Fatalf("%d findings", r.Findings)
		}
	}
	f.must("cutover", "rehearse", "spring")
	if to == "postgres" { // a rehearsal changes nothing of it
		target.exec("SET dusty_ferry.ours = 'no'; DO $$ BEGIN DELETE FROM " + there + "; RAISE 'it was taken'; EXCEPTION " +
			"WHEN read_only_sql_transaction THEN NULL; END $$")
	}
	source.exec("UPDATE hives SET frames = 0 WHERE id BETWEEN 200 AND 240")
	// Where both are on one server the rehearsal was felt by capture too.
	eventually(t, time.Minute, func() bool { return f.cli("cutover", "ready", "spring").code == 0 })
	f.must("cutover", "start", "spring", "--confirm", "spring")
	f.awaitPhase(contract.PhaseCutOver)
	const q = "SELECT concat(id, ' ', name, ' ', frames) FROM %s ORDER BY id"
	if a, b := source.texts(fmt.Sprintf(q, "hives")), target.texts(fmt.Sprintf(q, there)); !slices.Equal(a, b) ||
		len(a) != 2999 {
		t.Errorf("%d rows and %d rows are not equal", len(a), len(b))
	}
	last := f.comparisons()[0]
	rows := int64(2999 + 4) // counted
	if to == "postgres" {
		rows = 41 + 4 // what was touched, and the table without a key
	}
	if last.Depth != "vouched" || last.State != contract.ReconciliationStateClean || last.SourceRows > rows {
		t.Errorf("inside the pause: %+v", last)
	}
	target.exec("DELETE FROM " + there + " WHERE id = 1") // the target is everybody's
	if to == "postgres" {
		if left := target.texts("SELECT tgname FROM pg_trigger WHERE tgname LIKE 'dusty%'"); len(left) > 0 {
			t.Errorf("left on the target: %v", left)
		}
	}
}

// comparisons are those of the crossing, newest first.
func (f *ferry) comparisons() []contract.Reconciliation {
	f.t.Helper()
	list, err := client.Do[[]contract.Reconciliation](f.API.ListReconciliationsWithResponse(f.t.Context(), "spring"))
	if err != nil {
		f.t.Fatal(err)
	}
	return list
}

// openFindings is how many findings of vouching are open.
func (f *ferry) openFindings() (n int64) {
	f.t.Helper()
	for _, r := range f.comparisons() {
		if r.Depth == "vouched" {
			n += r.OpenFindings
		}
	}
	return n
}
