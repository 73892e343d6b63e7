package samlside_test

import (
	"crypto/rand"
	"encoding/json"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/crossing/samlside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/core/trace"
)

var now = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

const (
	password  = "urn:oasis:names:tc:SAML:2.0:ac:classes:Password"
	protected = saml.ContextPassword
	token     = "urn:oasis:names:tc:SAML:2.0:ac:classes:TimeSyncToken"
	smartcard = "urn:oasis:names:tc:SAML:2.0:ac:classes:SmartcardPKI"
)

// world drives crossings without anything around the core: what is looked up
// stands in maps.
type world struct {
	t         *testing.T
	snap      *federation.Snapshot
	provider  *federation.Provider
	app       *federation.Application
	idp       *keys.Pair // the provider's
	used      map[string]bool
	people    map[string]person.Person
	session   *crossing.Session
	marked    *crossing.Rehearsing // the browser, for a run
	rehearsed *crossing.Session    // of that
	asked     []string             // what was needed, in order
	entries   []trace.Entry
	n         int
}

func newWorld(t *testing.T) *world {
	pair := func() *keys.Pair {
		p, err := keys.Generate("x", now, rand.Reader)
		require.NoError(t, err)
		return p
	}
	w := &world{t: t, idp: pair(), used: map[string]bool{}, people: map[string]person.Person{}}
	set := federation.KeySet{Current: pair()}
	gate := federation.Gate{Base: "https://g.example", Skew: time.Minute,
		Own: map[string]string{"idp-entity-id": "urn:gate-idp"}, Contexts: samlside.Protocol{}.Contexts(),
		Keys: map[string]federation.KeySet{"idp": set, "sp": set, "enc": set}}
	w.provider = &federation.Provider{Side: &samlside.Provider{Address: "https://g.example/saml/sp/staff/acs",
		ProviderSettings: samlside.ProviderSettings{OwnEntityID: "urn:gate-sp"},
		IDP: &saml.IDP{EntityID: "urn:idp", Keys: []saml.Key{{Certificate: w.idp.Certificate}},
			SSO: []saml.Endpoint{{Binding: saml.BindingRedirect, Location: "https://idp.example/sso"}}}}}
	w.provider.Name, w.provider.Phase, w.provider.Revision = "staff", federation.Live, 3
	w.app = &federation.Application{Side: &samlside.Application{SP: &saml.SP{EntityID: "urn:roster",
		ACS: []saml.Endpoint{{Binding: saml.BindingPOST, Location: "https://roster.example/acs"}}}}}
	w.app.Name, w.app.Phase, w.app.Revision = "roster", federation.Live, 7
	w.snap = federation.Load(gate, w.provider, w.app)
	return w
}

// run takes an event through the core until nothing is needed any more.
func (w *world) run(s crossing.State, e crossing.Event) crossing.Turn {
	w.n++
	e.Browser.Secret, e.Browser.Holds, e.Browser.Run = []byte("mine"), true, w.marked
	f := crossing.Facts{New: fmt.Sprintf("%032d", w.n), Session: w.session, Rehearsed: w.rehearsed}
	t := crossing.Advance(w.snap, s, e, f, now)
	for {
		lacks, ok := t.Next.(*crossing.Lacks)
		if !ok {
			break
		}
		learned := e
		learned.Kind = crossing.Learned
		for i, need := range lacks.Needs {
			switch n := need.(type) {
			case crossing.WasUsed:
				w.asked = append(w.asked, "used")
				f.Put(n, w.used[n.ID])
			case crossing.WhoIs:
				if f.Put(n, w.people[n.Link]); i == 0 {
					w.asked = append(w.asked, "people")
				}
			case crossing.TooOften:
				w.asked = append(w.asked, "tries")
				f.Put(n, false)
			}
		}
		t = crossing.Advance(w.snap, t.State, learned, f, now)
	}
	w.entries = append(w.entries, trace.Recorded(s, e, f, t, now))
	t.State.Browser.Secret = []byte("mine") // whoever drives makes it
	return t
}

