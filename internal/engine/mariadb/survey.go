package mariadb

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"dustyferry/internal/core/naming"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

type entries []domain.Entry

func (e *entries) add(v domain.Verdict, topic, subject, remedy, format string, args ...any) {
	*e = append(*e, domain.Entry{Verdict: v, Topic: topic, Subject: subject, Measured: fmt.Sprintf(format, args...),
		Remedy: remedy})
}

// server is what a survey asks first.
type server struct {
	version, user, cipher string
	variables             map[string]string
	grants                []string
	connected             int
}

func (d *database) server(ctx context.Context) (server, error) {
	s := server{variables: map[string]string{}}
	if err := d.pool.QueryRowContext(ctx, "SELECT version(), current_user()").Scan(&s.version, &s.user); err != nil {
		return s, d.explain(err)
	}
	pairs := func(query string, take func(k, v string)) error {
		rows, err := d.pool.QueryContext(ctx, query)
		if err != nil {
			return d.explain(err)
		}
		defer func() { _ = rows.Close() }()
		for rows.Next() {
			var k, v string
			if err := rows.Scan(&k, &v); err != nil {
				return d.explain(err)
			}
			take(strings.ToLower(k), v)
		}
		return d.explain(rows.Err())
	}
	if err := pairs("SHOW GLOBAL VARIABLES WHERE variable_name IN ('log_bin', 'binlog_format', 'binlog_row_image', "+
		"'expire_logs_days', 'binlog_expire_logs_seconds', 'encrypt_binlog', 'max_connections', 'local_infile', "+
		"'read_only', 'lower_case_table_names', 'time_zone', 'system_time_zone', 'character_set_database', "+
		"'collation_database')",
		func(k, v string) { s.variables[k] = v }); err != nil {
		return s, err
	}
	if err := pairs("SHOW SESSION STATUS LIKE 'Ssl_cipher'", func(_, v string) { s.cipher = v }); err != nil {
		return s, err
	}
	if err := pairs("SHOW GLOBAL STATUS LIKE 'Threads_connected'", func(_, v string) {
		s.connected, _ = strconv.Atoi(v)
	}); err != nil {
		return s, err
	}
	rows, err := d.pool.QueryContext(ctx, "SHOW GRANTS")
	if err != nil {
		return s, d.explain(err)
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		var g string
		if err := rows.Scan(&g); err != nil {
			return s, d.explain(err)
		}
		s.grants = append(s.grants, strings.ToUpper(g))
	}
	return s, d.explain(rows.Err())
}

// may reports whether a global right is among the user's.
func (s server) may(rights ...string) bool {
	return slices.ContainsFunc(s.grants, func(g string) bool {
		rest, ok := strings.CutPrefix(g, "GRANT ")
		list, _, on := strings.Cut(rest, " ON *.*")
		if !ok || !on {
			return false
		}
		return slices.ContainsFunc(strings.Split(list, ", "), func(r string) bool {
			return r == "ALL PRIVILEGES" || slices.Contains(rights, r)
		})
	})
}

// above reports whether the user may write while the server is read-only: SUPER is that no more since 10.11.
func (s server) above() bool { return s.may("READ_ONLY ADMIN") || s.number() < 1011 && s.may("SUPER") }

// named is the server and its version, without the marks of its packaging.
func (s server) named() string {
	number, _, _ := strings.Cut(s.version, "-")
	return "MariaDB " + number
}

func (s server) number() int {
	major, rest, _ := strings.Cut(s.version, ".")
	minor, _, _ := strings.Cut(rest, ".")
	a, _ := strconv.Atoi(major)
	b, _ := strconv.Atoi(minor)
	return a*100 + b
}

func (s server) encryption() string {
	if s.cipher == "" {
		return "not encrypted"
	}
	return "TLS " + s.cipher
}

