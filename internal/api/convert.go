package api

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"dustyferry/internal/contract"
	"dustyferry/internal/core/gauge"
	"dustyferry/internal/domain"
	"dustyferry/internal/records"
)

func stamp(t sql.NullTime) *time.Time {
	if !t.Valid {
		return nil
	}
	return &t.Time
}

func ptr[T any](v T) *T { return &v }

func entries(in []domain.Entry) []contract.Entry {
	out := []contract.Entry{}
	for _, e := range in {
		x := contract.Entry{Verdict: contract.Verdict(e.Verdict), Topic: e.Topic, Subject: e.Subject, Measured: e.Measured}
		if e.Remedy != "" {
			x.Remedy = &e.Remedy
		}
		out = append(out, x)
	}
	return out
}

func journal(in []records.Entry) []contract.JournalEntry {
	out := []contract.JournalEntry{}
	for _, e := range in {
		out = append(out, contract.JournalEntry{Id: e.ID, At: e.At, Actor: e.Actor, Crossing: e.Crossing, Subject: e.Subject, Act: e.Act,
			Severity: contract.JournalEntrySeverity(e.Severity), Message: e.Message})
	}
	return out
}

func settingsOut(s domain.Settings) contract.Settings {
	return contract.Settings{
		Lanes: &s.Lanes, ChunkBytes: &s.ChunkBytes, MaxAttempts: &s.MaxAttempts, SpeedLimit: &s.SpeedLimit, BatchChanges: &s.BatchChanges,
		InStepLagSeconds: ptr(s.InStepLag.Seconds()), InStepDwellSeconds: ptr(s.InStepDwell.Seconds()), PauseBudgetSeconds: ptr(s.PauseBudget.Seconds()),
		StopMethod: ptr(contract.SettingsStopMethod(s.StopMethod)), CutoverDepth: ptr(contract.SettingsCutoverDepth(s.CutoverDepth)),
		HandoverUrl: &s.HandoverURL, HandoverCommand: &s.HandoverCommand, NonEmptyTarget: ptr(contract.SettingsNonEmptyTarget(s.NonEmptyTarget)),
	}
}

func take[T any](to *T, from *T) {
	if from != nil {
		*to = *from
	}
}

// settingsIn lays what the request gives over the settings there are.
func settingsIn(base domain.Settings, in *contract.Settings) domain.Settings {
	if in == nil {
		return base
	}
	take(&base.Lanes, in.Lanes)
	take(&base.ChunkBytes, in.ChunkBytes)
	take(&base.MaxAttempts, in.MaxAttempts)
	take(&base.SpeedLimit, in.SpeedLimit)
	take(&base.BatchChanges, in.BatchChanges)
	take(&base.HandoverURL, in.HandoverUrl)
	take(&base.HandoverCommand, in.HandoverCommand)
	for _, d := range []struct {
		to   *time.Duration
		from *float64
	}{{&base.InStepLag, in.InStepLagSeconds}, {&base.InStepDwell, in.InStepDwellSeconds}, {&base.PauseBudget, in.PauseBudgetSeconds}} {
		if d.from != nil {
			*d.to = time.Duration(*d.from * float64(time.Second))
		}
	}
	if in.StopMethod != nil {
		base.StopMethod = domain.StopMethod(*in.StopMethod)
	}
	if in.CutoverDepth != nil {
		base.CutoverDepth = domain.Depth(*in.CutoverDepth)
	}
	if in.NonEmptyTarget != nil {
		base.NonEmptyTarget = string(*in.NonEmptyTarget)
	}
	return base
}

// rateWindow is what "now" means for a rate.
const rateWindow = 15 * time.Second

// crossing gathers what people watch about one crossing.
func (s *Server) crossing(ctx context.Context, c *records.Crossing) (contract.Crossing, error) {
	out := contract.Crossing{Name: c.Name, Kind: contract.Kind(c.Kind), Source: c.Source, Target: c.Target, Phase: contract.Phase(c.Phase),
		Condition: contract.Condition(c.Condition), Reason: c.Reason, Tables: c.Patterns.V, Settings: settingsOut(c.Settings.V), CreatedAt: c.CreatedAt,
		StartedAt: stamp(c.StartedAt), LandedAt: stamp(c.LandedAt), InStepAt: stamp(c.InStepAt), CutOverAt: stamp(c.CutOverAt), ClosedAt: stamp(c.ClosedAt)}
	if out.Tables == nil {
		out.Tables = []string{}
	}
	// A setting that can run commands may hold secrets of its own.
	if who(ctx).Role == "viewer" {
		out.Settings.HandoverCommand = nil
	}
	p := &out.Progress
	p.Capture = "none"
	sum, err := s.Store.Progress(ctx, c.ID)
	if err != nil {
		return out, err
	}
	p.Tables, p.TablesLanded, p.TablesHeld = sum.Tables, sum.TablesLanded, sum.TablesHeld
	p.Chunks, p.ChunksLanded = sum.Chunks, sum.ChunksLanded
	p.Rows, p.Bytes, p.RowsEstimated, p.BytesEstimated = sum.Rows, sum.Bytes, max(sum.EstRows, sum.Rows), max(sum.EstBytes, sum.Bytes)
	if sum.TablesLanded == sum.Tables && sum.Tables > 0 {
		p.RowsEstimated, p.BytesEstimated = sum.Rows, sum.Bytes
	}
	if sum.Work != "" {
		p.Work = &sum.Work
	}
	if st, err := s.Store.Stream(ctx, c.ID); err != nil {
		return out, err
	} else if st != nil && c.Kind != domain.KindLoad {
		p.Capture = "waiting"
		if st.Live {
			p.Capture = st.Worker
		}
		p.Changes, p.LagSeconds, p.LagBytes, p.RetainedBytes = st.Changes, st.LagSeconds, st.LagBytes, st.Retained
		p.AppliedPosition = ptr(s.Voyage.Position(ctx, c.Source, domain.Position(st.Applied)))
	}
	switch c.Phase {
	case domain.PhaseLoading, domain.PhaseCatchingUp, domain.PhaseInStep, domain.PhaseCuttingOver:
	default:
		return out, nil
	}
	samples, err := s.Store.Samples(ctx, c.ID, time.Now().Add(-rateWindow-2*time.Second))
	if err != nil {
		return out, err
	}
	var pts []gauge.Point
	for _, x := range samples {
		pts = append(pts, gauge.Point{At: x.At, Rows: x.Rows, Bytes: x.Bytes, Changes: x.Changes})
	}
	now := gauge.Over(pts, rateWindow)
	p.RowsPerSecond, p.BytesPerSecond, p.ChangesPerSecond = max(now.Rows, 0), max(now.Bytes, 0), max(now.Changes, 0)
	if c.Phase != domain.PhaseLoading {
		p.RowsPerSecond, p.BytesPerSecond = 0, 0 // the window may still reach into the load
	}
	if c.Phase == domain.PhaseLoading && c.StartedAt.Valid {
		since := time.Since(c.StartedAt.Time).Seconds()
		avg := float64(sum.Bytes) / max(since, 1)
		p.AverageRowsPerSecond = ptr(float64(sum.Rows) / max(since, 1))
		if left := gauge.Left(sum.Bytes, p.BytesEstimated, p.BytesPerSecond, avg); left.Known {
			p.RemainingSeconds, p.RemainingLowSeconds, p.RemainingHighSeconds = ptr(left.Expected.Seconds()), ptr(left.Low.Seconds()), ptr(left.High.Seconds())
		}
	}
	return out, nil
}

