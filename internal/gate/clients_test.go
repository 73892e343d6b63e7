package gate

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/crossing/oidcside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/checking"
	"innergate.example/innergate/internal/gate/driving"
	"innergate.example/innergate/internal/gate/outbox"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/redeeming"
	"innergate.example/innergate/internal/gate/traces"
)

const (
	plannerBack = "https://planner.example/back"
	verifierOf  = "a-verifier-that-has-forty-three-letters-or-more"
)

// client adds an application of OpenID Connect.
func (r *rig) client(name string, typed federation.Typed, settings federation.Settings) *federation.Application {
	r.t.Helper()
	t := federation.Typed{"kind": "web", "redirectUris": plannerBack, "clientId": name}
	for field, v := range typed {
		t[field] = v
	}
	if t["kind"] == "service" {
		delete(t, "redirectUris")
	}
	a, err := r.Records.AddApplication(ctx, tester, records.NewRecord{Name: name, Source: records.Source{Typed: t},
		Settings: settings, Provider: "staff"})
	require.NoError(r.t, err)
	return a
}

// params is an authorization request with changes in pairs; an empty value takes a
// parameter out.
func params(changes ...string) string {
	q := url.Values{"client_id": {"planner"}, "response_type": {"code"}, "redirect_uri": {plannerBack},
		"scope": {"openid profile"}, "state": {"st"}, "nonce": {"n"}, "code_challenge": {oidc.Challenge(verifierOf)},
		"code_challenge_method": {"S256"}}
	for i := 0; i < len(changes); i += 2 {
		if q.Set(changes[i], changes[i+1]); changes[i+1] == "" {
			q.Del(changes[i])
		}
	}
	return q.Encode()
}

func (r *rig) authorize(b driving.Browser, changes ...string) driving.Outcome {
	return r.Crossings.Arrive(ctx, b, oidcside.Request(params(changes...), false, false))
}

// back is what the application hears.
func (r *rig) back(o driving.Outcome) url.Values {
	r.t.Helper()
	require.NotNil(r.t, o.Departure, "%+v %+v", o, o.Finding)
	u, err := url.Parse(o.Departure.Location)
	require.NoError(r.t, err)
	require.Equal(r.t, "https://gate.example", u.Query().Get("iss"))
	require.Equal(r.t, "st", u.Query().Get("state"))
	return u.Query()
}

// code signs somebody in, agrees where it is asked, and gives the code.
func (r *rig) code(b driving.Browser, edit func(*saml.Answer), changes ...string) (string, driving.Browser) {
	r.t.Helper()
	o := r.authorize(b, changes...)
	b = keep(b, o)
	if o.Departure != nil && o.Departure.Message == "AuthnRequest" {
		o = r.answer(b, r.asked(o).ID, edit)
		b = keep(b, o)
	}
	if o.Page == crossing.PageAgree {
		o = r.Crossings.Submit(ctx, b, o.Crossing, url.Values{"agree": {"yes"}, "digest": {o.Agree.Digest}})
		b = keep(b, o)
	}
	code := r.back(o).Get("code")
	require.NotEmpty(r.t, code)
	return code, b
}

// caller is a call by form, with name and secret in the header if they are given.
func caller(form url.Values, auth ...string) redeeming.Caller {
	c := redeeming.Caller{Form: form.Encode(), ContentType: "application/x-www-form-urlencoded", Network: "192.0.2.1"}
	if len(auth) == 2 {
		c.Authorization = "Basic " + base64.StdEncoding.EncodeToString([]byte(url.QueryEscape(auth[0])+":"+
			url.QueryEscape(auth[1])))
	}
	return c
}

func redemption(code string) url.Values {
	return url.Values{"grant_type": {"authorization_code"}, "code": {code}, "redirect_uri": {plannerBack},
		"code_verifier": {verifierOf}}
}

func refreshing(token string) url.Values {
	return url.Values{"grant_type": {"refresh_token"}, "refresh_token": {token}}
}

// said reads the claims of a token that the gate signed.
func (r *rig) claims(token string, kind oidc.Kind) map[string]any {
	r.t.Helper()
	out, err := oidc.Wanted{Kind: kind, Keys: oidcside.SigningKeys(&r.Snapshot().Gate)}.Verify(token)
	require.NoError(r.t, err)
	return out
}

