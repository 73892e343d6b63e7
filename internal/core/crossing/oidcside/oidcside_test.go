package oidcside_test

import (
	"crypto/rand"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/crossing/oidcside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/grant"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/listed"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/signout"
)

var now = time.Date(2026, 11, 26, 9, 0, 0, 0, time.UTC)

const base = "https://gate.example"

// gate is one with keys for every algorithm.
func gate(t testing.TB) federation.Gate {
	g := federation.Gate{Base: base, Own: oidcside.Protocol{}.Own(base), Skew: time.Minute, Pairwise: []byte("pairwise"),
		Handles: []byte("handles"), Keys: map[string]federation.KeySet{}, Purposes: oidcside.Protocol{}.Purposes()}
	for _, p := range g.Purposes {
		pair, err := keys.GenerateKind(p.Kinds[0], p.Name, now, rand.Reader)
		require.NoError(t, err)
		g.Keys[p.Name] = federation.KeySet{Current: pair}
	}
	return g
}

// random is none, so that what is made is the same each time.
func random(octets int) string { return strings.Repeat("x", octets) }

func side(t testing.TB, typed federation.Typed, settings string) *oidcside.Application {
	t.Helper()
	s, err := (&oidcside.Application{}).Overlay(typed)
	require.NoError(t, err)
	if settings != "" {
		s, err = s.With([]byte(settings))
		require.NoError(t, err)
	}
	made, _ := s.(*oidcside.Application).Made(random, now)
	return made.(*oidcside.Application)
}

func record(s federation.ApplicationSide) *federation.Application {
	a := &federation.Application{Side: s}
	a.ID, a.Name, a.Title, a.Phase = "id-planner", "planner", "Planner", federation.Live
	return a
}

const (
	back     = "https://planner.example/back"
	verifier = "a-verifier-that-has-forty-three-letters-or-more"
)

var web = federation.Typed{"kind": "web", "clientId": "planner", "redirectUris": back}

// What is typed is refused by its field, with the cause and the way out.
func TestTypedValues(t *testing.T) {
	for want, typed := range map[string]federation.Typed{
		"kind: there is no kind \"wep\"; did you mean web?":                   {"kind": "wep"},
		"kind: there is no kind \"desktop\"; use one of web, browser, native": {"kind": "desktop"},
		"redirectUris: \"planner.example\" is no address": {"kind": "web",
			"redirectUris": "planner.example"},
		"redirectUris: \"http://planner.example/\" has to be https": {"kind": "web",
			"redirectUris": "http://planner.example/"},
		"redirectUris: \"https://p.example/#a\" has a fragment": {"kind": "web",
			"redirectUris": "https://p.example/#a"},
		"redirectUris: \"https://*.example/\" has a wildcard": {"kind": "web",
			"redirectUris": "https://*.example/"},
		"redirectUris: \"x.y:/a\" has a scheme of its own": {"kind": "web", "redirectUris": "x.y:/a"},
		"redirectUris: the scheme \"planner\" is no domain name in reverse": {"kind": "native",
			"redirectUris": "planner:/a"},
		"redirectUris: a service has no redirect URI":                    {"kind": "service", "redirectUris": back},
		"clientId: the client ID has letters other than printable ASCII": {"clientId": "crème"},
		"clientId: the client ID has 300 letters":                        {"clientId": strings.Repeat("a", 300)},
		"clientSecret: the client secret has 5 letters; 16 to 512":       {"kind": "web", "clientSecret": "short"},
		"clientSecret: an application of kind browser can keep no secret": {"kind": "browser",
			"clientSecret": strings.Repeat("s", 20)},
		"jwks: ": {"jwks": "no key"},
		"jwks: keys and an address of keys were given": {"jwks": "x",
			"jwksUri": "https://p.example/jwks"},
		"jwksUri: \"ftp://p.example/\" is no address that is taken":                {"jwksUri": "ftp://p.example/"},
		"backchannelLogoutUri: \"http://p.example/\" is no address that is taken":  {"backchannelLogoutUri": "http://p.example/"},
		"acs: nothing of this name can be typed here; what can is clientId":        {"acs": "https://p.example/"},
		"initiateLoginUri: \"https://u:p@p.example/\" is no address that is taken": {"initiateLoginUri": "https://u:p@p.example/"},
	} {
		_, err := (&oidcside.Application{}).Overlay(typed)
		require.Error(t, err, want)
		require.Contains(t, err.Error(), want)
	}
	a := side(t, federation.Typed{"kind": "native", "redirectUris": "http://127.0.0.1/cb  example.planner:/cb"}, "")
	require.EqualValues(t, []oidc.RedirectURI{"http://127.0.0.1/cb", "example.planner:/cb"}, a.RedirectURI)
	require.True(t, strings.HasPrefix(string(a.ClientID), "client-"))
	b, err := a.Overlay(federation.Typed{"redirectUris": "none"})
	require.NoError(t, err)
	require.Equal(t, []federation.Lack{{What: "redirect URI", Field: "redirectUris"}}, b.Missing())
	require.Len(t, (&oidcside.Application{}).Missing(), 1)
}

