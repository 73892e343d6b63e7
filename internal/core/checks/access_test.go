package checks_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/crossing/samlside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/saml"
)

func TestChecksOfRules(t *testing.T) {
	of := []finding.Code{finding.AccessEmpty, finding.RuleEnded, finding.RuleShadowed, finding.RuleBroken}
	for rule, c := range map[string]struct {
		everyone string
		rules    map[string]federation.Settings
		want     []finding.Code
	}{
		"no rules":                      {"", nil, nil},
		"nobody":                        {"no", nil, []finding.Code{finding.AccessEmpty}},
		"nobody but some":               {"no", map[string]federation.Settings{"a": {"then": "allow", "people": []any{"1"}}}, nil},
		"one that has ended":            {"no", map[string]federation.Settings{"a": {"then": "allow", "until": "2020-01-01"}}, []finding.Code{finding.AccessEmpty, finding.RuleEnded}},
		"one behind that is about all":  {"yes", map[string]federation.Settings{"a": {"then": "allow"}, "b": {"then": "deny", "people": []any{"1"}}}, []finding.Code{finding.RuleShadowed}},
		"all are denied":                {"yes", map[string]federation.Settings{"a": {"then": "deny"}, "b": {"then": "allow", "people": []any{"1"}}}, []finding.Code{finding.AccessEmpty, finding.RuleShadowed}},
		"all until a day":               {"yes", map[string]federation.Settings{"a": {"then": "deny", "until": "2099-01-01"}, "b": {"then": "allow", "people": []any{"1"}}}, nil},
		"one that cannot be read":       {"yes", map[string]federation.Settings{"a": {"then": "allow", "networks": []any{"here"}}}, []finding.Code{finding.RuleBroken}},
		"a step-up lets somebody enter": {"no", map[string]federation.Settings{"a": {"then": "step-up", "maxAge": "30m"}}, nil},
		"one of the gate has ended":     {"yes", map[string]federation.Settings{"gate": {"then": "deny", "until": "2020-01-01"}}, []finding.Code{finding.RuleEnded}},
		"one of the gate cannot be read": {"yes", map[string]federation.Settings{"gate": {"then": "allow", "networks": []any{"here"}}},
			[]finding.Code{finding.RuleBroken}},
		"one of the gate, behind another": {"yes", map[string]federation.Settings{"gate-a": {"then": "allow"}, "gate-b": {"then": "allow", "people": []any{"1"}}},
			[]finding.Code{finding.RuleShadowed}},
		"the gate denies all": {"yes", map[string]federation.Settings{"gate": {"then": "deny"}, "a": {"then": "allow"}},
			[]finding.Code{finding.AccessEmpty, finding.RuleShadowed}},
	} {
		app := &federation.Application{Side: &samlside.Application{SP: &saml.SP{EntityID: "urn:roster"}}}
		app.Name, app.Phase, app.Everyone = "roster", federation.Live, c.everyone
		snap := federation.Load(federation.Gate{}, app)
		for name, s := range c.rules {
			if s["title"] = name; !strings.HasPrefix(name, "gate") {
				s["application"] = "roster"
			}
			p := federation.AccessRules.Plain(federation.Name(name))
			p.Said = s
			snap = snap.Having([]federation.Object{p}, nil)
		}
		got := []finding.Code{}
		for _, f := range append(checks.New(snap, now).Record(app), checks.New(snap, now).Gate()...) {
			for _, code := range of {
				if f.Code == code {
					got = append(got, code)
				}
			}
		}
		require.ElementsMatch(t, c.want, got, rule)
	}
}