// refusedBy demands a code of the protocol and a finding.
func refusedBy(t testing.TB, err error, code oidc.Code, f finding.Code) {
	t.Helper()
	no := oidc.RefusalOf(err)
	require.NotNil(t, no, "%v", err)
	require.Equal(t, code, no.Code, "%v", no.Finding)
	require.Equal(t, f, no.Finding.Code, "%v", no.Finding.Evidence)
}

// codes are those of what checks find on a record.
func codes(t *testing.T, r *rig, name string) (out []finding.Code) {
	all, err := r.Checking.Check(ctx, checking.Filter{Names: []string{name}})
	require.NoError(t, err)
	for _, f := range all[0].Findings {
		out = append(out, f.Code)
	}
	return out
}

func TestAuthorizationRequests(t *testing.T) {
	r := newRig(t)
	r.client("planner", nil, nil)
	r.client("feed", federation.Typed{"kind": "service"}, nil)
	for name, c := range map[string]struct {
		changes []string
		page    finding.Code // a page for the person, and no redirect
		code    string       // or what the application hears
	}{
		"slash":           {[]string{"redirect_uri", plannerBack + "/"}, finding.RedirectUnregistered, ""},
		"case":            {[]string{"redirect_uri", "https://planner.example/Back"}, finding.RedirectUnregistered, ""},
		"query":           {[]string{"redirect_uri", plannerBack + "?x"}, finding.RedirectUnregistered, ""},
		"none":            {[]string{"redirect_uri", ""}, finding.OAuthRequest, ""},
		"nobody":          {[]string{"client_id", "nobody"}, finding.ApplicationUnknown, ""},
		"a service":       {[]string{"client_id", "feed"}, finding.OAuthRequest, ""},
		"implicit":        {[]string{"response_type", "token"}, "", "unsupported_response_type"},
		"no PKCE":         {[]string{"code_challenge", "", "code_challenge_method", ""}, "", "invalid_request"},
		"plain":           {[]string{"code_challenge_method", "plain"}, "", "invalid_request"},
		"none and more":   {[]string{"prompt", "none login"}, "", "invalid_request"},
		"request":         {[]string{"request", "e30.e30."}, "", "request_not_supported"},
		"request address": {[]string{"request_uri", "https://evil.example/r"}, "", "request_uri_not_supported"},
		"resource":        {[]string{"resource", "https://x.example/"}, "", "invalid_target"},
		"claims":          {[]string{"claims", `{"id_token":{},"id_token":{}}`}, "", "invalid_request"},
		"hint":            {[]string{"id_token_hint", "e30.e30.AAAA"}, "", "invalid_request"},
		"max_age":         {[]string{"max_age", "-1"}, "", "invalid_request"},
		"mode":            {[]string{"response_mode", "fragment"}, "", "invalid_request"},
		"many contexts":   {[]string{"acr_values", strings.Repeat("urn:a ", 21)}, "", "invalid_request"},
	} {
		t.Run(name, func(t *testing.T) {
			o := r.authorize(driving.Browser{}, c.changes...)
			if c.page != "" {
				require.Nil(t, o.Departure)
				require.Equal(t, c.page, o.Finding.Code)
				return
			}
			require.True(t, strings.HasPrefix(o.Departure.Location, plannerBack+"?"))
			require.Equal(t, c.code, r.back(o).Get("error"))
		})
	}
	twice := r.Crossings.Arrive(ctx, driving.Browser{}, oidcside.Request(params()+"&redirect_uri=https://evil.example/",
		false, false))
	require.Nil(t, twice.Departure)
	require.Equal(t, "invalid_request", r.back(r.Crossings.Arrive(ctx, driving.Browser{},
		oidcside.Request(params()+"&nonce=m", false, false))).Get("error"))
	posted := r.Crossings.Arrive(ctx, driving.Browser{}, oidcside.Request(params(), true, false))
	require.Contains(t, posted.Next, "/crossing/", "the session does not come along with a form of another site")
}

