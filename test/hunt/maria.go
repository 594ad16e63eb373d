package hunt

import (
	"context"
	"fmt"
	"hash/crc32"
	"slices"
	"strconv"
	"strings"
	"time"
)

func (s side) engine() string {
	if s.maria != nil {
		return "mariadb"
	}
	return "postgres"
}

func (s side) port() int {
	if s.maria != nil {
		return s.maria.Port
	}
	return s.server.Port
}

// root does things as the administrator of a MariaDB server.
func (r *run) root(s side, sql ...string) error {
	c, err := r.maria(s, s.maria.User, s.maria.Password, "")
	if err != nil {
		return err
	}
	defer c.close(r.ctx)
	for _, q := range sql {
		if err := c.exec(r.ctx, q); err != nil {
			return fmt.Errorf("%s: %w", q, err)
		}
	}
	return nil
}

// rows reads texts of a MariaDB server as the administrator; a NULL is "NULL".
func (r *run) rows(s side, sql string, before ...string) ([][]string, error) {
	c, err := r.maria(s, s.maria.User, s.maria.Password, s.database)
	if err != nil {
		return nil, err
	}
	defer c.close(r.ctx)
	for _, q := range append([]string{mariaPinned, "SET SESSION sql_mode = '', group_concat_max_len = 100000000, " +
		"max_statement_time = 0, character_set_results = utf8mb4"}, before...) {
		if err := c.exec(r.ctx, q); err != nil {
			return nil, err
		}
	}
	rows, err := c.c.QueryContext(r.ctx, sql)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", short(sql), err)
	}
	defer func() { _ = rows.Close() }()
	names, err := rows.Columns()
	if err != nil {
		return nil, err
	}
	var out [][]string
	for rows.Next() {
		line, to := make([]*string, len(names)), make([]any, len(names))
		for i := range line {
			to[i] = &line[i]
		}
		if err := rows.Scan(to...); err != nil {
			return nil, err
		}
		texts := make([]string, len(names))
		for i, p := range line {
			if texts[i] = "NULL"; p != nil {
				texts[i] = *p
			}
		}
		out = append(out, texts)
	}
	return out, rows.Err()
}

// touched are the server's variables that scripts set.
const touched = `'binlog_row_image','max_statement_time','sql_mode','init_connect','time_zone','sql_select_limit','completion_type','tx_isolation','lock_wait_timeout','innodb_lock_wait_timeout',
'wait_timeout','net_write_timeout','net_read_timeout','max_allowed_packet','log_bin_compress','binlog_annotate_row_events','binlog_checksum','binlog_row_metadata','autocommit','foreign_key_checks',
'unique_checks','sql_auto_is_null','read_only','group_concat_max_len','max_sort_length','binlog_format','old_mode','alter_algorithm','innodb_default_row_format','div_precision_increment','event_scheduler',
'explicit_defaults_for_timestamp','updatable_views_with_limit','sql_warnings','big_tables','max_join_size','sql_big_selects','sql_safe_updates','transaction_prealloc_size','optimizer_switch','log_slow_query',
'character_set_client','character_set_results','character_set_connection','collation_connection','lc_time_names','max_length_for_sort_data'`

// prepareMaria makes the database and the users of a run. How is what stands behind CREATE
// DATABASE, and after a | whether the product's user may do everything.
func (r *run) prepareMaria(s side, how string) error {
	how, rights, _ := strings.Cut(how, "|")
	vars, err := r.variables(s)
	if err != nil {
		return err
	}
	if r.globals == nil {
		r.globals = map[string]map[string]string{}
	}
	r.globals[s.name] = vars
	user := "'" + s.user + "'@'%'"
	q := []string{"CREATE DATABASE `" + s.database + "` " + how, "CREATE USER " + user + " IDENTIFIED BY 'honey'",
		"CREATE USER 'app_" + s.user + "'@'%' IDENTIFIED BY 'honey'",
		"GRANT ALL ON `" + s.database + "`.* TO 'app_" + s.user + "'@'%'", "GRANT BINLOG ADMIN ON *.* TO 'app_" + s.user +
			"'@'%'"}
	switch {
	case strings.TrimSpace(rights) == "all":
		q = append(q, "GRANT ALL PRIVILEGES ON *.* TO "+user)
	case r.s.Settings["return_path"] != nil:
		q = append(q, "GRANT REPLICATION SLAVE, BINLOG MONITOR, READ_ONLY ADMIN ON *.* TO "+user)
		for _, on := range []string{s.database, "dusty_ferry"} {
			q = append(q, "GRANT SELECT, INSERT, UPDATE, DELETE, CREATE, DROP, ALTER, INDEX, REFERENCES ON `"+on+"`.* TO "+user)
		}
	case s.name == "source":
		q = append(q, "GRANT SELECT, REFERENCES ON `"+s.database+"`.* TO "+user,
			"GRANT REPLICATION SLAVE, BINLOG MONITOR, READ_ONLY ADMIN ON *.* TO "+user)
	default:
		for _, on := range []string{s.database, "dusty_ferry"} {
			q = append(q, "GRANT SELECT, INSERT, UPDATE, DELETE, CREATE, DROP, ALTER, INDEX, REFERENCES ON `"+on+"`.* TO "+user)
		}
	}
	return r.root(s, q...)
}