// request sends an AuthnRequest.
func (w *world) request(edit func(*saml.AuthnRequest)) crossing.Turn {
	q := saml.AuthnRequest{ID: "_q", IssueInstant: now, Issuer: "urn:roster", ACS: "https://roster.example/acs"}
	if edit != nil {
		edit(&q)
	}
	out, err := saml.WriteAuthnRequest(q, saml.Endpoint{Binding: saml.BindingPOST,
		Location: "https://g.example/saml/idp/sso"}, "state", nil)
	require.NoError(w.t, err)
	return w.run(crossing.State{}, crossing.Event{Kind: crossing.Arrived,
		Arrival: samlside.Request(saml.Inbound{Octets: out.Octets, RelayState: "state"}, "", nil)})
}

// answer posts a Response to what a state asked.
func (w *world) answer(s crossing.State, edit func(*saml.Answer)) crossing.Turn {
	return w.run(s, crossing.Event{Kind: crossing.Arrived,
		Arrival: samlside.Response(saml.Inbound{Octets: w.response(s, edit), RelayState: s.ID}, "staff", nil)})
}

func (w *world) response(s crossing.State, edit func(*saml.Answer)) []byte {
	a := saml.Answer{ResponseID: "_r", AssertionID: "_a", At: now, Lifetime: time.Minute, Issuer: "urn:idp",
		Destination: "https://g.example/saml/sp/staff/acs", InResponseTo: s.Leg().Handle,
		Audience: "urn:gate-sp", NameID: saml.NameID{Format: saml.FormatEmail, Value: "ada@wrenmoor.example"},
		AuthnInstant: now, Context: protected,
		Attributes: []saml.Attribute{{Name: "groups", Values: saml.Texts("drivers")}}}
	if edit != nil {
		edit(&a)
	}
	octets, err := saml.WriteResponse(a, saml.Protection{Pair: w.idp})
	require.NoError(w.t, err)
	return octets
}

// enter signs somebody in, and gives the turn that ended it.
func (w *world) enter(edit func(*saml.Answer)) crossing.Turn {
	t := w.answer(w.request(nil).State, edit)
	require.Equal(w.t, crossing.Entered, t.Result, "%v", t.Finding)
	return t
}

// keep gives the browser the session that a turn made.
func (w *world) keep(t crossing.Turn) *crossing.Session {
	for _, e := range t.Effects {
		if p, ok := e.(crossing.PutSession); ok {
			w.session = &p.Session
		}
	}
	return w.session
}

func effects(t crossing.Turn) (out []string) {
	for _, e := range t.Effects {
		out = append(out, fmt.Sprintf("%T", e)[len("crossing."):])
	}
	return out
}

// A derived subject that lost to an imported one: the person is looked up again,
// and is told the application by that.
func TestSubjectRace(t *testing.T) {
	w := newWorld(t)
	asked := w.request(func(q *saml.AuthnRequest) { q.NameIDFormat = saml.FormatPersistent })
	done := w.answer(asked.State, nil)
	i := slices.IndexFunc(done.Effects, func(e crossing.Effect) bool { _, ok := e.(crossing.ChangePerson); return ok })
	lost := done.Effects[i].(crossing.ChangePerson)
	require.Equal(t, w.app.ID, lost.Known[0].App)
	lost.Lost = person.GuardSubject
	is := crossing.WhoIs{Link: lost.Link[0].Key, For: w.app.ID}
	f := crossing.With(crossing.With(crossing.Facts{}, crossing.WasUsed{}, false), is,
		person.Person{ID: 1, Identifier: "x"})
	e := crossing.Event{Kind: crossing.Lost, Lost: lost, Browser: crossing.Browser{Secret: []byte("mine")}}
	again := crossing.Advance(w.snap, done.State, e, f, now)
	require.Equal(t, []crossing.Need{is}, again.Next.(*crossing.Lacks).Needs, "what was known of them is not believed")
	f.Put(is, person.Person{ID: 1, Key: is.Link, Identifier: "x", Subject: "1001"})
	e.Kind = crossing.Learned
	again = crossing.Advance(w.snap, again.State, e, f, now)
	require.Contains(t, again.Next.(*crossing.Leave).Plan.Sent(), federation.Value{Label: "NameID", Value: "1001"})
	for _, e := range again.Effects {
		if c, is := e.(crossing.ChangePerson); is {
			require.Empty(t, c.Known)
		}
	}
}

