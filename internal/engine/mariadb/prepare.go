package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// PrepareTarget makes bookkeeping and tables. The server commits each statement
// that defines something by itself, so an interruption leaves some of the tables;
// what stands and is alike is kept, so it can be repeated.
func (d *database) PrepareTarget(ctx context.Context, _ string, _ *domain.Catalog, plans []domain.TablePlan,
	s domain.Settings, told func(engine.Object, error)) error {
	here, err := d.Catalog(ctx)
	if err != nil {
		return err
	}
	for _, q := range bookkeepingTables {
		if _, err := d.pool.ExecContext(ctx, q); err != nil {
			return fmt.Errorf("making our bookkeeping database dusty_ferry: %w", d.explain(err))
		}
	}
	conn, err := d.session(ctx, landing...)
	if err != nil {
		return err
	}
	defer drop(conn)
	var failed []error
	for i := range plans {
		p := &plans[i]
		t := here.Table(p.Target)
		if t != nil && p.ExistingRowsPolicy(s) == "replace" {
			if _, err := conn.ExecContext(ctx, "DROP TABLE "+qualified(p.Target)); err != nil {
				return fmt.Errorf("dropping %s on the target, which is to be replaced: %w", p.Target, d.explain(err))
			}
			t = nil
		}
		if t != nil {
			if err := d.readyExisting(ctx, conn, p, t, s); err != nil {
				return err
			}
			continue
		}
		for _, o := range d.Creates(p) {
			_, err := conn.ExecContext(ctx, o.SQL)
			if err = d.explain(err); err != nil {
				failed = append(failed, fmt.Errorf("making table %s on the target: %w", p.Target, err))
			}
			told(o, err)
		}
	}
	if len(failed) > 0 {
		return errors.Join(failed...)
	}
	return engine.HeldToPlan(ctx, d, plans, differences)
}

// readyExisting empties a table that stood before, where that is wanted.
func (d *database) readyExisting(ctx context.Context, conn *sql.Conn, p *domain.TablePlan, t *domain.Table,
	s domain.Settings) error {
	if diff := differences(p, t); diff != "" {
		return domain.Conflict("the target table %s is unlike what the plan needs: %s; drop or alter it, or leave "+
			"the table out", p.Target, diff)
	}
	var some bool
	if err := conn.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM "+qualified(p.Target)+")").Scan(&some); err != nil {
		return d.explain(err)
	}
	switch way := p.ExistingRowsPolicy(s); {
	case !some || way == "keep" || way == engine.ReplaceRange:
		return nil
	case way == "refuse":
		return domain.Conflict("the target table %s holds rows; empty it yourself, or set existing_rows: empty to "+
			"have it emptied", p.Target)
	}
	if _, err := conn.ExecContext(ctx, "TRUNCATE TABLE "+qualified(p.Target)); err != nil {
		return fmt.Errorf("emptying %s on the target: %w", p.Target, d.explain(err))
	}
	return nil
}

// differences says in words how a standing target table is unlike the plan.
func differences(p *domain.TablePlan, t *domain.Table) string {
	var out []string
	for _, c := range p.TargetTableColumns() {
		h := t.Column(c.Name)
		switch {
		case h == nil:
			out = append(out, fmt.Sprintf("column %s is missing", c.Name))
		case plainType(*h) != plainType(c):
			out = append(out, fmt.Sprintf("column %s is %s, the plan wants %s", c.Name, h.Type, c.Type))
		case (h.Computed != "") != c.Generated:
			out = append(out, fmt.Sprintf("column %s is computed on one side only", c.Name))
		}
	}
	for _, h := range t.Columns {
		if !slices.ContainsFunc(p.TargetTableColumns(), func(c domain.Column) bool { return c.Name == h.Name }) &&
			h.NotNull && h.Default == "" && h.Identity == "" && h.Computed == "" {
			out = append(out, fmt.Sprintf("column %s is extra, and cannot be left empty", h.Name))
		}
	}
	if len(p.Key) > 0 && !slices.ContainsFunc(t.Keys, func(k domain.Key) bool { return slices.Equal(k.Columns, p.Key) }) {
		out = append(out, fmt.Sprintf("it has no key (%s)", strings.Join(p.Key, ", ")))
	}
	// A rule the source does not have could make one row overwrite another.
	for _, x := range t.Indexes {
		if x.Unique && !slices.Equal(x.Columns, p.Key) && !slices.ContainsFunc(p.Table.Indexes, func(o domain.Index) bool {
			return o.Unique && slices.Equal(o.Columns, x.Columns)
		}) {
			out = append(out, fmt.Sprintf("its unique index %s is not among the source's rules", x.Name))
		}
	}
	return strings.Join(out, "; ")
}

var widths = regexp.MustCompile(`^((?:tiny|small|medium|big)?int)\([0-9]+\)`)

