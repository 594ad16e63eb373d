package postgres

import (
	"bytes"
	"strings"
	"testing"

	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/protocol/bindvalue"
	"dustyferry/internal/protocol/pgcopy"
)

// bound is a plan of a table for MariaDB.
func bound(t *testing.T, d *database, table string) *domain.TablePlan {
	t.Helper()
	p := *planned(t, d, table)
	p.Target, p.TargetSide = p.Source, nil
	p, _ = typemap.Mapping{From: typemap.Postgres, To: typemap.MariaDB, Into: "new"}.Complete(p)
	return &p
}

// chunkOf reads a table whole, for another engine, in one of the two forms.
func chunkOf(t *testing.T, r *reader, p *domain.TablePlan, binary bool) (rows [][][]byte, err error) {
	t.Helper()
	if _, err := r.Begin(t.Context()); err != nil {
		t.Fatal(err)
	}
	sum, err := r.Copy(t.Context(), p, &domain.Chunk{}, binary, func(block []byte) error {
		for block = bytes.Clone(block); len(block) > 0; {
			fields, rest, err := pgcopy.Next(nil, block)
			if err != nil {
				return err
			}
			rows, block = append(rows, fields), rest
		}
		return nil
	})
	if err == nil && sum.Rows != int64(len(rows)) {
		t.Errorf("%d rows came, the sum counts %d", len(rows), sum.Rows)
	}
	if err == nil {
		err = r.End(t.Context())
	}
	return rows, err
}

