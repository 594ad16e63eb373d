package typemap

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"dustyferry/internal/domain"
)

// Onto has a plan's columns become those of a table that stands, of whatever type they are, and says
// what that means for their values. It is for a way back: what stands there came over this way before,
// so that every value has a form here, and only one that was made new here may have none there.
// notes are those of the plan as it was.
func (w Mapping) Onto(p *domain.TablePlan, stands *domain.Table, notes []Noted) []Noted {
	side := p.TargetSide
	unlike := side != nil || slices.ContainsFunc(p.CopiedColumns(), func(c domain.Column) bool {
		k := stands.Column(c.Name)
		return k != nil && (k.Type != c.Type || k.Generated && !c.Generated)
	})
	if !unlike {
		return notes
	}
	if side == nil {
		w.sameSide(p)
		side = p.TargetSide
	}
	for i, c := range p.CopiedColumns() {
		at := i
		if w.From == w.To { // computed columns stand there too
			at = slices.IndexFunc(side.Columns, func(x domain.Column) bool { return x.Name == c.Name })
		}
		if at < 0 || at >= len(side.Columns) {
			continue
		}
		k := stands.Column(side.Columns[at].Name)
		if k == nil || k.Type == side.Columns[at].Type {
			continue
		}
		notes = slices.DeleteFunc(notes, func(n Noted) bool { return n.Column == c.Name })
		was := side.Columns[at]
		side.Columns[at].Type, side.Columns[at].BaseType = k.Type, k.BaseType
		side.Columns[at].Charset, side.Columns[at].Collation = k.Charset, k.Collation
		verdict, note := w.judge(c, side.Columns[at])
		switch {
		case verdict == Impossible && !w.returns(c, *k):
			side.Columns[at] = was
			note = fmt.Sprintf("the table there has it as %s, and values of the one are not values of the other", k.Type)
		case verdict == Impossible || verdict == Lossy:
			verdict = Lossy
			note = "as the table there has it; a value that was not there before and does not fit is refused, and one that is " +
				"written in another way there is found to differ"
		}
		if note != "" {
			notes = append(notes, Noted{c.Name, c.Type, k.Type, verdict, note})
		}
		if w.From == w.To {
			asTexts(p)
		}
	}
	side.Table.Columns = side.Columns
	return notes
}

// returns reports whether a column there is one that would become the column here: then values of
// this one have a form there, unless they are new.
func (w Mapping) returns(here, there domain.Column) bool {
	back := usual(w.To, w.From, there)
	return back == here.Type || family(here.BaseType) == "text" || family(here.BaseType) == family(there.BaseType) ||
		family(here.BaseType) == "decimal" && family(there.BaseType) == "integer" ||
		here.BaseType == "bytea" && IsGeometry(there.BaseType)
}

// Back says what becomes of values of a column there that are brought back into the column here which
// it was made from, w being the way back.
func (w Mapping) Back(there, here domain.Column) (Verdict, string) {
	if w.From == w.To && there.Type == here.Type {
		return Exact, ""
	}
	verdict, note := w.judge(there, here)
	if verdict == Impossible && w.returns(there, here) {
		verdict, note = Lossy, ""
	}
	return verdict, note
}

// backInto is how a value of PostgreSQL's is written for a column of MariaDB's that a value like it came
// from, where that is not how its type goes over by itself; nil: it is.
func backInto(column, target domain.Column) Convert {
	switch {
	case target.BaseType == "set" && family(column.BaseType) == "text":
		return InOrder(Labels(target.Type))
	case IsGeometry(target.BaseType) && column.BaseType == "bytea":
		return withReference
	}
	return nil
}

// InOrder writes the members of a set as MariaDB does: in the order of its type, each once. What is no
// member stands behind them, and is refused there.
func InOrder(labels []string) Convert {
	return func(dst, v []byte) ([]byte, bool, error) {
		given := strings.Split(string(v), ",")
		first := len(dst)
		add := func(s string) {
			if len(dst) > first {
				dst = append(dst, ',')
			}
			dst = append(dst, s...)
		}
		if len(v) == 0 {
			return dst, true, nil
		}
		for _, l := range labels {
			if slices.Contains(given, l) {
				add(l)
			}
		}
		for _, g := range given {
			if !slices.Contains(labels, g) {
				add(g)
			}
		}
		return dst, true, nil
	}
}

// withReference writes a shape's well-known binary form as MariaDB keeps it: behind the number of its
// reference system, of which only none is known.
func withReference(dst, v []byte) ([]byte, bool, error) {
	rest, ok := bytes.CutPrefix(v, []byte(`\x`))
	if !ok {
		return dst, false, fmt.Errorf("%.20q is no bytes", v)
	}
	dst = append(dst, `\x00000000`...)
	return append(dst, rest...), true, nil
}