// Settings that do not fit the kind of application, or each other, are refused.
func TestSettings(t *testing.T) {
	browser := federation.Typed{"kind": "browser", "redirectUris": "https://desk.example/"}
	for want, c := range map[string]struct {
		typed    federation.Typed
		settings string
	}{
		"authMethod: client_secret_basic cannot be: an application of kind browser": {browser,
			`{"authMethod":"client_secret_basic"}`},
		"authMethod: none cannot be: an application of kind web":        {web, `{"authMethod":"none"}`},
		"withoutPKCE: an application of kind browser always needs PKCE": {browser, `{"withoutPKCE":true}`},
		"origins: only applications of kind browser call from one":      {web, `{"origins":"https://x.example"}`},
		"origins: \"https://x.example/\" is no origin": {browser,
			`{"origins":"https://x.example/"}`},
		"resources: \"https://x.example/#a\" names no audience": {web,
			`{"resources":"https://x.example/#a"}`},
		"scopes: \"a\\\"b\" is no scope":   {web, `{"scopes":"a\"b"}`},
		"scopes: there are 51; at most 50": {web, `{"scopes":"` + strings.Repeat("a ", 51) + `"}`},
		"subject: a service has no person": {federation.Typed{"kind": "service"},
			`{"subject":"pairwise"}`},
	} {
		err := side(t, c.typed, c.settings).Check(&federation.Application{})
		require.Error(t, err, want)
		require.Contains(t, err.Error(), want)
	}
	for _, life := range []string{"10", "10x", "0m", "500d", "-1h"} {
		_, err := side(t, web, "").With([]byte(`{"refreshIdle":"` + life + `"}`))
		require.ErrorContains(t, err, "refreshIdle", life)
	}
	require.NoError(t, side(t, web, `{"refreshIdle":"30d","accessTokenLife":"90m"}`).Check(&federation.Application{}))
	found := func(s *oidcside.Application) (out []finding.Code) {
		a := record(s)
		for _, f := range checks.New(federation.NewSnapshot(gate(t)).With(a), now).Record(a) {
			out = append(out, f.Code)
		}
		return out
	}
	require.NotContains(t, found(side(t, web, "")), finding.RedirectLoopback)
	require.Contains(t, found(side(t, federation.Typed{"kind": "web", "redirectUris": "http://127.0.0.1/"}, "")),
		finding.RedirectLoopback)
	require.Contains(t, found(side(t, federation.Typed{"kind": "web", "redirectUris": base + "/x"}, "")),
		finding.RedirectUnregistered)
	require.Contains(t, found(side(t, web, `{"withoutPKCE":true}`)), finding.ExceptionInForce)
	jwk := `{"kty":"OKP","crv":"Ed25519","kid":"k","x":"11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo"%s}`
	for use, notes := range map[string]int{"": 1, `,"use":"sig"`: 0} {
		codes := found(side(t, federation.Typed{"kind": "service", "jwks": fmt.Sprintf(jwk, use)}, ""))
		require.Len(t, slices.DeleteFunc(codes, func(c finding.Code) bool { return c != finding.JWKWithoutUse }), notes)
	}
}

