package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"sync"
	"time"

	"dustyferry/internal/contract"
	"dustyferry/internal/records"
)

// pulse reads the records once a second for all event streams together, so that
// many open tabs cost the control database as little as one.
type pulse struct {
	s    *Server
	mu   sync.Mutex
	subs map[chan struct{}]bool
	all  []byte // the crossings as JSON
	seq  uint64
}

func newPulse(s *Server) *pulse { return &pulse{s: s, subs: map[chan struct{}]bool{}} }

// run ends with the service.
func (p *pulse) run(ctx context.Context) {
	t := time.NewTicker(time.Second)
	defer t.Stop()
	for {
		p.mu.Lock()
		watched := len(p.subs) > 0
		p.mu.Unlock()
		if watched {
			p.beat(ctx)
		}
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
	}
}

func (p *pulse) beat(ctx context.Context) {
	// Streams are read by viewers too, so what only others may see is left out.
	list, err := p.s.allCrossings(ctx)
	if err != nil {
		return // the streams' silence tells: the console says that it is stale
	}
	b, err := json.Marshal(list)
	if err != nil {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.all = b
	p.seq++
	for c := range p.subs {
		select {
		case c <- struct{}{}:
		default:
		}
	}
}

func (p *pulse) join() chan struct{} {
	c := make(chan struct{}, 1)
	p.mu.Lock()
	defer p.mu.Unlock()
	p.subs[c] = true
	return c
}

func (p *pulse) leave(c chan struct{}) {
	p.mu.Lock()
	defer p.mu.Unlock()
	delete(p.subs, c)
}

func (p *pulse) crossings() []byte {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.all
}

// StreamEvents opens a stream of server-sent events.
func (s *calls) StreamEvents(ctx context.Context, r contract.StreamEventsRequestObject) (contract.StreamEventsResponseObject, error) {
	after := int64(-1)
	take(&after, r.Params.LastEventID)
	if after < 0 { // a new stream begins with the present
		last, err := s.Store.LastJournal(ctx, "", 1)
		if err != nil {
			return nil, err
		}
		after = 0
		if len(last) > 0 {
			after = last[0].ID
		}
	}
	return &stream{s: s.Server, ctx: ctx, after: after}, nil
}

type stream struct {
	s     *Server
	ctx   context.Context
	after int64
}

// VisitStreamEventsResponse writes events until the reader or the service goes.
func (e *stream) VisitStreamEventsResponse(w http.ResponseWriter) error {
	rc := http.NewResponseController(w)
	_ = rc.SetWriteDeadline(time.Time{})
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("X-Accel-Buffering", "no")
	w.WriteHeader(http.StatusOK)
	beat := e.s.pulse.join()
	defer e.s.pulse.leave(beat)
	if _, err := fmt.Fprint(w, "retry: 1000\n\n"); err != nil {
		return err
	}
	_ = rc.Flush()
	quiet := time.NewTicker(10 * time.Second)
	defer quiet.Stop()
	for {
		select {
		case <-e.ctx.Done():
			return nil
		case <-quiet.C:
			if _, err := fmt.Fprint(w, ": still here\n\n"); err != nil {
				return err
			}
		case <-beat:
			if err := e.send(w); err != nil {
				return err
			}
		}
		if err := rc.Flush(); err != nil {
			return err
		}
	}
}

func (e *stream) send(w http.ResponseWriter) error {
	var rows []records.Entry
	var err error
	if rows, err = e.s.Store.Journal(e.ctx, "", e.after, 500); err != nil {
		return err
	}
	for _, j := range journal(rows) {
		b, err := json.Marshal(j)
		if err != nil {
			return err
		}
		if _, err := fmt.Fprintf(w, "id: %d\nevent: journal\ndata: %s\n\n", j.Id, b); err != nil {
			return err
		}
		e.after = j.Id
	}
	_, err = fmt.Fprintf(w, "event: crossings\ndata: %s\n\n", e.s.pulse.crossings())
	return err
}
