package domain

import (
	"strings"
	"time"
)

// BadRow is a row that the target could not take as it is: it was set aside, or landed with a
// value cut.
type BadRow struct {
	ID        int64              `db:"id"`
	TableName string             `db:"table_name"`
	Ordinal   int                `db:"ordinal"` // of its chunk
	Key       KeyValue           `db:"-"`       // nil: the table has none
	Row       map[string]*string `db:"-"`       // by column, shortened; nil is NULL
	Column    string             `db:"column_name"`
	Error     string             `db:"error"`
	Landed    bool               `db:"landed"` // it is on the target, with a value that was cut
	At        time.Time          `db:"at"`
}

// String says where the row is and what is wrong with it.
func (r BadRow) String() string {
	where := "a row without a key"
	if r.Key != nil {
		where = "key " + strings.Join(r.Key, ", ")
	}
	why := strings.TrimSuffix(r.Error, ".")
	if named := "column " + r.Column; r.Column != "" && !strings.HasPrefix(why, named+" ") { // it may say so itself
		where, why = where+", "+named, strings.TrimPrefix(why, named+": ")
	}
	return where + ": " + why
}

// BatchHint says how many neighbouring chunks a lane would carry at once, by how it
// went with a table; with another it begins with half as many. Small is of how many small tables,
// of one chunk each.
type BatchHint struct {
	Table int64
	Most  int
	Small int
}
