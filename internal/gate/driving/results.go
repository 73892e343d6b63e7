package driving

import (
	"strconv"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/finding"
)

// results counts how crossings ended, and times what providers were asked behind the
// browser. No label names a person.
type results struct {
	*prometheus.CounterVec
	calls *prometheus.HistogramVec
}

func newResults() results {
	return results{prometheus.NewCounterVec(prometheus.CounterOpts{Name: "innergate_crossings_total",
		Help: "Crossings that ended, by result and finding."}, []string{"result", "finding"}),
		prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "innergate_provider_call_seconds",
			Help:    "Calls to providers behind the browser, by provider, request, and HTTP status or finding.",
			Buckets: []float64{0.05, 0.25, 1, 2.5, 10}}, []string{"provider", "request", "outcome"})}
}

// Describe names the figures.
func (r results) Describe(ch chan<- *prometheus.Desc) {
	r.CounterVec.Describe(ch)
	r.calls.Describe(ch)
}

// Collect gives them.
func (r results) Collect(ch chan<- prometheus.Metric) {
	r.CounterVec.Collect(ch)
	r.calls.Collect(ch)
}

// called notes a call that has ended.
func (r results) called(provider, request string, status int, f *finding.Finding, took time.Duration) {
	outcome := strconv.Itoa(status)
	if f != nil {
		outcome = string(f.Code)
	}
	r.calls.WithLabelValues(provider, request, outcome).Observe(took.Seconds())
}

// count notes the end of a crossing.
func (r results) count(result string, f *finding.Finding) {
	if result == crossing.Waiting {
		return
	}
	code := ""
	if f != nil {
		code = string(f.Code)
	}
	r.WithLabelValues(result, code).Inc()
}
