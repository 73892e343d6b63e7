package gate

import (
	"context"
	"crypto/x509"
	"math"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"

	"innergate.example/innergate/internal/core/rehearsal"
)

var (
	waitingDesc = prometheus.NewDesc("innergate_crossings_waiting", "Crossings in progress.", nil, nil)
	noticesDesc = prometheus.NewDesc("innergate_notices",
		"What applications are to be told behind the browser: waiting for an answer, "+
			"or unanswered after three tries.", []string{"state"}, nil)
	countDesc   = prometheus.NewDesc("innergate_records", "Records by kind.", []string{"kind"}, nil)
	droppedDesc = prometheus.NewDesc("innergate_traces_dropped_total", "Traces dropped because too many came at once.",
		nil, nil)
	daysDesc = prometheus.NewDesc("innergate_certificate_days_left", "Days until the certificate of a key ends: "+
		"of the gate's own by purpose, and of records that have less than 90 left.", []string{"kind", "name"}, nil)
	passedDesc = prometheus.NewDesc("innergate_rehearsal_passed",
		"1 if the newest run of a rehearsal passed, 0 if it failed or stopped.", []string{"rehearsal"}, nil)
	tookDesc = prometheus.NewDesc("innergate_rehearsal_seconds",
		"How long the sign-in of the newest run of a rehearsal took.", []string{"rehearsal"}, nil)
	ranDesc = prometheus.NewDesc("innergate_rehearsal_timestamp_seconds", "When the newest run of a rehearsal ended.",
		[]string{"rehearsal"}, nil)
	readyDesc = prometheus.NewDesc("innergate_ready", "1 if the database answers and takes what is written.", nil, nil)
)

// Metrics gives what is to be scraped.
func (g *Gate) Metrics() prometheus.Gatherer {
	r := prometheus.NewRegistry()
	r.MustRegister(g.Crossings.Results(), g.Redeeming.Results(), stateCollector{g}, collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return r
}

// stateCollector reads the state at the moment of a scrape.
type stateCollector struct{ g *Gate }

// Describe names the figures.
func (c stateCollector) Describe(ch chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{waitingDesc, countDesc, droppedDesc, readyDesc, daysDesc, noticesDesc,
		passedDesc, tookDesc, ranDesc} {
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
	for state, count := range map[string]func(context.Context) (int64, error){"waiting": c.g.Outbox.Waits,
		"unanswered": c.g.Outbox.Failing} {
		if n, err := count(ctx); err == nil {
			gauge(noticesDesc, n, state)
		}
	}
	s, err := c.g.store.Stats(ctx, c.g.now())
	if err != nil {
		gauge(readyDesc, 0)
		return
	}
	ready := int64(1)
	if c.g.store.Failing() {
		ready = 0
	}
	gauge(readyDesc, ready)
	gauge(countDesc, s.Sessions, "session")
	gauge(countDesc, s.Persons, "person")
	gauge(countDesc, s.Providers, "provider")
	gauge(countDesc, s.Applications, "application")
	c.certificates(gauge)
	c.rehearsals(ctx, ch)
	ch <- prometheus.MustNewConstMetric(droppedDesc, prometheus.CounterValue, float64(s.TracesDropped))
}

// rehearsals tells what the newest run of each rehearsal came to.
func (c stateCollector) rehearsals(ctx context.Context, ch chan<- prometheus.Metric) {
	last, err := c.g.Rehearsals.Last(ctx)
	if err != nil {
		return
	}
	for _, r := range last {
		passed := 0.0
		if r.State == string(rehearsal.Passed) {
			passed = 1
		}
		for d, n := range map[*prometheus.Desc]float64{passedDesc: passed, tookDesc: float64(r.Took) / 1000,
			ranDesc: float64(r.Ended.Unix())} {
			ch <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, n, r.Rehearsal)
		}
	}
}

// soon is how near the end of a record's certificate has to be for a figure of its
// own, in days.
const soon = 90

// certificates tells how many days certificates have left.
func (c stateCollector) certificates(gauge func(d *prometheus.Desc, n int64, labels ...string)) {
	snap, now := c.g.Snapshot(), c.g.now()
	days := func(x *x509.Certificate) int64 { return int64(math.Floor(x.NotAfter.Sub(now).Hours() / 24)) }
	for purpose, set := range snap.Gate.Keys {
		if set.Current != nil && set.Current.Certificate.X509 != nil {
			gauge(daysDesc, days(set.Current.Certificate.X509), "gate", purpose)
		}
	}
	for _, r := range snap.Records() {
		least := int64(soon)
		for _, k := range r.Part().Keys() {
			if x := k.Certificate.X509; x != nil {
				least = min(least, days(x))
			}
		}
		if least < soon {
			gauge(daysDesc, least, string(r.Kind()), string(r.Basic().Name))
		}
	}
}
