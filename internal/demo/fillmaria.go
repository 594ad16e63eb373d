package demo

import (
	"context"
	"database/sql"
	_ "embed"
	"fmt"
	"strings"
)

//go:embed mariadb.sql
var mariaSchema string

// FillMariaDB creates the scenario on a MariaDB server, as the database saltmarsh,
// and a user app with the password for the application, who has no rights beyond
// it: a server that is made read-only refuses its writes. rows is the size of
// scale_readings.
func FillMariaDB(ctx context.Context, dsn, password string, rows int) error {
	db, err := sql.Open("mysql", dsn)
	if err != nil {
		return err
	}
	defer func() { _ = db.Close() }()
	small := min(max(rows/200, 200), 20_000)
	schema := strings.Replace(mariaSchema, "CREATE USER 'app'@'127.0.0.1'",
		"CREATE USER 'app'@'127.0.0.1' IDENTIFIED BY '"+password+"'", 1)
	statements := strings.Split(strings.SplitN(schema, "\n", 3)[2], "\n--\n")
	statements = append(statements, fmt.Sprintf(`
INSERT INTO saltmarsh.keepers (name, email, joined, skills, profile, portrait)
SELECT concat(elt(1 + seq %% 6, 'Wren', 'Ingrid', 'Tomasz', 'Odile', 'Rurik', 'Maud'), ' ', elt(1 + seq %% 5, 'Reed',
  'Salt', 'Thistle', 'Marsh', 'Heather'), ' ', seq),
       concat('keeper', seq, '@saltmarsh.example'), date '2005-03-01' + INTERVAL seq * 3 DAY, seq %% 16,
         concat('{"hives": ', seq, ', "rate": 1.50}'), IF(seq %% 4, NULL, unhex(repeat(md5(seq), 40)))
  FROM saltmarsh.seq_1_to_%d`, min(small/10+5, 500)), fmt.Sprintf(`
INSERT INTO saltmarsh.apiaries
SELECT concat('dyke-', seq - 1), 1 + seq %% 20, concat('Apiary ', seq, '\\ttab \\\\ back é'), point(53 + seq / 97,
  7 + seq / 89), seq %% 30 + 0.25, sec_to_time(seq * 977)
  FROM saltmarsh.seq_1_to_%d`, min(small/10+50, 400)), `
INSERT INTO saltmarsh.hives
SELECT code, seq, IF(seq % 3, concat('königin ', seq), NULL), 1 + seq % 4, seq, seq * 1.5, seq * 300, NULL
  FROM saltmarsh.apiaries, saltmarsh.seq_1_to_8`, fmt.Sprintf(`
INSERT INTO saltmarsh.inspections
SELECT concat(lpad(hex(seq), 8, '0'), '-0000-4000-8000-000000000000'), concat('dyke-', seq %% 50), 1 + seq %% 8,
  '2025-04-01 08:00' + INTERVAL seq * 37 MINUTE, 1 + seq %% 4, seq %% 12,
       concat('{"mites": ', seq %% 5, ', "note": "', repeat('observed ', seq %% 7), '"}'), IF(seq %% 50, NULL,
         unhex(repeat(md5(seq), 800)))
  FROM saltmarsh.seq_1_to_%d`, small), fmt.Sprintf(`
INSERT INTO saltmarsh.scale_readings
SELECT seq, concat('dyke-', seq %% 50), 1 + seq %% 8, '2025-01-01' + INTERVAL seq * 13 SECOND,
  20 + seq %% 60000 / 1000, 15 + seq %% 200 / 7, seq %% 300 / 11, seq %% 100, 3000 + seq %% 1200, concat('scale-fw-',
  seq %% 7),
       IF(seq %% 11, NULL, 'calibrated by hand after the storm, see the visit of that week')
  FROM saltmarsh.seq_1_to_%d`, rows), fmt.Sprintf(`
INSERT INTO saltmarsh.harvest_lots (lot, grade, net_kg, season, pressed_on, best_until)
SELECT concat('LOT-', seq), 1 + seq %% 4, 100 + seq * 0.125, 1990 + seq %% 40,
  date '2025-06-01' + INTERVAL seq %% 90 DAY, IF(seq %% 2, '2030-01-01', NULL) FROM saltmarsh.seq_1_to_%d`, small/4), `
INSERT INTO saltmarsh.lot_sources SELECT l.id, concat('dyke-', (l.id + seq) % 50), 0.5 FROM saltmarsh.harvest_lots l,
  saltmarsh.seq_1_to_2`, fmt.Sprintf(`
INSERT INTO saltmarsh.visitor_notes
SELECT '2026-01-01' + INTERVAL seq %% 40 HOUR, IF(seq %% 4, concat('visitor ', seq %% 10), NULL), elt(1 + seq %% 3,
  NULL, '', 'lovely honey\\ncame back') FROM saltmarsh.seq_1_to_%d`, small/2), `
INSERT INTO saltmarsh.weather SELECT date '2024-12-01' + INTERVAL d.seq DAY, s.seq, (d.seq + s.seq) % 200 / 10,
  d.seq / 7 FROM saltmarsh.seq_0_to_570 d, saltmarsh.seq_1_to_4 s`, `
INSERT INTO saltmarsh.market_stalls SELECT seq, elt(1 + seq % 4, 'Saint "Q"', 'O''Hara', 'Łódź', 'Plain'), seq * 10.5,
  seq % 2 FROM saltmarsh.seq_1_to_40`, fmt.Sprintf(`
INSERT INTO saltmarsh.orders (stall, placed_at, total, paid, sender)
SELECT 1 + seq %% 40, '2026-01-01' + INTERVAL seq * 5 MINUTE, seq %% 500 + 0.5, seq %% 3 > 0, concat('::ffff:10.0.',
  seq %% 250, '.7') FROM saltmarsh.seq_1_to_%d`, small), `
INSERT INTO saltmarsh.order_lines SELECT o.id, seq, 1 + o.id % 40, seq * 2, 6.5
  FROM saltmarsh.orders o, saltmarsh.seq_1_to_2`,
		"ANALYZE TABLE saltmarsh.keepers, saltmarsh.apiaries, saltmarsh.hives, saltmarsh.inspections, "+
			"saltmarsh.scale_readings, saltmarsh.harvest_lots, saltmarsh.lot_sources, saltmarsh.visitor_notes, "+
			"saltmarsh.weather, saltmarsh.market_stalls, saltmarsh.orders, saltmarsh.order_lines")
	for _, q := range statements {
		if _, err := db.ExecContext(ctx, q); err != nil {
			return fmt.Errorf("filling the source (%.60s …): %w", strings.TrimSpace(q), err)
		}
	}
	return nil
}
