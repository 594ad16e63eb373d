package csvfile

import (
	"encoding/csv"
	"errors"
	"io"

	"dustyferry/internal/core/textrows"
	"dustyferry/internal/domain"
)

// records reads records of a file written so, each with the number of its line. A record that cannot be
// taken apart, or has another number of values, comes with the reason, and the next one after it.
type records struct {
	csv   *csv.Reader
	width int
	first bool
}

// newRecords is for a file from its beginning on.
func newRecords(r io.Reader, d textrows.Dialect) (*records, error) {
	if d.Mark {
		if _, err := io.ReadFull(r, make([]byte, len(textrows.ByteOrderMark))); err != nil {
			return nil, err
		}
	}
	out := &records{csv: csv.NewReader(r), width: len(d.Columns), first: d.Header}
	out.csv.Comma, out.csv.ReuseRecord, out.csv.FieldsPerRecord = d.Delimiter, true, -1
	return out, nil
}

// next returns the next record, io.EOF at the end. Its values are good until the next.
func (r *records) next() (values []string, line int, refused, err error) {
	if r.first {
		r.first = false
		if _, err := r.csv.Read(); err != nil {
			return nil, 0, nil, err
		}
	}
	values, err = r.csv.Read()
	var bad *csv.ParseError
	if errors.As(err, &bad) {
		return nil, bad.StartLine, domain.Conflict("line %d: %s", bad.StartLine, bad.Err), nil
	}
	if err != nil {
		return nil, 0, nil, err
	}
	line, _ = r.csv.FieldPos(0)
	if len(values) != r.width {
		return values, line, domain.Conflict("line %d has %s, and the first row %d", line, domain.Many(len(values), "value"),
			r.width), nil
	}
	return values, line, nil, nil
}
