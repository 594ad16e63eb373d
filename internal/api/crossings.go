package api

import (
	"context"

	"dustyferry/internal/contract"
	"dustyferry/internal/domain"
	"dustyferry/internal/manifest"
	"dustyferry/internal/records"
	"dustyferry/internal/voyage/closing"
)

func (s *calls) shown(ctx context.Context, name string) (contract.Crossing, error) {
	c, err := s.Store.Line(ctx, name)
	if err != nil {
		return contract.Crossing{}, err
	}
	return s.crossing(ctx, &c), nil
}

// on finds the crossing and does something with it, then shows it.
func (s *calls) on(ctx context.Context, name string, f func(c *domain.Crossing,
	actor string) error) (contract.Crossing, error) {
	c, err := s.Store.Crossing(ctx, name)
	if err != nil {
		return contract.Crossing{}, err
	}
	if err := f(&c, who(ctx).Name); err != nil {
		return contract.Crossing{}, err
	}
	return s.shown(ctx, name)
}

// maxListed bounds what one call lists of crossings.
const maxListed = 1000

func (s *calls) ListCrossings(ctx context.Context,
	r contract.ListCrossingsRequestObject) (contract.ListCrossingsResponseObject, error) {
	p := r.Params
	f := records.Filter{Search: text(p.Search), Phase: text(p.Phase), Condition: text(p.Condition), Sort: text(p.Sort),
		Limit: 100}
	take(&f.Waiting, p.Waiting)
	take(&f.Descending, p.Descending)
	take(&f.Offset, p.Offset)
	take(&f.Limit, p.Limit)
	f.Offset, f.Limit = max(f.Offset, 0), min(max(f.Limit, 1), maxListed)
	rows, matched, err := s.Store.Lines(ctx, f)
	if err != nil {
		return nil, err
	}
	totals, err := s.Store.Totals(ctx)
	out := contract.ListCrossings200JSONResponse{Matched: matched, Total: totals.Total, Waiting: totals.Waiting,
		UnderWay: totals.UnderWay, Crossings: []contract.Crossing{}}
	for i := range rows {
		out.Crossings = append(out.Crossings, s.crossing(ctx, &rows[i]))
	}
	return out, err
}

// text is a parameter's text, empty when it was not given.
func text[T ~string](p *T) string {
	if p == nil {
		return ""
	}
	return string(*p)
}

func (s *calls) GetCrossing(ctx context.Context,
	r contract.GetCrossingRequestObject) (contract.GetCrossingResponseObject, error) {
	c, err := s.shown(ctx, r.Name)
	return contract.GetCrossing200JSONResponse(c), err
}

// add creates a draft.
func (s *calls) add(ctx context.Context, d domain.Crossing, stopChosen bool) (contract.Crossing, error) {
	policy, err := s.Store.Defaults(ctx)
	if err == nil {
		err = maySet(ctx, policy, d.Settings)
	}
	if err != nil {
		return contract.Crossing{}, err
	}
	if err := s.Voyage.Create(ctx, d, records.NewCrossingUID(), stopChosen, who(ctx).Name); err != nil {
		return contract.Crossing{}, err
	}
	return s.shown(ctx, d.Name)
}

// maySet refuses settings that only administrators may change, such as a command, which runs
// with the service's own rights.
func maySet(ctx context.Context, before, s domain.Settings) error {
	for _, c := range before.Changes(s) {
		if c.Setting.Admin && who(ctx).Role != "admin" {
			return domain.Forbidden("setting %s needs the admin role. %s", c.Setting.Key, c.Setting.Help)
		}
	}
	return nil
}

// given lays what a request gives over settings, if whoever calls may.
func given(ctx context.Context, before domain.Settings, in *contract.Settings) (domain.Settings, error) {
	s, err := settingsIn(before, in)
	if err != nil {
		return s, err
	}
	return s, maySet(ctx, before, s)
}

func (s *calls) AddCrossing(ctx context.Context,
	r contract.AddCrossingRequestObject) (contract.AddCrossingResponseObject, error) {
	policy, err := s.Store.Defaults(ctx)
	if err != nil {
		return nil, err
	}
	set, err := settingsIn(policy, r.Body.Settings)
	if err != nil {
		return nil, err
	}
	d := domain.Crossing{Name: r.Body.Name, Source: r.Body.Source, Target: r.Body.Target, Settings: set}
	word := domain.Kind("")
	take(&word, (*domain.Kind)(r.Body.Kind))
	if d.Kind, err = domain.KindOf(r.Body.CopyRows, r.Body.FollowChanges, word); err != nil {
		return nil, err
	}
	if r.Body.Tables != nil {
		d.Patterns = *r.Body.Tables
	}
	if r.Body.Rules != nil {
		d.Rules = as[[]domain.Rule](*r.Body.Rules)
	}
	if r.Body.Planning != nil {
		d.Planning = as[domain.Planning](*r.Body.Planning)
	}
	c, err := s.add(ctx, d, r.Body.Settings != nil && r.Body.Settings.StopMethod != nil)
	return contract.AddCrossing201JSONResponse(c), err
}