// One crossing, turn by turn, without anything around it.
func TestCrossingInPureTurns(t *testing.T) {
	w := newWorld(t)
	asked := w.request(nil)
	require.Equal(t, crossing.Waiting, asked.Result)
	require.Equal(t, []string{"Keep"}, effects(asked))
	leave := asked.Next.(*crossing.Leave)
	require.Equal(t, crossing.Provider, leave.To)
	out, err := leave.Plan.Render(&w.snap.Gate, crossing.Made{})
	require.NoError(t, err)
	require.Contains(t, out.Location, "RelayState="+asked.State.ID)
	require.Contains(t, string(out.Octets), `ID="`+asked.State.Leg().Handle+`"`)

	s := asked.State
	s.Kept = true // whoever drives has stored it
	octets, err := json.Marshal(s)
	require.NoError(t, err)
	var stored crossing.State
	require.NoError(t, json.Unmarshal(octets, &stored))
	require.NotContains(t, string(octets), "groups", "no message is stored")
	done := w.answer(stored, func(a *saml.Answer) { a.Authorities = []string{"urn:behind"} })
	require.Equal(t, []string{"used", "people"}, w.asked)
	require.Equal(t, []string{"End", "Once", "ChangePerson", "PutSession", "Issued", "Enter"},
		effects(done), "in one transaction, the end first")
	require.Equal(t, crossing.Ended, done.State.Stage)
	require.True(t, done.Verified)
	plan := done.Next.(*crossing.Leave).Plan
	out, err = plan.Render(&w.snap.Gate, crossing.Made{Random: rand.Reader, Now: now})
	require.NoError(t, err)
	require.Equal(t, "https://roster.example/acs", out.Location)
	require.Equal(t, now.Add(5*time.Minute), out.Until, "what could be used of it ends with it")
	message, err := saml.ReadResponse(out.Octets)
	require.NoError(t, err)
	var log finding.Checks
	opened, err := message.Open(&saml.IDP{EntityID: "urn:gate-idp",
		Keys: []saml.Key{{Certificate: w.snap.Gate.Keys["idp"].Current.Certificate}}}, saml.Trust{}, &log)
	require.NoError(t, err)
	a, err := opened.Check(saml.Expect{EntityIDs: []saml.EntityID{"urn:roster"}, ACS: "https://roster.example/acs",
		Request: &saml.Sent{ID: "_q"}, Now: now}, &log)
	require.NoError(t, err)
	require.Equal(t, "ada@wrenmoor.example", a.NameID.Value)
	require.Equal(t, protected, a.Context, "the context is carried over")
	require.Equal(t, []string{"urn:behind", "urn:idp"}, a.Authorities, "the provider is named after those it named")

	names := []string{}
	for _, st := range done.Steps {
		names = append(names, st.Name)
	}
	require.Equal(t, []string{"Response", "intake", "match the person", "decide access", "release"}, names,
		"whatever was needed in between, each step once")
	require.Contains(t, plan.Sent(), federation.Value{Label: "Attribute groups", Value: "drivers"})
	again := w.answer(stored, func(a *saml.Answer) { a.Authorities = []string{"urn:behind"} })
	require.True(t, done.Decided.Alike(again.Decided), "equal inputs give equal decisions")
}

