package planning

import (
	"dustyferry/internal/core/columns"
	"dustyferry/internal/core/follow"
	"dustyferry/internal/core/turned"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"fmt"
	"slices"
	"strings"
)

// CheckTables says for a readiness list whether the source's tables are as they are
// followed: a change that no row has shown yet is not in the log.
func CheckTables(c *domain.Crossing, cat *domain.Catalog, tables []domain.CrossingTable) []domain.Entry {
	var out []domain.Entry
	known := map[string]bool{}
	for i := range tables {
		p := &tables[i].Plan
		known[tables[i].SourceName] = true
		if p.From != "" {
			continue
		}
		now := cat.Table(p.Source)
		if now == nil {
			out = append(out, domain.Entry{Verdict: domain.Blocker, Topic: "columns", Subject: p.Source.String(),
				Measured: "it is no longer on the source",
				Remedy:   "leave it out: dustyferry crossing leave-out " + c.Name + " " + p.Source.String()})
			continue
		}
		again := "dustyferry crossing restart " + c.Name + " --table " + p.Source.String()
		if Replaced(p, now) {
			out = append(out, domain.Entry{Verdict: domain.Blocker, Topic: TopicAnother, Subject: p.Source.String(),
				Measured: "another table has its name on the source now: the one that was loaded was renamed or dropped, and " +
					"what is written to this one is not in what capture reads", Remedy: "load it: " + again})
			continue
		}
		if Rewritten(p, now) {
			out = append(out, domain.Entry{Verdict: domain.Blocker, Topic: TopicRewritten, Subject: p.Source.String(),
				Measured: "its rows were written anew on the source, or a partition of it was emptied, of which the log does not " +
					"tell (TRUNCATE of a partition, ALTER … USING, VACUUM FULL, CLUSTER)",
				Remedy: "compare it: dustyferry reconcile " + c.Name + " --table " + p.Source.String() + "; where it differs, " +
					again})
		}
		out = append(out, partitionEntries(c, p, now)...)
		// What a log that tells of definitions has not told: it was changed before capture began.
		others := slices.DeleteFunc(columns.Others(&p.Table, now), func(o string) bool {
			return strings.HasPrefix(o, "the set of foreign keys")
		})
		if p.Table.Storage != "" && len(others) > 0 {
			out = append(out, domain.Entry{Verdict: domain.Blocker, Topic: "columns", Subject: p.Source.String(),
				Measured: "its definition has changed on the source since it was planned: " + strings.Join(others, ", "),
				Remedy:   "load it again: " + again})
		}
		if text := columns.Objects(&p.Table, now); text != "" {
			out = append(out, domain.Entry{Verdict: domain.Notice, Topic: "objects", Subject: p.Source.String(), Measured: text,
				Remedy: "do the same on the target; the crossing carries what stood at its start"})
		}
		changes := columns.Between(&p.Table, now, "RENAME")
		if len(changes) == 0 {
			continue
		}
		e := domain.Entry{Verdict: domain.Blocker, Topic: "columns", Subject: p.Source.String(),
			Measured: "they have changed on the source, and no row has shown it yet: " + columns.Words(changes),
			Remedy: "write a row there, so that the log tells of it, or alter the target's table and restart this one: " +
				"dustyferry crossing restart " + c.Name + " --table " + p.Source.String()}
		if !slices.ContainsFunc(changes, func(k columns.Change) bool { return k.Kind != columns.Tightened }) {
			e.Verdict, e.Remedy = domain.Notice, ""
		}
		out = append(out, e)
	}
	if c.ReturnOf != nil {
		return append(out, notBrought(c, cat, tables)...)
	}
	for _, t := range chosen(cat, c.Patterns) {
		if !known[t.String()] && (len(c.Patterns) > 0 || len(c.Planning.Queries) == 0) {
			out = append(out, domain.Entry{Verdict: domain.Notice, Topic: TopicNewTable, Subject: t.String(),
				Measured: "the crossing's patterns choose it, but it was made after the start and is not followed",
				Remedy:   "dustyferry crossing add-table " + c.Name + " " + t.String()})
		}
	}
	return out
}

