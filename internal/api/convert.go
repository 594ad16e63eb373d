package api

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"time"

	"dustyferry/internal/contract"
	"dustyferry/internal/core/gauge"
	"dustyferry/internal/domain"
	"dustyferry/internal/records"
)

func ptr[T any](v T) *T { return &v }

// convertAll makes a list of another kind, never nil.
func convertAll[A, B any](in []A, f func(A) B) []B {
	out := make([]B, 0, len(in))
	for _, x := range in {
		out = append(out, f(x))
	}
	return out
}

func entries(ctx context.Context, in []domain.Entry) []contract.Entry {
	out := []contract.Entry{}
	for _, e := range in {
		x := contract.Entry{Verdict: contract.Verdict(e.Verdict), Topic: e.Topic, Subject: e.Subject,
			Measured: hidden(ctx, e.Measured)}
		if e.Values != "" && who(ctx).MaySeeRows() {
			x.Measured += ": " + e.Values
		}
		if e.Remedy != "" {
			x.Remedy = &e.Remedy
		}
		out = append(out, x)
	}
	return out
}

// journal shows entries. What was run or set, word for word, is not for viewers.
func journalLines(ctx context.Context, in []domain.JournalEntry) []contract.JournalEntry {
	out := []contract.JournalEntry{}
	for _, e := range in {
		x := contract.JournalEntry{Id: e.ID, At: e.At, Actor: e.Actor, Crossing: e.Crossing, Subject: e.Subject, Act: e.Act,
			Severity: contract.Severity(e.Severity), Message: hidden(ctx, e.Message)}
		if e.Detail != "" && who(ctx).Role != "viewer" {
			x.Detail = ptr(hidden(ctx, e.Detail))
		}
		out = append(out, x)
	}
	return out
}

func settingsOut(s domain.Settings) contract.Settings {
	return as[contract.Settings](s.All().JSON())
}

// settingsFor shows settings to a caller: not to viewers what may hold secrets of its own.
func settingsFor(ctx context.Context, s domain.Settings) contract.Settings {
	all := s.All()
	for _, d := range domain.SettingsList() {
		if d.Secret && who(ctx).Role == "viewer" {
			delete(all, d.Key)
		}
	}
	return as[contract.Settings](all.JSON())
}

func take[T any](to *T, from *T) {
	if from != nil {
		*to = *from
	}
}

// settingsIn lays what the request gives over the settings there are.
func settingsIn(base domain.Settings, in *contract.Settings) (domain.Settings, error) {
	if in == nil {
		return base, nil
	}
	given, err := domain.GivenJSON(as[map[string]any](*in))
	return given.Over(base), err
}

// awaited is how the API names what a cutover waits for.
var awaited = map[domain.Awaits]contract.CutoverAwaits{domain.AwaitsGoOn: contract.CutoverAwaitsGoOn,
	domain.AwaitsWord: contract.CutoverAwaitsWritesStopped, domain.AwaitsOutcome: contract.CutoverAwaitsOutcome}