// plainType is a type without the display width of whole numbers, which changes
// nothing; tinyint(1) alone is a word of its own.
func plainType(c domain.Column) string { return widths.ReplaceAllString(c.Type, "$1") }

// simpleDefault is what can stand behind DEFAULT without brackets.
var simpleDefault = regexp.MustCompile(
	`(?is)^('(?:[^']|'')*'|-?[0-9.]+|null|current_timestamp(\([0-6]?\))?|[bx]'[0-9a-f]*')$`)

// createTable is the statement that makes the table with its columns, checks and
// key; everything else waits until the rows are there.
func createTable(p *domain.TablePlan) string {
	var lines []string
	for _, c := range p.TargetTableColumns() {
		lines = append(lines, "  "+columnLine(p, c))
	}
	switch k := p.Table.PrimaryKey(); {
	case k != nil:
		lines = append(lines, "  PRIMARY KEY ("+quoteAll(k.Columns)+")")
	case len(p.Key) > 0 && !slices.ContainsFunc(p.Table.Indexes, func(x domain.Index) bool {
		return early(p, x) && slices.Equal(x.Columns, p.Key)
	}):
		lines = append(lines, "  UNIQUE INDEX ("+quoteAll(p.Key)+")")
	}
	for _, x := range p.Table.Indexes {
		if early(p, x) {
			lines = append(lines, "  "+x.Definition)
		}
	}
	for _, k := range p.Table.Constraints {
		if k.Kind == "check" {
			lines = append(lines, "  CONSTRAINT "+quote(k.Name)+" "+k.Definition)
		}
	}
	// in others keys are shorter, whatever the server's default
	out := "CREATE TABLE " + qualified(p.Target) + " (\n" + strings.Join(lines, ",\n") +
		"\n) ENGINE = InnoDB ROW_FORMAT = DYNAMIC"
	if c := p.Table.Collation; c != "" {
		charset, _, _ := strings.Cut(c, "_")
		out += " DEFAULT CHARACTER SET " + charset + " COLLATE " + c
	}
	if p.Table.Comment != "" {
		out += " COMMENT '" + escape.Replace(p.Table.Comment) + "'"
	}
	if p.Table.PartitionBy != "" {
		out += "\nPARTITION BY " + p.Table.PartitionBy
	}
	return out
}

// columnLine is a column as a statement defines it.
func columnLine(p *domain.TablePlan, c domain.Column) string {
	typ, check := c.Type, ""
	if c.BaseType == "json" && c.Collation == "" {
		// What the word json stands for, in the order of the table's other texts:
		// mixed orders cannot be compared with each other.
		typ, check = "longtext", " CHECK (json_valid("+quote(c.Name)+"))"
	}
	line := quote(c.Name) + " " + typ
	if c.Collation != "" && c.Collation != p.Table.Collation && c.Charset != "" && c.BaseType != "json" {
		line += " CHARACTER SET " + c.Charset + " COLLATE " + c.Collation
	}
	end := check
	if c.Hidden {
		end = " INVISIBLE" + end
	}
	if c.Comment != "" {
		end = " COMMENT '" + escape.Replace(c.Comment) + "'" + end
	}
	if c.Generated {
		return line + " GENERATED ALWAYS AS (" + c.Computed + ") " + map[bool]string{false: "VIRTUAL",
			true: "STORED"}[c.Stored] + end
	}
	if c.NotNull {
		line += " NOT NULL"
	} else {
		line += " NULL"
	}
	switch {
	case c.Identity != "":
		line += " AUTO_INCREMENT"
	case c.Default == "":
	case simpleDefault.MatchString(c.Default):
		line += " DEFAULT " + c.Default
	default:
		line += " DEFAULT (" + c.Default + ")"
	}
	if c.OnUpdate != "" {
		line += " ON UPDATE " + c.OnUpdate
	}
	return line + end
}

// early reports whether an index is made with its table: the one that identifies rows, the one
// that a numbered column must have, and those that find what foreign keys change.
func early(p *domain.TablePlan, x domain.Index) bool {
	if x.Columns == nil {
		return false
	}
	primary := p.Table.PrimaryKey()
	if x.Unique && primary == nil && slices.Equal(x.Columns, p.Key) {
		return true
	}
	if p.FindsReferrers(x) {
		return true
	}
	c := p.Table.Column(x.Columns[0])
	return c != nil && c.Identity != "" && (primary == nil || primary.Columns[0] != c.Name)
}

// Creates is one statement.
func (d *database) Creates(p *domain.TablePlan) []engine.Object {
	return engine.ByHand(p, []engine.Object{{Kind: "table", Name: p.Target.Name, Table: p.Target, SQL: createTable(p)}})
}

