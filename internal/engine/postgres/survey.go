package postgres

import (
	"context"
	"fmt"
	"regexp"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/core/naming"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// server is what a survey asks first.
type server struct {
	version                                string
	num                                    int
	walLevel                               string
	slots, slotsUsed, senders, sendersUsed int
	super, replication, create, standby    bool
	ssl, role                              string
	quiet                                  bool // may keep triggers quiet
	keep                                   string
	connections, connectionsUsed           int
	zone, encoding, collate                string
	behind                                 float64 // seconds, of a standby
	ahead                                  bool    // it has replayed something
}

func (d *database) server(ctx context.Context) (server, error) {
	var s server
	err := d.pool.QueryRow(ctx, `
SELECT current_setting('server_version'), current_setting('server_version_num')::int, current_setting('wal_level'),
       current_setting('max_replication_slots')::int, (SELECT count(*) FROM pg_replication_slots),
       current_setting('max_wal_senders')::int, (SELECT count(*) FROM pg_stat_replication),
       r.rolsuper, r.rolreplication OR r.rolsuper, has_database_privilege(current_database(), 'CREATE'),
         pg_is_in_recovery(),
       coalesce((SELECT s.version || ' ' || s.cipher FROM pg_stat_ssl s WHERE s.pid = pg_backend_pid() AND s.ssl),
         'not encrypted'),
       current_user, r.rolsuper, coalesce(current_setting('max_slot_wal_keep_size', true), '-1'),
       current_setting('max_connections')::int, (SELECT count(*) FROM pg_stat_activity
         WHERE backend_type = 'client backend'),
       (SELECT reset_val FROM pg_settings WHERE name = 'TimeZone'), b.enc, b.datcollate,
       coalesce(extract(epoch FROM now() - pg_last_xact_replay_timestamp())::float8, 0),
         pg_last_xact_replay_timestamp() IS NOT NULL
  FROM (SELECT pg_encoding_to_char(encoding) AS enc, datcollate FROM pg_database WHERE datname = current_database()) b,
    pg_roles r WHERE r.rolname = current_user`).
		Scan(&s.version, &s.num, &s.walLevel, &s.slots, &s.slotsUsed, &s.senders, &s.sendersUsed,
			&s.super, &s.replication, &s.create, &s.standby, &s.ssl, &s.role, &s.quiet, &s.keep, &s.connections,
			&s.connectionsUsed, &s.zone, &s.encoding, &s.collate, &s.behind, &s.ahead)
	if err == nil && !s.quiet && s.num >= 150000 {
		err = d.pool.QueryRow(ctx, `SELECT has_parameter_privilege('session_replication_role', 'SET')`).Scan(&s.quiet)
	}
	return s, d.explain(err)
}

// Check measures what a person wants to know before using the database.
func (d *database) Check(ctx context.Context) (engine.Facts, error) {
	s, err := d.server(ctx)
	if err != nil {
		return engine.Facts{}, err
	}
	trip, err := d.roundTrip(ctx)
	if err != nil {
		return engine.Facts{}, err
	}
	return engine.Facts{
		Version: "PostgreSQL " + s.version, Encrypted: s.ssl, RoundTrip: trip, User: s.role,
		AsSource: append(s.versionEntry("source"), s.sourceEntries(true)...),
		AsTarget: append(s.versionEntry("target"), s.targetEntries()...),
	}, nil
}

// roundTrip is the best of five.
func (d *database) roundTrip(ctx context.Context) (time.Duration, error) {
	best := time.Hour
	for range 5 {
		from := time.Now()
		if err := d.pool.Ping(ctx); err != nil {
			return 0, d.explain(err)
		}
		best = min(best, time.Since(from))
	}
	return best, nil
}

type entries []domain.Entry

func (e *entries) add(v domain.Verdict, topic, subject, remedy, format string, args ...any) {
	*e = append(*e, domain.Entry{Verdict: v, Topic: topic, Subject: subject, Measured: fmt.Sprintf(format, args...),
		Remedy: remedy})
}

func (s server) sourceEntries(capture bool) []domain.Entry {
	var e entries
	e.add(domain.OK, "clock and texts", "source", "", "%s", s.surroundings())
	if s.standby && s.ahead {
		e.add(domain.Notice, "standby", "source", "", "the server is a standby, %.0f s behind its primary: what is written "+
			"there arrives with that delay", s.behind)
	}
	if !capture {
		return e
	}
	e = append(e, s.lacks()...)
	switch {
	case s.standby:
		e.add(domain.Blocker, "standby", "source", "connect to the primary server",
			"the server is a standby, on which changes cannot be captured")
	case s.walLevel != "logical":
		e.add(domain.Blocker, "log level", "source", "ALTER SYSTEM SET wal_level = 'logical'; then restart the server",
			"wal_level is %s, so the log does not carry row changes", s.walLevel)
	default:
		e.add(domain.OK, "log level", "source", "", "wal_level is logical")
	}
	free := s.slots - s.slotsUsed
	switch {
	case free < 1:
		e.add(domain.Blocker, "replication slots", "source",
			fmt.Sprintf("ALTER SYSTEM SET max_replication_slots = %d; then restart the server, or drop an unused slot",
				s.slots+4),
			"all %d slots are in use", s.slots)
	case free < 2:
		e.add(domain.Notice, "replication slots", "source",
			fmt.Sprintf("ALTER SYSTEM SET max_replication_slots = %d; then restart the server", s.slots+4),
			"1 of %d slots is free: enough for capture, not for reconciling while live", s.slots)
	default:
		e.add(domain.OK, "replication slots", "source", "", "%d of %d slots are free", free, s.slots)
	}
	if s.senders-s.sendersUsed < 2 {
		e.add(domain.Blocker, "log senders", "source",
			fmt.Sprintf("ALTER SYSTEM SET max_wal_senders = %d; then restart the server", s.senders+4),
			"%d of %d log senders are free; two are needed", s.senders-s.sendersUsed, s.senders)
	}
	if !s.replication {
		e.add(domain.Blocker, "permission", "source", "ALTER ROLE "+quote(s.role)+" REPLICATION",
			"role %s may not read the log", s.role)
	}
	if !s.create {
		e.add(domain.Blocker, "permission", "source", "GRANT CREATE ON DATABASE … TO "+quote(s.role),
			"role %s may not create a publication", s.role)
	}
	if s.keep != "-1" {
		e.add(domain.Notice, "log retention", "source",
			"ALTER SYSTEM SET max_slot_wal_keep_size = -1; SELECT pg_reload_conf()",
			"the server drops log a slot still needs beyond %s; if capture falls so far behind, the load has to start again",
			s.keep)
	}
	return e
}

func (s server) targetEntries() []domain.Entry {
	var e entries
	if s.standby {
		e.add(domain.Blocker, "standby", "target", "connect to the primary server",
			"the server is a standby and takes no writes")
	}
	if !s.create {
		e.add(domain.Blocker, "permission", "target", "GRANT CREATE ON DATABASE … TO "+quote(s.role),
			"role %s may not create schemas", s.role)
	}
	if s.quiet {
		e.add(domain.OK, "foreign keys", "target", "",
			"role %s may keep triggers quiet, so foreign keys are built right after the load", s.role)
	} else {
		e.add(domain.Notice, "foreign keys", "target", "GRANT SET ON PARAMETER session_replication_role TO "+quote(s.role),
			"role %s may not set session_replication_role, so foreign keys are built at cutover, inside the write pause", s.role)
	}
	return e
}

// AppliesQuietly reports whether foreign keys can stand while changes are applied.
func (d *database) AppliesQuietly(ctx context.Context) bool {
	s, err := d.server(ctx)
	return err == nil && s.quiet
}

// SurveySource looks at everything a crossing needs of the source.
func (d *database) SurveySource(ctx context.Context, plans []domain.TablePlan, capture bool) ([]domain.Entry, error) {
	s, err := d.server(ctx)
	if err != nil {
		return nil, err
	}
	e := entries(append(s.versionEntry("source"), s.sourceEntries(capture)...))
	if trip, err := d.roundTrip(ctx); err == nil {
		e.add(domain.OK, "round trip", "source", "", "%s", trip.Round(10*time.Microsecond))
	}
	var names []string
	for i := range plans {
		names = append(names, qualified(plans[i].Source))
	}
	rows, err := d.pool.Query(ctx, `SELECT has_table_privilege(t, 'SELECT') FROM unnest($1::text[])
  WITH ORDINALITY u(t, n) ORDER BY n`, names)
	if err != nil {
		return nil, d.explain(err)
	}
	may, err := pgx.CollectRows(rows, pgx.RowTo[bool])
	if err != nil {
		return nil, d.explain(err)
	}
	var missing []string
	for i := range plans {
		p, name := &plans[i], plans[i].Source.String()
		if !may[i] {
			e.add(domain.Blocker, "permission", name, "GRANT SELECT ON "+qualified(p.Source)+" TO "+quote(s.role),
				"role %s may not read it", s.role)
		}
		if capture && !p.Table.Owned {
			e.add(domain.Blocker, "permission", name, "GRANT the owner's role TO "+quote(s.role)+", or sign in as the owner",
				"role %s does not own it, so it cannot be published", s.role)
		}
		switch {
		case len(p.Key) == 0:
			e.add(domain.Notice, "no key", name, "ALTER TABLE "+qualified(p.Source)+" ADD PRIMARY KEY (…)",
				"it has no key: it is one chunk, and each changed row is found by all its values")
		case p.Table.PrimaryKey() == nil:
			e.add(domain.Notice, "no primary key", name, "", "rows are identified by the unique key (%s)", quoteAll(p.Key))
		}
		if capture && p.SetIdentity != "" {
			e.add(domain.Notice, "row identity", name, "",
				"its replica identity is set to %s until the crossing is closed, so that the log can identify rows", p.SetIdentity)
		}
		if p.KeyOrder == "source" && len(p.Key) > 0 {
			e.add(domain.Notice, "key order", name, "", "its key (%s) sorts in the server's own order; the source is asked "+
				"where a changed key falls", quoteAll(p.Key))
		}
		if p.Table.Rows < 0 {
			missing = append(missing, name)
		}
	}
	if len(missing) > 0 {
		e.add(domain.Notice, "statistics", "source", "ANALYZE",
			"%d tables have never been counted (%s …); their sizes are guesses", len(missing), missing[0])
	}
	list, err := d.inventory(ctx, plans, capture)
	return append(e, list...), err
}

// SurveyTarget looks at everything a crossing needs of the target.
func (d *database) SurveyTarget(ctx context.Context, cat *domain.Catalog, plans []domain.TablePlan,
	set domain.Settings) ([]domain.Entry, error) {
	s, err := d.server(ctx)
	if err != nil {
		return nil, err
	}
	e := entries(append(s.versionEntry("target"), s.targetEntries()...))
	if trip, err := d.roundTrip(ctx); err == nil {
		e.add(domain.OK, "round trip", "target", "", "%s", trip.Round(10*time.Microsecond))
	}
	if free := s.connections - s.connectionsUsed; free < set.Lanes+6 {
		e.add(domain.Blocker, "connections", "target", "ALTER SYSTEM SET max_connections = "+strconv.Itoa(s.connections+50)+
			"; then restart the server", "%d connections are free; %d lanes need %d", free, set.Lanes, set.Lanes+6)
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
	acts, err := d.acting(ctx, s, plans, set)
	if err != nil {
		return nil, err
	}
	e = append(e, acts...)
	e.add(domain.OK, "clock and texts", "target", "", "%s", s.surroundings())
	later := 0
	for i := range plans {
		if keyLater(&plans[i]) {
			later++
		}
	}
	e.add(domain.OK, "building", "target", "", "indexes are built after the rows, %d at once, and so are the primary "+
		"keys of %d tables; sessions that build have at least 256 MB of maintenance_work_mem, for themselves alone: "+
		"nothing has to be put back", set.BuildLanes, later)
	words, err := d.reserved(ctx)
	if err != nil {
		return nil, err
	}
	e = append(e, engine.QuotedNames(plans, func(n string) bool { return words[n] || !plainName.MatchString(n) },
		"they are words of its SQL, or not of small letters, digits and _")...)
	for _, x := range cat.Extensions {
		var there bool
		if err := d.pool.QueryRow(ctx, `SELECT EXISTS (SELECT 1 FROM pg_available_extensions WHERE name = $1)`, x).Scan(
			&there); err != nil {
			return nil, d.explain(err)
		}
		if !there {
			e.add(domain.Blocker, "extension", x, "install the extension's package on the target's machine",
				"the source uses extension %s, which the target does not have", x)
		}
	}
	for i := range plans {
		if plans[i].CrossEngine {
			continue
		}
		for _, n := range plans[i].Table.Needs {
			var there bool
			if n.Kind != "function" {
				continue
			}
			if err := d.pool.QueryRow(ctx, `SELECT to_regprocedure($1) IS NOT NULL`, n.Name).Scan(&there); err != nil {
				return nil, d.explain(err)
			}
			if !there {
				e.add(domain.Blocker, "function", plans[i].Source.String(), "make it on the target first: "+n.Definition,
					"its definition calls the function %s, which the target does not have", n.Name)
			}
		}
	}
	list := d.names(cat, plans)
	e = append(e, naming.Postgres.Judge(list)...)
	taken, err := d.takenNames(ctx, plans, list)
	if err != nil {
		return nil, err
	}
	return append(append(e, taken...), engine.LeftReferences(plans)...), nil
}

var plainName = regexp.MustCompile(`^[a-z_][a-z0-9_$]*$`)

// surroundings are what a session of the server would assume.
func (s server) surroundings() string {
	return fmt.Sprintf("time zone %s, texts in %s, ordered by %s; our sessions speak UTC and UTF-8", s.zone, s.encoding,
		s.collate)
}

// reserved are the words that cannot be names of columns without quotes.
func (d *database) reserved(ctx context.Context) (map[string]bool, error) {
	rows, err := d.pool.Query(ctx, `SELECT word FROM pg_get_keywords() WHERE catcode IN ('R', 'T')`)
	if err != nil {
		return nil, d.explain(err)
	}
	list, err := pgx.CollectRows(rows, pgx.RowTo[string])
	out := map[string]bool{}
	for _, w := range list {
		out[w] = true
	}
	return out, d.explain(err)
}
