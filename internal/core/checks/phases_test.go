package checks_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/crossing/samlside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/listed"
	"innergate.example/innergate/internal/core/saml"
)

// A pilot that stands still, or that includes everybody, is found; a change that has come counts as one that is
// written.
func TestChecksOfPilots(t *testing.T) {
	of := []finding.Code{finding.PilotStands, finding.CohortEverybody}
	for name, c := range map[string]struct {
		r     federation.Rollout
		since time.Duration // ago
		want  []finding.Code
	}{
		"live": {federation.Rollout{Phase: federation.Live, Cohort: listed.ParseWords("share:100")},
			40 * 24 * time.Hour, nil},
		"young": {federation.Rollout{Phase: federation.Pilot, Cohort: listed.ParseWords("share:10")},
			29 * 24 * time.Hour, nil},
		"standing": {federation.Rollout{Phase: federation.Pilot, Cohort: listed.ParseWords("share:10")},
			31 * 24 * time.Hour, []finding.Code{finding.PilotStands}},
		"everybody": {federation.Rollout{Phase: federation.Pilot, Cohort: listed.ParseWords("share:100")}, 0,
			[]finding.Code{finding.CohortEverybody}},
		"every address": {federation.Rollout{Phase: federation.Pilot, Cohort: listed.ParseWords("network:::/0")}, 0,
			[]finding.Code{finding.CohortEverybody}},
		"live by a moment": {federation.Rollout{Phase: federation.Pilot, Cohort: listed.ParseWords("share:100"),
			NextPhase: federation.Live, NextAt: now.Format(time.RFC3339)}, 0, nil},
		"a moment to come": {federation.Rollout{Phase: federation.Pilot, Cohort: listed.ParseWords("share:100"),
			NextPhase: federation.Live, NextAt: now.Add(time.Hour).Format(time.RFC3339)}, 0,
			[]finding.Code{finding.CohortEverybody}},
	} {
		a := &federation.Application{Side: &samlside.Application{SP: &saml.SP{EntityID: "urn:roster"}}}
		a.ID, a.Name, a.Everyone, a.Rollout = "roster", "roster", "yes", c.r
		if c.since > 0 {
			a.Before.Since = now.Add(-c.since)
		}
		var got []finding.Code
		for _, f := range checks.New(federation.Load(federation.Gate{}).With(a), now).Record(a) {
			for _, code := range of {
				if f.Code == code {
					got = append(got, code)
				}
			}
		}
		require.Equal(t, c.want, got, name)
	}
}
