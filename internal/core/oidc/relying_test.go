package oidc

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/finding"
)

const issuer = "https://accounts.oakhollow.example"

// document is a provider's document with changes in pairs; nil takes a member out.
func described(changes ...any) []byte {
	d := map[string]any{"issuer": issuer, "authorization_endpoint": issuer + "/authorize", "token_endpoint": issuer +
		"/token", "jwks_uri": issuer + "/jwks", "id_token_signing_alg_values_supported": []string{"RS256"}}
	for i := 0; i < len(changes); i += 2 {
		if d[changes[i].(string)] = changes[i+1]; changes[i+1] == nil {
			delete(d, changes[i].(string))
		}
	}
	octets, _ := json.Marshal(d)
	return octets
}

func TestDiscoveryDocuments(t *testing.T) {
	d, err := ReadDiscovery(described("authorization_response_iss_parameter_supported", true, "unknown",
		map[string]any{}))
	require.NoError(t, err)
	require.Equal(t, issuer+"/token", d.Token)
	require.True(t, d.SaysIssuer)
	require.Nil(t, d.Scopes, "what was not said is told from what is empty")
	_, err = ReadDiscovery(append([]byte("\xef\xbb\xbf"), described()...))
	require.NoError(t, err, "a byte order mark says nothing")
	for name, c := range map[string]struct {
		octets []byte
		cause  string
	}{
		"empty":                        {[]byte(" "), "empty"},
		"a page":                       {[]byte("<!doctype html>"), "page"},
		"a list":                       {[]byte("[]"), "no object"},
		"a JWK Set":                    {[]byte(`{"keys":[]}`), "JWK Set"},
		"the metadata of a client":     {[]byte(`{"client_id":"a","redirect_uris":[]}`), "client"},
		"a member twice":               {[]byte(`{"issuer":"https://a.example","issuer":"https://b.example"}`), "twice"},
		"no issuer":                    {described("issuer", nil), "issuer is missing"},
		"an issuer with a query":       {described("issuer", issuer+"?a=b"), "query"},
		"an issuer by http":            {described("issuer", "http://accounts.oakhollow.example"), "https"},
		"an issuer that is none":       {described("issuer", "oakhollow"), "address"},
		"a token endpoint by http":     {described("token_endpoint", "http://a.example/token"), "token_endpoint"},
		"an endpoint with a name":      {described("token_endpoint", "https://ada@a.example/token"), "address"},
		"an endpoint with fragment":    {described("jwks_uri", issuer+"/jwks#a"), "fragment"},
		"an endpoint that is a number": {described("jwks_uri", 7), "no text"},
		"a list that is a number":      {described("scopes_supported", 7), "list"},
		"a flag that is a text":        {described("require_signed_request_object", "yes"), "true nor false"},
	} {
		_, err := ReadDiscovery(c.octets)
		require.True(t, finding.Is(err, finding.DiscoveryUnusable), "%s: %v", name, err)
		require.ErrorContains(t, err, c.cause, name)
	}
}

func TestIssuersOfDocuments(t *testing.T) {
	for address, want := range map[string]string{issuer + DiscoveryPath: issuer, issuer + "/" + DiscoveryPath[1:]: issuer,
		issuer + "/eu" + DiscoveryPath: issuer + "/eu", issuer + ServerPath + "/eu": issuer + "/eu", issuer: "",
		issuer + DiscoveryPath + "?a": ""} {
		got, ok := IssuerOf(address)
		require.EqualValues(t, want, got, address)
		require.Equal(t, want != "", ok, address)
	}
	require.Equal(t, issuer+DiscoveryPath, DiscoveryOf(issuer+"/"))
}

