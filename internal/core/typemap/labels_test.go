package typemap

import (
	"slices"
	"testing"
)

// TestLabels reads labels as the server writes them.
func TestLabels(t *testing.T) {
	for typ, want := range map[string][]string{
		`enum('a','b')`:                       {"a", "b"},
		`set('it''s','x,y','')`:               {"it's", "x,y", ""},
		`enum('back\\slash','unsigned','\n')`: {`back\slash`, "unsigned", "\n"},
		`enum('\\','''')`:                     {`\`, "'"},
	} {
		if got := Labels(typ); !slices.Equal(got, want) {
			t.Errorf("%s: %q, want %q", typ, got, want)
		}
	}
}
