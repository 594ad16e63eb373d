package typemap

import (
	"maps"
	"strings"

	"dustyferry/internal/domain"
)

// The neutral form of a type and of its values is PostgreSQL's: every engine has one descriptor a
// type to and from it, so that engines need no word about each other. MariaDB's stand here, one
// file a family: numbers, bytes, times, and texts with what is nearest to them.

// becomes is what a column becomes on the other side.
type becomes struct {
	typ     string
	verdict Verdict
	note    string
}

// mariaType is one type of MariaDB's, as its catalogue names it: without brackets, with " unsigned"
// behind where it is. A nil function stands for what most types do.
type mariaType struct {
	// kind is of types whose values are of one kind; empty: of its own.
	kind string
	// neutral is what a column of it becomes; a and b are the numbers in its brackets, -1 for none.
	neutral func(c domain.Column, a, b int) becomes
	// value writes a value as the neutral type does; nil: a text, as it is.
	value func(c, to domain.Column) Convert
	// own writes a value, as a SELECT gives it, in MariaDB's own text form; nil: as it is.
	own func(c domain.Column) Convert
	// limit is what values have to be; nil: anything.
	limit func(c domain.Column) Limit
	// unlike: what a SELECT gives of it is not the text that other types take.
	unlike bool
}

// neutralType is one of PostgreSQL's types, as MariaDB keeps it.
type neutralType struct {
	kind string
	// there is what a column of it becomes in MariaDB.
	there func(c domain.Column, in place, a, b int) becomes
	// value writes a value's text as MariaDB gives it back; nil: as it is.
	value func(to domain.Column) Convert
	limit func(c domain.Column) Limit
}

// place says where a column stands in its table.
type place struct {
	keyed   int      // how many texts and binaries the primary key has, 0 where the column is not in it
	room    int      // bytes of the key for each of them
	labels  []string // of an enumeration
	numbers bool     // the target can number it: a whole number that begins a key
}

var (
	mariaTypes   = map[string]*mariaType{}
	neutralTypes = map[string]*neutralType{}
)

func init() {
	for _, of := range []map[string]*mariaType{mariaNumbers, mariaTexts, mariaBytes, mariaTimes} {
		maps.Copy(mariaTypes, of)
	}
	for _, of := range []map[string]*neutralType{neutralNumbers, neutralTexts, neutralBytes, neutralTimes} {
		maps.Copy(neutralTypes, of)
	}
}

// mariaOf is the descriptor of one of MariaDB's types; of one that is not known, that of a text.
func mariaOf(base string) *mariaType {
	if t := mariaTypes[base]; t != nil {
		return t
	}
	if t := mariaTypes[strings.TrimSuffix(base, " unsigned")]; t != nil {
		return t
	}
	return &mariaType{neutral: func(c domain.Column, _, _ int) becomes {
		return becomes{"text", Lossy, "the type " + c.Type + " is not known here; it is kept as text"}
	}}
}

// neutralOf is the descriptor of one of PostgreSQL's types. One that is not known, as a person's own,
// is an enumeration, or kept as the server writes it.
func neutralOf(base string) *neutralType {
	if t := neutralTypes[base]; t != nil {
		return t
	}
	return &neutralType{there: func(_ domain.Column, in place, _, _ int) becomes {
		switch {
		case len(in.labels) > 0:
			return becomes{"enum(" + strings.Join(quotedLabels(in.labels), ",") + ")", Exact, ""}
		case in.labels != nil:
			return becomes{"varchar(255)", Wider, "the allowed values are no longer checked"}
		}
		return anyText(in, Wider, "kept as PostgreSQL writes it")
	}}
}

// family is of types whose values are of one kind, whichever engine's they are.
func family(base string) string {
	if t := mariaOf(base); t.kind != "" {
		return t.kind
	}
	if t := neutralOf(base); t.kind != "" {
		return t.kind
	}
	return base
}

// isText reports whether a column takes any text.
func isText(base string) bool { return base != "character" && family(base) == "text" }

// IsBytes reports whether a MariaDB type holds bytes, which have no text of their
// own. It is asked for every value that is applied, so that it looks nothing up.
func IsBytes(base string) bool {
	switch base {
	case "binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob":
		return true
	}
	return IsGeometry(base)
}

// IsGeometry reports whether a MariaDB type holds shapes.
func IsGeometry(base string) bool {
	switch base {
	case "geometry", "point", "linestring", "polygon", "multipoint", "multilinestring", "multipolygon",
		"geometrycollection":
		return true
	}
	return false
}
