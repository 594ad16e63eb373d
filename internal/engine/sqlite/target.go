package sqlite

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"dustyferry/internal/core/columns"
	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// What a file as a target keeps of ours: marks of chunks, in the same transaction as their rows. The
// table is there from the first crossing to the last one's end.
const (
	ours  = "dusty_ferry_chunk_mark"
	marks = `CREATE TABLE IF NOT EXISTS ` + ours + ` (
  crossing TEXT NOT NULL, chunk INTEGER NOT NULL, epoch INTEGER NOT NULL, landed INTEGER NOT NULL,
  snapshot TEXT NOT NULL DEFAULT '', rows INTEGER NOT NULL DEFAULT 0, bytes INTEGER NOT NULL DEFAULT 0,
  hash INTEGER NOT NULL DEFAULT 0, at TEXT NOT NULL DEFAULT CURRENT_TIMESTAMP,
  PRIMARY KEY (crossing, chunk)) WITHOUT ROWID`
)

// declared is how a column of a neutral type is declared, so that what it holds comes back as it was.
func declared(c domain.Column) string {
	switch kindOf(c) {
	case bigint:
		return "INTEGER"
	case double:
		return "REAL"
	case boolean:
		return "BOOLEAN"
	case bytea:
		return "BLOB"
	case numeric:
		return strings.Replace(c.Type, "numeric", "DECIMAL", 1)
	}
	switch c.BaseType {
	case date:
		return "DATE"
	case moment:
		return "DATETIME"
	case varchar:
		return strings.Replace(c.Type, varchar, "VARCHAR", 1)
	case timeOfDay:
		return "TIME"
	}
	return "TEXT"
}

// exactDigits are those of a decimal number that a floating-point one gives back.
const exactDigits = 15

// kindOf is how values of a neutral type are stored: as whole numbers, floating-point ones, truths, bytes,
// decimal numbers that a floating-point number holds exactly, or else as texts.
func kindOf(c domain.Column) string {
	switch c.BaseType {
	case "smallint", "integer", bigint:
		return bigint
	case "real", double:
		return double
	case boolean, bytea:
		return c.BaseType
	case numeric:
		if m := digitsOf.FindStringSubmatch(c.Type); m != nil {
			if most, err := strconv.Atoi(m[1]); err == nil && most <= exactDigits {
				return numeric
			}
		}
	}
	return text
}

// stored is a neutral text as it is stored.
func stored(c domain.Column, kind string, v []byte) (driver.Value, error) {
	if v == nil {
		return nil, nil
	}
	s := string(v)
	switch kind {
	case bigint, boolean, bytea, double:
		out := value(kind, s)
		_, isText := out.(string)
		if f, ok := out.(float64); ok && f != f {
			return nil, domain.Conflict("column %s: a SQLite file has no NaN", c.Name)
		}
		if isText {
			return nil, domain.Conflict("column %s: %.40q is no %s", c.Name, s, c.BaseType)
		}
		if n, ok := out.(int64); ok && kind == double {
			return float64(n), nil
		}
		return out, nil
	case numeric:
		if strings.ContainsAny(s, "NI") {
			return nil, domain.Conflict("column %s: a SQLite file has no %s among its numbers", c.Name, s)
		}
	}
	if strings.IndexByte(s, 0) >= 0 {
		return nil, domain.Conflict("column %s: a text with a zero byte in it", c.Name)
	}
	return s, nil
}

// writing opens a connection that may write. One at a time does: who comes meanwhile waits.
func (d *database) writing(ctx context.Context) (*conn, func(), error) {
	select {
	case d.turn <- struct{}{}:
	case <-ctx.Done():
		return nil, nil, ctx.Err()
	}
	c, err := d.open(ctx, "rw")
	if err == nil {
		err = c.exec(ctx, "PRAGMA foreign_keys = OFF")
	}
	if err != nil {
		<-d.turn
		return nil, nil, d.explain(err)
	}
	return c, func() { c.close(); <-d.turn }, nil
}

// transaction runs f in a transaction of its own.
func (d *database) transaction(ctx context.Context, f func(c *conn) error) error {
	c, end, err := d.writing(ctx)
	if err != nil {
		return err
	}
	defer end()
	if err := c.exec(ctx, "BEGIN IMMEDIATE"); err != nil {
		return d.explain(err)
	}
	if err := f(c); err != nil {
		_ = c.exec(context.WithoutCancel(ctx), "ROLLBACK")
		return d.explain(err)
	}
	return d.explain(c.exec(ctx, "COMMIT"))
}

