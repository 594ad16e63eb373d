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
	reg.MustRegister(m.requests, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}), &crossingMetrics{s})
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

var (
	rowsDesc    = prometheus.NewDesc("dustyferry_rows_landed_total", "Rows landed on the target by the load.", []string{"crossing"}, nil)
	bytesDesc   = prometheus.NewDesc("dustyferry_bytes_landed_total", "Bytes landed on the target by the load.", []string{"crossing"}, nil)
	changesDesc = prometheus.NewDesc("dustyferry_changes_applied_total", "Captured changes applied to the target.", []string{"crossing"}, nil)
	lagDesc     = prometheus.NewDesc("dustyferry_lag_seconds", "How far the target is behind the source.", []string{"crossing"}, nil)
	keptDesc    = prometheus.NewDesc("dustyferry_source_log_retained_bytes", "Log the source keeps for the crossing.", []string{"crossing"}, nil)
	stateDesc   = prometheus.NewDesc("dustyferry_crossing", "1 for the phase and condition a crossing is in.", []string{"crossing", "phase", "condition"}, nil)
)

// Describe implements prometheus.Collector.
func (m *crossingMetrics) Describe(ch chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{rowsDesc, bytesDesc, changesDesc, lagDesc, keptDesc, stateDesc} {
		ch <- d
	}
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
		p := c.Progress
		ch <- prometheus.MustNewConstMetric(rowsDesc, prometheus.CounterValue, float64(p.Rows), c.Name)
		ch <- prometheus.MustNewConstMetric(bytesDesc, prometheus.CounterValue, float64(p.Bytes), c.Name)
		ch <- prometheus.MustNewConstMetric(changesDesc, prometheus.CounterValue, float64(p.Changes), c.Name)
		ch <- prometheus.MustNewConstMetric(lagDesc, prometheus.GaugeValue, p.LagSeconds, c.Name)
		ch <- prometheus.MustNewConstMetric(keptDesc, prometheus.GaugeValue, float64(p.RetainedBytes), c.Name)
		ch <- prometheus.MustNewConstMetric(stateDesc, prometheus.GaugeValue, 1, c.Name, string(c.Phase), string(c.Condition))
	}
}

func contextForScrape() (context.Context, context.CancelFunc) {
	return context.WithTimeout(context.Background(), 5*time.Second)
}
