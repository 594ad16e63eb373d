package sqlite

import (
	"context"
	"database/sql/driver"
	"fmt"
	"os"
	"regexp"
	"slices"
	"strings"
	"time"

	"dustyferry/internal/core/keyorder"
	"dustyferry/internal/domain"
)

// schema is where a file's tables are.
const schema = "main"

// seen is a catalog and the state of the file that it is of.
type seen struct {
	state  string
	schema int64     // the version of its tables
	at     time.Time // when its rows were looked at
	cat    *domain.Catalog
	notes  map[string][]string // of what columns hold, by table
	// declared are the columns' declarations, by table (in small letters) and column.
	declared map[string]map[string]string
}

// state changes with each write of the file, or of its log.
func (d *database) state() string {
	var out strings.Builder
	for _, suffix := range []string{"", "-wal"} {
		if s, err := os.Stat(d.path + suffix); err == nil {
			fmt.Fprintf(&out, "%d %s;", s.Size(), s.ModTime().Format(time.RFC3339Nano))
		}
	}
	return out.String()
}

// Catalog says what tables there are, and what their columns hold.
func (d *database) Catalog(ctx context.Context) (*domain.Catalog, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	now := d.state()
	if d.seen.cat != nil && d.seen.state == now {
		return d.seen.cat, nil
	}
	c, err := d.conn(ctx)
	if err != nil {
		return nil, err
	}
	defer c.close()
	if err := c.begin(ctx); err != nil {
		return nil, d.explain(err)
	}
	// Rows that are written while they are followed change no table: what columns hold is looked at anew at
	// times.
	version, err := c.number(ctx, "PRAGMA schema_version")
	if err != nil {
		return nil, d.explain(err)
	}
	if has, err := c.recording(ctx); err != nil {
		return nil, d.explain(err)
	} else if has && d.seen.cat != nil && d.seen.schema == version && time.Since(d.seen.at) < looksAnew {
		return d.seen.cat, nil
	}
	cat := &domain.Catalog{}
	type found struct {
		name    string
		noRowID bool
		strict  bool
	}
	var tables []found
	if err := c.rows(ctx, "SELECT name, wr, strict FROM pragma_table_list WHERE schema = 'main' AND type = 'table' AND "+
		"name NOT LIKE 'sqlite\\_%' ESCAPE '\\' ORDER BY name", func(r []driver.Value) error {
		if isOurs(r[0].(string)) {
			return nil
		}
		tables = append(tables, found{r[0].(string), r[1] == int64(1), r[2] == int64(1)})
		return nil
	}); err != nil {
		return nil, d.explain(err)
	}
	notes, as := map[string][]string{}, map[string]map[string]string{}
	for _, f := range tables {
		t, said, err := c.table(ctx, f.name, f.noRowID, f.strict)
		notes[f.name] = said
		if err == nil {
			as[strings.ToLower(f.name)] = map[string]string{}
			err = c.rows(ctx, "SELECT name, type FROM pragma_table_xinfo(?)", func(r []driver.Value) error {
				as[strings.ToLower(f.name)][r[0].(string)] = r[1].(string)
				return nil
			}, f.name)
		}
		if err != nil {
			return nil, fmt.Errorf("table %s: %w", f.name, d.explain(err))
		}
		cat.Tables = append(cat.Tables, t)
	}
	d.seen = seen{now, version, time.Now(), cat, notes, as}
	return cat, nil
}

// looksAnew is how often what columns hold is looked at while changes are recorded.
const looksAnew = 5 * time.Minute

// looked is how many rows of a table the catalog looks at: all of one that has no more, or as many at
// its beginning and at its end.
const looked = 100_000

var (
	isNumber = regexp.MustCompile(`^[+-]?\d+(\.\d+)?$`)
	isString = regexp.MustCompile(`^'(?:[^']|'')*'$`)
	counted  = regexp.MustCompile(`(?i)\bAUTOINCREMENT\b`)
	checks   = regexp.MustCompile(`(?i)\bCHECK\s*\(`)
)

// shape is a table while it is found out what it is.
type shape struct {
	domain.Table
	cols    []column
	noRowID bool
	strict  bool
	made    string   // the statement that made it
	notes   []string // of what its columns hold
}

// column is what a table says of one of its columns, and what it holds.
type column struct {
	declared string
	key      int64 // place in the primary key, from 1
	holds    held
}

