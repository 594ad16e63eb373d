package sqlite

import (
	"database/sql/driver"
	"fmt"
	"testing"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// BenchmarkFollow measures, in one run, what triggers cost the application that writes, and how fast its
// changes are read, beside the fastest reading of the same rows of the log.
func BenchmarkFollow(b *testing.B) {
	const rows = 100_000
	for b.Loop() {
		db, app := apiary(b, "PRAGMA journal_mode = WAL", "PRAGMA busy_timeout = 20000",
			"CREATE TABLE lots (id INTEGER PRIMARY KEY, hive INT, kg REAL, note TEXT)")
		run := func(q string) time.Duration {
			began := time.Now()
			if _, err := app.ExecContext(b.Context(), q); err != nil {
				b.Fatal(err)
			}
			return time.Since(began)
		}
		fill := func(from int) string {
			return fmt.Sprintf("WITH RECURSIVE n (i) AS (SELECT %d UNION ALL SELECT i + 1 FROM n WHERE i < %d) INSERT "+
				"INTO lots "+
				"SELECT i, i %% 400, i / 7.0, 'on the quay, ' || i FROM n", from, from+rows-1)
		}
		without := run(fill(0))
		p, err := db.Plan(tableOf(b, db, "lots"))
		if err != nil {
			b.Fatal(err)
		}
		at, err := db.PrepareCapture(b.Context(), follower, []domain.TablePlan{p})
		if err != nil {
			b.Fatal(err)
		}
		with := run(fill(rows))
		c, err := db.Database.(*database).conn(b.Context())
		if err != nil {
			b.Fatal(err)
		}
		began, n := time.Now(), 0
		if err := c.rows(b.Context(), "SELECT n, tbl, kind, at, o0, n0, n1, n2, n3 FROM "+logTable,
			func([]driver.Value) error { n++; return nil }); err != nil || n != rows+1 {
			b.Fatal(n, err)
		}
		limit := time.Since(began)
		c.close()
		began = time.Now()
		capture, err := db.OpenCapture(b.Context(), follower, at, []engine.CaptureTable{{ID: 1, Plan: &p}}, "")
		if err != nil {
			b.Fatal(err)
		}
		for n = 0; n < rows; {
			e := <-capture.Events()
			capture.Took(&e)
			if e.Kind == domain.EventChange {
				n++
			}
		}
		took := time.Since(began)
		capture.Close()
		b.ReportMetric(with.Seconds()/without.Seconds(), "writing-with/without")
		b.ReportMetric(took.Seconds()/limit.Seconds(), "reading/limit")
		b.ReportMetric(rows/took.Seconds(), "changes/s")
	}
}
