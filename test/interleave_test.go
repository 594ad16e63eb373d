package test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"dustyferry/internal/contract"
)

// TestChangesThatAReadSeesDoNotWait: while a chunk is being read for long, changes that
// its read has seen do not hold up those behind them.
func TestChangesThatAReadSeesDoNotWait(t *testing.T) {
	for _, from := range []string{"postgres", "mariadb"} {
		t.Run("from "+from, func(t *testing.T) { readAhead(t, from) })
	}
}

func readAhead(t *testing.T, from string) {
	f, p := start(t), newPair(t)
	source := f.sideOf(from, "old")
	f.register("new", servers.target, p.target)
	for _, table := range []string{"apiaries", "hives"} {
		ddl := "CREATE TABLE " + table + " (id int PRIMARY KEY, frames int)"
		source.exec(ddl)
		source.exec("INSERT INTO " + table + " VALUES (1, 0), (2, 0)")
		exec1(t, p.targetURL(), ddl)
	}
	rules := toSchema(from, "postgres", source.schema)
	if rules != "" {
		rules = "  rules:\n" + rules + "\n"
	}
	manifest := fmt.Sprintf("dusty_ferry: 1\ncrossing:\n  name: spring\n  source: old\n  target: new\n  tables: "+
		"[\"%s.*\"]\n%s  settings: {lanes: 1, guard_target: allow}\n", source.schema, rules)
	if a := f.cli("crossing", "create", "--file", write(t, manifest)); a.code != 0 {
		t.Fatal(a.err)
	}
	// Each table is one chunk, whose COPY waits for a lock.
	locks := map[string]func(){}
	for _, table := range []string{"apiaries", "hives"} {
		c := connect(t, p.targetURL())
		exec := func(sql string) {
			if _, err := c.Exec(t.Context(), sql); err != nil {
				t.Fatal(err)
			}
		}
		exec("BEGIN; LOCK TABLE " + table + " IN EXCLUSIVE MODE")
		locks[table] = func() { exec("ROLLBACK") }
	}
	wait := func(what string, ok func() bool) {
		t.Helper()
		for end := time.Now().Add(patience * 30 * time.Second); !ok(); time.Sleep(50 * time.Millisecond) {
			if time.Now().After(end) {
				t.Fatalf("not within 30 s: %s", what)
			}
		}
	}
	beingRead := func(table string) func() bool {
		return func() bool {
			return one[bool](t, p.targetURL(), "SELECT EXISTS (SELECT FROM pg_locks WHERE NOT granted AND relation = "+
				"$1::regclass)", table)
		}
	}
	f.startCrossing()
	first, second := "apiaries", "hives"
	wait("a chunk being read", func() bool {
		if beingRead(second)() {
			first, second = second, first
		}
		return beingRead(first)()
	})
	source.exec("UPDATE " + first + " SET frames = 1 WHERE id = 1")
	wait("the change waits", func() bool {
		n := f.show().Progress.CaptureNote
		return n != nil && strings.Contains(*n, "which is being read")
	})
	source.exec("UPDATE " + second + " SET frames = 2 WHERE id = 1")
	if a := f.cli("crossing", "set", "spring", "--lanes", "2"); a.code != 0 {
		t.Fatal(a.err)
	}
	wait("the other chunk being read", beingRead(second))
	locks[first]()
	source.exec("UPDATE " + first + " SET frames = 3 WHERE id = 2")
	wait("the newest change on the target", func() bool {
		return one[string](t, p.targetURL(), "SELECT coalesce(string_agg(frames::text, ' ' ORDER BY id), '') FROM "+
			first) == "1 3"
	})
	if !beingRead(second)() {
		t.Error("the other chunk is not being read any more")
	}
	locks[second]()
	f.awaitPhase(contract.PhaseInStep)
	if got := one[string](t, p.targetURL(), "SELECT string_agg(frames::text, ' ' ORDER BY id) FROM "+
		second); got != "2 0" {
		t.Errorf("%s holds %s", second, got)
	}
}
