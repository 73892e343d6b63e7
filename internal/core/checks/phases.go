package checks

import (
	"net/netip"
	"slices"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
)

// pilotStands is how long a pilot may go on without being widened.
const pilotStands = 30 * 24 * time.Hour

// pilot looks at a record that is in its pilot.
func (c *Checker) pilot(l *List, r federation.Record) {
	b := r.Basic()
	phase, cohort := b.PhaseAt(c.Now)
	if phase != federation.Pilot {
		return
	}
	if cohort.Share == 100 || slices.ContainsFunc(cohort.Networks, func(n netip.Prefix) bool { return n.Bits() == 0 }) {
		l.Add(finding.New(finding.CohortEverybody))
	}
	if since := b.Before.Since; !since.IsZero() && c.Now.Sub(since) > pilotStands {
		l.Add(finding.New(finding.PilotStands, finding.Fact("Since", since.UTC().Format(time.RFC3339))))
	}
}
