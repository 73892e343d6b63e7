package gate

import (
	"encoding/base64"
	"encoding/json"
	"net/url"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/core/trace"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/driving"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/traces"
	"innergate.example/innergate/internal/store"
)

// maps gives a record a mapping, in JSON.
func (r *rig) maps(kind, name, rules string) error {
	r.t.Helper()
	setting := map[string]string{change.KindProvider: "intakeMapping", change.KindApplication: "releaseMapping"}[kind]
	var m map[string]any
	require.NoError(r.t, json.Unmarshal([]byte(`{"rules":[`+rules+`]}`), &m))
	_, err := r.Records.Configure(ctx, tester, kind, name, 0, federation.Settings{setting: m})
	return err
}

// confirms gives a record a mapping, whatever that does to people.
func (r *rig) confirms(kind, name, rules string) {
	r.t.Helper()
	var m map[string]any
	require.NoError(r.t, json.Unmarshal([]byte(`{"rules":[`+rules+`]}`), &m))
	(&trial{rig: r}).saves(kind, name, federation.Settings{map[string]string{change.KindProvider: "intakeMapping",
		change.KindApplication: "releaseMapping"}[kind]: m})
}

const (
	accountName = `{"to":{"name":"userName"},"from":[{"attribute":"preferred_username"}],"mandatory":true}`
	teams       = `{"to":{"name":"groups"},"from":[{"attribute":"groups"}],"steps":[{"do":"upper"}]}`
	teamOf      = `{"to":{"name":"team"},"from":[{"attribute":"groups"}]}`
	told        = `{"to":{"subject":true},"from":[{"attribute":"userName"}]},` + teamOf
)

// What arrives by one protocol goes out by another as the rules of both records say; what
// no rule reads is not kept; and what a trial says is what the sign-in said.
func TestMappingsInACrossing(t *testing.T) {
	r := newRig(t)
	p := r.provides("oakhollow", nil).add(federation.Settings{"scopes": "openid profile email groups"})
	app := r.client("planner", nil, federation.Settings{"claimsIn": "both"})
	_, err := r.Records.Configure(ctx, tester, change.KindApplication, "planner", 0,
		federation.Settings{"provider": p.Name})
	require.NoError(t, err)
	require.NoError(t, r.maps(change.KindProvider, "oakhollow", accountName+","+teams))
	require.NoError(t, r.maps(change.KindApplication, "roster", told))
	require.NoError(t, r.maps(change.KindApplication, "planner", teamOf))

	o := r.request(driving.Browser{}, nil)
	b := keep(driving.Browser{}, o)
	o = r.Crossings.Choose(ctx, b, o.Crossing, p.Name, false)
	form, posted := p.signs(o, mina.Username, "")
	o = p.arrives(keep(b, o), form, posted)
	b = keep(b, o)
	a, text := r.said(o)
	require.Equal(t, mina.Username, a.NameID.Value)
	require.Len(t, a.Attributes, 1)
	require.Equal(t, "team", a.Attributes[0].Name)
	require.Equal(t, "SIGNALLING", a.Attributes[0].Values[0].Text)
	require.NotContains(t, text, "Thorne", "nothing else goes out")

	record := mustRecord(r, "oakhollow")
	kept := r.Leaving.Session(ctx, b.Session).Of(record)
	require.Len(t, kept.Attributes, 2, "what no rule reads is not kept")
	then, now, err := r.Traces.Replay(ctx, r.Records.Snapshot(), o.Reference)
	require.NoError(t, err)
	for i := range then {
		require.True(t, then[i].Alike(now[i]), "%+v %+v", then[i], now[i])
	}
	tried, err := r.Traces.Try(ctx, r.Snapshot(), traces.Trial{Trace: o.Reference})
	require.NoError(t, err)
	require.Equal(t, then[2].Released, tried.Released, "a trial says what the sign-in said")
	require.Greater(t, len(tried.Received.Attributes), 5, "and what arrived, whole")
	tried, err = r.Traces.Try(ctx, r.Snapshot(), traces.Trial{Trace: o.Reference, App: mustApplication(r, "planner")})
	require.NoError(t, err)
	require.True(t, tried.Released.Name.Derived(), "another application is told its own name: %v", tried.Released.Name)

	// The session does for the next application, by another protocol.
	o = r.authorize(b, "scope", "openid profile")
	if o.Agree != nil {
		o = r.Crossings.Submit(ctx, b, o.Crossing, url.Values{"agree": {"yes"}, "digest": {o.Agree.Digest}})
	}
	out, err := r.Redeeming.Token(ctx, caller(redemption(r.back(o).Get("code")), "planner", app.Shown))
	require.NoError(t, err)
	claims := r.claims(out.IDToken, oidc.IDToken)
	require.Equal(t, "SIGNALLING", claims["team"], "though no scope asks for it")
	require.Nil(t, claims["name"], "what no rule makes is not told")

	// Once the intake reads more than was kept, the provider is asked again.
	require.NoError(t, r.maps(change.KindProvider, "oakhollow", accountName+
		`,{"to":{"name":"emails"},"from":[{"attribute":"email"}]}`))
	o = r.Crossings.Open(ctx, b, driving.Start{App: "roster", Via: "oakhollow"})
	require.Equal(t, "Authorization request", o.Departure.Message)
	require.Contains(t, r.traced(o), "session-intake")
}

