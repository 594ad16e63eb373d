package api

import (
	"context"

	"dustyferry/internal/contract"
	"dustyferry/internal/domain"
	"dustyferry/internal/records"
)

func scheduleOut(s *domain.Schedule) contract.Schedule {
	out := contract.Schedule{At: s.OnceAt, Cron: s.Cron, Zone: s.Zone, Missed: s.Missed, NextAt: s.NextAt, Actor: s.Actor}
	if s.PausedBy != "" {
		out.PausedBy = &s.PausedBy
	}
	return out
}

func (s *calls) schedule(ctx context.Context, c *domain.Crossing) (contract.Schedule, error) {
	got, err := s.Store.ScheduleOf(ctx, c.ID)
	if err != nil {
		return contract.Schedule{}, err
	}
	if got == nil {
		return contract.Schedule{}, nil
	}
	return scheduleOut(got), nil
}

// GetSchedule says when a crossing starts by itself.
func (s *calls) GetSchedule(ctx context.Context,
	r contract.GetScheduleRequestObject) (contract.GetScheduleResponseObject, error) {
	c, err := s.Store.Crossing(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	out, err := s.schedule(ctx, &c)
	return contract.GetSchedule200JSONResponse(out), err
}

// PutSchedule replaces a crossing's schedule.
func (s *calls) PutSchedule(ctx context.Context,
	r contract.PutScheduleRequestObject) (contract.PutScheduleResponseObject, error) {
	c, err := s.Store.Crossing(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	var wish domain.Schedule
	confirm := ""
	if r.Body.At != nil {
		wish.OnceAt = r.Body.At
	}
	take(&wish.Cron, r.Body.Cron)
	take(&wish.Zone, r.Body.Zone)
	take(&confirm, r.Body.Confirm)
	if r.Body.Missed != nil {
		wish.Missed = string(*r.Body.Missed)
	}
	if err := s.Voyage.Schedule(ctx, &c, wish, confirm, who(ctx).Name); err != nil {
		return nil, err
	}
	out, err := s.schedule(ctx, &c)
	return contract.PutSchedule200JSONResponse(out), err
}

// RemoveSchedule forgets a crossing's schedule.
func (s *calls) RemoveSchedule(ctx context.Context,
	r contract.RemoveScheduleRequestObject) (contract.RemoveScheduleResponseObject, error) {
	c, err := s.Store.Crossing(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	return contract.RemoveSchedule204Response{}, s.Voyage.Unschedule(ctx, &c, who(ctx).Name)
}

// PauseSchedule keeps a schedule from starting anything.
func (s *calls) PauseSchedule(ctx context.Context,
	r contract.PauseScheduleRequestObject) (contract.PauseScheduleResponseObject, error) {
	out, err := s.onSchedule(ctx, r.Name, s.Voyage.PauseSchedule)
	return contract.PauseSchedule200JSONResponse(out), err
}

// ResumeSchedule lets a paused schedule go on.
func (s *calls) ResumeSchedule(ctx context.Context,
	r contract.ResumeScheduleRequestObject) (contract.ResumeScheduleResponseObject, error) {
	out, err := s.onSchedule(ctx, r.Name, s.Voyage.ResumeSchedule)
	return contract.ResumeSchedule200JSONResponse(out), err
}

func (s *calls) onSchedule(ctx context.Context, name string, act func(context.Context, *domain.Crossing,
	string) error) (contract.Schedule, error) {
	c, err := s.Store.Crossing(ctx, name)
	if err != nil {
		return contract.Schedule{}, err
	}
	if err := act(ctx, &c, who(ctx).Name); err != nil {
		return contract.Schedule{}, err
	}
	return s.schedule(ctx, &c)
}

// ListRuns lists the times that a crossing's load ran.
func (s *calls) ListRuns(ctx context.Context,
	r contract.ListRunsRequestObject) (contract.ListRunsResponseObject, error) {
	c, err := s.Store.Crossing(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	list, err := s.Store.Runs(ctx, c.ID, 200)
	return contract.ListRuns200JSONResponse(convertAll(list, func(r records.Run) contract.Run {
		out := contract.Run{Id: r.ID, By: r.By, State: contract.RunState(r.State), StartedAt: r.StartedAt, EndedAt: r.EndedAt,
			Tables: r.Tables, Rows: r.Rows, Bytes: r.Bytes, Rejected: r.Rejected, Note: r.Note, DueAt: r.DueAt}
		if r.Times > 1 {
			out.Times = &r.Times
		}
		return out
	})), err
}

func webhookOut(w domain.Webhook) contract.Webhook {
	return contract.Webhook{Name: w.Name, Url: w.URL, Crossings: w.Crossings, Events: convertAll(w.Events,
		func(e string) contract.Event { return contract.Event(e) })}
}

// ListWebhooks lists who is told of what; secrets are never shown.
func (s *calls) ListWebhooks(ctx context.Context,
	_ contract.ListWebhooksRequestObject) (contract.ListWebhooksResponseObject, error) {
	list, err := s.Store.Webhooks(ctx)
	return contract.ListWebhooks200JSONResponse(convertAll(list, webhookOut)), err
}

// AddWebhook keeps an address to be told.
func (s *calls) AddWebhook(ctx context.Context,
	r contract.AddWebhookRequestObject) (contract.AddWebhookResponseObject, error) {
	w := domain.Webhook{Name: r.Body.Name, URL: r.Body.Url}
	take(&w.Crossings, r.Body.Crossings)
	w.Events = []string{}
	if r.Body.Events != nil {
		w.Events = convertAll(*r.Body.Events, func(e contract.Event) string { return string(e) })
	}
	if err := s.Voyage.AddWebhook(ctx, w, records.NewUID(), r.Body.Secret, who(ctx).Name); err != nil {
		return nil, err
	}
	kept, err := s.Store.Webhook(ctx, w.Name)
	return contract.AddWebhook201JSONResponse(webhookOut(kept)), err
}

// RemoveWebhook forgets an address.
func (s *calls) RemoveWebhook(ctx context.Context,
	r contract.RemoveWebhookRequestObject) (contract.RemoveWebhookResponseObject, error) {
	if err := s.Store.RemoveWebhook(ctx, r.Name); err != nil {
		return nil, err
	}
	s.Voyage.Recordf(ctx, "info", who(ctx).Name, "", r.Name, "webhook", "%s removed the webhook %s", who(ctx).Name, r.Name)
	return contract.RemoveWebhook204Response{}, nil
}

// TestWebhook sends something to try an address.
func (s *calls) TestWebhook(ctx context.Context,
	r contract.TestWebhookRequestObject) (contract.TestWebhookResponseObject, error) {
	return contract.TestWebhook202Response{}, s.Voyage.TestWebhook(ctx, r.Name, who(ctx).Name)
}

// ListDeliveries lists what was sent to an address.
func (s *calls) ListDeliveries(ctx context.Context,
	r contract.ListDeliveriesRequestObject) (contract.ListDeliveriesResponseObject, error) {
	w, err := s.Store.Webhook(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	list, err := s.Store.Deliveries(ctx, w.ID, 100)
	return contract.ListDeliveries200JSONResponse(convertAll(list, func(d domain.Delivery) contract.Delivery {
		return contract.Delivery{Id: d.ID, Event: d.Event, Body: d.Body, Attempts: d.Attempts, Answer: d.Answer,
			CreatedAt: d.CreatedAt, DoneAt: d.DoneAt, NextAt: d.NextAt}
	})), err
}
