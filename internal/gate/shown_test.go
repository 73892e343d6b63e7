package gate

import (
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/comparing"
	"innergate.example/innergate/internal/gate/driving"
	"innergate.example/innergate/internal/gate/people"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/redeeming"
	"innergate.example/innergate/internal/gate/traces"
)

// trial makes up configurations and people, by a seed.
type trial struct {
	*rig
	rand   *rand.Rand
	app    string
	secret string // of the client
	scopes string // that it asks for
}

func (x *trial) chance(of int) bool { return x.rand.IntN(of) == 0 }

func (x *trial) some(of ...string) (out []string) {
	for _, s := range of {
		if x.chance(2) {
			out = append(out, s)
		}
	}
	return out
}

// saves changes settings, whatever that does to people.
func (x *trial) saves(kind, name string, s federation.Settings) {
	x.t.Helper()
	by := tester
	_, err := x.Records.Configure(ctx, by, kind, name, 0, s)
	if f := finding.Of(err); f != nil && toConfirm(err) != "" {
		by.Confirms = toConfirm(err)
		_, err = x.Records.Configure(ctx, by, kind, name, 0, s)
	}
	require.NoError(x.t, err)
}

// rules are some of a pool, as a mapping.
func (x *trial) rules(pool ...string) map[string]any {
	var m map[string]any
	require.NoError(x.t, json.Unmarshal([]byte(`{"rules":[`+strings.Join(x.some(pool...), ",")+`],"rest":`+
		fmt.Sprint(x.chance(3))+`}`), &m))
	if len(m["rules"].([]any)) == 0 {
		return map[string]any{}
	}
	return m
}

// configure makes up what both records say.
func (x *trial) configure() {
	x.app = []string{"roster", "planner"}[x.rand.IntN(2)]
	x.saves(change.KindProvider, "staff", federation.Settings{"intakeMapping": x.rules(
		`{"to":{"name":"title"},"from":[{"attribute":"title"}],"steps":[{"do":"upper"}],"keep":"person"}`,
		`{"to":{"name":"emails"},"from":[{"attribute":"mail"}],"steps":[{"do":"lower"}]}`,
		`{"to":{"name":"displayName"},"from":[{"attribute":"cn"}]}`),
		"update": []string{"", "department", "emails:once"}[x.rand.IntN(3)]})
	x.saves(change.KindApplication, x.app, federation.Settings{"releaseMapping": x.rules(
		`{"to":{"name":"team"},"from":[{"attribute":"groups"}]}`,
		`{"to":{"name":"email"},"from":[{"attribute":"emails"},{"attribute":"mail"}]}`,
		`{"to":{"name":"number"},"from":[{"attribute":"employeeNumber"}],"mandatory":true}`,
		`{"to":{"name":"unit"},"from":[{"attribute":"department"},{"constant":"none"}]}`,
		`{"to":{"name":"job"},"from":[{"attribute":"title"}]}`)})
	x.scopes = strings.Join(append([]string{"openid"}, x.some("profile", "email", "groups", "offline_access")...), " ")
	if x.app == "planner" {
		x.saves(change.KindApplication, x.app, federation.Settings{"claimsIn": []string{"", "idToken",
			"both"}[x.rand.IntN(3)],
			"scopes": []string{"", "profile email", "groups offline_access email"}[x.rand.IntN(3)], "askConsent": x.chance(2)})
	}
}

// came is what a sign-in came to: what the application found where, or why it did not.
type came struct {
	told    map[string]string
	refused finding.Code
	agrees  bool // the person is asked to agree first
}