func TestIssuersOfManyTenants(t *testing.T) {
	many, err := ReadTenants(issuer + "/{tenant}/v2")
	require.NoError(t, err)
	many.Allowed, many.Personal = []string{"rail-1", "9188"}, "personal"
	for iss, code := range map[string]finding.Code{issuer + "/rail-1/v2": "", issuer +
		"/rail-2/v2": finding.TenantRefused,
		issuer + "/personal/v2": finding.TenantRefused, issuer + "/rail-1/v2/": finding.TokenIssuer,
		issuer + "//v2": finding.TokenIssuer, issuer + "/rail-1/x/v2": finding.TokenIssuer,
		issuer + "/{tenant}/v2": finding.TokenIssuer, issuer + ".evil.example/rail-1/v2": finding.TokenIssuer} {
		tenant, err := many.Of(Issuer(iss))
		if code == "" {
			require.NoError(t, err)
			require.Equal(t, "rail-1", tenant)
			continue
		}
		require.True(t, finding.Is(err, code), "%s: %v", iss, err)
	}
	many.People = true
	_, err = many.Of(issuer + "/personal/v2")
	require.NoError(t, err)
	for _, bad := range []string{issuer, issuer + "/{a}/{b}", issuer + "/x{tenant}", "https://{tenant}.example",
		"http://accounts.oakhollow.example/{tenant}", issuer + "/{tenant}?x"} {
		_, err := ReadTenants(bad)
		require.Error(t, err, bad)
	}
}

func TestAuthorizationRequestsOfOurs(t *testing.T) {
	age := 5 * time.Minute
	a := Asking{ClientID: "gate", RedirectURI: "https://gate.example/cb", ResponseType: "code", Scopes: []string{"openid",
		"email"}, State: "s", Nonce: "n", Verifier: strings.Repeat("v", 43), Prompts: []string{"login"}, MaxAge: &age,
		Contexts: []string{"urn:a", "urn:b"}, More: url.Values{"hd": {"wrenmoor.example"}}}
	u, err := url.Parse(a.Address("https://op.example/authorize?policy=rail"))
	require.NoError(t, err)
	q := u.Query()
	for name, want := range map[string]string{"policy": "rail", "hd": "wrenmoor.example", "scope": "openid email",
		"max_age": "300", "prompt": "login", "acr_values": "urn:a urn:b", "code_challenge": Challenge(a.Verifier),
		"code_challenge_method": "S256", "nonce": "n"} {
		require.Equal(t, want, q.Get(name), name)
	}
	require.NotContains(t, u.RawQuery, a.Verifier)
	a.Essential = true
	require.JSONEq(t, `{"id_token":{"acr":{"essential":true,"values":["urn:a","urn:b"]}}}`, a.Parameters().Get("claims"))
	require.False(t, a.Parameters().Has("acr_values"))
}

func TestAuthorizationResponses(t *testing.T) {
	a, err := ReadAnswered("code=c&state=s&iss=i&code=")
	require.NoError(t, err)
	require.Equal(t, Answered{Code: "c", State: "s", Issuer: "i"}, a)
	require.Nil(t, a.Refused())
	for _, form := range []string{"code=a&code=b", "state=a&state=b", "iss=a&iss=b", "error=a&error=b", "%zz",
		"code=" + strings.Repeat("a", largestAnswer)} {
		_, err := ReadAnswered(form)
		require.True(t, finding.Is(err, finding.AnswerMalformed), form[:min(20, len(form))])
	}
	for code, want := range map[string]finding.Code{"access_denied": finding.ProviderDenied,
		"login_required": finding.PassiveImpossible, "interaction_required": finding.PassiveImpossible,
		"unmet_authentication_requirements": finding.ContextImpossible, "server_error": finding.ProviderFailed,
		"invalid_scope": finding.ProviderRequest, "unheard_of": finding.ProviderRequest} {
		f := Answered{Error: code, Description: "word for wörd"}.Refused()
		require.Equal(t, want, f.Code, code)
		require.Contains(t, f.Evidence, finding.Fact("error", code))
		require.Contains(t, f.Evidence, finding.Fact("error_description", "word for wörd"))
	}
}