// What is demanded of the sign-in goes to the provider in its words, and what cannot
// be proved is refused in the application's.
func TestWishesAreCarriedOver(t *testing.T) {
	r := newRig(t)
	secret := r.client("planner", nil, nil).Shown
	code, b := r.code(driving.Browser{}, nil)
	tokens, err := r.Redeeming.Token(ctx, caller(redemption(code), "planner", secret))
	require.NoError(t, err)
	said := r.claims(tokens.IDToken, oidc.IDToken)
	require.Equal(t, json.Number(strconvUnix(r.clock.get())), said["auth_time"])
	require.Equal(t, saml.ContextPassword, said["acr"])
	require.Equal(t, "n", said["nonce"])

	r.clock.set(r.clock.get().Add(time.Hour))
	require.NotEmpty(t, r.back(r.authorize(b)).Get("code"), "the session does")
	require.NotEmpty(t, r.back(r.authorize(b, "id_token_hint", tokens.IDToken, "prompt", "none")).Get("code"),
		"a hint that has ended")
	for name, c := range map[string]struct {
		changes []string
		holds   func(*saml.AuthnRequest) bool
	}{
		"login":          {[]string{"prompt", "login"}, func(q *saml.AuthnRequest) bool { return q.ForceAuthn }},
		"select_account": {[]string{"prompt", "select_account"}, func(q *saml.AuthnRequest) bool { return q.ForceAuthn }},
		"max_age=0":      {[]string{"max_age", "0"}, func(q *saml.AuthnRequest) bool { return q.ForceAuthn }},
		"max_age":        {[]string{"max_age", "600"}, func(q *saml.AuthnRequest) bool { return q.ForceAuthn }},
		"essential acr": {[]string{"claims", `{"id_token":{"acr":{"essential":true,"values":["urn:card"]}}}`},
			func(q *saml.AuthnRequest) bool { return q.Contexts[0] == "urn:card" && q.Comparison == "exact" }},
	} {
		require.True(t, c.holds(r.asked(r.authorize(b, c.changes...))), name)
	}
	require.True(t, r.asked(r.authorize(driving.Browser{}, "prompt", "none")).IsPassive)

	// Whom to expect is told a provider that wants to be told, if XML can say it.
	for _, ask := range []bool{false, true} {
		require.NoError(t, r.changeProvider(func(s federation.Settings) { s["askSubject"] = ask }))
		for hint, told := range map[string]bool{"ada@wrenmoor.example": ask, "Ada <& Bram>": ask, "a\x01b": false,
			strings.Repeat("a", 257): false} {
			r.clock.set(r.clock.get().Add(time.Minute))
			o := r.authorize(driving.Browser{}, "login_hint", hint)
			require.Equal(t, map[bool]string{true: hint}[told], r.asked(o).Subject, hint)
			r.answer(keep(driving.Browser{}, o), r.asked(o).ID, nil)
			rows, _, err := r.Traces.List(ctx, traces.Filter{Limit: 1})
			require.NoError(t, err)
			_, steps, err := r.Traces.Get(ctx, rows[0].ID)
			require.NoError(t, err)
			require.Equal(t, !told, strings.Contains(fmt.Sprint(steps), "whom to sign in as"), hint)
		}
	}

	// An essential context that was not proved is refused; one that is wished for is
	// asked for once, and then left out.
	o := r.authorize(b, "claims", `{"id_token":{"acr":{"essential":true,"value":"urn:card"}}}`)
	require.Equal(t, "unmet_authentication_requirements", r.back(r.answer(keep(b, o), r.asked(o).ID, nil)).Get("error"))
	o = r.authorize(driving.Browser{}, "acr_values", "urn:card")
	c := keep(driving.Browser{}, o)
	impossible, err := saml.WriteStatus(saml.Answer{ResponseID: messageID(), At: r.clock.get(), Issuer: "urn:idp",
		Destination: "https://gate.example/saml/sp/staff/acs", InResponseTo: r.asked(o).ID},
		saml.StatusResponder, saml.StatusNoAuthnContext, "", r.idp)
	require.NoError(t, err)
	o = r.respond(c, "staff", saml.Inbound{Binding: saml.BindingPOST, Octets: impossible})
	require.Empty(t, r.asked(o).Contexts, "it was only a wish")
	require.NotEmpty(t, r.back(r.answer(c, r.asked(o).ID, nil)).Get("code"))

	// Somebody else than the hint names is told to sign in.
	other := r.enter(func(a *saml.Answer) { a.NameID.Value = "bram@wrenmoor.example" })
	require.Equal(t, "login_required", r.back(r.authorize(other, "id_token_hint", tokens.IDToken)).Get("error"))
}

