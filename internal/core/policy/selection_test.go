package policy_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing/samlside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/listed"
	"innergate.example/innergate/internal/core/policy"
	"innergate.example/innergate/internal/core/saml"
)

// ways is a gate with providers staff, oakhollow, club and depot, of which the last one is paused.
func ways(t testing.TB) *federation.Snapshot {
	snap := house(t)
	for name, domains := range map[federation.Name]string{"staff": "wrenmoor.example .staff.wrenmoor.example",
		"oakhollow": "oakhollow.example", "club": "",
		"depot": "depot.example", "training": "wrenmoor.example"} {
		p := &federation.Provider{Side: &samlside.Provider{IDP: &saml.IDP{EntityID: saml.EntityID("urn:" + string(name))}}}
		p.Name, p.Title, p.Phase, p.Domains = name, string(name), federation.Live, listed.ParseWords(domains)
		if name == "depot" {
			p.Phase = federation.Paused
		}
		snap = snap.With(p)
	}
	return snap
}

func selection(t testing.TB, snap *federation.Snapshot, name string, s federation.Settings) *federation.Plain {
	if s["title"] == nil {
		s["title"] = name
	}
	o, err := federation.SelectionRules.Plain(federation.Name(name)).Apply(s)
	require.NoError(t, err, name)
	require.NoError(t, federation.SelectionRules.Check(snap, o.(*federation.Plain)), name)
	return o.(*federation.Plain)
}

func TestProviderSelection(t *testing.T) {
	plain := ways(t)
	snap := plain
	for name, s := range map[string]federation.Settings{
		"office": {"order": "10", "applications": words("roster"), "networks": words("192.0.2.0/24"),
			"providers": words("staff")},
		"contractors": {"order": "20", "applications": words("roster"), "domains": words(".oakhollow.example"),
			"providers": words("oakhollow")},
		"drivers": {"order": "30", "applications": words("roster"), "groups": words("operations"),
			"providers": words("training")},
		"hinted": {"order": "40", "applications": words("roster"), "hints": words("urn:card"),
			"providers": words("staff", "training")},
		"ask":  {"order": "10", "applications": words("planner"), "ask": true},
		"two":  {"order": "10", "applications": words("desk"), "providers": words("club", "staff")},
		"dead": {"order": "10", "applications": words("dead"), "providers": words("depot")},
	} {
		snap = snap.With(selection(t, snap, name, s))
	}
	driver := &policy.Subject{Groups: []federation.Name{"drivers"}}
	all := "club oakhollow staff training"
	for _, c := range []struct {
		rule, app string
		a         policy.Asking
		want      string // providers; with ? where the address is asked for first
		by        string
	}{
		{"without rules all that are open", "other", policy.Asking{}, all, ""},
		{"a hint chooses among them", "other", policy.Asking{Hints: []string{"urn:oakhollow"}}, "oakhollow", ""},
		{"and so does a domain", "other", policy.Asking{Address: "mina@Oakhollow.example"}, "oakhollow", ""},
		{"of two providers of a domain the person chooses", "other", policy.Asking{Address: "ada@wrenmoor.example"},
			"staff training", ""},
		{"sub-domains by choice", "other", policy.Asking{Address: "ada@a.staff.wrenmoor.example"}, "staff", ""},
		{"a domain that is nobody's leads to the default", "other", policy.Asking{Address: "x@post.example"}, all, ""},
		{"one of a provider that is closed, too", "other", policy.Asking{Address: "x@depot.example"}, all, ""},
		{"the network decides before", "roster", policy.Asking{Network: "192.0.2.7"}, "staff", "office"},
		{"a rule about domains asks for the address", "roster", policy.Asking{}, "?" + all, ""},
		{"and is about whoever has it", "roster", policy.Asking{Address: "mina@rail.oakhollow.example"}, "oakhollow",
			"contractors"},
		{"others are not meant", "roster", policy.Asking{Address: "ada@wrenmoor.example"}, "staff training", ""},
		{"of somebody who is known by who they are", "roster", policy.Asking{Known: driver, Whole: true}, "training",
			"drivers"},
		{"nobody is asked who is known", "roster", policy.Asking{Known: &policy.Subject{}, Whole: true}, all, ""},
		{"a pick beyond the rule does not count", "roster", policy.Asking{Network: "192.0.2.7", Chosen: "club"}, "staff",
			"office"},
		{"a pick among several does", "desk", policy.Asking{Chosen: "staff"}, "staff", "two"},
		{"several in the order of the rule", "desk", policy.Asking{}, "club staff", "two"},
		{"hints of the application", "roster", policy.Asking{Address: "x@post.example", Hints: []string{"urn:card"}},
			"staff training", "hinted"},
		{"the page asks first", "planner", policy.Asking{}, "?" + all, "ask"},
		{"a button in place of the address", "planner", policy.Asking{Chosen: "club"}, "club", "ask"},
		{"a user name has no domain", "roster", policy.Asking{Whole: true}, all, ""},
		{"and is not asked for again", "planner", policy.Asking{Whole: true}, all, "ask"},
		{"the address says which one", "planner", policy.Asking{Address: "mina@oakhollow.example"}, "oakhollow", "ask"},
	} {
		app := &federation.Application{}
		app.Name = federation.Name(c.app)
		got, err := policy.Select(snap, app, c.a, now)
		require.NoError(t, err, c.rule)
		names := strings.ReplaceAll(federation.Listed(got.Providers), ",", "")
		if got.Address {
			names = "?" + names
		}
		require.Equal(t, c.want, names, c.rule)
		by := ""
		if got.Rule != nil {
			by = string(got.Rule.Name)
		}
		require.Equal(t, c.by, by, c.rule)
	}
	app := &federation.Application{}
	app.Name = "dead"
	_, err := policy.Select(snap, app, policy.Asking{}, now)
	require.True(t, finding.Is(err, finding.NoProvider), "nobody is sent to another way in silence")
	app.Name, app.Provider = "roster", "club"
	got, err := policy.Select(snap, app, policy.Asking{Network: "192.0.2.7", Chosen: "staff"}, now)
	require.NoError(t, err)
	require.Equal(t, []federation.Name{"club"}, got.Providers, "the record forces one")
	require.Equal(t, "Whoever wants to enter roster and is in the network 192.0.2.0/24 comes by staff.",
		policy.WaySentence(snap.Ways("roster").Rules[0]))
	require.Equal(t, "Whoever wants to enter planner is asked for their address first.",
		policy.WaySentence(snap.Ways("planner").Rules[0]))

	for field, s := range map[string]federation.Settings{"domains": {"providers": words("staff"),
		"domains": words("no domain")}, "providers": {},
		"ask": {"ask": true, "domains": words("a.example")}, "order": {"order": "x", "providers": words("staff")},
		"networks": {"providers": words("staff"), "networks": words("192.0.2.1/24")}} {
		s["title"] = "T"
		o, err := federation.SelectionRules.Plain("x").Apply(s)
		require.NoError(t, err)
		var se *federation.SettingError
		require.ErrorAs(t, federation.SelectionRules.Check(snap, o.(*federation.Plain)), &se)
		require.Equal(t, field, se.Field)
	}
}

