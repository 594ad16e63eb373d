package hunt

import (
	"fmt"
	"slices"
	"strings"
)

// mgen makes scripts whose source is MariaDB.
type mgen struct {
	*gen
	to     string // the target's engine
	tables []*mtab
}

// mcol is a column of MariaDB: its type, and a value for the row number g.
type mcol struct {
	name, typ, value string
	move             string // of a key: another value, from k
	alike            bool   // only a MariaDB target takes every value
}

// mtab is a table of MariaDB.
type mtab struct {
	name    string
	key     []mcol
	cols    []mcol
	rows    int
	primary bool
	unique  string
	parts   []string // names of partitions, if they are by range
	engine  string
	numbers bool // the key counts by itself
}

func bt(s string) string     { return "`" + strings.ReplaceAll(s, "`", "``") + "`" }
func (t *mtab) q() string    { return bt(t.name) }
func (t *mtab) word() string { return t.name }

// full is the table's name as the product takes it.
func (t *mtab) full() string {
	if strings.ContainsAny(t.name, `."`) {
		return "{source}." + ident(t.name)
	}
	return "{source}." + t.name
}

func (t *mtab) keys() string {
	var out []string
	for _, c := range t.key {
		out = append(out, bt(c.name))
	}
	return strings.Join(out, ", ")
}

// generateMaria makes the script of a seed whose source is MariaDB.
func generateMaria(g *gen, to string) *Script {
	m := &mgen{gen: g, to: to}
	m.databases()
	m.globals()
	for n := range pick(g, 1, 2, 2, 3) {
		m.table(n)
	}
	m.relations()
	m.wayBack()
	m.course()
	return g.s
}

func (g *mgen) databases() {
	g.s.Source = pick(g.gen, "CHARACTER SET utf8mb4", "CHARACTER SET utf8mb4", "CHARACTER SET latin1",
		"CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin", "CHARACTER SET utf8mb4 COLLATE utf8mb4_uca1400_ai_ci") +
		pick(g.gen, "", "", " | all")
	g.s.Target = "CHARACTER SET utf8mb4"
	if g.to == "mariadb" {
		g.s.Target = pick(g.gen, "CHARACTER SET utf8mb4", "CHARACTER SET utf8mb4", "CHARACTER SET latin1") + pick(g.gen, "",
			"", " | all")
	} else {
		g.s.Target = "ENCODING 'UTF8' LC_COLLATE 'C.UTF-8' LC_CTYPE 'C.UTF-8'"
	}
	s := g.s.Settings
	s["chunk_bytes"] = 66000
	s["lanes"] = pick(g.gen, 1, 2, 4)
	s["in_step_dwell_seconds"] = 0.2
	s["pause_budget_seconds"] = 60
	s["batch_changes"] = pick(g.gen, 100, 1000, 5000)
	s["stop_method"] = "read-only"
	s["hash_by"] = pick(g.gen, "faster", "service", "servers")
	s["cutover_depth"] = pick(g.gen, "hashes", "hashes", "counts", "none")
	if g.chance(0.5) {
		s["speed_limit"] = pick(g.gen, 1_000_000, 3_000_000)
	}
}

func (g *mgen) globals() {
	for range pick(g.gen, 0, 0, 1, 2, 3) {
		g.step(Set, "source super", "SET GLOBAL "+pick(g.gen, mglobals...))
	}
	if g.to == "mariadb" {
		for range pick(g.gen, 0, 0, 1, 2) {
			g.step(Set, "target super", "SET GLOBAL "+pick(g.gen, mglobals...))
		}
	}
}

