package policy_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing/samlside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/listed"
	"innergate.example/innergate/internal/core/policy"
	"innergate.example/innergate/internal/core/saml"
)

// app is an application with a rollout.
func app(r federation.Rollout) *federation.Application {
	a := &federation.Application{Side: &samlside.Application{SP: &saml.SP{EntityID: "urn:roster",
		ACS: []saml.Endpoint{{Binding: saml.BindingPOST, Location: "https://roster.example/acs"}}}}}
	a.ID, a.Name, a.Title, a.Rollout = "id", "roster", "Roster", r
	return a
}

// Who passes is decided by phase, cohort and the moment; a clock that jumps changes nothing for good.
func TestPhasesAndCohorts(t *testing.T) {
	snap := house(t)
	next := now.Add(time.Hour)
	pilot := func(words string) federation.Rollout {
		return federation.Rollout{Phase: federation.Pilot, Cohort: listed.ParseWords(words)}
	}
	opening := pilot("group:drivers")
	opening.NextPhase, opening.NextAt = federation.Live, next.Format(time.RFC3339)
	driver := policy.Subject{Person: 7, Groups: names("drivers")}
	for _, c := range []struct {
		rule string
		r    federation.Rollout
		who  policy.Subject
		at   time.Time
		want finding.Code // "" passes
	}{
		{"live lets pass", federation.Rollout{Phase: federation.Live}, policy.Subject{}, now, ""},
		{"draft does not", federation.Rollout{Phase: federation.Draft}, driver, now, finding.ApplicationDisabled},
		{"nor does retired", federation.Rollout{Phase: federation.Retired}, driver, now, finding.ApplicationDisabled},
		{"a group of the cohort", pilot("group:drivers"), driver, now, ""},
		{"one around it", pilot("group:operations"), driver, now, ""},
		{"another one", pilot("group:contractors"), driver, now, finding.NotInCohort},
		{"by number", pilot("person:7"), driver, now, ""},
		{"an organisation", pilot("organisation:oakhollow"), policy.Subject{Organisations: names("oakhollow")}, now, ""},
		{"a network", pilot("network:192.0.2.0/24"), policy.Subject{Network: "192.0.2.9"}, now, ""},
		{"nobody who is not known", pilot("group:drivers share:99"), policy.Subject{}, now, finding.NotInCohort},
		{"everybody in a share of all", pilot("share:100"), driver, now, ""},
		{"before the moment", opening, policy.Subject{}, next.Add(-time.Second), finding.NotInCohort},
		{"from it on", opening, policy.Subject{}, next, ""},
		{"a clock that jumps back", opening, policy.Subject{}, next.Add(-24 * time.Hour), finding.NotInCohort},
	} {
		_, err := policy.OpenTo(snap, app(c.r), &c.who, c.at)
		if c.want == "" {
			require.NoError(t, err, c.rule)
		} else {
			require.True(t, finding.Is(err, c.want), "%s: %v", c.rule, err)
		}
	}

	// A share is stable, and a larger one holds the smaller.
	in := func(share int) (out map[int64]bool) {
		out = map[int64]bool{}
		for n := int64(1); n <= 1000; n++ {
			who := policy.Subject{Person: n}
			_, err := policy.OpenTo(snap, app(pilot(fmt.Sprint("share:", share))), &who, now)
			out[n] = err == nil
		}
		return out
	}
	ten, thirty, n := in(10), in(30), 0
	for person, is := range ten {
		require.False(t, is && !thirty[person])
		if is {
			n++
		}
	}
	require.InDelta(t, 100, n, 40)
}

// Cohorts and moments that cannot be are told with the way out.
func TestRolloutsThatCannotBe(t *testing.T) {
	for _, c := range []struct {
		field, says string
		r           federation.Rollout
	}{
		{"cohort", "a pilot of nobody", federation.Rollout{Phase: federation.Pilot}},
		{"cohort", "from share:1 to share:100", federation.Rollout{Phase: federation.Pilot,
			Cohort: listed.ParseWords("share:101")}},
		{"cohort", "no network", federation.Rollout{Phase: federation.Pilot, Cohort: listed.ParseWords("network:x")}},
		{"cohort", "says nobody", federation.Rollout{Phase: federation.Pilot, Cohort: listed.ParseWords("drivers")}},
		{"cohort", "names no person", federation.Rollout{Phase: federation.Live, Cohort: listed.ParseWords("person:x")}},
		{"phase", "no phase", federation.Rollout{Phase: "lve"}},
		{"nextPhase", "no phase", federation.Rollout{Phase: federation.Live, NextAt: "2027-01-31T06:00:00Z"}},
		{"nextAt", "from when on", federation.Rollout{Phase: federation.Live, NextPhase: federation.Live}},
		{"nextAt", "no moment with a time zone", federation.Rollout{Phase: federation.Live, NextPhase: federation.Live,
			NextAt: "2027-01-31 06:00"}},
		{"nextAt", "no moment with a time zone", federation.Rollout{Phase: federation.Live, NextPhase: federation.Live,
			NextAt: "2027-01-31 06:00 Europe/Nowhere"}},
		{"nextAt", "put forward", federation.Rollout{Phase: federation.Live, NextPhase: federation.Live,
			NextAt: "2027-03-28 02:30 Europe/Berlin"}},
		{"nextAt", "happens twice", federation.Rollout{Phase: federation.Live, NextPhase: federation.Live,
			NextAt: "2027-10-31 02:30 Europe/Berlin"}},
	} {
		err := federation.Check(app(c.r))
		var se *federation.SettingError
		require.ErrorAs(t, err, &se, c.says)
		require.Equal(t, c.field, se.Field, c.says)
		require.ErrorContains(t, err, c.says)
	}
	at, err := federation.Moment("2027-01-31 06:00 Europe/Berlin")
	require.NoError(t, err)
	require.Equal(t, "2027-01-31T05:00:00Z", at.Format(time.RFC3339))
}