// Domains are compared as IDNA has them.
func TestMailDomainsAsTheyAreTyped(t *testing.T) {
	for text, want := range map[string]string{"Wrenmoor.EXAMPLE": "wrenmoor.example",
		"wrenmoor.example.": "wrenmoor.example",
		".züge.example":     ".xn--zge-hoa.example", " oakhollow.example ": "oakhollow.example"} {
		d, err := federation.ParseMailDomain(text)
		require.NoError(t, err, text)
		require.Equal(t, want, d.String())
	}
	for _, text := range []string{"", ".", "@wrenmoor.example", "wrenmoor", "*.wrenmoor.example", "a b.example",
		strings.Repeat("a.", 200) + "example"} {
		_, err := federation.ParseMailDomain(text)
		require.Error(t, err, text)
	}
}

func BenchmarkSelect(b *testing.B) {
	snap := ways(b)
	var put []federation.Object
	for i := range 1000 {
		put = append(put, selection(b, snap, fmt.Sprint("r-", i), federation.Settings{"order": fmt.Sprint(i),
			"domains": words(fmt.Sprintf("d-%d.example", i)), "providers": words("oakhollow")}))
	}
	p, _ := snap.Provider("staff")
	many := p.Copy().(*federation.Provider)
	for i := range 10000 {
		many.Domains = append(many.Domains, fmt.Sprintf("m-%d.example", i))
	}
	snap = snap.Having(append(put, many), nil)
	app := &federation.Application{}
	app.Name = "roster"
	for b.Loop() {
		if _, err := policy.Select(snap, app, policy.Asking{Address: "x@m-777.example"}, now); err != nil {
			b.Fatal(err)
		}
	}
}
