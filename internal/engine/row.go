package engine

import (
	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/protocol/pgcopy"
)

// Row is a row in the neutral form that [Writer.InsertRows] takes, of its fields' texts; nil is
// NULL.
func Row(fields [][]byte) []byte { return pgcopy.AppendFields(nil, fields) }

// Fields takes apart what Row put together; they point into the row.
func Fields(row []byte) ([][]byte, error) { return pgcopy.Fields(nil, row) }

// blockSize is about how many bytes of rows [CopyRows] hands on at once.
const blockSize = 128 << 10

// CopyRows is [Reader.Copy] over rows, for engines that give them as texts one by one.
func CopyRows(rows func(take func(fields [][]byte, refused error) error) error, sink func([]byte) error) (
	rowhash.Sum, error) {
	var sum rowhash.Sum
	buf := make([]byte, 0, blockSize+blockSize/4)
	err := rows(func(fields [][]byte, refused error) error {
		if refused != nil {
			return refused
		}
		from := len(buf)
		buf = pgcopy.AppendFields(buf, fields)
		sum.Add(buf[from:])
		if len(buf) < blockSize {
			return nil
		}
		err := sink(buf)
		buf = buf[:0]
		return err
	})
	if err == nil && len(buf) > 0 {
		err = sink(buf)
	}
	return sum, err
}

// previewLimit is how many characters of a value are shown.
const previewLimit = 200

// PreviewRow is a row as [Reads.Preview] gives it.
func PreviewRow(fields [][]byte) []*string {
	row := make([]*string, len(fields))
	for i, f := range fields {
		if f != nil {
			s := []rune(string(f))
			text := string(s[:min(len(s), previewLimit)])
			row[i] = &text
		}
	}
	return row
}
