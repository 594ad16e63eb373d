package hunt

import (
	"fmt"
	"math/rand/v2"
	"strings"
)

// Generate makes the script of a seed.
func Generate(seed uint64) *Script {
	world := WorldOf(seed)
	g := &gen{Rand: rand.New(rand.NewPCG(seed, 0x5a17)), s: &Script{Seed: seed, Pair: world.Pair(),
		Settings: map[string]any{}, Where: map[string]string{}}, away: world.Target == "mariadb"}
	if world.Source == "mariadb" {
		return generateMaria(g, world.Target)
	}
	g.databases()
	g.roles()
	g.types()
	for n := range pick(g, 1, 2, 2, 3) {
		g.table(n)
	}
	g.relations()
	if g.chance(0.15) {
		g.conditions()
		g.ferry("create")
		g.ferry("start")
		g.ferry("await in step")
		g.ferry("equal")
		return g.s
	}
	g.wayBack()
	g.course()
	return g.s
}

func (g *gen) databases() {
	g.s.Source = "ENCODING 'UTF8' LC_COLLATE 'C.UTF-8' LC_CTYPE 'C.UTF-8'"
	g.s.Target = g.s.Source
	switch g.IntN(8) {
	case 0:
		g.latin = true
		g.s.Source = "ENCODING 'LATIN1' LC_COLLATE 'C' LC_CTYPE 'C'"
	case 1:
		g.s.Source = "ENCODING 'UTF8' LC_COLLATE 'C' LC_CTYPE 'C'"
	case 2:
		g.s.Source = "ENCODING 'UTF8' LOCALE_PROVIDER icu ICU_LOCALE 'de' LC_COLLATE 'C.UTF-8' LC_CTYPE 'C.UTF-8'"
	case 3:
		g.latin = true
		g.s.Source = "ENCODING 'WIN1252' LC_COLLATE 'C' LC_CTYPE 'C'"
	}
	if g.away {
		g.s.Target = "CHARACTER SET utf8mb4" + pick(g, "", " | all")
	}
	s := g.s.Settings
	s["chunk_bytes"] = 66000
	s["lanes"] = pick(g, 1, 2, 4)
	s["in_step_dwell_seconds"] = 0.2
	s["pause_budget_seconds"] = 60
	s["batch_changes"] = pick(g, 100, 1000, 5000)
	s["stop_method"] = pick(g, "lock", "lock", "lock", "read-only")
	s["hash_by"] = pick(g, "faster", "service", "servers")
	s["cutover_depth"] = pick(g, "hashes", "hashes", "vouched", "vouched", "counts", "none")
	s["vouch_every_seconds"] = pick(g, 0, 0.2, 0.2, 1, 60) // shorter than anybody would: rounds fall into everything
	s["guard_target"] = pick(g.draws(0x2d), "refuse", "refuse", "allow")
	if !g.away {
		s["read_order"] = pick(g, "auto", "key", "disk", "disk", "disk")
	}
	if g.chance(0.5) {
		s["speed_limit"] = pick(g, 1_000_000, 3_000_000)
	}
}

// roleSettings are what people have set for a role or a database, years ago.
var roleSettings = []string{
	"synchronous_commit = off", "synchronous_commit = off", "search_path = ''", "search_path = hive, pg_temp",
	"DateStyle = 'SQL, DMY'", "IntervalStyle = 'iso_8601'", "bytea_output = 'escape'",
	"extra_float_digits = -15", "client_min_messages = debug5", "client_min_messages = log", "client_min_messages = error",
	"statement_timeout = '900ms'", "lock_timeout = '200ms'",
	"idle_in_transaction_session_timeout = '1s'", "default_transaction_read_only = on", "row_security = off",
	"default_transaction_isolation = 'serializable'", "TimeZone = 'Asia/Kathmandu'",
	"quote_all_identifiers = on", "standard_conforming_strings = off", "array_nulls = off", "client_encoding = 'LATIN1'",
	"client_encoding = 'SQL_ASCII'", "lc_monetary = 'C.UTF-8'", "enable_seqscan = off",
	"escape_string_warning = on", "transform_null_equals = on", "xmloption = document",
	"default_transaction_deferrable = on", "log_statement = 'all'", "log_min_duration_statement = 0",
	"debug_print_plan = on", "idle_session_timeout = '2s'", "work_mem = '64kB'", "log_temp_files = 0",
	"log_parser_stats = on", "session_replication_role = replica",
}

