package postgres

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/protocol/pgcopy"
)

// What a target of another engine gets: rows as texts in that engine's form.

// writing turns rows of a plan into its target's texts. The zero value, for a
// plan whose target takes our own texts, changes nothing.
type writing struct {
	conv   []typemap.Convert
	names  []string
	fields [][]byte
	values []byte
}

// newWriting is for the columns that the plan carries.
func newWriting(p *domain.TablePlan) writing {
	var w writing
	if !p.CrossEngine {
		return w
	}
	if p.TargetSide == nil {
		return normalized(p)
	}
	there := p.TargetColumns()
	for i, c := range p.CopiedColumns() {
		w.conv = append(w.conv, typemap.Compile(typemap.Postgres, p.TargetSide.Engine, c, there[i], p.Runtime))
		w.names = append(w.names, c.Name)
	}
	return w
}

// normalized is for the target's own rows: as they are, but for what may stand there in several forms.
func normalized(p *domain.TablePlan) (w writing) {
	if !slices.ContainsFunc(p.Columns, func(c domain.Column) bool { return len(c.Members) > 0 }) {
		return w
	}
	for _, c := range p.ComparedColumns() {
		conv := func(dst, v []byte) ([]byte, bool, error) { return append(dst, v...), true, nil }
		if len(c.Members) > 0 {
			conv = typemap.InOrder(c.Members)
		}
		w.conv, w.names = append(w.conv, conv), append(w.names, c.Name)
	}
	return w
}

// value appends the target's text of a column's value.
func (w *writing) value(dst []byte, column int, v []byte) ([]byte, bool, error) {
	dst, ok, err := w.conv[column](dst, v)
	if err != nil {
		err = domain.Conflict("column %s: %s", w.names[column], err)
	}
	return dst, ok, err
}

// row converts a row's fields; they are good until the next.
func (w *writing) row(fields [][]byte) ([][]byte, error) {
	if w.conv == nil {
		return fields, nil
	}
	w.fields, w.values = w.fields[:0], w.values[:0]
	size := 0
	for _, f := range fields {
		size += len(f)*2 + 40 // no form of a value is longer
	}
	if cap(w.values) < size {
		w.values = make([]byte, 0, size*2)
	}
	for i, f := range fields {
		if f == nil {
			w.fields = append(w.fields, nil)
			continue
		}
		from := len(w.values)
		var ok bool
		var err error
		if w.values, ok, err = w.value(w.values, i, f); err != nil {
			return nil, err
		}
		if !ok {
			w.fields = append(w.fields, nil)
			continue
		}
		w.fields = append(w.fields, w.values[from:len(w.values):len(w.values)])
	}
	return w.fields, nil
}

// each takes binary rows of texts and hands on their fields converted.
func (w *writing) each(visit func(fields [][]byte) error) func(row []byte) error {
	return w.cut(pgcopy.Fields, visit)
}

// cut takes rows that a function cuts into fields, and hands them on converted.
func (w *writing) cut(fieldsOf func(dst [][]byte, row []byte) ([][]byte, error),
	visit func(fields [][]byte) error) func(row []byte) error {
	var fields [][]byte
	return func(row []byte) error {
		var err error
		if fields, err = fieldsOf(fields[:0], row); err != nil {
			return err
		}
		if w.conv != nil && len(fields) != len(w.conv) {
			return fmt.Errorf("the source sent a row of %d values, not of %d", len(fields), len(w.conv))
		}
		out, err := w.row(fields)
		if err != nil {
			return err
		}
		return visit(out)
	}
}

// rowOf is for rows that were fetched one by one.
func (w *writing) rowOf(r domain.Row) (domain.Row, error) {
	if w.conv == nil || r == nil {
		return r, nil
	}
	out := make(domain.Row, len(r))
	for i, v := range r {
		out[i].Kind = v.Kind
		if v.Kind != domain.Present {
			continue
		}
		b, ok, err := w.value(nil, i, v.Data)
		if err != nil {
			return nil, err
		}
		if out[i].Data = b; !ok {
			out[i] = domain.Value{}
		}
	}
	return out, nil
}

