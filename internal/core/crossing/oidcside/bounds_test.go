package oidcside_test

import (
	"encoding/json"
	"net/url"
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/crossing/oidcside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/oidc"
)

// What a request may ask for is bounded by the record, whichever way it asks; what cannot be
// is refused.
func TestRequestsAreBoundedByTheRecord(t *testing.T) {
	w := newWorld(t, side(t, web, `{"scopes":"profile"}`))
	asked := `{"id_token":{"email":null,"given_name":null,"staffNumber":null},"userinfo":{"groups":null,"email":{"essential":true}}}`
	q, err := w.receive(t, "scope", "openid profile email", "claims", asked)
	require.NoError(t, err)
	require.Equal(t, []string{"given_name"}, q.Wish.Claims)
	// A grant of before the record was narrowed tells no more than it does today.
	wide := newWorld(t, side(t, web, ""))
	q, err = wide.receive(t, "scope", "openid profile email", "claims", asked)
	require.NoError(t, err)
	r, _ := wide.answered(t, q.Own, "ada")
	_, g, claims := wide.tokens(t, *r.Grant)
	require.Contains(t, claims, "staffNumber", "no scope is set, so a claim that none stands for may be asked for")
	_, _, claims = w.tokens(t, *r.Grant)
	require.NotContains(t, claims, "staffNumber")
	require.NotContains(t, claims, "email")
	require.NotContains(t, w.side().UserInfo(g, []string{"openid"}, word().Attributes), "groups")

	for name, c := range map[string]struct {
		changes []string
		want    string
		timed   bool
		subject string
	}{
		"two people": {changes: []string{"claims", `{"id_token":{"sub":{"value":"other"}}}`, "id_token_hint",
			"HINT"}, want: "two people"},
		"two people, userinfo": {changes: []string{"claims",
			`{"userinfo":{"sub":{"value":"other"}},"id_token":{"sub":{"value":"one"}}}`}, want: "two people"},
		"one person": {changes: []string{"claims",
			`{"id_token":{"sub":{"value":"one"}},"userinfo":{"sub":{"value":"one"}}}`}, subject: "one"},
		"essential auth_time":   {changes: []string{"claims", `{"id_token":{"auth_time":{"essential":true}}}`}, timed: true},
		"voluntary auth_time":   {changes: []string{"claims", `{"id_token":{"auth_time":null}}`}},
		"auth_time by userinfo": {changes: []string{"claims", `{"userinfo":{"auth_time":{"essential":true}}}`}},
	} {
		for i, v := range c.changes {
			if v == "HINT" {
				got, _, _ := wide.tokens(t, *r.Grant)
				c.changes[i] = got.IDToken
			}
		}
		q, err := wide.receive(t, c.changes...)
		require.NoError(t, err, name)
		if c.want != "" {
			require.Contains(t, q.Unmet.Error(), c.want, name)
			continue
		}
		require.Nil(t, q.Unmet, name)
		require.Equal(t, []any{c.timed, c.subject}, []any{q.Wish.Timed, q.Wish.Subject}, name)
	}
}

// What client metadata demands of sign-ins is honoured.
func TestMetadataIsHonoured(t *testing.T) {
	const document = `{"client_id":"planner","redirect_uris":["https://planner.example/back"],"default_max_age":300,"require_auth_time":true,
		"require_pushed_authorization_requests":true,"dpop_bound_access_tokens":true}`
	s, _, err := side(t, web, "").Take([]byte(document), federation.Trusting{})
	require.NoError(t, err)
	w := newWorld(t, s.(*oidcside.Application))
	q, err := w.receive(t)
	require.NoError(t, err)
	require.Contains(t, q.Unmet.Error(), "pushed before")
	form := url.Values{"client_id": {"planner"}, "response_type": {"code"}, "redirect_uri": {back}, "scope": {"openid"},
		"code_challenge": {oidc.Challenge(verifier)}, "code_challenge_method": {"S256"}}
	for age, want := range map[string]time.Duration{"": 5 * time.Minute, "3600": time.Hour, "60": time.Minute} {
		form.Set("max_age", age)
		q, _, err := w.side().Receive(&w.snap.Gate, w.app, oidcside.Request(form.Encode(), false, true), now)
		require.NoError(t, err)
		require.Nil(t, q.Unmet)
		require.Equal(t, []any{want, true, false}, []any{q.Wish.MaxAge, q.Wish.Timed, q.Wish.Force}, age)
	}
	var codes []finding.Code
	for _, f := range checks.New(w.snap, now).Record(w.app) {
		codes = append(codes, f.Code)
	}
	require.Contains(t, codes, finding.ClientDemands)
}

