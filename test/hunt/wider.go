package hunt

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"time"
)

// What else an operator, a colleague and a frugal administrator do. Its dice are its own, so
// that what a seed meant before it still does.

// draws begins the dice of a purpose.
func (g *gen) draws(purpose uint64) *gen {
	d := *g
	d.Rand = rand.New(rand.NewPCG(g.s.Seed, purpose))
	return &d
}

// frugal takes the superuser's rights from the role that the product signs in as: it owns
// the tables and the databases, and may replicate, as the documents ask for.
func (g *gen) frugal() bool {
	if g.away || !g.draws(0xf1).chance(0.2) {
		return false
	}
	own := `DO $$ DECLARE x record; BEGIN
 FOR x IN SELECT n.nspname AS s, c.relname AS t FROM pg_catalog.pg_class c
   JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
  WHERE c.relkind IN ('r', 'p') AND n.nspname NOT LIKE 'pg\_%' AND n.nspname <> 'information_schema' LOOP
  EXECUTE format('ALTER TABLE %I.%I OWNER TO {mover}', x.s, x.t); END LOOP;
 FOR x IN SELECT nspname AS s FROM pg_catalog.pg_namespace WHERE nspname NOT LIKE 'pg\_%'
   AND nspname <> 'information_schema' LOOP
  EXECUTE format('GRANT ALL ON SCHEMA %I TO {mover}', x.s); END LOOP; END $$`
	g.set("ALTER DATABASE {source} OWNER TO {mover}; " + own)
	g.step(Set, "source", "ALTER ROLE {mover} NOSUPERUSER REPLICATION", "*")
	g.step(Set, "target", "ALTER DATABASE {target} OWNER TO {mover}; "+own+"; ALTER ROLE {mover} NOSUPERUSER", "*")
	return true
}

// already has the same tables with the same rows made on the target, and asks for capture
// alone, where the engines are alike.
func (g *gen) already() {
	if g.s.Pair[0] != g.s.Pair[1] || !g.draws(0xca).chance(0.08) {
		return
	}
	g.s.Kind = "capture"
	if g.s.Pair == "mm" { // texts without a character set of their own have the database's
		g.s.Target = g.s.Source
	}
	for _, st := range slices.Clone(g.s.Steps) {
		if st.Do == Set && (st.On == "source" || st.On == "source set") {
			st.On = strings.Replace(st.On, "source", "target", 1)
			g.s.Steps = append(g.s.Steps, st)
		}
	}
}

// others are publications and subscriptions that an application has for itself.
func (g *gen) others() {
	d := g.draws(0x07)
	if d.chance(0.1) {
		g.set(fmt.Sprintf("CREATE PUBLICATION theirs FOR TABLE %s WITH (publish = 'insert')", g.tables[0].q()))
	}
	if d.chance(0.05) {
		g.set("CREATE SUBSCRIPTION theirs_{source} CONNECTION 'host=127.0.0.1 port=1 dbname=nowhere' PUBLICATION nothing " +
			"WITH (connect = false, slot_name = NONE)")
	}
}

// asks is what an operator does once all is equal: aborts, and mends what a colleague spoilt
// on the target.
func (g *gen) asks(work func(), spoil func(*gen) (string, string)) {
	d := g.draws(0xab)
	if d.chance(0.2) {
		g.ferry(fmt.Sprintf("abort %dms", pick(d, 0, 20, 100, 300, 800)))
		work()
		g.ferry("equal")
	}
	if g.s.Pair[0] == g.s.Pair[1] && d.chance(0.25) {
		for range pick(d, 1, 1, 2) {
			if sql, word := spoil(d); sql != "" {
				g.step(SQL, "target careless", sql, word)
			}
		}
		g.ferry("mend")
		g.ferry("equal")
	}
}

// spoils is what a colleague does to a table of a PostgreSQL target.
func (g *gen) spoils(d *gen) (sql, word string) {
	t := g.tables[d.IntN(len(g.tables))]
	if len(g.s.Where) > 0 {
		return "", ""
	}
	n := pick(d, 1, 2, 40)
	return pick(d, fmt.Sprintf("DELETE FROM %s WHERE %s", t.q(), g.some(t, n)), g.update(t, n),
		fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM generate_series(700001, %d) g", t.q(), g.names(t), g.values(t, "g"),
			700000+n)), t.word()
}

