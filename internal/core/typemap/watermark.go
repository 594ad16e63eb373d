package typemap

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"dustyferry/internal/domain"
)

// What a refresh reads again before the watermark where a rule says nothing.
const (
	usualOverlap = "10m"
	usualStep    = "1000"
)

// watermark takes a rule's watermark over into a plan.
func watermark(p *domain.TablePlan, r domain.Rule) error {
	if r.Watermark == "" {
		return nil
	}
	c := p.Table.Column(r.Watermark)
	switch {
	case c == nil:
		return domain.Invalid("the watermark of %s is column %s, which it does not have", p.Source, r.Watermark)
	case !slices.ContainsFunc(p.CopiedColumns(), func(k domain.Column) bool { return k.Name == c.Name }):
		return domain.Invalid("the watermark of %s, column %s, is left out of the crossing; rows are compared by it",
			p.Source, c.Name)
	case len(p.Key) == 0:
		return domain.Invalid("%s has no key by which a refreshed row would replace the one before; take its watermark "+
			"away, so that each run loads it anew", p.Source)
	case p.From != "":
		return domain.Invalid("%s is a query; each run loads its rows anew, and it can have no watermark", p.Source)
	}
	p.Watermark, p.Overlap = c.Name, r.Overlap
	switch of := family(c.BaseType); {
	case whole(c.BaseType):
		if p.Overlap == "" {
			p.Overlap = usualStep
		}
		if n, err := strconv.ParseInt(p.Overlap, 10, 64); err != nil || n < 0 {
			return domain.Invalid("the overlap of %s is %q; its watermark %s is a number, so give a number that is taken off it",
				p.Source, r.Overlap, c.Name)
		}
	case of == "moment", c.BaseType == "date":
		if p.Overlap == "" {
			p.Overlap = usualOverlap
		}
		if d, err := time.ParseDuration(p.Overlap); err != nil || d < 0 {
			return domain.Invalid("the overlap of %s is %q; its watermark %s is a time, so give a duration such as 10m or 2h",
				p.Source, r.Overlap, c.Name)
		}
	default:
		return domain.Invalid("column %s of %s is %s; a watermark is a time or a whole number that grows when a "+
			"row is written", c.Name, p.Source, c.Type)
	}
	return nil
}

// whole reports whether a type holds whole numbers only.
func whole(base string) bool {
	switch strings.TrimSuffix(base, " unsigned") {
	case "smallint", "integer", "int", "mediumint", "bigint":
		return true
	}
	return false
}

// Past is the condition, in the SQL of an engine, under which rows are past a watermark
// with the plan's overlap. mark is the watermark as that engine's text; rows without a
// value are past any.
func Past(engine string, p *domain.TablePlan, mark string) string {
	c := p.Table.Column(p.Watermark)
	name := quoted(c.Name)
	if engine == MariaDB {
		name = quotedIn(c.Name)
	}
	value := "'" + strings.ReplaceAll(mark, "'", "''") + "'"
	switch {
	case whole(c.BaseType):
		value = "(CAST(" + value + " AS " + map[string]string{Postgres: "numeric", MariaDB: "decimal(65)"}[engine] + ") - " +
			p.Overlap + ")"
	case engine == MariaDB:
		value = "(CAST(" + value + " AS datetime(6)) - INTERVAL " + seconds(p.Overlap) + " SECOND)"
	default:
		value = "(" + value + "::" + c.Type + " - interval '" + seconds(p.Overlap) + " seconds')"
	}
	return "(" + name + " >= " + value + " OR " + name + " IS NULL)"
}

func seconds(overlap string) string {
	d, _ := time.ParseDuration(overlap) // checked when the plan was made
	return strconv.FormatFloat(d.Seconds(), 'f', -1, 64)
}
