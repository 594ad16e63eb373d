// Package api serves the HTTP interface: the OpenAPI document's calls, the
// event stream, health and metrics, and the web console. It translates and
// guards; it takes no decisions of its own.
package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"dustyferry/internal/console"
	"dustyferry/internal/contract"
	"dustyferry/internal/domain"
	"dustyferry/internal/records"
	"dustyferry/internal/voyage"
)

// Server answers requests.
type Server struct {
	Store   *records.Store
	Voyage  *voyage.Voyage
	Log     *slog.Logger
	Version string
	Build   string
	Listen  string // the address people reach us at
	// KnownHost reports whether a name, beside those of loopback, is this service's.
	KnownHost func(name string) bool

	started time.Time
	metrics *metrics
	pulse   *pulse
	limits  *limits
	rules   rules
}

// sessionLength is how long a console sign-in lasts: a working day with its
// night watch.
const sessionLength = 16 * time.Hour

// Handler returns the HTTP handler. ctx ends the event streams.
func (s *Server) Handler(ctx context.Context) (http.Handler, error) {
	gin.SetMode(gin.ReleaseMode)
	s.started = time.Now()
	s.limits = newLimits()
	var err error
	if s.rules, err = newRules(); err != nil {
		return nil, err
	}
	s.metrics = newMetrics(s)
	within := gin.New() // for the event streams, whose callers have signed in
	within.ContextWithFallback = true
	within.Use(s.recovery, s.validate)
	s.register(within)
	s.pulse = newPulse(within)
	go s.pulse.run(ctx)
	go s.watchRoutes(ctx)
	g := gin.New()
	g.ContextWithFallback = true
	g.Use(s.recovery, s.headers, s.metrics.count, s.deadlines, s.host)
	g.GET("/healthz", func(c *gin.Context) { c.String(http.StatusOK, "ok\n") })
	g.GET("/readyz", s.ready)
	g.GET("/metrics", s.metrics.serve)
	g.GET("/api/openapi.yaml", func(c *gin.Context) { c.Data(http.StatusOK, "application/yaml", contract.Document) })
	s.register(g.Group("", s.signIn, s.body, s.validate))
	s.serveConsole(g)
	return g, nil
}

// register serves the contract's calls.
func (s *Server) register(g gin.IRouter) {
	contract.RegisterHandlersWithOptions(g, contract.NewStrictHandlerWithOptions(&calls{s}, nil,
		contract.StrictGinServerOptions{
			RequestErrorHandlerFunc: func(c *gin.Context, err error) {
				s.fail(c, domain.Invalid("the request's body cannot be read: %s", firstLine(err.Error())))
			},
			HandlerErrorFunc:         s.fail,
			ResponseErrorHandlerFunc: func(c *gin.Context, err error) { s.Log.Debug("an answer was not sent", "error", err) },
		}), contract.GinServerOptions{ErrorHandler: func(c *gin.Context, err error, _ int) {
		s.fail(c, domain.Invalid("the request's parameters are wrong: %s", err))
	}})
}

func (s *Server) recovery(c *gin.Context) {
	defer func() {
		if r := recover(); r != nil {
			s.Log.Error("a request panicked", "path", c.Request.URL.Path, "panic", r)
			s.fail(c, errors.New("panic"))
		}
	}()
	c.Next()
}

func (s *Server) headers(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; "+
		"frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	if strings.HasPrefix(c.Request.URL.Path, "/api/") {
		h.Set("Cache-Control", "no-store")
	}
	c.Next()
}

func (s *Server) ready(c *gin.Context) {
	ctx, cancel := context.WithTimeout(c.Request.Context(), 2*time.Second)
	defer cancel()
	if err := s.Store.Pool.Ping(ctx); err != nil {
		c.String(http.StatusServiceUnavailable, "the control database does not answer\n")
		return
	}
	c.String(http.StatusOK, "ready\n")
}

// fail answers with a problem document. What is not meant for people goes to
// the log only.
func (s *Server) fail(c *gin.Context, err error) {
	var p *domain.Problem
	var big *http.MaxBytesError
	var often *tooMany
	var there interface { // what a database server said, whichever its engine
		error
		OfServer()
	}
	switch {
	case errors.As(err, &big):
		s.problem(c, tooLarge.Status, tooLarge.Title,
			fmt.Sprintf("the request is larger than %d KiB, the most that this call takes", big.Limit>>10))
	case errors.As(err, &often):
		c.Header("Retry-After", strconv.Itoa(max(1, int(often.wait.Seconds()+0.999))))
		s.problem(c, tooOften.Status, tooOften.Title, often.what)
	case errors.As(err, &p):
		r := refusalOf(p.Kind)
		s.problem(c, r.Status, r.Title, err.Error())
	case errors.As(err, &there):
		s.problem(c, refusedThere.Status, refusedThere.Title, err.Error())
	case errors.Is(err, context.Canceled):
		c.AbortWithStatus(499)
	case records.Away(err):
		c.Header("Retry-After", "2")
		s.problem(c, recordsAway.Status, recordsAway.Title, "the control database does not answer ("+err.Error()+
			"); nothing is lost, ask again in a moment")
	default:
		s.Log.Error("a request failed", "method", c.Request.Method, "path", c.Request.URL.Path, "error", err)
		s.problem(c, fault.Status, fault.Title, "something went wrong inside the service ("+err.Error()+
			"); its log says more")
	}
}

func (s *Server) problem(c *gin.Context, status int, title, detail string) {
	detail = hidden(c.Request.Context(), detail) // a server's words may name values of rows
	body, _ := json.Marshal(contract.Problem{Type: "about:blank", Title: title, Status: status, Detail: detail})
	c.Data(status, "application/problem+json", body)
	c.Abort()
}

// serveConsole serves the built console: its files under /assets, its page for
// every other path that is not an API call.
func (s *Server) serveConsole(g *gin.Engine) {
	files := console.Files()
	server := http.FileServerFS(files)
	g.NoRoute(func(c *gin.Context) {
		path := c.Request.URL.Path
		if strings.HasPrefix(path, "/api/") || c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead {
			s.problem(c, http.StatusNotFound, "Not found", "there is no "+c.Request.Method+" "+path+
				"; /api/openapi.yaml describes the calls there are")
			return
		}
		if st, err := fs.Stat(files, strings.TrimPrefix(path, "/")); err == nil && !st.IsDir() {
			if strings.HasPrefix(path, "/assets/") {
				c.Header("Cache-Control", "public, max-age=31536000, immutable")
			}
			server.ServeHTTP(c.Writer, c.Request)
			return
		}
		if strings.HasPrefix(path, "/assets/") {
			c.String(http.StatusNotFound, "not found\n")
			return
		}
		page, err := fs.ReadFile(files, "index.html")
		if err != nil {
			c.String(http.StatusServiceUnavailable, "The console is not built into this binary; build it with 'make build'.\n")
			return
		}
		c.Header("Cache-Control", "no-cache")
		c.Data(http.StatusOK, "text/html; charset=utf-8", page)
	})
}