// table is one table with what it holds.
func (c *conn) table(ctx context.Context, name string, noRowID, strict bool) (domain.Table, []string, error) {
	t := shape{Table: domain.Table{TableName: domain.TableName{Schema: schema, Name: name}, RowIdentity: "none",
		Owned: true}, noRowID: noRowID, strict: strict}
	for _, find := range []func(context.Context, *shape) error{c.columns, c.count, c.look, c.primary, c.indexes,
		c.foreign} {
		if err := find(ctx, &t); err != nil {
			return t.Table, nil, err
		}
	}
	if counted.MatchString(t.made) {
		t.Left = append(t.Left, "AUTOINCREMENT (numbers are given by the application, or by a sequence that you make)")
	}
	if checks.MatchString(t.made) {
		t.Left = append(t.Left, "checks (their expressions are SQLite's)")
	}
	return t.Table, t.notes, nil
}

// columns says how a table's columns are declared.
func (c *conn) columns(ctx context.Context, t *shape) error {
	if err := c.rows(ctx, "SELECT sql FROM sqlite_schema WHERE type = 'table' AND name = ?", func(r []driver.Value) error {
		t.made, _ = r[0].(string)
		return nil
	}, t.Name); err != nil {
		return err
	}
	return c.rows(ctx, `SELECT name, type, "notnull", dflt_value, pk, hidden FROM pragma_table_xinfo(?) ORDER BY cid`,
		func(r []driver.Value) error {
			declared, _ := r[1].(string)
			col := domain.Column{Name: r[0].(string), NotNull: r[2] == int64(1), Wire: "portable", Declared: "as " + declared}
			hidden := r[5].(int64)
			if expr, ok := r[3].(string); ok && hidden == 0 {
				switch {
				case isNumber.MatchString(expr), isString.MatchString(expr), strings.EqualFold(expr, "NULL"):
					col.Default = expr
				default:
					t.Left = append(t.Left, fmt.Sprintf("default of %s (%s: its expression is SQLite's)", col.Name, expr))
				}
			}
			if hidden > 1 {
				t.Left = append(t.Left, "that "+col.Name+" is computed (it is an ordinary column on the target)")
			}
			t.cols = append(t.cols, column{declared: r[1].(string), key: r[4].(int64)})
			t.Columns = append(t.Columns, col)
			return nil
		}, t.Name)
}

// look finds out what the columns hold, and what they become.
func (c *conn) look(ctx context.Context, t *shape) error {
	list := make([]string, len(t.cols))
	for i := range t.cols {
		list[i] = "+" + quote(t.Columns[i].Name)
	}
	rows, bytes := int64(0), int64(0)
	take := func(r []driver.Value) error {
		rows++
		for i, v := range r {
			t.cols[i].holds.look(v)
			bytes += size(v)
		}
		return nil
	}
	read := "SELECT " + strings.Join(list, ", ") + " FROM " + quote(t.Name)
	if t.Rows > looked {
		order := ""
		if !t.noRowID {
			order = " ORDER BY rowid DESC"
		}
		if err := c.rows(ctx, fmt.Sprintf("%s%s LIMIT %d", read, order, looked/2), take); err != nil {
			return err
		}
		read += fmt.Sprintf(" LIMIT %d", looked/2)
	}
	if err := c.rows(ctx, read, take); err != nil {
		return err
	}
	if rows > 0 {
		t.Bytes = t.Rows * (bytes/rows + 1)
	}
	for i := range t.cols {
		t.becomes(&t.Columns[i], &t.cols[i])
	}
	return nil
}

// size is about how many bytes a value has in a file.
func size(v driver.Value) int64 {
	switch x := v.(type) {
	case string:
		return int64(len(x)) + 1
	case []byte:
		return int64(len(x)) + 1
	case float64:
		return 9
	}
	return 4
}

// becomes says what a column becomes.
func (t *shape) becomes(col *domain.Column, c *column) {
	note := ""
	c.holds.Whole = t.Rows <= looked
	col.BaseType, col.Type, note = typed(c.declared, &c.holds)
	col.ByteOrder = col.BaseType == text || col.BaseType == varchar
	if note != "" {
		t.notes = append(t.notes, fmt.Sprintf("column %s: %s", col.Name, note))
	}
	if c.holds.Nulls > 0 {
		col.NotNull = false // a NULL can be where none may be, if the rule came later
	}
	if col.Default != "" && isString.MatchString(col.Default) != col.ByteOrder && !strings.EqualFold(col.Default, "NULL") {
		t.Left = append(t.Left, fmt.Sprintf("default of %s (%s is no %s)", col.Name, col.Default, col.Type))
		col.Default = ""
	}
}

