package api

import (
	"context"
	"runtime"
	"slices"

	"dustyferry/internal/contract"
	"dustyferry/internal/domain"
	"dustyferry/internal/records"
	"dustyferry/internal/voyage"
)

func (s *calls) GetPlan(ctx context.Context, r contract.GetPlanRequestObject) (contract.GetPlanResponseObject, error) {
	c, err := s.Store.Crossing(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	p, err := s.Voyage.PlanOf(ctx, &c, r.Params.Table)
	if err != nil {
		return nil, err
	}
	out := contract.GetPlan200JSONResponse{Source: p.Plan.Source.String(), Target: p.Plan.Target.String(), TargetStands: p.Target != nil,
		Rows: p.Plan.Table.Rows, Bytes: p.Plan.Table.Bytes, Key: notNil(p.Plan.Key), KeyOrder: p.Plan.KeyOrder, Chunks: p.Chunks, ChunkBytes: c.Settings.V.ChunkBytes,
		Later: notNil(p.Later), Notes: entries(p.Notes)}
	out.Columns = convertAll(p.Plan.Columns, func(k domain.Column) contract.PlannedColumn { return plannedColumn(k, &p) })
	return out, nil
}

// plannedColumn shows a column on both sides. A table that will be made gets
// the source's own type; one that stands is compared.
func plannedColumn(k domain.Column, p *voyage.PlannedTable) contract.PlannedColumn {
	x := contract.PlannedColumn{Name: k.Name, SourceType: k.Type, TargetType: k.Type, Nullable: !k.NotNull, Key: slices.Index(p.Plan.Key, k.Name) + 1,
		Carried: !k.Generated, Verdict: contract.Fine}
	want := k
	if side := p.Plan.TargetSide; side != nil {
		if o := (&domain.Table{Columns: side.Columns}).Column(k.Name); o != nil {
			want = *o
			x.TargetType = want.Type
		}
	}
	switch {
	case k.Computed != "":
		x.Note = "its values are copied; the expression is not carried over"
	case k.Generated:
		x.Note = "computed by the target: " + k.Default
	case k.Identity != "":
		x.Note = "numbered by identity (" + k.Identity + ")"
	case k.Default != "":
		x.Note = "default " + k.Default
	}
	if p.Target == nil {
		return x
	}
	there := p.Target.Column(k.Name)
	switch {
	case there == nil:
		x.TargetType, x.Verdict, x.Note = "", contract.Blocks, "the target's table has no such column"
	case there.Type != want.Type:
		x.TargetType, x.Verdict, x.Note = there.Type, contract.Blocks, "the target's column has another type"
	case there.NotNull && !k.NotNull:
		x.Verdict, x.Note = contract.Blocks, "the target's column does not take NULL"
	}
	return x
}

func (s *calls) GetFitCheck(ctx context.Context, r contract.GetFitCheckRequestObject) (contract.GetFitCheckResponseObject, error) {
	c, err := s.Store.Crossing(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	f, err := s.Store.FitOf(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	if f == nil {
		return nil, domain.NotFound("there has been no fit check of %s; 'dustyferry fit %s' makes one", r.Name, r.Name)
	}
	out := contract.GetFitCheck200JSONResponse{Share: f.Share, Extremes: f.Extremes, StartedAt: f.StartedAt, Tables: f.Tables, TablesDone: f.Done,
		Rows: f.Rows, Bytes: f.Bytes, Misfits: f.Misfits, Entries: entries(f.Entries)}
	if !f.EndedAt.IsZero() {
		out.EndedAt = &f.EndedAt
	}
	if f.Error != "" {
		out.Error = &f.Error
	}
	return out, nil
}

func (s *calls) CheckFit(ctx context.Context, r contract.CheckFitRequestObject) (contract.CheckFitResponseObject, error) {
	a := voyage.FitArgs{Share: 1}
	take(&a.Share, r.Body.Share)
	take(&a.Extremes, r.Body.Extremes)
	take(&a.SpeedLimit, r.Body.SpeedLimit)
	take(&a.Tables, r.Body.Tables)
	c, err := s.on(ctx, r.Name, func(c *records.Crossing, actor string) error { return s.Voyage.CheckFit(ctx, c, a, actor) })
	return contract.CheckFit202JSONResponse(c), err
}

func (s *calls) GetLastLook(ctx context.Context, r contract.GetLastLookRequestObject) (contract.GetLastLookResponseObject, error) {
	c, err := s.Store.Crossing(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	l, err := s.Voyage.LastLook(ctx, &c)
	if err != nil {
		return nil, err
	}
	src, err := s.database(ctx, c.Source)
	if err != nil {
		return nil, err
	}
	dst, err := s.database(ctx, c.Target)
	loss := func(x voyage.Loss) contract.Loss { return contract.Loss{Table: x.Table, Rows: x.Rows} }
	return contract.GetLastLook200JSONResponse{Source: src, Target: dst, Tables: l.Tables, Rows: l.Rows, Bytes: l.Bytes, Chunks: l.Chunks,
		Create: l.Create, StandingEmpty: l.Empty, Losses: convertAll(l.Losses, loss), RowsLost: l.RowsLost, Refused: convertAll(l.Refused, loss),
		Blocks: entries(l.Blocks), ToKnow: l.ToKnow, LoadSeconds: l.LoadTime.Seconds(), LoadSecondsFrom: l.LoadTimeFrom}, err
}

func (s *calls) GetDefaults(ctx context.Context, _ contract.GetDefaultsRequestObject) (contract.GetDefaultsResponseObject, error) {
	set, err := s.Store.Defaults(ctx)
	out := settingsOut(set)
	if who(ctx).Role == "viewer" {
		out.HandoverCommand = nil
	}
	return contract.GetDefaults200JSONResponse(out), err
}

func (s *calls) SetDefaults(ctx context.Context, r contract.SetDefaultsRequestObject) (contract.SetDefaultsResponseObject, error) {
	before, err := s.Store.Defaults(ctx)
	if err != nil {
		return nil, err
	}
	set := settingsIn(before, r.Body).WithDefaults()
	if err := set.Validate(); err != nil {
		return nil, err
	}
	if err := s.Store.SaveDefaults(ctx, set); err != nil {
		return nil, err
	}
	s.Voyage.Say(ctx, "info", who(ctx).Name, "", "", "change", "%s changed what new crossings begin with: %d lanes, chunks of %.1f MB, speed limit %.1f MB/s (0: none), pause budget %s, stop method %s",
		who(ctx).Name, set.Lanes, float64(set.ChunkBytes)/1e6, float64(set.SpeedLimit)/1e6, set.PauseBudget, set.StopMethod)
	return contract.SetDefaults200JSONResponse(settingsOut(set)), nil
}

func (s *calls) GetAbout(ctx context.Context, _ contract.GetAboutRequestObject) (contract.GetAboutResponseObject, error) {
	h, err := s.Store.Holdings(ctx)
	return contract.GetAbout200JSONResponse{Version: s.Version, Build: s.Build, Go: runtime.Version(), StartedAt: s.started, Worker: s.Voyage.Worker, Listen: s.Listen,
		ControlVersion: "PostgreSQL " + h.Version, ControlBytes: h.Bytes, JournalEntries: h.Journal, Samples: h.Samples, Workers: h.Workers}, err
}