// What is mandatory and does not come ends the sign-in, with what did come; nobody is half
// taken in.
func TestMandatoryValuesAreThere(t *testing.T) {
	r := newRig(t)
	p := r.provides("oakhollow", nil).add(nil)
	waiting := r.Crossings.Open(ctx, driving.Browser{}, driving.Start{App: "roster", Via: "oakhollow"})
	_, err := r.Traces.Try(ctx, r.Snapshot(), traces.Trial{Trace: waiting.Reference})
	require.True(t, finding.Is(err, finding.NothingSaid), "%v", err)
	for where, code := range map[string]finding.Code{change.KindProvider: finding.AttributeMissing,
		change.KindApplication: finding.ReleaseMissing} {
		name := map[string]string{change.KindProvider: "oakhollow", change.KindApplication: "roster"}[where]
		r.confirms(where, name, `{"to":{"name":"x"},"from":[{"attribute":"emial"}],"mandatory":true}`)
		p.anew()
		o, _ := p.through(driving.Browser{}, "roster", "")
		require.Equal(t, code, o.Finding.Code)
		require.Contains(t, o.Finding.Error(), "email", "the nearest to it")
		require.Zero(t, r.count(&store.LinkRow{}))
		tried, err := r.Traces.Try(ctx, r.Snapshot(), traces.Trial{Trace: o.Reference})
		require.NoError(t, err)
		require.Equal(t, code, tried.Refused.Code, "and can be tried on")
		require.NoError(t, r.maps(where, name, ""))
		r.clock.set(r.clock.get().Add(time.Minute))
	}
}

// Without rules a session keeps everything, also of records that were read from the store.
func TestWithoutRulesEverythingIsKept(t *testing.T) {
	r := newRig(t)
	p := r.provides("oakhollow", nil).add(nil)
	require.NoError(t, r.maps(change.KindProvider, "oakhollow", accountName))
	require.NoError(t, r.maps(change.KindProvider, "oakhollow", ""))
	_, b := p.through(driving.Browser{}, "roster", "")
	kept := r.Leaving.Session(ctx, b.Session).Of(mustRecord(r, "oakhollow"))
	require.Greater(t, len(kept.Attributes), 5)
	require.Empty(t, kept.Read)
	o := r.Crossings.Open(ctx, b, driving.Start{App: "roster", Via: "oakhollow"})
	require.Equal(t, "Response", o.Departure.Message, "the session does")
	tried, err := r.Traces.Try(ctx, r.Snapshot(), traces.Trial{Trace: o.Reference})
	require.NoError(t, err)
	require.Greater(t, len(tried.Released.Attributes), 5, "for a second sign-in as for the first")
}