func (s server) sourceEntries(capture bool) []domain.Entry {
	var e entries
	if s.number() < 1006 || !strings.Contains(strings.ToLower(s.version), "mariadb") {
		e.add(domain.Blocker, "version", "source", "use MariaDB 10.6 or later",
			"the server is %s; MariaDB 10.6 is the oldest we carry", s.version)
	} else {
		e.add(domain.OK, "version", "source", "", "%s, %s", s.named(), s.encryption())
	}
	if s.variables["log_bin"] != "ON" {
		e.add(domain.Blocker, "binary log", "source",
			"log_bin = saltmarsh in the server's configuration; then restart the server",
			"the server writes no binary log, so neither the place of a snapshot nor changes are known")
		return e
	}
	if !capture {
		return e
	}
	if f := s.variables["binlog_format"]; f != "ROW" {
		e.add(domain.Blocker, "binary log", "source", "SET GLOBAL binlog_format = 'ROW'; then let sessions connect anew",
			"binlog_format is %s, so the log does not carry every row change; the %d sessions that are connected keep it "+
				"until they connect anew", f, s.connected)
	} else {
		e.add(domain.OK, "binary log", "source", "", "rows are logged, with %s images",
			strings.ToLower(s.variables["binlog_row_image"]))
	}
	if f := s.variables["binlog_row_image"]; f != "FULL" {
		e.add(domain.Notice, "binary log", "source", "SET GLOBAL binlog_row_image = 'FULL'; then let sessions connect anew",
			"binlog_row_image is %s: the log carries parts of rows, and changed rows are patched; a row that a REPLACE "+
				"changed is read from the source, as the log lacks what became a default; whole rows make applying quicker", f)
	}
	if !s.may("REPLICATION SLAVE", "REPLICATION REPLICA") {
		e.add(domain.Blocker, "permission", "source", "GRANT REPLICATION SLAVE ON *.* TO "+account(s.user),
			"user %s may not read the binary log", s.user)
	}
	if !s.may("BINLOG MONITOR", "REPLICATION CLIENT", "SUPER") {
		e.add(domain.Blocker, "permission", "source", "GRANT BINLOG MONITOR ON *.* TO "+account(s.user),
			"user %s may not ask where the binary log stands", s.user)
	}
	keep := s.variables["binlog_expire_logs_seconds"]
	if keep == "" || keep == "0" {
		keep = ""
		if days := s.variables["expire_logs_days"]; days != "" && days != "0" && !strings.HasPrefix(days, "0.000000") {
			keep = days + " days"
		}
	} else {
		keep += " seconds"
	}
	if keep != "" {
		e.add(domain.Notice, "log retention", "source", "SET GLOBAL binlog_expire_logs_seconds = 0",
			"the server removes log files after %s, whether or not capture has read them; if capture falls so far behind, the "+
				"load has to start again", keep)
	}
	e.add(domain.Notice, "stopping writes", "source", "dustyferry crossing set NAME --stop-method read-only",
		"writes are stopped by making the whole server read-only, or by a person's word; locks of single tables are not "+
			"held here. Users with the right READ_ONLY ADMIN or SUPER can write all the same: stop those yourself")
	if !s.above() {
		e.add(domain.Notice, "permission", "source", "GRANT READ_ONLY ADMIN ON *.* TO "+account(s.user),
			"user %s may not make the server read-only; the stop method word needs no right", s.user)
	}
	return e
}

// seesForeignKeys reports whether the catalog shows foreign keys to the user: it
// does so only to those who have more than SELECT.
func (s server) seesForeignKeys(database string) bool {
	name := strings.ToUpper(database)
	return s.may("REFERENCES") || slices.ContainsFunc(s.grants, func(g string) bool {
		list, rest, on := strings.Cut(g, " ON ")
		return on && strings.HasPrefix(rest, "`"+name+"`.*") &&
			(strings.Contains(list, "REFERENCES") || strings.Contains(list, "ALL PRIVILEGES"))
	})
}

// account writes 'user'@'host'.
func account(user string) string {
	name, host, _ := strings.Cut(user, "@")
	return "'" + name + "'@'" + host + "'"
}

