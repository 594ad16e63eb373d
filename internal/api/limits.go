package api

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"strconv"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"golang.org/x/time/rate"

	"dustyferry/internal/domain"
)

// What one caller may ask for. A console page holds one stream with a handful of topics
// and asks a few times a second.
const (
	tokenPace     = 100 // requests a second with one token, on average
	tokenBurst    = 500
	addressPace   = 300 // requests a second from one address, whoever it is
	addressBurst  = 2000
	tokenStreams  = 24  // event streams open with one token
	tokenTopics   = 128 // different topics of all of them
	addressStream = 200
	failedPace    = 0.2 // sign-ins a second that fail, from one address
	failedBurst   = 20
	failedWait    = 5 * time.Second
)

// limits counts what tokens and addresses use of this process.
type limits struct {
	mu      sync.Mutex
	uses    map[string]*use
	refused map[string]*refusal
}

// use is what one token or address uses.
type use struct {
	requests *rate.Limiter
	failed   *rate.Limiter
	streams  int
	seen     time.Time
}

func newLimits() *limits { return &limits{uses: map[string]*use{}, refused: map[string]*refusal{}} }

// of returns what a caller uses; mu is held.
func (l *limits) of(who string, pace rate.Limit, burst int) *use {
	u, ok := l.uses[who]
	if !ok {
		if len(l.uses) > 5000 {
			for k, old := range l.uses {
				if old.streams == 0 && time.Since(old.seen) > 10*time.Minute {
					delete(l.uses, k)
				}
			}
		}
		u = &use{requests: rate.NewLimiter(pace, burst), failed: rate.NewLimiter(failedPace, failedBurst)}
		l.uses[who] = u
	}
	u.seen = time.Now()
	return u
}

func (l *limits) address(r *http.Request) *use {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.of("address "+addressOf(r), addressPace, addressBurst)
}

func (l *limits) token(id int64) *use {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.of("token "+strconv.FormatInt(id, 10), tokenPace, tokenBurst)
}

func addressOf(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return r.RemoteAddr
	}
	return host
}

// tooMany is what a caller is told who asks for more than may be.
type tooMany struct {
	what string
	wait time.Duration
}

func (t *tooMany) Error() string { return t.what }

// openStream counts a stream in, or refuses it; its end gives it back.
func (l *limits) openStream(r *http.Request, id int64) (end func(), err error) {
	byToken, byAddress := l.token(id), l.address(r)
	l.mu.Lock()
	defer l.mu.Unlock()
	switch {
	case byToken.streams >= tokenStreams:
		return nil, &tooMany{fmt.Sprintf("this token has %d event streams open, which is as many as may be; close some "+
			"(each console tab has one)", tokenStreams), 5 * time.Second}
	case byAddress.streams >= addressStream:
		return nil, &tooMany{fmt.Sprintf("%d event streams are open from your address, which is as many as may be",
			addressStream), 5 * time.Second}
	}
	byToken.streams++
	byAddress.streams++
	return sync.OnceFunc(func() {
		l.mu.Lock()
		defer l.mu.Unlock()
		byToken.streams--
		byAddress.streams--
	}), nil
}

// pace refuses a caller's request when too many came before it.
func (s *Server) pace(c *gin.Context, u *use) bool {
	r := u.requests.Reserve()
	wait := r.Delay()
	if wait == 0 {
		return true
	}
	r.Cancel()
	s.fail(c, &tooMany{"you ask too often; slow down", wait})
	return false
}

// refusal is something refused again and again.
type refusal struct {
	last    time.Time
	skipped int
}

// refuse writes into the journal that something was refused, at most once a minute for
// the same thing, with how often it was since.
func (s *Server) refuse(ctx context.Context, actor, subject, act, thing, format string, args ...any) {
	s.limits.mu.Lock()
	x, ok := s.limits.refused[thing]
	if !ok {
		if len(s.limits.refused) > 5000 {
			clear(s.limits.refused)
		}
		x = &refusal{}
		s.limits.refused[thing] = x
	}
	if time.Since(x.last) < time.Minute {
		x.skipped++
		s.limits.mu.Unlock()
		return
	}
	msg := fmt.Sprintf(format, args...)
	if x.skipped > 0 {
		msg += fmt.Sprintf(" (and %s since %s)", domain.Many(x.skipped, "time"), x.last.UTC().Format(time.TimeOnly))
	}
	*x = refusal{last: time.Now()}
	s.limits.mu.Unlock()
	s.Voyage.Recordf(ctx, "warning", actor, "", subject, act, "%s", msg)
}
