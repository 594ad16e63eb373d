package api

import (
	"context"
	"time"

	"dustyferry/internal/contract"
	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/databases"
)

func databaseOut(d *domain.Database, usedBy []string) contract.Database {
	return contract.Database{Name: d.Name, Engine: d.Engine, Host: d.Host, Port: d.Port, Database: d.DBName,
		User: d.Username, Tls: d.TLS, UsedBy: notNil(usedBy)}
}

func (s *calls) databases(ctx context.Context) ([]contract.Database, error) {
	rows, err := s.Store.Databases(ctx)
	if err != nil {
		return nil, err
	}
	users, err := s.Store.UsersOfDatabases(ctx)
	out := []contract.Database{}
	for i := range rows {
		out = append(out, databaseOut(&rows[i], users[rows[i].ID]))
	}
	return out, err
}

func (s *calls) database(ctx context.Context, name string) (contract.Database, error) {
	row, err := s.Store.Database(ctx, name)
	if err != nil {
		return contract.Database{}, err
	}
	users, err := s.Store.UsersOfDatabases(ctx)
	return databaseOut(&row, users[row.ID]), err
}

func (s *calls) ListDatabases(ctx context.Context,
	_ contract.ListDatabasesRequestObject) (contract.ListDatabasesResponseObject, error) {
	all, err := s.databases(ctx)
	return contract.ListDatabases200JSONResponse(all), err
}

func (s *calls) GetDatabase(ctx context.Context,
	r contract.GetDatabaseRequestObject) (contract.GetDatabaseResponseObject, error) {
	d, err := s.database(ctx, r.Name)
	return contract.GetDatabase200JSONResponse(d), err
}

// AddDatabase registers a database.
func (s *calls) AddDatabase(ctx context.Context,
	r contract.AddDatabaseRequestObject) (contract.AddDatabaseResponseObject, error) {
	b := r.Body
	row := domain.Database{Name: b.Name, Engine: string(b.Engine), Host: b.Host, Port: b.Port, DBName: b.Database,
		Username: b.User, TLS: "prefer"}
	if b.Tls != nil {
		row.TLS = string(*b.Tls)
	}
	if err := s.Voyage.AddDatabase(ctx, row, b.Password, who(ctx).Name); err != nil {
		return nil, err
	}
	d, err := s.database(ctx, b.Name)
	return contract.AddDatabase201JSONResponse(d), err
}

// ChangeDatabase keeps a new address or sign-in once it was reached that way.
func (s *calls) ChangeDatabase(ctx context.Context,
	r contract.ChangeDatabaseRequestObject) (contract.ChangeDatabaseResponseObject, error) {
	b := r.Body
	change := databases.Change{Host: b.Host, User: b.User, Password: b.Password, TLS: (*string)(b.Tls), Port: b.Port}
	if err := s.Voyage.ChangeDatabase(ctx, r.Name, change, who(ctx).Name); err != nil {
		return nil, err
	}
	d, err := s.database(ctx, r.Name)
	return contract.ChangeDatabase200JSONResponse(d), err
}