func strconvUnix(at time.Time) string {
	text, _ := json.Marshal(at.Unix())
	return string(text)
}

// A client that signs its proof: once each, for us alone, with keys at an address
// that are asked for again when one is missing.
func TestClientAssertions(t *testing.T) {
	r := newRig(t)
	keyOf := func(id string) (*ecdsa.PrivateKey, jose.JSONWebKey) {
		private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, err)
		return private, jose.JSONWebKey{Key: private.Public(), KeyID: id, Use: "sig"}
	}
	first, public := keyOf("one")
	var set atomic.Pointer[[]byte]
	publish := func(keys ...jose.JSONWebKey) {
		octets, err := json.Marshal(jose.JSONWebKeySet{Keys: keys})
		require.NoError(t, err)
		set.Store(&octets)
	}
	publish(public)
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		_,
			_ = w.Write(*set.Load())
	}))
	defer srv.Close()
	r.client("feed", federation.Typed{"kind": "service", "jwksUri": strings.Replace(srv.URL, "localhost", "127.0.0.1",
		1)},
		federation.Settings{"scopes": "read"})
	scope := ""
	call := func(private *ecdsa.PrivateKey, id string, edit func(map[string]any)) error {
		said := map[string]any{"iss": "feed", "sub": "feed", "aud": "https://gate.example", "jti": messageID(),
			"exp": r.clock.get().Add(time.Minute).Unix()}
		if edit != nil {
			edit(said)
		}
		signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: private},
			(&jose.SignerOptions{}).WithHeader("kid", id))
		require.NoError(t, err)
		payload, err := json.Marshal(said)
		require.NoError(t, err)
		signed, err := signer.Sign(payload)
		require.NoError(t, err)
		text, err := signed.CompactSerialize()
		require.NoError(t, err)
		form := url.Values{"grant_type": {"client_credentials"}, "client_assertion": {text}, "scope": {scope},
			"client_assertion_type": {"urn:ietf:params:oauth:client-assertion-type:jwt-bearer"}}
		_, err = r.Redeeming.Token(ctx, caller(form))
		return err
	}
	spent := func(c map[string]any) { c["jti"] = "of a request that is refused" }
	scope = "more"
	require.Equal(t, oidc.InvalidScope, oidc.RefusalOf(call(first, "one", spent)).Code)
	scope = ""
	refusedBy(t, call(first, "one", spent), oidc.InvalidClient, finding.ClientAssertionTwice)
	require.NoError(t, call(first, "one", nil))
	once := func(c map[string]any) { c["jti"] = "only once" }
	require.NoError(t, call(first, "one", once))
	refusedBy(t, call(first, "one", once), oidc.InvalidClient, finding.ClientAssertionTwice)
	r.restart()
	refusedBy(t, call(first, "one", once), oidc.InvalidClient, finding.ClientAssertionTwice)
	for name, edit := range map[string]func(map[string]any){
		"the token endpoint": func(c map[string]any) { c["aud"] = "https://gate.example/oidc/op/token" },
		"two audiences":      func(c map[string]any) { c["aud"] = []string{"https://gate.example", "https://x.example"} },
		"another client":     func(c map[string]any) { c["iss"] = "planner" },
		"too long":           func(c map[string]any) { c["exp"] = r.clock.get().Add(time.Hour).Unix() },
		"no jti":             func(c map[string]any) { delete(c, "jti") },
	} {
		require.Equal(t, oidc.InvalidClient, oidc.RefusalOf(call(first, "one", edit)).Code, name)
	}
	second, next := keyOf("two")
	publish(next)
	require.Error(t, call(second, "two", nil), "asked just now")
	r.clock.set(r.clock.get().Add(2 * time.Minute))
	require.NoError(t, call(second, "two", nil))
	garbage := []byte("<html>")
	set.Store(&garbage)
	r.clock.set(r.clock.get().Add(2 * time.Hour))
	require.NoError(t, r.Copies.RefreshDue(ctx))
	require.NoError(t, call(second, "two", nil), "the last good copy stays")
	found, err := r.Checking.Check(ctx, checking.Filter{Names: []string{"feed"}, Code: string(finding.JWKSUnusable)})
	require.NoError(t, err)
	require.Len(t, found[0].Findings, 1)
}

