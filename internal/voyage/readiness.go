package voyage

import (
	"context"
	"fmt"
	"strings"
	"time"

	"dustyferry/internal/core/proof"
	"dustyferry/internal/domain"
	"dustyferry/internal/records"
	"dustyferry/internal/voyage/planning"
)

// How long each question to the source may take: a list that people look at waits for nobody
// for long; what a cutover stands on waits for a server that is busy, or has many tables.
const (
	Glances = 12 * time.Second
	Asks    = 20 * time.Second // whoever asks for a cutover waits for the answer
	Decides = time.Minute
)

// Readiness is the readiness list: what must hold before a cutover may start, each entry with
// what was measured, or that it could not be within the patience.
func (v *Voyage) Readiness(ctx context.Context, c *domain.Crossing, set domain.Settings,
	patience time.Duration) ([]domain.Entry, error) {
	var out []domain.Entry
	add := func(ok bool, otherwise domain.Verdict, topic, remedy, format string, args ...any) {
		e := domain.Entry{Verdict: otherwise, Topic: topic, Subject: c.Name, Measured: fmt.Sprintf(format, args...),
			Remedy: remedy}
		if ok {
			e.Verdict, e.Remedy = domain.OK, ""
		}
		out = append(out, e)
	}
	view, err := v.Store.View(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	add((view.Chunks > 0 || c.Kind == domain.KindCapture) && view.Landed == view.Chunks, domain.Blocker, "load",
		"wait until every chunk has landed", "%d of %d chunks have landed", view.Landed, view.Chunks)
	add(c.Built, domain.Blocker, "deferred objects", "wait until they are built",
		"indexes and constraints on the target: %s", yesNo(c.Built, "built", "not built yet"))
	add(c.Phase == domain.PhaseInStep, domain.Blocker, "phase", "wait until the crossing is in step", "the crossing is %s",
		c.Phase)
	add(c.Condition == domain.ConditionRunning, domain.Blocker, "condition", "resume the crossing", "the crossing is %s%s",
		c.Condition, prefixed(": ", c.Reason))
	aside, left, err := v.Store.AsideOf(ctx, c.ID, "", false, 0, 1)
	if err != nil {
		return nil, err
	}
	if left > 0 {
		add(false, domain.Notice, "rows set aside", "correct the rows on the source, or the target's table, and repair "+
			"what a comparison finds: dustyferry crossing aside "+c.Name,
			"%s set aside, as the target could not take them (first: %s, %s)", domain.Counted(left, "row was", "rows were"),
			aside[0].TableName, aside[0])
	}
	st, err := v.Store.Stream(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	tables, err := v.Store.Tables(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	if st != nil {
		out = append(out, provedInside(v.noticed(ctx, c, st, tables, set.CutoverDepth, patience), set.CutoverDepth)...)
	}
	live := st != nil && st.Live
	add(live, domain.Blocker, "capture", "see why capture does not run: dustyferry journal --crossing "+c.Name,
		"capture %s", yesNo(live, "runs", "does not run"))
	if st != nil {
		limit := set.InStepLag.Seconds()
		add(st.LagSeconds <= limit, domain.Blocker, "lag", "wait until capture has caught up",
			"the lag is %.1f s, the threshold %.1f s", st.LagSeconds, limit)
	}
	out = append(out, v.unended(ctx, c, planning.PlansOf(tables), patience)...)
	house, err := v.Store.House(ctx)
	if err != nil {
		return nil, err
	}
	wanted := func(check domain.Check) (domain.Verdict, string) {
		if house.Requires(check) {
			return domain.Blocker, "; this service's house rules want a " + string(check) + " first"
		}
		return domain.Notice, ""
	}
	verdict, why := wanted(domain.CheckCompare)
	compared, err := v.compared(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	names := make([]string, len(tables))
	for i := range tables {
		names[i] = tables[i].SourceName
	}
	out = append(out, proof.Of(c.Name, names, compared, verdict, why))
	cuts, err := v.Store.Cutovers(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	rehearsed := false
	verdict, why = wanted(domain.CheckRehearsal)
	for _, k := range cuts {
		if k.Rehearsal && k.State == "done" && k.PausedAt != nil && k.ReleasedAt != nil {
			pause := k.ReleasedAt.Sub(*k.PausedAt)
			add(pause <= set.PauseBudget, verdict, topicPause, "raise the pause budget, or reconcile less inside the pause",
				"the last rehearsal paused writes for %s; the budget is %s", pause.Round(time.Millisecond), set.PauseBudget)
			rehearsed = true
			break
		}
	}
	if !rehearsed {
		add(false, verdict, topicPause, "dustyferry cutover rehearse "+c.Name,
			"the cutover has not been rehearsed, so its write pause is not known%s", why)
	}
	return out, nil
}

// provedInside takes what a cutover by hashes finds by itself for no reason against it.
func provedInside(list []domain.Entry, depth domain.Depth) []domain.Entry {
	for i := range list {
		if list[i].Topic == planning.TopicRewritten && depth == domain.DepthHashes {
			list[i].Verdict = domain.Notice
		}
	}
	return list
}

// noticed is what the source's catalog says of the tables now, or where it cannot be asked
// what it said last.
func (v *Voyage) noticed(ctx context.Context, c *domain.Crossing, st *records.Stream, tables []domain.CrossingTable,
	depth domain.Depth, patience time.Duration) []domain.Entry {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	cat, err := v.CatalogOf(ctx, c.Source, 3*time.Second)
	if err != nil {
		return append(st.Noticed.V, domain.Entry{Verdict: domain.Blocker, Topic: "tables", Subject: c.Source,
			Measured: "the source cannot be asked whether its tables are as they were: " + err.Error(),
			Remedy:   "see to the source: dustyferry database check " + c.Source})
	}
	if depth != domain.DepthHashes { // which would prove it inside the pause
		v.prove(ctx, c, cat, tables)
	}
	return planning.CheckTables(c, cat, tables)
}

// unended says which two-phase transactions could still be committed on the source when its
// writes have been stopped: they need no session, and some no lock.
func (v *Voyage) unended(ctx context.Context, c *domain.Crossing, plans []domain.TablePlan,
	patience time.Duration) []domain.Entry {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	src, err := v.Open(ctx, c.Source)
	var list []string
	if err == nil && src.Captures != nil {
		list, err = src.PreparedTransactions(ctx, plans)
	}
	e := domain.Entry{Verdict: domain.OK, Topic: "two-phase transactions", Subject: c.Source,
		Measured: "none is prepared on the source and waits for its end"}
	switch {
	case err != nil:
		e.Verdict, e.Measured, e.Remedy = domain.Blocker, "the source cannot be asked for prepared transactions: "+
			err.Error(), "see to the source: dustyferry database check "+c.Source
	case len(list) > 0:
		e.Verdict, e.Measured = domain.Blocker, fmt.Sprintf("%s prepared on the source and could still be committed when "+
			"its writes have stopped", domain.Counted(len(list), "transaction is", "transactions are"))
		e.Remedy = "let them end, or end them by hand, with ROLLBACK in the place of COMMIT where that is right: " +
			strings.Join(list[:min(len(list), 5)], "; ") + domain.More(len(list)-5)
	}
	return []domain.Entry{e}
}

// forRehearsal is a readiness list for a rehearsal, which needs none before it.
func forRehearsal(list []domain.Entry, rehearsal bool) []domain.Entry {
	for i := range list {
		if rehearsal && list[i].Topic == topicPause && list[i].Verdict == domain.Blocker {
			list[i].Verdict = domain.Notice
		}
	}
	return list
}

// topicPause is of what is known of the write pause.
const topicPause = "write pause"

// compared is, by table, what the comparison that counts says of it.
func (v *Voyage) compared(ctx context.Context, crossing int64) (map[string]proof.Compared, error) {
	list, err := v.Store.TableComparisons(ctx, crossing)
	if err != nil {
		return nil, fmt.Errorf("reading what comparisons found: %w", err)
	}
	byTable := map[string][]proof.Compared{}
	for _, t := range list {
		byTable[t.Name] = append(byTable[t.Name], proof.Compared{Table: t.Name, Number: t.ReconciliationID, Depth: t.Depth,
			EndedAt: t.EndedAt,
			Rows:    t.SourceRows, Findings: t.Findings, Open: t.Open, Repaired: t.Repaired, Equal: t.Equal})
	}
	out := map[string]proof.Compared{}
	for name, all := range byTable {
		if best, ok := proof.Best(all); ok {
			out[name] = best
		}
	}
	return out, nil
}

func yesNo(b bool, yes, no string) string {
	if b {
		return yes
	}
	return no
}

func prefixed(p, s string) string {
	if s == "" {
		return ""
	}
	return p + s
}