// Client metadata is taken in, and stored sides are read back as they were.
func TestMetadata(t *testing.T) {
	const document = `{"client_id":"planner","client_secret":"the secret of before it moved","client_name":"Planner",
		"redirect_uris":["https://planner.example/back"],"token_endpoint_auth_method":"client_secret_post","subject_type":"pairwise",
		"scope":"openid email","id_token_signed_response_alg":"ES256","contacts":["a@b.example"],"software_id":"x"}`
	s, _, err := (&oidcside.Application{}).Take([]byte(document), federation.Trusting{})
	require.NoError(t, err)
	a := s.(*oidcside.Application)
	require.Equal(t, oidcside.ApplicationSettings{AuthMethod: "client_secret_post", Subject: "pairwise",
		Scopes:    listed.ParseWords("email"),
		Algorithm: "ES256"},
		a.ApplicationSettings)
	require.Equal(t, []string{oidcside.SignsES256}, a.Purposes())
	require.Equal(t, []string{"software_id"}, a.PassedOver)
	require.NotContains(t, string(a.Kept([]byte(document))), "of before")
	require.Equal(t, []byte("{}"), a.Kept([]byte("{}")))
	stored, err := federation.Marshal(record(a))
	require.NoError(t, err)
	require.NotContains(t, string(stored), "of before")
	again, _, err := oidcside.Protocol{}.ReadApplication(stored, now)
	require.NoError(t, err)
	require.Equal(t, a, again)
	// What it asks for later is followed, where no engineer decided otherwise.
	decided, err := a.With([]byte(`{"algorithm":"EdDSA"}`))
	require.NoError(t, err)
	later, _, err := decided.(*oidcside.Application).Take([]byte(`{"client_id":"planner","redirect_uris":["https://planner.example/back"],
		"token_endpoint_auth_method":"client_secret_basic","id_token_signed_response_alg":"RS256","scope":"openid phone"}`),
		federation.Trusting{})
	require.NoError(t, err)
	require.Equal(t, oidcside.ApplicationSettings{AuthMethod: "client_secret_basic", Scopes: listed.ParseWords("phone"),
		Algorithm: "EdDSA"},
		later.(*oidcside.Application).ApplicationSettings)
	for want, document := range map[string]string{"XML": "<EntityDescriptor/>", "redirect_uris": `{"client_id":"a"}`,
		"letters": `{"client_id":"a\tb","redirect_uris":["https://p.example/"]}`} {
		_, _, err := (&oidcside.Application{}).Take([]byte(document), federation.Trusting{})
		require.Error(t, err)
		text := err.Error()
		if f := finding.Of(err); f != nil {
			text += fmt.Sprint(f.Evidence)
		}
		require.Contains(t, text, want)
	}
}

// world is a snapshot with an application that somebody signs in to.
type world struct {
	snap *federation.Snapshot
	app  *federation.Application
}

func newWorld(t testing.TB, s *oidcside.Application) world {
	app := record(s)
	return world{federation.NewSnapshot(gate(t)).With(app), app}
}

func (w world) side() *oidcside.Application { return w.app.Side.(*oidcside.Application) }

// receive hands a request to the application.
func (w world) receive(t testing.TB, changes ...string) (crossing.Request, error) {
	q := url.Values{"client_id": {"planner"}, "response_type": {"code"}, "redirect_uri": {back},
		"scope": {"openid profile offline_access"},
		"state": {"st"}, "nonce": {"n"}, "code_challenge": {oidc.Challenge(verifier)}, "code_challenge_method": {"S256"}}
	for i := 0; i < len(changes); i += 2 {
		q.Set(changes[i], changes[i+1])
	}
	out, _, err := w.side().Receive(&w.snap.Gate, w.app, oidcside.Request(q.Encode(), false, false), now)
	return out, err
}

func word() *crossing.Answer {
	a := &crossing.Answer{Subject: profile.Subject{Value: "ada"}, Attributes: []profile.Attribute{
		{Name: "givenName", Values: profile.Texts("Ada")}, {Name: "mail", Values: profile.Texts("ada@wrenmoor.example")},
		{Name: "sub", Values: profile.Texts("somebody else")}, {Name: "staffNumber",
			Values: []profile.Value{number("9007199254740993")}},
		{Name: "email_verified", Values: profile.Texts("perhaps")}, {Name: "groups", Values: profile.Texts("drivers")}}}
	a.At, a.Context, a.Methods = now.Add(-time.Minute), "urn:password", []string{"pwd"}
	return a
}

func number(s string) profile.Value { n, _ := profile.NumberOf(s); return n }