// targetRights are what a target's user needs on its database.
var targetRights = []string{"SELECT", "INSERT", "UPDATE", "DELETE", "CREATE", "DROP", "ALTER", "INDEX", "REFERENCES"}

// mayOn reports whether a right is the user's on a database.
func (s server) mayOn(database, right string) bool {
	return s.may(right) || slices.ContainsFunc(s.grants, func(g string) bool {
		list, rest, on := strings.Cut(strings.TrimPrefix(g, "GRANT "), " ON ")
		name, _, all := strings.Cut(rest, ".*")
		name = strings.ReplaceAll(strings.Trim(name, "`"), `\_`, "_")
		return on && all && strings.EqualFold(name, database) &&
			(list == "ALL PRIVILEGES" || slices.Contains(strings.Split(list, ", "), right))
	})
}

func (s server) targetEntries(database string) []domain.Entry {
	var e entries
	if s.number() < 1007 || !strings.Contains(strings.ToLower(s.version), "mariadb") {
		e.add(domain.Blocker, "version", "target", "use MariaDB 10.7 or later",
			"the server is %s; MariaDB 10.7 is the oldest that is written to", s.version)
	} else {
		e.add(domain.OK, "version", "target", "", "%s, %s", s.named(), s.encryption())
	}
	for _, name := range []string{database, bookkeeping} {
		var missing []string
		for _, r := range targetRights {
			if !s.mayOn(name, r) {
				missing = append(missing, r)
			}
		}
		if len(missing) > 0 {
			e.add(domain.Blocker, "permission", "target", "GRANT "+strings.Join(missing, ", ")+" ON "+quote(name)+".* TO "+
				account(s.user), "user %s lacks %s on the database %s", s.user, strings.Join(missing, ", "), name)
		}
	}
	if s.variables["local_infile"] != "ON" {
		e.add(domain.Blocker, "bulk load", "target", "SET GLOBAL local_infile = ON",
			"the server takes no rows through LOAD DATA LOCAL (local_infile is off)")
	}
	if s.variables["read_only"] == "ON" && !s.above() {
		e.add(domain.Blocker, "read-only", "target", "SET GLOBAL read_only = OFF",
			"the server takes no writes (read_only is on)")
	}
	if s.variables["log_bin"] == "ON" && s.variables["binlog_format"] == "STATEMENT" {
		e.add(domain.Blocker, "binary log", "target", "SET GLOBAL binlog_format = 'ROW'",
			"the server logs statements, with which it refuses writes that take no locks between keys")
	}
	return e
}

// surroundings are what a session of the server would assume, and ours do not.
func (s server) surroundings() string {
	zone := s.variables["time_zone"]
	if zone == "SYSTEM" {
		zone = s.variables["system_time_zone"] + " (the system's)"
	}
	return fmt.Sprintf("time zone %s, new tables in %s; our sessions speak UTC and utf8mb4", zone,
		s.variables["collation_database"])
}

