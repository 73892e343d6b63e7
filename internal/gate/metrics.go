package gate

import (
	"context"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/finding"
)

// metrics are figures for monitoring. No label names a person.
type metrics struct {
	registry *prometheus.Registry
	results  *prometheus.CounterVec
}

func newMetrics() *metrics {
	m := &metrics{registry: prometheus.NewRegistry(), results: prometheus.NewCounterVec(prometheus.CounterOpts{
		Name: "innergate_crossings_total", Help: "Crossings that ended, by result and finding."}, []string{"result", "finding"})}
	m.registry.MustRegister(m.results, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

// count notes the end of a crossing.
func (m *metrics) count(result string, f *finding.Finding) {
	if result == crossing.Waiting {
		return
	}
	code := ""
	if f != nil {
		code = string(f.Code)
	}
	m.results.WithLabelValues(result, code).Inc()
}

var (
	waitingDesc = prometheus.NewDesc("innergate_crossings_waiting", "Crossings in progress.", nil, nil)
	countDesc   = prometheus.NewDesc("innergate_records", "Records by kind.", []string{"kind"}, nil)
	droppedDesc = prometheus.NewDesc("innergate_traces_dropped_total", "Traces dropped because too many came at once.", nil, nil)
	readyDesc   = prometheus.NewDesc("innergate_ready", "1 if the database answers.", nil, nil)
)

// Metrics gives what is to be scraped.
func (g *Gate) Metrics() prometheus.Gatherer {
	now := prometheus.NewRegistry()
	now.MustRegister(stateCollector{g})
	return prometheus.Gatherers{g.metrics.registry, now}
}

// stateCollector reads the state at the moment of a scrape.
type stateCollector struct{ g *Gate }

// Describe names the figures.
func (c stateCollector) Describe(ch chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{waitingDesc, countDesc, droppedDesc, readyDesc} {
		ch <- d
	}
}

// Collect reads the figures.
func (c stateCollector) Collect(ch chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(c.g.ctx, 5*time.Second)
	defer cancel()
	gauge := func(d *prometheus.Desc, n int64, labels ...string) {
		ch <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, float64(n), labels...)
	}
	gauge(waitingDesc, int64(c.g.crossings.waiting()))
	s, err := c.g.store.Stats(ctx, c.g.now())
	if err != nil {
		gauge(readyDesc, 0)
		return
	}
	gauge(readyDesc, 1)
	gauge(countDesc, s.Sessions, "session")
	gauge(countDesc, s.Persons, "person")
	gauge(countDesc, s.Providers, "provider")
	gauge(countDesc, s.Applications, "application")
	ch <- prometheus.MustNewConstMetric(droppedDesc, prometheus.CounterValue, float64(s.TracesDropped))
}
