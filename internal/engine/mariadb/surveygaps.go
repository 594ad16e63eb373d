package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"

	"dustyferry/internal/domain"
)

// followed says whether what a foreign key does by itself can be followed: the rows
// that it changes are found on the target by the values of the row that they refer
// to.
func followed(p *domain.TablePlan, k domain.Constraint, plans []domain.TablePlan,
	image string) (domain.Verdict, string, string) {
	without := fmt.Sprintf("ALTER TABLE %s DROP FOREIGN KEY %s, then ADD it without%s, and let the application do what "+
		"it did; or make a crossing that does not follow changes", qualified(p.Source), quote(k.Name), k.Rules)
	at := slices.IndexFunc(plans, func(x domain.TablePlan) bool { return x.Source == k.References })
	if at < 0 {
		return domain.Blocker, "the table that it refers to is not taken along, so nothing tells when it acts",
			"take " + k.References.String() + " along; or: " + without
	}
	parent := &plans[at]
	if len(p.Key) == 0 {
		return domain.Blocker, "its own table has no key by which the rows could be named",
			"ALTER TABLE " + qualified(p.Source) + " ADD PRIMARY KEY (…)"
	}
	lacks := func(of *domain.TablePlan, names []string) string {
		for _, n := range names {
			i := slices.IndexFunc(of.Columns, func(c domain.Column) bool { return c.Name == n })
			switch {
			case i < 0:
				return n + " is left out"
			case of.Columns[i].Mask != "" || of.Columns[i].Expression != "":
				return "the values of " + n + " are replaced"
			case of.Columns[i].Charset != "" && !strings.HasSuffix(of.Columns[i].Collation, "_bin") && of.TargetSide != nil &&
				of.TargetSide.Engine != "mariadb":
				return n + " takes different texts for equal, which the target does not"
			}
		}
		return ""
	}
	if why := lacks(p, k.Columns); why != "" {
		return domain.Blocker, "its rows cannot be found on the target, as " + why, without
	}
	if why := lacks(parent, k.ReferenceColumns); why != "" {
		return domain.Blocker, "its rows cannot be found on the target, as " + why, without
	}
	if image != "FULL" && slices.ContainsFunc(k.ReferenceColumns, func(n string) bool {
		return !slices.Contains(parent.Key, n)
	}) {
		return domain.Blocker, "and with binlog_row_image " + image + " the log does not carry what was referred to",
			"SET GLOBAL binlog_row_image = 'FULL'; then let sessions connect anew"
	}
	return domain.OK, "it is followed; each row of " + k.References.String() +
		" that goes or changes costs one look on the target", ""
}

// replicaEntry tells how far the server is behind, where it follows another one and
// lets us ask.
//
// With silent, the server does not log what it replicates.
func (d *database) replicaEntry(ctx context.Context, silent bool) []domain.Entry {
	rows, err := d.pool.QueryContext(ctx, "SHOW REPLICA STATUS")
	if err != nil { // without the right REPLICA MONITOR nobody can tell
		return nil
	}
	defer func() { _ = rows.Close() }()
	cols, err := rows.Columns()
	if err != nil || !rows.Next() {
		return nil
	}
	values := make([]sql.NullString, len(cols))
	to := make([]any, len(cols))
	for i := range values {
		to[i] = &values[i]
	}
	if rows.Scan(to...) != nil {
		return nil
	}
	at := slices.Index(cols, "Seconds_Behind_Master")
	if at < 0 {
		return nil
	}
	var e entries
	if silent {
		e.add(domain.Blocker, "binary log", "source", "log_slave_updates = ON in the server's configuration; then restart "+
			"the server; or choose the server that it follows as the source", "the server follows another one and does not "+
			"log what it gets from there (log_slave_updates is off), so none of that would arrive")
	}
	if behind := values[at]; behind.Valid {
		e.add(domain.Notice, "replica", "source", "",
			"the server follows another one and is %s s behind it; what is written there arrives with that delay", behind.String)
	} else {
		e.add(domain.Notice, "replica", "source", "START REPLICA",
			"the server follows another one, but does not at the moment: what is written there does not arrive")
	}
	return e
}