// Tokens that say nothing to others are made of the letters of RFC 6750 alone, each is its
// own, and what earlier builds made is read.
func TestOpaqueTokens(t *testing.T) {
	w := newWorld(t, side(t, web, `{"accessToken":"opaque"}`))
	q, err := w.receive(t)
	require.NoError(t, err)
	r, _ := w.answered(t, q.Own, "ada")
	next, err := r.Grant.Redeem(grantRedemption(w), now)
	require.NoError(t, err)
	seen := map[string]bool{}
	for _, id := range []string{"a", "b", "c"} {
		got, err := w.side().Tokens(oidcside.Issue{Gate: &w.snap.Gate, Grant: next, Word: word(),
			Scopes: []string{"profile", "profile"}, ID: id, Now: now})
		require.NoError(t, err)
		require.Regexp(t, regexp.MustCompile(`^[A-Za-z0-9._~+/-]+=*$`), got.AccessToken)
		require.Empty(t, got.IDToken, "narrowed to less than openid")
		seen[got.AccessToken] = true
		b, err := oidcside.ReadBearer(&w.snap.Gate, got.AccessToken, now)
		require.NoError(t, err)
		require.Equal(t, []string{"profile"}, b.Scopes(next))
	}
	require.Len(t, seen, 3, "each within one second is its own")
	old := oldOpaque(w, next)
	b, err := oidcside.ReadBearer(&w.snap.Gate, old, now)
	require.NoError(t, err)
	require.Equal(t, []any{next.ID, []string{"openid"}}, []any{b.Grant, b.Scopes(next)})

	service := side(t, federation.Typed{"kind": "service", "clientId": "feed"}, `{"scopes":"a b"}`)
	granted, _ := service.Granted([]string{"a", "a"})
	require.Equal(t, []string{"a"}, granted, "a scope that comes twice is told once")
	left, _, _ := service.StillMay([]string{"b", "a", "b"}, nil)
	require.Equal(t, []string{"b", "a"}, left)
}

// localhost is the machine itself by a name: for native applications, and for others by an
// exception that stays in sight.
func TestLocalhost(t *testing.T) {
	const local = "http://localhost:8000/cb"
	for kind, c := range map[string]struct {
		redirects, settings, refused string
		warned                       bool
	}{
		"native":  {redirects: local + " https://desk.example/cb"},
		"web":     {redirects: local, refused: "allowLocalhost"},
		"browser": {redirects: local + " https://desk.example/cb", settings: `{"allowLocalhost":true}`, warned: true},
	} {
		a := side(t, federation.Typed{"kind": kind, "clientId": "desk", "redirectUris": c.redirects}, c.settings)
		err := a.Check(record(a))
		if c.refused != "" {
			require.ErrorContains(t, err, c.refused, kind)
			continue
		}
		require.NoError(t, err, kind)
		r := record(a)
		warned := false
		for _, f := range checks.New(federation.NewSnapshot(gate(t)).With(r), now).Record(r) {
			warned = warned || f.Code == finding.RedirectLoopback
		}
		require.Equal(t, c.warned, warned, kind)
		require.True(t, a.Client(nil).Redirects(local))
		require.Equal(t, kind == "native", a.Client(nil).Redirects("http://localhost:9000/cb"), kind)
	}
	old, _, err := oidcside.Protocol{}.ReadApplication([]byte(`{"clientId":"x","kind":"web","redirectUris":["https://p.example/a/../b"]}`), now)
	require.NoError(t, err, "what an earlier build took in is read")
	r := record(old.(federation.ApplicationSide))
	found := checks.New(federation.NewSnapshot(gate(t)).With(r), now).Record(r)
	octets, err := json.Marshal(found)
	require.NoError(t, err)
	require.Contains(t, string(octets), "which browsers take out")
}

// No trace keeps what a token of a request could be used again by, however it is written.
func TestSignaturesOfRequestsAreNotShown(t *testing.T) {
	for form, want := range map[string]string{
		"state=s&id_token_hint=e30.e30.c2ln":                   "state=s\nid_token_hint=e30.e30.(signature)",
		"id%5Ftoken_hint=e30%2Ee30%2Ec2ln&id_token_hint=a.b.c": "id_token_hint=e30.e30.(signature)\nid_token_hint=a.b.(signature)",
		"id_token_hint=e30.e30.":                               "id_token_hint=e30.e30.",
		"id_token_hint=a.b.c.d":                                "id_token_hint=a.b.(signature)",
		"my_id_token_hint=a.b.c&id_token_hint=opaque":          "my_id_token_hint=a.b.c\nid_token_hint=opaque",
		"id_token_hint=%zz.b.c&client_secret=hush":             "id_token_hint=%zz.b.(signature)\nclient_secret=(secret)",
	} {
		a := oidcside.Request(form, false, false)
		require.Equal(t, want, string(a.Octets), form)
		require.NotContains(t, a.Raw, "c2ln")
		require.Equal(t, want, oidcside.Shown(form))
	}
}
