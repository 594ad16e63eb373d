package api

import (
	"context"
	"time"

	"dustyferry/internal/contract"
	"dustyferry/internal/core/gauge"
	"dustyferry/internal/domain"
	"dustyferry/internal/records"
)

func (s *calls) ListTables(ctx context.Context,
	r contract.ListTablesRequestObject) (contract.ListTablesResponseObject, error) {
	c, err := s.Store.Crossing(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	p := r.Params
	f := records.TableFilter{Search: text(p.Search), State: text(p.State), Sort: text(p.Sort), Limit: 10_000}
	take(&f.Descending, p.Descending)
	take(&f.Offset, p.Offset)
	take(&f.Limit, p.Limit)
	f.Offset, f.Limit = max(f.Offset, 0), min(max(f.Limit, 1), 10_000)
	rows, matched, states, err := s.Store.TableLines(ctx, c.ID, f)
	out := contract.ListTables200JSONResponse{Tables: []contract.Table{}, Matched: matched, States: states}
	for _, n := range states {
		out.Total += n
	}
	for i := range rows {
		out.Tables = append(out.Tables, tableOut(ctx, &rows[i]))
	}
	return out, err
}

// table finds a crossing and one of its tables.
func (s *calls) table(ctx context.Context, name string, id int64) (domain.Crossing, records.TableLine, error) {
	c, err := s.Store.Crossing(ctx, name)
	if err != nil {
		return c, records.TableLine{}, err
	}
	t, err := s.Store.TableLine(ctx, c.ID, id)
	return c, t, err
}

func (s *calls) GetTable(ctx context.Context,
	r contract.GetTableRequestObject) (contract.GetTableResponseObject, error) {
	_, t, err := s.table(ctx, r.Name, r.Id)
	return contract.GetTable200JSONResponse(tableOut(ctx, &t)), err
}

func (s *calls) ListChunks(ctx context.Context,
	r contract.ListChunksRequestObject) (contract.ListChunksResponseObject, error) {
	c, t, err := s.table(ctx, r.Name, r.Id)
	if err != nil {
		return nil, err
	}
	offset, limit := 0, 1000
	take(&offset, r.Params.Offset)
	take(&limit, r.Params.Limit)
	rows, err := s.Store.ChunkPage(ctx, t.ID, max(offset, 0), min(max(limit, 1), 10_000))
	out := contract.ListChunks200JSONResponse{}
	for i := range rows {
		out = append(out, s.chunkOut(ctx, c.Source, &t, &rows[i]))
	}
	return out, err
}

func (s *calls) GetChunk(ctx context.Context,
	r contract.GetChunkRequestObject) (contract.GetChunkResponseObject, error) {
	c, t, err := s.table(ctx, r.Name, r.Id)
	if err != nil {
		return nil, err
	}
	k, tries, err := s.Store.ChunkStory(ctx, t.ID, r.Number-1)
	if err != nil {
		return nil, err
	}
	return contract.GetChunk200JSONResponse{Chunk: s.chunkOut(ctx, c.Source, &t, &k), Key: boundsOf(&t),
		Failed: convertAll(tries, func(a records.Attempt) contract.Attempt {
			return contract.Attempt{Worker: a.Worker, StartedAt: a.StartedAt, EndedAt: a.EndedAt, Error: a.Error}
		})}, nil
}

func (s *calls) GetLedger(ctx context.Context,
	r contract.GetLedgerRequestObject) (contract.GetLedgerResponseObject, error) {
	_, t, err := s.table(ctx, r.Name, r.Id)
	if err != nil {
		return nil, err
	}
	from, to, cells := 1, t.Chunks, 1200
	take(&from, r.Params.From)
	take(&to, r.Params.To)
	take(&cells, r.Params.Cells)
	from, to, cells = max(from, 1), min(to, t.Chunks), min(max(cells, 1), 4000)
	if from > to && t.Chunks > 0 {
		return nil, domain.Invalid("the chunks %d to %d are not there; the table has %d", from, to, t.Chunks)
	}
	width := max(1, (to-from+cells)/cells)
	rows, err := s.Store.Cells(ctx, t.ID, from-1, to-1, width)
	out := contract.GetLedger200JSONResponse{Chunks: t.Chunks, From: from, To: to}
	out.Cells = convertAll(rows, func(c records.Cell) contract.LedgerCell {
		out.SlowestSeconds = max(out.SlowestSeconds, c.Seconds)
		return contract.LedgerCell{From: c.First + 1, To: c.Last + 1, Pending: c.Pending, Reading: c.Reading,
			Landed: c.Landed, Held: c.Held, Seconds: c.Seconds, Attempts: c.Attempts}
	})
	return out, err
}

// wanted is how many lanes the load may use now.
func wanted(c records.Line) int {
	if c.LanesNow != nil {
		return *c.LanesNow
	}
	return c.Settings.Lanes
}

func (s *calls) ListLanes(ctx context.Context,
	r contract.ListLanesRequestObject) (contract.ListLanesResponseObject, error) {
	c, err := s.Store.Line(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	rows, err := s.Store.CarryingNow(ctx, c.ID)
	return contract.ListLanes200JSONResponse{Wanted: wanted(c), SpeedLimit: c.Settings.SpeedLimit,
		OpenChunks: c.Chunks - c.ChunksLanded,
		Carrying: convertAll(rows, func(k records.Carrying) contract.Lane {
			var waits *string
			if k.Waits != "" {
				waits = &k.Waits
			}
			return contract.Lane{Worker: k.Worker, Table: k.TableName, TableId: k.TableID, Chunk: k.Ordinal + 1,
				LastChunk: k.Ordinal + k.Run, OfChunks: k.OfChunks, Attempt: k.Attempts,
				Rows: k.Rows, Bytes: k.Bytes, StartedAt: *k.StartedAt, WaitsFor: waits}
		})}, err
}

func (s *calls) GetHistory(ctx context.Context,
	r contract.GetHistoryRequestObject) (contract.GetHistoryResponseObject, error) {
	c, err := s.Store.Crossing(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	p := r.Params
	minutes, points, to := 15, 300, time.Now()
	take(&minutes, p.Minutes)
	take(&points, p.Points)
	if c.ClosedAt != nil { // its run is over: the window ends with it
		to = *c.ClosedAt
	} else if c.CutOverAt != nil {
		to = *c.CutOverAt
	}
	take(&to, p.To)
	from := to.Add(-time.Duration(minutes) * time.Minute)
	if first, ok, err := s.Store.FirstSample(ctx, c.ID); err != nil {
		return nil, err
	} else if ok && (minutes <= 0 || from.Before(first)) {
		from = first
	}
	take(&from, p.From)
	if !to.After(from) {
		from = to.Add(-time.Minute)
	}
	rows, err := s.Store.Samples(ctx, c.ID, from, to)
	if err != nil {
		return nil, err
	}
	x := gauge.Chart(convertAll(rows, func(x records.Sample) gauge.Reading {
		return gauge.Reading{At: x.At, Rows: x.Rows, BytesIn: x.BytesIn, BytesOut: x.BytesOut, Inserts: x.Inserts,
			Updates: x.Updates, Deletes: x.Deletes,
			LagSeconds: x.LagSeconds, LagBytes: x.LagBytes}
	}), from, to, min(max(points, 10), 2000))
	list := func(f []float64) []float64 { return append([]float64{}, f...) }
	return contract.GetHistory200JSONResponse{From: from, To: to,
		At:   convertAll(x.At, func(t time.Time) float64 { return float64(t.UnixMilli()) / 1000 }),
		Rows: list(x.Rows), BytesIn: list(x.BytesIn), BytesOut: list(x.BytesOut), Inserts: list(x.Inserts),
		Updates: list(x.Updates), Deletes: list(x.Deletes),
		LagSeconds: list(x.LagSeconds), LagBytes: list(x.LagBytes)}, nil
}

func (s *calls) GetApplied(ctx context.Context,
	r contract.GetAppliedRequestObject) (contract.GetAppliedResponseObject, error) {
	c, err := s.Store.Crossing(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	out := contract.GetApplied200JSONResponse{Transactions: []contract.AppliedTransaction{}}
	st, err := s.Store.Stream(ctx, c.ID)
	if err != nil || st == nil {
		return out, err
	}
	at := func(p domain.Position) string { return s.Voyage.Position(ctx, c.Source, p) }
	applied := domain.Position(st.Applied)
	out.SourcePosition, out.ReceivedPosition, out.AppliedPosition = at(applied.Later(domain.Position(st.SourceAt))),
		at(applied.Later(domain.Position(st.Received))), at(applied)
	out.BehindBytes, out.RetainedBytes, out.ReportedAt = st.LagBytes, st.Retained, st.ReportedAt
	list, err := s.Store.RecentlyApplied(ctx, c.ID)
	for _, t := range list {
		out.Transactions = append(out.Transactions, contract.AppliedTransaction{Position: at(t.Position),
			CommittedAt: t.Committed, AppliedAt: t.Applied,
			Inserts: t.Kinds[0], Updates: t.Kinds[1], Deletes: t.Kinds[2], Truncates: t.Kinds[3], Tables: notNil(t.Tables)})
	}
	return out, err
}

// ListRejectedRows lists rows that were left behind.
func (s *calls) ListRejectedRows(ctx context.Context,
	r contract.ListRejectedRowsRequestObject) (contract.ListRejectedRowsResponseObject, error) {
	c, err := s.Store.Crossing(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	table, cut, offset, limit := "", false, 0, 100
	take(&table, r.Params.Table)
	take(&cut, r.Params.Cut)
	take(&offset, r.Params.Offset)
	take(&limit, r.Params.Limit)
	s.looked(ctx, c.Name, table, "%s looked at rejected rows of %s", who(ctx).Name, c.Name)
	rows, total, err := s.Store.RejectedRows(ctx, c.ID, table, cut, max(offset, 0), min(max(limit, 1), 1000))
	out := contract.RejectedRowsPage{Total: total, Rows: convertAll(rows, func(a domain.BadRow) contract.RejectedRow {
		row := contract.RejectedRow{Id: a.ID, Table: a.TableName, Chunk: a.Ordinal + 1, Row: a.Row, Column: a.Column,
			Error: a.Error, At: a.At}
		if a.Key != nil {
			row.Key = ptr([]string(a.Key))
		}
		return row
	})}
	return contract.ListRejectedRows200JSONResponse(out), err
}