// A mapping that cannot work is refused with the place, and nothing is stored.
func TestMappingsAreCheckedBeforeTheyAreSaved(t *testing.T) {
	r := newRig(t)
	r.provides("oakhollow", nil).add(nil)
	r.client("planner", nil, nil)
	for rules, field := range map[string]string{
		`{"to":{"name":"x"},"from":[{"attribute":"a"}],"steps":[{"do":"keep","text":"("}]}`: "rules[0].steps[0].text",
		`{"to":{"name":"acr"},"from":[{"attribute":"a"}]}`:                                  "rules[0].to.name",
		`{"to":{"subject":true},"from":[{"attribute":"a"}]}`:                                "rules[0].to.subject",
		`{"to":{"name":"x"},"from":[]}`:                                                     "rules[0].from",
	} {
		err := r.maps(change.KindApplication, "planner", rules)
		var fe *change.FieldError
		require.ErrorAs(t, err, &fe, rules)
		require.Equal(t, "releaseMapping."+field, fe.Field)
	}
	require.Equal(t, 1, mustApplication(r, "planner").Revision)
	err := r.maps(change.KindProvider, "oakhollow", `{"to":{"subject":true},"from":[{"attribute":"a"}]}`)
	require.ErrorContains(t, err, "mandatory")
	require.NoError(t, r.maps(change.KindApplication, "roster", `{"to":{"name":"acr"},"from":[{"attribute":"a"}]}`),
		"which is no name of SAML")
}

func mustApplication(r *rig, name string) *federation.Application {
	a, err := r.Records.Application(name)
	require.NoError(r.t, err)
	return a
}