func (g *mgen) spoils(d *gen) (sql, word string) {
	t := g.tables[d.IntN(len(g.tables))]
	n := pick(d, 1, 2, 40)
	return pick(d, fmt.Sprintf("DELETE FROM %s %s", t.q(), g.firstOf(t, n)), g.mupdate(t, n),
		fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM (SELECT seq AS g FROM seq_700001_to_%d) x", t.q(), g.mnamesOf(t),
			g.mvaluesOf(t, "g"), 700000+n)), t.word()
}

// abort begins a cutover, and aborts it after a while. Whatever came first must be whole:
// the source is closed, or takes writes again.
func (r *run) abort(after string) error {
	d, err := time.ParseDuration(after)
	if err != nil {
		return err
	}
	r.stopping.Store(true)
	defer r.stopping.Store(false)
	r.quiet()
	if _, err := r.product.do(r.ctx, "POST", r.path("/cutovers"), answer{"rehearsal": false,
		"confirm": r.name}); err != nil {
		return nil // not ready: the cutover itself will say so
	}
	time.Sleep(d)
	_, _ = r.product.do(r.ctx, "POST", r.path("/cutovers/abort"), nil)
	for end := time.Now().Add(patience); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		list, err := r.product.list(r.ctx, r.path("/cutovers"))
		if err != nil {
			return err
		}
		if len(list) == 0 || list[0]["ended_at"] == nil {
			continue
		}
		if str(list[0], "state") == "done" {
			r.cutOver = true
			return r.afterwards()
		}
		return nil
	}
	return fault("standstill: an aborted cutover did not end within %s%s", patience, r.why())
}

// mend compares and repairs until nothing is found any more.
func (r *run) mend() error {
	if r.cutOver {
		return nil
	}
	for range 4 {
		err := r.reconcile()
		if err == nil {
			return nil
		}
		if t, ok := err.(errTold); !ok || !strings.HasPrefix(t.said, "compared: ") {
			return err
		}
		list, err := r.product.list(r.ctx, r.path("/reconciliations"))
		if err != nil {
			return err
		}
		// The newest may be one that the service has begun by itself meanwhile.
		if list = slices.DeleteFunc(list, func(a answer) bool { n, _ := a["findings"].(float64); return n == 0 }); len(
			list) == 0 {
			return fault("no comparison is listed that has found anything")
		}
		if _, err := r.product.do(r.ctx, "POST", r.path(fmt.Sprintf("/reconciliations/%v/repair", list[0]["id"])),
			answer{"findings": []int{}, "confirm": r.name}); err != nil {
			return told(err)
		}
		if err := r.ended("repair"); err != nil {
			return err
		}
	}
	differs, err := r.differ()
	if err != nil {
		return err
	}
	return fault("four repairs did not mend: %s", differs)
}

// add adds a table; what it says is to be done again, as nobody follows the changes yet, is.
func (r *run) add(table string) error {
	for end := time.Now().Add(patience); ; time.Sleep(time.Second) {
		if _, err := r.product.do(r.ctx, "POST", r.path("/add-table"), answer{"table": table}); err != nil {
			return told(err)
		}
		err := r.ended("add a table")
		if err == nil || time.Now().After(end) || !strings.Contains(err.Error(), "nobody follows the changes") {
			return err
		}
	}
}

// ended waits for the end of the newest task of a kind.
func (r *run) ended(kind string) error {
	for end := time.Now().Add(patience); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		tasks, err := r.product.list(r.ctx, r.path("/tasks"))
		if err != nil {
			return err
		}
		i := slices.IndexFunc(tasks, func(t answer) bool { return str(t, "kind") == kind })
		if i < 0 {
			continue
		}
		switch str(tasks[i], "state") {
		case "done":
			return nil
		case "failed", "cancelled":
			return errTold{"the " + kind + " failed: " + str(tasks[i], "error")}
		}
	}
	return fault("standstill: a %s did not end within %s%s", kind, patience, r.why())
}

// later leaves one table of several to be added while the others go on; its name, if so.
func (g *gen) later() string {
	if len(g.tables) < 2 || len(g.s.Tables) > 0 || g.s.Kind != "" || !g.draws(0x1a).chance(0.12) {
		return ""
	}
	for _, t := range g.tables[:len(g.tables)-1] {
		g.s.Tables = append(g.s.Tables, t.word())
	}
	return g.tables[len(g.tables)-1].word()
}