func (g *mgen) table(n int) {
	t := &mtab{name: fmt.Sprintf("%s_%d", pick(g.gen, mnames...), n), rows: pick(g.gen, 0, 30, 300, 2000, 6000),
		engine: "InnoDB"}
	kind := pick(g.gen, "key", "key", "key", "key", "key", "none", "unique", "parts")
	t.primary = kind == "key" || kind == "parts"
	if kind == "parts" {
		t.key = append(t.key, mcol{name: "id", typ: "int", value: "g", move: "k + 1000000"})
	}
	for i := range pick(g.gen, 1, 1, 1, 2, 3) {
		c := mkeys[g.IntN(len(mkeys))]
		c.name = fmt.Sprintf("k%d", i)
		t.key = append(t.key, c)
	}
	sure := false
	for _, c := range t.key {
		sure = sure || !strings.Contains("year enum tinyint float time(2) char", strings.SplitN(c.typ, "(", 2)[0])
	}
	if !sure {
		t.key = append(t.key, mcol{name: "kz", typ: "bigint", value: "g", move: "k + 5000000"})
	}
	if g.chance(0.3) && kind == "key" {
		t.numbers = true
		t.key = []mcol{{name: pick(g.gen, "id", "Id", "no"), typ: pick(g.gen, "int", "bigint", "int unsigned",
			"bigint unsigned", "smallint unsigned"), value: "g", move: "k + 20000"}}
		t.rows = min(t.rows, 2000)
	}
	names := g.Perm(len(mcolumns))
	for i := range pick(g.gen, 1, 2, 3, 5) {
		c := mvalues[g.IntN(len(mvalues))]
		if c.alike && g.to != "mariadb" || kind == "parts" && strings.Contains("point geometry", c.typ) {
			c = mvalues[0]
		}
		c.name = mcolumns[names[i]]
		t.cols = append(t.cols, c)
	}
	if kind != "parts" && g.chance(0.35) {
		t.unique = "u"
		t.cols = append(t.cols, mcol{name: "u", typ: "int", value: "g"})
	}
	if g.chance(0.06) {
		t.engine = pick(g.gen, "Aria", "MyISAM")
	}
	var lines []string
	for i, c := range t.key {
		line := bt(c.name) + " " + c.typ
		if !strings.Contains(c.typ, "DEFAULT") {
			line += " NOT NULL"
		}
		if t.numbers && i == 0 {
			line += " AUTO_INCREMENT"
		}
		lines = append(lines, line)
	}
	for _, c := range t.cols {
		lines = append(lines, bt(c.name)+" "+c.typ)
	}
	if g.chance(0.2) && !t.numbers && slices.Contains([]string{"int", "bigint", "varchar(60)", "bigint unsigned"},
		t.key[0].typ) {
		lines = append(lines, pick(g.gen, "gen varchar(400) AS (concat('g', "+t.keyText()+")) STORED",
			"gen varchar(80) AS (concat('g', "+t.keyText()+")) VIRTUAL"))
	}
	if t.unique != "" {
		lines = append(lines, "UNIQUE KEY "+pick(g.gen, "u", "`a first one`", "zz")+" (u)")
	}
	switch kind {
	case "key", "parts":
		lines = append(lines, "PRIMARY KEY ("+t.keys()+")")
	case "unique":
		lines = append(lines, "UNIQUE KEY ("+t.keys()+")")
	}
	may := []string{}
	if t.engine != "InnoDB" {
		may = append(may, t.word())
	}
	for _, c := range t.cols {
		if strings.Contains(c.typ, "sjis") || strings.Contains(c.typ, "COMPRESSED") {
			may = append(may, t.word())
		}
	}
	// an image of the log may lack its key, or what is computed
	if !t.primary || strings.Contains(strings.Join(lines, ""), " VIRTUAL") {
		may = append(may, "binlog_row_image")
	}
	if g.chance(0.2) {
		c := t.cols[0]
		switch {
		case strings.Contains(c.typ, "COMPRESSED"):
		case strings.Contains(c.typ, "blob"), strings.Contains(c.typ, "text"):
			lines = append(lines, fmt.Sprintf("%sKEY (%s(7))", pick(g.gen, "", "", "UNIQUE "), bt(c.name)))
			if strings.HasPrefix(lines[len(lines)-1], "UNIQUE") {
				lines[len(lines)-1] = strings.Replace(lines[len(lines)-1], "UNIQUE ", "", 1)
			}
		case strings.Contains(c.typ, "point"), strings.Contains(c.typ, "geometry"), strings.Contains(c.typ, "json"),
			strings.Contains(c.typ, "char(250)"):
		default:
			lines = append(lines, "KEY by_first ("+bt(c.name)+pick(g.gen, "", " DESC")+")"+pick(g.gen, "", "", " IGNORED"))
		}
	}
	options := " ENGINE=" + t.engine
	if g.chance(0.03) && kind != "parts" {
		options += " WITH SYSTEM VERSIONING"
		may = append(may, t.word(), "system-versioned")
	}
	if g.chance(0.03) && kind != "parts" && strings.HasPrefix(t.cols[0].typ, "text") && !strings.Contains(t.cols[0].typ,
		"COMPRESSED") && !strings.Contains(strings.Join(lines, " "), "AUTO_INCREMENT") {
		lines = append(lines, "UNIQUE KEY whole ("+bt(t.cols[0].name)+", "+bt(t.key[0].name)+")")
		may = append(may, t.word())
	}
	if g.chance(0.3) {
		options += pick(g.gen, " DEFAULT CHARSET=latin1", " COLLATE=utf8mb4_unicode_ci", " ROW_FORMAT=COMPRESSED",
			" ROW_FORMAT=REDUNDANT", " COMMENT='it''s ours'", " AUTO_INCREMENT=70000")
	}
	if kind == "parts" && t.engine == "InnoDB" {
		if g.chance(0.7) {
			n := max(t.rows/2, 10)
			options += fmt.Sprintf(" PARTITION BY RANGE (id) (PARTITION p0 VALUES LESS THAN (%d), PARTITION p1 VALUES LESS "+
				"THAN (10000000))", n)
			t.parts = []string{"p0", "p1"}
		} else {
			options += " PARTITION BY HASH (id) PARTITIONS 3"
		}
	}
	g.mset(fmt.Sprintf("CREATE TABLE %s (\n  %s)%s", t.q(), strings.Join(lines, ",\n  "), options), may...)
	if t.rows > 0 {
		g.mset(fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM (SELECT seq AS g FROM seq_1_to_%d) x", t.q(), g.mnamesOf(t),
			g.mvaluesOf(t, "g"), t.rows))
	}
	if g.chance(0.5) {
		g.mset("ANALYZE TABLE " + t.q())
	}
	g.tables = append(g.tables, t)
}

