package postgres

import (
	"errors"
	"testing"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// TestTheServersHashesTellRowsApart: rows that are nearly alike have sums of their own, and what cannot be
// hashed leaves the view as it was.
func TestTheServersHashesTellRowsApart(t *testing.T) {
	d := fresh(t, `CREATE TYPE public.mood AS ENUM ('calm', 'fierce')`, `CREATE TABLE public.v (id integer PRIMARY KEY,
  a text, b text, f real, g double precision, n numeric, c character(5), y bytea, j json, w timestamptz, s interval,
  l integer[], m public.mood, t boolean, o bpchar)`, `INSERT INTO public.v (id) VALUES (1)`)
	p := planned(t, d, "public.v")
	seen := map[uint64]string{}
	for _, change := range []string{"a = NULL", "a = ''", "a = 'NULL'", "b = ''", "a = 'x', b = 'yz'", "a = 'xy', b = 'z'",
		"a = 'x,yz', b = ''", "a = '\"'", "a = '\"\"'", "a = E'\\\\'", "a = E'\\\\\\\\'", "a = 'x '", `a = U&'\00e9'`, `a = U&'e\0301'`,
		"f = 0.1", "f = 0.10000001", "f = '-0'", "f = 0", "g = 0.1", "g = 0.10000000000000002", "g = 'NaN'", "n = 1.0",
		"n = 1.00", "c = 'x'", "c = 'xx'", "o = 'x'", "o = 'x '", `y = '\x00'`, `y = '\x0000'`, `j = '{"a":1}'`, `j = '{"a": 1}'`,
		"w = '2026-05-01 10:00:00.000001+00'", "w = '2026-05-01 10:00:00.000002+00'", "s = '1 mon'", "s = '30 days'",
		"l = '{}'", "l = '{1}'", "l = '{NULL}'", "a = '1|x', b = NULL", "a = NULL, b = '1|x'", "a = '|', b = NULL",
		"a = NULL, b = '|'", "m = 'calm'", "m = 'fierce'", "t = true", "t = false"} {
		run(t, d, "UPDATE public.v SET "+change)
		v, _, err := d.OpenView(t.Context(), false, 0)
		if err != nil {
			t.Fatal(err)
		}
		sums, err := v.(engine.Hashes).HashThere(t.Context(), p, engine.Part{Buckets: 4}, nil, func(int64) {})
		v.Close()
		if err != nil || len(sums) != 1 || sums[0].Rows != 1 {
			t.Fatalf("%s: %v, %v", change, sums, err)
		}
		if as := seen[sums[0].Hash]; as != "" && change != "a = NULL" {
			t.Errorf("%s is hashed like %s", change, as)
		}
		seen[sums[0].Hash] = change
	}
	view, _, err := d.OpenView(t.Context(), false, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer view.Close()
	wrong := *p
	wrong.Columns = append(append([]domain.Column{}, p.Columns...), domain.Column{Name: "gone"})
	h := view.(engine.Hashes)
	if _, err := h.HashThere(t.Context(), &wrong, engine.Part{}, nil, func(int64) {}); !errors.Is(err,
		engine.ErrHashLost) {
		t.Errorf("a column that is not there: %v", err)
	}
	if n, err := view.Count(t.Context(), p); n != 1 || err != nil {
		t.Errorf("and then there are %d rows, %v", n, err)
	}
	if sums, err := h.HashThere(t.Context(), p, engine.Part{}, nil, func(int64) {}); err != nil || len(sums) != 1 {
		t.Errorf("and then %v, %v", sums, err)
	}
	if trip, err := h.RoundTrip(t.Context()); err != nil || trip <= 0 || trip > time.Minute {
		t.Errorf("it is %s away, %v", trip, err)
	}
	for name, c := range map[string]domain.Column{"of a type that we do not know": {Name: "x", BaseType: "seg"},
		"that is hidden": {Name: "x", BaseType: "text", Mask: "k"}, "that is cut": {Name: "x",
			BaseType: "text", Longest: 3}} {
		wrong.Columns = []domain.Column{c}
		if form := h.HashForm(&wrong); form != "" {
			t.Errorf("a column %s is hashed as %s", name, form)
		}
	}
}
