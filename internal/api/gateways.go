package api

import (
	"context"
	"time"

	"dustyferry/internal/contract"
	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/gateways"
)

// watchRoutes has the event streams tell at once of a changed route: applications wait for it.
func (s *Server) watchRoutes(ctx context.Context) {
	for ctx.Err() == nil {
		if err := s.Store.ListenRoutes(ctx, s.pulse.hurry); err != nil && ctx.Err() == nil {
			s.Log.Debug("routes are not heard of at once", "error", err) // but with the next beat
		}
		select {
		case <-ctx.Done():
		case <-time.After(time.Second):
		}
	}
}

// ListGateways lists the gateways of a crossing, and where they lead.
func (s *calls) ListGateways(ctx context.Context,
	r contract.ListGatewaysRequestObject) (contract.ListGatewaysResponseObject, error) {
	c, err := s.Store.Crossing(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	st, err := s.Voyage.Gateways.Standing(ctx, c)
	if err != nil {
		return nil, err
	}
	out := contract.ListGateways200JSONResponse{Gateways: []contract.Gateway{}}
	for _, g := range st.Gateways {
		out.Gateways = append(out.Gateways, contract.Gateway{Name: g.Name, Listens: g.Listens, Epoch: g.Epoch,
			Sessions: g.Sessions, Busy: g.Busy, Waiting: g.Waiting, Stall: g.Stall.Seconds(), SeenAt: g.SeenAt,
			Lost: g.Lost()})
	}
	if st.Route != nil {
		way, err := s.routeOut(ctx, st)
		if err != nil {
			return nil, err
		}
		out.Route = &way
	}
	return out, nil
}

// ReportGateway takes what a gateway says of itself, and tells it where to lead connections.
func (s *calls) ReportGateway(ctx context.Context,
	r contract.ReportGatewayRequestObject) (contract.ReportGatewayResponseObject, error) {
	if err := domain.ValidName(r.Gateway); err != nil {
		return nil, err
	}
	c, err := s.Store.Crossing(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	b := r.Body
	st, err := s.Voyage.Gateways.See(ctx, c, domain.Gateway{Name: r.Gateway, Listens: b.Listens, Epoch: b.Epoch,
		Sessions: b.Sessions, Busy: b.Busy, Waiting: b.Waiting, Stall: time.Duration(b.Stall * float64(time.Second))})
	if err != nil {
		return nil, err
	}
	out, err := s.routeOut(ctx, st)
	return contract.ReportGateway200JSONResponse(out), err
}

// RemoveGateway forgets a gateway.
func (s *calls) RemoveGateway(ctx context.Context,
	r contract.RemoveGatewayRequestObject) (contract.RemoveGatewayResponseObject, error) {
	c, err := s.Store.Crossing(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	return contract.RemoveGateway204Response{}, s.Voyage.Gateways.Remove(ctx, c, r.Gateway, who(ctx).Name)
}

// routeOut says where connections go: a gateway leads from one server to another of the same engine.
func (s *calls) routeOut(ctx context.Context, st gateways.Standing) (contract.GatewayRoute, error) {
	live, err := s.Store.Database(ctx, st.Route.Live)
	if err != nil {
		return contract.GatewayRoute{}, err
	}
	first, err := s.Store.Database(ctx, st.Root.Source)
	if err != nil {
		return contract.GatewayRoute{}, err
	}
	then, err := s.Store.Database(ctx, st.Root.Target)
	if err != nil {
		return contract.GatewayRoute{}, err
	}
	out := contract.GatewayRoute{Crossing: st.Root.Name, Epoch: st.Route.Epoch, State: contract.Live,
		Live: live.Name, Engine: first.Engine, Host: live.Host, Port: live.Port, Database: live.DBName, Tls: live.TLS,
		Databases: []string{first.DBName}, Patience: st.Route.Patience.Seconds()}
	if then.DBName != first.DBName && then.Engine == first.Engine {
		out.Databases = append(out.Databases, then.DBName)
	}
	switch {
	case st.Route.Holding:
		out.State = contract.Holding
	case live.Engine != first.Engine:
		out.State = contract.Moved
	}
	return out, nil
}
