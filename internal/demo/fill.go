// Package demo is Saltmarsh Apiaries: a made-up honey cooperative with its
// database, its data and the application that keeps writing to it. The demo and
// the tests use it; the service needs nothing of it.
package demo

import (
	"context"
	_ "embed"
	"fmt"

	"github.com/jackc/pgx/v5"
)

//go:embed schema.sql
var schema string

// Tables is how many tables the scenario has.
const Tables = 12

// Fill creates the scenario in a database. rows is the size of the large table,
// scale_readings; the others grow with it, more slowly.
func Fill(ctx context.Context, url string, rows int) error {
	c, err := pgx.Connect(ctx, url)
	if err != nil {
		return err
	}
	defer func() { _ = c.Close(context.WithoutCancel(ctx)) }()
	small := min(max(rows/200, 200), 20_000)
	for _, step := range []struct{ what, sql string }{
		{"schema", schema},
		{"seed", `SELECT setseed(0.42)`},
		{"keepers", fmt.Sprintf(`
INSERT INTO saltmarsh.keepers (name, email, joined, skills, profile, portrait)
SELECT (ARRAY['Wren','Ingrid','Tomasz','Odile','Rurik','Maud'])[1 + i %% 6] || ' ' || (ARRAY['Reed','Salt','Thistle','Marsh','Heather'])[1 + i %% 5] || ' ' || i,
       'keeper' || i || '@saltmarsh.example', date '2005-03-01' + i * 3,
       CASE WHEN i %% 3 = 0 THEN '{}' ELSE ARRAY['swarms', 'queens "marked"', 'a,b'] END,
       jsonb_build_object('hives', i, 'tools', jsonb_build_array('smoker', NULL, 1.50)),
       CASE WHEN i %% 4 = 0 THEN decode(repeat(md5(i::text), 40), 'hex') END
  FROM generate_series(1, %d) i`, min(small/10+5, 500))},
		{"apiaries", fmt.Sprintf(`
INSERT INTO saltmarsh.apiaries
SELECT (ARRAY['dyke','Éire','zostera','Åland','heath','_fen'])[1 + i %% 6] || '-' || i, 1 + i %% 20,
  'Apiary ' || i || E'\ttab \\ back',
       ROW(53 + random(), 7 + random())::saltmarsh.place, round((random() * 30)::numeric, 2), make_interval(days => i)
  FROM generate_series(1, %d) i`, min(small/10+10, 400))},
		{"hives", `
INSERT INTO saltmarsh.hives
SELECT code, n, CASE WHEN n % 3 = 0 THEN NULL ELSE 'queen ' || n END, (enum_range(NULL::saltmarsh.temper))[1 + n % 4],
       CASE WHEN n % 2 = 0 THEN ARRAY['calm', 'fierce']::saltmarsh.temper[] END, n, n * 1.5, NULL
  FROM saltmarsh.apiaries, generate_series(1, 8) n`},
		{"inspections", fmt.Sprintf(`
INSERT INTO saltmarsh.inspections (apiary, number, inspected_at, temper, brood_frames, findings, photo)
SELECT h.apiary, h.number, timestamptz '2025-04-01 08:00+00' + i * interval '37 minutes', h.temper, i %% 12,
       jsonb_build_object('mites', i %% 5, 'note', repeat('observed ', i %% 7)),
       CASE WHEN i %% 50 = 0 THEN (SELECT decode(string_agg(md5((i * k)::text), ''), 'hex')
         FROM generate_series(1, 800) k) END
  FROM generate_series(1, %d) i JOIN LATERAL (SELECT * FROM saltmarsh.hives ORDER BY apiary, number OFFSET i %% 40
    LIMIT 1) h ON true`, small)},
		{"scale readings", fmt.Sprintf(`
INSERT INTO saltmarsh.scale_readings
SELECT i, 'dyke-' || (i %% 50), 1 + i %% 8, timestamp '2025-01-01' + i * interval '13 seconds',
  round((20 + 60 * random())::numeric, 3),
       (15 + 20 * random())::real, 30 * random(), (i %% 100)::smallint, 3000 + i %% 1200, 'scale-fw-' || i %% 7,
       CASE WHEN i %% 11 = 0 THEN 'calibrated by hand after the storm, see the visit of that week' END
  FROM generate_series(1, %d) i`, rows)},
		{"sequence", `SELECT setval('saltmarsh.scale_reading_id', (SELECT max(id) FROM saltmarsh.scale_readings))`},
		{"lots", fmt.Sprintf(`
INSERT INTO saltmarsh.harvest_lots (lot, grade, net_kg, moisture, pressed_on, best_until)
SELECT 'LOT-' || i, (ARRAY['dark','amber','light','extra light'])[1 + i %% 4]::saltmarsh.grade, 100 + i * 0.125, CASE
  WHEN i %% 9 = 0 THEN 'NaN' ELSE 17.10 + i %% 3 END,
       CASE WHEN i %% 5 = 0 THEN '-infinity'::date ELSE date '2025-06-01' + i %% 90 END, CASE
         WHEN i %% 2 = 0 THEN 'infinity'::timestamp ELSE '2030-01-01' END
  FROM generate_series(1, %d) i`, small/4)},
		{"lot sources", `
INSERT INTO saltmarsh.lot_sources
SELECT l.id, a.code, 0.5 FROM saltmarsh.harvest_lots l
  JOIN LATERAL (SELECT code FROM saltmarsh.apiaries ORDER BY code OFFSET l.id % 10 LIMIT 2) a ON true`},
		{"visitor notes", fmt.Sprintf(`
INSERT INTO saltmarsh.visitor_notes
SELECT timestamptz '2026-01-01' + i %% 40 * interval '1 hour', CASE WHEN i %% 4 = 0 THEN NULL
  ELSE 'visitor ' || i %% 10 END,
       CASE i %% 3 WHEN 0 THEN NULL WHEN 1 THEN '' ELSE E'lovely honey\ncame back' END
  FROM generate_series(1, %d) i`, small/2)},
		{"weather", `
INSERT INTO saltmarsh.weather
SELECT d::date, s, round((random() * 20)::numeric, 1), int4range(s, s + 20)
  FROM generate_series(date '2024-12-01', date '2026-06-30', interval '1 day') d, generate_series(1, 4) s`},
		{"stalls", `
INSERT INTO saltmarsh."Market Stalls"
SELECT i, (ARRAY['Saint "Q"', 'O''Hara', 'Łódź', 'Plain'])[1 + i % 4], i * 10.5, i % 2 = 0 FROM generate_series(1, 40) i`},
		{"orders", fmt.Sprintf(`
INSERT INTO saltmarsh.orders (stall, placed_at, total, paid, sender)
SELECT 1 + i %% 40, timestamptz '2026-01-01' + i * interval '5 minutes', i %% 500 + 0.5, i %% 3 > 0,
  ('10.0.' || i %% 250 || '.7')::inet
  FROM generate_series(1, %d) i`, small)},
		{"order lines", `
INSERT INTO saltmarsh.order_lines
SELECT o.id, n, 1 + o.id % 40, n * 2, 6.5 FROM saltmarsh.orders o, generate_series(1, 2) n`},
		{"statistics", `ANALYZE`},
	} {
		if _, err := c.Exec(ctx, step.sql); err != nil {
			return fmt.Errorf("filling %s: %w", step.what, err)
		}
	}
	return nil
}
