package compare

import (
	"context"
	"encoding/hex"
	"fmt"
	"time"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/core/narrow"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// RepairArgs are a repair task's arguments.
type RepairArgs struct {
	Reconciliation int64   `json:"reconciliation"`
	Findings       []int64 `json:"findings"` // empty: all open ones
}

// StartRepair copies the rows of findings again.
func (k *Comparer) StartRepair(ctx context.Context, c *domain.Crossing, a RepairArgs, actor string) error {
	if err := lifecycle.AllowOn(lifecycle.Repair, c); err != nil {
		return err
	}
	if _, err := k.records.Reconciliation(ctx, c.ID, a.Reconciliation); err != nil {
		return err
	}
	open, _, err := k.records.CountFindings(ctx, a.Reconciliation, domain.FindingFilter{State: "open", IDs: a.Findings})
	if err != nil {
		return err
	}
	if open == 0 {
		return domain.Conflict("none of the findings asked for is open in reconciliation %d; there is nothing to repair",
			a.Reconciliation)
	}
	if _, err = k.tasks.AddTask(ctx, c, lifecycle.WorkRepair, a, actor); err == nil {
		k.journal.Recordf(ctx, "info", actor, c.Name, "", "repair",
			"%s asked to copy the rows of %s of reconciliation %d again",
			actor, domain.Many(int64(open), "finding"), a.Reconciliation)
	}
	return err
}

// StartRecheck compares the rows of findings again, and only those.
func (k *Comparer) StartRecheck(ctx context.Context, c *domain.Crossing, a RepairArgs, actor string) error {
	if err := lifecycle.AllowOn(lifecycle.Reconcile, c); err != nil {
		return err
	}
	r, err := k.records.Reconciliation(ctx, c.ID, a.Reconciliation)
	if err != nil {
		return err
	}
	n, _, err := k.records.CountFindings(ctx, a.Reconciliation, domain.FindingFilter{IDs: a.Findings})
	if err != nil {
		return err
	}
	if n == 0 {
		return domain.Conflict("reconciliation %d (%s) has none of the findings asked for; there are no rows to "+
			"compare again", a.Reconciliation, r.Depth)
	}
	_, err = k.tasks.AddTask(ctx, c, lifecycle.WorkRecheck, a, actor)
	return err
}

// Recheck compares the rows of findings at one shared position, with both
// databases live. A finding whose row is alike now is equal; one that still
// differs is open, with the rows as they are now.
func (k *Comparer) Recheck(ctx context.Context, c *domain.Crossing, a RepairArgs, actor string,
	note func(string)) error {
	byTable, err := k.findingsByTable(ctx, domain.FindingFilter{IDs: a.Findings}, a.Reconciliation)
	if err != nil {
		return err
	}
	return k.align(ctx, c, alignment{sake: "comparing rows again", note: note}, func(al *aligned) error {
		views := [2]engine.View{al.source, al.target}
		for id, list := range byTable {
			t, err := k.records.Table(ctx, id)
			if err != nil {
				return err
			}
			dstPlan := t.Plan.TargetPlan()
			plans := [2]*domain.TablePlan{&t.Plan, &dstPlan}
			equal, err := k.recheckTable(ctx, views, plans, list)
			if err != nil {
				return fmt.Errorf("comparing %s again: %w", t.SourceName, err)
			}
			severity := "info"
			if equal < len(list) {
				severity = "warning"
			}
			k.journal.Recordf(ctx, severity, actor, c.Name, t.SourceName, "reconcile",
				"%d of %s of %s compared again are equal now (reconciliation %d)", equal, domain.Many(int64(len(list)), "row"),
				t.SourceName, a.Reconciliation)
		}
		return nil
	})
}

func (k *Comparer) recheckTable(ctx context.Context, views [2]engine.View, plans [2]*domain.TablePlan,
	list []domain.KeptFinding) (int, error) {
	keyed := len(plans[0].Key) > 0
	key := func(f *domain.KeptFinding) string {
		if keyed {
			return narrow.JoinKey(f.Detail.Key)
		}
		place, _ := hex.DecodeString(f.Detail.Place)
		return string(place)
	}
	var keys []string
	for i := range list {
		keys = append(keys, key(&list[i]))
	}
	var equal []int64
	err := fetch(ctx, views, plans, engine.Part{}, keys, func(from int, piece []string, rows [2]map[string][]domain.Row,
		_ time.Duration) error {
		for i, at := range piece {
			kept := &list[from+i]
			f, differs := confirm(plans[0], narrow.Candidate{Key: at, Kind: kept.Kind}, rows[0][at], rows[1][at])
			if !differs {
				equal = append(equal, kept.ID)
			} else if err := k.records.SaveFinding(ctx, kept.ID, f); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return 0, err
	}
	return len(equal), k.records.SetFindings(ctx, equal, "equal")
}

func (k *Comparer) findingsByTable(ctx context.Context, f domain.FindingFilter,
	reconciliation int64) (map[int64][]domain.KeptFinding, error) {
	f.Limit = 1_000_000
	found, err := k.records.Findings(ctx, reconciliation, f)
	out := map[int64][]domain.KeptFinding{}
	for _, x := range found {
		out[x.TableID] = append(out[x.TableID], x)
	}
	return out, err
}

// Repair makes the target's rows at the findings' keys what the source's are at
// one shared position, while the applier stands still there.
func (k *Comparer) Repair(ctx context.Context, c *domain.Crossing, a RepairArgs, actor string,
	note func(string)) error {
	byTable, err := k.findingsByTable(ctx, domain.FindingFilter{State: "open", IDs: a.Findings}, a.Reconciliation)
	if err != nil {
		return err
	}
	src, dst, err := k.databases.OpenPair(ctx, c)
	if err != nil {
		return err
	}
	if err := dst.Need(c.Target, engine.CanRepair); err != nil {
		return err
	}
	origin, err := src.Origin(ctx)
	if err != nil {
		return err
	}
	return k.align(ctx, c, alignment{standing: true, sake: "a repair", note: note}, func(al *aligned) error {
		for id, list := range byTable {
			t, err := k.records.Table(ctx, id)
			if err != nil {
				return err
			}
			p := &t.Plan
			fixes, err := k.fixes(ctx, al, p, list)
			if err != nil {
				return err
			}
			there := p.TargetPlan()
			if err := dst.Repair(ctx, c.UID, origin, al.at, &there, fixes); err != nil {
				return err
			}
			var ids []int64
			for _, f := range list {
				ids = append(ids, f.ID)
			}
			if err := k.records.SetFindings(ctx, ids, "repaired"); err != nil {
				return err
			}
			k.journal.Recordf(ctx, "info", actor, c.Name, t.SourceName, "repair", "%s of %s %s copied again (reconciliation %d)",
				domain.Many(len(list), "row"), t.SourceName, map[bool]string{true: "was", false: "were"}[len(list) == 1],
				a.Reconciliation)
		}
		return nil
	})
}

// fixes reads the rows as the source has them at the shared position.
func (k *Comparer) fixes(ctx context.Context, al *aligned, p *domain.TablePlan,
	list []domain.KeptFinding) ([]engine.Fix, error) {
	cols := p.CopiedColumns()
	var out []engine.Fix
	for _, f := range list {
		d := f.Detail
		if len(p.Key) == 0 {
			x := engine.Fix{Copies: max(1, d.Copies)}
			if d.Kind == domain.ExtraOnTarget {
				x.Old = rowOf(cols, d.Target)
			} else {
				x.Row = rowOf(cols, d.Source)
			}
			out = append(out, x)
			continue
		}
		src, err := al.source.Fetch(ctx, p, engine.Part{}, []string{narrow.JoinKey(d.Key)})
		if err != nil {
			return nil, err
		}
		x := engine.Fix{Key: d.Key}
		for _, rows := range src {
			row := make(domain.Row, 0, len(cols))
			for i, c := range p.ComparedColumns() {
				if !c.Generated {
					row = append(row, rows[0][i])
				}
			}
			x.Row = row
		}
		out = append(out, x)
	}
	return out, nil
}

func rowOf(cols []domain.Column, m map[string]*string) domain.Row {
	out := make(domain.Row, len(cols))
	for i, c := range cols {
		if s := m[c.Name]; s != nil {
			out[i] = domain.Value{Kind: domain.Present, Data: []byte(*s)}
		}
	}
	return out
}