// signsIn has somebody come, and looks at what the application is told.
func (x *trial) signsIn(name string, attributes []saml.Attribute, looks func(came, string)) {
	x.clock.set(x.clock.get().Add(time.Second))
	edit := func(a *saml.Answer) {
		a.NameID = saml.NameID{Format: saml.FormatPersistent, Value: name}
		a.Attributes = attributes
	}
	if x.app == "roster" {
		o := x.request(driving.Browser{}, nil)
		o = x.answer(keep(driving.Browser{}, o), x.asked(o).ID, edit)
		out := came{told: map[string]string{}}
		if o.Finding != nil {
			out.refused = o.Finding.Code
		} else {
			a, _ := x.rig.said(o)
			for _, at := range a.Attributes {
				out.told["assertion "+at.Name] = fmt.Sprint(at.Values)
			}
		}
		looks(out, o.Reference)
		return
	}
	o := x.authorize(driving.Browser{}, "scope", x.scopes)
	b := keep(driving.Browser{}, o)
	o = x.answer(b, x.asked(o).ID, edit)
	b = keep(b, o)
	out := came{told: map[string]string{}, agrees: o.Page == crossing.PageAgree}
	reference, crossingID := o.Reference, o.Crossing
	if o.Finding != nil {
		out.refused = o.Finding.Code
		looks(out, reference)
		return
	}
	if out.agrees { // looked at before and after
		looks(came{agrees: true}, reference)
		o = x.Crossings.Submit(ctx, b, crossingID, url.Values{"agree": {"yes"}, "digest": {o.Agree.Digest}})
	}
	got, err := x.Redeeming.Token(ctx, caller(redemption(x.back(o).Get("code")), "planner", x.secret))
	require.NoError(x.t, err)
	info, err := x.Redeeming.UserInfo(ctx, redeeming.Caller{}, got.AccessToken)
	require.NoError(x.t, err)
	for place, claims := range map[string]map[string]any{"ID token": x.claims(got.IDToken, oidc.IDToken),
		"user-info": info} {
		for claim, v := range claims {
			if !oidc.Reserved(claim) && claim != "at_hash" && claim != "sub" {
				out.told[place+" "+claim] = inText(v)
			}
		}
	}
	looks(came{told: out.told}, reference)
}

func inText(v any) string {
	if list, ok := v.([]any); ok {
		return fmt.Sprint(list)
	}
	return fmt.Sprint([]any{v})
}

// tells is what a trial says in the same form.
func tells(m crossing.Mapped) came {
	out := came{told: map[string]string{}, agrees: m.Consent != nil}
	if m.Refused != nil {
		out.refused = m.Refused.Code
	}
	for _, d := range m.Told {
		for _, place := range strings.Split(d.Place, " and ") {
			out.told[place+" "+d.Name] = fmt.Sprint(d.Values)
		}
	}
	return out
}

// What is shown is what is done: a sign-in, a trial of it, what is said to be told at the next
// one, the comparison of accounts and re-evaluation say the same, whatever the configuration and
// the person. Taken one input away, each of them would say something else.
func TestWhatIsShownIsWhatIsDone(t *testing.T) {
	r := newRig(t)
	x := &trial{rig: r, rand: rand.New(rand.NewPCG(7, 26))}
	x.secret = r.client("planner", nil, nil).Shown
	for _, g := range []string{"drivers", "controllers"} {
		_, err := r.Records.PutUnit(ctx, tester, federation.Unit{Kind: federation.KindGroup, Name: federation.Name(g),
			Title: g})
		require.NoError(t, err)
	}
	const many, rounds = 20, 25
	numbers := map[string]int64{}
	for i := range many {
		name := fmt.Sprintf("n-%d", i)
		n := people.NewPerson{Provider: "staff", Subject: profile.Subject{Format: string(saml.FormatPersistent),
			Value: name},
			Edit: people.Edit{Values: map[string][]string{"displayName": {"P " + name}}}}
		if x.chance(2) {
			n.Values["employeeNumber"] = []string{fmt.Sprintf("W-%d", 1000+i)}
		}
		if x.chance(2) {
			n.Values["department"] = []string{"kept " + name}
		}
		for _, g := range x.some("drivers", "controllers") {
			n.Join = append(n.Join, people.Belongs{Kind: federation.KindGroup, Name: g})
		}
		p, err := r.People.Add(ctx, tester, n)
		require.NoError(t, err)
		numbers[name] = p.ID
	}
	other := map[string]int{} // inputs without which something else was said, how often
	for round := range rounds {
		x.configure()
		told := map[int64]map[string]string{}
		for i := range many {
			name := fmt.Sprintf("n-%d", i)
			number := numbers[name]
			var brings []saml.Attribute
			for _, at := range x.some("mail", "title", "cn", "department") {
				brings = append(brings, saml.Attribute{Name: at, Values: saml.Texts(at + " of " + name)})
			}
			x.signsIn(name, brings, func(got came, reference string) {
				told[number] = x.holds(got, reference, number, fmt.Sprint("round ", round, ", ", name), other)
			})
		}
		x.compared(told, round)
	}
	for _, input := range []string{"kept values", "groups", "scopes", "consent"} {
		require.NotZero(t, other[input], "without %s nothing differs, so nothing is held together by it: %v", input, other)
	}
}

