package typemap

import (
	"dustyferry/internal/domain"
)

// Convert writes one value over: it appends the target's text to dst. The second
// result is false when the value becomes NULL. It is for one goroutine.
type Convert func(dst, value []byte) ([]byte, bool, error)

// Compile returns how values of a column are written for the column of another
// engine. From PostgreSQL they come as its texts; from MariaDB as a SELECT gives
// them, bits as a number.
//
// A masked column's values are replaced by hashes of what they would be.
func Compile(from, to string, column, target domain.Column, rt *domain.Runtime) Convert {
	from, to = form(from), form(to)
	if column.Mask != "" {
		return masked(from, column, target, rt)
	}
	f := compile(from, to, column, target)
	if target.Type != usual(from, to, column) {
		f = coerce(f, to, column, target)
	}
	if column.Longest > 0 {
		return limited(from, column, f, rt)
	}
	return f
}

// AsUsual reports whether values of a column go over as a column of their type does where
// nobody has said anything of it: not hidden, not cut, and into the usual type.
func AsUsual(from, to string, column, target domain.Column) bool {
	return column.Mask == "" && column.Longest == 0 && target.Type == usual(from, to, column)
}

// Told is what becomes of a value that a default of a MariaDB source gives, where rows that
// stand on the target can be given the same; nil otherwise.
func (w Mapping) Told(column, target domain.Column, value string, rt *domain.Runtime) *string {
	switch {
	case w.From != MariaDB:
		return nil
	case w.To == MariaDB && target.Default == column.Default && column.Mask == "":
		return &value // the target's default gives it by itself
	case w.To == MariaDB:
		return nil
	}
	out, ok, err := Compile(w.From, w.To, column, target, rt)(nil, []byte(value))
	if !ok || err != nil {
		return nil
	}
	text := string(out)
	return &text
}

func compile(from, to string, column, target domain.Column) Convert {
	maria := mariaOf(column.BaseType)
	if from == Postgres && to == MariaDB {
		if f := backInto(column, target); f != nil {
			return f
		}
	}
	switch {
	case from == to && from == MariaDB:
		return ownText(column)
	case from == Postgres && column.BaseType == "character": // a cast and the log write it unlike
		return unblanked
	case from == to, from == Postgres && isText(target.BaseType):
		return same
	case from == MariaDB && isText(target.BaseType) && !maria.unlike, from == MariaDB && maria.value == nil &&
		target.BaseType != "boolean":
		return text
	case from == MariaDB && target.BaseType == "boolean":
		return yesOrNo
	case from == MariaDB:
		return maria.value(column, target)
	}
	if f := neutralOf(column.BaseType).value; f != nil {
		return f(target)
	}
	return same
}

func same(dst, v []byte) ([]byte, bool, error) { return append(dst, v...), true, nil }

// ownText brings a value to MariaDB's text form.
func ownText(c domain.Column) Convert {
	if own := mariaOf(c.BaseType).own; own != nil {
		return own(c)
	}
	return same
}
