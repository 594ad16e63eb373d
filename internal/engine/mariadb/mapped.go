package mariadb

import (
	"fmt"
	"strconv"
	"strings"

	"dustyferry/internal/domain"
	"dustyferry/internal/protocol/binlog"
)

// How a planned column stands in the log's table maps: a map that says otherwise is of
// another definition, whether or not a statement of the log told so (a session with its log
// off may alter tables too).

// logged are the log's types of a column's type.
var logged = map[string][]binlog.ColumnType{
	"tinyint": {binlog.ColTiny}, "smallint": {binlog.ColShort}, "mediumint": {binlog.ColInt24}, "int": {binlog.ColLong},
	"bigint": {binlog.ColLongLong},
	"float":  {binlog.ColFloat}, "double": {binlog.ColDouble}, "decimal": {binlog.ColNewDecimal}, "bit": {binlog.ColBit},
	"year": {binlog.ColYear},
	"date": {binlog.ColDate}, "time": {binlog.ColTime2, binlog.ColTime}, "datetime": {binlog.ColDatetime2,
		binlog.ColDatetime}, "timestamp": {binlog.ColTimestamp2, binlog.ColTimestamp},
	"char": {binlog.ColString}, "binary": {binlog.ColString}, "uuid": {binlog.ColString}, "inet4": {binlog.ColString},
	"inet6":   {binlog.ColString},
	"varchar": {binlog.ColVarchar, binlog.ColVarString}, "varbinary": {binlog.ColVarchar, binlog.ColVarString},
	"enum": {binlog.ColEnum}, "set": {binlog.ColSet},
	"tinytext": {binlog.ColBlob}, "text": {binlog.ColBlob}, "mediumtext": {binlog.ColBlob}, "longtext": {binlog.ColBlob},
	"json":     {binlog.ColBlob},
	"tinyblob": {binlog.ColBlob}, "blob": {binlog.ColBlob}, "mediumblob": {binlog.ColBlob}, "longblob": {binlog.ColBlob},
}

// lengthBytes is in how many bytes the length of a large value is written.
var lengthBytes = map[string]uint16{"tinytext": 1, "tinyblob": 1, "text": 2, "blob": 2, "mediumtext": 3,
	"mediumblob": 3, "longtext": 4, "longblob": 4, "json": 4}

// mapsAs reports whether the log writes a column as one of its planned type.
func mapsAs(c domain.Column, is binlog.Column) bool {
	base := strings.TrimSuffix(c.BaseType, " unsigned")
	types, known := logged[base]
	if !known {
		return true // shapes, and what is left out
	}
	for _, t := range types {
		if t == is.Type {
			return sameMeta(base, c.Type, is)
		}
	}
	return false
}

func sameMeta(base, full string, is binlog.Column) bool {
	switch base {
	case "decimal":
		digits, fraction := bracketed(full)
		return is.Meta == uint16(digits)<<8|uint16(fraction)
	case "bit":
		bits, _ := bracketed(full)
		return int(is.Meta>>8)*8+int(is.Meta&0xff) == max(bits, 1)
	case "time", "datetime", "timestamp":
		fraction, _ := bracketed(full)
		return is.Type == binlog.ColTime || is.Type == binlog.ColDatetime || is.Type == binlog.ColTimestamp ||
			is.Meta == uint16(fraction)
	}
	if n, ok := lengthBytes[base]; ok {
		return is.Meta == n
	}
	return true
}

// outdated reports whether a time with fractions of a second is written in the form of
// servers before 10.1, of which the log does not say how long it is.
func outdated(c domain.Column, is binlog.Column) bool {
	fraction, _ := bracketed(c.Type)
	return fraction > 0 && (is.Type == binlog.ColTime || is.Type == binlog.ColDatetime || is.Type == binlog.ColTimestamp)
}

// bracketed are the numbers in the brackets of a type.
func bracketed(full string) (a, b int) {
	_, rest, ok := strings.Cut(full, "(")
	if !ok {
		return 0, 0
	}
	list, _, _ := strings.Cut(rest, ")")
	x, y, _ := strings.Cut(list, ",")
	a, _ = strconv.Atoi(strings.TrimSpace(x))
	b, _ = strconv.Atoi(strings.TrimSpace(y))
	return a, b
}

// strange says how a table's map is not of the table that was planned; empty where it is.
func (k *captured) strange(t *binlog.Table) (string, error) {
	if len(t.Columns) != len(k.shape) {
		return fmt.Sprintf("it has %d columns now, the plan has %d", len(t.Columns), len(k.shape)), nil
	}
	for i, c := range k.table.Plan.Table.Columns {
		if outdated(c, t.Columns[i]) {
			name := qualified(k.table.Plan.Source)
			return "", domain.Conflict("column %s of %s keeps its fractions of a second in the form of servers before 10.1, "+
				"which cannot be read from the log: SET GLOBAL mysql56_temporal_format = ON; ALTER TABLE %s FORCE; then "+
				"restart the table", c.Name, k.table.Plan.Source, name)
		}
		if !mapsAs(c, t.Columns[i]) {
			return fmt.Sprintf("its column %s is no longer %s in the log", c.Name, c.Type), nil
		}
	}
	return "", nil
}