// SurveyTarget looks at everything a crossing needs of the target.
func (d *database) SurveyTarget(ctx context.Context, cat *domain.Catalog, plans []domain.TablePlan,
	set domain.Settings) ([]domain.Entry, error) {
	s, err := d.server(ctx)
	if err != nil {
		return nil, err
	}
	e := entries(s.targetEntries(d.end.Database))
	if trip, err := d.roundTrip(ctx); err == nil {
		e.add(domain.OK, "round trip", "target", "", "%s", trip.Round(10*time.Microsecond))
	}
	most, _ := strconv.Atoi(s.variables["max_connections"])
	if free := most - s.connected; free < set.Lanes+6 {
		e.add(domain.Blocker, "connections", "target", fmt.Sprintf("SET GLOBAL max_connections = %d", most+50),
			"%d connections are free; %d lanes need %d", free, set.Lanes, set.Lanes+6)
	}
	here, err := d.Catalog(ctx)
	if err != nil {
		return nil, err
	}
	holds, err := d.Holds(ctx, plans)
	if err != nil {
		return nil, err
	}
	e = append(e, engine.TargetTables(plans, here, holds, set, differences, qualified)...)
	e = append(e, engine.QuotedNames(plans, func(n string) bool { return reserved[strings.ToLower(n)] },
		"they are words of its SQL")...)
	if s.variables["lower_case_table_names"] == "1" {
		for _, p := range plans {
			if strings.ToLower(p.Target.Name) != p.Target.Name {
				e.add(domain.Notice, "names", p.Target.String(), "",
					"the server keeps names of tables in small letters (lower_case_table_names is 1)")
			}
		}
	}
	list := d.names(cat, plans, s.variables["lower_case_table_names"] != "0")
	e = append(e, naming.MariaDB.Judge(list)...)
	taken, err := d.takenNames(ctx, plans, list)
	if err != nil {
		return nil, err
	}
	e = append(e, taken...)
	e.add(domain.OK, "clock and texts", "target", "", "%s", s.surroundings())
	rows, err := d.pool.QueryContext(ctx, "SELECT trigger_name, event_object_table FROM information_schema.triggers "+
		"WHERE trigger_schema = ?", d.end.Database)
	if err != nil {
		return nil, d.explain(err)
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		var trigger, table string
		if err := rows.Scan(&trigger, &table); err != nil {
			return nil, d.explain(err)
		}
		if slices.ContainsFunc(plans, func(p domain.TablePlan) bool {
			return p.Target.Name == table && p.ExistingRowsPolicy(set) != "replace"
		}) {
			e.add(domain.Blocker, "trigger", table, "DROP TRIGGER "+quote(trigger), "the trigger %s of the standing table "+
				"would act on every row that we write, which the source's application did already; make it again after the cutover",
				trigger)
		}
	}
	if err := rows.Err(); err != nil {
		return nil, d.explain(err)
	}
	return append(e, engine.LeftReferences(plans)...), nil
}

// Check measures what a person wants to know before using the database.
func (d *database) Check(ctx context.Context) (engine.Facts, error) {
	s, err := d.server(ctx)
	if err != nil {
		return engine.Facts{}, err
	}
	trip, err := d.roundTrip(ctx)
	return engine.Facts{Version: s.named(), Encrypted: s.encryption(), RoundTrip: trip, User: s.user,
		AsSource: s.sourceEntries(true), AsTarget: s.targetEntries(d.end.Database)}, err
}

// roundTrip is the best of five.
func (d *database) roundTrip(ctx context.Context) (time.Duration, error) {
	best := time.Hour
	for range 5 {
		from := time.Now()
		if err := d.pool.PingContext(ctx); err != nil {
			return 0, d.explain(err)
		}
		best = min(best, time.Since(from))
	}
	return best, nil
}

// SurveySource looks at everything a crossing needs of the source.
func (d *database) SurveySource(ctx context.Context, plans []domain.TablePlan, capture bool) ([]domain.Entry, error) {
	s, err := d.server(ctx)
	if err != nil {
		return nil, err
	}
	e := entries(s.sourceEntries(capture))
	if trip, err := d.roundTrip(ctx); err == nil {
		e.add(domain.OK, "round trip", "source", "", "%s", trip.Round(10*time.Microsecond))
	}
	e.add(domain.OK, "clock and texts", "source", "", "%s", s.surroundings())
	var own sql.NullString
	if err := d.pool.QueryRowContext(ctx, "SELECT group_concat(table_name ORDER BY table_name SEPARATOR ', ') FROM "+
		"information_schema.tables WHERE table_schema = ? AND table_type = 'SEQUENCE'", d.end.Database).Scan(
		&own); err != nil {
		return nil, d.explain(err)
	}
	if own.String != "" {
		e.add(domain.Notice, "sequences", "source", "CREATE SEQUENCE on the target, with where each stands",
			"sequences of their own (%s) are not made on the target; numbered columns are", own.String)
	}
	e = append(e, d.replicaEntry(ctx, capture && s.variables["log_slave_updates"] != "ON")...)
	if capture {
		list, err := d.unlogged(ctx)
		if err != nil {
			return nil, err
		}
		e = append(e, list...)
	}
	list, err := d.leftBehind(ctx, plans, capture)
	if err != nil {
		return nil, err
	}
	e = append(e, list...)
	if !s.seesForeignKeys(d.end.Database) {
		verdict := domain.Notice
		if capture { // one that acts by itself would change rows unseen
			verdict = domain.Blocker
		}
		e.add(verdict, "permission", "source", "GRANT REFERENCES ON "+quote(d.end.Database)+".* TO "+account(s.user),
			"user %s cannot see foreign keys, so none is made on the target, and what they change by themselves cannot be told",
			s.user)
	}
	charsets := d.charsets(ctx)
	for i := range plans {
		if err := e.sourceTable(s, plans, i, capture, charsets); err != nil {
			return nil, err
		}
	}
	return e, nil
}

