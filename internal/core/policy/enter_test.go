package policy_test

import (
	"fmt"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/policy"
)

var now = time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)

// rule makes one that fits.
func rule(t testing.TB, snap *federation.Snapshot, name string, s federation.Settings) *federation.Plain {
	if s["title"] == nil {
		s["title"] = name
	}
	o, err := federation.AccessRules.Plain(federation.Name(name)).Apply(s)
	require.NoError(t, err, name)
	p := o.(*federation.Plain)
	require.NoError(t, federation.AccessRules.Check(snap, p), name)
	return p
}

func words(all ...string) []any {
	out := []any{}
	for _, w := range all {
		out = append(out, w)
	}
	return out
}

// house has groups: drivers in operations, signalling in contractors.
func house(t testing.TB) *federation.Snapshot {
	snap := federation.NewSnapshot(federation.Gate{Contexts: federation.Ranking{{"urn:password"}, {"urn:otp"},
		{"urn:card"}}})
	var put []federation.Object
	for name, inside := range map[string]string{"operations": "", "drivers": "operations", "contractors": "",
		"signalling": "contractors"} {
		put = append(put, &federation.Unit{Kind: federation.KindGroup, Name: federation.Name(name), Title: name,
			Inside: federation.Name(inside)})
	}
	return snap.Having(put, nil)
}

func TestRulesDecideInTheirOrder(t *testing.T) {
	snap := house(t)
	for name, s := range map[string]federation.Settings{
		"banned":     {"then": "deny", "people": words("13"), "say": "Ask the depot lead."},
		"drivers":    {"application": "roster", "order": "20", "then": "allow", "groups": words("drivers")},
		"not-signal": {"application": "roster", "order": "10", "then": "deny", "groups": words("contractors")},
		"but-one": {"application": "roster", "order": "5", "then": "allow", "people": words("9"),
			"until": "2026-12-31"},
		"was-let-in": {"application": "roster", "order": "6", "then": "allow", "people": words("8"),
			"until": "2026-11-28"},
		"alone": {"application": "roster", "order": "30", "then": "allow", "groups": words("operations"),
			"alone": true},
		"card": {"application": "vault", "then": "step-up", "context": "urn:card"},
		"fresh": {"application": "safe", "then": "step-up", "maxAge": "30m",
			"networks": words("192.0.2.0/24", "2001:db8::/48")},
		"inspectors":   {"application": "roster", "order": "40", "then": "allow", "userTypes": words("inspector")},
		"at-the-depot": {"order": "1", "then": "allow", "networks": words("198.51.100.7")},
	} {
		snap = snap.Having([]federation.Object{rule(t, snap, name, s)}, nil)
	}
	for _, c := range []struct {
		rule, app string
		s         policy.Subject
		want      federation.Outcome
		by        string
	}{
		{"a driver enters", "roster", policy.Subject{Person: 1, Groups: []federation.Name{"drivers"}}, federation.Allow,
			"drivers"},
		{"the earlier rule decides", "roster", policy.Subject{Person: 1, Groups: []federation.Name{"drivers", "signalling"}},
			federation.Deny, "not-signal"},
		{"one of them, until a day", "roster", policy.Subject{Person: 9, Groups: []federation.Name{"signalling"}},
			federation.Allow, "but-one"},
		{"an end acts by itself", "roster", policy.Subject{Person: 8, Groups: []federation.Name{"signalling"}},
			federation.Deny, "not-signal"},
		{"denials of the gate come first", "roster", policy.Subject{Person: 13, Groups: []federation.Name{"drivers"}},
			federation.Deny, "banned"},
		{"a group itself", "roster", policy.Subject{Person: 1, Groups: []federation.Name{"operations"}}, federation.Allow,
			"alone"},
		{"rules of the gate come after the application's", "roster", policy.Subject{Person: 2, Network: "198.51.100.7"},
			federation.Allow, "at-the-depot"},
		{"nobody says anything: the default", "roster", policy.Subject{Person: 2}, federation.Deny, ""},
		{"and where everybody may", "open", policy.Subject{Person: 2}, federation.Allow, ""},
		{"a stronger sign-in is asked for", "vault", policy.Subject{Person: 1, Context: "urn:otp"}, federation.StepUp,
			"card"},
		{"a strong one enters", "vault", policy.Subject{Person: 1, Context: "urn:card"}, federation.Allow, "card"},
		{"a fresh one enters", "safe", policy.Subject{Network: "192.0.2.9", At: now.Add(-29 * time.Minute)},
			federation.Allow, "fresh"},
		{"an old one is asked", "safe", policy.Subject{Network: "2001:db8:0:1::/64", At: now.Add(-31 * time.Minute)},
			federation.StepUp, "fresh"},
		{"one of unknown age too", "safe", policy.Subject{Network: "192.0.2.9"}, federation.StepUp, "fresh"},
		{"one who is marked", "roster", policy.Subject{Person: 2, UserType: "inspector"}, federation.Allow, "inspectors"},
		{"another network is not meant", "safe", policy.Subject{Network: "2001:db9::/64"}, federation.Allow, ""},
	} {
		app := &federation.Application{}
		if app.Name = federation.Name(c.app); c.app == "roster" {
			app.Everyone = federation.EveryoneNo
		}
		e, err := policy.Enter(snap, app, c.s, now)
		require.Equal(t, c.want, e.Outcome, c.rule)
		require.Equal(t, c.want == federation.Deny, err != nil, c.rule)
		if c.by == "" {
			require.Nil(t, e.Rule, c.rule)
			continue
		}
		require.EqualValues(t, c.by, e.Rule.Name, c.rule)
		if c.by == "banned" {
			require.True(t, finding.Is(err, finding.AccessDenied))
			require.Contains(t, finding.Of(err).Evidence, finding.Fact("Say", "Ask the depot lead."))
		}
	}
	said := []string{}
	for _, app := range []federation.Name{"roster", "vault", "safe"} {
		for _, r := range snap.Book(app).Rules {
			if r.App != "" {
				said = append(said, policy.Sentence(r))
			}
		}
	}
	require.Equal(t, []string{"Whoever is person 9 enters, until the end of 2026-12-31.",
		"Whoever is person 8 enters, until the end of 2026-11-28.",
		"Whoever is in contractors does not enter.", "Whoever is in drivers enters.",
		"Whoever is in operations itself enters.", "Whoever is marked as inspector enters.",
		"Everybody signs in more strongly first, as strongly as urn:card.",
		"Whoever is in the network 192.0.2.0/24 or 2001:db8::/48 signs in afresh first, if they signed in more than 30 minutes ago."}, said)
}

