package mariadb

import (
	"errors"
	"strconv"
	"testing"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// TestTheServersHashesTellRowsApart: rows that are nearly alike have sums of their own, and what the server
// cannot write together it does not pass over.
func TestTheServersHashesTellRowsApart(t *testing.T) {
	d, db := open(t)
	run(t, db, `CREATE TABLE v (id int PRIMARY KEY, a text, b varchar(30) CHARACTER SET latin1, f float, g double,
  n decimal(10, 3), c char(5), y varbinary(9), j json, w datetime(6), s timestamp(3) NULL, u bigint unsigned, x bit(11),
  e enum('calm', 'fierce'), m set('swarms', 'wax'), o longblob, z tinyint(1), h time(2), q year)`,
		"INSERT INTO v (id) VALUES (1)")
	p := plan(t, d, "v")
	p.TargetSide = nil
	seen := map[uint64]string{}
	for _, change := range []string{"a = NULL", "a = ''", "a = 'NULL'", "b = ''", "a = 'x', b = 'yz'", "a = 'xy', b = 'z'",
		"a = ''''", "a = ''''''", `a = '\\'`, `a = '\\\\'`, "a = 'x '", "a = 'é'", "b = 'é'", "b = 'è'", "a = '🐝'", "a = '🐞'",
		"f = 0.1", "f = 0.10000001", "f = 0", "f = 16777216", "f = 16777218", "g = 0.1", "g = 0.10000000000000002",
		"g = 1e300", "g = 1.0000000000000002e300", "n = 1", "n = 1.001", "c = 'x'", "c = 'xx'", `y = '\0'`, `y = '\0\0'`,
		`j = '{"a":1}'`, `j = '{"a": 1}'`, "w = '2026-05-01 10:00:00.000001'", "w = '2026-05-01 10:00:00.000002'",
		"s = '2026-05-01 10:00:00.001'", "s = '2026-05-01 10:00:00.002'", "u = 18446744073709551615",
		"u = 18446744073709551614", "x = 1", "x = 1025", "e = 'calm'", "e = 'fierce'", "m = ''", "m = 'swarms,wax'",
		"o = x'ff00ff'", "o = x'ff00fe'",
		"z = 1", "z = 2", "h = '100:00:00.01'", "h = '-100:00:00.01'", "q = 2026", "q = 2025"} {
		run(t, db, "SET STATEMENT sql_mode = '' FOR UPDATE v SET "+change)
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
	// More than a packet holds is no string to the server.
	var packet int
	if err := db.QueryRow("SELECT @@max_allowed_packet").Scan(&packet); err != nil {
		t.Fatal(err)
	}
	run(t, db, "UPDATE v SET o = repeat('x', "+strconv.Itoa(packet/2+100)+"), a = repeat('y', 60000)",
		"INSERT INTO v (id, o) SELECT 2, o FROM v")
	view, _, err := d.OpenView(t.Context(), false, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer view.Close()
	h := view.(engine.Hashes)
	big := *p
	big.Columns = append(append([]domain.Column{}, p.Columns...), *p.Table.Column("o"))
	if _, err := h.HashThere(t.Context(), &big, engine.Part{}, nil, func(int64) {}); !errors.Is(err, engine.ErrHashLost) {
		t.Errorf("a row larger than a packet: %v", err)
	}
	if n, err := view.Count(t.Context(), p); n != 2 || err != nil {
		t.Errorf("and then there are %d rows, %v", n, err)
	}
	if trip, err := h.RoundTrip(t.Context()); err != nil || trip <= 0 {
		t.Errorf("it is %s away, %v", trip, err)
	}
	for name, c := range map[string]domain.Column{"of a shape": {Name: "x", BaseType: "point"},
		"of a type that we do not know": {Name: "x", BaseType: "vector"},
		"that is hidden":                {Name: "x", BaseType: "text", Mask: "k"},
		"that is cut":                   {Name: "x", BaseType: "text", Longest: 3}} {
		big.Columns = []domain.Column{c}
		if form := h.HashForm(&big); form != "" {
			t.Errorf("a column %s is hashed as %s", name, form)
		}
	}
}
