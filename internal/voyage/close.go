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
	"dustyferry/internal/voyage/planning"
)

// CloseArgs are a close task's arguments.
type CloseArgs struct {
	Reopen bool `json:"reopen"` // let the closed source take writes again
}

// StartClose ends a crossing: what it left on both servers is removed and its
// certificate written.
func (v *Voyage) StartClose(ctx context.Context, c *domain.Crossing, a CloseArgs, actor string) error {
	err := lifecycle.AllowOn(lifecycle.Close, c)
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
		if err := lifecycle.AllowOn(lifecycle.Close, &now); err != nil {
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
			v.Say(ctx, "warning", System, c.Name, "capture", "close", "the replication slot %s and its publication are not "+
				"ours and stand on: the source keeps its log for them until they are dropped (SELECT "+
				"pg_drop_replication_slot('%s'))", slot, slot)
		}
	}
	// The time of the cutover, not the phase: a close that is carried on after a
	// crash finds the phase closed already.
	if c.CutOverAt == nil || a.Reopen {
		if err := v.reopenAll(ctx, src, c, planning.PlansOf(tables)); err != nil {
			return err
		}
	}
	if err := dst.Forget(ctx, c.UID); err != nil {
		return err
	}
	ended := time.Now()
	cert.ClosedAt = stamp(&ended)
	if err := v.Store.SaveCertificate(ctx, c.ID, cert); err != nil {
		return err
	}
	if err := v.Store.Release(ctx, c.ID); err != nil {
		return err
	}
	if err := v.Store.EndRun(ctx, c.ID, "given up", "the crossing was closed"); err != nil {
		return err
	}
	v.Say(ctx, "info", actor, c.Name, "", "close",
		"%s closed %s: slot, publication and bookkeeping are removed from both servers, the certificate is written", actor,
		c.Name)
	return nil
}

// reopenAll undoes every way in which a cutover of the crossing closed the source.
func (v *Voyage) reopenAll(ctx context.Context, src *engine.Opened, c *domain.Crossing,
	plans []domain.TablePlan) error {
	if src.StopsWrites == nil {
		return nil // it was never closed
	}
	methods := map[domain.StopMethod]bool{domain.StopLock: true}
	cuts, err := v.Store.Cutovers(ctx, c.ID)
	if err != nil {
		return err
	}
	for _, k := range cuts {
		if k.PausedAt == nil {
			continue // it closed nothing
		}
		methods[k.Settings.StopMethod] = true
	}
	for m := range methods {
		if err := src.Reopen(ctx, m, c.ObjectName(), plans); err != nil {
			return err
		}
	}
	return nil
}

// certificate gathers the account of the crossing from the records.
func (v *Voyage) certificate(ctx context.Context, c *domain.Crossing, tables []domain.CrossingTable,
	actor string) (*domain.Certificate, error) {
	cert := &domain.Certificate{Crossing: c.Name, Kind: c.Kind, Phase: c.Phase, ClosedBy: actor,
		CreatedAt: stamp(&c.CreatedAt), StartedAt: stamp(c.StartedAt), LandedAt: stamp(c.LandedAt),
		InStepAt: stamp(c.InStepAt), CutOverAt: stamp(c.CutOverAt),
		StartPosition: v.Position(ctx, c.Source, domain.Position(c.StartAt))}
	for _, side := range []struct {
		name string
		is   *domain.CertifiedSide
	}{{c.Source, &cert.Source}, {c.Target, &cert.Target}} {
		d, err := v.Store.Database(ctx, side.name)
		if err != nil {
			return nil, err
		}
		*side.is = domain.CertifiedSide{Name: d.Name, Engine: d.Engine, Host: d.Host, Port: d.Port, Database: d.DBName,
			User: d.Username}
	}
	var err error
	if cert.SetAside, cert.RowsSetAside, err = v.certifiedRows(ctx, c, false); err != nil {
		return nil, err
	}
	if cert.Cut, cert.RowsCut, err = v.certifiedRows(ctx, c, true); err != nil {
		return nil, err
	}
	if err := v.certifyCutover(ctx, c, cert); err != nil {
		return nil, err
	}
	return cert, v.certifyTables(ctx, c, tables, cert)
}

// stamp is a time as a certificate has it, to the second.
func stamp(t *time.Time) *time.Time {
	if t == nil {
		return nil
	}
	out := t.UTC().Truncate(time.Second)
	return &out
}