// primary adds the primary key. The rowid under the name of a column is never NULL; other primary keys can
// hold NULLs.
func (c *conn) primary(ctx context.Context, t *shape) error {
	var key []string
	alias := !t.noRowID
	for place := int64(1); ; place++ {
		i := slices.IndexFunc(t.cols, func(k column) bool { return k.key == place })
		if i < 0 {
			break
		}
		key = append(key, t.Columns[i].Name)
		alias = alias && place == 1 && strings.EqualFold(t.cols[i].declared, "INTEGER")
	}
	for _, n := range key {
		col := t.Column(n)
		if col.NotNull = col.NotNull || alias || t.noRowID || t.strict; col.NotNull {
			continue
		}
		null := false
		if err := c.rows(ctx, "SELECT 1 FROM "+quote(t.Name)+" WHERE "+quote(n)+" IS NULL LIMIT 1",
			func([]driver.Value) error { null = true; return nil }); err != nil {
			return err
		}
		if null {
			t.Left = append(t.Left, fmt.Sprintf("primary key (%s is NULL in some rows)", n))
			return nil
		}
		col.NotNull = true // one that comes later is refused
	}
	if key != nil {
		t.Keys = append(t.Keys, domain.Key{Columns: key, Primary: true, Name: "key"})
		t.RowIdentity = "primary"
	}
	return nil
}

// counts is from how many numbers of rows on a table is not counted any more.
var counts int64 = 2_000_000

// count says how many rows a table has; a large one has at most as many as there are numbers between its
// first row and its last.
func (c *conn) count(ctx context.Context, t *shape) error {
	one := func(sql string) (n int64, err error) {
		err = c.rows(ctx, sql, func(r []driver.Value) error { n, _ = r[0].(int64); return nil })
		return n, err
	}
	if !t.noRowID {
		span, err := one(fmt.Sprintf("SELECT (SELECT max(rowid) FROM %s) - (SELECT min(rowid) FROM %[1]s)", quote(t.Name)))
		if err != nil {
			return err
		}
		if span >= counts {
			t.Rows = span + 1
			return nil
		}
	}
	n, err := one("SELECT count(*) FROM " + quote(t.Name))
	t.Rows = n
	return err
}

// indexes adds a table's unique keys and its indexes.
func (c *conn) indexes(ctx context.Context, t *shape) error {
	type index struct {
		name            string
		unique, partial bool
		origin          string
	}
	var list []index
	if err := c.rows(ctx, `SELECT name, "unique", partial, origin FROM pragma_index_list(?) ORDER BY seq DESC`,
		func(r []driver.Value) error {
			list = append(list, index{r[0].(string), r[1] == int64(1), r[2] == int64(1), r[3].(string)})
			return nil
		}, t.Name); err != nil {
		return err
	}
	for _, x := range list {
		out := domain.Index{Name: x.name, Unique: x.unique, Columns: []string{}}
		if err := c.rows(ctx, `SELECT name, coll, "desc", cid FROM pragma_index_xinfo(?) WHERE key = 1 ORDER BY seqno`,
			func(r []driver.Value) error {
				name, named := r[0].(string)
				if col := t.Column(name); named && x.origin == "pk" && col != nil && r[1] != nil &&
					!strings.EqualFold(fmt.Sprint(r[1]), "BINARY") {
					col.ByteOrder = false
				}
				switch {
				case !named || r[3] == int64(-2):
					out.Why = "it is over an expression"
				case r[1] != nil && !strings.EqualFold(fmt.Sprint(r[1]), "BINARY"):
					out.Why = fmt.Sprintf("its order is by the collation %s", r[1])
				}
				out.Columns = append(out.Columns, name)
				return nil
			}, x.name); err != nil {
			return err
		}
		switch {
		case x.origin == "pk":
			continue
		case x.partial:
			out.Why = "it is over a part of the rows"
		}
		if out.Why != "" {
			out.Columns = nil
			t.Indexes = append(t.Indexes, out)
			continue
		}
		nullable := slices.ContainsFunc(out.Columns, func(n string) bool {
			col := t.Column(n)
			return col == nil ||
				!col.NotNull
		})
		if x.unique && !nullable {
			t.Keys = append(t.Keys, domain.Key{Columns: out.Columns, Name: plainName(x.name, len(t.Keys))})
			continue
		}
		out.Name = plainName(x.name, len(t.Indexes))
		t.Indexes = append(t.Indexes, out)
	}
	return nil
}

