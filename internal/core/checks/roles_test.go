package checks_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/crossing/samlside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/saml"
)

// What is odd about roles, and about asking for entry, is found once each; what is in order is not.
func TestChecksOfRoles(t *testing.T) {
	of := []finding.Code{finding.RoleUnsent, finding.RoleBroken, finding.RoleValuesAlike, finding.RequestUnmailed}
	sends := profile.Mapping{Rules: []profile.Rule{{To: profile.Target{Name: "role"},
		From: []profile.Source{{Role: true}}}}}
	for name, c := range map[string]struct {
		app   federation.ApplicationSettings
		owner string
		mails bool
		roles map[string][]any // values, by order
		want  []finding.Code
	}{
		"no roles": {},
		"sent": {app: federation.ApplicationSettings{ReleaseMapping: sends},
			roles: map[string][]any{"1": {"reader"}, "2": {"writer", "reader"}}},
		"sent to nobody": {roles: map[string][]any{"1": {"reader"}}, want: []finding.Code{finding.RoleUnsent}},
		"alike but for case": {app: federation.ApplicationSettings{ReleaseMapping: sends},
			roles: map[string][]any{"1": {"reader"}, "2": {"Reader"}}, want: []finding.Code{finding.RoleValuesAlike}},
		"not to be read": {app: federation.ApplicationSettings{ReleaseMapping: sends},
			roles: map[string][]any{"first": {"reader"}}, want: []finding.Code{finding.RoleBroken}},
		"asked, and mailed": {app: federation.ApplicationSettings{AskForEntry: true},
			owner: "Edda Lunn; edda@wrenmoor.example", mails: true},
		"asked, by name only": {app: federation.ApplicationSettings{AskForEntry: true}, owner: "Edda Lunn", mails: true,
			want: []finding.Code{finding.RequestUnmailed}},
		"without a server": {app: federation.ApplicationSettings{AskForEntry: true},
			owner: "Edda Lunn <edda@wrenmoor.example>", want: []finding.Code{finding.RequestUnmailed}},
	} {
		a := &federation.Application{Side: &samlside.Application{SP: &saml.SP{EntityID: "urn:roster"}},
			ApplicationSettings: c.app}
		a.ID, a.Name, a.Phase, a.Everyone, a.Owner = "roster", "roster", federation.Live, "yes", c.owner
		snap := federation.Load(federation.Gate{Mails: c.mails}).With(a)
		for order, values := range c.roles {
			o, err := federation.Roles.Plain(federation.Name("r-" + order)).Apply(federation.Settings{"title": "t",
				"application": "roster", "order": order, "values": values})
			require.NoError(t, err)
			snap = snap.With(o)
		}
		var got []finding.Code
		for _, f := range checks.New(snap, now).Record(a) {
			for _, code := range of {
				if f.Code == code {
					got = append(got, code)
				}
			}
		}
		require.Equal(t, c.want, got, name)
	}
}