// What was recorded of a crossing is decided again alike, and otherwise by
// another configuration. Nothing in it could be used again.
func TestRecordedTurnsAreDecidedAgain(t *testing.T) {
	w := newWorld(t)
	second := *w.provider
	second.Name = "second"
	side := *w.provider.Side.(*samlside.Provider)
	side.IDP = &saml.IDP{EntityID: "urn:second", SSO: side.IDP.SSO}
	second.Side = &side
	w.snap = w.snap.With(&second)
	choose := w.request(nil)
	require.Equal(t, crossing.PageChoose, choose.Next.(*crossing.Show).Page)
	asked := w.run(choose.State, crossing.Event{Kind: crossing.Chosen, Via: "staff"})
	w.keep(w.answer(asked.State, nil))
	w.request(nil) // in by the session
	refused := w.request(func(q *saml.AuthnRequest) { q.ForceAuthn = true })
	w.answer(w.run(refused.State, crossing.Event{Kind: crossing.Chosen, Via: "staff"}).State,
		func(a *saml.Answer) { a.AuthnInstant = now.Add(-time.Hour) })
	w.run(crossing.State{}, crossing.Event{Kind: crossing.Opened, App: "roster", Via: "staff"})
	w.run(crossing.State{}, crossing.Event{Kind: crossing.Opened, App: "nothing"})
	require.Len(t, w.entries, 9)
	var comes []string
	for _, e := range w.entries {
		octets, err := json.Marshal(e)
		require.NoError(t, err)
		for _, secret := range []string{"SignatureValue", "PHNhbWxw", "mine", "providerState"} {
			require.NotContains(t, string(octets), secret)
		}
		var back trace.Entry
		require.NoError(t, json.Unmarshal(octets, &back))
		again := trace.Replay(w.snap, back)
		require.True(t, e.Decided.Alike(again), "%+v\n%+v", e.Decided, again)
		comes = append(comes, e.Decided.Comes)
	}
	require.Equal(t, []string{"show choose", "leave provider", "leave application", "leave application", "leave provider",
		"leave provider", "leave application", "leave application", "show refused"}, comes)
	require.Equal(t, 7, w.entries[2].Decided.AppRevision, "with the revisions they were made with")

	tied := *w.app
	tied.Provider = "staff"
	require.Equal(t, "leave provider", trace.Replay(w.snap.With(&tied), w.entries[0]).Comes, "nobody would be asked")
	off := *w.app
	off.Phase = federation.Paused
	require.Equal(t, finding.ApplicationDisabled, trace.Replay(w.snap.With(&off), w.entries[2]).Finding)
	email := *w.app.Side.(*samlside.Application)
	email.NameIDFormat = saml.FormatTransient
	other := *w.app
	other.Side = &email
	now := trace.Replay(w.snap.With(&other), w.entries[2])
	require.False(t, w.entries[2].Decided.Alike(now))
	require.Contains(t, now.Sent, federation.Value{Label: "NameID Format", Value: string(saml.FormatTransient)})
}

// An answer counts once as soon as its signature holds, whatever the rest comes
// to.
func TestSignedAnswersAreConsumedEvenIfRefused(t *testing.T) {
	for rule, c := range map[string]struct {
		edit    func(*saml.Answer)
		consume bool
		want    finding.Code
	}{
		"another audience":           {func(a *saml.Answer) { a.Audience = "urn:x" }, true, finding.AudienceOther},
		"expired":                    {func(a *saml.Answer) { a.At = now.Add(-time.Hour) }, true, finding.AssertionExpired},
		"another request":            {func(a *saml.Answer) { a.InResponseTo = "_x" }, true, finding.InResponseToOther},
		"another issuer":             {func(a *saml.Answer) { a.Issuer = "urn:x" }, false, finding.IssuerOther},
		"an ID that is no xs:ID":     {func(a *saml.Answer) { a.AssertionID = "7a" }, false, finding.MessageOther},
		"a Response ID that is none": {func(a *saml.Answer) { a.ResponseID = "a:b" }, false, finding.MessageUndecodable},
	} {
		w := newWorld(t)
		got := w.answer(w.request(nil).State, c.edit)
		require.Equal(t, c.want, got.Finding.Code, rule)
		consumed := false
		for _, e := range got.Effects {
			_, once := e.(crossing.Once)
			consumed = consumed || once
		}
		require.Equal(t, c.consume, consumed, rule)
		require.Equal(t, finding.Provider, got.Finding.Side, rule)
		require.Equal(t, crossing.PageRefused, got.Next.(*crossing.Show).Page, "an attack is not passed on: %s", rule)
	}
	w := newWorld(t)
	w.used["_a"] = true
	require.Equal(t, finding.AssertionReplayed, w.answer(w.request(nil).State,
		func(a *saml.Answer) { a.Audience = "urn:x" }).Finding.Code, "a replay is told as such first")
	require.Equal(t, finding.MessageUndecodable, w.request(func(q *saml.AuthnRequest) { q.ID = "1-2" }).Finding.Code)
}

