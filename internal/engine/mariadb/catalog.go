package mariadb

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"
	"time"

	"dustyferry/internal/domain"
)

// Catalog reads what the database holds, in a number of queries that does not grow with its
// tables, but for those that are partitioned or went away. The server's tables of tables are not
// read at one moment: one that is being altered is missing in some of them for an instant. So it
// is read again until nothing changed meanwhile.
func (d *database) Catalog(ctx context.Context) (*domain.Catalog, error) {
	for try := 1; ; try++ {
		c := &catalogReader{d: d, tables: map[string]*domain.Table{}, made: map[string]string{}, indexed: map[string]bool{}}
		for _, read := range []func(context.Context) error{c.readTables, c.readPartitions, c.readColumns, c.readIndexes,
			c.readForeign, c.readChecks} {
			if err := read(ctx); err != nil {
				return nil, fmt.Errorf("reading the catalog of %s: %w", d.name, d.explain(err))
			}
		}
		altered, err := c.altered(ctx, try)
		switch {
		case err != nil:
			return nil, fmt.Errorf("reading the catalog of %s: %w", d.name, d.explain(err))
		case altered == "":
			d.known.Store(&c.order)
			return c.catalog(ctx)
		case try == 30:
			return nil, domain.Unavailable(nil, "the catalog of %s cannot be read, as %s is altered all the time; try again "+
				"when that has ended", d.name, altered)
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(time.Duration(10*try) * time.Millisecond):
		}
	}
}

func (c *catalogReader) catalog(ctx context.Context) (*domain.Catalog, error) {
	out := &domain.Catalog{Sequences: c.sequences}
	var err error
	if out.Server, err = c.d.Identity(ctx); err != nil {
		return nil, err
	}
	for _, name := range c.order {
		out.Tables = append(out.Tables, *c.tables[name])
	}
	return out, nil
}

// altered names a table that may have been altered while the catalog was read, empty for none.
// One that the server cannot open stays without an engine, however often it is read.
func (c *catalogReader) altered(ctx context.Context, try int) (string, error) {
	now, others := map[string]string{}, map[string]bool{} // others are views, versioned tables and so on
	err := c.each(ctx, "SELECT table_name, coalesce(create_time, ''), table_type = 'BASE TABLE' FROM "+
		"information_schema.tables WHERE table_schema = ?", func(r *sql.Rows) error {
		var name, made string
		var base bool
		if err := r.Scan(&name, &made, &base); err != nil {
			return err
		}
		if base {
			now[name] = made
		} else {
			others[name] = true
		}
		return nil
	})
	if err != nil {
		return "", err
	}
	// A table that was there before is asked for by its name, which waits until it is altered.
	if before := c.d.known.Load(); before != nil {
		for _, name := range *before {
			if _, still := now[name]; still || others[name] || c.tables[name] != nil {
				continue
			}
			var same, definition string
			if c.d.pool.QueryRowContext(ctx, "SHOW CREATE TABLE "+qualified(domain.TableName{Schema: c.d.end.Database,
				Name: name})).Scan(&same, &definition) == nil {
				return name, nil
			}
		}
	}
	for name, made := range now {
		if was, known := c.made[name]; !known || was != made {
			return name, nil
		}
	}
	bare := 0
	for _, name := range c.order {
		t := c.tables[name]
		if _, still := now[name]; !still || try < 5 && (t.Storage == "" || len(t.Columns) == 0) {
			return name, nil
		}
		if !c.indexed[name] {
			bare++
		}
	}
	if bare == 0 {
		return "", nil
	}
	// Nothing tells an index that was not read from one that is not there but another look.
	missed := ""
	err = c.each(ctx, "SELECT DISTINCT table_name FROM information_schema.statistics WHERE table_schema = ?",
		func(r *sql.Rows) error {
			var name string
			err := r.Scan(&name)
			if c.tables[name] != nil && !c.indexed[name] {
				missed = name
			}
			return err
		})
	return missed, err
}

// Identity is the number that every server of a replication has for itself.
func (d *database) Identity(ctx context.Context) (string, error) {
	var id string
	err := d.pool.QueryRowContext(ctx, "SELECT @@global.server_id").Scan(&id)
	return "server_id " + id, d.explain(err)
}

type catalogReader struct {
	d       *database
	tables  map[string]*domain.Table
	order   []string
	made    map[string]string // when each table was made, by the server's clock
	indexed map[string]bool   // tables of which an index was read, one that identifies no row too

	sequences []domain.Sequence
	parted    []*domain.Table
}

// readPartitions reads how tables are partitioned, in the server's own words.
func (c *catalogReader) readPartitions(ctx context.Context) error {
	for _, t := range c.parted {
		var name, sql string
		if err := c.d.pool.QueryRowContext(ctx, "SHOW CREATE TABLE "+qualified(t.TableName)).Scan(&name, &sql); err != nil {
			return err
		}
		if _, by, ok := strings.Cut(sql, "\n PARTITION BY "); ok {
			t.PartitionBy = by
		}
	}
	return nil
}