// crossing is what people watch about one crossing.
func (s *Server) crossing(ctx context.Context, c *records.Line) contract.Crossing {
	out := contract.Crossing{Name: c.Name, CopyRows: c.Kind.Copies(), FollowChanges: c.Kind.Follows(), Source: c.Source,
		Target: c.Target, Phase: contract.Phase(c.Phase), PhaseLabel: c.PhaseText(),
		Condition: contract.Condition(c.Condition), Reason: hidden(ctx, c.Reason), WaitsFor: c.WaitsFor,
		Tables: notNil(c.Patterns), Rules: as[[]contract.Rule](notNil(c.Rules)), Planning: as[contract.Planning](c.Planning),
		Settings:  settingsFor(ctx, c.Settings),
		CreatedAt: c.CreatedAt, SurveyedAt: c.SurveyedAt, StartedAt: c.StartedAt, LandedAt: c.LandedAt,
		InStepAt: c.InStepAt, CutOverAt: c.CutOverAt, ClosedAt: c.ClosedAt}
	if c.OtherServer != "" {
		out.OtherServer = &c.OtherServer
	}
	if c.ReturnOf != nil && c.ReturnOfIs != "" {
		out.ReturnOf = &c.ReturnOfIs
	}
	if c.ReturnBy != "" {
		out.ReturnBy = &c.ReturnBy
	}
	p := &out.Progress
	p.Capture = "none"
	p.Tables, p.TablesLanded, p.TablesHeld = c.Progress.Tables, c.TablesLanded, c.TablesHeld
	p.Chunks, p.ChunksLanded = c.Chunks, c.ChunksLanded
	p.Rows, p.Bytes, p.RowsEstimated, p.BytesEstimated = c.Rows, c.Bytes, max(c.EstRows, c.Rows), max(c.EstBytes, c.Bytes)
	if c.TablesLanded == c.Progress.Tables && c.Progress.Tables > 0 {
		p.RowsEstimated, p.BytesEstimated = c.Rows, c.Bytes
	}
	if c.LanesNow != nil && c.Phase == domain.PhaseLoading {
		p.LanesNow, p.LanesWhy = c.LanesNow, &c.LanesWhy
	}
	if c.Work != "" {
		p.Work = &c.Work
	}
	if c.HasStream && c.Kind != domain.KindLoad {
		p.Capture = "waiting"
		if c.StreamLive {
			p.Capture = c.Worker
		}
		p.Changes, p.LagSeconds, p.LagBytes, p.RetainedBytes = c.Changes, c.LagSeconds, c.LagBytes, c.Retained
		for _, l := range []struct {
			from sql.NullFloat64
			to   **float64
		}{{c.LagP50, &p.LagP50Seconds}, {c.LagP99, &p.LagP99Seconds}, {c.LagAge, &p.LagAgeSeconds}} {
			if l.from.Valid {
				*l.to = &l.from.Float64
			}
		}
		p.LagTransactions, p.LagGuessed = &c.LagTransactions, &c.LagGuessed
		if c.StreamLive && c.CatchUp >= 0 {
			p.CatchUpSeconds = &c.CatchUp
		}
		if c.RetainedAge.Valid {
			p.RetainedSeconds = ptr(max(c.RetainedAge.Float64, 0))
		}
		if !domain.Position(c.TouchedFrom).IsZero() {
			p.VouchedRows = &c.VouchedRows
		}
		if at := domain.Position(c.Vouched); !at.IsZero() {
			p.VouchedPosition, p.VouchedAt = ptr(s.Voyage.Position(ctx, c.Source, at)), c.VouchedAt
		}
		if c.Note != "" && c.StreamLive {
			p.CaptureNote = &c.Note
		}
		p.AppliedPosition = ptr(s.Voyage.Position(ctx, c.Source, domain.Position(c.Applied)))
	}
	switch c.Phase {
	case domain.PhaseLoading, domain.PhaseCatchingUp, domain.PhaseInStep, domain.PhaseCuttingOver:
		p.ChangesPerSecond = max(c.ChangesRate, 0)
	}
	if c.Phase == domain.PhaseLoading && c.StartedAt != nil {
		p.RowsPerSecond, p.BytesPerSecond = max(c.RowsRate, 0), max(c.BytesRate, 0)
		since := max(time.Since(*c.StartedAt).Seconds(), 1)
		p.AverageRowsPerSecond = ptr(float64(c.Rows) / since)
		p.RemainingSeconds, p.RemainingLowSeconds, p.RemainingHighSeconds = remaining(c.Bytes, p.BytesEstimated,
			p.BytesPerSecond, since)
	}
	return out
}

// remaining is how long a load still takes, with the range that its rates span;
// nil where it is not known.
func remaining(done, total int64, now, since float64) (expected, low, high *float64) {
	left := gauge.Left(done, total, now, float64(done)/since, time.Duration(since*float64(time.Second)))
	if !left.Known {
		return nil, nil, nil
	}
	return ptr(left.Expected.Seconds()), ptr(left.Low.Seconds()), ptr(left.High.Seconds())
}

func tableOut(ctx context.Context, t *records.TableLine) contract.Table {
	out := contract.Table{Id: t.ID, Name: t.SourceName, Target: t.TargetName, State: contract.TableState(t.State),
		Reason: hidden(ctx, t.Reason), Key: notNil(t.Key.V),
		Binary: t.Binary, RowsEstimated: max(t.EstRows, t.Rows), BytesEstimated: max(t.EstBytes, t.Bytes), Rows: t.Rows,
		Bytes:  t.Bytes,
		Chunks: t.Chunks, ChunksLanded: t.ChunksLanded, RowsPerSecond: t.RowsRate, BytesPerSecond: t.BytesRate,
		StartedAt: t.StartedAt, LandedAt: t.LandedAt,
		Inserts: t.Inserts, Updates: t.Updates, Deletes: t.Deletes, Truncates: t.Truncates, ColumnChanges: t.ColumnChanges,
		LastChangeAt: t.LastChangeAt}
	if t.Chunks > 0 && t.Chunks == t.ChunksLanded {
		out.RowsEstimated, out.BytesEstimated = t.Rows, t.Bytes
	}
	if t.StartedAt != nil && t.Rows > 0 {
		until := time.Now()
		if t.LandedAt != nil {
			until = *t.LandedAt
		}
		since := max(until.Sub(*t.StartedAt).Seconds(), 0.001)
		out.AverageRowsPerSecond = ptr(float64(t.Rows) / since)
		if t.LandedAt == nil && t.Bytes > 0 {
			out.RemainingSeconds, out.RemainingLowSeconds, out.RemainingHighSeconds = remaining(t.Bytes, out.BytesEstimated,
				t.BytesRate, since)
		}
	}
	return out
}