// What traces are not to keep of values stands nowhere in them, by whichever protocol it
// came or went on, as it is or as rules made it; whether two are the same can still be seen.
func TestTracesKeepOfValuesWhatTheyMay(t *testing.T) {
	r := newRig(t)
	p := r.provides("oakhollow", nil).add(federation.Settings{"scopes": "openid profile email groups",
		"traceValues": "family_name=off name=off emails=hashed groups=hashed"})
	app := r.client("planner", nil, federation.Settings{"claimsIn": "both", "provider": p.Name})
	require.NoError(t, r.maps(change.KindApplication, "roster",
		`{"to":{"name":"shown"},"from":[{"expression":"attributes.family_name[0] + '!'"}]},
		{"to":{"name":"mail"},"from":[{"attribute":"email"}]},{"to":{"name":"first"},"from":[{"attribute":"given_name"}]}`))
	require.ErrorContains(t, r.changeOf(change.KindApplication, "roster",
		func(s federation.Settings) { s["traceValues"] = "mail=hsahed" }), "hsahed")
	var rows []string
	look := func(reference string) string {
		_, steps, err := r.Traces.Get(ctx, reference)
		require.NoError(t, err)
		raw, err := r.store.Traces.Inputs(ctx, reference)
		require.NoError(t, err)
		octets, err := json.Marshal([]any{steps, raw})
		require.NoError(t, err)
		text := string(octets)
		for _, token := range regexp.MustCompile(`[\w-]{40,}`).FindAllString(text, -1) {
			if plain, err := base64.RawURLEncoding.DecodeString(token); err == nil {
				text += string(plain)
			}
			if plain, err := base64.StdEncoding.DecodeString(token + "="); err == nil {
				text += string(plain)
			}
		}
		for _, secret := range []string{mina.Family, "mina.thorne@", "\"signalling\"", ">signalling<"} {
			require.NotContains(t, strings.ReplaceAll(text, `\`, ""), secret)
		}
		require.Contains(t, text, mina.Given, "the rest is kept")
		return text
	}
	o, b := p.through(driving.Browser{}, "roster", "")
	text := look(o.Reference)
	require.Contains(t, text, "hashed:")
	rows = append(rows, regexp.MustCompile(`hashed:\w+`).FindString(text))
	o = r.authorize(b, "scope", "openid profile email groups")
	if o.Agree != nil {
		o = r.Crossings.Submit(ctx, b, o.Crossing, url.Values{"agree": {"yes"}, "digest": {o.Agree.Digest}})
	}
	reference := o.Reference
	out, err := r.Redeeming.Token(ctx, caller(redemption(r.back(o).Get("code")), "planner", app.Shown))
	require.NoError(t, err)
	require.Equal(t, mina.Family, r.claims(out.IDToken, oidc.IDToken)["family_name"], "the application is told as ever")
	require.Contains(t, look(reference), rows[0], "the same value has the same sum")

	// What depends on a value that was not kept cannot be told; the rest can.
	for rules, verdict := range map[string]trace.Verdict{
		`{"to":{"name":"shown"},"from":[{"attribute":"family_name"}]}`: trace.Untold,
		`{"to":{"name":"shown"},"from":[{"expression":"attributes.family_name[0] + '!'"}]},{"to":{"name":"first"},"from":[{"attribute":"given_name"}],"steps":[{"do":"upper"}]}`: trace.Differs,
	} {
		var m map[string]any
		require.NoError(t, json.Unmarshal([]byte(`{"rules":[`+rules+`]}`), &m))
		before, after, err := r.Records.Propose(records.Proposed{Changes: []records.SettingChange{{Kind: change.KindApplication,
			Name: "roster", Settings: federation.Settings{"releaseMapping": m}}}})
		require.NoError(t, err)
		got, err := r.Traces.Reevaluate(ctx, before, after, traces.Which{Application: "roster"}, func(int64) {})
		require.NoError(t, err)
		require.Len(t, got.Listed, 1)
		require.Equal(t, verdict, got.Listed[0].Verdict, rules)
	}
}

// A value is taken out however short it is, also where only its name stands beside it.
func TestShortValuesAreTakenOutToo(t *testing.T) {
	r := newRig(t)
	require.NoError(t, r.changeProvider(func(s federation.Settings) { s["traceValues"] = "grade=off" }))
	o := r.request(driving.Browser{}, nil)
	b := keep(driving.Browser{}, o)
	done := r.answer(b, r.asked(o).ID, func(a *saml.Answer) {
		a.Attributes = []saml.Attribute{{Name: "grade", Values: saml.Texts("qz")}, {Name: "unit", Values: saml.Texts("vx")}}
	})
	_, steps, err := r.Traces.Get(ctx, done.Reference)
	require.NoError(t, err)
	raw, err := r.store.Traces.Inputs(ctx, done.Reference)
	require.NoError(t, err)
	octets, err := json.Marshal([]any{steps, raw})
	require.NoError(t, err)
	require.NotRegexp(t, `\bqz\b`, string(octets))
	require.Regexp(t, `\bvx\b`, string(octets))
}

// A value that a rule keeps with the person is there also when a sign-in does not bring
// it, after a restart, and for a refresh; it goes when the rule keeps it no more.
func TestValuesAreKeptWithThePersonByChoice(t *testing.T) {
	r := newRig(t)
	came := func(attributes ...string) map[string]string {
		r.clock.set(r.clock.get().Add(crossing.SessionLife + time.Minute))
		o := r.request(driving.Browser{}, nil)
		b := keep(driving.Browser{}, o)
		done := r.answer(b, r.asked(o).ID, func(a *saml.Answer) {
			for _, name := range attributes {
				a.Attributes = append(a.Attributes, saml.Attribute{Name: name, Values: saml.Texts(name + "-value")})
			}
		})
		a, _ := r.said(done)
		out := map[string]string{}
		for _, x := range a.Attributes {
			out[x.Name] = x.Values[0].Text
		}
		return out
	}
	require.ErrorContains(t, r.maps(change.KindApplication, "roster",
		`{"to":{"name":"x"},"from":[{"attribute":"x"}],"keep":"person"}`), "intake")
	require.ErrorContains(t, r.maps(change.KindProvider, "staff",
		`{"to":{"name":"x"},"from":[{"attribute":"x"}],"keep":"ever"}`), "no way to keep")
	kept, session := `{"to":{"name":"unit"},"from":[{"attribute":"ou"}],"keep":"person"}`,
		`{"to":{"name":"shift"},"from":[{"attribute":"shift"}]}`
	require.NoError(t, r.maps(change.KindProvider, "staff", kept+","+session))
	require.Equal(t, map[string]string{"unit": "ou-value", "shift": "shift-value"}, came("ou", "shift"))
	require.Equal(t, map[string]string{"unit": "ou-value"}, came(), "the one is kept, the other not")
	r.restart()
	require.Equal(t, map[string]string{"unit": "ou-value", "shift": "shift-value"}, came("shift"))
	require.NoError(t, r.maps(change.KindProvider, "staff", session))
	came()
	require.NoError(t, r.maps(change.KindProvider, "staff", kept+","+session))
	require.Empty(t, came(), "what no rule keeps any more is gone")
	var row store.PersonRow
	require.NoError(t, r.store.Read.Take(&row).Error)
	require.Empty(t, row.Sealed)
}

// People are recognised by an attribute where the intake says so: through transient names,
// and where no name comes at all; never by several values; and once people are known, only
// after it was looked at.
func TestAnAttributeAsIdentifier(t *testing.T) {
	r := newRig(t)
	by := `{"to":{"subject":true},"from":[{"attribute":"uid"}],"steps":[{"do":"lower"}],"mandatory":true}`
	require.NoError(t, r.maps(change.KindProvider, "staff", by))
	come := func(name saml.NameID, uids ...string) driving.Outcome {
		r.clock.set(r.clock.get().Add(crossing.SessionLife + time.Minute))
		o := r.request(driving.Browser{}, nil)
		b := keep(driving.Browser{}, o)
		return r.answer(b, r.asked(o).ID, func(a *saml.Answer) {
			a.NameID = name
			if uids != nil {
				a.Attributes = []saml.Attribute{{Name: "uid", Values: saml.Texts(uids...)}}
			}
		})
	}
	transient := func(v string) saml.NameID { return saml.NameID{Format: saml.FormatTransient, Value: v} }
	for i, name := range []saml.NameID{transient("a"), transient("b"), {Format: saml.FormatEmail,
		Value: "ada@wrenmoor.example"}} {
		o := come(name, []string{"Ada", "ada", "ADA"}[i])
		a, _ := r.said(o)
		require.Equal(t, "ada", a.NameID.Value)
		head, _, err := r.Traces.Get(ctx, o.Reference)
		require.NoError(t, err)
		require.Equal(t, "ada", head.Person)
	}
	require.EqualValues(t, 1, r.count(&store.PersonRow{}), "one person, by whatever name")
	require.Equal(t, finding.AttributeMissing, come(transient("c")).Finding.Code)
	require.Equal(t, finding.IdentifierSeveral, come(transient("c"), "ada", "bram").Finding.Code)
	require.Equal(t, finding.IdentifierSeveral, come(transient("c"), strings.Repeat("a", 2000)).Finding.Code)
	require.EqualValues(t, 1, r.count(&store.PersonRow{}))
	tried, err := r.Traces.Try(ctx, r.Snapshot(), traces.Trial{Person: 1})
	require.NoError(t, err)
	require.Equal(t, "ada", tried.Profile.Subject.Value)

	err = r.maps(change.KindProvider, "staff", strings.Replace(by, "uid", "employeeNumber", 1))
	require.True(t, finding.Is(err, finding.EntryLost), "%v", err)
	require.ErrorContains(t, err, "be refused: 1")
	require.True(t, finding.Is(r.maps(change.KindProvider, "staff", ""), finding.NamesChange))
	require.NoError(t, r.maps(change.KindProvider, "staff", by+`,{"to":{"name":"unit"},"from":[{"attribute":"ou"}]}`),
		"nobody is renamed")
}