// Rules that cannot be are refused, with the field.
func TestRulesThatCannotBe(t *testing.T) {
	snap := house(t)
	for _, c := range []struct {
		s          federation.Settings
		field, why string
	}{
		{federation.Settings{"then": "allow", "networks": words("192.0.2.1/24")}, "networks", "192.0.2.0/24"},
		{federation.Settings{"then": "allow", "networks": words("2001:db8::1")}, "networks", "write it like"},
		{federation.Settings{"then": "allow", "networks": words("2001:db8::/96")}, "networks", "finer than /64"},
		{federation.Settings{"then": "allow", "networks": words("::ffff:192.0.2.0/120")}, "networks",
			"IPv4 written as IPv6"},
		{federation.Settings{"then": "allow", "people": words("ada")}, "people", "no number"},
		{federation.Settings{"then": "allow", "from": "2026-12-01", "until": "2026-11-30"}, "until",
			"ends before it begins"},
		{federation.Settings{"then": "allow", "until": "soon"}, "until", "neither a day nor a moment"},
		{federation.Settings{"then": "step-up"}, "context", "give a context, or maxAge"},
		{federation.Settings{"then": "step-up", "context": "urn:eyes"}, "context", "has no rank"},
		{federation.Settings{"then": "step-up", "maxAge": "1s"}, "maxAge", "from 1m"},
		{federation.Settings{"then": "allow", "context": "urn:card"}, "context", "only a step-up"},
		{federation.Settings{"then": "allow", "say": "No."}, "say", "only those who are denied"},
		{federation.Settings{"then": "allow", "order": "first"}, "order", "whole number"},
		{federation.Settings{"then": "allow", "alone": true}, "alone", "none is named"},
		{federation.Settings{}, "then", "allow, deny or step-up"},
	} {
		c.s["title"] = "T"
		o, err := federation.AccessRules.Plain("r").Apply(c.s)
		if err == nil {
			err = federation.AccessRules.Check(snap, o.(*federation.Plain))
		}
		var se *federation.SettingError
		require.ErrorAs(t, err, &se, "%v", c.s)
		require.Equal(t, c.field, se.Field, "%v", err)
		require.ErrorContains(t, err, c.why)
	}
}

