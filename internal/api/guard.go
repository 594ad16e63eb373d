package api

import (
	"bytes"
	"errors"
	"io"
	"mime"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
)

// How long a caller who has not signed in may take to say a request and to take the
// answer, and how long one who has may take for the answer: a survey looks at two servers.
const (
	strangerLimit = 30 * time.Second
	callLimit     = 30 * time.Minute
)

// Bodies of requests, in bytes: of all, and of a sign-in.
const (
	largestBody   = 4 << 20
	largestSignIn = 16 << 10
)

// sessionCookie is the name of the console's cookie. Behind TLS a browser takes it from
// nobody but this very host.
func sessionCookie(r *http.Request) string {
	if r.TLS != nil {
		return "__Host-dusty_ferry_session"
	}
	return "dusty_ferry_session"
}

// deadlines keeps a caller who has not signed in from holding a connection for ever.
func (s *Server) deadlines(c *gin.Context) {
	until := time.Now().Add(strangerLimit)
	rc := http.NewResponseController(c.Writer)
	_ = rc.SetReadDeadline(until)
	_ = rc.SetWriteDeadline(until)
	c.Next()
}

// unhurried is for callers who have signed in and whose request was read.
func unhurried(c *gin.Context, limit time.Duration) {
	rc := http.NewResponseController(c.Writer)
	_ = rc.SetReadDeadline(time.Time{})
	until := time.Time{}
	if limit > 0 {
		until = time.Now().Add(limit)
	}
	_ = rc.SetWriteDeadline(until)
}

// unguarded are the pages that machines ask for by whatever name, and that tell nothing.
var unguarded = map[string]bool{"/healthz": true, "/readyz": true, "/metrics": true}

// host refuses names that are not this service's: a stranger's name that leads to our
// address makes a browser take our pages for the stranger's.
func (s *Server) host(c *gin.Context) {
	if unguarded[c.Request.URL.Path] {
		c.Next()
		return
	}
	name := c.Request.Host
	if h, _, err := net.SplitHostPort(name); err == nil {
		name = h
	}
	name = strings.ToLower(strings.Trim(name, "[]"))
	ip := net.ParseIP(name)
	if name == "localhost" || ip != nil && ip.IsLoopback() || s.KnownHost != nil && s.KnownHost(name) {
		c.Next()
		return
	}
	s.problem(c, http.StatusMisdirectedRequest, "Not this service",
		"this service is not known as "+name+"; ask for it by a name that it knows, or start it with --host-name "+name)
}

// sameOrigin lets a browser's session act only from our own pages: its cookie also comes
// with requests that pages elsewhere on this host make. A token in a header is sent by
// nobody unasked.
func (s *Server) sameOrigin(c *gin.Context) bool {
	r := c.Request
	reads := r.Method == http.MethodGet || r.Method == http.MethodHead
	switch site := r.Header.Get("Sec-Fetch-Site"); {
	case site == "same-origin", site == "none" && reads:
	case site != "":
		s.problem(c, http.StatusForbidden, "Not allowed",
			"this request comes from another site's page; open the console itself")
		return false
	default:
		origin := r.Header.Get("Origin")
		if origin == "" && reads {
			break
		}
		if u, err := url.Parse(origin); err != nil || u.Host == "" || !strings.EqualFold(u.Host, r.Host) ||
			(u.Scheme == "https") != (r.TLS != nil) {
			s.problem(c, http.StatusForbidden, "Not allowed", "this request does not say that it comes from the console "+
				"(Origin or Sec-Fetch-Site); scripts send a token as 'Authorization: Bearer …'")
			return false
		}
	}
	if !reads && r.ContentLength != 0 && !isJSON(r) {
		s.problem(c, http.StatusUnsupportedMediaType, "Wrong kind of body", "send the body as application/json")
		return false
	}
	return true
}

func isJSON(r *http.Request) bool {
	kind, _, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
	return err == nil && kind == "application/json"
}

// body reads the whole request before anything is done about it.
func (s *Server) body(c *gin.Context) {
	largest := int64(largestBody)
	if c.FullPath() == "/api/session" {
		largest = largestSignIn
	}
	text, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, largest))
	var big *http.MaxBytesError
	switch {
	case errors.As(err, &big):
		s.fail(c, err)
		return
	case err != nil:
		s.problem(c, http.StatusRequestTimeout, "Cut short", "the request did not arrive whole")
		return
	}
	c.Request.Body = io.NopCloser(bytes.NewReader(text))
	c.Request.ContentLength = int64(len(text))
	if c.FullPath() != "/api/session" || c.Request.Method != http.MethodPost {
		unhurried(c, callLimit)
	}
	c.Next()
}