func tableOut(t *records.Table) contract.Table {
	key := t.Plan.V.Key
	if key == nil {
		key = []string{}
	}
	return contract.Table{Id: t.ID, Name: t.SourceName, Target: t.TargetName, State: contract.TableState(t.State), Reason: t.Reason, Key: key,
		Binary: t.Plan.V.Binary, RowsEstimated: max(t.EstRows, t.RowsLanded), BytesEstimated: t.EstBytes, Rows: t.RowsLanded, Bytes: t.BytesLanded,
		Chunks: t.Chunks, ChunksLanded: t.ChunksLanded, Inserts: t.Inserts, Updates: t.Updates, Deletes: t.Deletes, Truncates: t.Truncates}
}

func (s *Server) chunkOut(ctx context.Context, source string, k *records.Chunk) contract.Chunk {
	out := contract.Chunk{Id: k.ID, Ordinal: k.Ordinal + 1, State: contract.ChunkState(k.State), Attempts: k.Attempts, Rows: k.Rows, Bytes: k.Bytes,
		Worker: k.Worker, StartedAt: stamp(k.StartedAt), EndedAt: stamp(k.EndedAt), Error: k.Error}
	if k.Lower.V != nil {
		out.Lower = ptr([]string(k.Lower.V))
	}
	if k.Upper.V != nil {
		out.Upper = ptr([]string(k.Upper.V))
	}
	if k.State == domain.ChunkLanded {
		out.Hash = ptr(fmt.Sprintf("%016x", uint64(k.Hash)))
		out.Position = ptr(s.Voyage.Position(ctx, source, k.Domain().Snapshot.Log))
	}
	return out
}

func (s *Server) reconciliationOut(ctx context.Context, source string, r *records.Reconciliation) contract.Reconciliation {
	return contract.Reconciliation{Id: r.ID, Depth: string(r.Depth), State: contract.ReconciliationState(r.State),
		Position: s.Voyage.Position(ctx, source, domain.Position(r.Position)), Tables: r.Tables, TablesDone: r.TablesDone,
		SourceRows: r.SourceRows, TargetRows: r.TargetRows, Findings: r.Findings, OpenFindings: r.Open, Error: r.Error,
		CreatedAt: r.CreatedAt, EndedAt: stamp(r.EndedAt)}
}

func (s *Server) cutoverOut(ctx context.Context, source string, k *records.Cutover) (contract.Cutover, error) {
	out := contract.Cutover{Id: k.ID, Rehearsal: k.Rehearsal, State: contract.CutoverState(k.State), Actor: k.Actor, Error: k.Error,
		CreatedAt: k.CreatedAt, EndedAt: stamp(k.EndedAt), EndPosition: s.Voyage.Position(ctx, source, domain.Position(k.EndPosition)), Steps: []contract.CutoverStep{}}
	if k.PausedAt.Valid {
		until := time.Now()
		if k.ReleasedAt.Valid {
			until = k.ReleasedAt.Time
		}
		out.WritePauseSeconds = ptr(until.Sub(k.PausedAt.Time).Seconds())
	}
	if k.ReconciliationID.Valid {
		out.Reconciliation = &k.ReconciliationID.Int64
	}
	rows, err := s.Store.Steps(ctx, k.ID)
	for _, x := range rows {
		st := contract.CutoverStep{Name: string(x.Name), State: contract.CutoverStepState(x.State), Note: x.Note}
		if x.StartedAt.Valid {
			until := time.Now()
			if x.EndedAt.Valid {
				until = x.EndedAt.Time
			}
			st.Seconds = ptr(until.Sub(x.StartedAt.Time).Seconds())
		}
		out.Steps = append(out.Steps, st)
	}
	return out, err
}