// holds sees that all ways of telling say what the sign-in did.
func (x *trial) holds(got came, reference string, number int64, where string, other map[string]int) map[string]string {
	t, snap := x.t, x.Snapshot()
	app, err := x.Records.Application(x.app)
	require.NoError(t, err)
	same := func(say came, how string) {
		t.Helper()
		require.Equal(t, got.refused, say.refused, "%s: %s", where, how)
		require.Equal(t, got.agrees, say.agrees, "%s: %s", where, how)
		if got.refused == "" && !got.agrees {
			require.Equal(t, got.told, say.told, "%s: %s", where, how)
		}
	}
	byTrace, err := x.Traces.Try(ctx, snap, traces.Trial{Trace: reference})
	require.NoError(t, err)
	say := tells(byTrace.Mapped)
	say.agrees = got.agrees && say.agrees // that it was asked before stands in the trace
	same(say, "trial of the sign-in")
	next, err := x.Traces.OfPerson(ctx, snap, traces.Whom{Person: number, App: app})
	require.NoError(t, err)
	m, err := crossing.Try(next)
	require.NoError(t, err)
	same(tells(m), "told at the next one")
	then, now, err := x.Traces.Replay(ctx, snap, reference)
	require.NoError(t, err)
	require.True(t, now[len(now)-1].Alike(then[len(then)-1]), where)
	for input, without := range map[string]func(crossing.Trial) crossing.Trial{
		"kept values": func(t crossing.Trial) crossing.Trial { t.Person.Values = nil; return t },
		"groups":      func(t crossing.Trial) crossing.Trial { t.Person.Members = nil; return t },
		"scopes":      func(t crossing.Trial) crossing.Trial { t.Own = nil; return t },
		"consent":     func(t crossing.Trial) crossing.Trial { t.Agreed = nil; return t },
	} {
		m, err := crossing.Try(without(next))
		require.NoError(t, err)
		if say := tells(m); say.refused != got.refused || say.agrees != got.agrees || !maps.Equal(say.told, got.told) {
			other[input]++
		}
	}
	return got.told
}

// compared sees that a comparison of accounts holds them against what was told.
func (x *trial) compared(told map[int64]map[string]string, round int) {
	identifiers := map[string]bool{}
	for _, of := range told {
		for key := range of {
			identifiers[key[strings.LastIndex(key, " ")+1:]] = true
		}
	}
	for identifier := range identifiers {
		c, err := x.Comparing.Compare(ctx, tester, comparing.Wish{App: x.app, Column: "account", Identifier: identifier,
			Document: []byte("account\nnobody\n")}, noProgress{})
		require.NoError(x.t, err, "%v", identifiers)
		for _, l := range c.Lines {
			want := ""
			for key, v := range told[l.Person] {
				if strings.HasSuffix(key, " "+identifier) {
					want = strings.TrimPrefix(v, "[")
				}
			}
			if l.Person != 0 && identifier != "email_verified" && !slices.Contains([]string{"updated_at"}, identifier) {
				require.True(x.t, l.Value == "" && want == "" || l.Value != "" && strings.HasPrefix(want, l.Value),
					"round %d, %s of %d: compared %q, told %q", round, identifier, l.Person, l.Value, want)
			}
		}
	}
}

type noProgress struct{}

func (noProgress) Set(int64)   {}
func (noProgress) Total(int64) {}