func TestTokenAnswers(t *testing.T) {
	reply := func(status int, kind, body string) Reply { return Reply{status, kind, []byte(body)} }
	got, err := ReadTokenAnswer(reply(200, "application/json; charset=utf-8",
		`{"access_token":"a","token_type":"bearer","expires_in":300,"id_token":"i","refresh_token":"r"}`))
	require.NoError(t, err)
	require.Equal(t, TokenAnswer{AccessToken: "a", RefreshToken: "r", IDToken: "i", Life: 5 * time.Minute}, got)
	for name, c := range map[string]struct {
		reply Reply
		code  finding.Code
	}{
		"a page":              {reply(200, "text/html", "<html>"), finding.TokenAnswerOdd},
		"a page without type": {reply(200, "", " <!doctype html>"), finding.TokenAnswerOdd},
		"no JSON":             {reply(200, "application/json", "access_token=a"), finding.TokenAnswerOdd},
		"a member twice": {reply(200, "application/json",
			`{"access_token":"a","access_token":"b","token_type":"Bearer"}`), finding.TokenAnswerOdd},
		"no token": {reply(200, "application/json", `{"token_type":"Bearer"}`), finding.TokenAnswerOdd},
		"no type":  {reply(200, "application/json", `{"access_token":"a"}`), finding.TokenAnswerOdd},
		"another type": {reply(200, "application/json", `{"access_token":"a","token_type":"mac"}`),
			finding.TokenAnswerOdd},
		"a long token": {reply(200, "application/json", `{"access_token":"`+strings.Repeat("a",
			70000)+`","token_type":"Bearer"}`), finding.TokenAnswerOdd},
		"bound to a key": {reply(200, "application/json", `{"access_token":"a","token_type":"DPoP"}`),
			finding.RequiresUnoffered},
		"invalid client":       {reply(401, "application/json", `{"error":"invalid_client"}`), finding.ClientRefused},
		"unauthorized client":  {reply(400, "application/json", `{"error":"unauthorized_client"}`), finding.ClientRefused},
		"invalid grant":        {reply(400, "application/json", `{"error":"invalid_grant"}`), finding.CodeRefused},
		"an error with 200":    {reply(200, "application/json", `{"error":"invalid_grant"}`), finding.CodeRefused},
		"another error":        {reply(400, "application/json", `{"error":"unsupported_grant_type"}`), finding.TokenRefused},
		"an error without one": {reply(400, "application/json", `{}`), finding.TokenRefused},
		"a broken server":      {reply(502, "text/plain", "upstream"), finding.ProviderFailed},
		"a broken JSON server": {reply(500, "application/json", `{}`), finding.ProviderFailed},
		"DPoP demanded": {reply(400, "application/json", `{"error":"invalid_dpop_proof"}`),
			finding.RequiresUnoffered},
	} {
		_, err := ReadTokenAnswer(c.reply)
		require.True(t, finding.Is(err, c.code), "%s: %v", name, err)
	}
}

func TestUserInfoAnswers(t *testing.T) {
	claims, err := ReadUserInfo(Reply{200, "application/json", []byte(`{"sub":"a","n":12345678901234567890}`)})
	require.NoError(t, err)
	require.Equal(t, json.Number("12345678901234567890"), claims["n"], "digit by digit")
	for name, c := range map[string]struct {
		reply Reply
		code  finding.Code
	}{
		"a page":         {Reply{200, "text/html", []byte("<html>")}, finding.UserInfoOdd},
		"no JSON":        {Reply{200, "application/json", []byte("x")}, finding.UserInfoOdd},
		"a list":         {Reply{200, "application/json", []byte("[]")}, finding.UserInfoOdd},
		"a member twice": {Reply{200, "application/json", []byte(`{"sub":"a","sub":"b"}`)}, finding.UserInfoOdd},
		"refused": {Reply{403, "application/json", []byte(`{"error":"insufficient_scope"}`)},
			finding.UserInfoRefused},
		"an error with 200": {Reply{200, "application/json", []byte(`{"error":{"code":190}}`)}, finding.UserInfoRefused},
	} {
		_, err := ReadUserInfo(c.reply)
		require.True(t, finding.Is(err, c.code), "%s: %v", name, err)
	}
}

