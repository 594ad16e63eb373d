package voyage

import (
	"context"
	"fmt"
	"slices"
	"time"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/records"
)

// CloseArgs are a close task's arguments.
type CloseArgs struct {
	Reopen bool `json:"reopen"` // let the closed source take writes again
}

// StartClose ends a crossing: what it left on both servers is removed and its
// certificate written.
func (v *Voyage) StartClose(ctx context.Context, c *domain.Crossing, a CloseArgs, actor string) error {
	err := allow(lifecycle.Close, c)
	if err != nil && c.Phase == domain.PhaseClosed {
		cert, found := v.Store.CertificateOf(ctx, c.ID)
		if found != nil {
			return found
		}
		if cert == nil { // it did not come to its end
			err = nil
		}
	}
	if err != nil {
		return err
	}
	_, err = v.AddTask(ctx, c, TaskClose, a, actor)
	return err
}

func (v *Voyage) close(ctx context.Context, c *domain.Crossing, a CloseArgs, actor string) error {
	// What is under way ends first: it would go on making what is removed here.
	if err := v.EndWork(ctx, c, lifecycle.All(TaskClose, TaskCutover), "the crossing was closed"); err != nil {
		return err
	}
	src, dst, err := v.OpenPair(ctx, c)
	if err != nil {
		return err
	}
	now, err := v.Store.CrossingByID(ctx, c.ID)
	if err != nil {
		return err
	}
	if now.Phase != domain.PhaseClosed {
		if err := allow(lifecycle.Close, &now); err != nil {
			return err
		}
	}
	*c = now
	tables, err := v.Store.Tables(ctx, c.ID)
	if err != nil {
		return err
	}
	cert, err := v.certificate(ctx, c, tables, actor)
	if err != nil {
		return err
	}
	if c.Phase != domain.PhaseClosed { // by a process before us
		closed, err := v.Store.SetPhase(ctx, c.ID, c.Phase, domain.PhaseClosed)
		if err != nil {
			return err
		}
		if !closed {
			return meanwhile(c)
		}
	}
	for _, t := range tables {
		if t.ChunksLanded < t.Chunks {
			if err := v.Store.ResetTable(ctx, t.ID); err != nil {
				return err
			}
			if err := v.fenceTable(ctx, dst, c, t.ID); err != nil {
				return err
			}
		}
	}
	name := c.ObjectName()
	if c.Kind != domain.KindLoad {
		if err := src.DropCapture(ctx, name, c.Undo); err != nil {
			return err
		}
		if slot := c.Settings.Slot; slot != "" {
			v.Say(ctx, "warning", System, c.Name, "capture", "close", "the replication slot %s and its publication are not ours and stand on: the source keeps its log for them until they are dropped (SELECT pg_drop_replication_slot('%s'))", slot, slot)
		}
	}
	// The time of the cutover, not the phase: a close that is carried on after a
	// crash finds the phase closed already.
	if c.CutOverAt == nil || a.Reopen {
		if err := v.reopenAll(ctx, src, c, plansOf(tables)); err != nil {
			return err
		}
	}
	if err := dst.Forget(ctx, c.UID); err != nil {
		return err
	}
	cert["closed_at"] = time.Now().UTC().Format(time.RFC3339)
	if err := v.Store.SaveCertificate(ctx, c.ID, cert); err != nil {
		return err
	}
	if err := v.Store.Release(ctx, c.ID); err != nil {
		return err
	}
	if err := v.Store.EndRun(ctx, c.ID, "given up", "the crossing was closed"); err != nil {
		return err
	}
	v.Say(ctx, "info", actor, c.Name, "", "close", "%s closed %s: slot, publication and bookkeeping are removed from both servers, the certificate is written", actor, c.Name)
	return nil
}

// reopenAll undoes every way in which a cutover of the crossing closed the source.
func (v *Voyage) reopenAll(ctx context.Context, src engine.Database, c *domain.Crossing, plans []domain.TablePlan) error {
	methods := map[domain.StopMethod]bool{domain.StopLock: true}
	cuts, err := v.Store.Cutovers(ctx, c.ID)
	if err != nil {
		return err
	}
	for _, k := range cuts {
		if k.PausedAt == nil {
			continue // it closed nothing
		}
		methods[k.Settings.V.StopMethod] = true
	}
	for m := range methods {
		if err := src.Reopen(ctx, m, c.ObjectName(), plans); err != nil {
			return err
		}
	}
	return nil
}