// notBrought are tables beside those that a return path brings back: what is written to them stays where it
// is when one goes back.
func notBrought(c *domain.Crossing, cat *domain.Catalog, tables []domain.CrossingTable) []domain.Entry {
	known, schemas := map[domain.TableName]bool{}, map[string]bool{}
	for i := range tables {
		known[tables[i].Plan.Source], schemas[tables[i].Plan.Source.Schema] = true, true
	}
	var out []domain.Entry
	for _, t := range cat.Tables {
		if schemas[t.Schema] && !known[t.TableName] {
			out = append(out, domain.Entry{Verdict: domain.Notice, Topic: turned.Topic, Subject: t.String(),
				Measured: fmt.Sprintf("it is none of the tables that are brought back: what is written to it does not come to %s",
					c.Target),
				Remedy: "if it is needed there, make it there and carry its rows with a crossing of its own"})
		}
	}
	return out
}

// Topics of what the log does not tell.
const (
	TopicAnother   = "another table"
	TopicRewritten = "rows written anew"
)

// TopicNewTable is of a table that was made on the source after the start.
const TopicNewTable = "new table"

// partitionEntries say which partitions have come and gone since the plan was made.
func partitionEntries(c *domain.Crossing, p *domain.TablePlan, now *domain.Table) []domain.Entry {
	var out []domain.Entry
	remedy := fmt.Sprintf("compare before the cutover: dustyferry reconcile %s; and restart the table where it differs: "+
		"dustyferry crossing restart %s --table %s", c.Name, c.Name, p.Source)
	for _, part := range PartitionsOnlyIn(now.Partitions, p.Table.Partitions) {
		out = append(out, domain.Entry{Verdict: domain.Notice, Topic: "partitions", Subject: p.Source.String(),
			Remedy: remedy,
			Measured: part.Table.String() +
				" has become a partition since the start; rows that it held then are not in the log"})
	}
	for _, part := range PartitionsOnlyIn(p.Table.Partitions, now.Partitions) {
		out = append(out, domain.Entry{Verdict: domain.Notice, Topic: "partitions", Subject: p.Source.String(),
			Remedy:   remedy,
			Measured: part.Table.String() + " is no partition any more; the target keeps the rows that it held"})
	}
	return out
}

// PartitionsOnlyIn are the partitions of one list that another does not hold.
func PartitionsOnlyIn(list, other []domain.Partition) []domain.Partition {
	return slices.DeleteFunc(slices.Clone(list), func(p domain.Partition) bool {
		return slices.ContainsFunc(other, func(o domain.Partition) bool { return o.Table == p.Table })
	})
}

// Replaced reports whether a table is not the one that was planned, but has its name.
func Replaced(p *domain.TablePlan, now *domain.Table) bool {
	return p.Table.ID != "" && now.ID != "" && p.Table.ID != now.ID
}

// Rewritten reports whether the server has put all rows, or those of a partition, anew.
func Rewritten(p *domain.TablePlan, now *domain.Table) bool {
	return p.Table.Written != "" && now.Written != "" && p.Table.Written != now.Written
}

// CheckKeptRows names a table of the plans that holds rows of its own beside ours, which
// starting it anew would remove with them.
func CheckKeptRows(c *domain.Crossing, tables []domain.CrossingTable, name string) error {
	for i := range tables {
		t := &tables[i]
		if there := t.Plan.TargetPlan(); (name == "" || t.SourceName == name) &&
			there.ExistingRowsPolicy(c.Settings) == "keep" {
			return domain.Conflict("table %s was planned to keep the rows that its target had: starting anew would remove "+
				"them together with ours; remove ours by hand and make a new crossing for it", t.SourceName)
		}
	}
	return nil
}

// WithDependents are a table and those that have to be loaded anew with it, as they had to
// wait for it.
func WithDependents(tables []domain.CrossingTable, source domain.TableName) []domain.CrossingTable {
	plans := make([]*domain.TablePlan, len(tables))
	for i := range tables {
		plans[i] = &tables[i].Plan
	}
	var out []domain.CrossingTable
	for _, i := range follow.Dependents(plans, source) {
		out = append(out, tables[i])
	}
	return out
}

// RepeatsInPlace reports whether rows that a load has brought stay until those of the next
// take their place.
func RepeatsInPlace(c *domain.Crossing) bool {
	return c.Kind == domain.KindLoad && c.Settings.Repeat == engine.ReplaceRange
}