// read is what is read for a column.
func read(c domain.Column) string {
	if c.Expression != "" {
		return "(" + c.Expression + ")"
	}
	return quote(c.Name)
}

// from is what a plan's rows are read from.
func from(p *domain.TablePlan) string {
	if p.From != "" {
		return "(" + p.From + ") rows_of_the_query"
	}
	return only(p) + qualified(p.Source)
}

// textList is columns as texts.
func textList(cols []domain.Column) string {
	var out []string
	for _, c := range cols {
		switch c.BaseType {
		case "inet": // its cast writes what its output leaves out
			out = append(out, "textin(inet_out("+read(c)+"))")
			continue
		case "character", "bpchar": // its cast leaves out what its output writes: blanks at the end
			out = append(out, "textin(bpcharout("+read(c)+"))")
			continue
		}
		out = append(out, read(c)+"::text")
	}
	return strings.Join(out, ", ")
}

// keyList is columns as texts that are equal to those of the log.
func keyList(cols []domain.Column) string {
	var out []string
	for _, c := range cols {
		if c.BaseType == "boolean" { // its cast writes whole words
			out = append(out, "textin(boolout("+read(c)+"))")
			continue
		}
		out = append(out, textList([]domain.Column{c}))
	}
	return strings.Join(out, ", ")
}

// written are the types whose output is what a cast to text gives, so that COPY's text format
// needs no cast: it costs the server a third less than texts in the binary format do.
var written = map[string]bool{
	"smallint": true, "integer": true, "bigint": true, "numeric": true, "real": true, "double precision": true,
	"text": true, "character varying": true, "date": true, "timestamp without time zone": true,
	"timestamp with time zone": true,
	"time without time zone":   true, "interval": true, "uuid": true, "json": true, "jsonb": true, "bytea": true,
}

// lineList is columns for COPY's text format, whose fields are what [textList] gives.
func lineList(cols []domain.Column) string {
	out := make([]string, len(cols))
	for i, c := range cols {
		if out[i] = textList(cols[i : i+1]); written[c.BaseType] && c.Expression == "" {
			out[i] = read(c)
		}
	}
	return strings.Join(out, ", ")
}

// copyLines runs a query whose rows come in COPY's text format; the server must have counted
// as many. Lines come without their ends, and may be changed.
func copyLines(ctx context.Context, conn *pgconn.PgConn, query string, line func([]byte) error) error {
	s := &lineSink{line: line}
	tag, err := conn.CopyTo(ctx, s, "COPY ("+query+") TO STDOUT (FORMAT text)")
	if err == nil && tag.RowsAffected() != s.lines {
		err = fmt.Errorf("the server says that it copied %d rows, but %d came", tag.RowsAffected(), s.lines)
	}
	return err
}

// lineSink takes messages of whole lines, as a server sends them.
type lineSink struct {
	line  func([]byte) error
	lines int64
}

func (s *lineSink) Write(b []byte) (int, error) {
	for rest := b; len(rest) > 0; {
		n := bytes.IndexByte(rest, '\n')
		if n < 0 {
			return 0, pgcopy.ErrText
		}
		s.lines++
		if err := s.line(rest[:n:n]); err != nil {
			return 0, err
		}
		rest = rest[n+1:]
	}
	return len(b), nil
}

// copyTexts reads a chunk for a target of another engine.
func (r *reader) copyTexts(ctx context.Context, p *domain.TablePlan, c *domain.Chunk,
	sink func([]byte) error) (rowhash.Sum, error) {
	w := newWriting(p)
	out := r.gather(sink)
	lines := &lineSink{line: w.cut(pgcopy.TextFields, func(fields [][]byte) error {
		size := 2
		for _, f := range fields {
			size += 4 + len(f)
		}
		b, err := out.room(size)
		if err != nil {
			return err
		}
		return out.took(pgcopy.AppendFields(b, fields))
	})}
	return r.copyRows(ctx, p, fmt.Sprintf("SELECT %s FROM %s%s", lineList(p.ComparedColumns()), from(p),
		keyRange(p, c.Lower, c.Upper)), "text", lines.Write, out)
}