// A context is compared by the ranks, and a session like an answer.
func TestContextsAreRanked(t *testing.T) {
	for _, c := range []struct {
		comparison, wished, has string
		does                    bool
	}{
		{"exact", protected, protected, true}, {"exact", password, protected, false}, {"exact", "urn:own", "urn:own", true},
		{"minimum", password, protected, true}, {"minimum", protected, protected, true},
		{"minimum", token, protected, false}, {"minimum", protected, smartcard, true},
		{"minimum", "urn:own", "urn:own", true}, {"minimum", "urn:own", smartcard, false}, {"minimum", protected, "urn:own",
			false},
		{"maximum", token, protected, true}, {"maximum", password, protected, false},
		{"maximum", protected, protected, true},
		{"better", password, protected, true}, {"better", protected, protected, false}, {"better", protected, token, true},
		{"better", "urn:own", "urn:own", false},
	} {
		rule := fmt.Sprint(c)
		w := newWorld(t)
		w.keep(w.enter(func(a *saml.Answer) { a.Context = c.has }))
		by := w.request(func(q *saml.AuthnRequest) { q.Contexts, q.Comparison = []string{c.wished}, c.comparison })
		w.session = nil
		asked := w.request(func(q *saml.AuthnRequest) { q.Contexts, q.Comparison = []string{c.wished}, c.comparison })
		answered := w.answer(asked.State, func(a *saml.Answer) { a.Context = c.has })
		if c.does {
			require.Equal(t, crossing.Entered, by.Result, rule)
			require.Equal(t, crossing.Entered, answered.Result, rule)
			continue
		}
		require.Equal(t, crossing.Provider, by.Next.(*crossing.Leave).To,
			"the session does not do: the provider is asked: %s", rule)
		require.Equal(t, finding.ContextOther, answered.Finding.Code, rule)
		require.Contains(t, w.sent(answered), saml.StatusNoAuthnContext, "the application hears so: %s", rule)
	}
	r := federation.Ranking{{"a"}, {"b", "c"}, {"d"}}
	require.True(t, r.Satisfies("minimum", []string{"d", "b"}, "c"), "at least as strong as one of them")
	require.False(t, r.Satisfies("better", []string{"a", "c"}, "b"), "stronger than all of them")
	for rule, bad := range map[string]federation.Ranking{"an empty rank": {{"a"}, {}}, "one twice": {{"a"}, {"a"}},
		"white space": {{"a b"}}, "nothing": {{""}}} {
		require.Error(t, bad.Check(), rule)
	}
	require.NoError(t, r.Check())
}

// sent renders the message that leaves.
func (w *world) sent(t crossing.Turn) string {
	out, err := t.Next.(*crossing.Leave).Plan.Render(&w.snap.Gate, crossing.Made{Random: rand.Reader, Now: now})
	require.NoError(w.t, err)
	return string(out.Octets)
}

// A provider's own words for contexts are translated on the way out and in.
func TestContextsAreTranslated(t *testing.T) {
	w := newWorld(t)
	p := *w.provider
	p.ContextWords = federation.Words{{Name: "urn:idp:otp", Value: token}, {Name: "urn:idp:card", Value: smartcard}}
	w.snap = w.snap.With(&p)
	asked := w.request(func(q *saml.AuthnRequest) { q.Contexts, q.Comparison = []string{token, password}, "minimum" })
	require.Contains(t, w.sent(asked), ">urn:idp:otp<")
	require.Contains(t, w.sent(asked), ">"+password+"<", "what has no translation stays")
	require.Contains(t, w.sent(w.answer(asked.State, func(a *saml.Answer) { a.Context = "urn:idp:card" })),
		">"+smartcard+"<")
	require.Equal(t, finding.ContextOther,
		w.answer(asked.State, func(a *saml.Answer) { a.Context = "urn:idp:guess" }).Finding.Code)

	// What our own record asks for is none of the application's business.
	p.AskContext = smartcard
	w.snap = w.snap.With(&p)
	asked = w.request(nil)
	require.Contains(t, w.sent(asked), ">urn:idp:card<")
	got := w.answer(asked.State, nil)
	require.Equal(t, crossing.PageRefused, got.Next.(*crossing.Show).Page)
	for words, why := range map[string]string{"a": "no translation", "a>b a>c": "twice", ">b": "no translation",
		"a>b>c": "no translation"} {
		bad := p
		bad.Title = "t"
		require.NoError(t, json.Unmarshal([]byte(`"`+words+`"`), &bad.ContextWords))
		require.ErrorContains(t, federation.Check(&bad), why)
	}
}