// boundsOf is what a table's chunks are ranges of.
func boundsOf(t *records.TableLine) []string {
	if t.ReadOrder == domain.ByDisk {
		return []string{"page"}
	}
	return notNil(t.Key.V)
}

func (s *Server) chunkOut(ctx context.Context, source string, t *records.TableLine, k *domain.Chunk) contract.Chunk {
	out := contract.Chunk{Id: k.ID, Ordinal: k.Ordinal + 1, State: contract.ChunkState(k.State), Attempts: k.Attempts,
		Rows: k.Rows, Bytes: k.Bytes,
		Worker: k.Worker, StartedAt: k.StartedAt, EndedAt: k.EndedAt, Error: hidden(ctx, k.Error)}
	if k.With != nil {
		out.With = ptr(int(*k.With) + 1)
	}
	if k.Run > 1 {
		out.Together = &k.Run
	}
	shown := func(bound domain.KeyValue) *[]string {
		switch {
		case bound == nil:
			return nil
		case t.ReadOrder == domain.ByDisk: // the number of a page, which tells nothing of a row; and a file
			return ptr([]string{bound[0]})
		}
		return ptr(bounds(ctx, bound))
	}
	out.Lower, out.Upper = shown(k.Lower), shown(k.Upper)
	if k.State == domain.ChunkLanded {
		out.Hash = ptr(fmt.Sprintf("%016x", uint64(k.Hash)))
		out.Position = ptr(s.Voyage.Position(ctx, source, k.Snapshot.Log))
	}
	return out
}

// bounds are a chunk's: values of keys, hidden from who may not see rows.
func bounds(ctx context.Context, key []string) []string {
	if who(ctx).MaySeeRows() {
		return key
	}
	out := make([]string, len(key))
	for i := range out {
		out[i] = "(hidden)"
	}
	return out
}

func (s *Server) reconciliationOut(ctx context.Context, source string,
	r *domain.Reconciliation) contract.Reconciliation {
	return contract.Reconciliation{Id: r.ID, Depth: string(r.Depth), Scope: notNil(r.Patterns), RowsExpected: r.Expected,
		State:    contract.ReconciliationState(r.State),
		Position: s.Voyage.Position(ctx, source, r.Position), Tables: r.Tables, TablesDone: r.TablesDone,
		SourceRows: r.SourceRows, TargetRows: r.TargetRows, Findings: r.Findings, OpenFindings: r.Open, Error: r.Error,
		CreatedAt: r.CreatedAt, EndedAt: r.EndedAt}
}

func (s *Server) cutoverOut(ctx context.Context, source string, k *domain.Cutover) (contract.Cutover, error) {
	out := contract.Cutover{Id: k.ID, Rehearsal: k.Rehearsal, State: contract.CutoverState(k.State), Actor: k.Actor,
		Error:     k.Error,
		CreatedAt: k.CreatedAt, EndedAt: k.EndedAt, EndPosition: s.Voyage.Position(ctx, source,
			k.EndPosition), Steps: []contract.CutoverStep{}}
	if k.PausedAt != nil {
		until := time.Now()
		if k.ReleasedAt != nil {
			until = *k.ReleasedAt
		}
		out.PausedAt = k.PausedAt
		out.WritePauseSeconds = ptr(until.Sub(*k.PausedAt).Seconds())
	}
	if k.ReconciliationID != nil {
		out.Reconciliation = k.ReconciliationID
	}
	out.PauseBudgetSeconds = k.Settings.PauseBudget.Seconds()
	rows, err := s.Store.Steps(ctx, k.ID)
	for _, x := range rows {
		if k.State == domain.CutoverRunning && x.State == domain.StepRunning && x.Awaits != domain.AwaitsNobody {
			out.WaitsFor, out.Awaits = x.Note, awaited[x.Awaits]
		}
		st := contract.CutoverStep{Name: string(x.Name), State: contract.CutoverStepState(x.State), Note: x.Note}
		if x.StartedAt != nil {
			until := time.Now()
			if x.EndedAt != nil {
				until = *x.EndedAt
			}
			st.StartedAt = x.StartedAt
			st.Seconds = ptr(until.Sub(*x.StartedAt).Seconds())
		}
		out.Steps = append(out.Steps, st)
	}
	return out, err
}

// as brings a value to a type whose JSON form is the same: the contract says of
// rules and planning what the domain says.
func as[T any](v any) T {
	var out T
	text, err := json.Marshal(v)
	if err == nil {
		err = json.Unmarshal(text, &out)
	}
	if err != nil {
		panic(fmt.Sprintf("%T and %T are unlike: %s", v, out, err)) // a mistake of ours, found by any call
	}
	return out
}
