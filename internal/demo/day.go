package demo

import (
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
)

// postgresDay uses what PostgreSQL alone has.
func postgresDay(ctx context.Context, tx *sql.Tx, rng *rand.Rand) error {
	n := rng.IntN
	do := func(query string, args ...any) error {
		_, err := tx.ExecContext(ctx, query, args...)
		return err
	}
	switch n(13) {
	case 0, 1, 2:
		return do(`INSERT INTO saltmarsh.scale_readings (apiary, number, read_at, weight_kg, humidity, firmware)
SELECT 'dyke-' || g, 1, now()::timestamp, 40 + g, g, 'live' FROM generate_series(1, 5) g`)
	case 3:
		return do(`UPDATE saltmarsh.scale_readings SET weight_kg = weight_kg + 0.001, remark = 'corrected'
WHERE id IN (SELECT 1 + (random() * (SELECT last_value FROM saltmarsh.scale_reading_id))::bigint
  FROM generate_series(1, 3))`)
	case 4:
		return do(`DELETE FROM saltmarsh.scale_readings WHERE id = 1 + (random() * (SELECT last_value
  FROM saltmarsh.scale_reading_id))::bigint`)
	case 5:
		return do(`UPDATE saltmarsh.hives SET frames = $1::int, stores = stores + 0.25,
  temper = (enum_range(NULL::saltmarsh.temper))[1 + $1::int % 4]
WHERE (apiary, number) IN (SELECT apiary, number FROM saltmarsh.hives OFFSET $2::int LIMIT 1)`, n(40), n(80))
	case 6:
		// Leaves the large photo unsaid in the log.
		return do(`UPDATE saltmarsh.inspections SET brood_frames = $1::int WHERE id IN (SELECT id FROM saltmarsh.inspections
  WHERE photo IS NOT NULL OFFSET $2::int LIMIT 1)`, n(12), n(4))
	case 7:
		return do(`INSERT INTO saltmarsh.inspections (apiary, number, inspected_at, temper, findings)
SELECT apiary, number, now(), temper, '{"mites": 0}' FROM saltmarsh.hives OFFSET $1::int LIMIT 1`, n(80))
	case 8:
		if err := do(`INSERT INTO saltmarsh.visitor_notes (visitor, note) VALUES ($1, NULL), ('twice', 'the same'),
  ('twice', 'the same')`, fmt.Sprint("visitor ", n(10))); err != nil {
			return err
		}
		return do(`DELETE FROM saltmarsh.visitor_notes WHERE ctid IN (SELECT ctid FROM saltmarsh.visitor_notes LIMIT 2)`)
	case 9:
		var id int64
		if err := tx.QueryRowContext(ctx, `INSERT INTO saltmarsh.orders (stall, total, sender) VALUES ($1, $2, '10.9.9.9')
  RETURNING id`, 1+n(40), float64(n(900))/4).Scan(&id); err != nil {
			return err
		}
		return do(`INSERT INTO saltmarsh.order_lines SELECT $1, g, 1 + g, g, 7.25 FROM generate_series(1, 3) g`, id)
	case 10:
		// Cascades to its lines.
		return do(`DELETE FROM saltmarsh.orders WHERE id = (SELECT id FROM saltmarsh.orders ORDER BY id DESC OFFSET $1::int
  LIMIT 1)`, 20+n(50))
	case 11:
		// A row moves to another key, and to another partition.
		return do(`UPDATE saltmarsh.weather SET observed_on = observed_on + 400, station = station + 1000 + $1::int
WHERE (observed_on, station) IN (SELECT observed_on, station FROM saltmarsh.weather WHERE station < 5 OFFSET $2::int
  LIMIT 1)`, n(1_000_000), n(100))
	default:
		return do(`UPDATE saltmarsh.keepers SET profile = profile || jsonb_build_object('seen', $1::int),
  skills = array_append(skills[1:3], $2)
WHERE id = (SELECT id FROM saltmarsh.keepers OFFSET $3::int LIMIT 1)`, n(1000), fmt.Sprint("skill ", n(9)), n(20))
	}
}

// plainDay is in the SQL that both servers know, as an application must be that
// moves from one to the other.
func plainDay(ctx context.Context, tx *sql.Tx, rng *rand.Rand) error {
	n := rng.IntN
	do := func(format string, args ...any) error {
		_, err := tx.ExecContext(ctx, fmt.Sprintf(format, args...))
		return err
	}
	apiary, hive := fmt.Sprintf("dyke-%d", n(50)), 1+n(8)
	switch n(13) {
	case 0, 1, 2:
		return do(`INSERT INTO saltmarsh.scale_readings (apiary, number, read_at, weight_kg, inside_c, humidity, firmware)
VALUES ('%[1]s', %[2]d, CURRENT_TIMESTAMP, %[3]d.125, %[3]d.1, %[3]d, 'live'), ('%[1]s', %[2]d, CURRENT_TIMESTAMP,
  %[3]d.25, NULL, %[3]d, 'live')`, apiary, hive, n(90))
	case 3:
		return do(`UPDATE saltmarsh.scale_readings SET weight_kg = weight_kg + 0.001, remark = 'corrected ☕'
  WHERE id IN (%d, %d, %d)`, 1+n(20_000), 1+n(20_000), 1+n(20_000))
	case 4:
		return do(`DELETE FROM saltmarsh.scale_readings WHERE id = %d`, 1+n(20_000))
	case 5:
		return do(`UPDATE saltmarsh.hives SET frames = %d, stores = stores + 0.25, temper = 'nervous' WHERE apiary = '%s'
  AND number = %d`, n(40), apiary, hive)
	case 6:
		return do(`UPDATE saltmarsh.inspections SET brood_frames = %d WHERE apiary = '%s' AND number = %d`, n(12), apiary,
			hive)
	case 7:
		return do(`INSERT INTO saltmarsh.inspections (id, apiary, number, inspected_at, temper, findings)
  VALUES ('%08x-0000-4000-8000-%012x', '%s', %d, CURRENT_TIMESTAMP, 'calm', '{"mites": 0}')`,
			rng.Uint32(), rng.Int64N(1<<48), apiary, hive)
	case 8:
		if err := do(`INSERT INTO saltmarsh.visitor_notes (written_at, visitor, note)
  VALUES (CURRENT_TIMESTAMP, 'visitor %d', NULL), (CURRENT_TIMESTAMP, 'twice', 'the same'), (CURRENT_TIMESTAMP,
  'twice', 'the same')`, n(10)); err != nil {
			return err
		}
		return do(`DELETE FROM saltmarsh.visitor_notes WHERE visitor = 'visitor %d' AND note IS NULL`, n(10))
	case 9:
		return do(`INSERT INTO saltmarsh.orders (stall, placed_at, total, paid) VALUES (%d, CURRENT_TIMESTAMP, %d.75, 0)`,
			1+n(40), n(900))
	case 10:
		order := 1 + n(200)
		if err := do(`DELETE FROM saltmarsh.order_lines WHERE order_id = %d`, order); err != nil {
			return err
		}
		return do(`DELETE FROM saltmarsh.orders WHERE id = %d`, order)
	case 11:
		// A row moves to another key.
		return do(`UPDATE saltmarsh.weather SET station = station + %d WHERE observed_on = '2025-06-%02d' AND station < 5`,
			1000+n(1_000_000), 1+n(30))
	default:
		return do(`UPDATE saltmarsh.keepers SET profile = '{"seen": %d}', skills = 'queens,swarms' WHERE id = %d`, n(1000),
			1+n(20))
	}
}
