package test

import (
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

// TestAFileIsFollowed: an application goes on writing its SQLite file, by REPLACE and in transactions, while it
// is loaded, followed and compared live; it is told when the tables have moved, and both sides are equal by
// plain SQL. What was made in the file goes with the crossing.
func TestAFileIsFollowed(t *testing.T) {
	for _, engine := range []string{"postgres", "mariadb"} {
		t.Run(engine, func(t *testing.T) { fileFollowed(t, engine) })
	}
}

func fileFollowed(t *testing.T, engine string) {
	f := start(t)
	path := filepath.Join(f.files(), "shop.db")
	shop := shopFile(t, path)
	f.must("database", "add", "old", "--file", path)
	target, schema := f.sideOf(engine, "new"), "main"
	if engine == "mariadb" {
		schema = target.schema
	}
	f.must("crossing", "create", "--file", write(t, "dusty_ferry: 1\ncrossing:\n  name: spring\n  source: old\n  "+
		"target: new\n"+
		"  settings: {chunk_bytes: 100000, lanes: 2, speed_limit: 400000, in_step_dwell: 500ms, vouch_every: 1s, "+
		"stop_method: read-only, cutover_depth: hashes}\n"))
	if out := f.must("survey", "spring").out; !strings.Contains(out, "dusty_ferry_log") ||
		!strings.Contains(out, "busy_timeout") {
		t.Errorf("the survey says\n%s", out)
	}
	app, err := sql.Open("sqlite", path+"?_pragma=busy_timeout(30000)")
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = app.Close() }()
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	ended := make(chan error, 1)
	go func() { ended <- keepShop(ctx, app) }()
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	if r := f.reconcile(contract.NewReconciliationDepthHashes); r.State != "clean" {
		f.findings(r.Id)
		t.Errorf("compared live: %+v", r)
	}
	eventually(t, time.Minute, func() bool { p := f.show().Progress; return p.VouchedRows != nil && *p.VouchedRows > 50 })
	f.svc.Stop() // capture goes on where it stood
	time.Sleep(300 * time.Millisecond)
	f.again()
	eventually(t, time.Minute, func() bool { return f.cli("cutover", "ready", "spring").code == 0 })
	f.must("cutover", "rehearse", "spring")
	f.must("cutover", "start", "spring", "--confirm", "spring")
	f.awaitPhase(contract.PhaseCutOver)
	select {
	case err := <-ended:
		if err == nil || !strings.Contains(err.Error(), "this table has moved to database new") {
			t.Errorf("the application was told %v", err)
		}
	case <-time.After(time.Minute):
		t.Error("the application goes on writing")
	}
	sameAsShop(t, shop, target.texts, schema)
	f.must("crossing", "close", "spring", "--confirm", "spring")
	f.awaitPhase(contract.PhaseClosed)
	left := 0
	if err := shop.QueryRowContext(t.Context(), "SELECT count(*) FROM sqlite_schema WHERE name LIKE 'dusty%' AND name "+
		"NOT LIKE '%closed%'").Scan(&left); err != nil || left > 0 {
		t.Errorf("%d things are left in the file, %v", left, err)
	}
}

