// Package typemap says how a column of one engine becomes a column of another:
// the type it gets by default, what that means for its values, and how a value's
// text is written over. It is a catalogue and pure functions.
//
// Between unlike sides values travel as texts, and a value comes out as the very
// text that the target's server gives back, so that both sides can be compared.
// PostgreSQL's text form is the server's own, with dates in UTC. MariaDB's is the
// server's own too, but for three kinds: binary values and geometry are \x and
// hexadecimal digits, bits are ones and zeros, and floating-point numbers have the
// fewest digits that give the number back.
package typemap

import (
	"regexp"
	"strconv"

	"dustyferry/internal/domain"
)

// The engines that the catalogue knows, by the names of their drivers.
const (
	Postgres = "postgres"
	MariaDB  = "mariadb"
)

// Verdict says what a mapping means for the values.
type Verdict string

// The verdicts.
const (
	Exact      Verdict = "exact"      // every value is kept, and no other becomes possible
	Wider      Verdict = "wider"      // every value is kept
	Lossy      Verdict = "lossy"      // some values cannot be kept; the note says which
	Impossible Verdict = "impossible" // the column cannot be carried; the note says why
	Masked     Verdict = "masked"     // its values are replaced by hashes, as a person wishes
)

// Mapped is what becomes of one column.
type Mapped struct {
	Column  domain.Column // as the target has it
	Verdict Verdict
	Note    string // what changes, empty when nothing
}

// Noted is a mapping worth telling a person about. From and To are types, empty
// where the note is not about one.
type Noted struct {
	Column, From, To string
	Verdict          Verdict
	Note             string
}

// Way is from a database of one engine to one of another, or of the same.
type Way struct {
	From, To string          // engines
	Into     string          // the target's database: where tables of a MariaDB target go
	Catalog  *domain.Catalog // the source's; user-defined types are looked up there
}

// Complete gives a plan the side that the target's engine must know, and says
// what changes on the way; between two PostgreSQL databases nothing is to be
// done. The last result is false when there is no way between the two.
func (w Way) Complete(p domain.TablePlan) (domain.TablePlan, []Noted, bool) {
	switch [2]string{w.From, w.To} {
	case [2]string{Postgres, Postgres}:
		return p, nil, true
	case [2]string{MariaDB, Postgres}:
		p, notes := w.planToPostgres(p)
		return p, notes, true
	case [2]string{Postgres, MariaDB}:
		p, notes := w.planToMariaDB(p)
		return p, notes, true
	case [2]string{MariaDB, MariaDB}:
		return w.planAlike(p), nil, true
	}
	return p, nil, false
}

// there begins the target's side of a plan.
func (w Way) there(p *domain.TablePlan) *domain.TablePlan {
	to := p.Target
	if w.To == MariaDB {
		to = w.name(to)
	}
	p.Target, p.Unlike = to, true
	p.TargetSide = &domain.TablePlan{Source: to, Target: to, Key: p.Key, KeyOrder: p.KeyOrder, Unlike: true, Engine: w.To,
		Table: domain.Table{TableName: to, Rows: p.Table.Rows, Bytes: p.Table.Bytes, RowIdentity: "primary"}}
	return p.TargetSide
}

// name is where a table goes: a MariaDB target is one database.
func (w Way) name(t domain.TableName) domain.TableName {
	return domain.TableName{Schema: w.Into, Name: t.Name}
}

var (
	arguments = regexp.MustCompile(`^[a-z0-9 ]+\(([0-9]+)(?:,([0-9]+))?\)`)
	numberIn  = regexp.MustCompile(`^-?[0-9]+(\.[0-9]+)?$`)
)

// args returns the numbers in the brackets of a type, -1 where there are none.
func args(typ string) (int, int) {
	m := arguments.FindStringSubmatch(typ)
	if m == nil {
		return -1, -1
	}
	a, _ := strconv.Atoi(m[1])
	b := -1
	if m[2] != "" {
		b, _ = strconv.Atoi(m[2])
	}
	return a, b
}