// certificate gathers the account of the crossing from the records.
func (v *Voyage) certificate(ctx context.Context, c *domain.Crossing, tables []records.Table, actor string) (map[string]any, error) {
	side := func(name string) (map[string]any, error) {
		d, err := v.Store.Database(ctx, name)
		return map[string]any{"name": d.Name, "engine": d.Engine, "host": d.Host, "port": d.Port, "database": d.DBName, "user": d.Username}, err
	}
	src, err := side(c.Source)
	if err != nil {
		return nil, err
	}
	dst, err := side(c.Target)
	if err != nil {
		return nil, err
	}
	stamp := func(t *time.Time) any {
		if t == nil {
			return nil
		}
		return t.UTC().Format(time.RFC3339)
	}
	cert := map[string]any{
		"crossing": c.Name, "kind": c.Kind, "source": src, "target": dst, "phase": c.Phase, "closed_by": actor,
		"created_at": stamp(&c.CreatedAt), "started_at": stamp(c.StartedAt),
		"landed_at": stamp(c.LandedAt), "in_step_at": stamp(c.InStepAt),
		"cut_over_at":    stamp(c.CutOverAt),
		"start_position": v.Position(ctx, c.Source, domain.Position(c.StartAt)),
	}
	for _, kept := range []struct {
		landed      bool
		count, list string
	}{{false, "rows_set_aside", "set_aside"}, {true, "rows_cut", "cut"}} {
		rows, total, err := v.Store.AsideOf(ctx, c.ID, "", kept.landed, 0, 100)
		if err != nil {
			return nil, err
		}
		var list []map[string]any
		for _, a := range rows {
			list = append(list, map[string]any{"table": a.TableName, "key": a.Key.V, "column": a.Column, "error": a.Error})
		}
		cert[kept.count], cert[kept.list] = total, list
	}
	cuts, err := v.Store.Cutovers(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	recs, err := v.Store.Reconciliations(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	var last *records.Reconciliation
	var final *records.Cutover
	for i := range cuts {
		if !cuts[i].Rehearsal && cuts[i].State == "done" {
			final = &cuts[i]
			break
		}
	}
	for i := range recs {
		ended := recs[i].State == "clean" || recs[i].State == "differing"
		if ended && (final == nil || !final.ReconciliationID.Valid || final.ReconciliationID.Int64 == recs[i].ID) {
			last = &recs[i]
			break
		}
	}
	if last != nil {
		cert["reconciliation"] = map[string]any{"id": last.ID, "depth": last.Depth, "state": last.State, "tables": last.Tables,
			"source_rows": last.SourceRows, "target_rows": last.TargetRows, "findings": last.Findings,
			"position": v.Position(ctx, c.Source, domain.Position(last.Position)), "ended_at": stamp(last.EndedAt)}
	}
	if final != nil {
		st, err := v.Store.Steps(ctx, final.ID)
		if err != nil {
			return nil, err
		}
		var list []map[string]any
		for _, s := range st {
			list = append(list, map[string]any{"step": s.Name, "state": s.State, "note": s.Note,
				"seconds": domain.Between(s.StartedAt, s.EndedAt).Seconds()})
		}
		cert["cutover"] = map[string]any{"decided_by": final.Actor, "at": stamp(&final.CreatedAt), "steps": list,
			"end_position":        v.Position(ctx, c.Source, domain.Position(final.EndPosition)),
			"write_pause_seconds": domain.Between(final.PausedAt, final.ReleasedAt).Seconds()}
	}
	results, err := v.Store.TableComparisons(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	best, err := v.compared(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	var list []map[string]any
	findings, uncompared := int64(0), 0
	for _, t := range tables {
		m := map[string]any{"table": t.SourceName, "target": t.TargetName, "rows_loaded": t.RowsLanded, "bytes_loaded": t.BytesLanded,
			"chunks": t.Chunks, "inserts": t.Inserts, "updates": t.Updates, "deletes": t.Deletes, "truncates": t.Truncates}
		at := slices.IndexFunc(results, func(r records.TableComparison) bool {
			return r.TableID == t.ID && r.ReconciliationID == best[t.SourceName].Number
		})
		if at < 0 {
			uncompared++ // not since it was loaded last
		} else {
			r := &results[at]
			findings += r.Findings - r.Equal
			m["source_rows"], m["target_rows"], m["findings"], m["findings_mended"] = r.SourceRows, r.TargetRows, r.Findings, r.Equal
			m["compared_at"], m["compared_by"], m["reconciliation"] = stamp(&r.EndedAt), r.Depth, r.ReconciliationID
			m["position"] = v.Position(ctx, c.Source, domain.Position(r.Position))
			if r.SourceHash != "" {
				m["source_hash"], m["target_hash"] = r.SourceHash, r.TargetHash
			}
		}
		list = append(list, m)
	}
	cert["findings"], cert["tables_not_compared"] = findings, uncompared
	if uncompared == len(tables) {
		cert["findings"] = nil
	}
	cert["tables"] = list
	return cert, nil
}

// Remove forgets a crossing that left nothing behind.
func (v *Voyage) Remove(ctx context.Context, c *domain.Crossing, actor string) error {
	if err := allow(lifecycle.Remove, c); err != nil {
		return err
	}
	if err := v.Store.RemoveCrossing(ctx, c.ID); err != nil {
		return fmt.Errorf("removing %s: %w", c.Name, err)
	}
	v.Say(ctx, "info", actor, c.Name, "", "remove", "%s removed %s from the records", actor, c.Name)
	return nil
}
