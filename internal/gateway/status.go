package gateway

import (
	"fmt"
	"net/http"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"
)

// metrics counts what a gateway did.
type metrics struct {
	registry *prometheus.Registry
	opened   prometheus.Counter
	ended    prometheus.Counter
	stalls   prometheus.Histogram

	mu  sync.Mutex
	max time.Duration
}

func newMetrics() *metrics {
	m := &metrics{registry: prometheus.NewRegistry(),
		opened: prometheus.NewCounter(prometheus.CounterOpts{Name: "dustyferry_gateway_sessions_total",
			Help: "Sessions that were let through"}),
		ended: prometheus.NewCounter(prometheus.CounterOpts{Name: "dustyferry_gateway_ended_sessions_total",
			Help: "Sessions that the gateway ended"}),
		stalls: prometheus.NewHistogram(prometheus.HistogramOpts{Name: "dustyferry_gateway_held_seconds",
			Help: "How long connections and requests were held", Buckets: prometheus.ExponentialBuckets(0.01, 2, 14)})}
	m.registry.MustRegister(m.opened, m.ended, m.stalls)
	return m
}

// stalled counts that something was held.
func (m *metrics) stalled(d time.Duration) {
	m.stalls.Observe(d.Seconds())
	m.mu.Lock()
	defer m.mu.Unlock()
	m.max = max(m.max, d)
}

// longest is how long something was held at most.
func (m *metrics) longest() time.Duration {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.max
}

// Status answers /healthz: whether it passes sessions, /readyz: whether the service tells it where
// to, and /metrics.
func (g *Gateway) Status() http.Handler {
	gauge := func(name, help string, of func(stand) float64) {
		g.metrics.registry.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{
			Name: "dustyferry_gateway_" + name, Help: help}, func() float64 { return of(g.stand()) }))
	}
	gauge("sessions", "Sessions that are let through", func(s stand) float64 { return float64(s.sessions) })
	gauge("busy_sessions", "Sessions that do not rest between two transactions", func(s stand) float64 {
		return float64(s.busy)
	})
	gauge("held", "Connections and requests that are held", func(s stand) float64 { return float64(s.waiting) })
	gauge("epoch", "Of the route that it acts by", func(s stand) float64 { return float64(s.epoch) })
	gauge("longest_hold_seconds", "Longest that something was held", func(s stand) float64 { return s.stall.Seconds() })
	gauge("service_silence_seconds", "Since the service said something", func(s stand) float64 {
		return s.quiet.Seconds()
	})
	mux := http.NewServeMux()
	mux.Handle("GET /metrics", promhttp.HandlerFor(g.metrics.registry, promhttp.HandlerOpts{}))
	mux.HandleFunc("GET /healthz", func(w http.ResponseWriter, _ *http.Request) { _, _ = fmt.Fprintln(w, "ok") })
	mux.HandleFunc("GET /readyz", func(w http.ResponseWriter, _ *http.Request) {
		if quiet := g.stand().quiet; quiet > 5*time.Second {
			w.WriteHeader(http.StatusServiceUnavailable)
			_, _ = fmt.Fprintf(w, "the service has said nothing for %s; this gateway stays where it is\n",
				quiet.Round(time.Second))
			return
		}
		_, _ = fmt.Fprintln(w, "ready")
	})
	return mux
}