// certifiedRows are the first rows that did not land, or that landed cut, and how many there are.
func (v *Voyage) certifiedRows(ctx context.Context, c *domain.Crossing,
	landed bool) ([]domain.CertifiedRow, int, error) {
	rows, total, err := v.Store.AsideOf(ctx, c.ID, "", landed, 0, 100)
	var out []domain.CertifiedRow
	for _, a := range rows {
		out = append(out, domain.CertifiedRow{Table: a.TableName, Key: a.Key, Column: a.Column, Error: a.Error})
	}
	return out, total, err
}

// certifyCutover adds the cutover, and the comparison that it went by; without one the newest.
func (v *Voyage) certifyCutover(ctx context.Context, c *domain.Crossing, cert *domain.Certificate) error {
	cuts, err := v.Store.Cutovers(ctx, c.ID)
	if err != nil {
		return err
	}
	recs, err := v.Store.Reconciliations(ctx, c.ID)
	if err != nil {
		return err
	}
	var final *domain.Cutover
	if i := slices.IndexFunc(cuts, func(k domain.Cutover) bool { return !k.Rehearsal && k.State == "done" }); i >= 0 {
		final = &cuts[i]
	}
	for _, r := range recs {
		ended := r.State == "clean" || r.State == "differing"
		if ended && (final == nil || final.ReconciliationID == nil || *final.ReconciliationID == r.ID) {
			cert.Comparison = &domain.CertifiedProof{ID: r.ID, Depth: r.Depth, State: r.State, Tables: r.Tables,
				SourceRows: r.SourceRows, TargetRows: r.TargetRows,
				Findings: r.Findings, Position: v.Position(ctx, c.Source, r.Position), EndedAt: stamp(r.EndedAt)}
			break
		}
	}
	if final == nil {
		return nil
	}
	steps, err := v.Store.Steps(ctx, final.ID)
	if err != nil {
		return err
	}
	cert.Cutover = &domain.CertifiedCut{DecidedBy: final.Actor, At: stamp(&final.CreatedAt), EndPosition: v.Position(ctx,
		c.Source, final.EndPosition),
		WritePauseSeconds: domain.Between(final.PausedAt, final.ReleasedAt).Seconds()}
	for _, s := range steps {
		cert.Cutover.Steps = append(cert.Cutover.Steps, domain.CertifiedStep{Step: s.Name, State: s.State, Note: s.Note,
			Seconds: domain.Between(s.StartedAt, s.EndedAt).Seconds()})
	}
	return nil
}

// certifyTables adds the tables, each with its newest comparison since it was loaded last.
func (v *Voyage) certifyTables(ctx context.Context, c *domain.Crossing, tables []domain.CrossingTable,
	cert *domain.Certificate) error {
	results, err := v.Store.TableComparisons(ctx, c.ID)
	if err != nil {
		return err
	}
	best, err := v.Readiness.Compared(ctx, c.ID)
	if err != nil {
		return err
	}
	findings := int64(0)
	for _, t := range tables {
		m := domain.CertifiedTable{Table: t.SourceName, Target: t.TargetName, RowsLoaded: t.RowsLanded,
			BytesLoaded: t.BytesLanded,
			Chunks:      t.Chunks, Inserts: t.Inserts, Updates: t.Updates, Deletes: t.Deletes, Truncates: t.Truncates}
		at := slices.IndexFunc(results, func(r records.TableComparison) bool {
			return r.TableID == t.ID && r.ReconciliationID == best[t.SourceName].Number
		})
		if at < 0 {
			cert.NotCompared++
		} else {
			r := &results[at]
			findings += r.Findings - r.Equal
			m.SourceRows, m.TargetRows, m.Findings, m.FindingsMended = &r.SourceRows, &r.TargetRows, &r.Findings, &r.Equal
			m.ComparedAt, m.ComparedBy, m.Reconciliation = stamp(&r.EndedAt), r.Depth, r.ReconciliationID
			m.Position = v.Position(ctx, c.Source, domain.Position(r.Position))
			m.SourceHash, m.TargetHash = r.SourceHash, r.TargetHash
		}
		cert.Tables = append(cert.Tables, m)
	}
	if cert.NotCompared < len(tables) {
		cert.Findings = &findings
	}
	return nil
}

// Remove forgets a crossing that left nothing behind.
func (v *Voyage) Remove(ctx context.Context, c *domain.Crossing, actor string) error {
	if err := lifecycle.AllowOn(lifecycle.Remove, c); err != nil {
		return err
	}
	if err := v.Store.RemoveCrossing(ctx, c.ID); err != nil {
		return fmt.Errorf("removing %s: %w", c.Name, err)
	}
	v.Say(ctx, "info", actor, c.Name, "", "remove", "%s removed %s from the records", actor, c.Name)
	return nil
}