// plainName is an index's name; those that SQLite gave by itself say nothing.
func plainName(name string, n int) string {
	if strings.HasPrefix(name, "sqlite_autoindex_") {
		return fmt.Sprintf("unique_%d", n+1)
	}
	return name
}

// foreign adds a table's foreign keys. SQLite holds them only where a connection asks it to.
func (c *conn) foreign(ctx context.Context, t *shape) error {
	at := map[int64]int{}
	var err error
	if e := c.rows(ctx, `SELECT id, seq, "table", "from", "to", on_update, on_delete FROM pragma_foreign_key_list(?) `+
		"ORDER BY id, seq", func(r []driver.Value) error {
		id := r[0].(int64)
		i, known := at[id]
		if !known {
			i = len(t.Constraints)
			at[id] = i
			rules := ""
			for what, rule := range map[string]any{"UPDATE": r[5], "DELETE": r[6]} {
				if s := fmt.Sprint(rule); s != "NO ACTION" && s != "" {
					rules += " ON " + what + " " + s
				}
			}
			t.Constraints = append(t.Constraints, domain.Constraint{Name: fmt.Sprintf("%s_fkey_%d", t.Name, id+1),
				Kind: "foreign", References: domain.TableName{Schema: schema, Name: r[2].(string)}, Rules: rules})
		}
		k := &t.Constraints[i]
		k.Columns = append(k.Columns, r[3].(string))
		if to, ok := r[4].(string); ok {
			k.ReferenceColumns = append(k.ReferenceColumns, to)
		}
		return nil
	}, t.Name); e != nil {
		return e
	}
	for i := range t.Constraints { // without a column it is the primary key that is meant
		if k := &t.Constraints[i]; len(k.ReferenceColumns) == 0 {
			err = c.rows(ctx, "SELECT name FROM pragma_table_info(?) WHERE pk > 0 ORDER BY pk", func(r []driver.Value) error {
				k.ReferenceColumns = append(k.ReferenceColumns, r[0].(string))
				return nil
			}, k.References.Name)
		}
	}
	return err
}

// Plan carries a table by its key where it has one.
func (d *database) Plan(t *domain.Table) (domain.TablePlan, error) {
	p := domain.TablePlan{Source: t.TableName, Target: t.TableName, Columns: t.Columns, Table: *t, KeyOrder: "none"}
	if len(t.Keys) == 0 {
		return p, nil
	}
	p.Key = t.Keys[0].Columns
	if _, ours := keyorder.New(p.KeyColumns()); ours {
		p.KeyOrder = "ours"
	} else {
		p.KeyOrder = "source"
	}
	return p, nil
}

// SurveySource says what is to be known of what columns hold.
func (d *database) SurveySource(ctx context.Context, plans []domain.TablePlan, capture bool) ([]domain.Entry, error) {
	if _, err := d.Catalog(ctx); err != nil {
		return nil, err
	}
	var recording []domain.Entry
	if capture {
		var err error
		if recording, err = d.surveyRecording(ctx, plans); err != nil {
			return nil, err
		}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	out := recording
	for i := range plans {
		for _, n := range d.seen.notes[plans[i].Source.Name] {
			out = append(out, domain.Entry{Verdict: domain.Notice, Topic: "values", Subject: plans[i].Source.String(),
				Measured: n, Remedy: "see every value: a fit check (dustyferry fit); choose another type by a rule"})
		}
		if t := &plans[i].Table; t.Rows > looked {
			out = append(out, domain.Entry{Verdict: domain.Notice, Topic: "values", Subject: plans[i].Source.String(),
				Measured: fmt.Sprintf("of its %s the first and last %s were looked at to find types", domain.Many(t.Rows, "row"),
					domain.Grouped(looked/2)), Remedy: "see every value: a fit check (dustyferry fit)"})
		}
	}
	return out, nil
}
