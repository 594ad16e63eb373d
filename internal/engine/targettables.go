package engine

import (
	"strconv"

	"dustyferry/internal/domain"
)

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
		e := domain.Entry{Verdict: domain.Blocks, Topic: "target table", Subject: p.Target.String()}
		n := holds[p.Target]
		count := strconv.FormatInt(n, 10)
		if n > 1_000_000 {
			count = "more than 1000000"
		}
		diff := differences(p, t)
		switch {
		case diff != "":
			e.Measured = "it stands already and is unlike what the plan needs: " + diff
			e.Remedy = "DROP TABLE " + quoted(p.Target) + ", or alter it, or leave the table out"
		case n == 0:
			e.Verdict, e.Measured = domain.Fine, "it stands already, is alike and empty"
		case set.NonEmptyTarget == "empty":
			e.Verdict, e.Measured = domain.ToKnow, "it holds "+count+" rows, which will be removed"
		default:
			e.Measured, e.Remedy = "it holds "+count+" rows", "TRUNCATE "+quoted(p.Target)+", or set non_empty_target: empty"
		}
		out = append(out, e)
	}
	if fresh > 0 {
		out = append(out, domain.Entry{Verdict: domain.Fine, Topic: "target tables", Subject: "target", Measured: strconv.Itoa(fresh) + " tables will be created"})
	}
	return out
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
				out = append(out, domain.Entry{Verdict: domain.ToKnow, Topic: "foreign key", Subject: p.Source.String(), Remedy: "add " + k.References.String() + " to the crossing",
					Measured: k.Name + " refers to " + k.References.String() + ", which is left out: the foreign key is not made"})
			}
		}
	}
	return out
}
