package api

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"dustyferry/internal/contract"
	"dustyferry/internal/domain"
	"dustyferry/internal/records"

	"github.com/gin-gonic/gin"
)

// watchable are the calls a stream may repeat: those answered from the records
// alone, for every role alike. What asks a source or a target is not among them.
var watchable = regexp.MustCompile(
	`^/api/(crossings|crossings/[^/?]+(/(tables|objects|runs|rejected-rows|lanes|history|applied|fit|tasks|reconciliations|cutovers|readiness|gateways)(/[0-9a-z/]*)?)?|journal|workers)(\?.*)?$`)

// pulse answers the topics of all event streams once a second, each distinct
// one once, so that many open tabs cost the control database as little as one.
type pulse struct {
	answer http.Handler // the calls without sign-in: streams are signed in

	mu      sync.Mutex
	streams map[*stream]bool
	now     chan struct{} // what is watched has changed, and somebody waits for it
}

// hurry answers before the next second is over.
func (p *pulse) hurry() {
	select {
	case p.now <- struct{}{}:
	default:
	}
}

// topic is one call as callers with these rights see it.
type topic struct {
	role    string
	seeRows bool
	path    string
}

// topicOfGateways is what a gateway follows.
var topicOfGateways = regexp.MustCompile(`^/api/crossings/[^/?]+/gateways$`)

// ofRows are the topics whose answers hold rows of the databases.
var ofRows = regexp.MustCompile(`^/api/crossings/[^/?]+/(rejected-rows|reconciliations/[0-9]+/findings)(\?.*)?$`)

func newPulse(answer http.Handler) *pulse {
	return &pulse{answer: answer, streams: map[*stream]bool{}, now: make(chan struct{}, 1)}
}

// run ends with the service.
func (p *pulse) run(ctx context.Context) {
	t := time.NewTicker(time.Second)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
			p.beat(ctx)
		case <-p.now:
			p.beat(ctx)
		}
	}
}

// answered is what a topic's call gave.
type answered struct {
	status int
	body   []byte
}

// together is how many topics are answered at a time.
const together = 4

// beat answers everything watched and hands it out. A stream whose topics could
// not all be answered gets no beat: its silence tells that it is stale.
func (p *pulse) beat(ctx context.Context) {
	wanted := map[topic]answered{}
	p.mu.Lock()
	streams := make([]*stream, 0, len(p.streams))
	for s := range p.streams {
		streams = append(streams, s)
		for _, t := range s.topics {
			wanted[s.topic(t)] = answered{}
		}
	}
	p.mu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	var mu sync.Mutex
	var wg sync.WaitGroup
	free := make(chan struct{}, together)
	for _, t := range slices.Collect(maps.Keys(wanted)) {
		free <- struct{}{}
		wg.Go(func() {
			defer func() { <-free }()
			a := p.ask(ctx, t)
			mu.Lock()
			defer mu.Unlock()
			wanted[t] = a
		})
	}
	wg.Wait()
	for _, s := range streams {
		s.give(wanted)
	}
}

// ask makes the call as that role.
func (p *pulse) ask(ctx context.Context, t topic) answered {
	ctx = context.WithValue(ctx, whoKey{}, &records.Token{Name: "event stream", Role: t.role, SeeRows: t.seeRows,
		Beat: true})
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, t.path, nil)
	if err != nil {
		return answered{status: http.StatusBadRequest}
	}
	w := &kept{header: http.Header{}, status: http.StatusOK}
	p.answer.ServeHTTP(w, req)
	return answered{w.status, bytes.TrimSpace(w.body.Bytes())}
}

// kept is a response kept in memory.
type kept struct {
	header http.Header
	status int
	body   bytes.Buffer
}

func (k *kept) Header() http.Header         { return k.header }
func (k *kept) WriteHeader(status int)      { k.status = status }
func (k *kept) Write(b []byte) (int, error) { return k.body.Write(b) }

// StreamEvents opens a stream of server-sent events.
func (s *calls) StreamEvents(ctx context.Context,
	r contract.StreamEventsRequestObject) (contract.StreamEventsResponseObject, error) {
	g, ok := ctx.(*gin.Context)
	if !ok {
		return nil, domain.Invalid("a stream needs a request of its own")
	}
	t := who(ctx)
	e := &stream{s: s.Server, ctx: ctx, token: t.ID, role: t.Role, seeRows: t.MaySeeRows(), after: -1,
		sent: map[string][]byte{}, wake: make(chan struct{}, 1)}
	if r.Params.Topic != nil {
		e.topics = *r.Params.Topic
	}
	if len(e.topics) > 24 {
		return nil, domain.Invalid("a stream carries at most 24 topics, this asks for %d", len(e.topics))
	}
	var rows []string
	for _, t := range e.topics {
		if e.role == roleGateway && !topicOfGateways.MatchString(t) {
			return nil, domain.Forbidden("your token is a gateway's; it may follow /api/crossings/…/gateways and nothing else")
		}
		// An encoded character in the path would be another path to the router than here.
		path, _, _ := strings.Cut(t, "?")
		if len(t) > 600 || !watchable.MatchString(t) || strings.ContainsAny(path, "%;") {
			return nil, domain.Invalid("%q is no topic; give the path of a call under /api/crossings, /api/journal or "+
				"/api/workers", t)
		}
		if ofRows.MatchString(t) {
			if !e.seeRows {
				return nil, domain.Forbidden("%s shows rows of the databases, which your token may not see; ask an admin for one "+
					"that may (token add --see-rows)", path)
			}
			rows = append(rows, path)
		}
	}
	if n := s.pulse.topicsOf(e); n > tokenTopics {
		return nil, &tooMany{fmt.Sprintf("the event streams of this token would carry %d different topics, and %d may be; "+
			"close some (each console tab has a stream)", n, tokenTopics), 5 * time.Second}
	}
	take(&e.after, r.Params.After)
	take(&e.after, r.Params.LastEventID)
	if e.after < 0 { // a new stream begins with the present
		var err error
		if e.after, err = s.Store.LastEntry(ctx); err != nil {
			return nil, err
		}
	}
	var err error
	if e.end, err = s.limits.openStream(g.Request, t.ID); err != nil {
		return nil, err
	}
	unhurried(g, 0)
	for _, path := range rows {
		s.looked(ctx, strings.Split(path, "/")[3], path, "%s looked at rows in %s, as they change", t.Name, path)
	}
	return e, nil
}

