package driving

import (
	"github.com/prometheus/client_golang/prometheus"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/finding"
)

// results counts how crossings ended. No label names a person.
type results struct{ *prometheus.CounterVec }

func newResults() results {
	return results{prometheus.NewCounterVec(prometheus.CounterOpts{Name: "innergate_crossings_total",
		Help: "Crossings that ended, by result and finding."}, []string{"result", "finding"})}
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