func (r *run) variables(s side) (map[string]string, error) {
	m := map[string]string{}
	c, err := r.maria(s, s.maria.User, s.maria.Password, "")
	if err != nil {
		return nil, err
	}
	defer c.close(r.ctx)
	rows, err := c.c.QueryContext(r.ctx, "SHOW GLOBAL VARIABLES WHERE variable_name IN ("+touched+")")
	if err != nil {
		return nil, err
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		var k, v string
		if err := rows.Scan(&k, &v); err != nil {
			return nil, err
		}
		m[k] = v
	}
	return m, rows.Err()
}

// quietMaria ends prepared transactions that nobody ended.
func (r *run) quietMaria() {
	rows, err := r.rows(r.source, "XA RECOVER")
	for _, row := range rows {
		if err == nil && strings.Contains(row[3], r.source.database) {
			end := "XA COMMIT '" // what its log has committed before, and a crash took back, too
			if crc32.ChecksumIEEE([]byte(row[3]))%2 == 0 {
				end = "XA ROLLBACK '"
			}
			_ = r.root(r.source, end+row[3]+"'")
		}
	}
}

func (r *run) befallMaria(s side, what string) error {
	switch what {
	case "crash":
		return s.maria.Crash(r.ctx)
	case "cut":
		return r.cutMaria(s, "user = '"+s.user+"'")
	case "rotate":
		return r.root(s, "FLUSH BINARY LOGS")
	}
	return fmt.Errorf("nothing is known of %q", what)
}

// cutMaria ends sessions.
func (r *run) cutMaria(s side, which string) error {
	ids, err := r.rows(s, "SELECT id FROM information_schema.processlist WHERE "+which)
	for _, id := range ids {
		_ = r.root(s, "KILL "+id[0])
	}
	return err
}

// cleanMaria removes what a run made on a server, and sets it as it was.
func (r *run) cleanMaria(s side) {
	old := r.ctx
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	r.ctx = ctx
	defer func() { r.ctx = old }()
	_ = r.root(s, "SET GLOBAL read_only = OFF")
	now, _ := r.variables(s)
	for k, v := range r.globals[s.name] {
		if now[k] == v {
			continue
		}
		if _, err := strconv.ParseFloat(v, 64); err != nil {
			v = "'" + strings.ReplaceAll(v, "'", "''") + "'"
		}
		_ = r.root(s, "SET GLOBAL "+k+" = "+v)
	}
	_ = r.cutMaria(s, "db = '"+s.database+"' OR user IN ('"+s.user+"', 'app_"+s.user+"')")
	_ = r.root(s, "SET FOREIGN_KEY_CHECKS = 0; DROP DATABASE IF EXISTS `"+s.database+"`; DROP DATABASE IF EXISTS `"+
		s.database+"_other`; DROP DATABASE IF EXISTS dusty_ferry; DROP USER IF EXISTS '"+s.user+"'@'%', 'app_"+s.user+"'@'%'")
}