// Every rule of OpenID Connect Core §3.1.3.7, one broken at a time.
func TestIDTokens(t *testing.T) {
	now := time.Unix(1_790_000_000, 0)
	x := Expected{ClientID: "gate", Nonce: "n", Access: "access", Code: "code", AuthTime: true, Now: now,
		Skew: time.Minute,
		Issuer: func(iss Issuer) error {
			if iss != issuer {
				return finding.New(finding.TokenIssuer)
			}
			return nil
		}}
	n := func(t time.Time) json.Number { return json.Number(fmt.Sprint(t.Unix())) }
	good := map[string]any{"iss": issuer, "aud": "gate", "azp": "gate", "sub": "ada", "nonce": "n", "iat": n(now),
		"exp": n(now.Add(time.Minute)), "auth_time": n(now.Add(-time.Hour)), "at_hash": HalfHash("RS256", "access"),
		"c_hash": HalfHash("RS256", "code"), "acr": "urn:a", "sid": "s", "amr": []any{"pwd"}}
	said, err := x.Check(Verified{Claims: good, Algorithm: "RS256"}, new(finding.Checks))
	require.NoError(t, err)
	require.Equal(t, Said{Issuer: issuer, Subject: "ada", AuthTime: now.Add(-time.Hour).UTC(), Context: "urn:a",
		Methods: []string{"pwd"}, Session: "s", Expires: now.Add(time.Minute).UTC()}, said)
	for name, c := range map[string]struct {
		claim string
		value any // nil takes it out
		code  finding.Code
	}{
		"another issuer":             {"iss", issuer + "/", finding.TokenIssuer},
		"no issuer":                  {"iss", nil, finding.TokenIssuer},
		"an issuer that is a list":   {"iss", []any{issuer}, finding.TokenIssuer},
		"another audience":           {"aud", "other", finding.TokenAudience},
		"no audience":                {"aud", nil, finding.TokenAudience},
		"a further audience":         {"aud", []any{"gate", "other"}, finding.TokenAudience},
		"an audience of numbers":     {"aud", []any{json.Number("1")}, finding.TokenAudience},
		"another party":              {"azp", "other", finding.TokenParty},
		"a party that is a number":   {"azp", json.Number("1"), finding.TokenParty},
		"past":                       {"exp", n(now.Add(-time.Minute)), finding.TokenExpired},
		"without end":                {"exp", nil, finding.TokenClaim},
		"an end that is a text":      {"exp", "tomorrow", finding.TokenClaim},
		"made tomorrow":              {"iat", n(now.Add(24 * time.Hour)), finding.TokenNotYet},
		"made at no time":            {"iat", nil, finding.TokenClaim},
		"not before tomorrow":        {"nbf", n(now.Add(24 * time.Hour)), finding.TokenNotYet},
		"another nonce":              {"nonce", "other", finding.TokenNonce},
		"no nonce":                   {"nonce", nil, finding.TokenNonce},
		"a nonce that is a number":   {"nonce", json.Number("1"), finding.TokenNonce},
		"another at_hash":            {"at_hash", HalfHash("RS256", "x"), finding.TokenHash},
		"at_hash by another hash":    {"at_hash", HalfHash("RS512", "access"), finding.TokenHash},
		"another c_hash":             {"c_hash", HalfHash("RS256", "x"), finding.TokenHash},
		"no c_hash":                  {"c_hash", nil, finding.TokenHash},
		"no auth_time":               {"auth_time", nil, finding.TokenClaim},
		"auth_time tomorrow":         {"auth_time", n(now.Add(24 * time.Hour)), finding.TokenNotYet},
		"no subject":                 {"sub", nil, finding.TokenSubject},
		"an empty subject":           {"sub", "", finding.TokenSubject},
		"a subject that is a number": {"sub", json.Number("40017"), finding.TokenSubject},
		"a subject of 256 letters":   {"sub", strings.Repeat("a", 256), finding.TokenSubject},
		"a subject beyond ASCII":     {"sub", "adä", finding.TokenSubject},
		"a subject with a line end":  {"sub", "ada\n", finding.TokenSubject},
	} {
		claims := maps.Clone(good)
		if claims[c.claim] = c.value; c.value == nil {
			delete(claims, c.claim)
		}
		var log finding.Checks
		_, err := x.Check(Verified{Claims: claims, Algorithm: "RS256"}, &log)
		require.True(t, finding.Is(err, c.code), "%s: %v", name, err)
		require.Equal(t, c.code, log[len(log)-1].Finding.Code, "%s: the trace shows it", name)
	}
	delete(good, "at_hash")
	_, err = x.Check(Verified{Claims: good, Algorithm: "RS256"}, new(finding.Checks))
	require.NoError(t, err, "at_hash may be missing in the code flow")
}