func (g *gen) roles() {
	for _, side := range []string{"source", "target"} {
		if side == "target" && g.away {
			continue
		}
		for range pick(g, 0, 0, 1, 2, 3) {
			set := pick(g, roleSettings...)
			if g.latin && strings.Contains(set, "client_encoding") {
				continue
			}
			of := pick(g, "ROLE {mover}", "ROLE {mover}", "ROLE {mover} IN DATABASE {"+side+"}", "DATABASE {"+side+"}")
			if strings.Contains(set, "session_replication_role") || strings.Contains(set, "search_path") ||
				strings.Contains(set, "read_only") || strings.Contains(set, "_timeout") {
				of = "ROLE {mover}" // the application's sessions are to work
			}
			g.step(Set, side+" super", "ALTER "+of+" SET "+set)
		}
	}
}

// relations between tables, and objects of other kinds.
func (g *gen) relations() {
	a := g.tables[0]
	if len(g.tables) > 1 && !a.partitioned && g.chance(0.4) && len(a.kids) == 0 {
		b := g.tables[1]
		if a.unique != "" && !a.late && !b.partitioned && !b.strict {
			how := pick(g, "", " ON DELETE CASCADE ON UPDATE CASCADE", " DEFERRABLE INITIALLY DEFERRED", " NOT VALID")
			g.set(fmt.Sprintf("ALTER TABLE %s ADD COLUMN parent int", b.q()))
			// refused where one of both is unlogged
			g.set(fmt.Sprintf("ALTER TABLE %s ADD CONSTRAINT %s FOREIGN KEY (parent) REFERENCES %s (u)%s", b.q(),
				ident("fk_"+b.cols[0].name), a.q(), how))
			g.set(fmt.Sprintf("UPDATE %s SET parent = (SELECT min(u) FROM %s)", b.q(), a.q()))
		}
	}
	if g.chance(0.15) {
		g.set(fmt.Sprintf("CREATE FUNCTION hive.noted() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RAISE NOTICE 'a row "+
			"of %%', TG_TABLE_NAME; RETURN NEW; END $$; CREATE TRIGGER noted BEFORE INSERT OR UPDATE ON %s FOR EACH ROW "+
			"EXECUTE FUNCTION hive.noted()", a.q()))
		if g.chance(0.4) {
			g.set(fmt.Sprintf("ALTER TABLE %s DISABLE TRIGGER noted", a.q()))
		}
	}
	if g.chance(0.08) {
		g.set("CREATE FUNCTION hive.made() RETURNS text LANGUAGE sql AS $$ SELECT 'made' $$")
		g.set(fmt.Sprintf("ALTER TABLE %s ADD COLUMN made text DEFAULT hive.made()", a.q()), a.word())
	}
	if g.chance(0.1) {
		g.set(fmt.Sprintf("ALTER TABLE %s ENABLE ROW LEVEL SECURITY; CREATE POLICY hidden ON %s USING (false)", a.q(), a.q()))
	}
	if g.chance(0.06) {
		g.set(fmt.Sprintf("CREATE RULE quiet AS ON DELETE TO %s DO ALSO NOTHING", a.q()), a.word())
	}
	if g.chance(0.05) {
		g.set(fmt.Sprintf("ALTER TABLE %s ADD COLUMN own text COLLATE hive.own", a.q()), a.word())
		at := len(g.s.Steps) - 1
		g.s.Steps = append(g.s.Steps[:at], Step{Do: Set, On: "source",
			Text: "CREATE COLLATION hive.own (provider = icu, locale = 'en-u-kn-true')"}, g.s.Steps[at])
	}
}