// TestAFollowedFileOutlivesKills: the service is killed amid loading and following, again and again, while an
// application writes; a cutover ends with both sides equal by plain SQL.
func TestAFollowedFileOutlivesKills(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("DUSTYFERRY_FILES", dir)
	f := startFleet(t, 1)
	path := filepath.Join(dir, "shop.db")
	shop := shopFile(t, path)
	f.must("database", "add", "old", "--file", path)
	target := f.sideOf("postgres", "new")
	f.must("crossing", "create", "--file", write(t, "dusty_ferry: 1\ncrossing:\n  name: spring\n  source: old\n  "+
		"target: new\n"+
		"  settings: {chunk_bytes: 65536, lanes: 2, speed_limit: 400000, in_step_dwell: 200ms, vouch_every: 1s, "+
		"stop_method: "+
		"read-only, cutover_depth: hashes}\n"))
	app, err := sql.Open("sqlite", path+"?_pragma=busy_timeout(30000)")
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = app.Close() }()
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	ended := make(chan error, 1)
	go func() { ended <- keepShop(ctx, app) }()
	f.startCrossing()
	for kill := range 8 {
		applied := int64(0)
		eventually(t, time.Minute, func() bool { // something went on since the last one
			c, err := client.Do[contract.Crossing](f.API.GetCrossingWithResponse(t.Context(), "spring"))
			if err != nil {
				return false
			}
			if applied == 0 {
				applied = c.Progress.Rows + c.Progress.Changes
			}
			return c.Progress.Rows+c.Progress.Changes > applied+50
		})
		f.strike(kill % 2)
	}
	eventually(t, 2*time.Minute, func() bool { return f.cli("cutover", "ready", "spring").code == 0 })
	f.must("cutover", "start", "spring", "--confirm", "spring")
	f.awaitPhase(contract.PhaseCutOver)
	if err := <-ended; err == nil || !strings.Contains(err.Error(), "this table has moved to database new") {
		t.Errorf("the application was told %v", err)
	}
	sameAsShop(t, shop, target.texts, "main")
}

// sameAsShop compares by plain SQL.
func sameAsShop(t *testing.T, shop *sql.DB, there func(q string) []string, schema string) {
	t.Helper()
	for _, q := range []string{"SELECT concat(id, '|', coalesce(name, '-')) FROM %s.stalls ORDER BY id",
		"SELECT concat(id, '|', stall, '|', coalesce(note, '-')) FROM %s.sales ORDER BY id"} {
		there := there(fmt.Sprintf(q, schema))
		var here []string
		rows, err := shop.QueryContext(t.Context(), fmt.Sprintf(q, "main"))
		if err != nil {
			t.Fatal(err)
		}
		for rows.Next() {
			var s string
			if err := rows.Scan(&s); err != nil {
				t.Fatal(err)
			}
			here = append(here, s)
		}
		if err := rows.Close(); err != nil {
			t.Fatal(err)
		}
		if !slices.Equal(here, there) {
			t.Errorf("%s: the file has %d rows, the target %d, or others", q, len(here), len(there))
		}
	}
}

// keepShop writes until it is refused, or told to end.
func keepShop(ctx context.Context, app *sql.DB) error {
	r := rand.New(rand.NewPCG(3, 9))
	for ctx.Err() == nil {
		time.Sleep(2 * time.Millisecond)
		tx, err := app.BeginTx(ctx, nil)
		if err != nil {
			return err
		}
		for range 1 + r.IntN(4) {
			id := r.IntN(21000)
			switch r.IntN(6) {
			case 0:
				_, err = tx.ExecContext(ctx, "INSERT INTO sales (stall, kg, price, at, note) VALUES (?, ?, 1.25, "+
					"'2026-06-01 10:00:00', ?)",
					1+r.IntN(3), float64(id)/8, fmt.Sprintf("new %d", id))
			case 1:
				_, err = tx.ExecContext(ctx, "DELETE FROM sales WHERE id = ?", id)
			case 2: // removes another stall by its name, without a word
				_, err = tx.ExecContext(ctx, "INSERT OR REPLACE INTO stalls VALUES (?, ?, '2026-05-05', 1)", 4+r.IntN(9),
					fmt.Sprintf("Stall %d", r.IntN(6)))
			case 3:
				_, err = tx.ExecContext(ctx, "UPDATE OR IGNORE sales SET id = ? WHERE id = ?", id+30000, id)
			default:
				_, err = tx.ExecContext(ctx, "UPDATE sales SET note = ?, stall = ? WHERE id = ?", fmt.Sprintf("%d ☼", id),
					1+r.IntN(3), id)
			}
			if err != nil {
				break
			}
		}
		if err != nil || r.IntN(5) == 0 {
			_ = tx.Rollback()
		} else {
			err = tx.Commit()
		}
		switch {
		case err != nil && strings.Contains(err.Error(), "writes to this table are stopped"): // for a rehearsal, perhaps
			time.Sleep(20 * time.Millisecond)
		case err != nil:
			return err
		}
	}
	return nil
}
