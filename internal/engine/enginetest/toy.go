package enginetest

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"

	"dustyferry/internal/core/keyorder"
	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// Toy is an engine for tests: databases in memory, without a log, without SQL, without
// sequences. It can only be read. What it needs of the rest is this file, and a line where
// engines are listed.
type Toy struct{ Databases map[string]*ToyDatabase }

// ToyDatabase is one of its databases.
type ToyDatabase struct {
	mu     sync.Mutex
	Tables []ToyTable
}

// ToyTable is a table whose first column is its key.
type ToyTable struct {
	Name    string
	Columns []ToyColumn
	Rows    [][]string // ascending by key
}

// ToyColumn has a type of the engine's own: number, word or flag.
type ToyColumn struct{ Name, Type string }

// neutral is the descriptor of its types: what each is in the neutral form, and how its values
// are written there.
var neutral = map[string]struct {
	typ   string
	write func(string) string
}{
	"number": {"bigint", func(v string) string { return v }},
	"word":   {"text", func(v string) string { return v }},
	"flag":   {"boolean", func(v string) string { return map[string]string{"yes": "t", "no": "f"}[v] }},
}

// Name is the driver's name.
func (Toy) Name() string { return "toy" }

// FormatPosition writes a position; there are none.
func (Toy) FormatPosition(p domain.Position) string { return fmt.Sprint(p.Number()) }

// ParsePosition reads none.
func (Toy) ParsePosition(string) (domain.Position, error) {
	return domain.Position{}, domain.Invalid("a toy has no log")
}

// CheckPlace refuses all.
func (Toy) CheckPlace(string) error { return domain.Invalid("a toy has no log") }

// StopMethods are a person's word alone.
func (Toy) StopMethods() []domain.StopMethod { return []domain.StopMethod{domain.StopWord} }

// Open opens a database of that name.
func (t Toy) Open(_ context.Context, e engine.Endpoint) (engine.Database, error) {
	d := t.Databases[e.Database]
	if d == nil {
		return nil, domain.Unavailable(nil, "there is no toy database %s; give the name of one that is there", e.Database)
	}
	return toy{d, e.Database}, nil
}

type toy struct {
	of   *ToyDatabase
	name string
}

var _ interface {
	engine.Database
	engine.Reads
} = toy{}

func (toy) Close() {}

func (d toy) Check(context.Context) (engine.Facts, error) {
	return engine.Facts{Version: "toy 1", Encrypted: "in memory", User: "anybody",
		AsSource: []domain.Entry{{Verdict: domain.OK, Topic: "rows", Subject: d.name, Measured: "they can be read"}},
		AsTarget: []domain.Entry{{Verdict: domain.Blocker, Topic: "rows", Subject: d.name, Measured: "it takes none",
			Remedy: "choose another target"}}}, nil
}

func (d toy) Identity(context.Context) (string, error) { return "toy " + d.name, nil }
func (d toy) Origin(context.Context) (string, error)   { return "toy/" + d.name, nil }

func (d toy) Catalog(context.Context) (*domain.Catalog, error) {
	d.of.mu.Lock()
	defer d.of.mu.Unlock()
	cat := &domain.Catalog{}
	for i := range d.of.Tables {
		t := &d.of.Tables[i]
		out := domain.Table{TableName: domain.TableName{Schema: "box", Name: t.Name}, Rows: int64(len(t.Rows)),
			Bytes: int64(len(t.Rows) * 32), RowIdentity: "primary", Owned: true}
		for n, c := range t.Columns {
			typ := neutral[c.Type].typ
			out.Columns = append(out.Columns, domain.Column{Name: c.Name, Type: typ, BaseType: typ, NotNull: n == 0,
				ByteOrder: true, Wire: "portable"})
		}
		out.Keys = []domain.Key{{Columns: []string{t.Columns[0].Name}, Primary: true, Name: "key"}}
		cat.Tables = append(cat.Tables, out)
	}
	return cat, nil
}

// Plan carries a table by its key, whose order is ours.
func (d toy) Plan(t *domain.Table) (domain.TablePlan, error) {
	return domain.TablePlan{Source: t.TableName, Target: t.TableName, Columns: t.Columns, Key: t.Keys[0].Columns,
		KeyOrder: "ours", Table: *t}, nil
}

func (d toy) SurveySource(context.Context, []domain.TablePlan, bool) ([]domain.Entry, error) {
	return nil, nil
}

func (d toy) table(name domain.TableName) (*ToyTable, error) {
	for i := range d.of.Tables {
		if d.of.Tables[i].Name == name.Name {
			return &d.of.Tables[i], nil
		}
	}
	return nil, domain.NotFound("toy database %s has no table %s any more", d.name, name)
}