// conditions makes a script without capture whose rows a function chooses that has something
// to say.
func (g *gen) conditions() {
	t := g.tables[g.IntN(len(g.tables))]
	g.set("CREATE FUNCTION hive.chosen(n bigint) RETURNS boolean LANGUAGE plpgsql IMMUTABLE AS $$ BEGIN IF n % " + pick(g,
		"50", "500", "7") + " = 3 THEN RAISE " + pick(g, "NOTICE", "WARNING", "INFO") +
		" 'a word about %', n; END IF; RETURN true; END $$")
	g.s.Where[t.word()] = fmt.Sprintf("hive.chosen(abs(hashtext(%s::text)))", ident(t.key[0].name))
	if strings.ContainsAny(t.word(), `"*?[]\`) {
		delete(g.s.Where, t.word())
		g.s.Where[g.plain().word()] = "hive.chosen(3)"
	}
}

// plain is a table whose name needs no care.
func (g *gen) plain() *tab {
	for _, t := range g.tables {
		if !strings.ContainsAny(t.word(), `"*?[]\`) {
			return t
		}
	}
	for n := 9; ; n++ {
		if t := g.table(n); !strings.ContainsAny(t.word(), `"*?[]\`) {
			return t
		}
	}
}

// course makes what happens from the start on.
func (g *gen) course() {
	g.others()
	g.already()
	g.frugal()
	late := g.later()
	g.ferry("create")
	alone := g.s.Kind != "" // changes count from the moment that capture has begun
	if alone {
		g.ferry("start")
		g.ferry("await in step")
	}
	if g.chance(0.5) {
		g.loop()
	}
	if !alone {
		g.ferry("start")
	}
	for range g.IntN(6) {
		if g.chance(0.7) {
			g.work()
		} else {
			g.trouble()
		}
	}
	if g.chance(0.3) {
		g.ferry("resume")
	}
	g.ferry("await in step")
	for range g.IntN(7) {
		switch {
		case g.chance(0.65):
			g.work()
		case g.chance(0.5):
			g.change()
		default:
			g.trouble()
		}
	}
	g.ferry("resume")
	g.ferry("await in step")
	if g.chance(0.3) {
		g.ferry("rehearse")
		g.work()
	}
	if late != "" {
		g.ferry("add " + late)
	}
	g.ferry("equal")
	if late != "" { // what was loaded since is compared before a cutover
		g.ferry("reconcile")
	}
	g.asks(g.work, g.spoils)
	if g.chance(0.4) {
		g.ferry("reconcile")
	}
	if g.chance(0.6) {
		g.turns(g.work)
	}
	if g.chance(0.5) {
		g.ferry("close")
	}
}

// loop lets a session write all the time.
func (g *gen) loop() {
	t := g.tables[g.IntN(len(g.tables))]
	n := "(50000 + {n} * 3 + g)"
	g.step(Loop, "source loop", fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM generate_series(0, 2) g ON CONFLICT DO "+
		"NOTHING; %s", t.q(), g.names(t), g.values(t, n), g.update(t, 3)))
}

// some chooses rows, the same ones in every run.
func (g *gen) some(t *tab, n int) string {
	g.salt++
	return fmt.Sprintf("(%s) IN (SELECT %s FROM %s ORDER BY md5(ROW(%s)::text || '%d') LIMIT %d)", t.keyList(),
		t.keyList(), t.q(), t.keyList(), g.salt, n)
}

// update changes ordinary columns of some rows.
func (g *gen) update(t *tab, n int) string {
	c := t.cols[g.IntN(len(t.cols))]
	if c.name == t.unique || c.name == t.big && g.chance(0.5) {
		c = t.cols[0]
	}
	g.salt++
	return fmt.Sprintf("UPDATE %s SET %s = %s WHERE %s", t.q(), ident(c.name), replaceG(c.value, fmt.Sprint(70000+g.salt)),
		g.some(t, n))
}

// change1 is a statement on rows of a table.
func (g *gen) change1(t *tab) string {
	n := pick(g, 1, 1, 3, 20, 200)
	k := t.key[g.IntN(len(t.key))]
	switch g.IntN(10) {
	case 0, 1:
		g.salt++
		x := fmt.Sprintf("(%d + g)", 100_000+g.salt*3000)
		return fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM generate_series(1, %d) g", t.q(), g.names(t), g.values(t, x),
			n)
	case 2:
		return fmt.Sprintf("DELETE FROM %s WHERE %s", t.q(), g.some(t, n))
	case 3:
		return fmt.Sprintf("UPDATE %s SET %s = %s WHERE %s", t.q(), ident(k.name), moved(k), g.some(t, n))
	case 4: // twice the same rows, with what is large unsaid
		w := g.some(t, n)
		return fmt.Sprintf("DO $$ DECLARE r record; BEGIN FOR r IN SELECT ctid, tableoid FROM %s WHERE %s LOOP NULL; END "+
			"LOOP; END $$; UPDATE %s SET %s = %s WHERE %s; UPDATE %s SET %s = %s WHERE %s",
			t.q(), w, t.q(), ident(k.name), moved(k), w, t.q(), ident(k.name), moved(k), g.some(t, 5000))
	case 5:
		if t.unique != "" {
			g.salt++
			return fmt.Sprintf("UPDATE %[1]s SET u = -u WHERE u IN (1, 2); UPDATE %[1]s SET u = 3 + u WHERE u IN (-1, -2); "+
				"UPDATE %[1]s SET u = -u WHERE u < 0", t.q()) +
				fmt.Sprintf("; UPDATE %[1]s SET u = u + %[2]d WHERE u = (SELECT max(u) FROM %[1]s); UPDATE %[1]s SET u = -7 "+
					"WHERE u = (SELECT max(u) FROM %[1]s)", t.q(), g.salt)
		}
		return g.update(t, n)
	case 6:
		if len(t.kids) > 0 {
			return fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM generate_series(910001, 910010) g", t.kids[0], g.names(t),
				g.values(t, "g"))
		}
		if len(t.leaves) > 0 {
			leaf := t.leaves[g.IntN(len(t.leaves))]
			return fmt.Sprintf("UPDATE %s SET %s = %s WHERE (%s) IN (SELECT %s FROM %s ORDER BY id DESC LIMIT %d)", leaf,
				ident(t.cols[0].name), replaceG(t.cols[0].value, "4711"), t.keyList(), t.keyList(), leaf, n)
		}
		return g.update(t, n)
	default:
		return g.update(t, n)
	}
}

// moved is a key's next value, of its column.
func moved(k col) string {
	var b strings.Builder
	for i := 0; i < len(k.move); i++ {
		c := k.move[i]
		if c == 'k' && (i == 0 || strings.IndexByte(" (~", k.move[i-1]) >= 0) &&
			(i+1 == len(k.move) || strings.IndexByte(" ):", k.move[i+1]) >= 0) {
			b.WriteString(ident(k.name))
		} else {
			b.WriteByte(c)
		}
	}
	return b.String()
}

// work is what an application does.
func (g *gen) work() {
	t := g.tables[g.IntN(len(g.tables))]
	session := pick(g, "a", "b")
	prefix := ""
	if g.chance(0.1) {
		prefix = "SET synchronous_commit = off; "
	}
	if g.chance(0.06) {
		prefix += "SET session_replication_role = replica; "
	}
	switch g.IntN(9) {
	case 0, 1, 2:
		g.sql(session, prefix+g.change1(t))
	case 3:
		var all []string
		for range pick(g, 2, 3, 6) {
			all = append(all, g.change1(g.tables[g.IntN(len(g.tables))]))
		}
		g.sql(session, prefix+"BEGIN; "+strings.Join(all, "; ")+"; "+pick(g, "COMMIT", "COMMIT", "COMMIT", "ROLLBACK"))
	case 4:
		var all []string
		for range pick(g, 1, 2, 3) {
			all = append(all, "SAVEPOINT s; "+g.change1(t)+"; "+pick(g, "ROLLBACK TO s", "RELEASE s",
				"SAVEPOINT s2; "+g.change1(t)+"; ROLLBACK TO s2"), g.change1(t))
		}
		g.sql(session, prefix+"BEGIN; "+strings.Join(all, "; ")+"; COMMIT")
	case 5:
		g.salt++
		x := fmt.Sprintf("(%d + g)", 1_000_000+g.salt*200_000)
		n := pick(g, 2000, 5000, 20000)
		if t.big != "" {
			n = 800
		}
		g.sql(session, prefix+fmt.Sprintf("BEGIN; INSERT INTO %s (%s) SELECT %s FROM generate_series(1, %d) g; SAVEPOINT "+
			"s; INSERT INTO %s (%s) SELECT %s FROM generate_series(%d, %d) g; ROLLBACK TO s; %s; COMMIT",
			t.q(), g.names(t), g.values(t, x), n, t.q(), g.names(t), g.values(t, x), n+1, n+n, g.change1(t)))
	case 6:
		g.salt++
		n := g.salt
		g.sql(session, prefix+fmt.Sprintf("BEGIN; %s; PREPARE TRANSACTION 'p%d_{source}'", g.change1(t), n))
		if g.chance(0.5) {
			g.sql("b", g.change1(t))
		}
		g.sql(session, fmt.Sprintf("%s PREPARED 'p%d_{source}'", pick(g, "COMMIT", "COMMIT", "ROLLBACK"), n))
	case 7:
		var names []string
		for _, x := range g.tables {
			if x == t || g.chance(0.5) {
				names = append(names, x.q())
			}
		}
		g.sql(session, prefix+"TRUNCATE "+strings.Join(names, ", ")+pick(g, "", " CASCADE", " RESTART IDENTITY")+"; "+
			g.change1(t))
	case 8:
		g.sql(session, fmt.Sprintf("BEGIN; %s", g.change1(t)))
		g.work()
		g.sql(session, pick(g, "COMMIT", "COMMIT", "ROLLBACK"))
	}
}

// change is what changes tables themselves. Each may be told of.
func (g *gen) change() {
	t := g.tables[g.IntN(len(g.tables))]
	c := t.cols[0]
	plain := cutName(t.name)
	after := func() { g.sql("a", g.change1(t)) }
	switch g.IntN(14) {
	case 0:
		g.salt++
		g.sql("a", fmt.Sprintf("ALTER TABLE %s ADD COLUMN added%d int DEFAULT %d", t.q(), g.salt, g.salt), t.word())
	case 1:
		g.sql("a", fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s TYPE text USING 'was ' || %s::text", t.q(), ident(c.name),
			ident(c.name)), t.word())
	case 2:
		g.sql("a", fmt.Sprintf("ALTER TABLE %s RENAME COLUMN %s TO renamed", t.q(), ident(c.name)), t.word())
		g.sql("a", fmt.Sprintf("UPDATE %s SET renamed = NULL WHERE %s", t.q(), g.some(t, 2)), t.word())
		return
	case 3: // the swap of a rebuilt table
		g.sql("a", fmt.Sprintf("BEGIN; CREATE TABLE %[1]s (LIKE %[2]s INCLUDING ALL); INSERT INTO %[1]s (%[5]s) SELECT "+
			"%[5]s FROM %[2]s; ALTER TABLE %[2]s RENAME TO %[3]s; ALTER TABLE %[1]s RENAME TO %[4]s; COMMIT",
			ident(t.schema)+"."+ident(plain+"_new"), t.q(), ident(plain+"_old"), ident(t.name), g.names(t)), t.word(),
			plain+"_old", plain+"_new")
	case 4:
		g.sql("a", fmt.Sprintf("BEGIN; CREATE TEMP TABLE kept AS SELECT * FROM %[1]s; CREATE TABLE %[2]s (LIKE %[1]s "+
			"INCLUDING ALL); DROP TABLE %[1]s CASCADE; ALTER TABLE %[2]s RENAME TO %[3]s; INSERT INTO %[1]s (%[4]s) SELECT "+
			"%[4]s FROM kept; DROP TABLE kept; COMMIT",
			t.q(), ident(t.schema)+"."+ident(plain+"_new"), ident(t.name), g.names(t)), t.word())
	case 5:
		if len(t.leaves) > 0 {
			g.sql("a", "TRUNCATE "+t.leaves[g.IntN(len(t.leaves))], t.word())
		}
	case 6:
		if len(t.leaves) > 1 {
			leaf := t.leaves[len(t.leaves)-1]
			g.sql("a", fmt.Sprintf("ALTER TABLE %s DETACH PARTITION %s", t.q(), leaf), t.word())
			if g.chance(0.5) {
				g.sql("a", "DROP TABLE "+leaf, t.word())
			}
		}
	case 7, 8: // a new partition
		if t.next > 0 {
			leaf := ident(t.schema) + "." + ident(fmt.Sprintf("%s_q%d", plain, t.next))
			g.sql("a", fmt.Sprintf("CREATE TABLE %s PARTITION OF %s FOR VALUES FROM (%d) TO (%d)", leaf, t.q(), t.next,
				t.next+1000), t.word())
			x := fmt.Sprintf("(%d + g)", t.next)
			g.sql("a", fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM generate_series(1, 30) g", t.q(), g.names(t),
				g.values(t, x)), t.word())
			g.sql("b", fmt.Sprintf("UPDATE %s SET %s = NULL WHERE id > %d", t.q(), ident(c.name), t.next+10), t.word())
			t.leaves = append(t.leaves, leaf)
			t.next += 1000
			return
		}
	case 9: // one that is attached full
		if t.next > 0 {
			leaf := ident(t.schema) + "." + ident(fmt.Sprintf("%s_f%d", plain, t.next))
			x := fmt.Sprintf("(%d + g)", t.next)
			g.sql("a", fmt.Sprintf("CREATE TABLE %s (LIKE %s INCLUDING ALL); INSERT INTO %s (%s) SELECT %s FROM "+
				"generate_series(1, 30) g; ALTER TABLE %s ATTACH PARTITION %s FOR VALUES FROM (%d) TO (%d)",
				leaf, t.q(), leaf, g.names(t), g.values(t, x), t.q(), leaf, t.next, t.next+1000), t.word())
			t.next += 1000
		}
	case 10:
		g.sql("a", fmt.Sprintf("ALTER TABLE %s REPLICA IDENTITY FULL", pick(g, append([]string{t.q()}, t.leaves...)...)),
			t.word())
	case 11:
		g.sql("a", fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s", t.q(), ident(c.name)), t.word())
		return
	case 12:
		g.sql("a", "VACUUM FULL "+t.q())
	case 13:
		g.sql("a", fmt.Sprintf("CREATE TABLE hive.newcomer_%d (id int PRIMARY KEY); INSERT INTO "+
			"hive.newcomer_%[1]d VALUES (1)", g.salt), "hive.newcomer")
		if len(g.s.Tables) == 0 {
			for _, x := range g.tables {
				g.s.Tables = append(g.s.Tables, x.word())
			}
		}
	}
	after()
}

// trouble befalls servers, the line between them, or the operator.
func (g *gen) trouble() {
	t := g.tables[g.IntN(len(g.tables))]
	switch g.IntN(12) {
	case 0:
		g.ferry("kill")
	case 1:
		g.ferry("freeze")
	case 2:
		g.step(Server, "source", "cut")
	case 3:
		g.step(Server, "target", "cut")
	case 4:
		g.step(Server, "source", "crash")
	case 5, 6:
		g.step(Server, "target", "crash")
	case 7, 8:
		g.ferry("pause" + pick(g, "", " load"))
		g.work()
		g.ferry("resume")
	case 9:
		g.ferry("restart " + t.word())
	case 10:
		g.ferry("reconcile")
	case 11:
		g.ferry(fmt.Sprintf("wait %dms", pick(g, 50, 300, 900)))
	}
}
