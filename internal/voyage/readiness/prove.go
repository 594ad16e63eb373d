package readiness

import (
	"context"

	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/planning"
)

// Rows that a source writes anew without a word in its log, and tables that take the name of
// others.

// doubt is of a table whose rows were written anew: which writing, and the first comparison
// that began after it was noticed. An older one may have looked before it.
type doubt struct {
	written string
	from    int64
}

// Prove compares tables whose rows the source wrote anew without a word in its log, once for
// each writing, and takes the doubt away when they are alike.
func (r *Readiness) Prove(ctx context.Context, c *domain.Crossing, cat *domain.Catalog, tables []domain.CrossingTable) {
	compared, err := r.Compared(ctx, c.ID)
	if err != nil {
		return
	}
	var fresh []*domain.CrossingTable
	var patterns []string
	for i := range tables {
		t, p := &tables[i], tables[i].Plan
		now := cat.Table(p.Source)
		if p.From != "" || now == nil || planning.Replaced(&p, now) || !planning.Rewritten(&p, now) {
			continue
		}
		said := compared[t.SourceName]
		r.mu.Lock()
		d, known := r.doubts[t.ID]
		r.mu.Unlock()
		known = known && d.written == now.Written
		if known && said.Number < d.from { // one that was ended, as for a person's, is made again
			k, err := r.records.Reconciliation(ctx, c.ID, d.from)
			known = err != nil || k.State != domain.ComparisonCancelled
		}
		switch {
		case known && said.Number >= d.from && said.Depth == domain.DepthHashes && said.Findings == 0:
			if ok, err := r.records.Trust(ctx, t.ID, p.Table.Written, now.Written); err == nil && ok {
				r.journal.Recordf(ctx, "info", journal.System, c.Name, t.SourceName, "reconcile",
					"%s was written anew on the source, and is alike on both sides", t.SourceName)
			}
		case !known && c.Phase == domain.PhaseInStep && c.Condition == domain.ConditionRunning:
			fresh, patterns = append(fresh, t), append(patterns, domain.Exactly(p.Source))
		}
	}
	if len(fresh) == 0 {
		return
	}
	// Who looks next tries again where something else is being compared.
	id, err := r.comparer.Start(ctx, c, domain.DepthHashes, patterns, 0, journal.System)
	if err != nil {
		return
	}
	for _, t := range fresh {
		r.mu.Lock()
		r.doubts[t.ID] = doubt{cat.Table(t.Plan.Source).Written, id}
		r.mu.Unlock()
		r.journal.Recordf(ctx, "warning", journal.System, c.Name, t.SourceName, "reconcile",
			"rows of %s were written anew on the source, or a "+
				"partition was emptied, without a word in its log; it is compared", t.SourceName)
	}
}
