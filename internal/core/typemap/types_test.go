package typemap

import (
	"testing"

	"dustyferry/internal/domain"
)

// TestDescriptorsMeet: what a type becomes on the other side has a descriptor there, so that values
// can come back, and every type has one way to be written over.
func TestDescriptorsMeet(t *testing.T) {
	column := func(base string) domain.Column { return domain.Column{Name: "c", Type: base + "(3)", BaseType: base} }
	for base, is := range mariaTypes {
		m := ToPostgres(column(base))
		if neutralTypes[m.Column.BaseType] == nil && m.Column.BaseType != "timestamp" {
			t.Errorf("%s becomes %s (%s), which has no descriptor", base, m.Column.Type, m.Column.BaseType)
		}
		if bytes := IsBytes(base); bytes != (m.Column.BaseType == "bytea") || bytes && (!is.unlike || is.own == nil) {
			t.Errorf("%s is of bytes, and its values would be taken for texts", base)
		}
		if is.value == nil && is.own != nil {
			t.Errorf("%s has a text form of its own, and goes over as it is", base)
		}
	}
	for base := range neutralTypes {
		m := toMariaDB(column(base), place{})
		if mariaTypes[m.Column.BaseType] == nil {
			t.Errorf("%s becomes %s, which has no descriptor", base, m.Column.Type)
		}
		if a, b := family(base), family(m.Column.BaseType); a != b && neutralTypes[base].kind != "" && base != "oid" {
			t.Errorf("%s is of kind %s, and becomes %s of kind %s", base, a, m.Column.Type, b)
		}
	}
}
