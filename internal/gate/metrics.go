package gate

import (
	"context"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
)

var (
	waitingDesc = prometheus.NewDesc("innergate_crossings_waiting", "Crossings in progress.", nil, nil)
	countDesc   = prometheus.NewDesc("innergate_records", "Records by kind.", []string{"kind"}, nil)
	droppedDesc = prometheus.NewDesc("innergate_traces_dropped_total", "Traces dropped because too many came at once.",
		nil, nil)
	readyDesc = prometheus.NewDesc("innergate_ready", "1 if the database answers.", nil, nil)
)

// Metrics gives what is to be scraped.
func (g *Gate) Metrics() prometheus.Gatherer {
	r := prometheus.NewRegistry()
	r.MustRegister(g.Crossings.Results(), stateCollector{g}, collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return r
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
	gauge(waitingDesc, int64(c.g.Crossings.Waiting()))
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