func (s *calls) ImportManifest(ctx context.Context,
	r contract.ImportManifestRequestObject) (contract.ImportManifestResponseObject, error) {
	given := ""
	if r.JSONBody != nil {
		given = r.JSONBody.Manifest
	}
	take(&given, (*string)(r.TextBody))
	f, err := manifest.Parse([]byte(given))
	if err != nil {
		return nil, err
	}
	m := f.Crossing
	base, err := s.Store.Defaults(ctx)
	if err != nil {
		return nil, err
	}
	kind, err := m.Kind()
	if err != nil {
		return nil, err
	}
	c, err := s.add(ctx, domain.Crossing{Name: m.Name, Kind: kind, Source: m.Source, Target: m.Target, Patterns: m.Tables,
		Rules: m.Rules, Planning: m.Planning(), Settings: m.Settings.Over(base)}, m.Settings.Given["stop_method"] != nil)
	if list := m.Notices(); len(list) > 0 {
		c.Notices = &list
	}
	return contract.ImportManifest201JSONResponse(c), err
}

func (s *calls) ExportManifest(ctx context.Context,
	r contract.ExportManifestRequestObject) (contract.ExportManifestResponseObject, error) {
	c, err := s.Store.Crossing(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	if who(ctx).Role == "viewer" {
		c.Settings = c.Settings.WithoutSecrets()
	}
	text, err := manifest.Write(&c)
	return contract.ExportManifest200TextResponse(text), err
}

func (s *calls) ChangeCrossing(ctx context.Context,
	r contract.ChangeCrossingRequestObject) (contract.ChangeCrossingResponseObject, error) {
	c, err := s.on(ctx, r.Name, func(c *domain.Crossing, actor string) error {
		set, err := given(ctx, c.Settings, r.Body)
		if err != nil {
			return err
		}
		return s.Voyage.ChangeSettings(ctx, c, set, actor)
	})
	return contract.ChangeCrossing200JSONResponse(c), err
}

func (s *calls) ChooseTables(ctx context.Context,
	r contract.ChooseTablesRequestObject) (contract.ChooseTablesResponseObject, error) {
	c, err := s.on(ctx, r.Name, func(c *domain.Crossing, actor string) error {
		rules, planning := c.Rules, c.Planning
		if r.Body.Rules != nil {
			rules = as[[]domain.Rule](*r.Body.Rules)
		}
		if r.Body.Planning != nil {
			planning = laidOver(planning, *r.Body.Planning)
		}
		return s.Voyage.ChooseTables(ctx, c, r.Body.Patterns, notNil(rules), planning, actor)
	})
	return contract.ChooseTables200JSONResponse(c), err
}

// laidOver is a planning with the parts that a request gives.
func laidOver(base domain.Planning, in contract.Planning) domain.Planning {
	given := as[domain.Planning](in)
	if in.Queries != nil {
		base.Queries = given.Queries
	}
	if in.Parameters != nil {
		base.Parameters = given.Parameters
	}
	if in.Before != nil {
		base.Before = given.Before
	}
	if in.After != nil {
		base.After = given.After
	}
	if in.Carry != nil {
		base.Carry = given.Carry
	}
	return base
}

func (s *calls) CopyCrossing(ctx context.Context,
	r contract.CopyCrossingRequestObject) (contract.CopyCrossingResponseObject, error) {
	c, err := s.Store.Crossing(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	d := domain.Crossing{Name: r.Body.Name, Kind: c.Kind, Source: c.Source, Target: c.Target, Patterns: c.Patterns,
		Rules: c.Rules, Planning: c.Planning, Settings: c.Settings}
	take(&d.Source, r.Body.Source)
	take(&d.Target, r.Body.Target)
	out, err := s.add(ctx, d, d.Source == c.Source)
	return contract.CopyCrossing201JSONResponse(out), err
}

func (s *calls) RemoveCrossing(ctx context.Context,
	r contract.RemoveCrossingRequestObject) (contract.RemoveCrossingResponseObject, error) {
	c, err := s.Store.Crossing(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	if err := domain.Confirmed(text(r.Params.Confirm), c.Name, "removing the records of "+c.Name); err != nil {
		return nil, err
	}
	return contract.RemoveCrossing204Response{}, s.Voyage.Closings.Remove(ctx, &c, who(ctx).Name)
}

func (s *calls) GetSurvey(ctx context.Context,
	r contract.GetSurveyRequestObject) (contract.GetSurveyResponseObject, error) {
	c, err := s.Store.Crossing(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	found, err := s.Store.SurveyOf(ctx, c.ID)
	return contract.GetSurvey200JSONResponse(entries(ctx, found)), err
}

func (s *calls) SurveyCrossing(ctx context.Context,
	r contract.SurveyCrossingRequestObject) (contract.SurveyCrossingResponseObject, error) {
	var found []domain.Entry
	_, err := s.on(ctx, r.Name, func(c *domain.Crossing, actor string) (err error) {
		found, err = s.Voyage.Survey(ctx, c, actor)
		return err
	})
	return contract.SurveyCrossing200JSONResponse(entries(ctx, found)), err
}

func (s *calls) StartCrossing(ctx context.Context,
	r contract.StartCrossingRequestObject) (contract.StartCrossingResponseObject, error) {
	confirm := ""
	if r.Body != nil {
		take(&confirm, r.Body.Confirm)
	}
	c, err := s.on(ctx, r.Name, func(c *domain.Crossing, actor string) error {
		return s.Voyage.StartCrossing(ctx, c, confirm, actor)
	})
	return contract.StartCrossing202JSONResponse(c), err
}

func (s *calls) PauseCrossing(ctx context.Context,
	r contract.PauseCrossingRequestObject) (contract.PauseCrossingResponseObject, error) {
	c, err := s.on(ctx, r.Name, func(c *domain.Crossing, actor string) error {
		return s.Voyage.PauseCrossing(ctx, c, r.Body.KeepCapture, actor)
	})
	return contract.PauseCrossing200JSONResponse(c), err
}

func (s *calls) ResumeCrossing(ctx context.Context,
	r contract.ResumeCrossingRequestObject) (contract.ResumeCrossingResponseObject, error) {
	c, err := s.on(ctx, r.Name, func(c *domain.Crossing, actor string) error {
		return s.Voyage.ResumeCrossing(ctx, c, actor)
	})
	return contract.ResumeCrossing200JSONResponse(c), err
}

func (s *calls) RestartCrossing(ctx context.Context,
	r contract.RestartCrossingRequestObject) (contract.RestartCrossingResponseObject, error) {
	c, err := s.on(ctx, r.Name, func(c *domain.Crossing, actor string) error {
		table, all := text(r.Body.Table), r.Body.All != nil && *r.Body.All
		name, act := c.Name, "restarting every table of "+c.Name
		switch {
		case all && table != "":
			return domain.Invalid("table and all are both given; give one of them")
		case !all && table == "":
			return domain.Invalid("table is missing; give a table's name, or all: true for every table")
		case table != "":
			name, act = table, "restarting "+table
		}
		if err := domain.Confirmed(text(r.Body.Confirm), name, act); err != nil {
			return err
		}
		return s.Voyage.RestartCrossing(ctx, c, table, actor)
	})
	return contract.RestartCrossing202JSONResponse(c), err
}

func (s *calls) RefreshCrossing(ctx context.Context,
	r contract.RefreshCrossingRequestObject) (contract.RefreshCrossingResponseObject, error) {
	c, err := s.on(ctx, r.Name, func(c *domain.Crossing, actor string) error {
		confirm := ""
		take(&confirm, r.Body.Confirm)
		return s.Voyage.StartRefresh(ctx, c, confirm, actor)
	})
	return contract.RefreshCrossing202JSONResponse(c), err
}

func (s *calls) AddTable(ctx context.Context,
	r contract.AddTableRequestObject) (contract.AddTableResponseObject, error) {
	c, err := s.on(ctx, r.Name, func(c *domain.Crossing, actor string) error {
		return s.Voyage.StartAdd(ctx, c, r.Body.Table, actor)
	})
	return contract.AddTable202JSONResponse(c), err
}

func (s *calls) LeaveOutTable(ctx context.Context,
	r contract.LeaveOutTableRequestObject) (contract.LeaveOutTableResponseObject, error) {
	c, err := s.on(ctx, r.Name, func(c *domain.Crossing, actor string) error {
		if err := domain.Confirmed(text(r.Body.Confirm), r.Body.Table, "leaving out "+r.Body.Table); err != nil {
			return err
		}
		return s.Voyage.LeaveOut(ctx, c, r.Body.Table, actor)
	})
	return contract.LeaveOutTable200JSONResponse(c), err
}

func (s *calls) FailOverCrossing(ctx context.Context,
	r contract.FailOverCrossingRequestObject) (contract.FailOverCrossingResponseObject, error) {
	c, err := s.on(ctx, r.Name, func(c *domain.Crossing, actor string) error {
		return s.Voyage.FailOver(ctx, c, actor)
	})
	return contract.FailOverCrossing202JSONResponse(c), err
}

func (s *calls) CloseCrossing(ctx context.Context,
	r contract.CloseCrossingRequestObject) (contract.CloseCrossingResponseObject, error) {
	c, err := s.on(ctx, r.Name, func(c *domain.Crossing, actor string) error {
		if err := domain.Confirmed(text(r.Body.Confirm), c.Name, "closing "+c.Name); err != nil {
			return err
		}
		return s.Voyage.Closings.Start(ctx, c, closing.Args{Reopen: r.Body.Reopen}, actor)
	})
	return contract.CloseCrossing202JSONResponse(c), err
}
