package engine

import "dustyferry/internal/protocol/pgcopy"

// Row is a row in the neutral form that [Writer.InsertRows] takes, of its fields' texts; nil is
// NULL.
func Row(fields [][]byte) []byte { return pgcopy.AppendFields(nil, fields) }

// Fields takes apart what Row put together; they point into the row.
func Fields(row []byte) ([][]byte, error) { return pgcopy.Fields(nil, row) }
