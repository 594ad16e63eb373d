// Package fit finds the values of a table that its planned target columns cannot
// hold. It is given rows and keeps an account; it reads nothing itself.
package fit

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
)

// examples is how many misfits of a column are kept whole.
const examples = 3

// Example is one value that does not fit.
type Example struct {
	Key   domain.KeyValue // of its row, empty where the table has none or it was not read
	Value string          // at most 80 characters
	Why   string
}

// Misfit is a column with values that do not fit.
type Misfit struct {
	Column   string
	Type     string // planned
	Count    int64
	Nulls    int64 // of them, those that become NULL
	Cuts     int64 // and those that are cut to Limit bytes; the others stop the load
	Limit    int64
	Examples []Example // the first
	Longest  int       // characters, of those whose length is too much
	Whole    int       // most digits before the point, of numbers that are too large
	Part     int       // most digits behind it
	Suggest  string    // a type that would hold all that was read; empty where none would
}

// Check looks at the rows of one table.
type Check struct {
	Rows  int64
	Bytes int64

	engine  string
	names   []string
	target  []domain.Column
	conv    []typemap.Convert
	limit   []typemap.Limit // nil: none
	key     []int
	misfits []Misfit // by column; Count 0: none
	cut     bool     // the value was cut
	out     []byte
}

// New begins a check of a plan from an engine. The last result is false when
// nothing can fail to fit, as rows travel in the engine's own form and types.
func New(from string, p *domain.TablePlan) (*Check, bool) {
	if !p.CrossEngine {
		return nil, false
	}
	c := &Check{engine: p.TargetSide.Engine}
	rt := p.Runtime.WithTruncated(func() { c.cut = true })
	for i, col := range p.CopiedColumns() {
		there := p.TargetColumns()[i]
		c.names, c.target = append(c.names, col.Name), append(c.target, there)
		c.conv = append(c.conv, typemap.Compile(from, c.engine, col, there, rt))
		c.limit = append(c.limit, typemap.Limits(c.engine, there))
	}
	c.key = p.KeyIndexes(p.CopiedColumns())
	c.misfits = make([]Misfit, len(c.names))
	for i, col := range p.CopiedColumns() {
		c.misfits[i].Limit = col.Longest
	}
	return c, true
}

var (
	errNull = errors.New("it becomes NULL")
	errCut  = errors.New("it is cut")
)

// Refused counts a row that the source itself cannot give as its columns are planned.
func (c *Check) Refused(fields [][]byte, column, why string) {
	c.Rows++
	for i, name := range c.names {
		c.Bytes += int64(len(fields[i]))
		if name == column {
			c.note(i, fields, fields[i], errors.New(why))
		}
	}
}

// Row looks at a row: its values as the source's texts, nil for NULL. Values that
// were not read are NULL too.
func (c *Check) Row(fields [][]byte) {
	c.Rows++
	for i, f := range fields {
		c.Bytes += int64(len(f))
		if f == nil || c.target[i].Generated {
			continue
		}
		var ok bool
		var err error
		c.cut = false
		c.out, ok, err = c.conv[i](c.out[:0], f)
		switch {
		case err == nil && ok && c.limit[i] != nil:
			err = c.limit[i](c.out)
		case err == nil && ok:
		case err == nil && c.target[i].NotNull:
			err = fmt.Errorf("it becomes NULL, which the column does not take")
		case err == nil:
			err = errNull
		}
		if err == nil && c.cut {
			err = errCut
		}
		if err != nil {
			c.note(i, fields, f, err)
		}
	}
}

func (c *Check) note(i int, fields [][]byte, v []byte, why error) {
	m := &c.misfits[i]
	m.Column, m.Type = c.names[i], c.target[i].Type
	m.Count++
	if errors.Is(why, errNull) {
		m.Nulls++
	}
	if errors.Is(why, errCut) {
		m.Cuts++
	}
	m.Longest = max(m.Longest, utf8.RuneCount(v))
	if whole, part, ok := digits(string(v)); ok {
		m.Whole, m.Part = max(m.Whole, whole), max(m.Part, part)
	}
	if len(m.Examples) >= examples {
		return
	}
	e := Example{Value: shown(v), Why: why.Error()}
	for _, k := range c.key {
		if fields[k] == nil {
			e.Key = nil
			break
		}
		e.Key = append(e.Key, string(fields[k]))
	}
	m.Examples = append(m.Examples, e)
}

// digits counts those of a plain number.
func digits(v string) (whole, part int, ok bool) {
	w, p, _ := strings.Cut(strings.TrimPrefix(v, "-"), ".")
	if w == "" || strings.Trim(w+p, "0123456789") != "" {
		return 0, 0, false
	}
	return len(w), len(p), true
}

func shown(v []byte) string {
	const most = 80
	s := strings.ToValidUTF8(string(v), "\ufffd")
	if utf8.RuneCountInString(s) > most {
		return strconv.Quote(string([]rune(s)[:most-1])) + "…"
	}
	return strconv.Quote(s)
}

// Misfits returns the columns with values that do not fit, in their order.
func (c *Check) Misfits() []Misfit {
	var out []Misfit
	for i, m := range c.misfits {
		if m.Count > 0 {
			m.Suggest = suggest(c.engine, c.target[i], m)
			out = append(out, m)
		}
	}
	return out
}

// suggest names a type that holds what did not fit.
func suggest(engine string, c domain.Column, m Misfit) string {
	text := map[string]string{typemap.MariaDB: "longtext", typemap.Postgres: "text"}[engine]
	switch base := strings.TrimSuffix(c.BaseType, " unsigned"); base {
	case "varchar", "char", "character varying", "character":
		if n := m.Longest; engine == typemap.MariaDB && n <= 700 {
			return fmt.Sprintf("varchar(%d)", n)
		}
		return text
	case "varbinary", "binary":
		return "longblob"
	case "smallint", "integer", "int", "tinyint", "mediumint", "bigint":
		if m.Whole == 0 {
			return ""
		}
		if m.Whole < 19 {
			return "bigint"
		}
		return fmt.Sprintf("%s(%d,0)", map[string]string{typemap.MariaDB: "decimal", typemap.Postgres: "numeric"}[engine],
			m.Whole)
	case "decimal":
		if m.Whole == 0 { // no number at all
			return "varchar(120)"
		}
		if m.Whole+m.Part <= 65 && m.Part <= 38 {
			return fmt.Sprintf("decimal(%d,%d)", m.Whole+m.Part, m.Part)
		}
		return text
	case "float", "double":
		return "varchar(30)"
	case "json":
		return text
	case "enum":
		return "varchar(255)"
	case "date", "datetime", "timestamp without time zone", "timestamp with time zone":
		return map[string]string{typemap.MariaDB: "varchar(40)", typemap.Postgres: text}[engine]
	}
	return ""
}
