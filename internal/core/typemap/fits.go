package typemap

import (
	"dustyferry/internal/domain"
)

// Limit says why a value, given in the target's text form, does not fit.
type Limit func(v []byte) error

// Limits compiles what is known against values of a column of an engine: lengths,
// ranges and lists, not what rules of the table say. It is nil where there is
// nothing.
func Limits(engine string, c domain.Column) Limit {
	of := mariaOf(c.BaseType).limit
	if engine != MariaDB {
		of = neutralOf(c.BaseType).limit
	}
	if of == nil {
		return nil
	}
	return of(c)
}
