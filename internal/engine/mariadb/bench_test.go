package mariadb

import (
	"testing"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// BenchmarkRead reads rows of eleven columns in a snapshot and converts them; its
// limit is the client reading them to nothing (bench/load-mariadb.sh).
func BenchmarkRead(b *testing.B) {
	d, db := openFor(b)
	const rows = 200_000
	for _, q := range []string{`
CREATE TABLE readings (id bigint PRIMARY KEY, apiary varchar(40), number smallint, read_at datetime, weight_kg decimal(7,3),
  inside_c float, outside_c double precision, humidity smallint, battery_mv int, firmware varchar(40), remark text) ENGINE=InnoDB`, `
INSERT INTO readings SELECT seq, concat('dyke-', seq % 50), seq % 8, '2025-01-01' + INTERVAL seq * 13 SECOND, seq % 60000 / 1000.0,
  seq % 40, seq % 30 / 3.0, seq % 100, 3000 + seq % 1200, concat('scale-fw-', seq % 7), repeat('calibrated by hand ', 5) FROM seq_1_to_200000`} {
		if _, err := db.ExecContext(b.Context(), q); err != nil {
			b.Fatal(err)
		}
	}
	p := planFor(b, d, "readings")
	r, err := d.OpenReader(b.Context())
	if err != nil {
		b.Fatal(err)
	}
	defer r.Close()
	b.ReportAllocs()
	for b.Loop() {
		if _, err := r.Begin(b.Context()); err != nil {
			b.Fatal(err)
		}
		sum, err := r.Copy(b.Context(), p, &domain.Chunk{}, func(x engine.Block) error { x.Release(); return nil })
		if err != nil || sum.Rows != rows {
			b.Fatalf("%d rows (%v)", sum.Rows, err)
		}
		if err := r.End(b.Context()); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(float64(rows*b.N)/b.Elapsed().Seconds(), "rows/s")
}
