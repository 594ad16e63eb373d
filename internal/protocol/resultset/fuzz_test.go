package resultset

import "testing"

// FuzzRows: whatever a server says of its columns and sends as a row, nothing panics.
func FuzzRows(f *testing.F) {
	column := append([]byte("\x03def\x01d\x01t\x01t\x01n\x01n\x0c"), 45, 0, 20, 0, 0, 0, typeDateTime, 0, 0, 9, 0, 0)
	f.Add(column, []byte{0, 0, 11, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11})
	f.Add(column, []byte{})
	f.Add([]byte{}, []byte{0xfe, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff})
	for kind := range 256 {
		c := append([]byte{}, column...)
		c[len(c)-5] = byte(kind)
		f.Add(c, []byte{0, 0, 8, 1, 2, 3, 4, 5, 6, 7, 8})
	}
	f.Fuzz(func(t *testing.T, column, row []byte) {
		_, _, _ = Length(row)
		_ = Texts(make([][]byte, 3), row)
		c, err := ParseColumn(column)
		if err != nil {
			return
		}
		_, _, _ = c.Spelled(), c.NotNull(), c.Text()
		d := Decoder{Columns: []Column{c, c}}
		if err := d.Cut(row); err != nil {
			return
		}
		for _, v := range d.Raw {
			if v == nil {
				continue
			}
			switch c.Form() {
			case Real:
				_ = c.Float(v)
			case Moment, Span:
				_, _ = c.Clock(v)
			}
			_, _ = c.AppendText(nil, v)
		}
	})
}