// mset is of the world before the crossing, in a session that takes every date.
func (g *mgen) mset(text string, may ...string) {
	g.step(Set, "source set", "SET SESSION sql_mode = 'NO_AUTO_VALUE_ON_ZERO', sql_big_selects = 1; "+text, may...)
}

func (t *mtab) keyText() string {
	return "hex(" + bt(t.key[0].name) + ")"
}

func (g *mgen) mnamesOf(t *mtab) string {
	out := []string{t.keys()}
	for _, c := range t.cols {
		out = append(out, bt(c.name))
	}
	return strings.Join(out, ", ")
}

func (g *mgen) mvaluesOf(t *mtab, n string) string {
	var out []string
	for _, c := range t.key {
		out = append(out, replaceG(c.value, n))
	}
	for i, c := range t.cols {
		v := replaceG(c.value, n)
		if c.name != t.unique && i%2 == 1 {
			v = fmt.Sprintf("if(%s %% 7 = 3, NULL, %s)", n, v)
		}
		out = append(out, v)
	}
	return strings.Join(out, ", ")
}

func (g *mgen) relations() {
	if len(g.tables) < 2 {
		return
	}
	a, b := g.tables[0], g.tables[1]
	if a.unique != "" && a.engine == "InnoDB" && b.engine == "InnoDB" && len(a.parts) == 0 && len(b.key) > 0 &&
		b.key[0].name != "id" && g.chance(0.5) {
		how := pick(g.gen, "", " ON DELETE CASCADE ON UPDATE CASCADE", " ON DELETE SET NULL")
		g.mset(fmt.Sprintf("ALTER TABLE %s ADD COLUMN parent int, ADD CONSTRAINT fk_parent FOREIGN KEY (parent) REFERENCES "+
			"%s (u)%s; UPDATE %s SET parent = (SELECT min(u) FROM %s)", b.q(), a.q(), how, b.q(), a.q()),
			map[bool]string{false: b.word(), true: "fk_parent of another"}[b.primary], "with binlog_row_image")
	}
	if g.chance(0.1) {
		g.step(Set, "source super", fmt.Sprintf("SET NAMES utf8mb4; CREATE TRIGGER noted BEFORE UPDATE ON %s FOR EACH ROW "+
			"SET NEW.%s = NEW.%s", a.q(), bt(a.cols[0].name), bt(a.cols[0].name)))
	}
}

