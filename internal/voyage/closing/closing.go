// Package closing ends crossings: what they left on both servers is removed, the source takes
// writes again unless it was cut over, and a certificate says what became of every table.
package closing

import (
	"context"
	"fmt"
	"slices"
	"time"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/core/proof"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/planning"
)

// Records hold the account of a crossing.
type Records interface {
	CrossingByID(ctx context.Context, id int64) (domain.Crossing, error)
	Tables(ctx context.Context, crossing int64) ([]domain.CrossingTable, error)
	Database(ctx context.Context, name string) (domain.Database, error)
	RejectedRows(ctx context.Context, crossing int64, table string, landed bool, offset, limit int) ([]domain.BadRow, int,
		error)
	Cutovers(ctx context.Context, crossing int64) ([]domain.Cutover, error)
	Steps(ctx context.Context, cutover int64) ([]domain.CutoverStep, error)
	Reconciliations(ctx context.Context, crossing int64) ([]domain.Reconciliation, error)
	Vouching(ctx context.Context, crossing int64) (domain.Vouching, error)
	TableComparisons(ctx context.Context, crossing int64) ([]domain.TableComparison, error)
	// CertificateOf is the account of a closed crossing, or nil.
	CertificateOf(ctx context.Context, crossing int64) (*domain.Certificate, error)
	SaveCertificate(ctx context.Context, crossing int64, cert *domain.Certificate) error
	// JournalHead is the number of the journal's newest entry, and its code.
	JournalHead(ctx context.Context) (int64, string, error)

	SetPhase(ctx context.Context, crossing int64, from, to domain.Phase) (bool, error)
	ResetTable(ctx context.Context, table int64) error
	// Release gives up what the records hold for a crossing that goes on.
	Release(ctx context.Context, crossing int64) error
	EndRun(ctx context.Context, crossing int64, state domain.RunState, cause string) error
	RemoveCrossing(ctx context.Context, crossing int64) error
}

// Databases opens registered databases.
type Databases interface {
	OpenPair(ctx context.Context, c *domain.Crossing) (source, target *engine.Opened, err error)
	Position(ctx context.Context, name string, p domain.Position) string
}

// Readiness chooses, by table, the comparison that counts.
type Readiness interface {
	Compared(ctx context.Context, crossing int64) (map[string]proof.Compared, error)
}

// Work is what goes on besides.
type Work interface {
	// EndWork has work of some kinds end, and waits until it has.
	EndWork(ctx context.Context, c *domain.Crossing, kinds []domain.Work, why string) error
	AddTask(ctx context.Context, c *domain.Crossing, kind domain.Work, args any, actor string) (int64, error)
}

// Fence makes sure that nobody who still holds a chunk of a table can land it.
type Fence func(ctx context.Context, target *engine.Opened, c *domain.Crossing, table int64) error

// Journal records what happens.
type Journal interface {
	Recordf(ctx context.Context, severity, actor, crossing, subject, act, format string, args ...any)
}

// Closings ends crossings.
type Closings struct {
	records   Records
	databases Databases
	readiness Readiness
	work      Work
	fence     Fence
	journal   Journal
}

// New returns the closings of this process.
func New(r Records, d Databases, ready Readiness, w Work, f Fence, j Journal) *Closings {
	return &Closings{records: r, databases: d, readiness: ready, work: w, fence: f, journal: j}
}

// Args are a close task's arguments.
type Args struct {
	Reopen bool `json:"reopen"` // let the closed source take writes again
}

// Allow says what keeps a crossing from being closed. One whose closing did not come to its end
// can be closed once more.
func (k *Closings) Allow(ctx context.Context, c *domain.Crossing) error {
	err := lifecycle.AllowOn(lifecycle.Close, c)
	if err == nil || c.Phase != domain.PhaseClosed {
		return err
	}
	cert, found := k.records.CertificateOf(ctx, c.ID)
	if found != nil {
		return found
	}
	if cert == nil {
		return nil
	}
	return err
}