// here is the catalog by the names that plans use: a file has one schema, whatever they call it.
func (d *database) here(ctx context.Context, plans []domain.TablePlan) (*domain.Catalog, error) {
	cat, err := d.Catalog(ctx)
	if err != nil {
		return nil, err
	}
	by := map[string]domain.Table{}
	for _, t := range cat.Tables {
		by[strings.ToLower(t.Name)] = t
	}
	out := &domain.Catalog{}
	for i := range plans {
		if t, ok := by[strings.ToLower(plans[i].Target.Name)]; ok {
			t.TableName = plans[i].Target
			out.Tables = append(out.Tables, t)
		}
	}
	return out, nil
}

// Holds counts rows of tables that stand.
func (d *database) Holds(ctx context.Context, plans []domain.TablePlan) (map[domain.TableName]int64, error) {
	here, err := d.here(ctx, plans)
	if err != nil {
		return nil, err
	}
	c, err := d.conn(ctx)
	if err != nil {
		return nil, err
	}
	defer c.close()
	out := map[domain.TableName]int64{}
	for _, t := range here.Tables {
		if err := c.rows(ctx, "SELECT count(*) FROM (SELECT 1 FROM "+quote(t.Name)+" LIMIT 1000001)",
			func(r []driver.Value) error { out[t.TableName] = r[0].(int64); return nil }); err != nil {
			return nil, d.explain(err)
		}
	}
	return out, nil
}

// SurveyTarget says what stands where the plans will write.
func (d *database) SurveyTarget(ctx context.Context, _ *domain.Catalog, plans []domain.TablePlan,
	set domain.Settings) ([]domain.Entry, error) {
	here, err := d.here(ctx, plans)
	if err != nil {
		return nil, err
	}
	holds, err := d.Holds(ctx, plans)
	if err != nil {
		return nil, err
	}
	out := engine.TargetTables(plans, here, holds, set, d.DiffTable,
		func(n domain.TableName) string { return quote(n.Name) })
	out = append(out, engine.LeftReferences(plans)...)
	acts, err := d.triggers(ctx, here)
	if err != nil {
		return nil, err
	}
	for _, t := range here.Tables {
		if names := acts[t.TableName]; names != nil {
			out = append(out, domain.Entry{Verdict: domain.Blocker, Topic: engine.TopicActs, Subject: t.TableName.String(),
				Measured: "it has triggers, which would act on each row that lands: " + strings.Join(names, ", "),
				Remedy:   "DROP TRIGGER " + quote(names[0]) + ", and make them again after the load"})
		}
	}
	first := map[string]domain.TableName{}
	for _, p := range plans {
		name := strings.ToLower(p.Target.Name)
		if o, twice := first[name]; twice {
			out = append(out, domain.Entry{Verdict: domain.Blocker, Topic: engine.TopicTarget, Subject: p.Target.String(),
				Measured: fmt.Sprintf("a file has one schema, and %s would be the same table as %s", p.Target, o),
				Remedy:   "rename one of them by a rule"})
		}
		first[name] = p.Target
		if strings.HasPrefix(name, "sqlite_") || isOurs(name) {
			out = append(out, domain.Entry{Verdict: domain.Blocker, Topic: engine.TopicTarget, Subject: p.Target.String(),
				Measured: "the name is kept for SQLite, or for us", Remedy: "rename it by a rule"})
		}
	}
	return out, nil
}

// triggers are those of tables that stand, by table.
func (d *database) triggers(ctx context.Context, here *domain.Catalog) (map[domain.TableName][]string, error) {
	c, err := d.conn(ctx)
	if err != nil {
		return nil, err
	}
	defer c.close()
	by := map[string][]string{}
	if err := c.rows(ctx, "SELECT lower(tbl_name), name FROM sqlite_schema WHERE type = 'trigger' ORDER BY name",
		func(r []driver.Value) error {
			by[r[0].(string)] = append(by[r[0].(string)], r[1].(string))
			return nil
		}); err != nil {
		return nil, d.explain(err)
	}
	out := map[domain.TableName][]string{}
	for _, t := range here.Tables {
		if names := by[strings.ToLower(t.Name)]; names != nil {
			out[t.TableName] = names
		}
	}
	return out, nil
}

