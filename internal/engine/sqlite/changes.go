package sqlite

import (
	"database/sql/driver"
	"fmt"
	"math"
	"slices"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// micros are the microseconds since 1970 of a Julian day.
func micros(day float64) int64 {
	const epoch = 2_440_587.5
	return int64(math.Round((day - epoch) * 86_400_000 * 1000))
}

func sizeOf(c *domain.Change) int {
	n := 100
	for _, r := range []domain.Row{c.Old, c.New} {
		for i := range r {
			n += len(r[i].Data) + 32
		}
	}
	return n
}

// change is a row of the log as a change of the plan's table.
func (k *captured) change(e *entry) (domain.Change, error) {
	out := domain.Change{Table: k.table.ID}
	var err error
	if e.kind != logInsert {
		if err := k.sameKey(k.olds, e.old); err != nil {
			return out, err
		}
		if out.Old, err = k.row(k.olds, e.old); err != nil {
			return out, err
		}
		out.OldWhole = !k.keyed
	}
	if e.kind == logInsert || e.kind == logUpdate {
		if err := k.sameKey(k.news, e.new); err != nil {
			return out, err
		}
		if out.New, err = k.row(k.news, e.new); err != nil {
			return out, err
		}
	}
	switch e.kind {
	case logInsert:
		out.Kind = domain.Insert
	case logUpdate:
		out.Kind = domain.Update
	case logDelete, logCheck:
		out.Kind = domain.Delete
	default:
		return out, fmt.Errorf("the log says %q, which is nothing that we write", e.kind)
	}
	return out, nil
}

// sameKey refuses a key with a value of another class than its column has, whose chunk is not known.
func (k *captured) sameKey(places []int, values []driver.Value) error {
	for _, key := range k.keys {
		class := "null"
		switch values[places[key.at]].(type) {
		case int64:
			class = "integer"
		case float64:
			class = "real"
		case string:
			class = "text"
		case []byte:
			class = "blob"
		}
		if !slices.Contains(key.classes, class) {
			return domain.Conflict("the column %s of the key has a value of the type %s, and others of the type %s",
				k.cols[key.at].Name, class, key.classes[0])
		}
	}
	return nil
}

// row writes values, by their places, in the form of the plan's columns; those without a place stay out.
func (k *captured) row(places []int, values []driver.Value) (domain.Row, error) {
	for i, at := range places {
		k.values[i] = nil
		if at >= 0 {
			k.values[i] = values[at]
		}
	}
	fields, err := k.lines.of(k.values)
	if err != nil {
		return nil, err
	}
	return engine.TextRow(fields), nil
}