// Admissions stand between the application's rules and those of the gate; the nearest that says something counts.
func TestAdmissions(t *testing.T) {
	snap := house(t)
	app := &federation.Application{}
	app.Name, app.Everyone = "roster", federation.EveryoneNo
	for _, g := range [][2]federation.Name{{"night", "drivers"}, {"day", "drivers"}} {
		snap = snap.With(&federation.Unit{Kind: federation.KindGroup, Name: g[0], Title: "g", Inside: g[1]})
	}
	snap = snap.With(rule(t, snap, "not-sam", federation.Settings{"application": "roster", "then": "deny",
		"people": words("7")}),
		rule(t, snap, "gate-allows", federation.Settings{"then": "allow", "people": words("8")}))
	given := &federation.Admission{}
	ended := &federation.Admission{Until: now.Add(-time.Second)}
	for _, c := range []struct {
		rule, admissions string
		s                policy.Subject
		want             federation.Outcome
		ground           string
	}{
		{"a group that lies in one that is admitted", "operations=yes", policy.Subject{Groups: []federation.Name{"night"}},
			federation.Allow, "admission operations"},
		{"the nearest wins", "operations=yes drivers=no", policy.Subject{Groups: []federation.Name{"night"}},
			federation.Deny, "admission drivers"},
		{"the nearest wins, the other way", "operations=no night=yes", policy.Subject{Groups: []federation.Name{"night"}},
			federation.Allow, "admission night"},
		{"of two as near, being kept out wins", "day=no night=yes", policy.Subject{Groups: []federation.Name{"night",
			"day"}}, federation.Deny, "admission day"},
		{"until a moment", "drivers=2026-11-29", policy.Subject{Groups: []federation.Name{"drivers"}}, federation.Allow,
			"admission drivers"},
		{"one that has ended says nothing", "drivers=2026-11-28 operations=yes",
			policy.Subject{Groups: []federation.Name{"drivers"}}, federation.Allow, "admission operations"},
		{"the person's own is the nearest", "drivers=no", policy.Subject{Groups: []federation.Name{"drivers"},
			Admitted: given}, federation.Allow, "admission"},
		{"unless it has ended", "drivers=no", policy.Subject{Groups: []federation.Name{"drivers"}, Admitted: ended},
			federation.Deny, "admission drivers"},
		{"rules of the application come before", "drivers=yes", policy.Subject{Person: 7, Admitted: given}, federation.Deny,
			"rule not-sam"},
		{"rules of the gate after", "drivers=no", policy.Subject{Person: 8, Groups: []federation.Name{"drivers"}},
			federation.Deny, "admission drivers"},
		{"and where it says nothing they decide", "drivers=no", policy.Subject{Person: 8}, federation.Allow,
			"rule gate-allows"},
		{"else the default", "drivers=yes", policy.Subject{Groups: []federation.Name{"contractors"}}, federation.Deny,
			"default"},
	} {
		app.Admissions = nil
		require.NoError(t, app.Admissions.UnmarshalJSON([]byte(strconv.Quote(c.admissions))), c.rule)
		with := snap.Having([]federation.Object{stored(app)}, nil)
		e, err := policy.Enter(with, app, c.s, now)
		require.Equal(t, c.want, e.Outcome, c.rule)
		require.Equal(t, c.ground, e.Ground(), c.rule)
		require.Equal(t, c.want == federation.Deny, err != nil, c.rule)
		if c.want == federation.Deny && e.By == policy.ByAdmission {
			require.True(t, finding.Is(err, finding.AccessKeptOut), c.rule)
		}
		for _, j := range policy.Judge(with, app, c.s, now) {
			if j.About {
				require.Equal(t, [2]string{string(e.By), string(e.Outcome)}, [2]string{string(j.By), string(j.Then)}, c.rule)
				break
			}
		}
	}
	for text, why := range map[string]string{"drivers=soon": "neither yes, no", "drivers=yes drivers=no": "twice",
		"=yes": "no name"} {
		var a federation.Admissions
		require.NoError(t, a.UnmarshalJSON([]byte(strconv.Quote(text))))
		broken := app.Copy().(*federation.Application)
		broken.Admissions, broken.Side, broken.Title, broken.Phase = a, side{}, "T", federation.Live
		require.ErrorContains(t, federation.Check(broken), why, text)
	}
}

