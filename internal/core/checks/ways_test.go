package checks_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/crossing/samlside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/listed"
	"innergate.example/innergate/internal/core/saml"
)

// What is odd about rules of provider selection, and about domains, is found once each; what is in order is not.
func TestChecksOfWays(t *testing.T) {
	of := []finding.Code{finding.WayShadowed, finding.WayDead, finding.WayUnused, finding.WayNever, finding.DomainPaused}
	all := func(s federation.Settings) federation.Settings { s["title"] = "t"; return s }
	staff := all(federation.Settings{"order": "5", "providers": []any{"staff"}})
	for name, c := range map[string]struct {
		rules   map[string]federation.Settings
		domains string // of depot, which is paused
		want    []finding.Code
	}{
		"none":        {nil, "", nil},
		"one for all": {map[string]federation.Settings{"a": staff}, "", []finding.Code{finding.WayUnused}},
		"both are used": {map[string]federation.Settings{"a": all(federation.Settings{"providers": []any{"staff", "club"}})},
			"", nil},
		"a rule after one for all": {map[string]federation.Settings{"a": staff,
			"b": all(federation.Settings{"order": "6", "networks": []any{"192.0.2.0/24"}, "providers": []any{"club"}})}, "",
			[]finding.Code{finding.WayShadowed}},
		"before it": {map[string]federation.Settings{"a": staff,
			"b": all(federation.Settings{"order": "1", "networks": []any{"192.0.2.0/24"}, "providers": []any{"club"}})}, "",
			nil},
		"of another application": {map[string]federation.Settings{"a": all(federation.Settings{"order": "1",
			"applications": []any{"roster"}, "providers": []any{"club"}}),
			"b": all(federation.Settings{"order": "6", "applications": []any{"planner"}, "providers": []any{"club"}})}, "",
			nil},
		"nobody is live": {map[string]federation.Settings{"a": all(federation.Settings{"networks": []any{"192.0.2.0/24"},
			"providers": []any{"depot"}})}, "",
			[]finding.Code{finding.WayDead}},
		"of one that is tied": {map[string]federation.Settings{"a": all(federation.Settings{"applications": []any{"tied"},
			"providers": []any{"staff", "club"}})}, "",
			[]finding.Code{finding.WayNever}},
		"of that and another": {map[string]federation.Settings{"a": all(federation.Settings{"applications": []any{"tied",
			"roster"},
			"providers": []any{"staff", "club"}})}, "", nil},
		"not to be read": {map[string]federation.Settings{"a": all(federation.Settings{"order": "first",
			"providers": []any{"staff", "club"}})}, "",
			[]finding.Code{finding.WayDead}},
		"a paused domain": {nil, "depot.example", []finding.Code{finding.DomainPaused}},
		"one of two":      {nil, "club.example", nil},
	} {
		snap := federation.Load(federation.Gate{})
		for _, a := range []federation.Name{"roster", "planner", "tied"} {
			app := &federation.Application{Side: &samlside.Application{SP: &saml.SP{EntityID: saml.EntityID("urn:" + a)}}}
			app.ID, app.Name, app.Phase, app.Everyone = federation.ID(a), a, federation.Live, "yes"
			if a == "tied" {
				app.Provider = "staff"
			}
			snap = snap.With(app)
		}
		var records []federation.Record
		for _, n := range []federation.Name{"staff", "club", "depot"} {
			p := &federation.Provider{Side: &samlside.Provider{IDP: &saml.IDP{EntityID: saml.EntityID("urn:" + n)}}}
			p.Name, p.Title, p.Phase = n, string(n), federation.Live
			switch n {
			case "depot":
				p.Phase, p.Domains = federation.Paused, listed.ParseWords(c.domains)
			case "club":
				p.Domains = listed.ParseWords("club.example")
			}
			snap, records = snap.With(p), append(records, p)
		}
		for rule, s := range c.rules {
			p := federation.SelectionRules.Plain(federation.Name(rule))
			p.Said = s
			snap = snap.Having([]federation.Object{p}, nil)
		}
		ch, got := checks.New(snap, now), []finding.Code{}
		found := ch.Gate()
		for _, r := range records {
			found = append(found, ch.Record(r)...)
		}
		for _, f := range found {
			for _, code := range of {
				if f.Code == code {
					got = append(got, code)
				}
			}
		}
		require.ElementsMatch(t, c.want, got, name)
	}
}
