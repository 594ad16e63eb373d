package planning

import (
	"slices"

	"dustyferry/internal/domain"
)

// orderActs says which tables have to wait for others, so that what foreign keys do
// in several steps can be followed: rows in the middle must be on the target to lead
// to those behind them. Where a table leads to itself, it is one chunk.
func orderActs(plans []domain.TablePlan) []domain.Entry {
	at := map[domain.TableName]int{}
	for i := range plans {
		at[plans[i].Source] = i
	}
	refers := make([][]int, len(plans)) // by acting keys, to other tables and to itself
	for i := range plans {
		for _, k := range plans[i].Table.Constraints {
			if to, ok := at[k.References]; ok && k.Kind == "foreign" && k.Unlogged && !slices.Contains(refers[i], to) {
				refers[i] = append(refers[i], to)
			}
		}
	}
	var out []domain.Entry
	for i := range plans {
		p := &plans[i]
		for _, to := range refers[i] {
			switch {
			case to == i:
				p.SingleChunk = true
				if p.Table.Bytes > 64<<20 {
					out = append(out, domain.Entry{Verdict: domain.Notice, Topic: "foreign key", Subject: p.Source.String(),
						Measured: "it acts on its own table: so that this can be followed, the table is one chunk"})
				}
			case len(refers[to]) > 0: // rows of that table go unlogged too
				p.After = append(p.After, plans[to].Source)
				if leads(refers, to, i, map[int]bool{}) {
					out = append(out, domain.Entry{Verdict: domain.Blocker, Topic: "foreign key", Subject: p.Source.String(),
						Remedy: "drop one of them, and let the application do what it did; or make a crossing that does not " +
							"follow changes",
						Measured: "foreign keys that act by themselves lead from it to " + plans[to].Source.String() +
							" and back, which cannot be followed during the load"})
				}
			}
		}
	}
	return out
}

// leads reports whether acting keys lead from one table to another.
func leads(refers [][]int, from, to int, seen map[int]bool) bool {
	if seen[from] {
		return false
	}
	seen[from] = true
	return slices.ContainsFunc(refers[from], func(n int) bool { return n == to || leads(refers, n, to, seen) })
}