func TestApplicationHearsInItsOwnWords(t *testing.T) {
	refusal := func(nested string) func(w *world, s crossing.State) crossing.Turn {
		return func(w *world, s crossing.State) crossing.Turn {
			octets, err := saml.WriteStatus(saml.Answer{ResponseID: "_r", At: now, Issuer: "urn:idp",
				Destination: "https://g.example/saml/sp/staff/acs", InResponseTo: s.Leg().Handle}, saml.StatusResponder, nested, "",
				w.idp)
			require.NoError(t, err)
			return w.run(s, crossing.Event{Kind: crossing.Arrived, Arrival: samlside.Response(saml.Inbound{Octets: octets},
				"staff", nil)})
		}
	}
	said := func(edit func(*saml.Answer)) func(w *world, s crossing.State) crossing.Turn {
		return func(w *world, s crossing.State) crossing.Turn { return w.answer(s, edit) }
	}
	for _, c := range []struct {
		rule   string
		ask    func(*saml.AuthnRequest)
		answer func(w *world, s crossing.State) crossing.Turn
		status string
		code   finding.Code
	}{
		{"a format that cannot be had", func(q *saml.AuthnRequest) { q.NameIDFormat = "urn:x" }, said(nil),
			saml.StatusInvalidNameIDPolicy, finding.NameIDPolicyUnmet},
		{"a persistent name of a transient one", func(q *saml.AuthnRequest) { q.NameIDFormat = saml.FormatPersistent },
			said(func(a *saml.Answer) {
				a.NameID.Format = saml.FormatTransient
			}), saml.StatusInvalidNameIDPolicy, finding.NameIDPolicyUnmet},
		{"the provider refused", nil, refusal(saml.StatusAuthnFailed), saml.StatusAuthnFailed, finding.ResponseStatus},
		{"nothing may be asked", func(q *saml.AuthnRequest) { q.IsPassive = true }, refusal(saml.StatusNoPassive),
			saml.StatusNoPassive, finding.PassiveImpossible},
		{"the provider cannot give the context", func(q *saml.AuthnRequest) { q.Contexts = []string{token} },
			refusal(saml.StatusNoAuthnContext), saml.StatusNoAuthnContext, finding.ContextImpossible},
		{"the provider gave another context", func(q *saml.AuthnRequest) { q.Contexts = []string{token} }, said(nil),
			saml.StatusNoAuthnContext, finding.ContextOther},
		{"no new sign-in", func(q *saml.AuthnRequest) { q.ForceAuthn = true },
			said(func(a *saml.Answer) {
				a.AuthnInstant = now.Add(-2 * time.Minute)
			}), saml.StatusAuthnFailed, finding.AuthnTooOld},
		{"no proxy", func(q *saml.AuthnRequest) { q.ProxyCount = 1 }, nil, saml.StatusProxyCountExceeded,
			finding.ScopingUnmet},
		{"another person than expected", func(q *saml.AuthnRequest) { q.Subject = "bram@wrenmoor.example" }, said(nil),
			saml.StatusUnknownPrincipal, finding.SubjectOther},
	} {
		w := newWorld(t)
		got := w.request(c.ask)
		if c.answer != nil {
			got = c.answer(w, got.State)
		}
		require.Equal(t, crossing.Application, got.Next.(*crossing.Leave).To, c.rule)
		require.Equal(t, crossing.Refused, got.Result, c.rule)
		require.Equal(t, c.code, got.Finding.Code, c.rule)
		require.Contains(t, w.sent(got), c.status, c.rule)
		require.Contains(t, w.sent(got), `InResponseTo="_q"`, c.rule)
		require.NotEmpty(t, got.Next.(*crossing.Leave).Plan.Sent(), c.rule)
	}
	w := newWorld(t)
	require.Equal(t, crossing.Entered,
		w.answer(w.request(func(q *saml.AuthnRequest) { q.Subject = "ada@wrenmoor.example" }).State, nil).Result)
	opened := w.run(crossing.State{}, crossing.Event{Kind: crossing.Opened, App: "roster"})
	require.IsType(t, &crossing.Show{}, refusal(saml.StatusAuthnFailed)(w, opened.State).Next,
		"who did not ask hears nothing")
}

