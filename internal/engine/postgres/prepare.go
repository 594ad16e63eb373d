package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// PrepareTarget makes bookkeeping, types, sequences and tables. What stands and
// is alike is kept; what stands and differs is an error, before anything moves.
func (d *database) PrepareTarget(ctx context.Context, crossing string, cat *domain.Catalog, plans []domain.TablePlan,
	s domain.Settings, told func(engine.Object, error)) error {
	here, err := d.Catalog(ctx)
	if err != nil {
		return err
	}
	if _, err := d.pool.Exec(ctx, bookkeepingTables); err != nil {
		return fmt.Errorf("making our bookkeeping schema dusty_ferry: %w", d.explain(err))
	}
	if err := d.forgetRemoved(ctx, crossing, plans); err != nil {
		return err
	}
	if err := pgx.BeginFunc(ctx, d.pool, func(tx pgx.Tx) error {
		b := &targetBuild{ctx: ctx, tx: tx, d: d, here: here, cat: cat, plans: plans, settings: s}
		for _, step := range []func() error{b.schemas, b.collations, b.types, b.sequences, b.dropReplaced,
			func() error { return b.tables(told) }, b.owners} {
			if err := step(); err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		return err
	}
	return engine.HeldToPlan(ctx, d, plans, differences)
}

// targetBuild makes what the tables of plans need on the target, and them, in one transaction.
type targetBuild struct {
	ctx      context.Context
	tx       pgx.Tx
	d        *database
	here     *domain.Catalog // of the target, as it was
	cat      *domain.Catalog // of the source
	plans    []domain.TablePlan
	settings domain.Settings
}

func (b *targetBuild) run(what, sql string) error {
	if _, err := b.tx.Exec(b.ctx, sql); err != nil {
		return fmt.Errorf("making %s on the target: %w", what, b.d.explain(err))
	}
	return nil
}

// schemas makes extensions, each in the schema where it is on the source, and schemas.
func (b *targetBuild) schemas() error {
	for _, e := range b.cat.Extensions {
		if slices.Contains(b.here.Extensions, e) {
			continue
		}
		place := b.cat.Places[e]
		if place == "" {
			place = "public"
		}
		if err := b.run("schema "+place, "CREATE SCHEMA IF NOT EXISTS "+quote(place)); err != nil {
			return err
		}
		// Without a place it would go where our sessions look, which is nowhere.
		if err := b.run("extension "+e, "CREATE EXTENSION IF NOT EXISTS "+quote(e)+" SCHEMA "+quote(place)); err != nil {
			return err
		}
	}
	for _, schema := range schemasOf(b.cat, b.plans) {
		if err := b.run("schema "+schema, "CREATE SCHEMA IF NOT EXISTS "+quote(schema)); err != nil {
			return err
		}
	}
	return nil
}

func (b *targetBuild) collations() error {
	for i := range b.plans {
		for _, n := range b.plans[i].Table.Needs {
			if n.Kind != "collation" || b.plans[i].CrossEngine {
				continue
			}
			if err := b.run("collation "+n.Name, n.Definition); err != nil {
				return err
			}
		}
	}
	return nil
}

func (b *targetBuild) types() error {
	for _, t := range b.cat.TypesOf(b.plans) {
		if slices.ContainsFunc(b.here.Types, func(h domain.UserType) bool { return h.Name == t.Name }) {
			continue
		}
		if err := b.run("type "+t.Name.String(), t.Definition); err != nil {
			return err
		}
	}
	return nil
}

func (b *targetBuild) sequences() error {
	for _, q := range b.cat.SequencesOf(b.plans) {
		if q.Identity || slices.ContainsFunc(b.here.Sequences, func(h domain.Sequence) bool { return h.Name == q.Name }) {
			continue
		}
		if err := b.run("sequence "+q.Name.String(), createSequence(q)); err != nil {
			return err
		}
	}
	return nil
}

// dropReplaced drops the tables that are replaced together, as foreign keys among them want it.
func (b *targetBuild) dropReplaced() error {
	var drop []string
	for i := range b.plans {
		if p := &b.plans[i]; b.here.Table(p.Target) != nil && p.ExistingRowsPolicy(b.settings) == "replace" {
			drop = append(drop, qualified(p.Target))
		}
	}
	if len(drop) == 0 {
		return nil
	}
	return b.run("room for tables that are replaced", "DROP TABLE "+strings.Join(drop, ", "))
}

// tables makes the tables, each for itself so that every error is told, and readies those that
// stand.
func (b *targetBuild) tables(told func(engine.Object, error)) error {
	var empty []string
	var failed []error
	var creates []engine.Object
	for i := range b.plans {
		p := &b.plans[i]
		if t := b.here.Table(p.Target); t != nil && p.ExistingRowsPolicy(b.settings) != "replace" {
			if diff := differences(p, t); diff != "" {
				return domain.Conflict("the target table %s is unlike the source's: %s; drop or alter it, or leave the table out",
					p.Target, diff)
			}
			some, err := b.d.readyExisting(b.ctx, b.tx, p, t, b.settings)
			if err != nil {
				return err
			}
			if some {
				empty = append(empty, qualified(p.Target))
			}
			continue
		}
		creates = append(creates, b.d.Creates(p)...)
	}
	for piece := range slices.Chunk(creates, createdAtOnce) {
		failed = append(failed, b.create(piece, told)...)
	}
	if len(failed) > 0 {
		return errors.Join(failed...)
	}
	if len(empty) == 0 {
		return nil
	}
	return b.run("tables empty", "TRUNCATE "+strings.Join(empty, ", "))
}

// createdAtOnce is how many objects are made behind one savepoint: every one that is let go costs
// the server the more the more tables there are in the transaction.
const createdAtOnce = 50

// create makes objects, several at once; where one fails, each for itself, so that every error is
// told.
func (b *targetBuild) create(list []engine.Object, told func(engine.Object, error)) (failed []error) {
	var all []string
	for _, o := range list {
		all = append(all, o.SQL)
	}
	err := pgx.BeginFunc(b.ctx, b.tx, func(tx pgx.Tx) error {
		_, err := tx.Exec(b.ctx, strings.Join(all, ";\n"), pgx.QueryExecModeSimpleProtocol)
		return err
	})
	for _, o := range list {
		var alone error
		if err != nil {
			alone = b.d.explain(pgx.BeginFunc(b.ctx, b.tx, func(tx pgx.Tx) error {
				_, err := tx.Exec(b.ctx, o.SQL)
				return err
			}))
		}
		if alone != nil {
			failed = append(failed, fmt.Errorf("making %s %s on the target: %w", o.Kind, o.Table, alone))
		}
		told(o, alone)
	}
	return failed
}

// owners gives sequences to the columns that own them on the source.
func (b *targetBuild) owners() error {
	for _, q := range b.cat.SequencesOf(b.plans) {
		if q.OwnedColumn == "" || q.Identity || !slices.ContainsFunc(b.plans, func(p domain.TablePlan) bool {
			return p.Source == q.OwnedBy
		}) {
			continue
		}
		if err := b.run("the owner of sequence "+q.Name.String(), fmt.Sprintf("ALTER SEQUENCE %s OWNED BY %s.%s",
			qualified(q.Name), qualified(q.OwnedBy), quote(q.OwnedColumn))); err != nil {
			return err
		}
	}
	return nil
}

// readyExisting gives a table that stood before the key its plan needs. It
// reports whether the table holds rows, which is an error unless the crossing
// says that they may go.
func (d *database) readyExisting(ctx context.Context, tx pgx.Tx, p *domain.TablePlan, t *domain.Table,
	s domain.Settings) (bool, error) {
	var some bool
	if err := tx.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM "+qualified(p.Target)+")").Scan(&some); err != nil {
		return false, d.explain(err)
	}
	way := p.ExistingRowsPolicy(s)
	switch {
	case some && way == "refuse":
		return false, domain.Conflict("the target table %s holds rows; empty it yourself, or set existing_rows: empty to "+
			"have it emptied", p.Target)
	case way == "keep" || way == engine.ReplaceRange:
		some = false
	}
	// Without its key, after a load that did not end, a table would be read through for the
	// rows of each chunk.
	if len(p.Key) > 0 && (!keyLater(p) || way == engine.ReplaceRange) &&
		!slices.ContainsFunc(t.Keys, func(k domain.Key) bool { return sameSet(k.Columns, p.Key) }) {
		named := ""
		if keyLater(p) {
			named = "CONSTRAINT " + quote(keyName(p)) + " "
		}
		_, err := tx.Exec(ctx, fmt.Sprintf("ALTER TABLE %s ADD %s%s", qualified(p.Target), named, keyBody(p)))
		return some, d.explain(err)
	}
	return some, nil
}

