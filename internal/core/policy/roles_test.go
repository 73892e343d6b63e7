package policy_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/policy"
)

func role(t testing.TB, snap *federation.Snapshot, name string, s federation.Settings) *federation.Plain {
	if s["title"] == nil {
		s["title"] = name
	}
	if s["values"] == nil {
		s["values"] = words("v-" + name)
	}
	s["application"] = "roster"
	o, err := federation.Roles.Plain(federation.Name(name)).Apply(s)
	require.NoError(t, err, name)
	require.NoError(t, federation.Roles.Check(snap, o.(*federation.Plain)), name)
	return o.(*federation.Plain)
}

// Somebody holds the roles that name them, their groups (of nested ones the nearest) and organisations, and those
// whose rule is about them; what of that is sent, and what is asked for, the application says.
func TestRolesAreHeldAndSent(t *testing.T) {
	snap := house(t)
	for name, s := range map[string]federation.Settings{
		"driver":     {"order": "30", "groups": words("drivers"), "values": words("D", "all")},
		"operations": {"order": "20", "groups": words("operations"), "values": words("O", "all")},
		"guest":      {"order": "10", "organisations": words("oakhollow")},
		"boss":       {"order": "40", "people": words("7")},
		"depot": {"order": "50", "userTypes": words("inspector"),
			"when": `attributes.department.exists(d, d == "depot")`},
		"nobody": {"order": "60"},
	} {
		snap = snap.With(role(t, snap, name, s))
	}
	depot := func() policy.Proved { return policy.Proved{Values: map[string][]any{"department": {"depot"}}} }
	unproved := func() policy.Proved { return policy.Proved{Values: map[string][]any{}, Left: []string{"department"}} }
	for _, c := range []struct {
		rule          string
		who           policy.Subject
		app           federation.ApplicationSettings
		roles, values string
		refused       finding.Code
	}{
		{"the nearest of nested groups counts", policy.Subject{Groups: names("drivers")}, federation.ApplicationSettings{},
			"driver", "D all", ""},
		{"of each own group", policy.Subject{Groups: names("drivers", "operations")}, federation.ApplicationSettings{},
			"operations driver", "O all D", ""},
		{"by name, beside their groups'", policy.Subject{Person: 7, Groups: names("drivers")},
			federation.ApplicationSettings{}, "driver boss", "D all v-boss", ""},
		{"an organisation's", policy.Subject{Organisations: names("oakhollow")}, federation.ApplicationSettings{}, "guest",
			"v-guest", ""},
		{"by rule, all of which holds", policy.Subject{UserType: "inspector", Proved: depot},
			federation.ApplicationSettings{}, "depot", "v-depot", ""},
		{"not by one that holds in part", policy.Subject{UserType: "clerk", Proved: depot}, federation.ApplicationSettings{},
			"", "", ""},
		{"nor by values nobody vouches for", policy.Subject{UserType: "inspector", Proved: unproved},
			federation.ApplicationSettings{}, "", "", ""},
		{"the first by place", policy.Subject{Person: 7, Groups: names("drivers")},
			federation.ApplicationSettings{SentRoles: federation.RolesFirst}, "driver", "D all", ""},
		{"nothing is sent before they chose", policy.Subject{Person: 7, Groups: names("drivers")},
			federation.ApplicationSettings{SentRoles: federation.RolesChosen}, "driver boss", "", ""},
		{"one that was chosen", policy.Subject{Person: 7, Groups: names("drivers"), Role: "boss"},
			federation.ApplicationSettings{SentRoles: federation.RolesChosen}, "boss", "v-boss", ""},
		{"one that is asked for goes before the first", policy.Subject{Person: 7, Groups: names("drivers"), Role: "boss"},
			federation.ApplicationSettings{SentRoles: federation.RolesFirst}, "boss", "v-boss", ""},
		{"one of somebody else", policy.Subject{Groups: names("drivers"), Role: "boss"}, federation.ApplicationSettings{},
			"", "", finding.RoleNotHeld},
		{"the outer group's", policy.Subject{Groups: names("drivers"), Role: "operations"}, federation.ApplicationSettings{},
			"", "", finding.RoleNotHeld},
		{"one that there is not", policy.Subject{Groups: names("drivers"), Role: "Driver"}, federation.ApplicationSettings{},
			"", "", finding.RoleNotHeld},
		{"the default of whoever holds none", policy.Subject{}, federation.ApplicationSettings{DefaultRole: "nobody",
			RoleNeeded: true}, "nobody", "v-nobody", ""},
		{"which can be asked for", policy.Subject{Role: "nobody"}, federation.ApplicationSettings{DefaultRole: "nobody"},
			"nobody", "v-nobody", ""},
		{"by nobody else", policy.Subject{Groups: names("drivers"), Role: "nobody"},
			federation.ApplicationSettings{DefaultRole: "nobody"}, "", "", finding.RoleNotHeld},
		{"none enters, where none is needed", policy.Subject{}, federation.ApplicationSettings{}, "", "", ""},
		{"and does not, where one is", policy.Subject{}, federation.ApplicationSettings{RoleNeeded: true}, "", "",
			finding.RoleNone},
		{"a role lets nobody in whom nothing else does", policy.Subject{Groups: names("drivers")},
			federation.ApplicationSettings{Everyone: federation.EveryoneNo}, "", "", finding.AccessNobody},
	} {
		app := &federation.Application{ApplicationSettings: c.app}
		app.Name = "roster"
		got, err := policy.Enter(snap, app, c.who, now)
		if c.refused != "" {
			require.True(t, finding.Is(err, c.refused), "%s: %v", c.rule, err)
			require.Equal(t, federation.Deny, got.Outcome, c.rule)
			continue
		}
		require.NoError(t, err, c.rule)
		require.Equal(t, c.roles, strings.Join(got.RoleNames(), " "), c.rule)
		require.Equal(t, c.values, strings.Join(got.RoleValues(), " "), c.rule)
	}
}

func names(all ...federation.Name) []federation.Name { return all }

// A role that cannot be read any more, or whose condition fails, is held by nobody.
func TestRolesThatCannotBe(t *testing.T) {
	snap := house(t)
	snap = snap.With(role(t, snap, "a", federation.Settings{"when": `int(attributes.floor[0]) > 3`}))
	broken, err := federation.Roles.Plain("b").Apply(federation.Settings{"application": "roster", "title": "b",
		"order": "x", "groups": words("drivers"), "values": words("B")})
	require.NoError(t, err)
	snap = snap.With(broken)
	app := &federation.Application{}
	app.Name = "roster"
	got, err := policy.Enter(snap, app, policy.Subject{Groups: names("drivers")}, now)
	require.NoError(t, err)
	require.Empty(t, got.Roles)
	require.Contains(t, got.Reasons[len(got.Reasons)-1].Text(), "cannot be evaluated")
	require.Equal(t, "Nobody: it cannot be read any more.", policy.RoleSentence(snap.Book("roster").Roles[1]))
}