// Start begins to end a crossing: what it left on both servers is removed and its certificate
// written.
func (k *Closings) Start(ctx context.Context, c *domain.Crossing, a Args, actor string) error {
	if err := k.Allow(ctx, c); err != nil {
		return err
	}
	if a.Reopen && c.ReturnBy != "" {
		return domain.Conflict("the source of %s takes what its return path %s brings, and would take others' writes too: "+
			"go back by it (dustyferry cutover start %s), or close it first", c.Name, c.ReturnBy, c.ReturnBy)
	}
	_, err := k.work.AddTask(ctx, c, lifecycle.WorkClose, a, actor)
	return err
}

// Close ends a crossing. Every part can be repeated.
func (k *Closings) Close(ctx context.Context, c *domain.Crossing, a Args, actor string) error {
	// What is under way ends first: it would go on making what is removed here.
	if err := k.work.EndWork(ctx, c, lifecycle.All(lifecycle.WorkClose, lifecycle.WorkCutover),
		"the crossing was closed"); err != nil {
		return err
	}
	src, dst, err := k.databases.OpenPair(ctx, c)
	if err != nil {
		return err
	}
	now, err := k.records.CrossingByID(ctx, c.ID)
	if err != nil {
		return err
	}
	if now.Phase != domain.PhaseClosed {
		if err := lifecycle.AllowOn(lifecycle.Close, &now); err != nil {
			return err
		}
	}
	*c = now
	tables, err := k.records.Tables(ctx, c.ID)
	if err != nil {
		return err
	}
	cert, err := k.certificate(ctx, c, tables, actor)
	if err != nil {
		return err
	}
	if c.Phase != domain.PhaseClosed { // by a process before us
		closed, err := k.records.SetPhase(ctx, c.ID, c.Phase, domain.PhaseClosed)
		if err != nil {
			return err
		}
		if !closed {
			return domain.ChangedMeanwhile(c)
		}
	}
	for _, t := range tables {
		if t.ChunksLanded < t.Chunks {
			if err := k.records.ResetTable(ctx, t.ID); err != nil {
				return err
			}
			if err := k.fence(ctx, dst, c, t.ID); err != nil {
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
			k.journal.Recordf(ctx, "warning", journal.System, c.Name, "capture", "close",
				"the replication slot %s and its publication are not ours and stand on: the source keeps its log for them "+
					"until they are dropped (SELECT pg_drop_replication_slot('%s'))", slot, slot)
		}
	}
	// The time of the cutover, not the phase: a close that is carried on after a
	// crash finds the phase closed already.
	if c.CutOverAt == nil || a.Reopen {
		if err := k.reopenAll(ctx, src, c, planning.PlansOf(tables)); err != nil {
			return err
		}
	}
	if err := dst.Forget(ctx, c.UID); err != nil {
		return err
	}
	ended := time.Now()
	cert.ClosedAt = stamp(&ended)
	if cert.JournalEntry, cert.JournalCode, err = k.records.JournalHead(ctx); err != nil {
		return err
	}
	if err := k.records.SaveCertificate(ctx, c.ID, cert); err != nil {
		return err
	}
	if err := k.records.Release(ctx, c.ID); err != nil {
		return err
	}
	if err := k.records.EndRun(ctx, c.ID, domain.RunGivenUp, "the crossing was closed"); err != nil {
		return err
	}
	k.journal.Recordf(ctx, "info", actor, c.Name, "", "close",
		"%s closed %s: slot, publication and bookkeeping are removed from both servers, the certificate is written", actor,
		c.Name)
	return nil
}

// reopenAll undoes every way in which a cutover of the crossing closed the source.
func (k *Closings) reopenAll(ctx context.Context, src *engine.Opened, c *domain.Crossing,
	plans []domain.TablePlan) error {
	if src.StopsWrites == nil {
		return nil // it was never closed
	}
	methods := map[domain.StopMethod]bool{domain.StopLock: true}
	cuts, err := k.records.Cutovers(ctx, c.ID)
	if err != nil {
		return err
	}
	for _, cut := range cuts {
		if cut.PausedAt == nil {
			continue // it closed nothing
		}
		methods[cut.Settings.StopMethod] = true
	}
	for m := range methods {
		if err := src.Reopen(ctx, m, c.ObjectName(), plans); err != nil {
			return err
		}
	}
	return nil
}

// certificate gathers the account of the crossing from the records.
func (k *Closings) certificate(ctx context.Context, c *domain.Crossing, tables []domain.CrossingTable,
	actor string) (*domain.Certificate, error) {
	cert := &domain.Certificate{Crossing: c.Name, Kind: c.Kind, Phase: phaseAtClosing(c), ClosedBy: actor,
		CreatedAt: stamp(&c.CreatedAt), StartedAt: stamp(c.StartedAt), LandedAt: stamp(c.LandedAt),
		InStepAt: stamp(c.InStepAt), CutOverAt: stamp(c.CutOverAt),
		StartPosition: k.databases.Position(ctx, c.Source, c.StartAt)}
	for _, side := range []struct {
		name string
		is   *domain.CertifiedSide
	}{{c.Source, &cert.Source}, {c.Target, &cert.Target}} {
		d, err := k.records.Database(ctx, side.name)
		if err != nil {
			return nil, err
		}
		*side.is = domain.CertifiedSide{Name: d.Name, Engine: d.Engine, Host: d.Host, Port: d.Port, Database: d.DBName,
			User: d.Username}
	}
	var err error
	if cert.Rejected, cert.RejectedRows, err = k.certifiedRows(ctx, c, false); err != nil {
		return nil, err
	}
	if cert.Cut, cert.RowsCut, err = k.certifiedRows(ctx, c, true); err != nil {
		return nil, err
	}
	if err := k.certifyCutover(ctx, c, cert); err != nil {
		return nil, err
	}
	v, err := k.records.Vouching(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	if !v.To.IsZero() {
		cert.VouchedTo, cert.VouchedRows = k.databases.Position(ctx, c.Source, v.To), v.Rows
	}
	if r := cert.Comparison; r != nil && r.Depth == domain.DepthVouched && r.State == domain.ComparisonClean &&
		cert.Cutover != nil {
		cert.VouchedTo = cert.Cutover.EndPosition
	}
	return cert, k.certifyTables(ctx, c, tables, cert)
}

// phaseAtClosing is the phase that a crossing was closed in. One whose closing is carried on after a
// crash is closed already; its times tell how far it had come.
func phaseAtClosing(c *domain.Crossing) domain.Phase {
	switch {
	case c.Phase != domain.PhaseClosed:
		return c.Phase
	case c.CutOverAt != nil:
		return domain.PhaseCutOver
	case c.InStepAt != nil:
		return domain.PhaseInStep
	case c.LandedAt != nil:
		return domain.PhaseCatchingUp
	case c.StartedAt != nil:
		return domain.PhaseLoading
	}
	return domain.PhaseDraft
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
func (k *Closings) certifiedRows(ctx context.Context, c *domain.Crossing,
	landed bool) ([]domain.CertifiedRow, int, error) {
	rows, total, err := k.records.RejectedRows(ctx, c.ID, "", landed, 0, 100)
	var out []domain.CertifiedRow
	for _, a := range rows {
		out = append(out, domain.CertifiedRow{Table: a.TableName, Key: a.Key, Column: a.Column, Error: a.Error})
	}
	return out, total, err
}

// certifyCutover adds the cutover, and the comparison that it went by; without one the newest.
func (k *Closings) certifyCutover(ctx context.Context, c *domain.Crossing, cert *domain.Certificate) error {
	cuts, err := k.records.Cutovers(ctx, c.ID)
	if err != nil {
		return err
	}
	recs, err := k.records.Reconciliations(ctx, c.ID)
	if err != nil {
		return err
	}
	var final *domain.Cutover
	if i := slices.IndexFunc(cuts, func(k domain.Cutover) bool {
		return !k.Rehearsal && k.State == domain.CutoverDone
	}); i >= 0 {
		final = &cuts[i]
	}
	for _, r := range recs {
		ended := r.State.Ended()
		if ended && (final == nil || final.ReconciliationID == nil || *final.ReconciliationID == r.ID) {
			cert.Comparison = &domain.CertifiedProof{ID: r.ID, Depth: r.Depth, State: r.State, Tables: r.Tables,
				SourceRows: r.SourceRows, TargetRows: r.TargetRows,
				Findings: r.Findings, Position: k.databases.Position(ctx, c.Source, r.Position), EndedAt: stamp(r.EndedAt)}
			break
		}
	}
	if final == nil {
		return nil
	}
	steps, err := k.records.Steps(ctx, final.ID)
	if err != nil {
		return err
	}
	cert.Cutover = &domain.CertifiedCut{DecidedBy: final.Actor, At: stamp(&final.CreatedAt),
		EndPosition:       k.databases.Position(ctx, c.Source, final.EndPosition),
		WritePauseSeconds: domain.Between(final.PausedAt, final.ReleasedAt).Seconds()}
	for _, s := range steps {
		cert.Cutover.Steps = append(cert.Cutover.Steps, domain.CertifiedStep{Step: s.Name, State: s.State, Note: s.Note,
			Seconds: domain.Between(s.StartedAt, s.EndedAt).Seconds()})
	}
	return nil
}

// certifyTables adds the tables, each with its newest comparison since it was loaded last.
func (k *Closings) certifyTables(ctx context.Context, c *domain.Crossing, tables []domain.CrossingTable,
	cert *domain.Certificate) error {
	results, err := k.records.TableComparisons(ctx, c.ID)
	if err != nil {
		return err
	}
	best, err := k.readiness.Compared(ctx, c.ID)
	if err != nil {
		return err
	}
	findings := int64(0)
	for _, t := range tables {
		m := domain.CertifiedTable{Table: t.SourceName, Target: t.TargetName, RowsLoaded: t.RowsLanded,
			BytesLoaded: t.BytesLanded,
			Chunks:      t.Chunks, Inserts: t.Inserts, Updates: t.Updates, Deletes: t.Deletes, Truncates: t.Truncates}
		at := slices.IndexFunc(results, func(r domain.TableComparison) bool {
			return r.TableID == t.ID && r.ReconciliationID == best[t.SourceName].Number
		})
		if at < 0 {
			cert.NotCompared++
		} else {
			r := &results[at]
			findings += r.Findings - r.Equal
			m.SourceRows, m.TargetRows, m.Findings, m.FindingsMended = &r.SourceRows, &r.TargetRows, &r.Findings, &r.Equal
			m.ComparedAt, m.ComparedBy, m.Reconciliation = stamp(&r.EndedAt), r.Depth, r.ReconciliationID
			m.Position = k.databases.Position(ctx, c.Source, r.Position)
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
func (k *Closings) Remove(ctx context.Context, c *domain.Crossing, actor string) error {
	if err := lifecycle.AllowOn(lifecycle.Remove, c); err != nil {
		return err
	}
	if c.ReturnBy != "" {
		return domain.Conflict("crossing %s has a return path, %s, which needs to know what it closed; close that first",
			c.Name, c.ReturnBy)
	}
	if err := k.records.RemoveCrossing(ctx, c.ID); err != nil {
		return fmt.Errorf("removing %s: %w", c.Name, err)
	}
	k.journal.Recordf(ctx, "info", actor, c.Name, "", "remove", "%s removed %s from the records", actor, c.Name)
	return nil
}