// What recorded sign-ins would come to is told for those who were matched in them, too; what
// cannot be told is said to be so, and being asked is not being refused.
func TestReevaluationOfTheMatched(t *testing.T) {
	r := newRig(t)
	r.staff(federation.Settings{"matchBy": "emails", "vouchesFor": "wrenmoor.example"})
	require.NoError(t, r.maps(change.KindApplication, "roster",
		`{"to":{"name":"number"},"from":[{"attribute":"employeeNumber"}],"mandatory":true}`))
	r.knows("emails=edda@wrenmoor.example", "employeeNumber=W-1015", "displayName=Edda Marsh")
	o, _ := r.brings("n-1", "mail=edda@wrenmoor.example", "userName=edda")
	a, _ := r.said(o)
	require.Equal(t, "W-1015", a.Attributes[0].Values[0].Text)
	tried, err := r.Traces.Try(ctx, r.Snapshot(), traces.Trial{Trace: o.Reference})
	require.NoError(t, err)
	require.Nil(t, tried.Refused)
	require.Equal(t, "W-1015", tried.Told[0].Values[0].String())
	for rule, c := range map[string]struct {
		set                      federation.Settings
		alike, untold, held, sum int
		cause                    string
	}{
		"nothing":       {federation.Settings{"title": "Staff"}, 1, 0, 0, 0, ""},
		"match by":      {federation.Settings{"matchBy": "userName"}, 0, 1, 0, 0, "look up people by other values"},
		"NameID format": {federation.Settings{"askNameIdFormat": "transient"}, 0, 1, 0, 0, "asked for something else"},
		"asked":         {federation.Settings{"askFor": "nickName"}, 0, 0, 1, 0, ""},
	} {
		before, after, err := r.Records.Propose(records.Proposed{Changes: []records.SettingChange{{Kind: change.KindProvider,
			Name:     "staff",
			Settings: c.set}}})
		require.NoError(t, err, rule)
		got, err := r.Traces.Reevaluate(ctx, before, after, traces.Which{}, func(int64) {})
		require.NoError(t, err)
		require.Equal(t, []int{c.alike, c.untold, c.held, c.sum}, []int{got.Alike, got.Untold, got.Held, got.Shut},
			"%s: %+v", rule, got)
		if c.cause != "" {
			require.Contains(t, got.Listed[0].Cause, c.cause)
		}
	}
	snap := r.Snapshot()
	p, _ := snap.Provider("staff")
	got, err := r.Traces.Reevaluate(ctx, snap, snap.Lacking(p), traces.Which{}, func(int64) {})
	require.NoError(t, err)
	require.Equal(t, []int{1, 0}, []int{got.Untold, got.Shut}, "a provider that is removed: %+v", got.Listed)
}

// By a change, nobody who entered is refused or named otherwise unless that was confirmed;
// what is meant to close or to move acts at once, and says what it took away.
func TestConsequences(t *testing.T) {
	r := newRig(t)
	p := r.provides("oakhollow", nil).add(nil)
	typo := `{"to":{"name":"number"},"from":[{"attribute":"employeNumber"}],"mandatory":true}`
	err := r.maps(change.KindProvider, "staff", `{"to":{"name":"mail"},"from":[{"attribute":"mail"}]}`)
	require.NoError(t, err)
	require.NoError(t, r.changeOf(change.KindApplication, "roster",
		func(s federation.Settings) { s["provider"] = "staff" }))
	err = r.maps(change.KindApplication, "roster", typo)
	require.True(t, finding.Is(err, finding.EntryLost), "nobody came yet, and no profile has it: %v", err)
	require.ErrorContains(t, err, "employeNumber")
	require.NoError(t, r.maps(change.KindProvider, "staff", ""))

	r.knows("emails=x@wrenmoor.example")
	b := r.enter(func(a *saml.Answer) {
		a.Attributes = []saml.Attribute{{Name: "displayName", Values: saml.Texts("Ada Fenwick")},
			{Name: "employeeNumber", Values: saml.Texts("W-1")}}
	})
	require.NotEmpty(t, b)
	err = r.maps(change.KindApplication, "roster", typo)
	require.True(t, finding.Is(err, finding.EntryLost), "%v", err)
	require.ErrorContains(t, err, "People who would be refused: 1")
	weighed, err := r.Records.Weigh(ctx, records.Proposed{Changes: []records.SettingChange{{Kind: change.KindApplication,
		Name: "roster",
		Settings: federation.Settings{"releaseMapping": map[string]any{"rules": []any{map[string]any{"to": map[string]any{"name": "number"},
			"from": []any{map[string]any{"attribute": "employeNumber"}}, "mandatory": true}}}}}}})
	require.NoError(t, err)
	require.Equal(t, toConfirm(r.maps(change.KindApplication, "roster", typo)), weighed.Digest,
		"what is looked at is what is confirmed")
	require.Equal(t, []int{1, 1, 0}, []int{weighed.Seen, weighed.Shut, weighed.Renamed})
	require.Equal(t, change.BecomesShut, weighed.People[0].What)

	for rule, c := range map[string]struct {
		set    federation.Settings
		shut   int
		untold int
	}{
		"paused":           {federation.Settings{"phase": "paused"}, 1, 0},
		"another provider": {federation.Settings{"provider": p.Name, "phase": "live"}, 0, 0},
	} {
		by := tester
		by.Took = &change.Consequence{}
		_, err := r.Records.Configure(ctx, by, change.KindApplication, "roster", 0, c.set)
		require.NoError(t, err, "%s acts at once", rule)
		require.NotZero(t, by.Took.Looked, rule)
		_, err = r.Records.Configure(ctx, tester, change.KindApplication, "roster", 0,
			federation.Settings{"phase": "live", "provider": "staff"})
		require.NoError(t, err)
		if rule == "paused" {
			require.Equal(t, 1, by.Took.Shut)
		}
	}
}