func (g *mgen) pickTable() *mtab { return g.tables[g.IntN(len(g.tables))] }

// where orders rows so that the same ones are taken in every run.
func (g *mgen) firstOf(t *mtab, n int) string {
	g.salt++
	var hexed []string
	for _, c := range t.key {
		hexed = append(hexed, "hex("+bt(c.name)+")")
	}
	return fmt.Sprintf("ORDER BY md5(concat_ws(',', %s, '%d')) LIMIT %d", strings.Join(hexed, ", "), g.salt, n)
}

func (g *mgen) mupdate(t *mtab, n int) string {
	c := t.cols[g.IntN(len(t.cols))]
	if c.name == t.unique {
		c = t.cols[0]
	}
	g.salt++
	return fmt.Sprintf("UPDATE %s SET %s = %s %s", t.q(), bt(c.name), replaceG(c.value, fmt.Sprint(7000+g.salt)),
		g.firstOf(t, n))
}

func mmoved(k mcol) string {
	c := col{name: "k", move: k.move}
	return strings.ReplaceAll(moved(c), `"k"`, bt(k.name))
}

func (g *mgen) change1(t *mtab) string {
	n := pick(g.gen, 1, 1, 3, 20, 200)
	k := t.key[g.IntN(len(t.key))]
	insert := func(verb, x string, n int) string {
		return fmt.Sprintf("%s INTO %s (%s) SELECT %s FROM (SELECT seq AS g FROM seq_1_to_%d) x", verb, t.q(), g.mnamesOf(t),
			g.mvaluesOf(t, x), n)
	}
	g.salt++
	x := fmt.Sprintf("(%d + g)", 10_000+g.salt*300)
	switch g.IntN(12) {
	case 0, 1:
		return insert("INSERT", x, n)
	case 2:
		return fmt.Sprintf("DELETE FROM %s %s", t.q(), g.firstOf(t, n))
	case 3:
		return fmt.Sprintf("UPDATE %s SET %s = %s %s", t.q(), bt(k.name), mmoved(k), g.firstOf(t, n))
	case 4:
		return insert("REPLACE", fmt.Sprintf("(%d + g)", g.IntN(20)), n)
	case 5:
		return insert("INSERT IGNORE", fmt.Sprintf("(%d + g)", g.IntN(20)), n)
	case 6:
		c := t.cols[0]
		return insert("INSERT", fmt.Sprintf("(%d + g)", g.IntN(20)), n) + fmt.Sprintf(
			" ON DUPLICATE KEY UPDATE %s = VALUES(%s)", bt(c.name), bt(c.name))
	case 7:
		if t.unique != "" {
			return fmt.Sprintf("UPDATE %[1]s SET u = -u WHERE u IN (1, 2); UPDATE %[1]s SET u = 3 + u WHERE u IN (-1, -2) "+
				"ORDER BY u; UPDATE %[1]s SET u = u + %[2]d ORDER BY u DESC LIMIT 1", t.q(), 1000+g.salt)
		}
		return g.mupdate(t, n)
	case 8: // the same row twice
		w := g.firstOf(t, n)
		return fmt.Sprintf("UPDATE %[1]s SET %[2]s = %[3]s %[4]s; UPDATE %[1]s SET %[2]s = %[3]s %[5]s", t.q(), bt(k.name),
			mmoved(k), w, g.firstOf(t, 3000))
	default:
		return g.mupdate(t, n)
	}
}

// spelled wraps a statement as applications and tools write it.
func (g *mgen) spelled(s string) string {
	switch g.IntN(9) {
	case 0:
		return "-- a word before\n" + s
	case 1:
		return "# a word\n/* and another */ " + s
	case 2:
		return "/*!50000 " + s + " */"
	case 3:
		return "/*!100000 " + s + " */"
	case 4:
		return "SET STATEMENT max_statement_time = 19 FOR " + s
	case 5:
		return s + "/* done */"
	case 6:
		return "\n\t" + strings.Replace(s, " ", "\n/**/", 1)
	}
	return s
}