// sameInMaria compares what stands beside the rows between two MariaDB servers; between
// unlike ones the plan says what becomes of it, and only keys are looked for.
func (r *run) sameInMaria() error {
	if r.source.maria == nil || r.target.maria == nil {
		return nil
	}
	var lists [2][]string
	for i, s := range []side{r.source, r.target} {
		for _, q := range []string{
			`SELECT concat_ws(' ', 'column', table_name, column_name, column_type, is_nullable, coalesce(column_default, '-'),
  extra, coalesce(character_set_name, ''), coalesce(collation_name, ''), coalesce(generation_expression, ''))
  FROM information_schema.columns WHERE table_schema = database()`,
			`SELECT concat_ws(' ', 'index', table_name, non_unique, seq_in_index, column_name, coalesce(sub_part, ''),
  coalesce(collation, ''), index_type, index_name, ignored) FROM information_schema.statistics
  WHERE table_schema = database()`,
			`SELECT concat_ws(' ', 'foreign key', k.table_name, k.constraint_name, column_name, k.referenced_table_name,
  referenced_column_name, update_rule, delete_rule) FROM information_schema.key_column_usage k
  JOIN information_schema.referential_constraints c ON c.constraint_schema = k.constraint_schema
  AND c.constraint_name = k.constraint_name AND c.table_name = k.table_name WHERE k.table_schema = database()`,
			`SELECT concat_ws(' ', 'check', table_name, constraint_name, check_clause) FROM information_schema.check_constraints
  WHERE constraint_schema = database()`,
			`SELECT concat_ws(' ', 'table', table_name, engine, table_collation, coalesce(table_comment, ''))
  FROM information_schema.tables WHERE table_schema = database()`,
			`SELECT concat_ws(' ', 'partition', table_name, partition_name, partition_method, partition_expression,
  partition_description) FROM information_schema.partitions WHERE table_schema = database()
  AND partition_name IS NOT NULL`,
		} {
			rows, err := r.rows(s, q)
			if err != nil {
				return err
			}
			for _, x := range rows {
				lists[i] = append(lists[i], strings.ReplaceAll(x[0], s.database, "db"))
			}
		}
	}
	word := ""
	for _, l := range lists[0] {
		if slices.Contains(lists[1], l) {
			continue
		}
		if word == "" {
			for _, path := range []string{"/survey", "/plan", "/readiness"} {
				_, body, _ := r.product.call(r.ctx, "GET", r.path(path), nil)
				word += string(body)
			}
		}
		if kind, rest, _ := strings.Cut(l, " "); kind == "table" || kind == "index" || kind == "column" || kind == "check" ||
			kind == "partition" {
			if name := strings.Fields(rest); len(name) > 1 && kind != "column" &&
				slices.ContainsFunc(name[1:], func(n string) bool {
					return len(n) > 3 && (strings.Contains(word, "not carried") || strings.Contains(word, "since the start") ||
						strings.Contains(word, "have the collation")) && strings.Contains(word, n)
				}) {
				continue
			}
		}
		if !slices.ContainsFunc(sortedKeys(r.fieldsOrNone(r.source)), func(t string) bool {
			return strings.Contains(l, " "+t+" ") && r.wanted(r.source.database+"."+t)
		}) {
			continue
		}
		near := slices.DeleteFunc(slices.Clone(lists[1]), func(o string) bool {
			return len(strings.Fields(o)) < 2 || len(strings.Fields(l)) < 2 || strings.Join(strings.Fields(o)[:2],
				" ") != strings.Join(strings.Fields(l)[:2], " ")
		})
		return fault("after the cutover the target lacks: %s; it has: %s; told: %s", l, strings.Join(near, ", "), r.unready())
	}
	// Counters go on.
	for i, s := range []side{r.source, r.target} {
		rows, err := r.rows(s, "SELECT table_name, auto_increment FROM information_schema.tables WHERE table_schema = "+
			"database() AND auto_increment IS NOT NULL ORDER BY 1", "SET SESSION information_schema_stats_expiry = 0")
		if err != nil {
			if rows, err = r.rows(s, "SELECT table_name, auto_increment FROM information_schema.tables WHERE table_schema = "+
				"database() AND auto_increment IS NOT NULL ORDER BY 1"); err != nil {
				return err
			}
		}
		lists[i] = nil
		for _, x := range rows {
			lists[i] = append(lists[i], x[0]+" "+x[1])
		}
	}
	for _, a := range lists[0] {
		name, n, _ := strings.Cut(a, " ")
		for _, b := range lists[1] {
			if other, m, _ := strings.Cut(b, " "); other == name && r.wanted(r.source.database+"."+name) {
				x, _ := strconv.ParseUint(n, 10, 64)
				y, _ := strconv.ParseUint(m, 10, 64)
				if y < x {
					return fault("after the cutover the counter of %s stands at %d, the source's at %d", name, y, x)
				}
			}
		}
	}
	return nil
}

func (r *run) fieldsOrNone(s side) map[string][]field {
	m, _ := r.fieldsOf(s)
	return m
}

// closedMaria tries to write to the closed source as the application.
func (r *run) closedMaria() error {
	c, err := r.connect("source closed")
	if err != nil {
		return err
	}
	defer c.close(r.ctx)
	for _, t := range sortedKeys(r.fieldsOrNone(r.source)) {
		q := "`" + strings.ReplaceAll(t, "`", "``") + "`"
		for _, sql := range []string{"DELETE FROM " + q + " WHERE 1 = 0", "TRUNCATE TABLE " + q, "INSERT INTO " + q +
			" SELECT * FROM " + q + " LIMIT 0"} {
			// A server that has just been restarted is closed again in a moment.
			for end := time.Now().Add(20 * time.Second); c.exec(r.ctx, sql) == nil; time.Sleep(200 * time.Millisecond) {
				if time.Now().After(end) {
					return fault("the closed source takes: %s", sql)
				}
			}
		}
	}
	return nil
}

// leftInMaria looks for anything of ours after closing.
func (r *run) leftInMaria(s side) error {
	// A reader of the log is gone when the server has found out, which takes it a moment.
	for end := time.Now().Add(10 * time.Second); time.Now().Before(end); time.Sleep(200 * time.Millisecond) {
		if rows, err := r.rows(s,
			"SELECT id FROM information_schema.processlist WHERE command = 'Binlog Dump'"); err == nil && len(rows) == 0 {
			break
		}
	}
	rows, err := r.rows(s, `SELECT concat('database ', schema_name) FROM information_schema.schemata
  WHERE schema_name = 'dusty_ferry'
UNION ALL SELECT concat('trigger ', trigger_name) FROM information_schema.triggers WHERE trigger_name LIKE 'dusty%'
UNION ALL SELECT concat('reader of the log ', id) FROM information_schema.processlist WHERE command = 'Binlog Dump'
UNION ALL SELECT 'read_only is on' FROM (SELECT 1) x WHERE @@global.read_only = 1`)
	if err != nil {
		return err
	}
	if len(rows) > 0 {
		return fault("left behind on the %s after closing: %v", s.name, rows)
	}
	return nil
}