// sourceTable adds what one table of the plans is found to be like.
func (e *entries) sourceTable(s server, plans []domain.TablePlan, i int, capture bool, charsets decoders) error {
	p, name, image := &plans[i], plans[i].Source.String(), s.variables["binlog_row_image"]
	if !strings.EqualFold(p.Table.Storage, "InnoDB") {
		e.add(domain.Blocker, "storage engine", name, "ALTER TABLE "+qualified(p.Source)+" ENGINE = InnoDB",
			"it is kept by %s, which knows no snapshots", p.Table.Storage)
	}
	switch {
	case len(p.Key) == 0:
		e.add(domain.Notice, "no key", name, "ALTER TABLE "+qualified(p.Source)+" ADD PRIMARY KEY (…)",
			"it has no key: it is one chunk, and each changed row is found by all its values")
	case p.KeyOrder == "none":
		e.add(domain.Notice, "key order", name, "", "its key (%s) has an order of its own, which cannot be asked for: the "+
			"table is one chunk", quoteAll(p.Key))
	}
	if k := p.Table.PrimaryKey(); capture && image != "FULL" && len(p.Key) > 0 &&
		(k == nil || !slices.Equal(k.Columns, p.Key)) {
		e.add(domain.Blocker, "binary log", name, "SET GLOBAL binlog_row_image = 'FULL'; then let sessions connect anew",
			"with binlog_row_image %s the log does not always carry its key (%s), which is not its primary key",
			image, quoteAll(p.Key))
	}
	for _, c := range p.Columns {
		if capture && image != "FULL" && c.Computed != "" && !c.Stored && p.TargetSide != nil &&
			p.TargetSide.Engine != "mariadb" {
			e.add(domain.Blocker, "binary log", name, "SET GLOBAL binlog_row_image = 'FULL'; then let sessions connect anew",
				"%s is computed when it is read, so with binlog_row_image %s the log does not carry it", c.Name,
				image)
		}
	}
	for _, k := range p.Table.Constraints {
		if capture && k.Unlogged {
			verdict, text, remedy := followed(p, k, plans, image)
			e.add(verdict, "foreign key", name, remedy, "%s acts by itself (%s), which the server does not log: %s", k.Name,
				strings.TrimSpace(k.Rules), text)
		}
	}
	for _, c := range p.Columns {
		if !capture {
			break
		}
		if fraction, _ := bracketed(c.Type); fraction > 0 && strings.Contains(c.Type, "/* mariadb-5.3 */") {
			e.add(domain.Blocker, "binary log", name, "SET GLOBAL mysql56_temporal_format = ON; ALTER TABLE "+
				qualified(p.Source)+" FORCE", "%s keeps its fractions of a second in the form of servers before 10.1, which "+
				"cannot be read from the log", c.Name)
		}
		if _, err := newNormal(c, charsets); engine.Away(err) {
			return err
		} else if err != nil {
			e.add(domain.Blocker, "character set", name, "ALTER TABLE "+qualified(p.Source)+" CONVERT TO CHARACTER SET utf8mb4",
				"%s: %s", c.Name, err)
		}
	}
	return nil
}