// topicsOf counts the different topics that a token's streams would carry with one more.
func (p *pulse) topicsOf(e *stream) int {
	p.mu.Lock()
	defer p.mu.Unlock()
	all := map[string]bool{}
	for s := range p.streams {
		if s.token != e.token {
			continue
		}
		for _, t := range s.topics {
			all[t] = true
		}
	}
	for _, t := range e.topics {
		all[t] = true
	}
	return len(all)
}

// stream is one caller's event stream.
type stream struct {
	s       *Server
	ctx     context.Context
	token   int64
	role    string
	seeRows bool
	end     func() // gives back what the stream counts for
	topics  []string
	after   int64 // the newest journal entry sent
	sent    map[string][]byte

	mu    sync.Mutex
	fresh map[string]answered // answers not sent yet
	well  bool                // all topics were answered
	wake  chan struct{}
}

// topic is a topic as this stream's caller sees it.
func (e *stream) topic(path string) topic { return topic{e.role, e.seeRows, path} }

// give hands the answers of a beat over; what was not taken before is replaced.
func (e *stream) give(all map[topic]answered) {
	e.mu.Lock()
	e.fresh, e.well = map[string]answered{}, true
	for _, t := range e.topics {
		a := all[e.topic(t)]
		e.fresh[t] = a
		e.well = e.well && a.status != 0 && a.status < 500
	}
	e.mu.Unlock()
	select {
	case e.wake <- struct{}{}:
	default:
	}
}

// checked is how often a stream makes sure that its caller is still let in.
const checked = 5 * time.Second

// VisitStreamEventsResponse writes events until the reader or the service goes,
// or the caller's token is revoked.
func (e *stream) VisitStreamEventsResponse(w http.ResponseWriter) error {
	defer e.end()
	rc := http.NewResponseController(w)
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("X-Accel-Buffering", "no")
	w.WriteHeader(http.StatusOK)
	if _, err := fmt.Fprint(w, "retry: 1000\n\n"); err != nil {
		return err
	}
	_ = rc.Flush()
	p := e.s.pulse
	p.mu.Lock()
	p.streams[e] = true
	p.mu.Unlock()
	defer func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		delete(p.streams, e)
	}()
	first := map[topic]answered{} // not only at the next beat
	for _, t := range e.topics {
		first[e.topic(t)] = p.ask(e.ctx, e.topic(t))
	}
	e.give(first)
	check := time.NewTicker(checked)
	defer check.Stop()
	for {
		select {
		case <-e.ctx.Done():
			return nil
		case <-check.C:
			if ok, err := e.s.stillIn(e.ctx); err == nil && !ok {
				return nil
			}
		case <-e.wake:
			if err := e.send(w); err != nil {
				return err
			}
			if err := rc.Flush(); err != nil {
				return err
			}
		}
	}
}

// answerEvent is the data of an "answer".
type answerEvent struct {
	Topic  string          `json:"topic"`
	Status int             `json:"status"`
	Body   json.RawMessage `json:"body"`
}

func (e *stream) send(w http.ResponseWriter) error {
	rows, err := e.s.Store.Journal(e.ctx, records.EntryFilter{After: e.after, Oldest: true, Limit: 500})
	if err != nil {
		if errors.Is(err, context.Canceled) {
			return err
		}
		return nil // the control database is away: silence tells
	}
	if e.role == roleGateway {
		rows = nil // the journal is none of its affair
	}
	for _, j := range journalLines(e.ctx, rows) {
		b, err := json.Marshal(j)
		if err != nil {
			return err
		}
		if _, err := fmt.Fprintf(w, "id: %d\nevent: journal\ndata: %s\n\n", j.Id, b); err != nil {
			return err
		}
		e.after = j.Id
	}
	e.mu.Lock()
	fresh, well := e.fresh, e.well
	e.fresh = nil
	e.mu.Unlock()
	for _, t := range e.topics {
		a, ok := fresh[t]
		if !ok || a.status == 0 || a.status >= 500 || bytes.Equal(a.body, e.sent[t]) {
			continue
		}
		b, err := json.Marshal(answerEvent{t, a.status, a.body})
		if err != nil {
			return err
		}
		if _, err := fmt.Fprintf(w, "event: answer\ndata: %s\n\n", b); err != nil {
			return err
		}
		e.sent[t] = a.body
	}
	if !well {
		return nil
	}
	_, err = fmt.Fprintf(w, "event: beat\ndata: {\"at\":%q}\n\n", time.Now().UTC().Format(time.RFC3339Nano))
	return err
}