// Whoever was made known by a name is recognised by it: a format in short or not said, and one
// that is unspecified, which a NameID without any is too; a near one is told.
func TestMadeKnownByAName(t *testing.T) {
	r := newRig(t)
	r.staff(federation.Settings{"firstSignIn": "known", "askNameIdFormat": "persistent"})
	for i, c := range []struct{ typed, comes, near string }{
		{"persistent", string(saml.FormatPersistent), ""}, {"", string(saml.FormatPersistent), ""},
		{"emailAddress", string(saml.FormatEmail), ""},
		{"unspecified", "", ""}, {"unspecified", string(saml.FormatUnspecified), ""},
		{"emailAddress", string(saml.FormatPersistent), string(saml.FormatEmail)},
	} {
		name := fmt.Sprintf("k-%d@wrenmoor.example", i)
		_, err := r.People.Add(ctx, tester, people.NewPerson{Provider: "staff", Subject: profile.Subject{Format: c.typed,
			Value: name}})
		require.NoError(t, err)
		r.clock.set(r.clock.get().Add(time.Minute))
		o := r.request(driving.Browser{}, nil)
		o = r.answer(keep(driving.Browser{}, o), r.asked(o).ID,
			func(a *saml.Answer) { a.NameID = saml.NameID{Format: saml.NameIDFormat(c.comes), Value: name} })
		if c.near == "" {
			require.Nil(t, o.Finding, "%+v: %v", c, o.Finding)
			continue
		}
		require.Equal(t, finding.PersonUnknown, o.Finding.Code)
		require.Contains(t, o.Finding.Evidence, finding.Compare("Format of a link by this name", c.near, c.comes))
	}
	_, err := r.People.Add(ctx, tester, people.NewPerson{Provider: "staff", Subject: profile.Subject{Format: "mail",
		Value: "x"}})
	require.ErrorContains(t, err, "emailAddress")
	r.provides("oakhollow", nil).add(nil)
	_, err = r.People.Add(ctx, tester, people.NewPerson{Provider: "oakhollow",
		Subject: profile.Subject{Format: "persistent", Value: "x"}})
	require.ErrorContains(t, err, "leave it out")
}

// The gate that is given as its own provider is found, and whose a redirect URI is that another
// application sends.
func TestMixedUp(t *testing.T) {
	r := newRig(t)
	snap := r.Snapshot()
	idp := saml.WriteIDPMetadata(saml.IDPFace{EntityID: "https://gate.example/saml/idp",
		SSO:  "https://gate.example/saml/idp/sso",
		Keys: []keys.Certificate{snap.Gate.Keys["idp"].Current.Certificate}})
	p, err := r.Records.Preview(ctx, records.NewRecord{Kind: federation.KindProvider, Name: "self",
		Source: records.Source{Document: idp}})
	require.NoError(t, err)
	require.Contains(t, fmt.Sprint(p.Findings), finding.New(finding.ProviderIsGate).Title)
	r.client("planner", nil, nil)
	f := checks.Nearest(r.Snapshot(), finding.New(finding.RedirectUnregistered,
		finding.Fact("redirect_uri", plannerBack)))
	require.Contains(t, f.Evidence, finding.Fact("It is on the record of", "planner"))
}
