package domain

import "testing"

func TestARowThatCannotLandIsNamedOnce(t *testing.T) {
	for want, r := range map[string]BadRow{
		"key 2: column doc holds no number":      {Key: KeyValue{"2"}, Column: "doc", Error: "column doc holds no number."},
		"key 2, column doc: it is no number":     {Key: KeyValue{"2"}, Column: "doc", Error: "column doc: it is no number"},
		"key 2, 3, column doc: too long":         {Key: KeyValue{"2", "3"}, Column: "doc", Error: "too long"},
		"a row without a key: the row is denied": {Error: "the row is denied"},
	} {
		if got := r.String(); got != want {
			t.Errorf("%q, not %q", got, want)
		}
	}
}