// stored is an application as a snapshot has it.
func stored(a *federation.Application) *federation.Application {
	c := *a
	c.Side = side{}
	return &c
}

// side is the protocol of an application of which no protocol is asked.
type side struct{ federation.ApplicationSide }

func (side) Protocol() string                                        { return "none" }
func (side) Identity() string                                        { return "" }
func (side) Shared() federation.Sharing                              { return federation.Alone }
func (side) Missing() []federation.Lack                              { return nil }
func (side) Check(*federation.Application) error                     { return nil }
func (s side) Can() federation.Abilities                             { return federation.Abilities{} }
func (side) Named(*federation.Gate, federation.Name) federation.Side { return side{} }

// Conditions on attributes see values that are proved, and tell what was left out; one that fails denies.
func TestConditionsOnAttributes(t *testing.T) {
	snap := house(t)
	app := &federation.Application{}
	app.Name, app.Everyone = "roster", federation.EveryoneNo
	proved := func() policy.Proved {
		return policy.Proved{Subject: "ada", Values: map[string][]any{"department": {"depot"}, "costCenter": {}},
			Left: []string{"costCenter"}}
	}
	for _, c := range []struct {
		rule, when string
		want       federation.Outcome
		why        string // of what is looked at
	}{
		{"a proved value counts", `attributes.department.exists(d, d == "depot")`, federation.Allow, ""},
		{"another does not", `attributes.department.exists(d, d == "office")`, federation.Deny, "department is depot"},
		{"the provider's name for them", `subject == "ada"`, federation.Allow, ""},
		{"what nobody vouches for decides nothing", `attributes.costCenter.exists(c, c == "7")`, federation.Deny,
			"costCenter that nobody vouches for"},
		{"an attribute that is not there is empty", `size(attributes.title) == 0`, federation.Allow, ""},
		{"a condition that fails denies", `attributes.title[0] == "x"`, federation.Deny, "cannot be evaluated"},
	} {
		with := snap.With(rule(t, snap, "r", federation.Settings{"application": "roster", "then": "allow", "when": c.when}))
		who := policy.Subject{Person: 1, Proved: proved}
		e, err := policy.Enter(with, app, who, now)
		require.Equal(t, c.want, e.Outcome, c.rule)
		require.Equal(t, c.want == federation.Deny, err != nil)
		require.Contains(t, policy.Judge(with, app, who, now)[0].Why, c.why, c.rule)
		if c.when[0] == 'a' && strings.Contains(c.when, "costCenter") {
			require.Contains(t, e.Reasons[0].Text(), "costCenter", "the trace names what was left out")
		}
	}
}

// A rule that cannot be read any more denies whoever it may be about, also where some of its networks can be read.
func TestABrokenRuleDeniesWhomItMayBeAbout(t *testing.T) {
	app := &federation.Application{}
	app.Name, app.Everyone = "roster", "yes"
	snap := house(t).With(stored(app))
	broken, err := federation.AccessRules.Plain("of-before").Apply(federation.Settings{"application": "roster",
		"then": "allow", "title": "Of before", "groups": []any{}, "networks": words("192.0.2.0/24", "the depot")})
	require.NoError(t, err)
	snap = snap.Having([]federation.Object{broken}, nil)
	for _, network := range []string{"192.0.2.7", "198.51.100.7", ""} {
		got, err := policy.Enter(snap, app, policy.Subject{Network: network}, now)
		require.True(t, finding.Is(err, finding.AccessDenied), network)
		require.Equal(t, federation.Name("of-before"), got.Rule.Name)
	}
}

