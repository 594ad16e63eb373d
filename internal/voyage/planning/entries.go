package planning

import (
	"dustyferry/internal/core/keyorder"
	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"fmt"
	"slices"
	"strings"
)

// ruleEntries say which tables each rule is for, and what rules cannot do.
func ruleEntries(c *domain.Crossing, plans []domain.TablePlan) []domain.Entry {
	var out []domain.Entry
	for i, r := range c.Rules {
		n := 0
		for _, p := range plans {
			if r.Matches(p.Source) {
				n++
			}
		}
		e := domain.Entry{Verdict: domain.OK, Topic: "rule", Subject: fmt.Sprintf("rule %d", i+1),
			Measured: fmt.Sprintf("%s matches %s", r.Tables, domain.Many(int64(n), "table"))}
		if n == 0 {
			e.Verdict, e.Remedy = domain.Notice, "correct its pattern, or remove the rule"
		}
		out = append(out, e)
	}
	if c.Kind == domain.KindLoad {
		return out
	}
	for _, p := range plans {
		block := func(topic, measured, remedy string) {
			out = append(out, domain.Entry{Verdict: domain.Blocker, Topic: topic, Subject: p.Source.String(), Measured: measured,
				Remedy: remedy})
		}
		if p.Where != "" {
			block("rule", "only rows where "+p.Where+" are wanted; changes cannot be held against a condition of the source's",
				"make a crossing for it that does not follow changes, or take the condition away")
		}
		if p.From != "" {
			block("query", "it is a query, whose rows no log tells of",
				"make a crossing for it that does not follow changes, or carry the tables that it reads")
		}
		for _, k := range p.Columns {
			if k.Expression != "" {
				block("rule", "column "+k.Name+" is computed as "+k.Expression+", which the source's log does not tell",
					"make a crossing for it that does not follow changes, or let the target compute it")
			}
		}
	}
	return out
}

// roomEntry tells how much room the tables take.
func roomEntry(plans []domain.TablePlan) domain.Entry {
	var bytes, indexes int64
	for i := range plans {
		bytes += plans[i].Table.Bytes
		indexes += plans[i].Table.IndexBytes
	}
	return domain.Entry{Verdict: domain.OK, Topic: "room", Subject: "target", Measured: fmt.Sprintf(
		"rows take %.1f MB on the source and indexes %.1f MB; how much room is free here, its server does not tell",
		float64(bytes)/1e6, float64(indexes)/1e6)}
}

// orderEntry tells how rows are compared whose keys the two servers may order unlike.
func orderEntry(plans []domain.TablePlan) []domain.Entry {
	var names []string
	for i := range plans {
		p := &plans[i]
		if slices.ContainsFunc(p.KeyColumns(), func(c domain.Column) bool {
			return strings.Contains(c.BaseType, "char") || strings.Contains(c.BaseType, "text")
		}) && !keyorder.Alike(p) {
			names = append(names, p.Source.String())
		}
	}
	if len(names) == 0 {
		return nil
	}
	return []domain.Entry{{Verdict: domain.OK, Topic: "key order", Subject: "both sides", Measured: fmt.Sprintf(
		"the servers may order the text keys of %s unlike: chunks follow the source's order, and rows are compared by a "+
			"hash of the key", strings.Join(names[:min(len(names), 6)], ", ")+domain.More(len(names)-6))}}
}

// clashes blocks tables that would land in one.
func clashes(plans []domain.TablePlan) []domain.Entry {
	var out []domain.Entry
	first := map[domain.TableName]domain.TableName{}
	for _, p := range plans {
		at := p.Target
		if p.TargetSide != nil && typemap.DialectOf(p.TargetSide.Engine).FoldsTables {
			at.Name = strings.ToLower(at.Name)
		}
		if other, taken := first[at]; taken {
			out = append(out, domain.Entry{Verdict: domain.Blocker, Topic: engine.TopicTarget, Subject: p.Source.String(),
				Measured: fmt.Sprintf("it and %s would both become %s", other, p.Target),
				Remedy:   "give one of them another name by a rule, or leave it to a crossing with another target"})
			continue
		}
		first[at] = p.Source
	}
	return out
}

// ontoRows says for a survey onto what a crossing that only follows changes applies them.
func ontoRows(c *domain.Crossing) []domain.Entry {
	if c.ReturnOf != nil {
		return nil // the cutover has compared them
	}
	from := "from when it is started on"
	if c.Settings.StartFrom != "" {
		from = "from " + c.Settings.StartFrom + " on"
	}
	return []domain.Entry{{Verdict: domain.Notice, Topic: "rows that are there", Subject: c.Target,
		Measured: "changes are applied " + from + ", onto rows that must be those of the source at that place; nothing " +
			"checks that before a comparison does",
		Remedy: "compare when it is in step: dustyferry reconcile " + c.Name}}
}

// missing says that a crossing which only follows changes would find no rows of a table.
func missing(there *domain.Catalog, p *domain.TablePlan) []domain.Entry {
	at := p.TargetPlan().Target
	if there.Table(at) != nil {
		return nil
	}
	return []domain.Entry{{Verdict: domain.Blocker, Topic: "rows that are there", Subject: at.String(),
		Measured: "the target has no such table, and a crossing that only follows changes copies no rows",
		Remedy:   "copy it first, or make a crossing that copies the rows too"}}
}

// refreshEntries say what a survey has to say of watermarks.
func refreshEntries(c *domain.Crossing, plans []domain.TablePlan) []domain.Entry {
	var out []domain.Entry
	for i := range plans {
		p := &plans[i]
		if p.Watermark == "" {
			continue
		}
		e := domain.Entry{Verdict: domain.Notice, Topic: "watermark", Subject: p.Source.String(),
			Measured: fmt.Sprintf("a repeated load reads rows past %s, and again those of the last %s before; rows that are "+
				"deleted, or changed without %s, are not seen by it", p.Watermark, p.Overlap, p.Watermark),
			Remedy: fmt.Sprintf("compare from time to time: dustyferry reconcile %s, and dustyferry repair for what is found",
				c.Name)}
		first := func(cols []string) bool { return len(cols) > 0 && cols[0] == p.Watermark }
		if !slices.ContainsFunc(p.Table.Indexes, func(x domain.Index) bool {
			return first(x.Columns) || strings.Contains(x.Definition, "("+p.Watermark+")") || strings.Contains(x.Definition,
				"("+p.Watermark+",")
		}) && !slices.ContainsFunc(p.Table.Keys, func(k domain.Key) bool { return first(k.Columns) }) {
			e.Measured += "; no index begins with " + p.Watermark + ", so that each run reads through the whole table"
		}
		if c.Kind != domain.KindLoad {
			e = domain.Entry{Verdict: domain.Blocker, Topic: "watermark", Subject: p.Source.String(),
				Measured: "it has a watermark, but its changes are followed",
				Remedy:   "take the watermark away, or make a crossing for it that does not follow changes"}
		}
		out = append(out, e)
	}
	return out
}