// rows visits the rows of a table between two keys, as neutral texts.
func (d toy) rows(p *domain.TablePlan, lower, upper domain.KeyValue, visit func([][]byte) error) error {
	d.of.mu.Lock()
	defer d.of.mu.Unlock()
	t, err := d.table(p.Source)
	if err != nil {
		return err
	}
	order, _ := keyorder.New(p.KeyColumns())
	for _, row := range t.Rows {
		key := domain.KeyValue{row[0]}
		if lower != nil {
			if c, _ := order.Compare(key, lower); c < 0 {
				continue
			}
		}
		if upper != nil {
			if c, _ := order.Compare(key, upper); c >= 0 {
				continue
			}
		}
		var fields [][]byte
		for _, c := range p.CopiedColumns() {
			i := slices.IndexFunc(t.Columns, func(o ToyColumn) bool { return o.Name == c.Name })
			fields = append(fields, []byte(neutral[t.Columns[i].Type].write(row[i])))
		}
		if err := visit(fields); err != nil {
			return err
		}
	}
	return nil
}

func (d toy) Sample(_ context.Context, p *domain.TablePlan, want int) (out []domain.KeyValue, err error) {
	t, err := d.table(p.Source)
	if err != nil {
		return nil, err
	}
	for i := range t.Rows {
		if i%max(1, len(t.Rows)/max(1, want)) == 0 {
			out = append(out, domain.KeyValue{t.Rows[i][0]})
		}
	}
	return out, nil
}

func (d toy) Greatest(context.Context, *domain.TablePlan, string) (string, error) { return "", nil }

func (d toy) Scan(_ context.Context, p *domain.TablePlan, s engine.Scope, visit func([][]byte) error) error {
	n := 0
	return d.rows(p, nil, nil, func(fields [][]byte) error {
		if n++; s.First > 0 && n > s.First {
			return nil
		}
		return visit(fields)
	})
}

func (d toy) Preview(_ context.Context, t *domain.Table, limit int) (out [][]*string, err error) {
	p, err := d.Plan(t)
	if err != nil {
		return nil, err
	}
	err = d.Scan(context.Background(), &p, engine.Scope{First: limit}, func(fields [][]byte) error {
		row := make([]*string, len(fields))
		for i, f := range fields {
			text := string(f)
			row[i] = &text
		}
		out = append(out, row)
		return nil
	})
	return out, err
}

func (d toy) OpenReader(context.Context) (engine.Reader, error) { return &toyReader{d}, nil }

// toyReader reads chunks; what is in memory stands still while it is locked.
type toyReader struct{ d toy }

func (r *toyReader) Begin(context.Context) (domain.Snapshot, error) {
	return domain.Snapshot{Log: domain.PositionAt(1)}, nil
}
func (r *toyReader) End(context.Context) error             { return nil }
func (r *toyReader) Close()                                {}
func (r *toyReader) Session() string                       { return "" }
func (r *toyReader) SupportsBinary(*domain.TablePlan) bool { return false }

// converters are how the carried columns' neutral texts are written for the target.
func converters(p *domain.TablePlan) []typemap.Convert {
	there := p.TargetColumns()
	var out []typemap.Convert
	for i, c := range p.CopiedColumns() {
		out = append(out, typemap.Compile("toy", p.TargetSide.Engine, c, there[i], p.Runtime))
	}
	return out
}

func (r *toyReader) Copy(ctx context.Context, p *domain.TablePlan, c *domain.Chunk, _ bool,
	sink func([]byte) error) (rowhash.Sum, error) {
	var sum rowhash.Sum
	err := r.Rows(ctx, p, c, func(fields [][]byte, refused error) error {
		if refused != nil {
			return refused
		}
		row := engine.Row(fields)
		sum.Add(row)
		return sink(row)
	})
	return sum, err
}

func (r *toyReader) Rows(_ context.Context, p *domain.TablePlan, c *domain.Chunk,
	take func([][]byte, error) error) error {
	conv := converters(p)
	return r.d.rows(p, c.Lower, c.Upper, func(fields [][]byte) error {
		out := make([][]byte, len(fields))
		for i, f := range fields {
			text, ok, err := conv[i](nil, f)
			if err != nil {
				return take(fields, domain.Conflict("column %s: %s", p.CopiedColumns()[i].Name, err))
			}
			if ok {
				out[i] = append([]byte{}, text...)
			}
		}
		return take(out, nil)
	})
}

// Boxes is a toy of made-up rows: hives and what was found in them.
func Boxes(hives int) Toy {
	table := ToyTable{Name: "hives", Columns: []ToyColumn{{"id", "number"}, {"name", "word"}, {"calm", "flag"}}}
	for i := range hives {
		table.Rows = append(table.Rows, []string{fmt.Sprint(i), strings.Repeat("honey ", i%3), []string{"yes", "no"}[i%2]})
	}
	return Toy{Databases: map[string]*ToyDatabase{"box": {Tables: []ToyTable{table}}}}
}