// A provider may forbid that its word is passed on (SAML core §2.5.1.6).
func TestAdmitHearsTheProvider(t *testing.T) {
	w := newWorld(t)
	by := func(no bool, audiences ...string) error {
		a := crossing.Authentication{}
		a.NoProxy, a.ProxyAudiences = no, audiences
		_, err := crossing.Admit(w.snap, crossing.Entrant{App: w.app, Stands: person.OnRecord(w.snap, nil, profile.Profile{},
			person.Person{}, nil), Proofs: []crossing.Authentication{{}, a}}, now)
		return err
	}
	require.NoError(t, by(false))
	require.True(t, finding.Is(by(true), finding.ProxyForbidden))
	require.True(t, finding.Is(by(false, "urn:somebody"), finding.ProxyForbidden))
	require.NoError(t, by(false, "urn:somebody", "urn:roster"))
}

// An effect whose guard failed comes back, and the crossing goes on from there.
func TestLostEffects(t *testing.T) {
	w := newWorld(t)
	asked := w.request(nil)
	asked.State.Kept = true
	done := w.answer(asked.State, nil)
	known := func(people map[string]person.Person) crossing.Facts {
		f := crossing.Facts{New: "n"}
		for link, p := range people {
			f.Put(crossing.WhoIs{Link: link}, p)
		}
		return f
	}
	lose := func(e crossing.Effect, people map[string]person.Person) crossing.Turn {
		return crossing.Advance(w.snap, done.State, crossing.Event{Kind: crossing.Lost, Lost: e,
			Browser: crossing.Browser{Secret: []byte("mine")}}, known(people), now)
	}
	made := done.Effects[2].(crossing.ChangePerson)
	key := made.Link[0].Key
	made.Lost = person.GuardLink
	race := lose(made, map[string]person.Person{key: {}})
	require.Equal(t, []crossing.Need{crossing.WhoIs{Link: key, For: w.app.ID}}, race.Next.(*crossing.Lacks).Needs,
		"it looks again")
	end := crossing.Advance(w.snap, race.State, crossing.Event{Kind: crossing.Learned},
		known(map[string]person.Person{key: {ID: 5}}), now)
	require.Equal(t, crossing.Entered, end.Result)
	require.EqualValues(t, 5, end.Person.ID)
	for _, e := range end.Effects {
		if c, is := e.(crossing.ChangePerson); is {
			require.EqualValues(t, 5, c.Person, "nobody is made")
		}
	}
	require.Equal(t, finding.AssertionReplayed, lose(crossing.Once{ID: "_a"}, nil).Finding.Code)
	require.Equal(t, crossing.PageFinished, lose(crossing.End{}, nil).Next.(*crossing.Show).Page)
	require.Equal(t, "https://g.example/crossing/"+asked.State.ID, lose(crossing.Keep{}, nil).Next.(*crossing.Go).To,
		"another turn was first: look where it stands now")
}

// The browser, the switch and the number of turns are judged at every turn.
func TestEveryTurnIsJudged(t *testing.T) {
	w := newWorld(t)
	asked := w.request(nil)
	turn := func(snap *federation.Snapshot, s crossing.State, secret string) finding.Code {
		got := crossing.Advance(snap, s, crossing.Event{Kind: crossing.Continued,
			Browser: crossing.Browser{Secret: []byte(secret)}}, crossing.Facts{New: "n"}, now)
		if got.Finding == nil {
			return ""
		}
		return got.Finding.Code
	}
	require.Empty(t, turn(w.snap, asked.State, "mine"))
	require.Equal(t, finding.CrossingOtherBrowser, turn(w.snap, asked.State, "theirs"))
	require.Equal(t, finding.CrossingUnknown, turn(w.snap, crossing.State{}, "mine"))
	off := *w.app
	off.Phase = federation.Paused
	require.Equal(t, finding.ApplicationDisabled, turn(w.snap.With(&off), asked.State, "mine"))
	require.Equal(t, finding.ApplicationUnknown, turn(w.snap.Lacking(&off), asked.State, "mine"))
	tired := asked.State
	tired.Turns = crossing.MaxTurns
	require.Equal(t, finding.CrossingTurns, turn(w.snap, tired, "mine"))
	tired.Stage = crossing.Ended
	require.Equal(t, finding.CrossingEnded, turn(w.snap, tired, "mine"))
}

