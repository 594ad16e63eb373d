package hunt

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
)

// What is equal, said by plain SQL.

// pinned makes a session read rows as they are, whatever role and database are set to.
const pinned = `SET search_path = ''; SET timezone = 'UTC'; SET extra_float_digits = 3; SET "DateStyle" = 'ISO, YMD';
  SET "IntervalStyle" = 'postgres';
SET bytea_output = 'hex'; SET quote_all_identifiers = off; SET xmlbinary = 'base64'; SET row_security = off;
  SET client_encoding = 'UTF8'; SET lc_monetary = 'C'; SET client_min_messages = 'error';
SET statement_timeout = '60s'; SET lock_timeout = 0; SET default_transaction_read_only = off;
  SET session_replication_role = origin; SET default_transaction_isolation = 'read committed'`

func (r *run) open(s side) (*pgx.Conn, error) {
	c, err := pgx.Connect(r.ctx, s.url(s.server.User, s.server.Password))
	if err != nil {
		return nil, err
	}
	_, err = c.Exec(r.ctx, pinned)
	return c, err
}

// strings1 reads one column of texts.
func (r *run) strings1(c *pgx.Conn, sql string) ([]string, error) {
	rows, err := c.Query(r.ctx, sql)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

const ours = `n.nspname NOT IN ('pg_catalog', 'information_schema', 'dusty_ferry', 'pg_toast') AND n.nspname NOT LIKE 'pg_temp%' AND n.nspname NOT LIKE 'pg_toast%'`

// members are what extensions brought.
const members = `NOT EXISTS (SELECT FROM pg_depend d WHERE d.classid = 'pg_class'::regclass AND d.objid = c.oid
  AND d.deptype = 'e')`

// asked are the tables to be compared: each with its columns, and how it is read.
const asked = `
SELECT format('%I.%I', n.nspname, c.relname) || chr(1) || CASE c.relkind WHEN 'r' THEN 'ONLY '
  ELSE '' END || chr(1) || coalesce(
       (SELECT string_agg(quote_ident(attname), ', ' ORDER BY attname) FROM pg_attribute WHERE attrelid = c.oid
         AND attnum > 0 AND NOT attisdropped), '')
  FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
 WHERE c.relkind IN ('r', 'p') AND NOT c.relispartition AND ` + ours + ` AND ` + members + ` ORDER BY 1`

// wanted reports whether the crossing carries the table.
func (r *run) wanted(table string) bool {
	return len(r.s.Tables) == 0 || slices.ContainsFunc(slices.Concat(r.s.Tables, r.added), func(t string) bool {
		return bare(r.text(t)) == bare(table)
	})
}

// differ is how the two sides differ, in words; empty: they are equal. A session of its own
// may be ended, as by a way to stop writes, or by a crash: it looks again.
func (r *run) differ() (string, error) {
	look := r.look
	if r.source.maria != nil || r.target.maria != nil {
		look = r.across
	}
	said, err := look()
	for try := 0; err != nil && try < 20 && r.ctx.Err() == nil; try++ {
		time.Sleep(200 * time.Millisecond)
		said, err = look()
	}
	return said, err
}

func (r *run) look() (string, error) {
	src, err := r.open(r.source)
	if err != nil {
		return "", err
	}
	defer func() { _ = src.Close(r.ctx) }()
	dst, err := r.open(r.target)
	if err != nil {
		return "", err
	}
	defer func() { _ = dst.Close(r.ctx) }()
	list, err := r.strings1(src, asked)
	if err != nil {
		return "", err
	}
	there, err := r.strings1(dst, asked)
	if err != nil {
		return "", err
	}
	var out []string
	for _, line := range list {
		part := strings.Split(line, "\x01")
		name, only, cols := part[0], part[1], part[2]
		if !r.wanted(name) {
			continue
		}
		at := slices.IndexFunc(there, func(l string) bool { return strings.HasPrefix(l, name+"\x01") })
		if at < 0 {
			out = append(out, name+" is not on the target")
			continue
		}
		onlyThere := strings.Split(there[at], "\x01")[1] // one may have partitions, and the other none
		where := ""
		for t, w := range r.s.Where {
			if bare(t) == bare(name) {
				where = " WHERE " + w
			}
		}
		a, err := r.sum(src, only+name+where, cols)
		if err != nil {
			return "", err
		}
		if b, err := r.sum(dst, onlyThere+name, cols); err != nil {
			out = append(out, fmt.Sprintf("%s cannot be read on the target: %s", name, err))
		} else if a != b {
			out = append(out, fmt.Sprintf("%s differs: %s on the source, %s on the target%s", name, a, b,
				r.sample(src, dst, only+name+where, onlyThere+name, cols)))
		}
	}
	return strings.Join(out, "; "), nil
}

// sum is how many rows there are, and a hash of them that knows no order.
func (r *run) sum(c *pgx.Conn, from, cols string) (string, error) {
	row := "ROW(" + cols + ")"
	if cols == "" {
		row = "ROW()"
	}
	var s string
	err := c.QueryRow(r.ctx, fmt.Sprintf(`SELECT count(*) || ' rows of ' || coalesce(left(md5(string_agg(h, ''
  ORDER BY h COLLATE "C")), 8), '-') FROM (SELECT md5(convert_to(%s::text, 'UTF8')) AS h FROM %s) x`, row, from)).Scan(
		&s)
	return s, err
}

// sample is a row that one side has and the other has not, cut short.
func (r *run) sample(src, dst *pgx.Conn, from, there, cols string) string {
	a, err := r.strings1(src, fmt.Sprintf("SELECT left(ROW(%s)::text, 300) FROM %s LIMIT 20000", cols, from))
	if err != nil {
		return ""
	}
	b, err := r.strings1(dst, fmt.Sprintf("SELECT left(ROW(%s)::text, 300) FROM %s LIMIT 20000", cols, there))
	if err != nil {
		return ""
	}
	in := func(list []string) map[string]bool {
		m := map[string]bool{}
		for _, x := range list {
			m[x] = true
		}
		return m
	}
	var out string
	for _, side := range []struct {
		name        string
		list, other []string
	}{{"source", a, b}, {"target", b, a}} {
		other := in(side.other)
		for _, x := range side.list {
			if !other[x] {
				out += fmt.Sprintf("; only on the %s: %s", side.name, short(x))
				break
			}
		}
	}
	return out
}

// judge is the last look at a script that came to its end.
func (r *run) judge() error {
	if !r.created || r.cutOver {
		return nil
	}
	if err := r.equal(); err != nil {
		return err
	}
	return r.vouched()
}

// vouched says whether vouching found rows that differ where none does. A build that knows none of
// it found nothing.
func (r *run) vouched() error {
	list, err := r.product.list(r.ctx, r.path("/reconciliations"))
	if err != nil {
		return err
	}
	cuts, err := r.product.list(r.ctx, r.path("/cutovers"))
	if err != nil {
		return err
	}
	for _, c := range list {
		if n, _ := c["open_findings"].(float64); n == 0 || str(c, "depth") != "vouched" {
			continue
		}
		// An application that writes in spite of a database that is read-only is found by whoever
		// compares inside a pause, and rightly: the cutover is undone.
		if slices.ContainsFunc(cuts, func(k answer) bool { return k["reconciliation"] == c["id"] }) {
			continue
		}
		// What differed, and was mended by a later change, is looked at once more by a person's word.
		if differs, err := r.differ(); err != nil || differs != "" {
			return err
		}
		page, _ := r.product.get(r.ctx, r.path(fmt.Sprintf("/reconciliations/%v/findings?limit=3", c["id"])))
		return fault("vouching found %v rows that differ, but both sides are equal: %.1500v", c["open_findings"], page)
	}
	return nil
}

// identitySQL is how the log identifies rows of every table.
const identitySQL = `SELECT format('%I.%I', n.nspname, c.relname) || ' ' || c.relreplident::text || ' ' || c.oid FROM pg_class c
  JOIN pg_namespace n ON n.oid = c.relnamespace
 WHERE c.relkind IN ('r', 'p') AND ` + ours + ` ORDER BY 1`

func (r *run) remember() error {
	if r.source.maria != nil {
		return nil
	}
	c, err := r.open(r.source)
	if err != nil {
		return err
	}
	defer func() { _ = c.Close(r.ctx) }()
	list, err := r.strings1(c, identitySQL)
	r.identities = map[string]identity{}
	for _, l := range list {
		name, now := identityOf(l)
		r.identities[name] = now
	}
	return err
}

// identity is how the log identifies rows of a table, and which table it is.
type identity struct{ kind, oid string }

// identityOf reads a line of [identitySQL].
func identityOf(line string) (name string, is identity) {
	j := strings.LastIndex(line, " ")
	i := strings.LastIndex(line[:j], " ")
	return line[:i], identity{line[i+1 : j], line[j+1:]}
}

// identified reports whether the application itself gave a table another replica identity.
func (r *run) identified(table string) bool {
	name := strings.Trim(table[strings.LastIndex(table, ".")+1:], `"`)
	return slices.ContainsFunc(r.s.Steps, func(s Step) bool {
		return s.Do == "sql" && strings.Contains(s.Text, "REPLICA IDENTITY") && strings.Contains(s.Text, name)
	})
}

// afterwards judges what a cutover left: equal rows, the same objects, counters that go on,
// and a source that takes no write by any way.
func (r *run) afterwards() error {
	differs, err := r.differ()
	if err != nil {
		return err
	}
	if differs != "" {
		return fault("after the cutover %s", differs)
	}
	if err := r.vouched(); err != nil {
		return err
	}
	switch {
	case r.turned(): // what belongs to the tables was there before
	case r.source.maria == nil && r.target.maria == nil:
		err = r.sameObjects()
	default:
		err = r.sameInMaria()
	}
	if err != nil {
		return err
	}
	if r.source.maria != nil {
		return r.closedMaria()
	}
	return r.closed()
}

// objectsSQL are what tables have besides rows.
const objectsSQL = `
SELECT 'index ' || format('%I.%I', n.nspname, t.relname) || ' ' || CASE WHEN i.indisunique THEN 'UNIQUE '
  ELSE '' END || regexp_replace(pg_get_indexdef(i.indexrelid), '^CREATE .*?INDEX .*? ON ', 'ON ') || CASE
  WHEN i.indisvalid THEN '' ELSE ' INVALID' END
  FROM pg_index i JOIN pg_class t ON t.oid = i.indrelid JOIN pg_namespace n ON n.oid = t.relnamespace WHERE ` + ours + `
UNION ALL
SELECT 'constraint ' || format('%I.%I', n.nspname, t.relname) || ' ' || conname || ' ' || pg_get_constraintdef(k.oid)
  FROM pg_constraint k JOIN pg_class t ON t.oid = k.conrelid JOIN pg_namespace n ON n.oid = t.relnamespace WHERE contype <> 't' AND contype <> 'n' AND ` + ours + `
UNION ALL
SELECT 'column ' || format('%I.%I', n.nspname, t.relname) || ' ' || attname || ' ' || format_type(atttypid, atttypmod) || CASE WHEN attnotnull THEN ' not null' ELSE '' END
       || ' ' || attidentity::text || ' ' || attgenerated::text || ' ' || coalesce((SELECT pg_get_expr(adbin, adrelid) FROM pg_attrdef WHERE adrelid = attrelid AND adnum = attnum), '')
  FROM pg_attribute a JOIN pg_class t ON t.oid = a.attrelid JOIN pg_namespace n ON n.oid = t.relnamespace WHERE attnum > 0 AND NOT attisdropped AND t.relkind IN ('r', 'p') AND ` + ours + `
UNION ALL
SELECT 'sequence ' || format('%I.%I', schemaname, sequencename) || format(' start %s min %s max %s by %s cycle %s cache %s', start_value, min_value, max_value, increment_by, cycle, cache_size)
  FROM pg_sequences n WHERE ` + `n.schemaname NOT IN ('dusty_ferry')` + `
UNION ALL
SELECT 'trigger ' || format('%I.%I', n.nspname, t.relname) || ' ' || tgname || ' ' || tgenabled::text FROM pg_trigger g JOIN pg_class t ON t.oid = g.tgrelid JOIN pg_namespace n ON n.oid = t.relnamespace
 WHERE NOT tgisinternal AND tgparentid = 0 AND tgname NOT LIKE 'dusty%' AND ` + ours

// sameObjects compares what stands beside the rows; what the survey or the plan tells of as
// not carried is not missed.
func (r *run) sameObjects() error {
	src, err := r.open(r.source)
	if err != nil {
		return err
	}
	defer func() { _ = src.Close(r.ctx) }()
	dst, err := r.open(r.target)
	if err != nil {
		return err
	}
	defer func() { _ = dst.Close(r.ctx) }()
	a, err := r.strings1(src, objectsSQL)
	if err != nil {
		return err
	}
	b, err := r.strings1(dst, objectsSQL)
	if err != nil {
		return err
	}
	var word string
	for _, l := range a {
		if slices.Contains(b, l) {
			continue
		}
		if word == "" {
			for _, path := range []string{"/survey", "/plan", "/readiness"} {
				_, body, _ := r.product.call(r.ctx, "GET", r.path(path), nil)
				word += string(body)
			}
		}
		kind, rest, _ := strings.Cut(l, " ")
		table, rest, _ := strings.Cut(rest, " ")
		name, _, _ := strings.Cut(rest, " ")
		switch kind {
		case "index", "sequence":
			name = table
		case "trigger": // names may hold blanks; its own does not
			f := strings.Fields(l)
			name = f[len(f)-2]
		}
		if (kind == "trigger" || kind == "constraint") && strings.Contains(word, name) && kind == "trigger" {
			continue
		}
		if !r.wanted(table) {
			continue
		}
		return fault("after the cutover the target lacks: %s; told: %s", l, r.unready())
	}
	return r.counters(src, dst)
}

// counters go on where the source's stood.
func (r *run) counters(src, dst *pgx.Conn) error {
	// A counter is its column's, whose name it need not bear: a table that took another's place
	// has one of another name.
	const q = `SELECT replace(coalesce(o.column, format('%I.%I', s.schemaname, s.sequencename)), ' ',
  '_') || ' ' || s.increment_by || ' ' || coalesce(s.last_value::text, '-')
  FROM pg_sequences s LEFT JOIN (
       SELECT d.objid, format('%I.%I.%I', n.nspname, c.relname, a.attname) AS column
         FROM pg_depend d JOIN pg_class c ON c.oid = d.refobjid JOIN pg_namespace n ON n.oid = c.relnamespace
           JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = d.refobjsubid
        WHERE d.classid = 'pg_class'::regclass AND d.refclassid = 'pg_class'::regclass AND d.deptype IN ('a', 'i')) o
       ON o.objid = format('%I.%I', s.schemaname, s.sequencename)::regclass
 WHERE s.schemaname <> 'dusty_ferry' ORDER BY 1`
	a, err := r.strings1(src, q)
	if err != nil {
		return err
	}
	b, err := r.strings1(dst, q)
	if err != nil {
		return err
	}
	for _, l := range a {
		part := strings.Split(l, " ")
		for _, m := range b {
			other := strings.Split(m, " ")
			if other[0] != part[0] || part[2] == "-" {
				continue
			}
			if other[2] == "-" {
				return fault("after the cutover the counter %s begins anew", part[0])
			}
			var x, y, by int64
			_, _ = fmt.Sscan(part[2], &x)
			_, _ = fmt.Sscan(other[2], &y)
			_, _ = fmt.Sscan(part[1], &by)
			// A server that crashed comes back with its sequences up to 32 steps, and their cache, ahead (SEQ_LOG_VALS
			// in PostgreSQL's sequence.c): nobody was given those.
			if r.sourceCrashed() {
				x -= 100 * by
			}
			if by > 0 && y < x || by < 0 && y > x {
				return fault("after the cutover the counter %s stands at %d, the source's at %d", part[0], y, x)
			}
		}
	}
	return nil
}

// closed tries to write to the closed source by every way there is.
func (r *run) closed() error {
	c, err := r.open(r.source)
	if err != nil {
		return err
	}
	defer func() { _ = c.Close(r.ctx) }()
	list, err := r.strings1(c, `SELECT format('%I.%I', n.nspname, c.relname) FROM pg_class c
  JOIN pg_namespace n ON n.oid = c.relnamespace
 WHERE c.relkind IN ('r', 'p') AND `+ours+` AND `+members+` ORDER BY 1`)
	if err != nil {
		return err
	}
	for _, t := range list {
		if len(r.s.Tables) > 0 && !slices.ContainsFunc(r.s.Tables, func(x string) bool {
			return strings.HasPrefix(bare(t), bare(x))
		}) {
			continue
		}
		for _, role := range []string{"origin", "replica"} {
			for _, sql := range []string{"INSERT INTO %s SELECT * FROM %[1]s LIMIT 0", "DELETE FROM %s WHERE false",
				"TRUNCATE %s CASCADE"} {
				sql = fmt.Sprintf(sql, t)
				if strings.HasPrefix(sql, "INSERT") {
					sql = fmt.Sprintf("DO $$ BEGIN EXECUTE 'INSERT INTO %[1]s (' || (SELECT string_agg(quote_ident(attname), ',') "+
						"FROM pg_catalog.pg_attribute WHERE attrelid = '%[1]s'::pg_catalog.regclass AND attnum > 0 AND NOT "+
						"attisdropped AND attgenerated = '' AND attidentity <> 'a')"+
						" || ') SELECT ' || (SELECT string_agg(quote_ident(attname), ',') FROM pg_catalog.pg_attribute WHERE attrelid "+
						"= '%[1]s'::pg_catalog.regclass AND attnum > 0 AND NOT attisdropped AND attgenerated = '' AND attidentity <> "+
						"'a') || ' FROM %[1]s LIMIT 0'; END $$", t)
				}
				if _, err := c.Exec(r.ctx, "BEGIN READ WRITE; SET LOCAL session_replication_role = "+role); err != nil {
					return err
				}
				_, err := c.Exec(r.ctx, sql)
				_, _ = c.Exec(r.ctx, "ROLLBACK")
				if err == nil {
					return fault("the closed source takes writes to %s (session_replication_role %s): %s", t, role, short(sql))
				}
			}
		}
	}
	return nil
}

// leftBehind looks for anything of ours after closing.
func (r *run) leftBehind() error {
	for _, s := range []side{r.source, r.target} {
		if s.maria != nil {
			if err := r.leftInMaria(s); err != nil {
				return err
			}
			continue
		}
		c, err := r.open(s)
		if err != nil {
			return err
		}
		left, err := r.strings1(c, `
SELECT 'slot ' || slot_name FROM pg_replication_slots WHERE database = current_database()
UNION ALL SELECT 'publication ' || pubname FROM pg_publication WHERE pubname <> 'theirs'
UNION ALL SELECT 'schema ' || nspname FROM pg_namespace WHERE nspname = 'dusty_ferry'
UNION ALL SELECT 'trigger ' || tgname FROM pg_trigger WHERE tgname LIKE 'dusty%'
UNION ALL SELECT 'setting ' || unnest(setconfig) FROM pg_db_role_setting s JOIN pg_database d ON d.oid = s.setdatabase
  WHERE d.datname = current_database() AND array_to_string(setconfig, ',') LIKE '%read_only%on%'`)
		if err == nil && s.name == "source" {
			var now []string
			now, err = r.strings1(c, identitySQL)
			for _, l := range now {
				name, is := identityOf(l)
				was, known := r.identities[name]
				if known && was.oid != is.oid {
					was.kind = "d" // another table has the name now, which was made as all are
				}
				if known && was.kind != is.kind && !r.identified(name) {
					left = append(left, fmt.Sprintf("replica identity of %s: %s, it was %s", name, is.kind, was.kind))
				}
			}
		}
		_ = c.Close(r.ctx)
		if err != nil {
			return err
		}
		if len(left) > 0 {
			return fault("left behind on the %s after closing: %s", s.name, strings.Join(left, ", "))
		}
	}
	return nil
}

// sourceCrashed reports whether the script may have the source's server crash.
func (r *run) sourceCrashed() bool {
	return slices.ContainsFunc(r.s.Steps, func(s Step) bool {
		return strings.Contains(s.Text, "crash source") || strings.HasPrefix(s.On, "source") && s.Text == "crash"
	})
}
