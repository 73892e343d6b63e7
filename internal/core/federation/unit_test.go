package federation

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func aGroup(name, inside string, values ...string) *Unit {
	return &Unit{Kind: KindGroup, Name: Name(name), Title: name, Inside: Name(inside), Values: values}
}

// Groups are found by what providers call them, in any case; whoever is in one is in all
// that it lies in; a change gives another snapshot and leaves the old one alone.
func TestUnitsOfASnapshot(t *testing.T) {
	before := NewSnapshot(Gate{}).With(aGroup("rail", ""), aGroup("operations", "rail"),
		aGroup("drivers", "operations", "CN=Drivers,OU=Rail"),
		&Unit{Kind: KindOrganisation, Name: "oakhollow", Title: "O", Providers: []Name{"p"},
			Domains: []string{"oakhollow.example"}, Groups: []Name{"drivers"}})
	for value, want := range map[string]Name{"drivers": "drivers", "DRIVERS": "drivers", "cn=drivers,ou=rail": "drivers",
		"cn=drivers": "", "": ""} {
		g, ok := before.GroupCalled(value)
		require.Equal(t, want != "", ok, value)
		if ok {
			require.Equal(t, want, g.Name)
		}
	}
	require.Equal(t, []Name{"drivers", "operations", "rail"}, before.Around([]Name{"drivers", "rail", "gone"}))
	require.Equal(t, []Name{"drivers", "operations", "rail"}, before.Within("rail"))
	require.Equal(t, []Name{"operations"}, before.Inside("rail"))
	require.Equal(t, []Name{"oakhollow"}, before.LandingIn("drivers"))
	o, _ := before.OrganisationAt("OakHollow.example")
	require.Equal(t, Name("oakhollow"), o.Name)

	drivers, _ := before.Unit(KindGroup, "drivers")
	after := before.Having([]Object{aGroup("operations", "", "OPS")}, []Object{drivers})
	_, there := after.Unit(KindGroup, "drivers")
	require.False(t, there)
	_, there = before.Unit(KindGroup, "drivers")
	require.True(t, there)
	require.Empty(t, after.Inside("rail"))
	_, there = before.GroupCalled("ops")
	require.False(t, there)
	require.Len(t, after.Units(KindOrganisation), 1)
	require.Same(t, o, after.Units(KindOrganisation)[0], "what is unchanged is shared")
}

// What cannot be is refused with the field and the way out.
func TestUnitsAreChecked(t *testing.T) {
	snap := NewSnapshot(Gate{}).With(aGroup("a", "", "A-1"), aGroup("b", "a"), aGroup("c", "b"),
		&Unit{Kind: KindOrganisation, Name: "o", Title: "O", Domains: []string{"o.example"}})
	deep := snap
	for i := range deepest {
		inside := ""
		if i > 0 {
			inside = fmt.Sprint("d", i-1)
		}
		deep = deep.With(aGroup(fmt.Sprint("d", i), inside))
	}
	for _, c := range []struct {
		snap  *Snapshot
		unit  Unit
		field string
		say   string
	}{
		{snap, *aGroup("x", "c", "X-1"), "", ""},
		{snap, *aGroup("a", "c"), "inside", "a in c in b in a"},
		{snap, *aGroup("a", "a"), "inside", "inside itself"},
		{snap, *aGroup("x", "d"), "inside", `there is no group "d"`},
		{deep, *aGroup("x", fmt.Sprint("d", deepest-1)), "inside", "at most 12"},
		{snap, *aGroup("x", "", "a-1"), "values[0]", "means the group a already"},
		{snap, *aGroup("x", "", "ok", " "), "values[1]", "it is empty"},
		{snap, *aGroup("x", "", "tab\t\x07"), "values[0]", "control characters"},
		{snap, *aGroup("a-1", ""), "name", "means the group a already"},
		{snap, Unit{Kind: KindGroup, Name: "x", Title: " "}, "title", "the title is empty"},
		{snap, Unit{Kind: KindGroup, Name: "x", Title: strings.Repeat("x", 201)}, "title", "at most 200"},
		{snap, Unit{Kind: KindGroup, Name: "x", Title: "x", Providers: []Name{"p"}}, "providers",
			"those of an organisation"},
		{snap, Unit{Kind: KindOrganisation, Name: "x", Title: "x", Values: []string{"v"}}, "inside", "only groups"},
		{snap, Unit{Kind: KindOrganisation, Name: "x", Title: "x", Domains: []string{"o.example"}}, "domains[0]",
			"is the organisation o's already"},
		{snap, Unit{Kind: KindOrganisation, Name: "o", Title: "x", Domains: []string{"o.example", "p.example"}}, "", ""},
		{snap, Unit{Kind: KindOrganisation, Name: "x", Title: "x", Groups: []Name{"a", "bb"}}, "groups[1]",
			`there is no group "bb"`},
		{snap, Unit{Kind: KindOrganisation, Name: "x", Title: "x", UserType: "line\nbreak"}, "userType", ""},
	} {
		err := c.snap.CheckUnit(&c.unit)
		if c.field == "" {
			require.NoError(t, err, "%v", c.unit)
			continue
		}
		var se *SettingError
		require.ErrorAs(t, err, &se, "%v", c.unit)
		require.Equal(t, c.field, se.Field)
		require.ErrorContains(t, err, c.say)
	}
}