func TestPushedRequests(t *testing.T) {
	r := newRig(t)
	secret := r.client("planner", nil, nil).Shown
	other := r.client("other", nil, nil).Shown
	form, err := url.ParseQuery(params())
	require.NoError(t, err)
	uri, life, err := r.Redeeming.Push(ctx, caller(form, "planner", secret))
	require.NoError(t, err)
	require.Equal(t, 90*time.Second, life)
	_, err = r.Redeeming.Pushed(ctx, "other", uri)
	refusedBy(t, err, oidc.InvalidRequest, finding.OAuthRequest)
	pushed, err := r.Redeeming.Pushed(ctx, "planner", uri)
	require.NoError(t, err)
	r.asked(r.Crossings.Arrive(ctx, driving.Browser{}, oidcside.Request(pushed, false, true)))
	_, err = r.Redeeming.Pushed(ctx, "planner", uri)
	refusedBy(t, err, oidc.InvalidRequest, finding.OAuthRequest)
	_, err = r.Redeeming.Pushed(ctx, "planner", "https://evil.example/request")
	refusedBy(t, err, oidc.RequestURIsUnwelcome, finding.OAuthRequest)
	for name, changes := range map[string][]string{"redirect": {"redirect_uri", "https://evil.example/"},
		"PKCE": {"code_challenge", ""},
		"uri":  {"request_uri", "urn:x"}} {
		form, err := url.ParseQuery(params(changes...))
		require.NoError(t, err)
		_, _, err = r.Redeeming.Push(ctx, caller(form, "planner", secret))
		require.Error(t, err, name)
	}
	form.Set("client_id", "planner")
	_, _, err = r.Redeeming.Push(ctx, caller(form, "other", other))
	require.Error(t, err, "another client's name in the form")
	uri, _, err = r.Redeeming.Push(ctx, caller(url.Values{"response_type": {"code"}, "redirect_uri": {plannerBack},
		"code_challenge": {oidc.Challenge(verifierOf)}, "code_challenge_method": {"S256"}}, "planner", secret))
	require.NoError(t, err)
	r.clock.set(r.clock.get().Add(91 * time.Second))
	_, err = r.Redeeming.Pushed(ctx, "planner", uri)
	require.Error(t, err, "too late")

	// Anybody can push in the name of a public client, so what is kept is bounded.
	r.client("terminal", federation.Typed{"kind": "native", "redirectUris": "http://127.0.0.1/"}, nil)
	form, err = url.ParseQuery(params("client_id", "terminal", "redirect_uri", "http://127.0.0.1:7/"))
	require.NoError(t, err)
	for range 1000 {
		if _, _, err = r.Redeeming.Push(ctx, caller(form)); err != nil {
			break
		}
	}
	refusedBy(t, err, "temporarily_unavailable", finding.TooManyStarts)
	form.Set("login_hint", strings.Repeat("a", 5000))
	_, _, err = r.Redeeming.Push(ctx, caller(form))
	refusedBy(t, err, oidc.InvalidRequest, finding.OAuthRequest)
}