// each runs a query with the database's name as its one parameter.
func (c *catalogReader) each(ctx context.Context, query string, row func(*sql.Rows) error) error {
	rows, err := c.d.pool.QueryContext(ctx, query, c.d.end.Database)
	if err != nil {
		return err
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		if err := row(rows); err != nil {
			return err
		}
	}
	return rows.Err()
}

func (c *catalogReader) readTables(ctx context.Context) error {
	return c.each(ctx, `
SELECT table_schema, table_name, coalesce(table_rows, -1), coalesce(data_length, 0), coalesce(index_length, 0),
  coalesce(engine, ''), table_comment, coalesce(table_collation, ''), create_options LIKE '%partitioned%',
  coalesce(create_time, '')
  FROM information_schema.tables
 WHERE table_schema = ? AND table_type = 'BASE TABLE'
 ORDER BY table_name`, func(r *sql.Rows) error {
		t := &domain.Table{RowIdentity: "full", Owned: true}
		var parts sql.NullBool
		var made string
		if err := r.Scan(&t.Schema, &t.Name, &t.Rows, &t.Bytes, &t.IndexBytes, &t.Storage, &t.Comment, &t.Collation, &parts,
			&made); err != nil {
			return err
		}
		c.made[t.Name] = made
		if parts.Bool {
			t.PartitionBy = "its own rule"
		}
		c.tables[t.Name] = t
		c.order = append(c.order, t.Name)
		if parts.Bool {
			c.parted = append(c.parted, t)
		}
		return nil
	})
}

// wide are the types whose values may be large.
var wide = map[string]bool{"text": true, "mediumtext": true, "longtext": true, "blob": true, "mediumblob": true,
	"longblob": true, "json": true}

func (c *catalogReader) readColumns(ctx context.Context) error {
	return c.each(ctx, `
SELECT k.table_name, k.column_name, k.column_type, k.data_type, k.is_nullable = 'NO', coalesce(k.column_default, ''),
  k.extra,
       coalesce(k.is_generated, 'NEVER'), coalesce(k.generation_expression, ''), coalesce(k.collation_name, ''),
         coalesce(k.character_set_name, ''), k.column_comment,
       EXISTS (SELECT 1 FROM information_schema.check_constraints x
                WHERE x.constraint_schema = k.table_schema AND x.table_name = k.table_name
                  AND x.check_clause = concat('json_valid(', char(96), replace(k.column_name, char(96),
                  repeat(char(96), 2)), char(96), ')'))
  FROM information_schema.columns k
 WHERE k.table_schema = ? ORDER BY k.table_name, k.ordinal_position`, func(r *sql.Rows) error {
		var table, extra, generated, expression string
		var json bool
		var k domain.Column
		if err := r.Scan(&table, &k.Name, &k.Type, &k.BaseType, &k.NotNull, &k.Default, &extra, &generated, &expression,
			&k.Collation, &k.Charset, &k.Comment, &json); err != nil {
			return err
		}
		t := c.tables[table]
		if t == nil { // a view's
			return nil
		}
		if json && k.BaseType == "longtext" {
			k.BaseType, k.Type = "json", "json"
		}
		if k.BaseType != "enum" && k.BaseType != "set" && strings.Contains(k.Type, "unsigned") { // labels may say so too
			k.BaseType += " unsigned"
		}
		if strings.Contains(extra, "auto_increment") {
			k.Identity = "by default"
			c.sequences = append(c.sequences, domain.Sequence{Name: domain.TableName{Schema: t.Schema, Name: t.Name + "_" +
				k.Name + "_seq"},
				OwnedBy: t.TableName, OwnedColumn: k.Name, Identity: true, Start: 1, Increment: 1})
		}
		if _, on, ok := strings.Cut(extra, "on update "); ok {
			k.OnUpdate = on
		}
		k.Hidden = strings.Contains(extra, "INVISIBLE")
		if generated == "ALWAYS" {
			k.Computed, k.Default, k.Stored = expression, "", strings.Contains(extra, "STORED")
		}
		k.Wide, k.Wire = wide[k.BaseType], "portable"
		t.Columns = append(t.Columns, k)
		return nil
	})
}