func (g *mgen) msql(session, text string, may ...string) {
	g.step(SQL, "source "+session, text, may...)
}

func (g *mgen) work() {
	t := g.pickTable()
	session := pick(g.gen, "a", "b")
	prefix := ""
	if g.chance(0.08) {
		prefix = pick(g.gen, "SET SESSION foreign_key_checks = 0; ", "SET SESSION time_zone = '+05:30'; ",
			"SET SESSION binlog_row_image = 'MINIMAL'; ", "SET SESSION unique_checks = 0; ", "SET NAMES latin1; ",
			"SET SESSION sql_mode = ''; ")
	}
	switch g.IntN(11) {
	case 0, 1, 2:
		g.msql(session, prefix+g.change1(t))
	case 3:
		var all []string
		for range pick(g.gen, 2, 3, 6) {
			all = append(all, g.change1(g.pickTable()))
		}
		g.msql(session, prefix+"BEGIN; "+strings.Join(all, "; ")+"; "+pick(g.gen, "COMMIT", "COMMIT", "COMMIT", "ROLLBACK"))
	case 4, 5:
		var all []string
		for range pick(g.gen, 1, 2, 3) {
			sp := pick(g.gen, "s", "`a point`", "s")
			all = append(all, "SAVEPOINT "+sp+"; "+g.change1(g.pickTable())+"; "+pick(g.gen, "ROLLBACK TO "+sp,
				"RELEASE SAVEPOINT "+sp, "SAVEPOINT s2; "+g.change1(g.pickTable())+"; ROLLBACK TO s2", "ROLLBACK TO SAVEPOINT "+sp),
				g.change1(t))
		}
		g.msql(session, prefix+"BEGIN; "+strings.Join(all, "; ")+"; COMMIT")
	case 6:
		g.salt++
		n := pick(g.gen, 800, 3000, 9000)
		x := fmt.Sprintf("(%d + g)", 100_000+g.salt*20_000)
		ins := func(x string, n int) string {
			return fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM (SELECT seq AS g FROM seq_1_to_%d) x", t.q(), g.mnamesOf(t),
				g.mvaluesOf(t, x), n)
		}
		g.msql(session, prefix+fmt.Sprintf("BEGIN; %s; SAVEPOINT s; %s; %s; %s; COMMIT", ins(x, n),
			ins(fmt.Sprintf("(%d + g)", 110_000+g.salt*20_000), n), pick(g.gen, "ROLLBACK TO s", "RELEASE SAVEPOINT s"),
			g.change1(t)))
	case 7:
		g.salt++
		n := g.salt
		g.msql(session, prefix+fmt.Sprintf("XA START 'x%d_{source}'; %s; XA END 'x%d_{source}'; XA PREPARE 'x%d_{source}'", n,
			g.change1(t), n, n))
		if g.chance(0.5) {
			g.msql("b", g.change1(t))
		}
		// one rolled back may stand again after a crash
		g.msql(session, fmt.Sprintf("XA %s 'x%d_{source}'", pick(g.gen, "COMMIT", "COMMIT", "ROLLBACK"), n),
			"the two-phase transaction")
	case 8:
		g.msql(session, prefix+g.spelled(pick(g.gen, "TRUNCATE TABLE ", "TRUNCATE ")+t.q())+"; "+g.change1(t))
	case 9:
		g.msql(session, "BEGIN; "+g.change1(t))
		g.work()
		g.msql(session, pick(g.gen, "COMMIT", "COMMIT", "ROLLBACK"))
	case 10: // what is no business of ours
		g.salt++
		switch g.IntN(5) {
		case 0:
			g.msql(session, fmt.Sprintf("BEGIN; CREATE TEMPORARY TABLE tmp%d (a int); INSERT INTO tmp%d VALUES (1), (2); %s; "+
				"DROP TEMPORARY TABLE tmp%d; COMMIT", g.salt, g.salt, g.change1(t), g.salt))
		case 1:
			// a trigger there may have written here
			g.step(SQL, "source super", fmt.Sprintf("CREATE DATABASE IF NOT EXISTS `{source}_other`; CREATE TABLE IF NOT "+
				"EXISTS `{source}_other`.aside (a int PRIMARY KEY, b text) ENGINE=%s; SET SESSION binlog_format = 'STATEMENT'; "+
				"REPLACE INTO `{source}_other`.aside VALUES (%d, 'x'); SET SESSION binlog_format = 'ROW'",
				pick(g.gen, "InnoDB", "MyISAM"), g.salt), "*")
		case 2:
			g.step(SQL, "source super", "CREATE DATABASE IF NOT EXISTS `{source}_other`; CREATE TABLE IF NOT EXISTS "+
				"`{source}_other`.bare (a int) ENGINE=MyISAM; BEGIN; INSERT INTO `{source}_other`.bare VALUES (1); ROLLBACK; "+
				"DROP DATABASE `{source}_other`")
		case 3:
			g.msql(session, "ANALYZE TABLE "+t.q()+"; OPTIMIZE TABLE "+t.q())
		case 4:
			g.step(SQL, "source super", fmt.Sprintf("CREATE OR REPLACE USER 'nobody_%d'@'%%'; DROP USER 'nobody_%d'@'%%'; "+
				"FLUSH TABLES", g.salt, g.salt))
		}
	}
}