// DiffTable says in words how a table that stands could not hold what the plan brings.
func (d *database) DiffTable(p *domain.TablePlan, t *domain.Table) string {
	d.mu.Lock()
	as := d.seen.declared[strings.ToLower(t.Name)]
	d.mu.Unlock()
	for _, c := range p.Columns {
		there := t.Column(c.Name)
		if there == nil {
			return "it has no column " + c.Name
		}
		if c.Generated {
			continue
		}
		want, has := affinity(declared(c)), affinity(as[c.Name])
		if kindOf(c) == text && (c.BaseType == date || c.BaseType == moment || c.BaseType == timeOfDay) {
			continue // texts that look like no number are kept by every column
		}
		if want != has && has != "blob" && !(want == "integer" && has == "numeric") {
			return fmt.Sprintf("column %s is declared %s, which makes other values of %s", c.Name, as[c.Name], c.Type)
		}
	}
	for _, there := range t.Columns {
		if there.NotNull && there.Default == "" && !slices.ContainsFunc(p.Columns, func(c domain.Column) bool {
			return c.Name == there.Name
		}) && !slices.ContainsFunc(t.Keys, func(k domain.Key) bool { return slices.Contains(k.Columns, there.Name) }) {
			return "its column " + there.Name + " may not be empty, and nothing is brought for it"
		}
	}
	return ""
}

// createTable makes a table with its keys, and its foreign keys, which cannot come later.
func createTable(p *domain.TablePlan, refers func(domain.TableName) bool) string {
	var lines []string
	for _, c := range p.TargetTableColumns() {
		line := quote(c.Name) + " " + declared(c)
		if c.NotNull {
			line += " NOT NULL"
		}
		if c.Default != "" && (isNumber.MatchString(c.Default) || isString.MatchString(c.Default)) {
			line += " DEFAULT " + c.Default
		}
		lines = append(lines, line)
	}
	list := func(names []string) string {
		out := make([]string, len(names))
		for i, n := range names {
			out[i] = quote(n)
		}
		return "(" + strings.Join(out, ", ") + ")"
	}
	for _, k := range p.Table.Keys {
		lines = append(lines, map[bool]string{true: "PRIMARY KEY ", false: "UNIQUE "}[k.Primary]+list(k.Columns))
	}
	for _, k := range p.Table.Constraints {
		if k.Kind == "foreign" && len(k.Columns) > 0 && refers(k.References) {
			lines = append(lines, "FOREIGN KEY "+list(k.Columns)+" REFERENCES "+quote(k.References.Name)+" "+
				list(k.ReferenceColumns)+k.Rules)
		}
	}
	return "CREATE TABLE " + quote(p.Target.Name) + " (\n  " + strings.Join(lines, ",\n  ") + "\n)"
}

// Creates lists what is run for a table that does not stand.
func (d *database) Creates(p *domain.TablePlan) []engine.Object {
	return engine.ByHand(p, []engine.Object{{Kind: "table", Name: p.Target.Name, Table: p.Target,
		SQL: createTable(p, func(domain.TableName) bool { return true })}})
}

