package postgres

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/protocol/pgcopy"
	"dustyferry/internal/protocol/pgvalue"
)

// TestValuesAsTheServerSendsThem holds the binary form of values against what the server
// itself sends of them, and the numbers of types against its catalog.
func TestValuesAsTheServerSendsThem(t *testing.T) {
	d := fresh(t)
	r := rand.New(rand.NewPCG(11, 28))
	date := func() string { return fmt.Sprintf("%04d-%02d-%02d", 1+r.IntN(9999), 1+r.IntN(12), 1+r.IntN(28)) }
	clock := func() string {
		return fmt.Sprintf("%02d:%02d:%02d", r.IntN(24), r.IntN(60), r.IntN(60)) + []string{"", ".5", ".000001", ".123456",
			".9"}[r.IntN(5)]
	}
	digits := func(n int) string {
		return strings.Repeat("0", r.IntN(3)) + strings.Map(func(rune) rune { return rune('0' + r.IntN(10)) },
			strings.Repeat("x", r.IntN(n))) + strings.Repeat("0", r.IntN(5))
	}
	for typ, c := range map[string]struct {
		send  string
		fixed []string
		more  func() string
	}{
		"boolean":  {"boolsend", []string{"true", "false"}, nil},
		"bytea":    {"byteasend", []string{`\x`, `\x00ff`}, nil},
		"smallint": {"int2send", []string{"-32768", "32767", "0"}, nil}, "integer": {"int4send", []string{"-2147483648",
			"2147483647"}, nil},
		"bigint": {"int8send", []string{"-9223372036854775808", "9223372036854775807"}, func() string {
			return fmt.Sprint(int64(r.Uint64()))
		}},
		"text": {"textsend", []string{"", "née ☕"}, nil}, "character varying": {"varcharsend", []string{"a "}, nil},
		"json": {"json_send", []string{`{"a": 1}`}, nil},
		"real": {"float4send", []string{"0", "-0", "1e-45", "3.4028235e+38"}, func() string {
			return fmt.Sprint(math.Float32frombits(r.Uint32() &^ (1 << 30)))
		}},
		"double precision": {"float8send", []string{"-0", "5e-324", "1.7976931348623157e+308"}, func() string {
			return fmt.Sprint(math.Float64frombits(r.Uint64() &^ (1 << 62)))
		}},
		"date": {"date_send", []string{"0001-01-01", "9999-12-31", "2000-02-29", "1900-03-01"}, date},
		"timestamp without time zone": {"timestamp_send", []string{"0001-01-01 00:00:00", "9999-12-31 23:59:59.999999"},
			func() string { return date() + " " + clock() }},
		"timestamp with time zone": {"timestamptz_send", nil, func() string { return date() + " " + clock() + "+00" }},
		"interval": {"interval_send", []string{"-838:59:59.999999", "838:59:59.5", "-00:00:01",
			"00:00:00"}, clock},
		"bit":  {"bit_send", []string{"1", "10101", strings.Repeat("10", 36)}, nil},
		"uuid": {"uuid_send", []string{"6ba7b810-9dad-11d1-80b4-00c04fd430c8"}, nil},
		"numeric": {"numeric_send", []string{"0", "-0", "0.000", "10000", "-100000000", "0.0001", "0.00001", "1.5",
			"99999999.99990000"}, func() string {
			return []string{"", "-"}[r.IntN(2)] + "0" + digits(40) + []string{"", "." + digits(40) + "7", ".00000000"}[r.IntN(3)]
		}},
	} {
		if n := collectOne(t, d, fmt.Sprintf("SELECT '%s'::regtype::oid::text", typ)); n != fmt.Sprint(pgvalue.OID(typ)) {
			t.Errorf("%s is type %d here and %s there", typ, pgvalue.OID(typ), n)
		}
		values := c.fixed
		for range 300 {
			if c.more != nil {
				values = append(values, c.more())
			}
		}
		cast := typ
		if typ == "bit" {
			cast = "varbit" // its form is the same, and it takes any length
		}
		rows, err := d.pool.Query(t.Context(), fmt.Sprintf("SELECT v, encode(%s(v::%s), 'hex') FROM unnest($1::text[]) v",
			strings.Replace(c.send, "bit_send", "varbit_send", 1), cast), values)
		if err != nil {
			t.Fatal(err)
		}
		n := 0
		for rows.Next() {
			var v, want string
			if err := rows.Scan(&v, &want); err != nil {
				t.Fatal(err)
			}
			got, err := pgvalue.Encoder(typ)([]byte("before"), []byte(v))
			if n++; err != nil || fmt.Sprintf("%x", got) != fmt.Sprintf("%x", "before")+want {
				t.Errorf("%s %q is %x (%v), want %s", typ, v, got, err, want)
			}
		}
		if err := rows.Err(); err != nil || n != len(values) {
			t.Fatalf("%s: %d of %d values: %v", typ, n, len(values), err)
		}
	}
}

