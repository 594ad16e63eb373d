package engine

import (
	"errors"
	"fmt"
	"slices"

	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
)

// Unfit is of a value that is not of its column's planned type, where an engine's columns can hold such.
type Unfit struct{ Column, Why string }

func (u *Unfit) Error() string { return "column " + u.Column + " holds " + u.Why }

// Unwrap makes it a refusal of rows.
func (u *Unfit) Unwrap() error { return domain.Conflict("%s", u.Error()) }

// FieldWriter writes rows of a plan as fields in the neutral form or, where the plan has a target and it is
// to convert, in that one's form; for engines that are given rows value by value.
type FieldWriter struct {
	cols   []domain.Column
	conv   []typemap.Convert // nil: the neutral form
	fields [][]byte
	values []byte
	mid    []byte
	ends   []int // of each field in values
	null   []bool
}

// NewFieldWriter is for columns of a plan, which its own engine gives.
func NewFieldWriter(from string, p *domain.TablePlan, cols []domain.Column, convert bool) *FieldWriter {
	w := &FieldWriter{cols: cols, fields: make([][]byte, len(cols)), ends: make([]int, len(cols)),
		null: make([]bool, len(cols))}
	if !convert || p.TargetSide == nil {
		return w
	}
	there := p.TargetColumns()
	for i, c := range cols {
		w.conv = append(w.conv, typemap.Compile(from, p.TargetSide.Engine, c, there[i], p.Runtime))
	}
	return w
}

// Row returns a row's fields, which are good until the next. write appends the neutral text of the value of
// column i; false is NULL. Its error, or that of the target's form, is of the whole row.
func (w *FieldWriter) Row(write func(dst []byte, i int) ([]byte, bool, error)) ([][]byte, error) {
	w.values = w.values[:0]
	for i := range w.cols {
		var ok bool
		var err error
		if w.conv == nil {
			w.values, ok, err = write(w.values, i)
		} else if w.mid, ok, err = write(w.mid[:0], i); err == nil && ok {
			if w.values, ok, err = w.conv[i](w.values, w.mid); err != nil {
				err = &Unfit{w.cols[i].Name, fmt.Sprintf("%.40q: %s", w.mid, err)}
			}
		}
		if err != nil {
			return nil, err
		}
		w.ends[i], w.null[i] = len(w.values), !ok
	}
	from := 0
	for i, to := range w.ends {
		w.fields[i] = w.values[from:to:to]
		if w.null[i] {
			w.fields[i] = nil
		}
		from = to
	}
	return w.fields, nil
}

// ColumnOf is the place of the column that a row was refused for, the first where it was for the row.
func ColumnOf(refused error, cols []domain.Column) int {
	var u *Unfit
	if !errors.As(refused, &u) {
		return 0
	}
	return max(0, slices.IndexFunc(cols, func(c domain.Column) bool { return c.Name == u.Column }))
}

// Unlike marks a refused row's fields for a comparison, so that it is like none that the other side can
// have.
func Unlike(fields [][]byte, refused error, cols []domain.Column) [][]byte {
	if refused != nil {
		i := ColumnOf(refused, cols)
		fields[i] = append(fields[i], " (not as planned)"...)
	}
	return fields
}

// NoLog is what a driver says of places in a log whose engine has none.
type NoLog struct{}

var errNoLog = domain.Invalid("a file has no log that changes could be read from")

// FormatPosition writes nothing.
func (NoLog) FormatPosition(domain.Position) string { return "" }

// ParsePosition reads none.
func (NoLog) ParsePosition(string) (domain.Position, error) { return domain.Position{}, errNoLog }

// CheckPlace refuses all.
func (NoLog) CheckPlace(string) error { return errNoLog }

// StopMethods are a person's word alone.
func (NoLog) StopMethods() []domain.StopMethod { return []domain.StopMethod{domain.StopWord} }
