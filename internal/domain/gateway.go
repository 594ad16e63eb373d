package domain

import "time"

// Route says where the gateways of a crossing let connections go.
type Route struct {
	Crossing int64         // the one that went first, whose return paths turn the same route
	Epoch    int64         // grows with each change; of two routes, the later one counts
	Live     string        // name of the registered database that is in charge
	Holding  bool          // nobody begins a transaction until this is over
	Patience time.Duration // how long open transactions have to end while it holds
}

// Gateway is one gateway, as it last said of itself.
type Gateway struct {
	Crossing int64
	Name     string
	Listens  string        // where applications reach it
	Epoch    int64         // of the route that it acts on
	Sessions int           // connections that are let through
	Busy     int           // of those, the ones that do not rest between two transactions
	Waiting  int           // connections that are held, or have asked for something meanwhile
	Stall    time.Duration // longest that one was held
	SeenAt   time.Time
	Quiet    time.Duration // for how long it has said nothing
}

// GatewayLapse is after how long a gateway that said nothing counts as lost.
const GatewayLapse = 5 * time.Second

// Lost reports whether nothing was heard of it for too long.
func (g *Gateway) Lost() bool { return g.Quiet > GatewayLapse }

// Holds reports whether it does as the route says, and nothing is under way through it.
func (g *Gateway) Holds(r Route) bool { return g.Epoch >= r.Epoch && g.Busy == 0 }