func sameSet(a, b []string) bool {
	a, b = slices.Clone(a), slices.Clone(b)
	slices.Sort(a)
	slices.Sort(b)
	return slices.Equal(a, b)
}

// differences says in words how a standing target table is unlike the plan.
func differences(p *domain.TablePlan, t *domain.Table) string {
	var out []string
	for _, c := range p.TargetTableColumns() {
		h := t.Column(c.Name)
		switch {
		case h == nil:
			out = append(out, fmt.Sprintf("column %s is missing", c.Name))
		case h.Type != c.Type:
			out = append(out, fmt.Sprintf("column %s is %s, the source has %s", c.Name, h.Type, c.Type))
		case h.Generated != c.Generated:
			out = append(out, fmt.Sprintf("column %s is generated on one side only", c.Name))
		}
	}
	for _, h := range t.Columns {
		if !slices.ContainsFunc(p.TargetTableColumns(), func(c domain.Column) bool { return c.Name == h.Name }) &&
			h.NotNull && h.Default == "" && h.Identity == "" {
			out = append(out, fmt.Sprintf("column %s is extra, and cannot be left empty", h.Name))
		}
	}
	return strings.Join(out, "; ")
}

func schemasOf(cat *domain.Catalog, plans []domain.TablePlan) []string {
	var out []string
	add := func(s string) {
		if !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	for _, t := range cat.TypesOf(plans) {
		add(t.Name.Schema)
	}
	for _, q := range cat.SequencesOf(plans) {
		add(q.Name.Schema)
	}
	for _, p := range plans {
		add(p.Target.Schema)
		for _, n := range p.Table.Needs {
			if name, err := domain.ParseTableName(n.Name); err == nil && n.Kind == "collation" && !p.CrossEngine {
				add(name.Schema)
			}
		}
		for _, part := range p.Table.Partitions {
			add(part.Table.Schema)
		}
	}
	return out
}

// keyKind is what the key by which rows are found is on the target.
func keyKind(p *domain.TablePlan) string {
	if k := p.Table.PrimaryKey(); k != nil && slices.Equal(k.Columns, p.Key) {
		return "PRIMARY KEY"
	}
	return "UNIQUE"
}

// keyBody is the key as a constraint.
func keyBody(p *domain.TablePlan) string {
	body := keyKind(p) + " (" + quoteAll(p.Key) + ")"
	at := slices.IndexFunc(p.Table.Keys, func(k domain.Key) bool { return slices.Equal(k.Columns, p.Key) })
	if at >= 0 && len(p.Table.Keys[at].Include) > 0 && !p.CrossEngine {
		body += " INCLUDE (" + quoteAll(p.Table.Keys[at].Include) + ")"
	}
	return body
}

// createTable returns the statements that make the table with its columns,
// checks and key; everything else waits until the rows are there.
func createTable(p *domain.TablePlan) []string {
	var lines []string
	for _, c := range p.TargetTableColumns() {
		line := "  " + quote(c.Name) + " " + c.Type
		if c.Collation != "" {
			line += " COLLATE " + c.Collation
		}
		switch {
		case c.Generated:
			line += " GENERATED ALWAYS AS (" + c.Default + ") STORED"
		case c.Identity != "":
			line += " GENERATED " + strings.ToUpper(c.Identity) + " AS IDENTITY"
			if c.Counter != "" {
				line += " (" + c.Counter + ")"
			}
		case c.Default != "":
			line += " DEFAULT " + c.Default
		}
		if c.NotNull {
			line += " NOT NULL"
		}
		lines = append(lines, line)
	}
	for _, k := range p.Table.Constraints {
		if k.Kind == "check" && !k.Unproved {
			lines = append(lines, "  CONSTRAINT "+quote(k.Name)+" "+k.Definition)
		}
	}
	if name := keyName(p); name != "" && !keyLater(p) {
		lines = append(lines, fmt.Sprintf("  CONSTRAINT %s %s", quote(name), keyBody(p)))
	}
	sql := "CREATE TABLE " + qualified(p.Target) + " (\n" + strings.Join(lines, ",\n") + "\n)"
	if p.Table.PartitionBy != "" {
		sql += " PARTITION BY " + p.Table.PartitionBy
	}
	out := []string{sql}
	if p.Table.Comment != "" {
		out = append(out, "COMMENT ON TABLE "+qualified(p.Target)+" IS "+literal(p.Table.Comment))
	}
	for _, c := range p.Columns {
		if c.Comment != "" {
			out = append(out, "COMMENT ON COLUMN "+qualified(p.Target)+"."+quote(c.Name)+" IS "+literal(c.Comment))
		}
	}
	for _, part := range p.Table.Partitions {
		sql := fmt.Sprintf("CREATE TABLE %s PARTITION OF %s %s", qualified(part.Table), qualified(part.Parent), part.Bound)
		if part.By != "" {
			sql += " PARTITION BY " + part.By
		}
		out = append(out, sql)
	}
	return out
}

// Creates lists the table, its comments and its partitions, and what finds rows that foreign keys
// change.
func (d *database) Creates(p *domain.TablePlan) []engine.Object {
	var out []engine.Object
	for i, sql := range createTable(p) {
		o := engine.Object{Kind: "table", Name: p.Target.Name, Table: p.Target, SQL: sql}
		switch {
		case i == 0:
		case strings.HasPrefix(sql, "COMMENT"):
			o.Kind = "comment"
		default:
			o.Kind = "partition"
		}
		out = append(out, o)
	}
	for _, x := range p.Table.Indexes {
		if p.FindsReferrers(x) {
			out = append(out, engine.Object{Kind: "index", Name: x.Name, Table: p.Target, SQL: x.Definition})
		}
	}
	return engine.ByHand(p, out)
}

// keyName is the name of the key's constraint or index on the source, which the
// target's gets too.
func keyName(p *domain.TablePlan) string {
	for _, k := range p.Table.Keys {
		if len(p.Key) > 0 && slices.Equal(k.Columns, p.Key) {
			return k.Name
		}
	}
	return ""
}

// keyLater reports whether the table gets its primary key after its rows. A
// partitioned one has it from the start, with its partitions.
func keyLater(p *domain.TablePlan) bool {
	return p.DeferPrimaryKey && p.Table.PartitionBy == "" && keyKind(p) == "PRIMARY KEY" && keyName(p) != ""
}

// Deferred lists what is made after the load: a primary key that waits for the rows or
// does not identify them here, indexes, unique and exclusion constraints, foreign keys.
func (d *database) Deferred(_ *domain.Catalog, plans []domain.TablePlan) []engine.Object {
	var out, foreign []engine.Object
	chosen := map[domain.TableName]bool{}
	for _, p := range plans {
		chosen[p.Source] = true
	}
	for _, p := range plans {
		first, firstForeign := len(out), len(foreign)
		t := &p.Table
		have := keyName(&p)
		if keyLater(&p) {
			out = append(out, engine.Object{Kind: "primary key", Name: have, Table: p.Target,
				SQL: fmt.Sprintf("ALTER TABLE %s ADD CONSTRAINT %s %s", qualified(p.Target), quote(have), keyBody(&p))})
		}
		if k := t.PrimaryKey(); k != nil && k.Name != have {
			out = append(out, engine.Object{Kind: "unique", Name: k.Name, Table: p.Target,
				SQL: fmt.Sprintf("ALTER TABLE %s ADD CONSTRAINT %s PRIMARY KEY (%s)", qualified(p.Target), quote(k.Name),
					quoteAll(k.Columns))})
		}
		for _, k := range t.Constraints {
			o := engine.Object{Kind: k.Kind, Name: k.Name, Table: p.Target,
				SQL: fmt.Sprintf("ALTER TABLE %s ADD CONSTRAINT %s %s", qualified(p.Target), quote(k.Name), k.Definition)}
			switch {
			case k.Name == have || k.Kind == "check" && !k.Unproved:
			case k.Kind != "foreign":
				out = append(out, o)
			case chosen[k.References]:
				foreign = append(foreign, o)
			}
		}
		for _, x := range t.Indexes {
			if x.Name != have && !p.FindsReferrers(x) {
				out = append(out, engine.Object{Kind: "index", Name: x.Name, Table: p.Target, SQL: x.Definition})
			}
		}
		out = append(out[:first], engine.ByHand(&p, out[first:])...)
		foreign = append(foreign[:firstForeign], engine.ByHand(&p, foreign[firstForeign:])...)
	}
	return append(out, foreign...)
}

// Build makes one deferred object.
func (d *database) Build(ctx context.Context, o engine.Object) error {
	conn, err := d.connect(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	// For this session alone, so that nothing has to be put back whatever happens.
	if _, err := conn.Exec(ctx, `
SELECT set_config('maintenance_work_mem', greatest(setting::bigint, 262144)::text || 'kB', false) FROM pg_settings
  WHERE name = 'maintenance_work_mem'`); err != nil {
		return d.explain(err)
	}
	_, err = conn.Exec(ctx, o.SQL)
	var pe *pgconn.PgError
	if errors.As(err, &pe) && (pe.Code == "42P07" || pe.Code == "42710" || pe.Code == "42P16") {
		if there, looked := stands(ctx, conn, o); looked != nil || there {
			return d.explain(looked) // it stands already
		}
	}
	if err != nil {
		return fmt.Errorf("building %s %s on %s: %w", o.Kind, o.Name, o.Table, d.explain(err))
	}
	return nil
}

// stands reports whether a deferred object is there: of that name, of that table, whole, and
// unique if it is to be. What has its name and is of something else is none.
func stands(ctx context.Context, conn *pgx.Conn, o engine.Object) (bool, error) {
	var there bool
	err := conn.QueryRow(ctx, `
SELECT EXISTS (SELECT FROM pg_constraint k JOIN pg_class t ON t.oid = k.conrelid
  JOIN pg_namespace n ON n.oid = t.relnamespace
                WHERE n.nspname = $1 AND t.relname = $2 AND k.conname = $3 AND $4 <> 'index')
    OR EXISTS (SELECT FROM pg_index i JOIN pg_class x ON x.oid = i.indexrelid JOIN pg_class t ON t.oid = i.indrelid
      JOIN pg_namespace n ON n.oid = t.relnamespace
                WHERE n.nspname = $1 AND t.relname = $2 AND x.relname = $3 AND $4 = 'index' AND i.indisvalid
                  AND (i.indisunique OR NOT $5))
    OR $6 AND EXISTS (SELECT FROM pg_constraint k JOIN pg_class t ON t.oid = k.conrelid
      JOIN pg_namespace n ON n.oid = t.relnamespace
                WHERE n.nspname = $1 AND t.relname = $2 AND k.contype = 'p')`,
		o.Table.Schema, o.Table.Name, o.Name, o.Kind, strings.Contains(o.SQL, "UNIQUE INDEX"), strings.Contains(o.SQL,
			"PRIMARY KEY")).Scan(&there)
	return there, err
}

// BuildsBeside: indexes of one table can be built at once; what alters it cannot.
func (d *database) BuildsBeside(o engine.Object) bool { return o.Kind == "index" }

// Unbuild drops deferred objects, foreign keys first.
func (d *database) Unbuild(ctx context.Context, objects []engine.Object) error {
	for _, o := range slices.Backward(objects) {
		sql := fmt.Sprintf("ALTER TABLE IF EXISTS %s DROP CONSTRAINT IF EXISTS %s", qualified(o.Table), quote(o.Name))
		if o.Kind == "index" {
			sql = "DROP INDEX IF EXISTS " + qualified(domain.TableName{Schema: o.Table.Schema, Name: o.Name})
		}
		_, err := d.pool.Exec(ctx, sql)
		var pe *pgconn.PgError
		if err != nil && (!errors.As(err, &pe) || pe.Code != "2BP01") {
			return fmt.Errorf("dropping %s %s of %s: %w", o.Kind, o.Name, o.Table, d.explain(err))
		}
	}
	return nil
}