func (s *calls) RemoveDatabase(ctx context.Context,
	r contract.RemoveDatabaseRequestObject) (contract.RemoveDatabaseResponseObject, error) {
	row, err := s.Store.Database(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	if err := s.Store.RemoveDatabase(ctx, r.Name); err != nil {
		return nil, err
	}
	s.Voyage.Forget(row.ID)
	s.Voyage.Recordf(ctx, "info", who(ctx).Name, "", r.Name, "database", "%s removed database %s", who(ctx).Name, r.Name)
	return contract.RemoveDatabase204Response{}, nil
}

func (s *calls) CheckDatabase(ctx context.Context,
	r contract.CheckDatabaseRequestObject) (contract.CheckDatabaseResponseObject, error) {
	limit, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	db, err := s.Voyage.Open(limit, r.Name)
	if err != nil {
		return nil, err
	}
	f, err := db.Check(limit)
	if err != nil {
		return nil, err
	}
	can := []string{}
	for _, k := range db.Can() {
		can = append(can, string(k))
	}
	return contract.CheckDatabase200JSONResponse{Version: f.Version, Encrypted: f.Encrypted,
		RoundTripSeconds: f.RoundTrip.Seconds(), User: f.User,
		Can:      can,
		AsSource: entries(ctx, f.AsSource), AsTarget: entries(ctx, f.AsTarget)}, nil
}

func (s *calls) ListDatabaseTables(ctx context.Context,
	r contract.ListDatabaseTablesRequestObject) (contract.ListDatabaseTablesResponseObject, error) {
	fresh, patterns := false, []string{}
	take(&fresh, r.Params.Fresh)
	take(&patterns, r.Params.Pattern)
	cat, err := s.Voyage.Catalog(ctx, r.Name, fresh)
	if err != nil {
		return nil, err
	}
	chosen := map[domain.TableName]bool{}
	if len(patterns) > 0 {
		var names []domain.TableName
		for i := range cat.Tables {
			names = append(names, cat.Tables[i].TableName)
		}
		for _, n := range domain.MatchTables(patterns, names) {
			chosen[n] = true
		}
	}
	out := contract.ListDatabaseTables200JSONResponse{}
	for _, t := range cat.Tables {
		key := []string{}
		if len(t.Keys) > 0 {
			key = t.Keys[0].Columns
		}
		out = append(out, contract.CatalogTable{Name: t.String(), Rows: t.Rows, Bytes: t.Bytes, Key: key,
			Columns: len(t.Columns), Chosen: chosen[t.TableName]})
	}
	return out, nil
}

func (s *calls) PreviewRows(ctx context.Context,
	r contract.PreviewRowsRequestObject) (contract.PreviewRowsResponseObject, error) {
	limit := 20
	take(&limit, r.Params.Limit)
	limit = min(max(limit, 1), 100)
	t, rows, err := s.Voyage.Planning.Preview(ctx, r.Name, r.Params.Table, limit+1)
	if err != nil {
		return nil, err
	}
	s.looked(ctx, "", r.Params.Table, "%s looked at the first rows of %s in %s", who(ctx).Name, r.Params.Table, r.Name)
	return contract.PreviewRows200JSONResponse(preview(t.Columns, rows, limit)), nil
}

// preview shows at most limit rows; one more tells that there are others.
func preview(cols []domain.Column, rows [][]*string, limit int) contract.Preview {
	out := contract.Preview{Rows: [][]*string{}, More: len(rows) > limit}
	out.Rows = append(out.Rows, rows[:min(len(rows), limit)]...)
	for _, c := range cols {
		out.Columns = append(out.Columns, struct {
			Name string `json:"name"`
			Type string `json:"type"`
		}{c.Name, c.Type})
	}
	return out
}

// ListTraces lists what crossings have left in a database.
func (s *calls) ListTraces(ctx context.Context,
	r contract.ListTracesRequestObject) (contract.ListTracesResponseObject, error) {
	list, err := s.Voyage.Traces(ctx, r.Name)
	out := contract.ListTraces200JSONResponse{}
	for _, t := range list {
		out = append(out, contract.Trace{CrossingUid: t.Crossing, Crossing: t.Name, State: t.State, Kind: t.Kind,
			Name: t.Trace.Name, Detail: t.Detail, Undo: t.Undo})
	}
	return out, err
}

// RemoveTraces removes what one crossing has left in a database.
func (s *calls) RemoveTraces(ctx context.Context,
	r contract.RemoveTracesRequestObject) (contract.RemoveTracesResponseObject, error) {
	if err := domain.Confirmed(text(r.Params.Confirm), r.Name, "removing what a crossing left in "+r.Name); err != nil {
		return nil, err
	}
	return contract.RemoveTraces204Response{}, s.Voyage.RemoveTraces(ctx, r.Name, r.Uid, who(ctx).Name)
}