// TestParametersAreWhatTextsAre: a row that goes to MariaDB as parameters has the values that its
// texts have.
func TestParametersAreWhatTextsAre(t *testing.T) {
	d := fresh(t, `
CREATE TYPE public.grade AS ENUM ('light', 'it''s dark');
CREATE DOMAIN public.flag AS boolean;
CREATE TABLE public.kinds (id bigint PRIMARY KEY, s smallint, i integer, n numeric(65,30), n2 numeric(30,10),
  whole numeric(20), r real, d double precision, t text, v character varying(90), c character(7), day date,
  ts timestamp without time zone, ts0 timestamp(0) without time zone, tz timestamp(3) with time zone,
  tm time(3) without time zone, tmz time with time zone, iv interval, u uuid, j json, jb jsonb, by bytea, f boolean,
  own public.flag, ip inet, name name, x xml, list integer[], m money)`, `
INSERT INTO public.kinds VALUES
 (-9223372036854775808, -32768, -2147483648, 1.000000000000000000000000000001, -12345678901234567890.0000000001, 0,
   3.4028235e38, -1.7976931348623157e308, E'tab\t new\n cr\r back\\ \\N \b\f\v ☕', '\N', 'a b  ', '0001-01-01',
   '0001-01-01 00:00:00', '9999-12-31 23:59:59', '1969-12-31 23:59:59.999+00', '24:00:00', '00:00:00+15:59',
   '-1 mons +2 days -00:00:00.000001', 'ffffffff-ffff-ffff-ffff-ffffffffffff', E'{"a":\n 1.0}', '{"a": 1.0}',
   '\x00ff5c0a09', true, false, '10.0.0.9', 'na me', '<?xml version="1.0"?><a/>', '{1,NULL,3}', '-12.30'),
 (9223372036854775807, 32767, 2147483647, -0.5, 0, -99999999999999999999, 1e-45, 5e-324, '', '', '', '9999-12-31',
   '2026-01-01 10:00:00.5', '2024-02-29 00:00:00', '2026-01-01 10:00:00.12', '00:00:00.001', '23:59:59-15:59', '0',
   '00000000-0000-0000-0000-000000000001', 'null', 'null', '', false, true, '::ffff:1.2.3.4/96', '', '', '{}', 0)`,
		`INSERT INTO public.kinds (id, r, d) VALUES (3, '-0', '-0')`, `INSERT INTO public.kinds (id) VALUES (4)`,
		`INSERT INTO public.kinds (id, t, by) VALUES (5, repeat('wide ', 300000), decode(repeat('00ff', 400000), 'hex'))`,
		`INSERT INTO public.kinds (id, n2, r, d, t, ts, day) SELECT 10 + i, i * 977 / 1000.0, i / 7.0, i / 3.0,
  repeat('x', i), timestamp '1999-01-01' + i * interval '77777.123457 seconds', date '1600-01-01' + i * 37
  FROM generate_series(1, 3000) i`)
	p := bound(t, d, "public.kinds")
	opened, err := d.OpenReader(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	r := opened.(*reader)
	defer r.Close()
	if !r.SupportsBinary(p) {
		t.Fatal("the table does not go as parameters")
	}
	texts, err := chunkOf(t, r, p, false)
	if err != nil {
		t.Fatal(err)
	}
	values, err := chunkOf(t, r, p, true)
	if err != nil {
		t.Fatal(err)
	}
	if len(texts) != 3005 || len(values) != 3005 {
		t.Fatalf("%d rows as texts, %d as parameters", len(texts), len(values))
	}
	there := p.TargetColumns()
	for n := range texts {
		for i, c := range there {
			text, v := texts[n][i], values[n][i]
			if text == nil || v == nil {
				if text != nil || v != nil {
					t.Errorf("row %d, %s: %q as a text, %q as a parameter", n, c.Name, text, v)
				}
				continue
			}
			kind, ok := bindvalue.Of(c.BaseType)
			want := text
			if !ok { // bytes
				if back, err := bindvalue.Bytes.Text(nil, v); err != nil || `\x`+hexOf(back) != string(text) {
					t.Errorf("row %d, %s: %d bytes (%v), want %.40q", n, c.Name, len(back), err, text)
				}
				continue
			}
			if want, ok = kind.Append(nil, text); !ok || !bytes.Equal(v, want) {
				t.Errorf("row %d, %s %s: %.40q is % .40x, want % .40x", n, c.Name, c.Type, text, v, want)
			}
		}
	}
}

func hexOf(b []byte) string {
	var s strings.Builder
	for _, c := range b {
		s.WriteByte("0123456789abcdef"[c>>4])
		s.WriteByte("0123456789abcdef"[c&15])
	}
	return s.String()
}

// TestWhatMariaDBDoesNotHoldIsRefused: as parameters too, with the column's name.
func TestWhatMariaDBDoesNotHoldIsRefused(t *testing.T) {
	for column, value := range map[string]string{"n numeric(9,2)": "NaN", "n numeric": "Infinity", "r real": "-Infinity",
		"d double precision": "NaN", "day date": "infinity", "early date": "0044-03-15 BC", "late date": "10000-01-01",
		"ts timestamp": "-infinity", "far timestamp": "10000-01-01 00:00:00", "tz timestamptz": "0001-12-31 BC",
		"fine numeric": "0.1234567890123456789012345678901"} {
		t.Run(column, func(t *testing.T) {
			name, _, _ := strings.Cut(column, " ")
			d := fresh(t, "CREATE TABLE public.odd (id integer PRIMARY KEY, "+column+")",
				"INSERT INTO public.odd VALUES (1, NULL), (2, '"+value+"')")
			p := bound(t, d, "public.odd")
			for _, binary := range []bool{false, true} {
				opened, err := d.OpenReader(t.Context())
				if err != nil {
					t.Fatal(err)
				}
				r := opened.(*reader)
				if binary && !r.SupportsBinary(p) {
					t.Error("the table does not go as parameters")
				}
				if _, err := chunkOf(t, r, p, binary); err == nil || !strings.Contains(err.Error(), ": column "+name+": ") {
					t.Errorf("binary %t: %v", binary, err)
				}
				r.Close()
			}
		})
	}
}

// TestTablesThatGoAsTexts: a column that is changed on its way, or kept as another kind than usual,
// goes as a text, and where that is no parameter, the whole table does.
func TestTablesThatGoAsTexts(t *testing.T) {
	d := fresh(t, "CREATE TABLE public.odd (id integer PRIMARY KEY, name text, o oid, weight numeric(7,3))")
	opened, err := d.OpenReader(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer opened.Close()
	p := bound(t, d, "public.odd")
	if opened.SupportsBinary(p) {
		t.Error("an oid has no parameter")
	}
	p.Columns = append(p.Columns[:2:2], p.Columns[3])
	p.TargetSide.Columns = append(p.TargetSide.Columns[:2:2], p.TargetSide.Columns[3])
	if !opened.SupportsBinary(p) {
		t.Error("the table without it does not go as parameters")
	}
	p.TargetSide.Columns[2].Type, p.TargetSide.Columns[2].BaseType = "double", "double"
	if opened.SupportsBinary(p) {
		t.Error("a number that becomes another kind goes as a parameter")
	}
	like := planned(t, d, "public.odd")
	if opened.SupportsBinary(like) {
		t.Error("rows for an engine of the same kind go as parameters")
	}
}
