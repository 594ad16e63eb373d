package test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

// TestTwoCrossingsFaceToFace: a crossing and one in the opposite direction follow the same
// table at once. What one brings, the other does not bring back; what an application writes
// on either side goes to the other; and a third crossing onwards carries both.
func TestTwoCrossingsFaceToFace(t *testing.T) {
	for _, way := range [][2]string{{"postgres", "postgres"}, {"mariadb", "postgres"}} {
		t.Run(way[0]+" and "+way[1], func(t *testing.T) { faceToFace(t, way[0], way[1]) })
	}
}

// shore makes a database that can be source and target.
func (f *ferry) shore(engine, name string) side {
	f.t.Helper()
	if engine == "mariadb" {
		schema, db := newMaria(f.t)
		f.registerMaria(name, schema, db, append(sourceRights(schema), targetRights(schema)...)...)
		return side{schema, func(s string) { maria(f.t, db, s) }, func(q string) []string { return texts(f.t, db, q) }}
	}
	p := newPair(f.t)
	f.register(name, servers.source, p.source)
	return side{"public", func(s string) { exec1(f.t, p.sourceURL(), s) }, func(q string) []string {
		c := connect(f.t, p.sourceURL())
		defer func() { _ = c.Close(f.t.Context()) }() // some ask many times
		return collect(f.t, c, q)
	}}
}

func faceToFace(t *testing.T, here, there string) {
	f := start(t)
	left, right, onwards := f.shore(here, "left"), f.shore(there, "right"), f.shore("postgres", "onwards")
	lots := func(s side) string { return s.schema + ".lots" }
	all := func(s side) []string {
		return s.texts("SELECT concat_ws('|', id, kg, by_whom) FROM " + lots(s) + " ORDER BY id")
	}
	left.exec("CREATE TABLE " + lots(left) + " (id integer PRIMARY KEY, kg integer, by_whom varchar(20))")
	left.exec("INSERT INTO " + lots(left) + " VALUES (1, 10, 'left'), (2, 20, 'left'), (3, 30, 'left')")
	cross := func(name, kind, from, to string, a, b side) {
		t.Helper()
		manifest := fmt.Sprintf("dusty_ferry: 1\ncrossing:\n  name: %s\n  kind: %s\n  source: %s\n  target: %s\n  "+
			"tables: [\"%s\"]\n  settings: {guard_target: allow}\n", name, kind, from, to, lots(a))
		if a.schema != b.schema {
			manifest += fmt.Sprintf("  rules: [{tables: \"%s.*\", schema: %s}]\n", a.schema, b.schema)
		}
		if a := f.cli("crossing", "create", "--file", write(t, manifest)); a.code != 0 {
			t.Fatal(a.err)
		}
		if a := f.cli("crossing", "start", name); a.code != 0 {
			t.Fatal(a.err)
		}
		eventually(t, time.Minute, func() bool {
			c, err := client.Do[contract.Crossing](f.API.GetCrossingWithResponse(t.Context(), name))
			return err == nil && c.Phase == contract.PhaseInStep && c.Progress.Capture != "waiting"
		})
	}
	cross("there", "load+capture", "left", "right", left, right)
	cross("back", "capture", "right", "left", right, left)
	cross("onwards", "load+capture", "right", "onwards", right, onwards)
	const n = 40
	for i := range n {
		left.exec(fmt.Sprintf("INSERT INTO %s VALUES (%d, 1, 'left')", lots(left), 100+i))
		right.exec(fmt.Sprintf("INSERT INTO %s VALUES (%d, 1, 'right')", lots(right), 200+i))
		left.exec("UPDATE " + lots(left) + " SET kg = kg + 1 WHERE id = 1")
		right.exec("UPDATE " + lots(right) + " SET kg = kg + 1 WHERE id = 2")
	}
	left.exec("DELETE FROM " + lots(left) + " WHERE id = 3")
	eventually(t, 30*time.Second, func() bool {
		a := all(left)
		return len(a) == 2+2*n && strings.Join(a, "\n") == strings.Join(all(right), "\n") &&
			strings.Join(a, "\n") == strings.Join(all(onwards), "\n")
	})
	time.Sleep(2 * time.Second) // an echo would go round and round
	counted := func(name string) (inserts, updates, deletes, truncates int64) {
		page, err := client.Do[contract.TablePage](f.API.ListTablesWithResponse(t.Context(), name,
			&contract.ListTablesParams{}))
		if err != nil || len(page.Tables) != 1 {
			t.Fatalf("%+v, %v", page, err)
		}
		r := page.Tables[0]
		return r.Inserts, r.Updates, r.Deletes, r.Truncates
	}
	for name, want := range map[string][4]int64{"there": {n, n, 1, 0}, "back": {n, n, 0, 0}} {
		if a, b, c, d := counted(name); [4]int64{a, b, c, d} != want {
			t.Errorf("%s brought %d inserts, %d updates, %d deletes, %d truncates, want %v", name, a, b, c, d, want)
		}
	}
	if a, _, b, _ := counted("onwards"); a != 2*n || b != 1 {
		t.Errorf("onwards brought %d inserts, %d deletes", a, b)
	}
	sameTexts(t, "lots", all(left), all(right))
	// A table that is loaded anew is emptied on the target first: that is not brought back.
	if a := f.cli("crossing", "restart", "there", "--table", lots(left), "--confirm", lots(left)); a.code != 0 {
		t.Fatal(a.err)
	}
	eventually(t, time.Minute, func() bool {
		c, err := client.Do[contract.Crossing](f.API.GetCrossingWithResponse(t.Context(), "there"))
		return err == nil && c.Phase == contract.PhaseInStep && len(all(right)) == 2+2*n
	})
	time.Sleep(2 * time.Second)
	if _, _, deletes, truncates := counted("back"); deletes+truncates != 0 || len(all(left)) != 2+2*n {
		t.Errorf("what emptied the target came back: %d deletes, %d truncates, %d rows left", deletes, truncates,
			len(all(left)))
	}
}