// answered plans and makes the response for somebody.
func (w world) answered(t testing.TB, own json.RawMessage, who string) (crossing.Issue, crossing.AnswerIn) {
	want, err := w.side().Naming(w.app, own)
	require.NoError(t, err)
	a := word()
	a.Subject.Transient = who == ""
	p := profile.PassThrough(a.Subject, a.Attributes)
	name, cause := p.Name(want, "")
	require.Empty(t, cause)
	in := crossing.AnswerIn{Gate: &w.snap.Gate, App: w.app, Own: own, Released: profile.Released{Name: name,
		Attributes: p.Attributes}, Answer: a, New: "grant",
		Session: "lasting",
		Now:     now, Person: person.Person{ID: 1, Identifier: who}}
	plan, err := w.side().Answer(in)
	require.NoError(t, err)
	r, err := plan.Render(&w.snap.Gate, crossing.Made{Random: rand.Reader, Now: now})
	require.NoError(t, err)
	require.NotContains(t, string(r.Octets)+r.Shown, strings.Split(r.Location, "code=igc_")[1:], "no code is recorded")
	return plan.(crossing.Issuing).Issues(), in
}

// tokens redeems what a response granted.
func (w world) tokens(t testing.TB, g grant.Grant) (oidcside.Tokens, grant.Grant, map[string]any) {
	next, err := g.Redeem(grant.Redemption{Client: w.app.ID, RedirectURI: back, Verifier: verifier}, now)
	require.NoError(t, err)
	got, err := w.side().Tokens(oidcside.Issue{Gate: &w.snap.Gate, Grant: next, Word: word(), Attrs: word().Attributes,
		Scopes: next.Scopes, Resources: next.Resources, Turn: int64(next.Turn), First: true, ID: "r", Now: now})
	require.NoError(t, err)
	claims, err := oidc.Wanted{Kind: oidc.IDToken, Keys: oidcside.SigningKeys(&w.snap.Gate)}.Verify(got.IDToken)
	require.NoError(t, err)
	return got, next, claims
}

// Subjects: the same for all, or of use to one sector only; claims where they are
// wanted, digit by digit; and nothing that a provider says sets what is the
// protocol's.
func TestWhatApplicationsAreTold(t *testing.T) {
	subs := map[string]string{}
	for name, c := range map[string]struct{ back, settings string }{
		"public": {back, `{}`}, "public too": {back, `{"subject":"public"}`},
		"pairwise":    {back, `{"subject":"pairwise"}`},
		"same sector": {back + " https://planner.example/other", `{"subject":"pairwise"}`},
		"other":       {back + " https://other.example/", `{"subject":"pairwise"}`},
	} {
		w := newWorld(t, side(t, federation.Typed{"kind": "web", "clientId": "planner", "redirectUris": c.back}, c.settings))
		q, err := w.receive(t)
		require.NoError(t, err)
		r, _ := w.answered(t, q.Own, "ada")
		subs[name] = r.Grant.Subject
		require.Equal(t, r.Subject, r.Grant.Subject)
	}
	require.Equal(t, subs["public"], subs["public too"])
	require.Equal(t, subs["pairwise"], subs["same sector"])
	require.Len(t, slices.Compact(slices.Sorted(slices.Values([]string{subs["public"], subs["pairwise"],
		subs["other"]}))), 3)

	w := newWorld(t, side(t, web, `{"claimsIn":"both","algorithm":"ES256"}`))
	q, err := w.receive(t, "claims",
		`{"id_token":{"staffNumber":null,"sub":null,"iss":null},"userinfo":{"email":null,"email_verified":null}}`)
	require.NoError(t, err)
	r, _ := w.answered(t, q.Own, "ada")
	got, g, claims := w.tokens(t, *r.Grant)
	require.Equal(t, json.Number("9007199254740993"), claims["staffNumber"])
	require.Equal(t, "Ada", claims["given_name"])
	require.Equal(t, g.Subject, claims["sub"])
	require.Equal(t, []any{"pwd"}, claims["amr"])
	require.NotContains(t, claims, "email")
	info := w.side().UserInfo(g, g.Scopes, word().Attributes)
	require.Equal(t, "ada@wrenmoor.example", info["email"])
	require.Equal(t, g.Subject, info["sub"])
	require.NotContains(t, info, "email_verified", "it is never made up")
	require.NotContains(t, info, "groups", "no scope asks for it")
	b, err := oidcside.ReadBearer(&w.snap.Gate, got.AccessToken, now)
	require.NoError(t, err)
	require.Equal(t, g.ID, b.Grant)
	_, err = oidcside.ReadBearer(&w.snap.Gate, got.AccessToken, now.Add(11*time.Minute))
	require.True(t, finding.Is(err, finding.GrantExpired))

	// By option in the ID token alone, and only what the standard has by default.
	q, err = w.receive(t)
	require.NoError(t, err)
	for settings, places := range map[string][2]bool{`{}`: {false, true}, `{"claimsIn":"idToken"}`: {true, false}} {
		x := newWorld(t, side(t, web, settings))
		r, _ := x.answered(t, q.Own, "ada")
		_, g, claims := x.tokens(t, *r.Grant)
		require.Equal(t, places[0], claims["given_name"] != nil, settings)
		require.Equal(t, places[1], x.side().UserInfo(g, g.Scopes, word().Attributes)["given_name"] != nil, settings)
	}
	passing, _ := w.answered(t, q.Own, "")
	require.False(t, passing.Grant.Refreshes || passing.Grant.Offline)
	require.Empty(t, passing.Subject, "nothing is kept of it")
}