// gathered makes blocks of rows.
type gathered struct {
	block   []byte // empty
	buf     []byte
	sink    func([]byte) error
	refused error // by the taker: not the source's fault
}

// gather begins to gather rows.
func (r *reader) gather(sink func([]byte) error) *gathered {
	if r.gathers == nil {
		r.gathers = make([]byte, 0, blockSize)
	}
	return &gathered{block: r.gathers, buf: r.gathers, sink: sink}
}

// room returns what a row of about so many bytes is appended to.
func (g *gathered) room(size int) ([]byte, error) {
	if len(g.buf)+size <= cap(g.buf) {
		return g.buf, nil
	}
	if err := g.flush(); err != nil {
		return nil, err
	}
	if size > cap(g.buf) { // a row wider than a block travels alone
		g.buf = make([]byte, 0, size)
	}
	return g.buf, nil
}

// took takes back what room gave, with the row.
func (g *gathered) took(b []byte) error {
	if g.buf = b; len(b) < cap(g.block) {
		return nil
	}
	return g.flush()
}

func (g *gathered) flush() error {
	if len(g.buf) > 0 {
		g.refused = g.sink(g.buf)
	}
	g.buf = g.block
	return g.refused
}

// copyRows runs a query whose rows come by COPY, and hands each message of them to a function,
// which gathers what is to be handed on. The sum is of the rows as they come.
func (r *reader) copyRows(ctx context.Context, p *domain.TablePlan, query, form string,
	row func(message []byte) (int, error), out *gathered) (rowhash.Sum, error) {
	w, err := takeWire(ctx, r.conn)
	if err != nil {
		return rowhash.Sum{}, err
	}
	f := pgcopy.Frames{Binary: form == "binary"}
	cut := pgcopy.Cutter{Row: func(message []byte) error {
		_, err := row(message)
		return err
	}}
	err = w.copyOut("COPY ("+query+") TO STDOUT (FORMAT "+form+")", &f, r.block, cut.Take)
	if err == nil {
		err = out.flush()
	}
	switch {
	case out.refused != nil:
		w.cut()
		return rowhash.Sum{}, out.refused
	case err != nil:
		w.cut()
		if ctx.Err() != nil {
			err = ctx.Err()
		}
		return rowhash.Sum{}, fmt.Errorf("reading %s: %w", p.Source, r.d.explain(err))
	}
	r.conn, err = w.giveBack()
	return f.Sum, err
}

// Range reads rows as texts in the target's form.
func (v *view) Range(ctx context.Context, p *domain.TablePlan, lower, upper domain.KeyValue,
	visit func(row []byte, fields [][]byte) error) error {
	return v.texts(ctx, p, keyRange(p, lower, upper), visit)
}

// At reads the rows at keys.
func (v *view) At(ctx context.Context, p *domain.TablePlan, keys []domain.KeyValue,
	visit func(row []byte, fields [][]byte) error) error {
	any := make([]string, len(keys))
	for i, k := range keys {
		on := make([]string, len(k))
		for j, name := range p.Key {
			on[j] = quote(name) + " = " + literal(k[j]) + "::" + columnOf(p, name).Type
		}
		any[i] = "(" + strings.Join(on, " AND ") + ")"
	}
	return v.texts(ctx, p, " WHERE "+strings.Join(any, " OR "), visit)
}

func (v *view) texts(ctx context.Context, p *domain.TablePlan, where string,
	visit func(row []byte, fields [][]byte) error) error {
	w := newWriting(p)
	var row []byte
	return v.d.explain(copyLines(ctx, v.conn.PgConn(), "SELECT "+lineList(p.ComparedColumns())+" FROM "+from(p)+where,
		w.cut(pgcopy.TextFields, func(out [][]byte) error {
			row = pgcopy.AppendFields(row[:0], out)
			return visit(row, out)
		})))
}