// unlogged says which changes the server leaves out of its log by its own filters.
func (d *database) unlogged(ctx context.Context) ([]domain.Entry, error) {
	var file, offset string
	var do, ignore sql.NullString
	err := d.pool.QueryRowContext(ctx, "SHOW MASTER STATUS").Scan(&file, &offset, &do, &ignore)
	if errors.Is(err, sql.ErrNoRows) || err != nil { // said elsewhere
		return nil, nil
	}
	var e entries
	for name, list := range map[string]string{"binlog_do_db": do.String, "binlog_ignore_db": ignore.String} {
		if list != "" {
			e.add(domain.Blocker, "binary log", "source",
				"take "+name+" out of the server's configuration; then restart the server", "the server logs changes of some "+
					"databases only (%s is %s), which goes by where a session stands and not by what it writes to: changes "+
					"would be missing", name, list)
		}
	}
	return e, nil
}

// leftBehind says which tables of the database are of a kind that is in no plan, and what of
// those that are planned cannot be carried.
func (d *database) leftBehind(ctx context.Context, plans []domain.TablePlan, capture bool) ([]domain.Entry, error) {
	rows, err := d.pool.QueryContext(ctx, `
SELECT t.table_name, t.table_type, coalesce((SELECT group_concat(k.column_name
  ORDER BY k.ordinal_position SEPARATOR ', ') FROM information_schema.columns k
         WHERE k.table_schema = t.table_schema AND k.table_name = t.table_name AND k.column_type LIKE '%COMPRESSED%'),
           ''),
       coalesce((SELECT group_concat(DISTINCT x.index_name ORDER BY x.index_name SEPARATOR ', ')
         FROM information_schema.statistics x
         WHERE x.table_schema = t.table_schema AND x.table_name = t.table_name AND x.index_type = 'HASH'
           AND t.engine = 'InnoDB'), '')
  FROM information_schema.tables t WHERE t.table_schema = ? AND t.table_type NOT IN ('VIEW', 'SEQUENCE', 'SYSTEM VIEW')
    ORDER BY 1`, d.end.Database)
	if err != nil {
		return nil, d.explain(err)
	}
	defer func() { _ = rows.Close() }()
	var e entries
	for rows.Next() {
		var table, kind, compressed, hashed string
		if err := rows.Scan(&table, &kind, &compressed, &hashed); err != nil {
			return nil, d.explain(err)
		}
		name := domain.TableName{Schema: d.end.Database, Name: table}
		planned := slices.ContainsFunc(plans, func(p domain.TablePlan) bool { return p.Source == name })
		switch {
		case kind == "SYSTEM VERSIONED":
			e.add(domain.Notice, "left behind", name.String(), "ALTER TABLE "+qualified(name)+
				" DROP SYSTEM VERSIONING, or carry it by hand",
				"it is system-versioned, and is not carried: neither its rows nor its history")
		case kind != "BASE TABLE":
			e.add(domain.Notice, "left behind", name.String(), "carry it by hand", "it is a %s, and is not carried",
				strings.ToLower(kind))
		case !planned:
		case hashed != "" && capture:
			e.add(domain.Blocker, "hidden columns", name.String(), "DROP INDEX "+hashed+" ON "+qualified(name)+
				", and make it again after the cutover; or leave the table out",
				"its unique key %s is on values too long for an index, for which the server keeps a hidden column in its log",
				hashed)
		case compressed != "":
			e.add(domain.Blocker, "compressed columns", name.String(),
				"ALTER TABLE … MODIFY them without COMPRESSED, or leave the table out",
				"columns %s are COMPRESSED, which its log writes in a form that is not read here", compressed)
		}
	}
	return e, d.explain(rows.Err())
}
