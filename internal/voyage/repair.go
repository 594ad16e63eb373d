package voyage

import (
	"context"
	"encoding/hex"
	"fmt"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/core/narrow"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/records"
)

// RepairArgs are a repair task's arguments.
type RepairArgs struct {
	Reconciliation int64   `json:"reconciliation"`
	Findings       []int64 `json:"findings"` // empty: all open ones
}

// StartRepair copies the rows of findings again.
func (v *Voyage) StartRepair(ctx context.Context, c *domain.Crossing, a RepairArgs, actor string) error {
	if err := allow(lifecycle.Repair, c); err != nil {
		return err
	}
	if _, err := v.Store.Reconciliation(ctx, c.ID, a.Reconciliation); err != nil {
		return err
	}
	open, _, err := v.Store.CountFindings(ctx, a.Reconciliation, records.FindingFilter{State: "open", IDs: a.Findings})
	if err != nil {
		return err
	}
	if open == 0 {
		return domain.Conflict("none of the findings asked for is open in reconciliation %d; there is nothing to repair", a.Reconciliation)
	}
	if _, err = v.AddTask(ctx, c, TaskRepair, a, actor); err == nil {
		v.Say(ctx, "info", actor, c.Name, "", "repair", "%s asked to copy the rows of %s of reconciliation %d again", actor, domain.Many(int64(open), "finding"), a.Reconciliation)
	}
	return err
}

// StartRecheck compares the rows of findings again, and only those.
func (v *Voyage) StartRecheck(ctx context.Context, c *domain.Crossing, a RepairArgs, actor string) error {
	if err := allow(lifecycle.Reconcile, c); err != nil {
		return err
	}
	r, err := v.Store.Reconciliation(ctx, c.ID, a.Reconciliation)
	if err != nil {
		return err
	}
	n, _, err := v.Store.CountFindings(ctx, a.Reconciliation, records.FindingFilter{IDs: a.Findings})
	if err != nil {
		return err
	}
	if n == 0 {
		return domain.Conflict("reconciliation %d (%s) has none of the findings asked for; there are no rows to compare again", a.Reconciliation, r.Depth)
	}
	_, err = v.AddTask(ctx, c, TaskRecheck, a, actor)
	return err
}

// recheck compares the rows of findings at one shared position, with both
// databases live. A finding whose row is alike now is equal; one that still
// differs is open, with the rows as they are now.
func (v *Voyage) recheck(ctx context.Context, c *domain.Crossing, a RepairArgs, actor string, note func(string)) error {
	byTable, err := v.findingsByTable(ctx, records.FindingFilter{IDs: a.Findings}, a.Reconciliation)
	if err != nil {
		return err
	}
	return v.align(ctx, c, alignment{sake: "comparing rows again", note: note}, func(al *aligned) error {
		views := [2]engine.View{al.source, al.target}
		for id, list := range byTable {
			t, err := v.Store.Table(ctx, id)
			if err != nil {
				return err
			}
			dstPlan := t.Plan.V.OnTarget()
			plans := [2]*domain.TablePlan{&t.Plan.V, &dstPlan}
			equal, err := v.recheckTable(ctx, views, plans, list)
			if err != nil {
				return fmt.Errorf("comparing %s again: %w", t.SourceName, err)
			}
			severity := "info"
			if equal < len(list) {
				severity = "warning"
			}
			v.Say(ctx, severity, actor, c.Name, t.SourceName, "reconcile", "%d of %s of %s compared again are equal now (reconciliation %d)", equal, domain.Many(int64(len(list)), "row"), t.SourceName, a.Reconciliation)
		}
		return nil
	})
}

func (v *Voyage) recheckTable(ctx context.Context, views [2]engine.View, plans [2]*domain.TablePlan, list []records.Finding) (int, error) {
	keyed := len(plans[0].Key) > 0
	key := func(f *records.Finding) string {
		if keyed {
			return narrow.JoinKey(f.Detail.V.Key)
		}
		place, _ := hex.DecodeString(f.Detail.V.Place)
		return string(place)
	}
	var keys []string
	for i := range list {
		keys = append(keys, key(&list[i]))
	}
	var rows [2]map[string][]domain.Row
	err := both(func(i int) (err error) {
		rows[i], err = views[i].Fetch(ctx, plans[i], engine.Part{}, keys)
		return err
	})
	if err != nil {
		return 0, err
	}
	var equal []int64
	for i := range list {
		k := key(&list[i])
		f, differs := confirm(views[0], plans[0], narrow.Candidate{Key: k, Kind: list[i].Kind}, rows[0][k], rows[1][k])
		if !differs {
			equal = append(equal, list[i].ID)
		} else if err := v.Store.SaveFinding(ctx, list[i].ID, f); err != nil {
			return 0, err
		}
	}
	return len(equal), v.Store.SetFindings(ctx, equal, "equal")
}

func (v *Voyage) findingsByTable(ctx context.Context, f records.FindingFilter, reconciliation int64) (map[int64][]records.Finding, error) {
	f.Limit = 1_000_000
	found, err := v.Store.Findings(ctx, reconciliation, f)
	out := map[int64][]records.Finding{}
	for _, x := range found {
		out[x.TableID] = append(out[x.TableID], x)
	}
	return out, err
}

// repair makes the target's rows at the findings' keys what the source's are at
// one shared position, while the applier stands still there.
func (v *Voyage) repair(ctx context.Context, c *domain.Crossing, a RepairArgs, actor string, note func(string)) error {
	byTable, err := v.findingsByTable(ctx, records.FindingFilter{State: "open", IDs: a.Findings}, a.Reconciliation)
	if err != nil {
		return err
	}
	src, dst, err := v.OpenPair(ctx, c)
	if err != nil {
		return err
	}
	origin, err := src.Origin(ctx)
	if err != nil {
		return err
	}
	return v.align(ctx, c, alignment{standing: true, sake: "a repair", note: note}, func(al *aligned) error {
		for id, list := range byTable {
			t, err := v.Store.Table(ctx, id)
			if err != nil {
				return err
			}
			p := &t.Plan.V
			fixes, err := v.fixes(ctx, al, p, list)
			if err != nil {
				return err
			}
			there := p.OnTarget()
			if err := dst.Repair(ctx, c.UID, origin, al.at, &there, fixes); err != nil {
				return err
			}
			var ids []int64
			for _, f := range list {
				ids = append(ids, f.ID)
			}
			if err := v.Store.SetFindings(ctx, ids, "repaired"); err != nil {
				return err
			}
			v.Say(ctx, "info", actor, c.Name, t.SourceName, "repair", "%s of %s %s copied again (reconciliation %d)", domain.Many(len(list), "row"), t.SourceName, map[bool]string{true: "was", false: "were"}[len(list) == 1], a.Reconciliation)
		}
		return nil
	})
}

// fixes reads the rows as the source has them at the shared position.
func (v *Voyage) fixes(ctx context.Context, al *aligned, p *domain.TablePlan, list []records.Finding) ([]engine.Fix, error) {
	cols := p.Carried()
	var out []engine.Fix
	for _, f := range list {
		d := f.Detail.V
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
			for i, c := range p.Seen() {
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
