package checks_test

import (
	"slices"
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
	of := []finding.Code{finding.AccessEmpty, finding.RuleEnded, finding.RuleShadowed, finding.RuleBroken,
		finding.AccessUndecided, finding.AdmissionEnded,
		finding.RuleContradicts, finding.RuleNever, finding.RuleValueUnknown, finding.DomainPublic}
	for rule, c := range map[string]struct {
		everyone string
		rules    map[string]federation.Settings
		want     []finding.Code
	}{
		"no rules":                       {"", nil, []finding.Code{finding.AccessUndecided}},
		"no rules, and it was decided":   {"yes", nil, nil},
		"a default that nobody comes to": {"", map[string]federation.Settings{"a": {"then": "allow"}}, nil},
		"covered by one that has more groups": {"yes", map[string]federation.Settings{"a": {"then": "deny",
			"groups": []any{"operations", "depots"}},
			"b": {"then": "deny", "groups": []any{"drivers"}, "networks": []any{"192.0.2.0/24"}}},
			[]finding.Code{finding.RuleShadowed}},
		"not covered by members alone": {"yes", map[string]federation.Settings{"a": {"then": "deny",
			"groups": []any{"operations"}, "alone": true},
			"b": {"then": "allow", "groups": []any{"drivers"}}}, nil},
		"not covered by a narrower network": {"yes", map[string]federation.Settings{"a": {"then": "deny",
			"networks": []any{"192.0.2.0/25"}},
			"b": {"then": "allow", "networks": []any{"192.0.2.0/24"}}}, nil},
		"not covered by one that ends": {"yes", map[string]federation.Settings{"a": {"then": "deny",
			"groups": []any{"drivers"}, "until": "2099-01-01"},
			"b": {"then": "allow", "groups": []any{"drivers"}}}, nil},
		"the same people, another word": {"yes", map[string]federation.Settings{"a": {"then": "deny",
			"groups": []any{"drivers"}},
			"b": {"then": "allow", "groups": []any{"drivers"}}}, []finding.Code{finding.RuleContradicts}},
		"a provider that is not the application's": {"yes", map[string]federation.Settings{"a": {"then": "deny",
			"providers": []any{"club"}}}, []finding.Code{finding.RuleNever}},
		"a user type that somebody has": {"yes", map[string]federation.Settings{"a": {"then": "deny",
			"userTypes": []any{"contractor"}}}, nil},
		"a user type that nobody has": {"yes", map[string]federation.Settings{"a": {"then": "deny",
			"userTypes": []any{"contracter"}}}, []finding.Code{finding.RuleValueUnknown}},
		"an attribute that people have": {"yes", map[string]federation.Settings{"a": {"then": "deny",
			"when": "size(attributes.department) == 0"}}, nil},
		"an attribute that nobody has": {"yes", map[string]federation.Settings{"a": {"then": "deny",
			"when": "size(attributes.departement) == 0"}}, []finding.Code{finding.RuleValueUnknown}},
		"nobody": {"no", nil, []finding.Code{finding.AccessEmpty}},
		"nobody but some": {"no", map[string]federation.Settings{"a": {"then": "allow",
			"people": []any{"1"}}}, nil},
		"one that has ended": {"no", map[string]federation.Settings{"a": {"then": "allow",
			"until": "2020-01-01"}}, []finding.Code{finding.AccessEmpty, finding.RuleEnded}},
		"one behind that is about all": {"yes", map[string]federation.Settings{"a": {"then": "allow"},
			"b": {"then": "deny", "people": []any{"1"}}}, []finding.Code{finding.RuleShadowed}},
		"all are denied": {"yes", map[string]federation.Settings{"a": {"then": "deny"},
			"b": {"then": "allow", "people": []any{"1"}}}, []finding.Code{finding.AccessEmpty, finding.RuleShadowed}},
		"all until a day": {"yes", map[string]federation.Settings{"a": {"then": "deny",
			"until": "2099-01-01"}, "b": {"then": "allow", "people": []any{"1"}}}, nil},
		"one that cannot be read": {"yes", map[string]federation.Settings{"a": {"then": "allow",
			"networks": []any{"here"}}}, []finding.Code{finding.RuleBroken}},
		"a step-up lets somebody enter": {"no", map[string]federation.Settings{"a": {"then": "step-up",
			"maxAge": "30m"}}, nil},
		"one of the gate has ended": {"yes", map[string]federation.Settings{"gate": {"then": "deny",
			"until": "2020-01-01"}}, []finding.Code{finding.RuleEnded}},
		"one of the gate cannot be read": {"yes", map[string]federation.Settings{"gate": {"then": "allow",
			"networks": []any{"here"}}},
			[]finding.Code{finding.RuleBroken}},
		"one of the gate, behind another": {"yes", map[string]federation.Settings{"gate-a": {"then": "allow"},
			"gate-b": {"then": "allow", "people": []any{"1"}}},
			[]finding.Code{finding.RuleShadowed}},
		"the gate denies all": {"yes", map[string]federation.Settings{"gate": {"then": "deny"}, "a": {"then": "allow"}},
			[]finding.Code{finding.AccessEmpty, finding.RuleContradicts}},
	} {
		app := &federation.Application{Side: &samlside.Application{SP: &saml.SP{EntityID: "urn:roster"}}}
		app.Name, app.Phase, app.Everyone, app.Provider = "roster", federation.Live, c.everyone, "staff"
		snap := federation.Load(federation.Gate{}, app)
		for name, inside := range map[federation.Name]federation.Name{"operations": "", "depots": "",
			"drivers": "operations"} {
			snap = snap.With(&federation.Unit{Kind: federation.KindGroup, Name: name, Title: "G", Inside: inside,
				UserType: "contractor"})
		}
		for name, s := range c.rules {
			if s["title"] = name; !strings.HasPrefix(name, "gate") {
				s["application"] = "roster"
			}
			p := federation.AccessRules.Plain(federation.Name(name))
			p.Said = s
			snap = snap.Having([]federation.Object{p}, nil)
		}
		got := []finding.Code{}
		c2 := checks.New(snap, now)
		c2.Kept.Attributes = []string{"department"}
		for _, f := range append(c2.Record(app), c2.Gate()...) {
			for _, ev := range f.Evidence {
				if ev.Label == "Nearest" {
					require.Contains(t, []string{"contractor", "department"}, ev.Found, rule)
				}
			}
			for _, code := range of {
				if f.Code == code {
					got = append(got, code)
				}
			}
		}
		require.ElementsMatch(t, c.want, got, rule)
	}
}

