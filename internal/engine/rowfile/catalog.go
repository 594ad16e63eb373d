package rowfile

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"

	"dustyferry/internal/core/textrows"
	"dustyferry/internal/domain"
)

// looked is how many records the catalog looks at to find types.
const looked = 200_000

// errEnough ends a reading that has seen enough.
var errEnough = errors.New("enough")

// schema is where the table is.
const schema = "files"

// Catalog says what the table's columns hold.
func (d *database) Catalog(ctx context.Context) (*domain.Catalog, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	state, err := d.state()
	if err != nil {
		return nil, err
	}
	if d.seen.cat != nil && d.seen.state == state {
		return d.seen.cat, nil
	}
	tables, err := d.tables()
	if err != nil {
		return nil, err
	}
	cat, layouts := &domain.Catalog{}, map[string]layout{}
	for _, name := range tables {
		t, l, err := d.table(ctx, name, state)
		if err != nil {
			return nil, err
		}
		cat.Tables, layouts[name] = append(cat.Tables, t), l
	}
	d.seen = seen{state, layouts, cat}
	return cat, nil
}

// table looks at the rows of one.
func (d *database) table(ctx context.Context, name, state string) (domain.Table, layout, error) {
	t := domain.Table{TableName: domain.TableName{Schema: schema, Name: name}, RowIdentity: "none", Owned: true,
		Written: state}
	names, err := d.names(ctx, name)
	if err != nil {
		return t, nil, err
	}
	if of, ok := names.(declared); ok {
		t.Columns = of.types()
		t.Rows, t.Bytes, err = d.declared(name, names)
		return t, names, err
	}
	holds := make([]textrows.Held, len(names.columns()))
	rows, size := int64(0), int64(0)
	as := names
	if d.form.as == nil {
		as = nil // each file as it is written
	}
	err = d.records(ctx, name, as, func(_ layout, values []textrows.Value, refused error) error {
		if rows++; rows > looked {
			return errEnough
		}
		if refused == nil {
			for i, v := range values {
				holds[i].Look(v)
				size += int64(len(v.Text)) + 1
			}
		}
		return nil
	})
	if err != nil && !errors.Is(err, errEnough) {
		return t, nil, err
	}
	t.Rows, t.Bytes = rows, size
	if on := d.bytes(); rows > looked && size > 0 { // packed ones have more
		t.Rows, t.Bytes = max(rows, on*looked/size), max(on, size)
	}
	for i, name := range names.columns() {
		typ := holds[i].Type()
		t.Columns = append(t.Columns, domain.Column{Name: name, Type: typ, BaseType: typ, Wire: "portable"})
	}
	return t, names, nil
}

// declared is how many rows all files of a table say that they have, and their bytes.
func (d *database) declared(table string, first layout) (rows, bytes int64, _ error) {
	files, err := d.files()
	if err != nil {
		return 0, 0, err
	}
	for _, path := range files {
		l, err := d.understand(path, table)
		if err != nil {
			return 0, 0, err
		}
		if err := alike(path, l, files[0], first); err != nil {
			return 0, 0, err
		}
		rows += l.(declared).rows()
	}
	return rows, d.bytes(), nil
}

// names is how a table is written in the first file, with the names of all columns.
func (d *database) names(ctx context.Context, table string) (layout, error) {
	files, err := d.files()
	if err != nil {
		return nil, err
	}
	l, err := d.understand(files[0], table)
	if err != nil || d.form.as == nil {
		return l, err
	}
	o := objects{}
	have := map[string]bool{}
	o.visit = func(name string) {
		if !have[name] {
			have[name] = true
			o.Names = append(o.Names, name)
		}
	}
	n := 0
	err = d.records(ctx, table, o, func(layout, []textrows.Value, error) error {
		if n++; n > looked {
			return errEnough
		}
		return nil
	})
	if err != nil && !errors.Is(err, errEnough) {
		return nil, err
	}
	if len(o.Names) == 0 {
		return nil, domain.Invalid("%s: no line is an object with a name in it", d.name)
	}
	return objects{JSONLines: o.JSONLines}, nil
}

// bytes is how much room all files take.
func (d *database) bytes() (n int64) {
	files, _ := d.files()
	for _, path := range files {
		if s, err := os.Stat(path); err == nil {
			n += s.Size()
		}
	}
	return n
}

// tableName is what a path calls its files, without what says how they are written, and where it names several
// without the signs that do.
func tableName(path string) string {
	name := filepath.Base(path)
	for _, end := range []string{".gz", ".zst", ".csv", ".tsv", ".txt", ".jsonl", ".ndjson", ".json", ".parquet"} {
		if cut := len(name) - len(end); cut > 0 && strings.EqualFold(name[cut:], end) {
			name = name[:cut]
		}
	}
	if at := strings.IndexAny(name, "*?["); at >= 0 {
		if name = strings.TrimRight(name[:at], "-_. "); name == "" {
			name = filepath.Base(filepath.Dir(path))
		}
	}
	return name
}
