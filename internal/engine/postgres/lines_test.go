package postgres

import (
	"bytes"
	"fmt"
	"slices"
	"testing"

	"dustyferry/internal/domain"
	"dustyferry/internal/protocol/pgcopy"
)

// TestLinesAreWhatTextsAre: the fields of COPY's text format are what casts to text give, for
// each type that goes without a cast and for those that go with one.
func TestLinesAreWhatTextsAre(t *testing.T) {
	d := fresh(t, `
CREATE TYPE public.grade AS ENUM ('light', 'it''s dark');
CREATE DOMAIN public.flag AS boolean;
CREATE TABLE public.kinds (id integer PRIMARY KEY, s smallint, b bigint, n numeric, n2 numeric(30,10), r real,
  d double precision, t text, v character varying(90), c character(7),
  day date, ts timestamp without time zone, tz timestamp(3) with time zone, tm time without time zone,
    tmz time with time zone, i interval, u uuid, j json, jb jsonb, by bytea,
  f boolean, own public.flag, g public.grade, ip inet, net cidr, m money, name name, one "char", x xml, list integer[],
    texts text[], bits bit varying(9), p point, o oid)`,
		`
INSERT INTO public.kinds VALUES
 (1, -32768, -9223372036854775808, 'NaN', -12345678901234567890.0000000001, 'NaN', '-Infinity',
   E'tab\t new\n cr\r back\\ \\N \b\f\v ☕', '\N', 'a b  ', '0044-03-15 BC', '-infinity', 'infinity', '24:00:00',
   '00:00:00+15:59', '-1 mons +2 days -00:00:00.000001',
  'ffffffff-ffff-ffff-ffff-ffffffffffff', E'{"a":\n 1.0}', '{"a": 1.0}', '\x00ff5c0a09', true, false, 'it''s dark',
    '10.0.0.9', '10.0.0.0/8', '-12.30', 'na me', 'x', '<?xml version="1.0"?><a/>', '{1,NULL,3}',
    E'{"a\\tb","NULL",NULL}', B'101', '(0.1,1e300)', 4294967295),
 (2, 32767, 9223372036854775807, '1e-30', 0, 1e-45, 5e-324, '', '', '', '9999-12-31', '2026-01-01 10:00:00.5',
   '2026-01-01 10:00:00.123', '00:00:00.000001', '23:59:59-15:59', '0', '00000000-0000-0000-0000-000000000001', 'null',
   'null', '', false, true, 'light', '::ffff:1.2.3.4/96', '::/0', 0, '', '', '', '{}', '{}', B'', '(0,-0)', 0)`,
		`INSERT INTO public.kinds (id) VALUES (3)`)
	p := planned(t, d, "public.kinds")
	cols := p.CopiedColumns()
	if !slices.ContainsFunc(cols, func(c domain.Column) bool { return written[c.BaseType] }) {
		t.Fatal("nothing goes without a cast")
	}
	opened, err := d.OpenReader(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	r := opened.(*reader)
	defer r.Close()
	var texts, lines [][][]byte
	keep := func(to *[][][]byte, fieldsOf func(dst [][]byte, row []byte) ([][]byte, error)) func([]byte) error {
		return func(row []byte) error {
			fields, err := fieldsOf(nil, bytes.Clone(row))
			*to = append(*to, fields)
			return err
		}
	}
	const order = " FROM public.kinds ORDER BY id"
	if err := copyTo(t.Context(), r.conn, &rowSink{row: keep(&texts, pgcopy.Fields)}, "COPY (SELECT "+textList(cols)+order+
		") TO STDOUT (FORMAT binary)"); err != nil {
		t.Fatal(err)
	}
	if err := copyLines(t.Context(), r.conn, "SELECT "+lineList(cols)+order, keep(&lines, pgcopy.TextFields)); err != nil {
		t.Fatal(err)
	}
	if len(texts) != 3 || len(lines) != 3 {
		t.Fatalf("%d rows as texts, %d as lines", len(texts), len(lines))
	}
	for n := range texts {
		for i, c := range cols {
			if a, b := texts[n][i], lines[n][i]; !bytes.Equal(a, b) || (a == nil) != (b == nil) {
				t.Errorf("row %d, %s %s: %q as a text, %q in a line", n, c.Name, c.BaseType, a, b)
			}
		}
	}
	// An expression's type is not its column's: it goes with its cast.
	truth := domain.Column{Name: "late", BaseType: "text", Expression: "id > 1"}
	if got, want := lineList([]domain.Column{truth}), "(id > 1)::text"; got != want {
		t.Errorf("an expression is read as %s, want %s", got, want)
	}
}

// TestLinesAreCounted: what is no line, and a visit that ends, end the copy with an error.
func TestLinesAreCounted(t *testing.T) {
	d := fresh(t)
	opened, err := d.OpenReader(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	r := opened.(*reader)
	defer r.Close()
	enough := fmt.Errorf("enough")
	if err := copyLines(t.Context(), r.conn, "SELECT generate_series(1, 1000)", func([]byte) error {
		return enough
	}); err == nil {
		t.Error("a visit ended, and nobody was told")
	}
	s := &lineSink{line: func([]byte) error { return nil }}
	if n, err := s.Write([]byte("1\t2\n3\t4\n")); n != 8 || err != nil || s.lines != 2 {
		t.Errorf("%d bytes, %d lines: %v", n, s.lines, err)
	}
	if _, err := s.Write([]byte("1\t2\n3")); err == nil {
		t.Error("half a line was taken")
	}
}