// Deferred lists what is made after the load: indexes, then foreign keys.
func (d *database) Deferred(_ *domain.Catalog, plans []domain.TablePlan) []engine.Object {
	var out, foreign []engine.Object
	chosen := map[domain.TableName]bool{}
	for _, p := range plans {
		chosen[p.Target] = true
	}
	for i := range plans {
		p := &plans[i]
		first, firstForeign := len(out), len(foreign)
		for _, x := range p.Table.Indexes {
			if !early(p, x) {
				kind := "index"
				if x.Unique {
					kind = "unique"
				}
				out = append(out, engine.Object{Kind: kind, Name: x.Name, Table: p.Target, SQL: "ALTER TABLE " + qualified(
					p.Target) + " ADD " + x.Definition})
			}
		}
		for _, k := range p.Table.Constraints {
			if k.Kind == "foreign" && chosen[k.References] {
				foreign = append(foreign, engine.Object{Kind: "foreign", Name: k.Name, Table: p.Target,
					SQL: "ALTER TABLE " + qualified(p.Target) + " ADD CONSTRAINT " + quote(k.Name) + " " + k.Definition})
			}
		}
		out = append(out[:first], engine.ByHand(p, out[first:])...)
		foreign = append(foreign[:firstForeign], engine.ByHand(p, foreign[firstForeign:])...)
	}
	return append(out, foreign...)
}

// stands reports whether a deferred object is there.
func (d *database) stands(ctx context.Context, o engine.Object) (bool, error) {
	query := "SELECT EXISTS (SELECT 1 FROM information_schema.statistics WHERE table_schema = ? AND table_name = ? AND " +
		"index_name = ?)"
	if o.Kind == "foreign" {
		query = "SELECT EXISTS (SELECT 1 FROM information_schema.referential_constraints WHERE constraint_schema = ? AND " +
			"table_name = ? AND constraint_name = ?)"
	}
	var there bool
	err := d.pool.QueryRowContext(ctx, query, o.Table.Schema, o.Table.Name, o.Name).Scan(&there)
	return there, d.explain(err)
}

// Build makes one deferred object. Foreign keys are made without reading the rows
// again, which would copy the table: the source has held them to the same rule.
func (d *database) Build(ctx context.Context, o engine.Object) error {
	if there, err := d.stands(ctx, o); err != nil || there {
		return err
	}
	conn, err := d.session(ctx, landing...)
	if err != nil {
		return err
	}
	defer drop(conn)
	stop, err := d.endsWith(ctx, conn)
	if err != nil {
		return err
	}
	defer stop()
	if _, err := conn.ExecContext(ctx, o.SQL); err != nil {
		return fmt.Errorf("building %s %s on %s: %w", o.Kind, o.Name, o.Table, d.explain(err))
	}
	return nil
}

// BuildsBeside: every index alters its table.
func (d *database) BuildsBeside(engine.Object) bool { return false }

// Unbuild drops deferred objects, foreign keys first.
func (d *database) Unbuild(ctx context.Context, objects []engine.Object) error {
	for _, o := range slices.Backward(objects) {
		what := "INDEX"
		if o.Kind == "foreign" {
			what = "FOREIGN KEY"
		}
		_, err := d.pool.ExecContext(ctx, fmt.Sprintf("ALTER TABLE IF EXISTS %s DROP %s IF EXISTS %s", qualified(o.Table),
			what, quote(o.Name)))
		if err != nil && !said(err, erNeededIndex) {
			return fmt.Errorf("dropping %s %s of %s: %w", o.Kind, o.Name, o.Table, d.explain(err))
		}
	}
	return nil
}

// erNeededIndex is said of an index that a foreign key needs.
const erNeededIndex = 1553

// Holds counts the rows of standing tables, up to a million and one each.
func (d *database) Holds(ctx context.Context, plans []domain.TablePlan) (map[domain.TableName]int64, error) {
	here, err := d.Catalog(ctx)
	if err != nil {
		return nil, err
	}
	stands := map[domain.TableName]bool{}
	for i := range here.Tables {
		stands[here.Tables[i].TableName] = true
	}
	out := map[domain.TableName]int64{}
	var asked []domain.TableName
	var parts []string
	count := func() error {
		rows, err := d.pool.QueryContext(ctx, strings.Join(parts, " UNION ALL "))
		if err != nil {
			return d.explain(err)
		}
		defer func() { _ = rows.Close() }()
		for rows.Next() {
			var i int
			var n int64
			if err := rows.Scan(&i, &n); err != nil {
				return d.explain(err)
			}
			out[asked[i]] = n
		}
		return d.explain(rows.Err())
	}
	for i, p := range plans {
		if stands[p.Target] {
			parts = append(parts, fmt.Sprintf("SELECT %d, count(*) FROM (SELECT 1 FROM %s LIMIT 1000001) x", len(asked),
				qualified(p.Target)))
			asked = append(asked, p.Target)
		}
		if len(parts) > 0 && (len(parts) == countedTogether || i == len(plans)-1) {
			if err := count(); err != nil {
				return nil, err
			}
			parts = nil
		}
	}
	return out, nil
}

// countedTogether is how many tables one statement of Holds counts.
const countedTogether = 100