// Applications hear that somebody left, also those that are down at first, and
// across a restart.
func TestSignOutIsTold(t *testing.T) {
	r := newRig(t)
	heard, down := make(chan string, 10), atomic.Bool{}
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if down.Load() {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		heard <- q.FormValue("logout_token")
	}))
	defer srv.Close()
	a := r.client("planner", federation.Typed{"backchannelLogoutUri": srv.URL + "/heard"}, nil)
	r.client("deaf", nil, nil)
	code, b := r.code(driving.Browser{}, nil)
	got, err := r.Redeeming.Token(ctx, caller(redemption(code), "planner", a.Shown))
	require.NoError(t, err)
	_, b = r.code(b, nil)
	_, b = r.code(b, nil, "client_id", "deaf")
	down.Store(true)
	told, err := r.Leaving.SignOut(ctx, r.Leaving.Session(ctx, b.Session))
	require.NoError(t, err)
	require.Equal(t, 1, told, "once each, however often it was told; and only who wants to hear")
	require.Nil(t, r.Leaving.Session(ctx, b.Session))
	require.NoError(t, r.Outbox.SendDue(ctx))
	var waits []outbox.Waiting
	require.Eventually(t, func() bool { // the gate sends by itself, too
		waits, err = r.Outbox.List(ctx, 10)
		require.NoError(t, err)
		if waits[0].Tries < 3 {
			r.clock.set(waits[0].Due)
			require.NoError(t, r.Outbox.SendDue(ctx))
		}
		return waits[0].Tries == 3
	}, 10*time.Second, 5*time.Millisecond, "the sign-out has a trace, and that nobody answers is told")
	require.Equal(t, outbox.Waiting{App: "planner", Address: srv.URL + "/heard", Tries: 3, Answer: "it answered 503",
		Due:   waits[0].Due,
		Until: waits[0].Until}, waits[0])
	require.Contains(t, codes(t, r, "planner"), finding.NoticeUnanswered)
	signedOut := func() traces.Head {
		heads, _, err := r.Traces.List(ctx, traces.Filter{Result: crossing.SignedOut, Limit: 10})
		require.NoError(t, err)
		require.Len(t, heads, 1)
		return heads[0]
	}
	require.Equal(t, []string{"ada@wrenmoor.example", string(finding.NoticeUnanswered)},
		[]string{signedOut().Person, signedOut().Finding})
	_, steps, err := r.Traces.Get(ctx, signedOut().ID)
	require.NoError(t, err)
	require.Contains(t, fmt.Sprint(steps), srv.URL+"/heard")
	down.Store(false)
	r.restart()
	r.clock.set(r.clock.get().Add(10 * time.Minute))
	require.NoError(t, r.Outbox.SendDue(ctx))
	require.Empty(t, signedOut().Finding, "it heard after all")
	require.NotContains(t, codes(t, r, "planner"), finding.NoticeUnanswered)
	said := r.claims(<-heard, oidc.LogoutToken)
	id := r.claims(got.IDToken, oidc.IDToken)
	for _, name := range []string{"sub", "sid", "aud", "iss"} {
		require.Equal(t, id[name], said[name], name)
	}
	require.NotContains(t, said, "nonce")
	require.Contains(t, said["events"], "http://schemas.openid.net/event/backchannel-logout")
	n, err := r.Outbox.Waits(ctx)
	require.NoError(t, err)
	require.Zero(t, n)

	// Somebody else signs in with the same browser: that is a sign-out too.
	_, b = r.code(driving.Browser{}, nil)
	o := r.authorize(b, "prompt", "login")
	b = keep(b, o)
	require.NotNil(t, r.answer(b, r.asked(o).ID,
		func(a *saml.Answer) { a.NameID.Value = "bram@wrenmoor.example" }).Departure)
	require.NoError(t, r.Outbox.SendDue(ctx))
	require.NotEmpty(t, <-heard)
}

