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

	"dustyferry/internal/core/naming"
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

// Mapping is from a database of one engine to one of another, or of the same.
type Mapping struct {
	From, To string          // engines
	Into     string          // the target's database: where tables of a MariaDB target go
	Catalog  *domain.Catalog // the source's; user-defined types are looked up there
}

// Complete gives a plan the side that the target's engine must know, and says
// what changes on the way; between two PostgreSQL databases nothing is to be
// done.
func (w Mapping) Complete(p domain.TablePlan) (domain.TablePlan, []Noted) {
	switch [2]string{form(w.From), form(w.To)} {
	case [2]string{Postgres, Postgres}:
		if w.From == w.To {
			return p, nil
		}
		return w.planNeutral(p), nil
	case [2]string{MariaDB, Postgres}:
		return w.planToPostgres(p)
	case [2]string{Postgres, MariaDB}:
		return w.planToMariaDB(p)
	}
	return w.planAlike(p), nil // two MariaDB databases
}

// form is the engine in whose types and texts another one gives its own. The neutral form is
// PostgreSQL's: every engine but those named here has one descriptor in its own folder, to and
// from it, so that engines need no word about each other.
func form(engine string) string {
	if engine == MariaDB {
		return MariaDB
	}
	return Postgres
}

// planNeutral completes a plan whose sides both speak the neutral form: the same columns and
// keys on both, as texts.
func (w Mapping) planNeutral(p domain.TablePlan) domain.TablePlan {
	there := w.there(&p)
	for _, c := range p.Columns {
		if c.Generated {
			there.Table.Left = append(there.Table.Left, "generated column "+c.Name+" (its expression is the source's)")
			continue
		}
		c.Generated, c.Computed, c.Wire = false, "", "portable"
		there.Columns = append(there.Columns, c)
	}
	there.Table.Columns, there.Table.Comment = there.Columns, p.Table.Comment
	there.Table.Keys = w.keysThere(&p)
	there.Table.Left = append(there.Table.Left, p.Table.Left...)
	w.aroundThere(&p, there)
	return p
}

// keysThere are the keys of a plan's table as a PostgreSQL target names them: names there are
// of one space for the whole schema.
func (w Mapping) keysThere(p *domain.TablePlan) []domain.Key {
	var out []domain.Key
	for _, k := range p.Table.Keys {
		name := naming.Postgres.Fit(p.Target.Name + "_" + k.Name)
		if k.Primary {
			name = naming.Postgres.Fit(p.Target.Name + "_pkey")
		}
		out = append(out, domain.Key{Columns: k.Columns, Primary: k.Primary, Name: name})
	}
	return out
}

// there begins the target's side of a plan.
func (w Mapping) there(p *domain.TablePlan) *domain.TablePlan {
	to := p.Target
	if w.To == MariaDB {
		to = w.name(to)
	}
	p.Target, p.CrossEngine = to, true
	p.TargetSide = &domain.TablePlan{Source: to, Target: to, Key: p.Key, KeyOrder: p.KeyOrder, CrossEngine: true,
		Engine: w.To,
		Table:  domain.Table{TableName: to, Rows: p.Table.Rows, Bytes: p.Table.Bytes, RowIdentity: "primary"}}
	return p.TargetSide
}

// name is where a table goes: a MariaDB target is one database.
func (w Mapping) name(t domain.TableName) domain.TableName {
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
