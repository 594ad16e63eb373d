package api

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"dustyferry/internal/contract"
	"dustyferry/internal/records"
)

// metrics is what a monitoring system reads. It names crossings and counts,
// never hosts, users or values.
type metrics struct {
	requests *prometheus.HistogramVec
	handler  http.Handler
}

func newMetrics(s *Server) *metrics {
	m := &metrics{requests: prometheus.NewHistogramVec(prometheus.HistogramOpts{
		Name: "dustyferry_request_seconds", Help: "Time to answer a request.", Buckets: []float64{.005, .02, .1, .5, 2, 10},
	}, []string{"path", "status"})}
	reg := prometheus.NewRegistry()
	reg.MustRegister(m.requests, collectors.NewGoCollector(), collectors.NewProcessCollector(
		collectors.ProcessCollectorOpts{}), &crossingMetrics{s})
	m.handler = promhttp.HandlerFor(reg, promhttp.HandlerOpts{})
	return m
}

func (m *metrics) count(c *gin.Context) {
	from := time.Now()
	c.Next()
	if path := c.FullPath(); path != "" && path != "/api/events" {
		m.requests.WithLabelValues(path, strconv.Itoa(c.Writer.Status())).Observe(time.Since(from).Seconds())
	}
}

func (m *metrics) serve(c *gin.Context) { m.handler.ServeHTTP(c.Writer, c.Request) }

type crossingMetrics struct{ s *Server }

// Metric is one of a crossing's figures for a monitoring system. What was not measured has no
// sample, rather than a 0.
type Metric struct {
	Name   string
	Counts bool // it only grows
	Help   string
	of     func(*contract.Crossing) (value float64, known bool)
}

func always(f func(*contract.Crossing) float64) func(*contract.Crossing) (float64, bool) {
	return func(c *contract.Crossing) (float64, bool) { return f(c), true }
}

// captured are the figures of capture, of crossings that follow changes.
func captured(f func(*contract.Progress) float64) func(*contract.Crossing) (float64, bool) {
	return func(c *contract.Crossing) (float64, bool) {
		return f(&c.Progress), c.FollowChanges && c.Progress.Capture != "none"
	}
}

// measured are those of them that are only known while somebody measures them.
func measured(f func(*contract.Progress) float64) func(*contract.Crossing) (float64, bool) {
	of := captured(f)
	return func(c *contract.Crossing) (float64, bool) {
		v, known := of(c)
		return v, known && c.Progress.LagAgeSeconds == nil
	}
}

// Metrics are the figures of each crossing, by the label crossing.
var Metrics = []Metric{
	{"dustyferry_rows_landed_total", true, "Rows that the load has landed on the target.",
		always(func(c *contract.Crossing) float64 { return float64(c.Progress.Rows) })},
	{"dustyferry_bytes_landed_total", true, "Bytes that the load has landed on the target.",
		always(func(c *contract.Crossing) float64 { return float64(c.Progress.Bytes) })},
	{"dustyferry_chunks", false, "Chunks of the load.", always(func(c *contract.Crossing) float64 {
		return float64(c.Progress.Chunks)
	})},
	{"dustyferry_chunks_landed", false, "Chunks that have landed.", always(func(c *contract.Crossing) float64 {
		return float64(c.Progress.ChunksLanded)
	})},
	{"dustyferry_tables_held", false, "Tables that wait for a person.", always(func(c *contract.Crossing) float64 {
		return float64(c.Progress.TablesHeld)
	})},
	{"dustyferry_changes_applied_total", true, "Captured changes that were applied to the target.",
		captured(func(p *contract.Progress) float64 { return float64(p.Changes) })},
	{"dustyferry_lag_seconds", false, "From a commit on the source to the same on the target. No sample while nobody " +
		"measures it: see dustyferry_lag_age_seconds.", measured(func(p *contract.Progress) float64 { return p.LagSeconds })},
	{"dustyferry_lag_age_seconds", false, "For how long nobody has measured the lag: 0 while somebody does.",
		captured(func(p *contract.Progress) float64 { return orNone(p.LagAgeSeconds) })},
	{"dustyferry_lag_bytes", false, "Log of the source that is not applied yet. No sample while nobody measures it.",
		measured(func(p *contract.Progress) float64 { return float64(p.LagBytes) })},
	{"dustyferry_source_log_retained_bytes", false, "Log that the source keeps for the crossing.",
		captured(func(p *contract.Progress) float64 { return float64(p.RetainedBytes) })},
}

func (m Metric) desc() *prometheus.Desc {
	return prometheus.NewDesc(m.Name, m.Help, []string{"crossing"}, nil)
}

var stateDesc = prometheus.NewDesc("dustyferry_crossing", "1 for the phase and condition that a crossing is in.",
	[]string{"crossing", "phase", "condition"}, nil)

// Describe implements prometheus.Collector.
func (m *crossingMetrics) Describe(ch chan<- *prometheus.Desc) {
	for _, k := range Metrics {
		ch <- k.desc()
	}
	ch <- stateDesc
}

// Collect implements prometheus.Collector.
func (m *crossingMetrics) Collect(ch chan<- prometheus.Metric) {
	ctx, cancel := contextForScrape()
	defer cancel()
	rows, _, err := m.s.Store.Lines(ctx, records.Filter{Limit: maxListed})
	if err != nil {
		m.s.Log.Warn("metrics could not be read", "error", err)
		return
	}
	for i := range rows {
		c := m.s.crossing(ctx, &rows[i])
		for _, k := range Metrics {
			if v, known := k.of(&c); known {
				ch <- prometheus.MustNewConstMetric(k.desc(), map[bool]prometheus.ValueType{true: prometheus.CounterValue,
					false: prometheus.GaugeValue}[k.Counts], v, c.Name)
			}
		}
		ch <- prometheus.MustNewConstMetric(stateDesc, prometheus.GaugeValue, 1, c.Name, string(c.Phase), string(c.Condition))
	}
}

func orNone(p *float64) float64 {
	if p == nil {
		return 0
	}
	return *p
}

func contextForScrape() (context.Context, context.CancelFunc) {
	return context.WithTimeout(context.Background(), 5*time.Second)
}
