package engine

import (
	"context"
	"strconv"

	"dustyferry/internal/domain"
)

// ReplaceRange is what becomes of rows that stand when a load is repeated in place: they stay
// until those of their chunk come. People cannot choose it for rows that are not ours.
const ReplaceRange = "in place"

// TopicActs is what a survey files acts of a standing table's own under that our writes
// would set off.
const TopicActs = "triggers and foreign keys"

// TopicTarget is what a survey files under that it says of a standing table of the target, or of
// its name.
const TopicTarget = "target table"

// TargetTables says for a survey what stands on a target where the plans will
// write: what differs, what holds rows, what will be made.
func TargetTables(plans []domain.TablePlan, here *domain.Catalog, holds map[domain.TableName]int64, set domain.Settings,
	differences func(*domain.TablePlan, *domain.Table) string, quoted func(domain.TableName) string) []domain.Entry {
	var out []domain.Entry
	fresh := 0
	for i := range plans {
		p := &plans[i]
		t := here.Table(p.Target)
		if t == nil {
			fresh++
			continue
		}
		e := domain.Entry{Verdict: domain.Blocker, Topic: TopicTarget, Subject: p.Target.String()}
		n := holds[p.Target]
		count := strconv.FormatInt(n, 10)
		if n > 1_000_000 {
			count = "more than 1000000"
		}
		diff := differences(p, t)
		way := p.ExistingRowsPolicy(set)
		switch {
		case way == "replace":
			e.Verdict, e.Measured = domain.Notice, "it stands with "+count+" rows, and will be dropped and made anew"
			if n == 0 {
				e.Measured = "it stands empty, and will be dropped and made anew"
			}
		case diff != "":
			e.Measured = "it stands already and is unlike what the plan needs: " + diff
			e.Remedy = "DROP TABLE " + quoted(p.Target) + ", or alter it, or leave the table out, or have it replaced " +
				"(existing_rows: replace)"
		case n == 0:
			e.Verdict, e.Measured = domain.OK, "it stands already, is alike and empty"
		case way == ReplaceRange:
			e.Verdict, e.Measured = domain.Notice, "it holds "+count+
				" rows; those of the source take their place, chunk by chunk"
		case way == "keep":
			e.Verdict, e.Measured = domain.Notice, "it holds "+count+" rows, which stay, unless the source truncates the "+
				"table; a comparison will find them where the source lacks them"
		case way == "empty":
			e.Verdict, e.Measured = domain.Notice, "it holds "+count+" rows, which will be removed"
		default:
			e.Measured, e.Remedy = "it holds "+count+" rows", "TRUNCATE "+quoted(p.Target)+
				", or set existing_rows: empty (keep, replace)"
		}
		out = append(out, e)
	}
	if fresh > 0 {
		out = append(out, domain.Entry{Verdict: domain.OK, Topic: "target tables", Subject: "target",
			Measured: strconv.Itoa(fresh) + " tables will be created"})
	}
	return out
}

// HeldToPlan checks that tables which a person's statements made are what their
// plans need.
func HeldToPlan(ctx context.Context, d Database, plans []domain.TablePlan, differences func(*domain.TablePlan,
	*domain.Table) string) error {
	var here *domain.Catalog
	for i := range plans {
		p := &plans[i]
		if p.Statements["table"] == "" {
			continue
		}
		if here == nil {
			var err error
			if here, err = d.Catalog(ctx); err != nil {
				return err
			}
		}
		t := here.Table(p.Target)
		if t == nil {
			return domain.Conflict("the statement written by hand for %s made no table of that name; correct it", p.Target)
		}
		if diff := differences(p, t); diff != "" {
			return domain.Conflict("the statement written by hand for %s makes a table unlike what the plan needs: %s; drop "+
				"the table and correct the statement", p.Target, diff)
		}
	}
	return nil
}

// LeftReferences names the foreign keys that are not made because the table they
// refer to is left out.
func LeftReferences(plans []domain.TablePlan) []domain.Entry {
	chosen := map[domain.TableName]bool{}
	for _, p := range plans {
		chosen[p.Target] = true
	}
	var out []domain.Entry
	for _, p := range plans {
		for _, k := range p.Table.Constraints {
			if k.Kind == "foreign" && !chosen[k.References] {
				out = append(out, domain.Entry{Verdict: domain.Notice, Topic: "foreign key", Subject: p.Source.String(),
					Remedy:   "add " + k.References.String() + " to the crossing",
					Measured: k.Name + " refers to " + k.References.String() + ", which is left out: the foreign key is not made"})
			}
		}
	}
	return out
}
