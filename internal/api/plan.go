package api

import (
	"context"
	"encoding/json"
	"fmt"
	"runtime"
	"strings"

	"dustyferry/internal/contract"
	"dustyferry/internal/core/sidebyside"
	"dustyferry/internal/core/signed"
	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/planning"
)

func (s *calls) GetPlan(ctx context.Context, r contract.GetPlanRequestObject) (contract.GetPlanResponseObject, error) {
	c, err := s.Store.Crossing(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	p, err := s.Voyage.Planning.PlanOf(ctx, &c, r.Params.Table)
	if err != nil {
		return nil, err
	}
	out := contract.GetPlan200JSONResponse{Source: p.Plan.Source.String(), Target: p.Plan.Target.String(),
		TargetStands: p.Target != nil,
		Rows:         p.Plan.Table.Rows, Bytes: p.Plan.Table.Bytes, Key: notNil(p.Plan.Key), KeyOrder: p.Plan.KeyOrder,
		Chunks: p.Chunks, ChunkBytes: planning.ChunkAim(c.Settings),
		First: convertAll(p.First, plannedObject), Later: convertAll(p.Later, plannedObject), Notes: entries(ctx, p.Notes)}
	both := &sidebyside.Table{Plan: p.Plan, LeftOut: p.LeftOut, Noted: p.Noted, Target: p.Target}
	for _, k := range p.Plan.Table.Columns {
		out.Columns = append(out.Columns, plannedColumn(k, both))
	}
	return out, nil
}

func (s *calls) PreviewPlan(ctx context.Context,
	r contract.PreviewPlanRequestObject) (contract.PreviewPlanResponseObject, error) {
	limit := 20
	take(&limit, r.Params.Limit)
	limit = min(max(limit, 1), 100)
	c, err := s.Store.Crossing(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	cols, rows, err := s.Voyage.Planning.PreviewPlan(ctx, &c, r.Params.Table, limit+1)
	if err != nil {
		return nil, err
	}
	s.Voyage.Recordf(ctx, "info", who(ctx).Name, c.Name, r.Params.Table, "look",
		"%s looked at the first rows of %s as they will arrive", who(ctx).Name, r.Params.Table)
	return contract.PreviewPlan200JSONResponse(preview(cols, rows, limit)), nil
}

func (s *calls) ListObjects(ctx context.Context,
	r contract.ListObjectsRequestObject) (contract.ListObjectsResponseObject, error) {
	c, err := s.Store.Crossing(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	list, err := s.Store.Objects(ctx, c.ID)
	return contract.ListObjects200JSONResponse(convertAll(list, madeObject)), err
}

func (s *calls) ChangeObject(ctx context.Context,
	r contract.ChangeObjectRequestObject) (contract.ChangeObjectResponseObject, error) {
	c, err := s.Store.Crossing(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	o, err := s.Voyage.Builder.ChangeObject(ctx, &c, r.Id, r.Body.Statement, who(ctx).Name)
	return contract.ChangeObject200JSONResponse(madeObject(o)), err
}

func madeObject(o domain.TargetObject) contract.MadeObject {
	out := contract.MadeObject{Id: o.ID, Stage: contract.MadeObjectStage(o.Stage), Kind: o.Kind, Name: o.Name,
		Table: o.Table, Statement: o.Statement,
		State: contract.MadeObjectState(o.State), Error: o.Error}
	if o.Seconds != nil && o.Stage != domain.StageTable {
		out.Seconds = o.Seconds
	}
	if o.EndedAt != nil {
		out.EndedAt = o.EndedAt
	}
	return out
}

func plannedObject(o planning.Object) contract.PlannedObject {
	return contract.PlannedObject{Kind: o.Kind, Name: o.Name, Statement: o.SQL}
}

// plannedColumn shows a column on both sides.
func plannedColumn(k domain.Column, t *sidebyside.Table) contract.PlannedColumn {
	x := sidebyside.Of(k, t)
	out := contract.PlannedColumn{Name: x.Name, SourceType: x.SourceType, Nullable: x.Nullable, Key: x.Key,
		TargetName: x.TargetName, TargetType: x.TargetType,
		Mapping: x.Mapping, Carried: x.Carried, Note: x.Note, Verdict: contract.Ok}
	if x.Blocks {
		out.Verdict = contract.Blocker
	}
	return out
}

func (s *calls) GetFitCheck(ctx context.Context,
	r contract.GetFitCheckRequestObject) (contract.GetFitCheckResponseObject, error) {
	c, err := s.Store.Crossing(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	f, err := s.Store.FitOf(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	if f == nil {
		return contract.GetFitCheck200JSONResponse{Entries: []contract.Entry{}}, nil
	}
	out := contract.GetFitCheck200JSONResponse{Share: f.Share, Extremes: f.Extremes, StartedAt: &f.StartedAt,
		Tables: f.Tables, TablesDone: f.Done,
		Rows: f.Rows, Bytes: f.Bytes, Misfits: f.Misfits, Entries: entries(ctx, f.Entries)}
	if !f.EndedAt.IsZero() {
		out.EndedAt = &f.EndedAt
	}
	if f.Error != "" {
		out.Error = &f.Error
	}
	return out, nil
}

func (s *calls) CheckFit(ctx context.Context,
	r contract.CheckFitRequestObject) (contract.CheckFitResponseObject, error) {
	a := planning.FitArgs{Share: 1}
	take(&a.Share, r.Body.Share)
	take(&a.Extremes, r.Body.Extremes)
	take(&a.SpeedLimit, r.Body.SpeedLimit)
	take(&a.Tables, r.Body.Tables)
	c, err := s.on(ctx, r.Name, func(c *domain.Crossing, actor string) error {
		return s.Voyage.CheckFit(ctx, c, a, actor)
	})
	return contract.CheckFit202JSONResponse(c), err
}

func (s *calls) GetReview(ctx context.Context,
	r contract.GetReviewRequestObject) (contract.GetReviewResponseObject, error) {
	c, err := s.Store.Crossing(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	l, err := s.Voyage.Planning.Review(ctx, &c)
	if err != nil {
		return nil, err
	}
	src, err := s.database(ctx, c.Source)
	if err != nil {
		return nil, err
	}
	dst, err := s.database(ctx, c.Target)
	loss := func(x planning.Loss) contract.Loss { return contract.Loss{Table: x.Table, Rows: x.Rows} }
	return contract.GetReview200JSONResponse{Source: src, Target: dst, Tables: l.Tables, Rows: l.Rows, Bytes: l.Bytes,
		Chunks: l.Chunks,
		Create: l.Create, StandingEmpty: l.Empty, Losses: convertAll(l.Losses, loss), RowsLost: l.RowsLost,
		Refused:  convertAll(l.Refused, loss),
		Blockers: entries(ctx, l.Blockers), Notices: l.Notices, LoadSeconds: l.LoadTime.Seconds(),
		LoadSecondsFrom: l.LoadTimeFrom}, err
}

func (s *calls) GetDefaults(ctx context.Context,
	_ contract.GetDefaultsRequestObject) (contract.GetDefaultsResponseObject, error) {
	set, err := s.Store.Defaults(ctx)
	return contract.GetDefaults200JSONResponse(settingsFor(ctx, set)), err
}

func (s *calls) SetDefaults(ctx context.Context,
	r contract.SetDefaultsRequestObject) (contract.SetDefaultsResponseObject, error) {
	before, err := s.Store.Defaults(ctx)
	if err != nil {
		return nil, err
	}
	set, err := settingsIn(before, r.Body)
	if err != nil {
		return nil, err
	}
	if err := s.Voyage.ChangeDefaults(ctx, set, who(ctx).Name); err != nil {
		return nil, err
	}
	return contract.SetDefaults200JSONResponse(settingsOut(set)), nil
}

func (s *calls) ListSettings(context.Context,
	contract.ListSettingsRequestObject) (contract.ListSettingsResponseObject, error) {
	return contract.ListSettings200JSONResponse(convertAll(domain.SettingsList(), func(d domain.Setting) contract.Setting {
		out := contract.Setting{Key: d.Key, Property: d.Property(), Kind: contract.SettingKind(d.Kind), Group: d.Group,
			Label: d.Label, Help: d.Help,
			Choices: convertAll(d.Choices, func(c domain.Choice) contract.SettingChoice {
				return contract.SettingChoice{Value: c.Value, Label: c.Label}
			}),
			Least: d.Least, Live: d.Live, Admin: d.Admin, WithoutRows: d.WithoutRows}
		if d.Most > 0 {
			out.Most = &d.Most
		}
		if d.Zero != "" {
			out.Zero = &d.Zero
		}
		return out
	})), nil
}

func (s *calls) GetPolicy(ctx context.Context,
	_ contract.GetPolicyRequestObject) (contract.GetPolicyResponseObject, error) {
	h, err := s.Store.Policy(ctx)
	return contract.GetPolicy200JSONResponse(as[contract.Policy](h)), err
}

func (s *calls) SetPolicy(ctx context.Context,
	r contract.SetPolicyRequestObject) (contract.SetPolicyResponseObject, error) {
	h := as[domain.Policy](*r.Body)
	if err := h.Validate(); err != nil {
		return nil, err
	}
	before, err := s.Store.Policy(ctx)
	if err != nil {
		return nil, err
	}
	if err := s.Store.SavePolicy(ctx, h); err != nil {
		return nil, err
	}
	list := func(names []string) string {
		if len(names) == 0 {
			return "none"
		}
		return strings.Join(names, ", ")
	}
	checks := convertAll(h.Checks, func(c domain.Check) string { return string(c) })
	old, _ := json.Marshal(before)
	now, _ := json.Marshal(h)
	s.Voyage.Record(ctx, domain.JournalEntry{Actor: who(ctx).Name, Act: "change", Severity: "warning",
		Message: fmt.Sprintf("%s changed the policy: tables %s; rules: %d; checks: %s; locked: %s",
			who(ctx).Name, list(h.Tables), len(h.Rules), list(checks), list(h.Locked)), Detail: fmt.Sprintf("%s → %s", old,
			now)})
	return contract.SetPolicy200JSONResponse(*r.Body), nil
}

func (s *calls) GetAbout(ctx context.Context,
	_ contract.GetAboutRequestObject) (contract.GetAboutResponseObject, error) {
	h, err := s.Store.Holdings(ctx)
	return contract.GetAbout200JSONResponse{Version: s.Version, Build: s.Build, Go: runtime.Version(),
		StartedAt: s.started, Worker: s.Voyage.Worker, Listen: s.Listen,
		ControlVersion: "PostgreSQL " + h.Version, ControlBytes: h.Bytes, JournalEntries: h.Journal, Samples: h.Samples,
		Workers: h.Workers, SigningKey: signed.Name(signed.PublicOf(s.Voyage.Box.Derive(certificateKey)))}, err
}
