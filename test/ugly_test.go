package test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"dustyferry/internal/contract"
)

// ugly is the meanest set of tables: names, types and values that break things.
const ugly = `
CREATE SCHEMA "Ugly ""Schema""";
CREATE TYPE "Ugly ""Schema""".mood AS ENUM ('so so', 'fine', 'it''s "great"');
CREATE DOMAIN "Ugly ""Schema""".positive AS numeric CHECK (VALUE > 0);
CREATE TYPE "Ugly ""Schema""".pair AS (a integer, "B b" text);
CREATE TABLE "Ugly ""Schema"""."Table, with $1 names" (
  "Id 'x'"  bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  "select"  text DEFAULT E'a\nb',
  double    double precision, single real, num numeric, fixed numeric(30,10), yes boolean,
  small     smallint, stamp timestamp, stampz timestamptz, d date, t time, tz timetz, span interval,
  raw       bytea, js json, jsb jsonb, words text[], grid integer[][], mood "Ugly ""Schema""".mood,
  moods     "Ugly ""Schema""".mood[], pos "Ugly ""Schema""".positive, p "Ugly ""Schema""".pair,
  id        uuid, ip inet, net cidr, mac macaddr, bits bit(5), vbits bit varying, fixedc char(6), vc varchar(10),
  r         int4range, tr tstzrange, mr int4multirange, pt point, x xml, m money, ts tsvector, oidc oid,
  twice     numeric GENERATED ALWAYS AS (num * 2) STORED
);
INSERT INTO "Ugly ""Schema"""."Table, with $1 names"
  ("select", double, single, num, fixed, yes, small, stamp, stampz, d, t, tz, span, raw, js, jsb, words, grid, mood,
    moods, pos, p, id, ip, net, mac, bits, vbits, fixedc, vc, r, tr, mr, pt, x, m, ts, oidc)
SELECT CASE g % 5 WHEN 0 THEN NULL WHEN 1 THEN '' WHEN 2 THEN E'tab\t nl\n bs\\ cr\r \\N \\.' WHEN 3 THEN 'żółć 🐝 שלום'
  ELSE repeat('x', g) END,
  CASE g % 4 WHEN 0 THEN 'NaN' WHEN 1 THEN '-Infinity' WHEN 2 THEN '-0' ELSE random() END,
  CASE g % 3 WHEN 0 THEN 'Infinity'::real ELSE 1.0e-30::real END,
  CASE g % 4 WHEN 0 THEN 'NaN' WHEN 1 THEN 'Infinity' WHEN 2 THEN 1.500 ELSE 12345678901234567890.123456789 END,
  g / 7.0, g % 2 = 0, -32768 + g,
  CASE g % 3 WHEN 0 THEN 'infinity'::timestamp WHEN 1 THEN '4713-01-01 BC' ELSE '2026-11-23 07:00:00.000001' END,
  CASE g % 3 WHEN 0 THEN '-infinity'::timestamptz ELSE '294276-12-31 23:59:59+00' END,
  CASE g % 2 WHEN 0 THEN 'infinity'::date ELSE '0044-03-15 BC' END, '24:00', '23:59:59.999999+14',
    '1 year -2 mons 3 days -04:05:06.7',
  decode(md5(g::text) || '00ff5c', 'hex'), '{"b": 1, "a": [1.50, null], "b": 2}', '{"b": 1.50, "a": "é"}',
  ARRAY['a,b', NULL, 'c"d', '', 'NULL', E'\\'], '{{1,2},{3,NULL}}',
    (enum_range(NULL::"Ugly ""Schema""".mood))[1 + g % 3],
  ARRAY['fine', NULL, 'it''s "great"']::"Ugly ""Schema""".mood[], 0.001 + g, ROW(g, 'x,"y') ::"Ugly ""Schema""".pair,
  md5(g::text)::uuid, '2001:db8::1/64', '10.0.0.0/8', '08:00:2b:01:02:03', B'10101', B'1', 'ab', 'cd  ',
  CASE g % 2 WHEN 0 THEN 'empty'::int4range ELSE int4range(NULL, g) END, tstzrange(now(), NULL), '{[1,3),[7,9)}',
    '(1.5,-2)', '<a>b</a>', '12.34', 'bee:1 hive:2'::tsvector, g
FROM generate_series(1, 400) g;

CREATE TABLE "Ugly ""Schema""".wide (k text PRIMARY KEY, n integer, big text, big2 text);
ALTER TABLE "Ugly ""Schema""".wide ALTER big SET STORAGE EXTERNAL, ALTER big2 SET STORAGE EXTERNAL;
INSERT INTO "Ugly ""Schema""".wide SELECT 'k' || g, g, repeat(md5(g::text), 300), repeat(md5((g + 1)::text), 300)
  FROM generate_series(1, 200) g;

CREATE TABLE "Ugly ""Schema""".bag (a text, b double precision, c json, d point);
INSERT INTO "Ugly ""Schema""".bag SELECT 'same', 'NaN', '{"a":1}', '(1,2)' FROM generate_series(1, 40);
INSERT INTO "Ugly ""Schema""".bag SELECT NULL, g, NULL, NULL FROM generate_series(1, 60) g;

CREATE TABLE "Ugly ""Schema""".empty (id integer PRIMARY KEY);
CREATE TABLE "Ugly ""Schema""".nothing ();
INSERT INTO "Ugly ""Schema""".nothing DEFAULT VALUES;
CREATE TABLE "Ugly ""Schema""".keyonly (a integer, b text COLLATE "C", c timestamptz, PRIMARY KEY (a, b, c));
INSERT INTO "Ugly ""Schema""".keyonly SELECT g % 3, chr(32 + g % 90) || g, 'epoch'::timestamptz + g * interval '1 hour'
  FROM generate_series(1, 3000) g;
CREATE TABLE "Ugly ""Schema""".uniques (id integer PRIMARY KEY, seat integer UNIQUE, note text);
INSERT INTO "Ugly ""Schema""".uniques SELECT g, g, 'n' FROM generate_series(1, 100) g;
CREATE TABLE "Ugly ""Schema""".parent (id integer PRIMARY KEY);
CREATE TABLE "Ugly ""Schema""".child (id integer PRIMARY KEY,
  parent integer REFERENCES "Ugly ""Schema""".parent ON DELETE CASCADE);
INSERT INTO "Ugly ""Schema""".parent SELECT g FROM generate_series(1, 50) g;
INSERT INTO "Ugly ""Schema""".child SELECT g, 1 + g % 50 FROM generate_series(1, 100) g;
CREATE TABLE "Ugly ""Schema""".onlyunique (code varchar(20) NOT NULL UNIQUE, v integer);
INSERT INTO "Ugly ""Schema""".onlyunique SELECT 'c' || g, g FROM generate_series(1, 100) g;
`