// Over random rules, admissions and people: what the index finds decides as going through all of them does.
func TestTheIndexFindsWhatAllRulesSay(t *testing.T) {
	r := rand.New(rand.NewPCG(28, 1))
	groups, contexts := []string{"operations", "drivers", "contractors", "signalling"},
		[]string{"urn:password", "urn:otp", "urn:card"}
	some := func(all []string) []any {
		out := []any{}
		for _, w := range all {
			if r.IntN(3) == 0 {
				out = append(out, w)
			}
		}
		return out
	}
	for range 300 {
		snap := house(t)
		for i := range 1 + r.IntN(12) {
			s := federation.Settings{"then": []string{"allow", "deny"}[r.IntN(2)], "order": fmt.Sprint(r.IntN(5)),
				"groups": some(groups),
				"people": []any{}, "contexts": some(contexts), "networks": some([]string{"192.0.2.0/24", "192.0.2.7",
					"192.0.0.0/9", "2001:db8::/48", "2001:db8:0:2::/64", "2001:db8:0:3::/64", "0.0.0.0/0"}), "userTypes": []any{}, "providers": []any{}}
			for name, all := range map[string][]string{"people": {"1", "2", "3"}, "userTypes": {"inspector", "guest"},
				"providers": {"staff", "partner"}} {
				if r.IntN(3) == 0 {
					s[name] = some(all)
				}
			}
			if r.IntN(3) == 0 {
				s["groups"] = []any{}
			}
			if r.IntN(2) == 0 {
				s["application"] = "roster"
			}
			if s["alone"] = false; len(s["groups"].([]any)) > 0 {
				s["alone"] = r.IntN(3) == 0
			}
			snap = snap.Having([]federation.Object{rule(t, snap, fmt.Sprint("r", i), s)}, nil)
		}
		app := &federation.Application{}
		app.Name, app.Everyone = "roster", []string{"", "yes", "no"}[r.IntN(3)]
		for _, g := range some(groups) {
			app.Admissions = app.Admissions.With(federation.Name(g.(string)), &federation.Admission{Out: r.IntN(2) == 0})
		}
		snap = snap.With(stored(app))
		for range 20 {
			who := policy.Subject{Person: int64(r.IntN(5)), Context: contexts[r.IntN(3)],
				UserType: []string{"inspector", "guest", ""}[r.IntN(3)], Provider: []federation.Name{"staff", "partner",
					""}[r.IntN(3)],
				Network: []string{"192.0.2.7", "192.0.2.8", "2001:db8:0:2::/64", ""}[r.IntN(4)]}
			for _, g := range some(groups) {
				who.Groups = append(who.Groups, federation.Name(g.(string)))
			}
			if r.IntN(4) == 0 {
				who.Admitted = &federation.Admission{Until: now.Add(time.Duration(r.IntN(3)-1) * time.Hour)}
			}
			var first *policy.Judged
			for _, j := range policy.Judge(snap, app, who, now) {
				if j.About {
					first = &j
					break
				}
				require.NotEmpty(t, j.Why)
			}
			got, err := policy.Enter(snap, app, who, now)
			require.Equal(t, first.Then, got.Outcome)
			require.Equal(t, first.By, got.By)
			require.Equal(t, first.Then == federation.Deny, err != nil)
			if first.Rule != nil {
				require.Equal(t, first.Rule.Name, got.Rule.Name)
			}
		}
	}
}

func BenchmarkEnter(b *testing.B) {
	snap := federation.NewSnapshot(federation.Gate{Contexts: federation.Ranking{{"urn:password"}}})
	var put []federation.Object
	for i := range 2000 {
		put = append(put, &federation.Unit{Kind: federation.KindGroup, Name: federation.Name(fmt.Sprint("g-", i)),
			Title: "g"})
	}
	for i := range 1000 {
		put = append(put, rule(b, snap, fmt.Sprint("r-", i), federation.Settings{"then": "deny", "application": "roster",
			"order":  fmt.Sprint(i),
			"groups": words(fmt.Sprint("g-", i)), "networks": words("192.0.2.0/24")}))
	}
	for i := range 5 {
		put = append(put, rule(b, snap, fmt.Sprint("c-", i), federation.Settings{"then": "deny", "application": "roster",
			"order": fmt.Sprint(i * 200),
			"when":  fmt.Sprintf("attributes.department.exists(d, d == 'd-%d')", i)}))
	}
	for i := range 200 {
		put = append(put, role(b, snap, fmt.Sprint("as-", i), federation.Settings{"groups": words(fmt.Sprint("g-", i*10))}))
	}
	snap = snap.Having(put, nil)
	app, who := &federation.Application{}, policy.Subject{Person: 1, Network: "198.51.100.1"}
	proved := policy.Proved{Values: map[string][]any{"department": {"depot"}}}
	who.Proved = func() policy.Proved { return proved }
	app.Name = "roster"
	for i := range 200 {
		who.Groups = append(who.Groups, federation.Name(fmt.Sprint("g-", i*10)))
	}
	for b.Loop() {
		if got, err := policy.Enter(snap, app, who, now); err != nil || len(got.Roles) != 200 {
			b.Fatal(len(got.Roles), err)
		}
	}
}