func TestConsentAndRefusals(t *testing.T) {
	w := newWorld(t, side(t, web, ""))
	q, err := w.receive(t)
	require.NoError(t, err)
	_, in := w.answered(t, q.Own, "ada")
	c, err := w.side().Consent(in)
	require.NoError(t, err)
	require.True(t, c.Lasts, "offline_access is asked about")
	require.Equal(t, []string{"offline_access", "openid", "profile"}, c.Scopes)
	require.Equal(t, []federation.Value{{Label: "Given name", Value: "Ada"}}, c.Shown)
	q, err = w.receive(t, "scope", "openid")
	require.NoError(t, err)
	_, in = w.answered(t, q.Own, "ada")
	c, err = w.side().Consent(in)
	require.NoError(t, err)
	require.Nil(t, c)

	for why, code := range map[crossing.Refusal]string{crossing.RefusedPassive: "login_required",
		crossing.RefusedContext: "unmet_authentication_requirements",
		crossing.RefusedConsent: "consent_required", crossing.RefusedDenied: "access_denied",
		crossing.RefusedPerson: "login_required",
		crossing.RefusedHops:   "access_denied", crossing.RefusedFailed: "access_denied"} {
		f := finding.New(finding.ConsentNeeded)
		if why == crossing.RefusedDenied {
			f = finding.New(finding.ConsentDeclined)
		}
		plan := w.side().Refuse(&w.snap.Gate, w.app, q.Own, why, f)
		r, err := plan.Render(&w.snap.Gate, crossing.Made{})
		require.NoError(t, err)
		u, err := url.Parse(r.Location)
		require.NoError(t, err)
		require.Equal(t, code, u.Query().Get("error"))
		require.Equal(t, "st", u.Query().Get("state"))
		require.Equal(t, base, u.Query().Get("iss"))
		require.NotEmpty(t, plan.Sent())
	}
	require.Nil(t, w.side().Refuse(&w.snap.Gate, w.app, nil, crossing.RefusedDenied,
		finding.New(finding.ConsentDeclined)))
	_, err = w.side().Unasked(&w.snap.Gate, w.app, crossing.Landing{})
	require.True(t, finding.Is(err, finding.OwnStartMissing))
}

// A start at the gate goes to the application's own, and nowhere else.
func TestStartAndOrigins(t *testing.T) {
	s := side(t, federation.Typed{"kind": "browser", "clientId": "desk",
		"redirectUris":     "https://desk.example/ https://Desk.example:8443/x",
		"initiateLoginUri": "https://desk.example/start?a=b"}, `{"origins":"https://beta.desk.example"}`)
	require.Equal(t, []string{"https://beta.desk.example", "https://desk.example", "https://desk.example:8443"},
		s.Origins())
	g := gate(t)
	to, ok, err := s.Start(&g, crossing.Landing{Target: "https://desk.example/refund/17"})
	require.NoError(t, err)
	require.True(t, ok)
	require.Equal(t, "https://desk.example/start?a=b&iss=https%3A%2F%2Fgate.example&target_link_uri=https%3A%2F%2Fdesk.example%2Frefund%2F17", to)
	for _, target := range []string{"https://evil.example/", "https://desk.example.evil.example/",
		"https://desk.example@evil.example/",
		"//evil.example", "https://desk.example:444/"} {
		_, _, err = s.Start(&g, crossing.Landing{Target: target})
		require.True(t, finding.Is(err, finding.TargetForeign), target)
	}
	require.Equal(t, base+"/open/planner", record(s).Start(&g))
	require.Empty(t, record(side(t, web, "")).Start(&g), "it can only be started at the application")
	_, ok, err = side(t, web, "").Start(&g, crossing.Landing{})
	require.NoError(t, err)
	require.False(t, ok)
}