// PrepareTarget makes our table and those of the plans.
func (d *database) PrepareTarget(ctx context.Context, _ string, _ *domain.Catalog, plans []domain.TablePlan,
	s domain.Settings, told func(engine.Object, error)) error {
	here, err := d.here(ctx, plans)
	if err != nil {
		return err
	}
	holds, err := d.Holds(ctx, plans)
	if err != nil {
		return err
	}
	acts, err := d.triggers(ctx, here)
	if err != nil {
		return err
	}
	chosen := map[domain.TableName]bool{}
	for _, p := range plans {
		chosen[p.Target] = true
	}
	return d.transaction(ctx, func(c *conn) error {
		if err := c.exec(ctx, marks); err != nil {
			return err
		}
		var failed []error
		for i := range plans {
			p := &plans[i]
			t, way := here.Table(p.Target), p.ExistingRowsPolicy(s)
			if t != nil && way == "replace" {
				if err := c.exec(ctx, "DROP TABLE "+quote(t.Name)); err != nil {
					return err
				}
				t = nil
			}
			if t != nil {
				diff := d.DiffTable(p, t)
				switch {
				case acts[p.Target] != nil:
					return domain.Conflict("table %s stands in the file and has triggers (%s), which would act on each row that "+
						"lands; drop them, and make them again after the load", p.Target.Name, strings.Join(acts[p.Target], ", "))
				case diff != "":
					return domain.Conflict("table %s stands in the file and is unlike what the plan needs: %s", p.Target.Name, diff)
				case holds[p.Target] == 0, way == "keep", way == engine.ReplaceRange:
				case way == "empty":
					if err := c.exec(ctx, "DELETE FROM "+quote(t.Name)); err != nil {
						return err
					}
				default:
					return domain.Conflict("table %s stands in the file and holds rows; empty it, or set existing_rows", p.Target.Name)
				}
				continue
			}
			for _, o := range engine.ByHand(p, []engine.Object{{Kind: "table", Name: p.Target.Name, Table: p.Target,
				SQL: createTable(p, func(n domain.TableName) bool { return chosen[n] })}}) {
				err := d.explain(c.exec(ctx, o.SQL))
				if err != nil {
					failed = append(failed, fmt.Errorf("making table %s in the file: %w", p.Target.Name, err))
				}
				told(o, err)
			}
		}
		return errors.Join(failed...)
	})
}

// Fence raises a chunk's epoch.
func (d *database) Fence(ctx context.Context, crossing string, chunk, epoch int64) (m *engine.Mark, err error) {
	err = d.transaction(ctx, func(c *conn) error {
		if err := c.exec(ctx, "INSERT INTO "+ours+
			" (crossing, chunk, epoch, landed) VALUES (?, ?, ?, 0) ON CONFLICT DO UPDATE "+
			"SET epoch = CASE WHEN landed THEN epoch ELSE max(epoch, excluded.epoch) END", crossing, chunk, epoch); err != nil {
			return err
		}
		return c.rows(ctx, "SELECT epoch, snapshot, rows, bytes, hash FROM "+ours+
			" WHERE crossing = ? AND chunk = ? AND landed",
			func(r []driver.Value) error {
				snap, err := domain.ParseSnapshot(r[1].(string))
				m = &engine.Mark{Crossing: crossing, Chunk: chunk, Epoch: r[0].(int64), Snapshot: snap,
					Sum: rowhash.Sum{Rows: r[2].(int64), Bytes: r[3].(int64), Hash: uint64(r[4].(int64))}}
				return err
			}, crossing, chunk)
	})
	return m, err
}

// Marked lists chunks that have landed.
func (d *database) Marked(ctx context.Context, crossing string) (map[int64]bool, error) {
	out := map[int64]bool{}
	c, err := d.conn(ctx)
	if err != nil {
		return nil, err
	}
	defer c.close()
	err = c.rows(ctx, "SELECT chunk FROM "+ours+" WHERE crossing = ? AND landed", func(r []driver.Value) error {
		out[r[0].(int64)] = true
		return nil
	}, crossing)
	return out, d.explain(err)
}

// ClearTable empties a table with its marks.
func (d *database) ClearTable(ctx context.Context, crossing, _ string, p *domain.TablePlan, chunks []int64) error {
	return d.transaction(ctx, func(c *conn) error {
		for _, n := range chunks {
			if err := c.exec(ctx, "UPDATE "+ours+" SET landed = 0 WHERE crossing = ? AND chunk = ?", crossing, n); err != nil {
				return err
			}
		}
		return c.exec(ctx, "DELETE FROM "+quote(p.Target.Name))
	})
}

// Forget removes a crossing's marks, and the table with the last one's.
func (d *database) Forget(ctx context.Context, crossing string) error {
	return d.transaction(ctx, func(c *conn) error {
		there, others := false, false
		if err := c.rows(ctx, "SELECT 1 FROM sqlite_schema WHERE name = ?", func([]driver.Value) error {
			there = true
			return nil
		}, ours); err != nil || !there {
			return err
		}
		if err := c.exec(ctx, "DELETE FROM "+ours+" WHERE crossing = ?", crossing); err != nil {
			return err
		}
		if err := c.rows(ctx, "SELECT 1 FROM "+ours+" LIMIT 1", func([]driver.Value) error {
			others = true
			return nil
		}); err != nil || others {
			return err
		}
		return c.exec(ctx, "DROP TABLE "+ours)
	})
}

