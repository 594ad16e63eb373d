package mariadb

import (
	"syscall"
	"testing"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/protocol/binlog"
	"dustyferry/internal/protocol/resultset"
)

// BenchmarkRead reads rows of eleven columns in a snapshot and converts them, in binary form for
// PostgreSQL and into its texts; its limit is receiving them.
func BenchmarkRead(b *testing.B) {
	d, db := openFor(b)
	const rows = 200_000
	for _, q := range []string{`
CREATE TABLE readings (id bigint PRIMARY KEY, apiary varchar(40), number smallint, read_at datetime,
  weight_kg decimal(7,3),
  inside_c float, outside_c double precision, humidity smallint, battery_mv int, firmware varchar(40),
    remark text) ENGINE=InnoDB`, `
INSERT INTO readings SELECT seq, concat('dyke-', seq % 50), seq % 8, '2025-01-01' + INTERVAL seq * 13 SECOND,
  seq % 60000 / 1000.0,
  seq % 40, seq % 30 / 3.0, seq % 100, 3000 + seq % 1200, concat('scale-fw-', seq % 7), repeat('calibrated by hand ',
    5) FROM seq_1_to_200000`} {
		if _, err := db.ExecContext(b.Context(), q); err != nil {
			b.Fatal(err)
		}
	}
	p := planFor(b, d, "readings")
	opened, err := d.OpenReader(b.Context())
	if err != nil {
		b.Fatal(err)
	}
	r := opened.(*reader)
	defer r.Close()
	if !r.SupportsBinary(p) {
		b.Fatal("the table is not read in the binary form")
	}
	copied := func(binary bool) func() (int64, error) {
		return func() (int64, error) {
			sum, err := r.Copy(b.Context(), p, &domain.Chunk{}, binary, func([]byte) error { return nil })
			return sum.Rows, err
		}
	}
	for _, c := range []struct {
		name string
		read func() (int64, error)
	}{{"binary", copied(true)}, {"texts", copied(false)}, {"limit: cut into fields", func() (n int64, err error) {
		r.c.net.Gather()
		defer r.c.net.Plain()
		err = r.c.values(b.Context(), selecting(p, ""), func(*resultset.Decoder) error { n++; return nil })
		return n, err
	}}} {
		b.Run(c.name, func(b *testing.B) {
			b.ReportAllocs()
			before := cpu()
			for b.Loop() {
				if _, err := r.Begin(b.Context()); err != nil {
					b.Fatal(err)
				}
				if n, err := c.read(); err != nil || n != rows {
					b.Fatalf("%d rows (%v)", n, err)
				}
				if err := r.End(b.Context()); err != nil {
					b.Fatal(err)
				}
			}
			all := float64(rows * b.N)
			b.ReportMetric(all/b.Elapsed().Seconds(), "rows/s")
			b.ReportMetric((cpu()-before).Seconds()/all*1e9, "cpu-ns/row")
		})
	}
}

// cpu is what this process has used.
func cpu() time.Duration {
	var u syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &u)
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// BenchmarkCapture reads a backlog of mixed changes from the log and decodes it, beside its
// limit: a receiver of the same log that counts transactions and looks at nothing else.
func BenchmarkCapture(b *testing.B) {
	d, db := openFor(b)
	run(b, db, "SET GLOBAL log_bin_compress = OFF")
	b.Cleanup(func() { _, _ = db.Exec("SET GLOBAL log_bin_compress = ON") })
	run(b, db, "CREATE TABLE readings (id bigint PRIMARY KEY, hive varchar(40), weight decimal(7,3), at datetime, "+
		"remark text) ENGINE=InnoDB",
		"INSERT INTO readings SELECT seq, concat('hive ', seq % 400), seq % 60, now(), 'as it was' FROM seq_1_to_100000")
	p := planFor(b, d, "readings")
	from, err := d.now(b.Context())
	if err != nil {
		b.Fatal(err)
	}
	const transactions = 1500
	for i := range transactions { // a hundred changes in each transaction
		tx, err := db.BeginTx(b.Context(), nil)
		if err != nil {
			b.Fatal(err)
		}
		for _, q := range []struct {
			sql  string
			args []any
		}{
			{"UPDATE readings SET weight = weight + 0.001, remark = 'another round' WHERE id BETWEEN ? AND ?",
				[]any{1 + i*61%99_000, 70 + i*61%99_000}},
			{"INSERT INTO readings SELECT ? + seq, 'new', 1, now(), 'x' FROM seq_1_to_20", []any{1_000_000 + i*100}},
			{"DELETE FROM readings WHERE id > ? ORDER BY id LIMIT 10", []any{1_000_000 + i*100}},
		} {
			if _, err := tx.ExecContext(b.Context(), q.sql, q.args...); err != nil {
				b.Fatal(err)
			}
		}
		if err := tx.Commit(); err != nil {
			b.Fatal(err)
		}
	}
	end, err := d.now(b.Context())
	if err != nil {
		b.Fatal(err)
	}
	const changes = transactions * 100
	var received, decoded time.Duration
	n := 0
	for b.Loop() {
		n++
		began := time.Now()
		w, err := d.dial(b.Context())
		if err != nil {
			b.Fatal(err)
		}
		name, err := d.logFile(b.Context(), from.Number()>>fileBits)
		if err != nil {
			b.Fatal(err)
		}
		if err := w.start(name, uint32(from.Number()), 4711, false); err != nil {
			b.Fatal(err)
		}
		for commits := 0; commits < transactions; {
			x, err := w.packet()
			if err != nil {
				b.Fatal(err)
			}
			if binlog.Type(x[5]) == binlog.TypeXid {
				commits++
			}
		}
		received += time.Since(began)
		w.close()
		began = time.Now()
		c, err := d.OpenCapture(b.Context(), "bench", from, []engine.CaptureTable{{ID: 1, Plan: p}}, "")
		if err != nil {
			b.Fatal(err)
		}
		seen := 0
		for c.Received().Before(end) || seen < changes {
			e := <-c.Events()
			c.Took(&e)
			if e.Kind == domain.EventChange {
				seen++
			}
		}
		decoded += time.Since(began)
		c.Close()
	}
	b.ReportMetric(changes*float64(n)/decoded.Seconds(), "decoded/s")
	b.ReportMetric(changes*float64(n)/received.Seconds(), "received/s")
	b.ReportMetric(received.Seconds()/decoded.Seconds(), "ratio")
}
