package api

import (
	"context"
	"net/http"
	"regexp"
	"strings"

	"github.com/gin-gonic/gin"

	"dustyferry/internal/records"
	"dustyferry/internal/secret"
)

// open lists the calls that need no sign-in.
var open = map[string]bool{"GET /api/version": true, "POST /api/session": true}

// needs is the role that a call needs.
func needs(method, path string) string {
	switch {
	case strings.HasPrefix(path, "/api/tokens"), strings.HasPrefix(path, "/api/webhooks"),
		(path == "/api/defaults" || path == "/api/policy") && method != http.MethodGet,
		strings.HasPrefix(path, "/api/databases") && method != http.MethodGet && !strings.HasSuffix(path, "/check"):
		return "admin"
	case strings.HasPrefix(path, gatewayCall+"/") && method == http.MethodPut:
		return "gateway"
	case method == http.MethodGet, path == "/api/session":
		return "viewer"
	}
	return "operator"
}

// showsRows lists the calls whose answers hold rows of the databases.
var showsRows = map[string]bool{
	"/api/databases/:name/rows":                              true,
	"/api/crossings/:name/preview":                           true,
	"/api/crossings/:name/reconciliations/:id/findings":      true,
	"/api/crossings/:name/rejected-rows":                     true,
	"/api/crossings/:name/tables/:id/chunks/:number/refused": true,
}

var rank = map[string]int{"viewer": 1, "operator": 2, "admin": 3}

// A gateway's token is good for what gateways ask, and for nothing else.
const (
	roleGateway = "gateway"
	gatewayCall = "/api/crossings/:name/gateways"
)

func ofGateways(path string) bool {
	return strings.HasPrefix(path, gatewayCall) || path == "/api/events" || path == "/api/session"
}

type whoKey struct{}

// allowed says why a caller may not make a call, or "".
func allowed(t *records.Token, method, path string) string {
	if t.Role == roleGateway {
		if ofGateways(path) {
			return ""
		}
		return "your token is a gateway's, which is good for nothing else; ask an admin for a token of another role"
	}
	need := needs(method, path)
	if need == roleGateway {
		return "only a gateway says this of itself; ask an admin for a token with the role gateway"
	}
	if rank[t.Role] < rank[need] {
		return "your role is " + t.Role + ", this needs " + need + "; ask an admin for a token with that role"
	}
	if showsRows[path] && !t.MaySeeRows() {
		return "this shows rows of the databases, which your token may not see; ask an admin for one that may (token add " +
			"--see-rows)"
	}
	return ""
}

// signIn finds out who asks, and whether they may.
func (s *Server) signIn(c *gin.Context) {
	if !s.pace(c, s.limits.address(c.Request)) {
		return
	}
	if open[c.Request.Method+" "+c.FullPath()] {
		c.Next()
		return
	}
	t, byCookie, err := s.tokenOf(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	if t == nil {
		s.strange(c)
		return
	}
	if byCookie && !s.sameOrigin(c) || !s.pace(c, s.limits.token(t.ID)) {
		return
	}
	if why := allowed(t, c.Request.Method, c.FullPath()); why != "" {
		s.refuse(c, t.Name, "", "refused", t.Name+" "+c.Request.Method+" "+c.FullPath(), "%s (%s) was refused %s %s", t.Name,
			t.Role, c.Request.Method, c.Request.URL.Path)
		s.problem(c, http.StatusForbidden, "Not allowed", why)
		return
	}
	c.Request = c.Request.WithContext(context.WithValue(c.Request.Context(), whoKey{}, t))
	c.Next()
}

// strange answers who is not known. What looks like a token is noted.
func (s *Server) strange(c *gin.Context) {
	if c.GetHeader("Authorization") != "" {
		if !s.limits.address(c.Request).failed.Allow() {
			s.fail(c, &tooMany{"too many sign-ins from your address failed; wait a while", failedWait})
			return
		}
		s.refuse(c, "nobody", "", "sign in", "sign-in "+addressOf(c.Request),
			"a request from %s with an unknown token was refused: %s %s", addressOf(c.Request), c.Request.Method,
			c.Request.URL.Path)
	}
	s.problem(c, signIn.Status, signIn.Title, "sign in first: send an access token as 'Authorization: Bearer …', or "+
		"sign in to the console")
}

// tokenOf returns the token a request came with, or nil, and whether a browser sent it by
// itself.
func (s *Server) tokenOf(c *gin.Context) (t *records.Token, byCookie bool, err error) {
	if h := c.GetHeader("Authorization"); h != "" {
		token, ok := strings.CutPrefix(h, "Bearer ")
		if !ok {
			return nil, false, nil
		}
		t, err = s.Store.TokenByHash(c.Request.Context(), secret.HashToken(token))
		return t, false, err
	}
	cookie, err := c.Cookie(sessionCookie(c.Request))
	if err != nil || cookie == "" {
		return nil, false, nil
	}
	t, err = s.Store.SessionToken(c.Request.Context(), secret.HashToken(cookie))
	return t, true, err
}

// stillIn reports whether a request that lasts is still let in: its token may
// have been revoked or changed, or its session ended.
func (s *Server) stillIn(ctx context.Context) (bool, error) {
	c, ok := ctx.(*gin.Context)
	if !ok {
		return true, nil
	}
	t, _, err := s.tokenOf(c)
	now := who(ctx)
	return t != nil && t.Role == now.Role && t.SeeRows == now.SeeRows, err
}

// who returns the token the request came with.
func who(ctx context.Context) *records.Token {
	t, _ := ctx.Value(whoKey{}).(*records.Token)
	if t == nil {
		return &records.Token{Name: "nobody", Role: "viewer"}
	}
	return t
}

// values are the places where servers name values of rows in their errors.
var values = []*regexp.Regexp{
	regexp.MustCompile(`(Key \([^)]*\)=)\((?:[^()]|\([^()]*\))*\)`),
	regexp.MustCompile(`(Failing row contains )\(.*\)`),
	regexp.MustCompile(`(Duplicate entry )'.*?'( for key)`),
	regexp.MustCompile(`(Incorrect \S+ value: )'.*?'( for column)`),
	regexp.MustCompile(`(invalid input (?:syntax|value) for [^:]*: )".*?"(,|$| \()`),
	regexp.MustCompile(`((?:date/time field value|value) out of range: )".*?"`),
	regexp.MustCompile(`(value )"[^"]*"( is out of range)`),
}

// hidden is a server's words, without the values of rows in them where the caller may not
// see rows.
func hidden(ctx context.Context, text string) string {
	if text == "" || who(ctx).MaySeeRows() {
		return text
	}
	for _, v := range values {
		text = v.ReplaceAllString(text, "${1}(hidden)${2}")
	}
	return text
}

// looked writes into the journal that somebody saw rows.
func (s *Server) looked(ctx context.Context, crossing, subject, format string, args ...any) {
	if who(ctx).Beat {
		return // a stream's look was noted when it was opened
	}
	s.Voyage.Recordf(ctx, "info", who(ctx).Name, crossing, subject, "look", format, args...)
}