// TestTheUgliestTables carries every kind of name, type and value, then changes
// them in every way, before and after the load, and compares in plain SQL.
func TestTheUgliestTables(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), ugly)
	f := start(t)
	f.cross(p, contract.Settings{ChunkBytes: ptr(int64(64 << 10))})
	f.startCrossing()
	src := connect(t, p.sourceURL())
	change := func(round int) {
		for _, q := range []string{
			`INSERT INTO %s."Table, with $1 names" ("select", num, mood, moods) VALUES ('late', 'NaN', 'fine', '{fine}')`,
			`UPDATE %s."Table, with $1 names" SET "select" = E'upd\\ated\t', words = NULL WHERE "Id 'x'" % 10 = ROUND`,
			`UPDATE %s.wide SET n = n + 1 WHERE n % 3 = 0`,                          // large values stay unsaid
			`UPDATE %s.wide SET big = 'short' WHERE n % 17 = 0`,                     // one of two is said
			`UPDATE %s.wide SET k = k || '-moved-ROUND' WHERE n % 11 = 0`,           // the key moves, large values unsaid
			`DELETE FROM %s.wide WHERE n % 29 = 0`,                                  //
			`DELETE FROM %s.bag WHERE ctid IN (SELECT ctid FROM %[1]s.bag LIMIT 3)`, // rows without a key, some alike
			`UPDATE %s.bag SET a = 'changed' WHERE ctid IN (SELECT ctid FROM %[1]s.bag WHERE a = 'same' LIMIT 2)`,
			`INSERT INTO %s.bag VALUES ('same', 'NaN', '{"a":1}', '(1,2)'), ('same', 'NaN', '{"a":1}', '(1,2)')`,
			`UPDATE %s.keyonly SET b = b || 'x' WHERE a = 1`,
			`BEGIN; UPDATE %s.uniques SET seat = -seat; UPDATE %[1]s.uniques SET seat = 1 - seat - 1; UPDATE %[1]s.uniques
  SET seat = seat + 1000 * ROUND; COMMIT`,
			`DELETE FROM %s.parent WHERE id % 7 = ROUND % 7`, // cascades
			`UPDATE %s.onlyunique SET v = v + 1 WHERE v % 2 = 0; UPDATE %[1]s.onlyunique SET code = code || 'z' WHERE v % 13 = 0`,
			`BEGIN; INSERT INTO %s.empty VALUES (ROUND); SAVEPOINT a; INSERT INTO %[1]s.empty VALUES (ROUND + 1000);
  ROLLBACK TO a; COMMIT`,
		} {
			q = strings.ReplaceAll(strings.ReplaceAll(q, "%[1]s", `"Ugly ""Schema"""`), "ROUND", fmt.Sprint(round))
			q = strings.Replace(q, "%s", `"Ugly ""Schema"""`, 1)
			if _, err := src.Exec(t.Context(), q); err != nil {
				t.Fatalf("%s: %v", q, err)
			}
		}
	}
	for round := range 3 { // while it loads
		change(round + 1)
		time.Sleep(150 * time.Millisecond)
	}
	f.awaitPhase(contract.PhaseInStep)
	change(5)
	exec1(t, p.sourceURL(), `TRUNCATE "Ugly ""Schema""".parent, "Ugly ""Schema""".child RESTART IDENTITY CASCADE`)
	exec1(t, p.sourceURL(), `INSERT INTO "Ugly ""Schema""".parent VALUES (7)`)
	change(6)
	if r := f.reconcile(contract.NewReconciliationDepthHashes); r.State != "clean" {
		f.story()
		t.Errorf("reconciliation: %+v", r)
	}
	settle(t, f)
	sameEverywhere(t, p, `Ugly "Schema"`)
	want := one[int64](t, p.sourceURL(), `SELECT count(*) FROM pg_index i JOIN pg_class c ON c.oid = i.indrelid
  JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname LIKE 'Ugly%'`)
	if got := one[int64](t, p.targetURL(), `SELECT count(*) FROM pg_index i JOIN pg_class c ON c.oid = i.indrelid
  JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname LIKE 'Ugly%'`); got != want {
		t.Errorf("%d indexes on the target, %d on the source", got, want)
	}
	types := `SELECT string_agg(concat(attrelid::regclass, '.', attname, ' ', format_type(atttypid, atttypmod),
  attnotnull, attgenerated, attidentity), ';' ORDER BY attrelid::regclass::text, attname)
FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace
  WHERE n.nspname LIKE 'Ugly%' AND relkind = 'r' AND attnum > 0`
	if a, b := one[string](t, p.sourceURL(), types), one[string](t, p.targetURL(), types); a != b {
		t.Errorf("columns differ:\n%s\n%s", a, b)
	}
	fks := `SELECT count(*) FROM pg_constraint WHERE contype = 'f'`
	if one[int64](t, p.targetURL(), fks) != one[int64](t, p.sourceURL(), fks) {
		t.Error("foreign keys are missing on the target")
	}
}

// settle waits until everything written so far is applied.
func settle(t *testing.T, f *ferry) {
	t.Helper()
	r := f.reconcile(contract.NewReconciliationDepthCounts) // goes through a shared position
	if r.State == "failed" {
		t.Fatal(r.Error)
	}
}