// change is what changes tables themselves. Each may be told of.
func (g *mgen) change() {
	t := g.pickTable()
	c := t.cols[0]
	w := t.word()
	ddl := func(s string, may ...string) { g.msql("a", g.spelled(s), append([]string{w}, may...)...) }
	g.salt++
	switch g.IntN(22) {
	case 0:
		ddl(fmt.Sprintf("ALTER TABLE %s ADD COLUMN added%d int DEFAULT %d%s", t.q(), g.salt, g.salt, pick(g.gen, "", " FIRST",
			" AFTER "+bt(t.key[0].name))))
	case 1:
		ddl(fmt.Sprintf("ALTER TABLE %s MODIFY %s longtext", t.q(), bt(c.name)))
	case 2:
		ddl(fmt.Sprintf("ALTER TABLE %s RENAME COLUMN %s TO renamed", t.q(), bt(c.name)))
		g.msql("a", fmt.Sprintf("UPDATE %s SET renamed = NULL %s", t.q(), g.firstOf(t, 2)), w)
		return
	case 3: // the swap of a rebuilt table
		ddl(fmt.Sprintf("CREATE TABLE %s LIKE %s", bt("new one"), t.q()))
		g.msql("a", fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM %s", bt("new one"), g.mnamesOf(t), g.mnamesOf(t), t.q()),
			w, "new one")
		ddl(fmt.Sprintf("RENAME TABLE %s TO %s, %s TO %s", t.q(), bt("old one"), bt("new one"), t.q()), "new one", "old one")
	case 4:
		ddl(fmt.Sprintf("CREATE OR REPLACE TABLE %s LIKE %s", bt("copy one"), t.q()), "copy one")
		ddl(fmt.Sprintf("DROP TABLE %s", t.q()))
		ddl(fmt.Sprintf("RENAME TABLE %s TO %s", bt("copy one"), t.q()), "copy one")
	case 5, 6:
		if len(t.parts) > 0 {
			p := t.parts[g.IntN(len(t.parts))]
			ddl(fmt.Sprintf("ALTER TABLE %s %s", t.q(), pick(g.gen, "TRUNCATE PARTITION "+p, "DROP PARTITION p0",
				"REBUILD PARTITION "+p, "REORGANIZE PARTITION p1 INTO (PARTITION p1 VALUES LESS THAN (5000000), PARTITION p2 "+
					"VALUES LESS THAN (10000000))")))
		}
	case 7:
		ddl(fmt.Sprintf("ALTER TABLE %s CONVERT TO CHARACTER SET %s", t.q(), pick(g.gen, "utf8mb4", "latin1",
			"utf8mb4 COLLATE utf8mb4_bin")))
	case 8:
		ddl(fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s", t.q(), bt(c.name)))
		return
	case 9:
		ddl(fmt.Sprintf("ALTER TABLE %s ENGINE=%s", t.q(), pick(g.gen, "InnoDB", "Aria")))
	case 10:
		ddl(fmt.Sprintf("ALTER TABLE %s DROP PRIMARY KEY, ADD COLUMN pk int AUTO_INCREMENT PRIMARY KEY", t.q()))
	case 11:
		ddl(fmt.Sprintf("ALTER TABLE %s ADD KEY extra_%d (%s)", t.q(), g.salt, bt(t.key[0].name)))
	case 12:
		ddl(fmt.Sprintf("ALTER TABLE %s MODIFY COLUMN %s %s FIRST", t.q(), bt(c.name), c.typ))
	case 13:
		g.msql("a", "SET SESSION binlog_format = '"+pick(g.gen, "STATEMENT", "MIXED")+"'; "+g.change1(t)+
			"; SET SESSION binlog_format = 'ROW'", w, "*")
	case 14:
		ddl(fmt.Sprintf("ALTER TABLE %s ADD SYSTEM VERSIONING", t.q()), "system-versioned")
	case 15:
		ddl(fmt.Sprintf("ALTER TABLE %s AUTO_INCREMENT = %d", t.q(), 5000+g.salt))
	case 16:
		ddl(fmt.Sprintf("ALTER TABLE %s ADD COLUMN comp int AS (%d) STORED", t.q(), g.salt))
	case 17:
		ddl(fmt.Sprintf("ALTER TABLE %s RENAME TO %s", t.q(), bt("moved away")), "moved away")
		g.msql("b", fmt.Sprintf("DELETE FROM %s LIMIT 1", bt("moved away")), w, "moved away")
		ddl(fmt.Sprintf("ALTER TABLE %s RENAME TO %s", bt("moved away"), t.q()), "moved away")
	case 18:
		ddl(fmt.Sprintf("DROP TABLE %s", t.q()))
		return
	case 19:
		g.msql("a", fmt.Sprintf("CREATE TABLE newcomer_%d (id int PRIMARY KEY); INSERT INTO newcomer_%d VALUES (1)", g.salt,
			g.salt), "newcomer")
		if len(g.s.Tables) == 0 {
			for _, x := range g.tables {
				g.s.Tables = append(g.s.Tables, x.full())
			}
		}
	case 20:
		ddl(fmt.Sprintf("ALTER TABLE %s FORCE, ALGORITHM=COPY", t.q()))
	case 21:
		ddl(fmt.Sprintf("ALTER TABLE %s ADD CHECK (1 = 1), ALTER COLUMN %s DROP DEFAULT", t.q(), bt(c.name)))
	}
	g.msql("a", g.change1(t))
}

func (g *mgen) trouble() {
	t := g.pickTable()
	switch g.IntN(13) {
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
		g.ferry("pause" + pick(g.gen, "", " load"))
		g.work()
		g.ferry("resume")
	case 9:
		g.ferry("restart " + t.full())
	case 10:
		g.ferry("reconcile")
	case 11:
		g.ferry(fmt.Sprintf("wait %dms", pick(g.gen, 50, 300, 900)))
	case 12:
		g.step(Server, "source", "rotate")
	}
}

func (g *mgen) course() {
	g.already()
	g.ferry("create")
	alone := g.s.Kind != ""
	if alone {
		g.ferry("start")
		g.ferry("await in step")
	}
	if g.chance(0.5) {
		t := g.pickTable()
		g.step(Loop, "source loop", fmt.Sprintf("INSERT IGNORE INTO %s (%s) SELECT %s FROM (SELECT seq AS g FROM "+
			"seq_0_to_2) x; %s", t.q(), g.mnamesOf(t), g.mvaluesOf(t, "(5000 + {n} * 3 + g)"), g.mupdate(t, 3)))
	}
	if !alone {
		g.ferry("start")
	}
	for range g.IntN(6) {
		switch {
		case g.chance(0.6):
			g.work()
		case g.chance(0.3):
			g.change()
		default:
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
	g.ferry("equal")
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