// TestBinaryRowsNeedTheVeryTypes writes binary rows, which a table takes whose types are
// those of the plan, and one that a person has made otherwise does not.
func TestBinaryRowsNeedTheVeryTypes(t *testing.T) {
	d := fresh(t, bookkeepingTables, "CREATE TABLE public.h (id bigint PRIMARY KEY, kg numeric(7,3), name character "+
		"varying(5))",
		"CREATE TABLE public.wide (id bigint PRIMARY KEY, kg double precision, name character varying(5))",
		"CREATE DOMAIN public.weight AS numeric(7,3)", "CREATE TABLE public.own (id bigint PRIMARY KEY, kg public.weight, "+
			"name character varying(5))")
	p := planned(t, d, "public.h")
	w, err := d.OpenWriter(t.Context(), "")
	if err != nil {
		t.Fatal(err)
	}
	defer w.Close()
	for table, want := range map[string]bool{"h": true, "wide": false, "own": false, "gone": false} {
		other := *p
		other.Target = domain.TableName{Schema: "public", Name: table}
		if able, err := w.SupportsBinary(t.Context(), &other); err != nil || able != want {
			t.Errorf("table %s takes binary rows: %t (%v)", table, able, err)
		}
	}
	if err := w.Begin(t.Context(), p, true, nil); err != nil {
		t.Fatal(err)
	}
	var data []byte
	for _, v := range [][]string{{"1", "-12.500", "hive"}, {"2", "0", ""}} {
		var fields [][]byte
		for i, base := range []string{"bigint", "numeric", "character varying"} {
			f, err := pgvalue.Encoder(base)([]byte{}, []byte(v[i]))
			if err != nil {
				t.Fatal(err)
			}
			fields = append(fields, f)
		}
		data = pgcopy.AppendFields(data, fields)
	}
	data = pgcopy.AppendFields(data, [][]byte{{0, 0, 0, 0, 0, 0, 0, 3}, nil, nil})
	for range 2 { // cut anywhere
		if err := w.Write(t.Context(), data[:11]); err != nil {
			t.Fatal(err)
		}
		if err := w.Write(t.Context(), data[11:]); err != nil {
			t.Fatal(err)
		}
		data = pgcopy.AppendFields(nil, [][]byte{{0, 0, 0, 0, 0, 0, 0, 4}, nil, nil})
	}
	if err := w.Land(t.Context(), engine.Mark{Crossing: "x", Chunk: 1, Epoch: 1, Sum: rowhash.Sum{Rows: 4}}); err != nil {
		t.Fatal(err)
	}
	if got := collectOne(t, d,
		"SELECT string_agg(h::text, ' ' ORDER BY id) FROM public.h h"); got != `(1,-12.500,hive) (2,0.000,"") (3,,) (4,,)` {
		t.Errorf("%s", got)
	}
}

func collectOne(t *testing.T, d *database, sql string) string {
	t.Helper()
	var v string
	if err := d.pool.QueryRow(t.Context(), sql).Scan(&v); err != nil {
		t.Fatalf("%s: %v", sql, err)
	}
	return v
}