// Signing out: an ID token that has ended will do, an address that is not on record
// never does.
func TestLeaving(t *testing.T) {
	w := newWorld(t, side(t, federation.Typed{"kind": "web", "clientId": "planner", "redirectUris": back,
		"postLogoutRedirectUris": "https://planner.example/bye?x=y",
		"backchannelLogoutUri":   "https://planner.example/heard"}, ""))
	q, err := w.receive(t)
	require.NoError(t, err)
	r, _ := w.answered(t, q.Own, "ada")
	_, _, _ = w.tokens(t, *r.Grant)
	got, _, _ := w.tokens(t, *r.Grant)
	left, err := oidcside.ReadLeaving(w.snap, oidcside.Leaving{Hint: got.IDToken,
		RedirectURI: "https://planner.example/bye?x=y", State: "s&t"})
	require.NoError(t, err)
	require.Equal(t, "https://planner.example/bye?x=y&state=s%26t", left.Back)
	require.True(t, left.Is("lasting"))
	require.False(t, left.Is("another") || left.Is(""))
	for name, l := range map[string]oidcside.Leaving{"address": {Hint: got.IDToken,
		RedirectURI: "https://planner.example/bye"},
		"nobody's address": {RedirectURI: "https://planner.example/bye?x=y"}, "unknown": {ClientID: "nobody"},
		"another's": {Hint: got.IDToken, ClientID: "desk"}, "access token": {Hint: got.AccessToken},
		"garbage": {Hint: "e30.e30.AA"}} {
		left, err := oidcside.ReadLeaving(w.snap, l)
		require.Error(t, err, name)
		require.Empty(t, left.Back)
	}
	name, err := json.Marshal(r.Name)
	require.NoError(t, err)
	told := signout.Issued{App: w.app.ID, Session: r.Session, Name: name}
	notices := signout.Plan(w.snap, []signout.Issued{told, told, {App: "gone"}})
	require.Len(t, notices, 1)
	call, err := w.side().Notify(&w.snap.Gate, notices[0].Notice, "jti", now)
	require.NoError(t, err)
	form, err := url.ParseQuery(string(call.Body))
	require.NoError(t, err)
	_, err = oidc.Wanted{Kind: oidc.LogoutToken,
		Keys: oidcside.SigningKeys(&w.snap.Gate)}.Verify(form.Get("logout_token"))
	require.NoError(t, err)
	_, err = oidcside.ReadBearer(&w.snap.Gate, form.Get("logout_token"), now)
	require.True(t, finding.Is(err, finding.TokenKind), "it is no bearer token")
}

// Somebody whose subject is an application's client ID is not let in (RFC 9700
// §4.15).
func TestSubjectsAreNoClients(t *testing.T) {
	w := newWorld(t, side(t, web, ""))
	p := &federation.Provider{Side: plainProvider{}}
	p.ID, p.Name, p.Phase, p.Title = "id-staff", "staff", federation.Live, "Staff"
	snap := w.snap.With(p)
	a := word()
	a.Provider, a.ProviderID, a.Ends = "staff", "id-staff", now.Add(time.Hour)
	key := person.LinkKey("id-staff", a.Subject)
	enter := func(subject string) crossing.Turn {
		e := crossing.Event{Kind: crossing.Arrived,
			Arrival: oidcside.Request(url.Values{"client_id": {"planner"}, "response_type": {"code"},
				"redirect_uri": {back}, "scope": {"openid"}, "code_challenge": {oidc.Challenge(verifier)},
				"code_challenge_method": {"S256"}}.Encode(), false, false)}
		f := crossing.Facts{New: "n", Session: &crossing.Session{Proofs: []crossing.Answer{*a},
			Person: person.Person{ID: 1}}}
		return crossing.Advance(snap, crossing.State{}, e, crossing.With(f, crossing.WhoIs{Link: key},
			person.Person{ID: 1, Subject: subject}), now)
	}
	require.Equal(t, crossing.Entered, enter("a-subject").Result)
	require.Equal(t, finding.SubjectIsClient, enter("planner").Finding.Code)
}