// AppliesQuietly: no foreign key is held by our connections.
func (d *database) AppliesQuietly(context.Context) bool { return true }

// Alters are none: changes are not followed into a file.
func (d *database) Alters(*domain.TablePlan, []columns.Change) []string { return nil }

// Partitions are none.
func (d *database) Partitions([]domain.Partition) []string { return nil }

// Run carries out a person's statement.
func (d *database) Run(ctx context.Context, sql string) error {
	c, end, err := d.writing(ctx)
	if err != nil {
		return err
	}
	defer end()
	return d.explain(c.exec(ctx, sql))
}

// Deferred lists indexes, and for each table with foreign keys that they are held.
func (d *database) Deferred(_ *domain.Catalog, plans []domain.TablePlan) []engine.Object {
	var out, foreign []engine.Object
	for i := range plans {
		p := &plans[i]
		var objects []engine.Object
		for _, x := range p.Table.Indexes {
			if x.Columns == nil {
				continue
			}
			kind, what := "index", "INDEX"
			if x.Unique {
				kind, what = "unique", "UNIQUE INDEX"
			}
			names := make([]string, len(x.Columns))
			for n, c := range x.Columns {
				names[n] = quote(c)
			}
			objects = append(objects, engine.Object{Kind: kind, Name: x.Name, Table: p.Target, SQL: fmt.Sprintf(
				"CREATE %s %s ON %s (%s)", what, quote(x.Name), quote(p.Target.Name), strings.Join(names, ", "))})
		}
		out = append(out, engine.ByHand(p, objects)...)
		if slices.ContainsFunc(p.Table.Constraints, func(k domain.Constraint) bool { return k.Kind == "foreign" }) {
			foreign = append(foreign, engine.Object{Kind: "foreign", Name: p.Target.Name + "_check", Table: p.Target,
				SQL: "PRAGMA foreign_key_check(" + quote(p.Target.Name) + ")"})
		}
	}
	return append(out, foreign...)
}

// Build makes an index, or looks whether a table's foreign keys are held.
func (d *database) Build(ctx context.Context, o engine.Object) error {
	if o.Kind == "foreign" {
		c, err := d.conn(ctx)
		if err != nil {
			return err
		}
		defer c.close()
		broken := int64(0)
		first := ""
		if err := c.rows(ctx, o.SQL, func(r []driver.Value) error {
			if broken++; broken == 1 {
				first = fmt.Sprintf("the row with rowid %v refers to what is not in %v", r[1], r[2])
			}
			return nil
		}); err != nil {
			return d.explain(err)
		}
		if broken > 0 {
			return domain.Conflict("%s of %s break a foreign key: %s", domain.Many(broken, "row"), o.Table.Name, first)
		}
		return nil
	}
	return d.transaction(ctx, func(c *conn) error {
		there := false
		if err := c.rows(ctx, "SELECT 1 FROM sqlite_schema WHERE type = 'index' AND name = ?", func([]driver.Value) error {
			there = true
			return nil
		}, o.Name); err != nil || there {
			return err
		}
		if err := c.exec(ctx, o.SQL); err != nil {
			return fmt.Errorf("building %s %s on %s: %w", o.Kind, o.Name, o.Table.Name, d.explain(err))
		}
		return nil
	})
}

// BuildsBeside: a file has one writer.
func (d *database) BuildsBeside(engine.Object) bool { return false }

// Unbuild drops indexes again.
func (d *database) Unbuild(ctx context.Context, objects []engine.Object) error {
	return d.transaction(ctx, func(c *conn) error {
		for _, o := range slices.Backward(objects) {
			if o.Kind == "foreign" {
				continue
			}
			if err := c.exec(ctx, "DROP INDEX IF EXISTS "+quote(o.Name)); err != nil {
				return err
			}
		}
		return nil
	})
}

// created makes an empty file.
func (d *database) created(ctx context.Context) error {
	c, err := d.open(ctx, "rwc")
	if err != nil {
		return err
	}
	defer c.close()
	return d.explain(errors.Join(c.exec(ctx, "CREATE TABLE dusty_ferry_begins (at TEXT)"),
		c.exec(ctx, "DROP TABLE dusty_ferry_begins")))
}

var _ interface {
	engine.Lands
	engine.Defines
} = &database{}