func (c *catalogReader) readIndexes(ctx context.Context) error {
	type index struct {
		columns  []string
		pieces   []string // with length and direction
		unique   bool
		nullable bool
		part     bool // of a value only
		kind     string
		ignored  bool // by the server's planner
	}
	found := map[string]map[string]*index{}
	var order [][2]string
	err := c.each(ctx, `
SELECT table_name, index_name, non_unique = 0, coalesce(column_name, ''), coalesce(sub_part, 0), coalesce(nullable,
  '') = 'YES', index_type, coalesce(collation, 'A') = 'D', ignored = 'YES'
  FROM information_schema.statistics WHERE table_schema = ? ORDER BY table_name, index_name <> 'PRIMARY', index_name,
    seq_in_index`, func(r *sql.Rows) error {
		var table, name, column, kind string
		var unique, nullable, descending, ignored bool
		var part int
		if err := r.Scan(&table, &name, &unique, &column, &part, &nullable, &kind, &descending, &ignored); err != nil {
			return err
		}
		if found[table] == nil {
			found[table] = map[string]*index{}
		}
		x := found[table][name]
		if x == nil {
			x = &index{unique: unique, kind: kind, ignored: ignored}
			found[table][name] = x
			order = append(order, [2]string{table, name})
		}
		piece := quote(column)
		if part > 0 && kind != "SPATIAL" {
			piece += fmt.Sprintf("(%d)", part)
		}
		if descending {
			piece += " DESC"
		}
		x.columns, x.pieces = append(x.columns, column), append(x.pieces, piece)
		x.nullable, x.part = x.nullable || nullable, x.part || part > 0
		return nil
	})
	if err != nil {
		return err
	}
	for _, o := range order {
		t, x := c.tables[o[0]], found[o[0]][o[1]]
		if t == nil {
			continue
		}
		c.indexed[o[0]] = true
		if o[1] == "PRIMARY" {
			// A key of parts of values identifies no row by itself.
			if !x.part {
				t.Keys = append(t.Keys, domain.Key{Columns: x.columns, Primary: true, Name: "PRIMARY"})
			}
			continue
		}
		out := domain.Index{Name: o[1], Unique: x.unique, Columns: x.columns}
		word := map[bool]string{true: "UNIQUE "}[x.unique]
		switch {
		case x.kind == "FULLTEXT" || x.kind == "SPATIAL":
			word, out.Columns, out.Why = x.kind+" ", nil, "of the kind "+strings.ToLower(x.kind)
		case x.part:
			out.Columns, out.Why = nil, "of parts of values"
		}
		out.Definition = fmt.Sprintf("%sINDEX %s (%s)", word, quote(o[1]), strings.Join(x.pieces, ", ")) + map[bool]string{
			true: " IGNORED"}[x.ignored]
		if x.unique && !x.nullable && out.Columns != nil {
			t.Keys = append(t.Keys, domain.Key{Columns: x.columns, Name: t.Name + "_" + o[1]})
		}
		t.Indexes = append(t.Indexes, out)
	}
	return nil
}

// readChecks reads check constraints, but for those that make a text JSON.
func (c *catalogReader) readChecks(ctx context.Context) error {
	return c.each(ctx, `
SELECT table_name, constraint_name, check_clause, level = 'Column'
  FROM information_schema.check_constraints WHERE constraint_schema = ? ORDER BY table_name, constraint_name`,
		func(r *sql.Rows) error {
			var table string
			var column bool
			k := domain.Constraint{Kind: "check"}
			if err := r.Scan(&table, &k.Name, &k.Definition, &column); err != nil {
				return err
			}
			t := c.tables[table]
			if t == nil || slices.ContainsFunc(t.Columns, func(c domain.Column) bool {
				return c.BaseType == "json" && k.Definition == "json_valid("+quote(c.Name)+")"
			}) {
				return nil
			}
			if column {
				k.Name = t.Name + "_" + k.Name + "_check"
			}
			k.Definition = "CHECK (" + k.Definition + ")"
			t.Constraints = append(t.Constraints, k)
			return nil
		})
}

func (c *catalogReader) readForeign(ctx context.Context) error {
	at := map[string]int{}
	return c.each(ctx, `
SELECT k.table_name, k.constraint_name, k.column_name, k.referenced_table_schema, k.referenced_table_name,
  k.referenced_column_name, r.update_rule, r.delete_rule
  FROM information_schema.key_column_usage k
  JOIN information_schema.referential_constraints r
    ON r.constraint_schema = k.constraint_schema AND r.constraint_name = k.constraint_name
      AND r.table_name = k.table_name
 WHERE k.table_schema = ? AND k.referenced_table_name IS NOT NULL
 ORDER BY k.table_name, k.constraint_name, k.ordinal_position`, func(r *sql.Rows) error {
		var table, name, column, update, remove, other string
		var to domain.TableName
		if err := r.Scan(&table, &name, &column, &to.Schema, &to.Name, &other, &update, &remove); err != nil {
			return err
		}
		t := c.tables[table]
		if t == nil {
			return nil
		}
		i, ok := at[table+"\x00"+name]
		if !ok {
			i = len(t.Constraints)
			at[table+"\x00"+name] = i
			rules := ""
			for what, rule := range map[string]string{" ON UPDATE ": update, " ON DELETE ": remove} {
				if rule == "CASCADE" || rule == "SET NULL" {
					rules += what + rule
				}
			}
			t.Constraints = append(t.Constraints, domain.Constraint{Name: name, Kind: "foreign", References: to, Rules: rules,
				Unlogged: rules != ""})
		}
		k := &t.Constraints[i]
		k.Columns, k.ReferenceColumns = append(k.Columns, column), append(k.ReferenceColumns, other)
		return nil
	})
}
