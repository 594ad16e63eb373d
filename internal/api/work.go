package api

import (
	"context"
	"fmt"

	"dustyferry/internal/contract"
	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/core/signed"
	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/compare"
	"dustyferry/internal/voyage/readiness"
)

func (s *calls) ListTasks(ctx context.Context,
	r contract.ListTasksRequestObject) (contract.ListTasksResponseObject, error) {
	c, err := s.Store.Crossing(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	rows, err := s.Store.Tasks(ctx, c.ID)
	out := contract.ListTasks200JSONResponse{}
	for _, t := range rows {
		out = append(out, taskOut(ctx, &t))
	}
	return out, err
}

func taskOut(ctx context.Context, t *domain.Task) contract.Task {
	return contract.Task{Id: t.ID, Kind: string(t.Kind), State: contract.TaskState(t.State), Note: t.Note,
		Error: hidden(ctx, t.Error), Actor: t.Actor,
		Worker: t.Worker, CreatedAt: t.CreatedAt, EndedAt: t.EndedAt, Ends: t.Cancel != "" && t.EndedAt == nil,
		Cancellable: t.EndedAt == nil && lifecycle.Cancel(t.Kind) == ""}
}

// CancelTask ends a task before its time.
func (s *calls) CancelTask(ctx context.Context,
	r contract.CancelTaskRequestObject) (contract.CancelTaskResponseObject, error) {
	c, err := s.Store.Crossing(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	t, err := s.Voyage.CancelTask(ctx, &c, r.Id, who(ctx).Name)
	if err != nil {
		return nil, err
	}
	return contract.CancelTask202JSONResponse(taskOut(ctx, &t)), nil
}

func (s *calls) reconciliation(ctx context.Context, name string, id int64) (contract.Reconciliation, error) {
	var none contract.Reconciliation
	c, err := s.Store.Crossing(ctx, name)
	if err != nil {
		return none, err
	}
	r, err := s.Store.Reconciliation(ctx, c.ID, id)
	if err != nil {
		return none, err
	}
	out := s.reconciliationOut(ctx, c.Source, &r)
	rows, err := s.Store.ReconciledTables(ctx, id)
	list := []contract.ReconciledTable{}
	for _, x := range rows {
		list = append(list, contract.ReconciledTable{Name: x.Name, RowsExpected: x.Expected,
			State: contract.ReconciledTableState(x.State), Parts: x.Parts, DifferingParts: x.DifferingParts,
			SourceRows: x.SourceRows, TargetRows: x.TargetRows, SourceHash: x.SourceHash, TargetHash: x.TargetHash,
			Findings: x.Findings, Seconds: x.Seconds})
	}
	out.Results = &list
	return out, err
}

func (s *calls) ListReconciliations(ctx context.Context,
	r contract.ListReconciliationsRequestObject) (contract.ListReconciliationsResponseObject, error) {
	c, err := s.Store.Crossing(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	rows, err := s.Store.Reconciliations(ctx, c.ID)
	out := contract.ListReconciliations200JSONResponse{}
	for i := range rows {
		out = append(out, s.reconciliationOut(ctx, c.Source, &rows[i]))
	}
	return out, err
}

func (s *calls) GetReconciliation(ctx context.Context,
	r contract.GetReconciliationRequestObject) (contract.GetReconciliationResponseObject, error) {
	out, err := s.reconciliation(ctx, r.Name, r.Id)
	return contract.GetReconciliation200JSONResponse(out), err
}

func (s *calls) Reconcile(ctx context.Context,
	r contract.ReconcileRequestObject) (contract.ReconcileResponseObject, error) {
	var id int64
	_, err := s.on(ctx, r.Name, func(c *domain.Crossing, actor string) (err error) {
		patterns := []string{}
		take(&patterns, r.Body.Tables)
		share := 0.0
		take(&share, r.Body.Share)
		id, err = s.Voyage.Comparer.Start(ctx, c, domain.Depth(r.Body.Depth), patterns, share, actor)
		return err
	})
	if err != nil {
		return nil, err
	}
	out, err := s.reconciliation(ctx, r.Name, id)
	return contract.Reconcile202JSONResponse(out), err
}

func (s *calls) ListFindings(ctx context.Context,
	r contract.ListFindingsRequestObject) (contract.ListFindingsResponseObject, error) {
	c, err := s.Store.Crossing(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	if _, err := s.Store.Reconciliation(ctx, c.ID, r.Id); err != nil {
		return nil, err
	}
	p := r.Params
	f := domain.FindingFilter{State: text(p.State), Kind: text(p.Kind), Table: text(p.Table), Search: text(p.Search),
		Limit: 1000}
	take(&f.Limit, p.Limit)
	take(&f.Offset, p.Offset)
	f.Offset, f.Limit = max(f.Offset, 0), min(max(f.Limit, 1), 10_000)
	rows, err := s.Store.Findings(ctx, r.Id, f)
	if err != nil {
		return nil, err
	}
	s.looked(ctx, c.Name, fmt.Sprintf("comparison %d", r.Id), "%s looked at findings of comparison %d of %s",
		who(ctx).Name, r.Id, c.Name)
	matched, states, err := s.Store.CountFindings(ctx, r.Id, f)
	out := contract.ListFindings200JSONResponse{Findings: []contract.Finding{}, Matched: matched, States: states}
	for _, n := range states {
		out.Total += n
	}
	for i := range rows {
		x, d := &rows[i], rows[i].Detail
		out.Findings = append(out.Findings, contract.Finding{Id: x.ID, Table: x.TableName, Kind: contract.FindingKind(x.Kind),
			Key: notNil([]string(d.Key)), Columns: notNil(d.Columns), Order: notNil(x.Order),
			Source: d.Source, Target: d.Target, Copies: d.Copies, State: contract.FindingState(x.State), ChangedAt: x.ChangedAt})
	}
	return out, err
}

func notNil[T any](s []T) []T {
	if s == nil {
		return []T{}
	}
	return s
}

func (s *calls) Repair(ctx context.Context, r contract.RepairRequestObject) (contract.RepairResponseObject, error) {
	c, err := s.on(ctx, r.Name, func(c *domain.Crossing, actor string) error {
		if err := domain.Confirmed(text(r.Body.Confirm), c.Name, "repairing rows on the target of "+c.Name); err != nil {
			return err
		}
		return s.Voyage.Comparer.StartRepair(ctx, c, compare.RepairArgs{Reconciliation: r.Id, Findings: r.Body.Findings},
			actor)
	})
	return contract.Repair202JSONResponse(c), err
}

func (s *calls) Recheck(ctx context.Context, r contract.RecheckRequestObject) (contract.RecheckResponseObject, error) {
	c, err := s.on(ctx, r.Name, func(c *domain.Crossing, actor string) error {
		return s.Voyage.Comparer.StartRecheck(ctx, c, compare.RepairArgs{Reconciliation: r.Id, Findings: r.Body.Findings},
			actor)
	})
	return contract.Recheck202JSONResponse(c), err
}

func (s *calls) GetReadiness(ctx context.Context,
	r contract.GetReadinessRequestObject) (contract.GetReadinessResponseObject, error) {
	c, err := s.Store.Crossing(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	list, err := s.Voyage.Readiness.List(ctx, &c, c.Settings, readiness.Glances)
	return contract.GetReadiness200JSONResponse(entries(ctx, list)), err
}

func (s *calls) ListCutovers(ctx context.Context,
	r contract.ListCutoversRequestObject) (contract.ListCutoversResponseObject, error) {
	c, err := s.Store.Crossing(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	rows, err := s.Store.Cutovers(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	out := contract.ListCutovers200JSONResponse{}
	for i := range rows {
		k, err := s.cutoverOut(ctx, c.Source, &rows[i])
		if err != nil {
			return nil, err
		}
		out = append(out, k)
	}
	return out, nil
}

func (s *calls) Cutover(ctx context.Context, r contract.CutoverRequestObject) (contract.CutoverResponseObject, error) {
	c, err := s.Store.Crossing(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	if !r.Body.Rehearsal && (r.Body.Confirm == nil || *r.Body.Confirm != c.Name) {
		return nil, domain.Invalid("a cutover stops writes to %s and hands over to %s; confirm it by giving the "+
			"crossing's name, %s", c.Source, c.Target, c.Name)
	}
	set, err := given(ctx, c.Settings, r.Body.Settings)
	if err != nil {
		return nil, err
	}
	id, err := s.Voyage.Cutovers.Start(ctx, &c, r.Body.Rehearsal, set, who(ctx).Name)
	if err != nil {
		return nil, err
	}
	k, err := s.Store.Cutover(ctx, id)
	if err != nil {
		return nil, err
	}
	out, err := s.cutoverOut(ctx, c.Source, &k)
	return contract.Cutover202JSONResponse(out), err
}

func (s *calls) AbortCutover(ctx context.Context,
	r contract.AbortCutoverRequestObject) (contract.AbortCutoverResponseObject, error) {
	_, err := s.on(ctx, r.Name, func(c *domain.Crossing, actor string) error {
		return s.Voyage.Cutovers.Abort(ctx, c, actor)
	})
	return contract.AbortCutover202Response{}, err
}

func (s *calls) ConfirmCutover(ctx context.Context,
	r contract.ConfirmCutoverRequestObject) (contract.ConfirmCutoverResponseObject, error) {
	_, err := s.on(ctx, r.Name, func(c *domain.Crossing, actor string) error {
		return s.Voyage.Cutovers.Confirm(ctx, c, actor)
	})
	return contract.ConfirmCutover202Response{}, err
}

func (s *calls) GetCertificate(ctx context.Context,
	r contract.GetCertificateRequestObject) (contract.GetCertificateResponseObject, error) {
	c, err := s.Store.Crossing(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	account, err := s.Store.CertificateOf(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	if account == nil {
		return nil, domain.Conflict("crossing %s has no certificate yet; it is written when the crossing is closed", c.Name)
	}
	if !who(ctx).MaySeeRows() {
		account.HideRows(func(text string) string { return hidden(ctx, text) })
	}
	// What this person may see of it is what is signed.
	key := s.Voyage.Box.Derive(certificateKey)
	if r.Params.Format != nil && *r.Params.Format == "text" {
		return contract.GetCertificate200TextResponse(signed.SignText(key, certificateText(account))), nil
	}
	doc := as[map[string]any](account)
	return contract.GetCertificate200JSONResponse(doc), signed.Sign(key, doc)
}

// certificateKey is the purpose of the key that certificates are signed with.
const certificateKey = "certificate"