// plainProvider is a provider that nobody asks.
type plainProvider struct{ crossing.ProviderSide }

func (plainProvider) Protocol() string                   { return "plain" }
func (plainProvider) Identity() string                   { return "urn:plain" }
func (plainProvider) Missing() []federation.Lack         { return nil }
func (plainProvider) Can() (a federation.Abilities)      { return a }
func (plainProvider) InCrossing() (a crossing.Abilities) { return a }

// Discovery and the JWK Set say the same as the addresses do.
func TestDiscovery(t *testing.T) {
	g := gate(t)
	octets, err := oidcside.Discovery(&g)
	require.NoError(t, err)
	var d map[string]any
	require.NoError(t, json.Unmarshal(octets, &d))
	require.Equal(t, base, d["issuer"])
	require.Equal(t, false, d["request_uri_parameter_supported"])
	require.Equal(t, []any{"S256"}, d["code_challenge_methods_supported"])
	require.Equal(t, []any{"code"}, d["response_types_supported"])
	for name, path := range map[string]string{"authorization_endpoint": oidcside.AuthorizePath,
		"token_endpoint": oidcside.TokenPath,
		"jwks_uri":       oidcside.JWKSPath, "userinfo_endpoint": oidcside.UserInfoPath,
		"end_session_endpoint": oidcside.LogoutPath} {
		require.Equal(t, base+path, d[name])
	}
	set, err := oidcside.JWKS(&g)
	require.NoError(t, err)
	read, err := oidc.ReadKeys(set)
	require.NoError(t, err)
	require.Len(t, read, 3)
	sheet := side(t, web, "").Sheet(federation.NewSnapshot(g), record(side(t, web, "")))
	require.Contains(t, sheet.Values, federation.SheetValue{Label: "Client ID", Value: "planner",
		AlsoCalled: []string{"client_id", "application ID"},
		Hint:       "also the audience of ID tokens"})
	for _, kind := range []string{"browser", "native", "service"} {
		typed := federation.Typed{"kind": kind}
		if kind != "service" {
			typed["redirectUris"] = "https://x.example/"
		}
		sheet := side(t, typed, "").Sheet(federation.NewSnapshot(g), record(side(t, typed, "")))
		has := slices.ContainsFunc(sheet.Values,
			func(v federation.SheetValue) bool { return v.Label == "Authorization endpoint" })
		require.Equal(t, kind != "service", has)
	}
}

// What a stranger sends never makes the reading of a request or a token fail
// otherwise than by a refusal.
func FuzzRequestsAndTokens(f *testing.F) {
	w := newWorld(f, side(f, web, ""))
	f.Add("client_id=planner&response_type=code&claims=%7B%7D", "igr_x.1.AAAA")
	f.Add("client_id=planner&redirect_uri="+url.QueryEscape(back)+"&claims="+
		url.QueryEscape(`{"id_token":{"acr":{"essential":true,"values":[1]}}}`), "a.b.c")
	f.Fuzz(func(t *testing.T, form, token string) {
		a := oidcside.Request(form, false, false)
		if a.Broken == nil {
			_, _, _ = w.side().Receive(&w.snap.Gate, w.app, a, now)
		}
		if _, err := oidcside.ReadBearer(&w.snap.Gate, token, now); err == nil {
			t.Fatal("nobody gave this token out")
		}
	})
}

func grantRedemption(w world) grant.Redemption {
	return grant.Redemption{Client: w.app.ID, RedirectURI: back, Verifier: verifier}
}

// oldOpaque is a token as builds before this one made it.
func oldOpaque(w world, g grant.Grant) string {
	return grant.Handle{Kind: grant.AccessHandle, Grant: g.ID + "!1!0",
		Number: now.Add(time.Minute).Unix()}.Token(w.snap.Gate.Handles)
}