// OpenID Connect Back-Channel Logout §2.6.
func TestLogoutTokens(t *testing.T) {
	now := time.Unix(1_790_000_000, 0)
	x := Expected{ClientID: "gate", Now: now, Skew: time.Minute, Issuer: func(iss Issuer) error {
		if iss != issuer {
			return finding.New(finding.TokenIssuer)
		}
		return nil
	}}
	at := func(d time.Duration) json.Number { return json.Number(fmt.Sprint(now.Add(d).Unix())) }
	good := map[string]any{"iss": issuer, "aud": "gate", "iat": at(0), "exp": at(time.Minute), "jti": "1", "sid": "s",
		"events": map[string]any{logoutEvent: map[string]any{}}}
	l, err := x.Leaves(Verified{Claims: good})
	require.NoError(t, err)
	require.Equal(t, Leaver{Issuer: issuer, Session: "s", Once: "1", Until: now.Add(2 * time.Minute).UTC()}, l)
	for name, c := range map[string]struct {
		claim string
		value any
		code  finding.Code
	}{
		"another issuer":   {"iss", "https://a.example", finding.TokenIssuer},
		"another audience": {"aud", "other", finding.TokenAudience},
		"no events":        {"events", nil, finding.LogoutTokenRefused},
		"other events":     {"events", map[string]any{"urn:x": map[string]any{}}, finding.LogoutTokenRefused},
		"a nonce":          {"nonce", "n", finding.LogoutTokenRefused},
		"no jti":           {"jti", nil, finding.LogoutTokenRefused},
		"nobody":           {"sid", nil, finding.LogoutTokenRefused},
		"no time":          {"iat", nil, finding.LogoutTokenRefused},
		"made tomorrow":    {"iat", at(24 * time.Hour), finding.LogoutTokenRefused},
		"past":             {"exp", at(-time.Hour), finding.LogoutTokenRefused},
	} {
		claims := maps.Clone(good)
		if claims[c.claim] = c.value; c.value == nil {
			delete(claims, c.claim)
		}
		_, err := x.Leaves(Verified{Claims: claims})
		require.True(t, finding.Is(err, c.code), "%s: %v", name, err)
	}
	delete(good, "exp")
	good["iat"] = at(-11 * time.Minute)
	_, err = x.Leaves(Verified{Claims: good})
	require.True(t, finding.Is(err, finding.LogoutTokenRefused), "without an end it is good for ten minutes")
}

func FuzzReadDiscovery(f *testing.F) {
	f.Add(described())
	f.Add([]byte(`{"issuer":"https://{tenant}.example/"}`))
	f.Fuzz(func(t *testing.T, octets []byte) {
		d, err := ReadDiscovery(octets)
		if _, unfit := ParseIssuer(string(d.Issuer)); err == nil && unfit != nil {
			t.Fatal("an issuer was taken that is none")
		}
	})
}

func FuzzReadTokenAnswer(f *testing.F) {
	f.Add([]byte(`{"access_token":"a","token_type":"Bearer"}`))
	f.Fuzz(func(t *testing.T, octets []byte) {
		if a, err := ReadTokenAnswer(Reply{200, "application/json", octets}); err == nil && a.AccessToken == "" {
			t.Fatal("an answer without a token was taken")
		}
	})
}
