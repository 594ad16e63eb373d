package records

import (
	"context"
	"time"

	"dustyferry/internal/domain"
)

// GatewayStore keeps where gateways let connections go, and which gateways there are.
type GatewayStore struct{ *conn }

// routeRow is a route as it is kept; patience in seconds.
type routeRow struct {
	CrossingID int64
	Epoch      int64
	Live       string
	Holding    bool
	Patience   float64
}

func (r *routeRow) route() domain.Route {
	return domain.Route{Crossing: r.CrossingID, Epoch: r.Epoch, Live: r.Live, Holding: r.Holding,
		Patience: ofSeconds(r.Patience)}
}

func ofSeconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

// Route is where a crossing's gateways let connections go, or nil where it has none.
func (s GatewayStore) Route(ctx context.Context, crossing int64) (*domain.Route, error) {
	list, err := all[routeRow](ctx, s, `SELECT * FROM gateway_routes WHERE crossing_id = $1`, crossing)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	r := list[0].route()
	return &r, nil
}

// BeginRoute keeps the first route of a crossing, unless it has one.
func (s GatewayStore) BeginRoute(ctx context.Context, crossing int64, live string) error {
	_, err := s.DB.ExecContext(ctx, `INSERT INTO gateway_routes (crossing_id, epoch, live, holding, patience)
VALUES ($1, 1, $2, false, 0) ON CONFLICT DO NOTHING`, crossing, live)
	return err
}

// turned is the channel on which is told that a route was changed.
const turned = "dusty_ferry_route"

// TurnRoute keeps a new route, of the next epoch, and tells of it.
func (s GatewayStore) TurnRoute(ctx context.Context, r domain.Route) (domain.Route, error) {
	row, err := single[routeRow](ctx, s, `WITH u AS (
UPDATE gateway_routes SET epoch = epoch + 1, live = $2, holding = $3, patience = $4 WHERE crossing_id = $1 RETURNING *)
SELECT u.* FROM u, LATERAL pg_notify('`+turned+`', u.crossing_id::text)`, r.Crossing, r.Live, r.Holding,
		r.Patience.Seconds())
	return row.route(), err
}

// ListenRoutes tells that some route was changed, until the context ends or the connection does.
// It tells so once in the beginning: the way works.
func (s GatewayStore) ListenRoutes(ctx context.Context, heard func()) error {
	return s.listen(ctx, turned, func(string) { heard() })
}

const gatewayColumns = `SELECT *, extract(epoch FROM now() - seen_at)::float8 AS quiet FROM gateways`

// gatewayRow is a gateway as it is kept; times in seconds.
type gatewayRow struct {
	CrossingID              int64
	Name, Listens           string
	Epoch                   int64
	Sessions, Busy, Waiting int
	Stall                   float64
	SeenAt                  time.Time
	Quiet                   float64
}

// Gateways are those of a crossing, by name.
func (s GatewayStore) Gateways(ctx context.Context, crossing int64) ([]domain.Gateway, error) {
	rows, err := all[gatewayRow](ctx, s, gatewayColumns+` WHERE crossing_id = $1 ORDER BY name`, crossing)
	out := make([]domain.Gateway, len(rows))
	for i, r := range rows {
		out[i] = domain.Gateway{Crossing: r.CrossingID, Name: r.Name, Listens: r.Listens, Epoch: r.Epoch,
			Sessions: r.Sessions, Busy: r.Busy, Waiting: r.Waiting, Stall: ofSeconds(r.Stall), SeenAt: r.SeenAt,
			Quiet: ofSeconds(r.Quiet)}
	}
	return out, err
}

// SeeGateway keeps what a gateway says of itself. False says that another one of that name, which
// listens elsewhere, was heard of just now.
func (s GatewayStore) SeeGateway(ctx context.Context, g domain.Gateway) (bool, error) {
	return s.changed(ctx, `
INSERT INTO gateways (crossing_id, name, listens, epoch, sessions, busy, waiting, stall, seen_at)
VALUES ($1, $2, $3, $4, $5, $6, $7, $8, now())
ON CONFLICT (crossing_id, name) DO UPDATE SET listens = excluded.listens, epoch = excluded.epoch,
  sessions = excluded.sessions, busy = excluded.busy, waiting = excluded.waiting, stall = excluded.stall,
  seen_at = excluded.seen_at
  WHERE gateways.listens = excluded.listens OR gateways.seen_at < now() - make_interval(secs => $9)`, g.Crossing,
		g.Name,
		g.Listens, g.Epoch, g.Sessions, g.Busy, g.Waiting, g.Stall.Seconds(), domain.GatewayLapse.Seconds())
}

// RemoveGateway forgets a gateway, and reports whether there was one.
func (s GatewayStore) RemoveGateway(ctx context.Context, crossing int64, name string) (bool, error) {
	return s.changed(ctx, `DELETE FROM gateways WHERE crossing_id = $1 AND name = $2`, crossing, name)
}