func TestSecretsAndIdentifiers(t *testing.T) {
	r := newRig(t)
	a := r.client("planner", nil, nil)
	works := func(secret string) bool {
		_, err := r.Redeeming.Introspect(ctx, caller(url.Values{"token": {"x"}}, "planner", secret))
		return err == nil
	}
	next, err := r.Records.Rotate(ctx, tester, "planner", 0, federation.Rotation{Overlap: time.Hour,
		Life: 24 * time.Hour})
	require.NoError(t, err)
	require.True(t, works(a.Shown) && works(next.Shown), "both, while one follows the other")
	found := func() (out []finding.Code) {
		a, err := r.Records.Application("planner")
		require.NoError(t, err)
		for _, f := range checks.New(r.Snapshot(), r.clock.get()).Record(a) {
			out = append(out, f.Code)
		}
		return out
	}
	require.Contains(t, found(), finding.SecretEnding)
	r.clock.set(r.clock.get().Add(2 * time.Hour))
	require.True(t, !works(a.Shown) && works(next.Shown))
	r.clock.set(r.clock.get().Add(24 * time.Hour))
	require.False(t, works(next.Shown))
	require.Contains(t, found(), finding.SecretEnded)
	given, err := r.Records.Rotate(ctx, tester, "planner", 0, federation.Rotation{Given: "a secret that it brings along"})
	require.NoError(t, err)
	require.Empty(t, given.Shown)
	require.True(t, works("a secret that it brings along"))
	var fe *change.FieldError
	_, err = r.Records.Rotate(ctx, tester, "planner", 0, federation.Rotation{Given: "short"})
	require.ErrorAs(t, err, &fe)
	require.Equal(t, "clientSecret", fe.Field)
	_, err = r.Records.Rotate(ctx, tester, "roster", 0, federation.Rotation{})
	var ce *change.ConflictError
	require.ErrorAs(t, err, &ce)

	// A client ID belongs to one application for ever.
	add := func(name string) error {
		_, err := r.Records.AddApplication(ctx, tester, records.NewRecord{Name: name, Source: records.Source{
			Document: []byte(`{"client_id":"planner","client_secret":"the secret of before it moved","redirect_uris":["https://p.example/"]}`)}})
		return err
	}
	require.True(t, finding.Is(add("second"), finding.MetadataKnown))
	require.NoError(t, r.Records.RemoveApplication(ctx, tester, "planner"))
	err = add("third")
	require.True(t, finding.Is(err, finding.IdentifierUsed), "%v", err)
	require.ErrorAs(t, err, &fe)

	// How it presents itself is taken over where nothing else was said.
	said, err := r.Records.AddApplication(ctx, tester, records.NewRecord{Name: "said", Title: "Ours",
		Source: records.Source{
			Document: []byte(`{"client_name":"Theirs","policy_uri":"https://p.example/policy","logo_uri":"https://p.example/logo",
			"contacts":["a@p.example","b@p.example"],"redirect_uris":["https://p.example/"],"token_endpoint_auth_method":"none"}`)}})
	require.NoError(t, err)
	require.Equal(t, []string{"Ours", "https://p.example/policy", "https://p.example/logo", "a@p.example, b@p.example"},
		[]string{said.Title, said.Policy, said.Logo, said.Contact})

	// What is handed over is kept without the secret in it, and no secret is kept.
	_, err = r.Records.AddApplication(ctx, tester, records.NewRecord{Name: "moved", Source: records.Source{
		Document: []byte(`{"client_id":"moved","client_secret":"the secret of before it moved","redirect_uris":["https://p.example/"]}`)}})
	require.NoError(t, err)
	octets, err := r.Records.Document(ctx, change.KindApplication, "moved")
	require.NoError(t, err)
	require.NotContains(t, string(octets), "of before")
	_, err = r.Redeeming.Introspect(ctx, caller(url.Values{"token": {"x"}}, "moved", "the secret of before it moved"))
	require.NoError(t, err)
}

// Keys for an algorithm are made when first needed, and roll over without an outage.
func TestKeysOfTokens(t *testing.T) {
	r := newRig(t)
	published := func() int { return len(oidcside.SigningKeys(&r.Snapshot().Gate)) }
	require.Zero(t, published())
	a := r.client("planner", nil, federation.Settings{"algorithm": "EdDSA"})
	require.Equal(t, 1, published())
	sign := func() string {
		code, _ := r.code(driving.Browser{}, nil)
		got, err := r.Redeeming.Token(ctx, caller(redemption(code), "planner", a.Shown))
		require.NoError(t, err)
		return got.AccessToken
	}
	before := sign()
	var fe *change.FieldError
	require.ErrorAs(t, r.Rollover.Announce(ctx, tester, oidcside.SignsEdDSA, "ec-p256"), &fe)
	require.NoError(t, r.Rollover.Announce(ctx, tester, oidcside.SignsEdDSA, ""))
	require.Equal(t, 2, published(), "ahead of time")
	require.NoError(t, r.Rollover.Switch(ctx, tester, oidcside.SignsEdDSA))
	after := sign()
	require.NotEqual(t, strings.Split(before, ".")[0], strings.Split(after, ".")[0])
	_, err := r.Redeeming.UserInfo(ctx, redeeming.Caller{}, before)
	require.NoError(t, err, "as long as it is good")
	_, err = r.Records.Configure(ctx, tester, change.KindApplication, "planner", 0,
		federation.Settings{"algorithm": "ES256"})
	require.NoError(t, err)
	require.Equal(t, 3, published())
	require.NotEmpty(t, sign())
	r.restart()
	require.Equal(t, 3, published())
}