// The same person's next sign-in adds a word to the session; another person's
// replaces it.
func TestSessionsJoin(t *testing.T) {
	ada, bram := person.Person{ID: 1, Key: "a"}, person.Person{ID: 2, Key: "b"}
	came := now
	word := func(p federation.Name, until time.Time) []crossing.Leg {
		a := &crossing.Answer{}
		a.Provider, a.ProviderID, a.Until = p, federation.ID("id-"+p), until
		return []crossing.Leg{{ProviderID: a.ProviderID, Word: a, Came: came}}
	}
	one := crossing.Joined(&federation.Gate{}, nil, ada, word("staff", time.Time{}), "lasting", now)
	require.Equal(t, now.Add(crossing.SessionLife), one.Expires)
	two := crossing.Joined(&federation.Gate{}, one, ada, word("card", now.Add(time.Hour)), "lasting", now)
	require.Len(t, two.Proofs, 2)
	require.Equal(t, one.Expires, two.Expires, "each word counts as long as it does")
	card := &federation.Provider{Basics: federation.Basics{Name: "card", ID: "id-card"}}
	require.Equal(t, now.Add(time.Hour), two.Of(card).Ends)
	card.ID = "another"
	require.Nil(t, two.Of(card), "another provider under its name")
	require.Len(t, crossing.Joined(&federation.Gate{}, two, ada, word("staff", time.Time{}), "lasting",
		now.Add(2*time.Hour)).Proofs, 1,
		"a word that has ended is not carried on")
	both := slices.Concat(word("staff", time.Time{}), word("card", now.Add(time.Hour)))
	require.Equal(t, two.Proofs[0], crossing.Joined(&federation.Gate{}, nil, ada, both, "lasting", now).Proofs[1],
		"several that came in one crossing are there as if they had come one after another")
	require.Len(t, crossing.Joined(&federation.Gate{}, two, bram, word("staff", time.Time{}), "lasting", now).Proofs, 1)
	require.Len(t, crossing.Joined(&federation.Gate{}, crossing.Joined(&federation.Gate{}, nil, person.Person{},
		word("staff", time.Time{}), "lasting", now),
		person.Person{}, word("card", time.Time{}), "lasting", now).Proofs, 1, "two whom nobody knows are not the same")
}

func TestLinkKeyTellsNamesApart(t *testing.T) {
	w := newWorld(t)
	other := *w.provider
	other.ID = "other" // under the same name
	seen := map[string]bool{}
	for _, s := range []profile.Subject{{Value: "a"}, {Value: "b"}, {Format: "f", Value: "a"},
		{NameQualifier: "f", Value: "a"}, {SPNameQualifier: "f", Value: "a"}} {
		for _, p := range []*federation.Provider{w.provider, &other} {
			key := person.LinkKey(p.ID, s)
			require.False(t, seen[key])
			seen[key] = true
		}
	}
	require.Empty(t, person.LinkKey(w.provider.ID, profile.Subject{Value: "a", Transient: true}))
}

// An address to go on to has to lie at the application.
func TestTargets(t *testing.T) {
	w := newWorld(t)
	for target, ok := range map[string]bool{
		"https://roster.example/x?y#z": true, "https://ROSTER.example": true,
		"https://roster.example.evil.example/": false, "https://roster.example@evil.example/": false,
		"http://roster.example/":       false,
		"https://roster.example:8443/": false, "//roster.example/": false, "javascript:alert(1)": false,
		"https://roster.example\\@evil.example": false,
		"/x":                                    false, "https://roster.example/" + string(make([]byte, 5000)): false,
	} {
		got := w.run(crossing.State{}, crossing.Event{Kind: crossing.Opened, App: "roster", Target: target})
		require.Equal(t, ok, got.Finding == nil, target)
		if !ok {
			require.Equal(t, finding.TargetForeign, got.Finding.Code)
		}
	}
}