// Admissions let somebody in, and end; a public domain is none of an organisation's.
func TestChecksOfAdmissions(t *testing.T) {
	app := &federation.Application{Side: &samlside.Application{SP: &saml.SP{EntityID: "urn:roster"}}}
	app.ID, app.Name, app.Phase, app.Everyone = "id", "roster", federation.Live, "no"
	public, err := federation.ReadMailDomains("# anybody's\npost.example # a remark\n\n")
	require.NoError(t, err)
	_, err = federation.ReadMailDomains("post.example\nno domain\n")
	require.ErrorContains(t, err, "line 2")
	org := &federation.Unit{Kind: federation.KindOrganisation, Name: "club", Title: "Club",
		Domains: []string{"post.example"}}
	for admissions, want := range map[string][]finding.Code{"": {finding.AccessEmpty}, "drivers=yes": {},
		"drivers=no":                           {finding.AccessEmpty},
		"drivers=2020-01-01":                   {finding.AccessEmpty, finding.AdmissionEnded},
		"drivers=2020-01-01 depots=2099-01-01": {finding.AdmissionEnded}} {
		a := app.Copy().(*federation.Application)
		require.NoError(t, a.Admissions.UnmarshalJSON([]byte(`"`+admissions+`"`)))
		snap := federation.Load(federation.Gate{PublicMail: public}, a, org)
		c := checks.New(snap, now)
		got := []finding.Code{}
		for _, f := range c.Record(a) {
			if f.Code == finding.AccessEmpty || f.Code == finding.AdmissionEnded {
				got = append(got, f.Code)
			}
		}
		require.ElementsMatch(t, want, got, admissions)
		c.Kept.Admitted = map[federation.ID]bool{"id": true}
		require.False(t, slices.ContainsFunc(c.Record(a),
			func(f *finding.Finding) bool { return f.Code == finding.AccessEmpty }), "people are admitted")
		require.True(t, slices.ContainsFunc(c.Gate(),
			func(f *finding.Finding) bool { return f.Code == finding.DomainPublic }))
		require.ErrorContains(t, snap.CheckUnit(org), "anybody can have an address")
	}
}
