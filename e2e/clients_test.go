package e2e

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rsa"
	"crypto/x509"
	"encoding/asn1"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"io"
	number "math/big"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/oauth2"
	"golang.org/x/oauth2/clientcredentials"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/standin"
)

// found waits for the newest trace of an application to tell of a finding.
func found(t *testing.T, since time.Time, code string) {
	t.Helper()
	require.Eventually(t, func() bool {
		l, err := client.Call(context.Background(), shared.client(), api.ListTraces, api.TraceFilter{Since: since, Limit: 5})
		require.NoError(t, err)
		for _, head := range l.Items {
			trace, err := client.Call(context.Background(), shared.client(), api.ShowTrace, api.Name(head.ID))
			require.NoError(t, err)
			for _, s := range trace.Steps {
				if s.Finding != nil && string(s.Finding.Code) == code {
					return s.Finding.Remedy != ""
				}
			}
		}
		return false
	}, 5*time.Second, 50*time.Millisecond, code)
}

// through goes through whatever stands between an application and its answer: the
// provider's form, messages that are passed on, and the question whether the
// application may be told.
func (v *visitor) through(agree string) *visitor {
	v.t.Helper()
	for range 6 {
		switch v.onward(); {
		case strings.Contains(v.page.body, `name="password"`):
			v.submit("username", "ada.fenwick", "password", "wrenmoor-demo", "fault", "")
		case strings.Contains(v.page.body, `name="agree"`):
			v.submit("agree", agree)
		default:
			return v
		}
	}
	return v
}

// Every fault of an application is diagnosed, and the person is let in by none.
func TestFaultsOfClients(t *testing.T) {
	planner := shared.host("possession-planner")
	require.GreaterOrEqual(t, len(standin.ClientFaults()), 20)
	for _, f := range standin.ClientFaults() {
		t.Run(f.Name, func(t *testing.T) {
			since := time.Now().Add(-time.Second)
			v := newVisitor(t).get(planner + "/start?fault=" + f.Name).through("yes")
			require.GreaterOrEqual(t, v.page.status, 400, v.page.text)
			require.NotContains(t, v.page.text, "let this fault pass")
			if f.Finding == "redirect-uri-unregistered" || f.Finding == "application-unknown" || f.Name == "no-redirect" {
				require.True(t, strings.HasPrefix(v.page.url.String(), shared.Base), "nobody is sent to an address not on record")
				v.refused(shared, f.Finding)
				return
			}
			found(t, since, f.Finding)
		})
	}
}

// People come to a web application by query and by form, are asked where that is
// due, refresh, and leave everywhere at once.
func TestWebClient(t *testing.T) {
	planner := shared.host("possession-planner")
	v := newVisitor(t)
	for name, c := range map[string]struct{ query, agree, want string }{
		"by query":        {"", "yes", "You are in as"},
		"by form":         {"?response_mode=form_post", "yes", "Fenwick"},
		"by its own call": {"?prompt=none", "yes", "drivers"},
		"for longer":      {"?scope=" + url.QueryEscape("openid profile offline_access"), "yes", "You are in as"},
		"asked, says no":  {"?prompt=consent", "no", "access_denied: The person did not agree"},
	} {
		if name == "by its own call" {
			v.get(planner + "/start").through("yes")
		}
		v.get(planner + "/start" + c.query).through(c.agree)
		require.Contains(t, v.page.text, c.want, name)
	}
	require.Contains(t, newVisitor(t).get(planner+"/start?prompt=none").through("yes").page.text, "login_required")

	v.get(planner + "/start").through("yes")
	require.Contains(t, v.post(planner+"/refresh", nil).page.text, "refreshed at")

	// At the gate it is opened by its own start; another browser of the same person
	// stays in.
	other := newVisitor(t).get(shared.Base + "/open/possession-planner").through("yes")
	require.Contains(t, other.page.text, "You are in as")

	v.post(planner+"/sign-out", nil)
	require.Equal(t, planner+"/", v.page.url.String(), "signed out at the gate too, and back")
	require.NotContains(t, v.page.text, "You are in as")
	require.Contains(t, v.get(shared.Base+"/oidc/op/logout").page.text, "You are signed out",
		"there is no session to ask about")
	require.Contains(t, other.get(planner+"/").page.text, "You are in as")

	// Without an ID token the person is asked, and the applications hear of it.
	other.get(shared.Base + "/oidc/op/logout")
	require.Contains(t, other.page.text, "Do you want to sign out?")
	other.submit()
	require.Contains(t, other.page.text, "You are signed out")
	require.Eventually(t, func() bool { return !strings.Contains(other.get(planner+"/").page.text, "You are in as") },
		5*time.Second, 50*time.Millisecond, "through the back channel")
	other.get(shared.Base+"/oidc/op/logout?client_id=possession-planner&post_logout_redirect_uri=https://evil.example/").
		refused(shared, "redirect-uri-unregistered")
}

// A command signs somebody in by a loopback port, and a service calls an API.
func TestCommandAndServiceClients(t *testing.T) {
	cmd := exec.Command(binary, "standin", "terminal", "--gate", shared.Base, "--client-id", "depot-terminal")
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	head := make([]byte, 4096)
	n, err := out.Read(head)
	require.NoError(t, err)
	_, address, _ := strings.Cut(string(head[:n]), "\n")
	v := newVisitor(t).get(strings.TrimSpace(address)).through("yes")
	require.Contains(t, v.page.text, "You can close this window")
	rest, err := io.ReadAll(out)
	require.NoError(t, err)
	require.NoError(t, cmd.Wait())
	require.Contains(t, string(rest), "ada.fenwick@wrenmoor.example")
	require.Contains(t, string(rest), "can refresh          true")

	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("feed-demo-secret-of-wrenmoor\n"), 0o600))
	stdout, stderr, code := shared.cli(t, "", "standin", "service", "--gate", shared.Base, "--client-id",
		"timetable-feed",
		"--client-secret-file", secret, "--resource", "https://possession-planner.wrenmoor.example/api", "--api",
		shared.host("possession-planner")+"/api/possessions")
	require.Zero(t, code, stderr)
	require.Eventually(t, func() bool {
		out, _, _ := shared.cli(t, "", "connections", "--state", "works")
		return strings.Contains(out, "timetable-feed")
	}, 5*time.Second, 100*time.Millisecond, "that it got a token is a trace")
	require.Contains(t, stdout, "Fell tunnel")
	require.Contains(t, stdout, "timetable-feed")
}

// wild is a JWK as the gate publishes it.
type wild struct{ Kid, Kty, Alg, N, E, X, Y string }

func part(t *testing.T, s string) []byte {
	octets, err := base64.RawURLEncoding.DecodeString(s)
	require.NoError(t, err)
	return octets
}

// public makes a key of a JWK by the standard alone.
func (j wild) public(t *testing.T) any {
	switch j.Kty {
	case "RSA":
		return &rsa.PublicKey{N: new(number.Int).SetBytes(part(t, j.N)),
			E: int(new(number.Int).SetBytes(part(t, j.E)).Int64())}
	case "EC":
		return &ecdsa.PublicKey{Curve: elliptic.P256(), X: new(number.Int).SetBytes(part(t, j.X)),
			Y: new(number.Int).SetBytes(part(t, j.Y))}
	}
	return ed25519.PublicKey(part(t, j.X))
}

// openssl verifies a token with the published keys, and gives its claims.
func openssl(t *testing.T, token, alg, typ string) map[string]any {
	t.Helper()
	parts := strings.Split(token, ".")
	require.Len(t, parts, 3)
	var head struct{ Alg, Kid, Typ string }
	require.NoError(t, json.Unmarshal(part(t, parts[0]), &head))
	require.Equal(t, alg, head.Alg)
	require.Equal(t, typ, head.Typ)
	res, err := http.Get(shared.Base + "/oidc/op/jwks")
	require.NoError(t, err)
	defer res.Body.Close()
	require.Equal(t, "*", res.Header.Get("Access-Control-Allow-Origin"))
	var set struct{ Keys []wild }
	require.NoError(t, json.NewDecoder(res.Body).Decode(&set))
	dir := t.TempDir()
	file := func(name string, octets []byte) string {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), octets, 0o600))
		return filepath.Join(dir, name)
	}
	for _, k := range set.Keys {
		if k.Kid != head.Kid {
			continue
		}
		require.Equal(t, alg, k.Alg)
		der, err := x509.MarshalPKIXPublicKey(k.public(t))
		require.NoError(t, err)
		sig := part(t, parts[2])
		if alg == "ES256" {
			sig, err = asn1.Marshal(struct{ R, S *number.Int }{new(number.Int).SetBytes(sig[:32]),
				new(number.Int).SetBytes(sig[32:])})
			require.NoError(t, err)
		}
		args := []string{"pkeyutl", "-verify", "-pubin", "-inkey",
			file("key.pem", pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der})), "-rawin",
			"-in", file("said", []byte(parts[0]+"."+parts[1])), "-sigfile", file("sig", sig)}
		if alg != "EdDSA" {
			args = append(args, "-digest", "sha256")
		}
		out, err := exec.Command("openssl", args...).CombinedOutput()
		require.NoError(t, err, string(out))
		var claims map[string]any
		d := json.NewDecoder(bytes.NewReader(part(t, parts[1])))
		d.UseNumber()
		require.NoError(t, d.Decode(&claims))
		return claims
	}
	require.Fail(t, "the key is not published", head.Kid)
	return nil
}

// The usual library of Go signs in unchanged, for each algorithm and method, and
// OpenSSL finds the signatures good.
func TestOAuth2LibraryAndOpenSSL(t *testing.T) {
	ctx := context.Background()
	for alg, c := range map[string]struct {
		kind, method string
		style        oauth2.AuthStyle
	}{"RS256": {"web", "client_secret_basic", oauth2.AuthStyleInHeader}, "ES256": {"web", "client_secret_post",
		oauth2.AuthStyleInParams},
		"EdDSA": {"native", "", oauth2.AuthStyleInParams}} {
		name := "library-" + strings.ToLower(alg)
		r, err := client.Call(ctx, shared.client(), api.RecordsOf("application").Add, api.Body(api.NewRecord{Name: name,
			Given: api.Given{Typed: federation.Typed{"kind": c.kind, "redirectUris": "http://127.0.0.1/back"}},
			Settings: federation.Settings{"algorithm": alg, "authMethod": c.method, "claimsIn": "both", "subject": "pairwise",
				"provider": "wrenmoor-staff"}}))
		require.NoError(t, err)
		t.Cleanup(func() {
			require.NoError(t, client.Do(ctx, shared.client(), api.RecordsOf("application").Remove, api.Name(name)))
		})
		require.Equal(t, c.kind == "web", r.ClientSecret != "")
		config := oauth2.Config{ClientID: r.ClientID, ClientSecret: r.ClientSecret, RedirectURL: "http://127.0.0.1/back",
			Scopes: []string{"openid", "profile", "groups"}, Endpoint: oauth2.Endpoint{AuthURL: shared.Base +
				"/oidc/op/authorize",
				TokenURL: shared.Base + "/oidc/op/token", AuthStyle: c.style}}
		verifier := oauth2.GenerateVerifier()
		v := newVisitor(t)
		var back *url.URL
		v.http.CheckRedirect = func(req *http.Request, _ []*http.Request) error {
			if req.URL.Host == "127.0.0.1" {
				back = req.URL
				return http.ErrUseLastResponse
			}
			return nil
		}
		v.get(config.AuthCodeURL("st", oauth2.S256ChallengeOption(verifier), oauth2.SetAuthURLParam("nonce",
			"n"))).through("yes")
		require.NotNil(t, back, v.page.text)
		require.Equal(t, shared.Base, back.Query().Get("iss"))
		token, err := config.Exchange(ctx, back.Query().Get("code"), oauth2.VerifierOption(verifier))
		require.NoError(t, err, alg)
		said := openssl(t, token.Extra("id_token").(string), alg, "JWT")
		require.Equal(t, "n", said["nonce"])
		require.Equal(t, r.ClientID, said["aud"])
		require.Equal(t, []any{"first-aiders", "drivers", "operations"}, said["groups"],
			"what the gate knows, and what these lie in")
		require.Equal(t, "Ada Fenwick", said["name"])
		access := openssl(t, token.AccessToken, alg, "at+jwt")
		require.Equal(t, said["sub"], access["sub"])
		token.Expiry = time.Now().Add(-time.Minute)
		next, err := config.TokenSource(ctx, token).Token()
		require.NoError(t, err)
		require.NotEqual(t, token.RefreshToken, next.RefreshToken)
		require.Equal(t, said["sub"], openssl(t, next.Extra("id_token").(string), alg, "JWT")["sub"])
	}
	service := clientcredentials.Config{ClientID: "timetable-feed", ClientSecret: "feed-demo-secret-of-wrenmoor",
		TokenURL: shared.Base + "/oidc/op/token"}
	token, err := service.Token(ctx)
	require.NoError(t, err)
	claims := openssl(t, token.AccessToken, "RS256", "at+jwt")
	require.Equal(t, "timetable-feed", claims["sub"])
	require.Equal(t, "possessions.read", claims["scope"])
}

// The command line connects a client, tells its secret once, takes newer metadata in,
// and says what is wrong with what cannot be.
func TestClientsOnTheCommandLine(t *testing.T) {
	dir := t.TempDir()
	file := func(name, text string) string {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
		return filepath.Join(dir, name)
	}
	run := func(want int, args ...string) string {
		t.Helper()
		out, errs, code := shared.cli(t, "", args...)
		require.Equal(t, want, code, out+errs)
		return out + errs
	}
	add := []string{"app", "add", "line-book", "--kind", "web", "--redirect-uri",
		"https://line-book.wrenmoor.example/back"}
	require.Contains(t, run(0, append(add, "--preview")...),
		"Redirect URI           https://line-book.wrenmoor.example/back")
	var made api.Application
	require.NoError(t, json.Unmarshal([]byte(run(0, append(add, "--output", "json")...)), &made))
	t.Cleanup(func() { run(0, "app", "remove", "line-book", "--yes") })
	require.True(t, made.ClientID != "" && made.ClientSecret != "")
	shown := run(0, "app", "show", "line-book", "--output", "json") + run(0, "history", "list", "--output", "json")
	require.NotContains(t, shown, made.ClientSecret, "never again")
	require.NotContains(t, shown, "clientSecret")
	require.Contains(t, run(0, "app", "show", "line-book"), made.ClientID)
	require.Contains(t, run(0, "app", "exchange", "line-book", "--value", "issuer"), shared.Base)

	metadata := file("client.json", `{"client_id":"`+made.ClientID+
		`","redirect_uris":["https://line-book.wrenmoor.example/back",
		"https://line-book.wrenmoor.example/two"],"client_name":"Line book","backchannel_logout_uri":"https://line-book.wrenmoor.example/out"}`)
	out := run(0, "app", "update", "line-book", "--metadata", metadata)
	require.Contains(t, out, "https://line-book.wrenmoor.example/two")
	require.Contains(t, out, "it acts from the next request on")
	require.Contains(t, run(0, "app", "update", "line-book", "--redirect-uri", "https://line-book.wrenmoor.example/back",
		"--backchannel-logout-uri", "none"), "https://line-book.wrenmoor.example/out")

	out = run(0, "app", "secret", "line-book", "--overlap", "2d", "--life", "365d")
	require.Contains(t, out, "those of before stay good for 2d")
	require.Contains(t, out, "client secret  igs_")
	require.Contains(t, run(0, "app", "secret", "line-book", "--end"), "only the newest is good now")
	require.Contains(t, run(0, "app", "secret", "line-book", "--client-secret-file", file("secret",
		"a secret of its own, brought along")),
		"changed line-book")
	require.Contains(t, run(0, "app", "grants", "line-book"), "No sign-in has given it anything")

	newVisitor(t).get(shared.host("possession-planner") + "/start?scope=openid%20offline_access").through("yes")
	require.Regexp(t, `good +`, run(0, "app", "grants", "possession-planner"))
	person := regexp.MustCompile(`(?m)^(\d+) +.*offline_access`).FindStringSubmatch(run(0, "app", "consents",
		"possession-planner"))
	require.Len(t, person, 2)
	require.Contains(t, run(0, "app", "withdraw", "possession-planner", person[1]), "is asked again")
	require.Contains(t, run(1, "app", "withdraw", "possession-planner", person[1]), "there is no consent")

	for want, args := range map[string][]string{
		`did you mean web?`:             {"app", "add", "x", "--kind", "wep", "--redirect-uri", "https://x.example/"},
		`has to be https`:               {"app", "add", "x", "--kind", "web", "--redirect-uri", "http://x.example/"},
		`a service has no redirect URI`: {"app", "add", "x", "--kind", "service", "--redirect-uri", "https://x.example/"},
		`Did you mean authMethod?`: {"app", "add", "x", "--kind", "web", "--redirect-uri", "https://x.example/",
			"authMethd=none"},
		`has to prove who it is`: {"app", "add", "x", "--kind", "web", "--redirect-uri", "https://x.example/",
			"authMethod=none"},
		`no time that is taken`:      {"app", "set", "line-book", "refreshIdle=2y", "--yes"},
		`proves who it is by none`:   {"app", "secret", "refund-desk"},
		`knows none`:                 {"app", "secret", "crew-roster"},
		`did you mean "line-book"?`:  {"app", "secret", "line-bok"},
		`give one like 12h or 14d`:   {"app", "secret", "line-book", "--overlap", "soon"},
		`"ada" is no person`:         {"app", "withdraw", "line-book", "ada"},
		`People are numbered from 1`: {"app", "grants", "line-book", "--person", "0"},
		`--client-id: This identity is already on record`: {"app", "add", "x", "--kind", "web", "--client-id",
			made.ClientID, "--redirect-uri", "https://x.example/"},
		`client metadata cannot be used`: {"app", "add", "x", "--protocol", "oidc",
			"--metadata", file("bad.json", `{"redirect_uris":["https://x.example/#a"]}`)},
		`is XML or a page`: {"app", "add", "x", "--protocol", "oidc",
			"--metadata", file("bad.xml", `<EntityDescriptor/>`)},
		`--client-id is missing`: {"standin", "terminal", "--gate", shared.Base},
	} {
		out, errs, code := shared.cli(t, "", args...)
		require.NotZero(t, code, out)
		if !strings.Contains(errs, want) {
			t.Errorf("%v says %q, not %q", args, errs, want)
		}
	}
}

// What the standards demand of the addresses themselves: methods, headers, who may
// read an answer.
func TestAddressesOfTheOpenIDProvider(t *testing.T) {
	desk := strings.TrimSuffix(shared.host("refund-desk"), "/")
	basic := "Basic " + base64.StdEncoding.EncodeToString([]byte("possession-planner:planner-demo-secret-of-wrenmoor"))
	const form = "application/x-www-form-urlencoded"
	for name, c := range map[string]struct {
		method, path, body string
		send               http.Header
		status             int
		get                http.Header // nil values must be absent
		says               string
	}{
		"discovery for everybody": {"GET", "/.well-known/openid-configuration", "",
			http.Header{"Origin": {"https://x.example"}}, 200,
			http.Header{"Access-Control-Allow-Origin": {"*"}, "Access-Control-Allow-Credentials": nil,
				"Content-Type": {"application/json"}},
			`"request_uri_parameter_supported": false`},
		"tokens by POST only": {"GET", "/oidc/op/token", "", nil, 405, http.Header{"Allow": {"POST"},
			"Cache-Control": {"no-store"}}, "invalid_request"},
		"revocation too": {"PUT", "/oidc/op/revoke", "", nil, 405, http.Header{"Allow": {"POST"}}, "invalid_request"},
		"an error as the standard has it": {"POST", "/oidc/op/token", "grant_type=password",
			http.Header{"Authorization": {basic},
				"Content-Type": {form}}, 400, http.Header{"Cache-Control": {"no-store"},
				"Content-Type": {"application/json; charset=utf-8"}},
			`{"error":"unsupported_grant_type","error_description":"The gate does not accept the request: grant_type is password instead of`},
		"a client that is none": {"POST", "/oidc/op/token", "grant_type=client_credentials",
			http.Header{"Authorization": {basic + "AA"},
				"Content-Type": {form}}, 401, http.Header{"Www-Authenticate": {`Basic realm="Inner Gate"`}}, `"invalid_client"`},
		"a secret in the address": {"POST", "/oidc/op/token?client_secret=planner-demo-secret-of-wrenmoor",
			"grant_type=client_credentials",
			http.Header{"Content-Type": {form}}, 400, nil, "invalid_request"},
		"JSON": {"POST", "/oidc/op/introspect", `{"token":"x"}`, http.Header{"Authorization": {basic},
			"Content-Type": {"application/json"}}, 400,
			nil, "Content-Type is application/json instead of"},
		"a token that is none": {"POST", "/oidc/op/introspect", "token=x", http.Header{"Authorization": {basic},
			"Content-Type": {form}}, 200,
			http.Header{"Cache-Control": {"no-store"}}, `{"active":false}`},
		"revoking what nobody knows": {"POST", "/oidc/op/revoke", "token=x", http.Header{"Authorization": {basic},
			"Content-Type": {form}}, 200, nil, ""},
		"user-info without a token": {"GET", "/oidc/op/userinfo", "", nil, 401,
			http.Header{"Www-Authenticate": {`Bearer realm="Inner Gate"`}}, ""},
		"a bearer token in the address": {"GET", "/oidc/op/userinfo?access_token=x", "", nil, 400,
			http.Header{"Www-Authenticate": {`Bearer realm="Inner Gate", error="invalid_request"`}}, "stands in the address"},
		"a bearer token twice": {"POST", "/oidc/op/userinfo", "access_token=x", http.Header{"Authorization": {"Bearer x"},
			"Content-Type": {form}}, 400, nil, "invalid_request"},
		"a bearer token twice in the body": {"POST", "/oidc/op/userinfo", "access_token=x&access_token=x",
			http.Header{"Content-Type": {form}}, 400, nil, "invalid_request"},
		"a preflight of a push": {"OPTIONS", "/oidc/op/par", "", http.Header{"Origin": {desk}}, 204,
			http.Header{"Access-Control-Allow-Origin": {desk}}, ""},
		"and its answer": {"POST", "/oidc/op/par", "client_id=refund-desk", http.Header{"Origin": {desk},
			"Content-Type": {form}}, 400,
			http.Header{"Access-Control-Allow-Origin": {desk}}, "redirect_uri"},
		"no preflight where no answer is for browsers": {"OPTIONS", "/oidc/op/introspect", "", http.Header{"Origin": {desk}},
			405,
			http.Header{"Access-Control-Allow-Origin": nil}, "POST only"},
		"a token that was made up": {"GET", "/oidc/op/userinfo", "", http.Header{"Authorization": {"Bearer a.b.c"}}, 401,
			http.Header{"Cache-Control": {"no-store"}}, "invalid_token"},
		"a preflight of a known origin": {"OPTIONS", "/oidc/op/token", "", http.Header{"Origin": {desk}}, 204,
			http.Header{"Access-Control-Allow-Origin": {desk}, "Vary": {"Origin"}, "Access-Control-Allow-Credentials": nil},
			""},
		"a preflight of another": {"OPTIONS", "/oidc/op/userinfo", "", http.Header{"Origin": {"https://x.example"}}, 204,
			http.Header{"Access-Control-Allow-Origin": nil}, ""},
		"an answer for its own origin": {"POST", "/oidc/op/token",
			"grant_type=refresh_token&refresh_token=x&client_id=refund-desk",
			http.Header{"Origin": {desk}, "Content-Type": {form}}, 400, http.Header{"Access-Control-Allow-Origin": {desk}},
			"invalid_grant"},
		"and not for another's": {"POST", "/oidc/op/token",
			"grant_type=refresh_token&refresh_token=x&client_id=depot-terminal",
			http.Header{"Origin": {desk}, "Content-Type": {form}}, 400, http.Header{"Access-Control-Allow-Origin": nil},
			"invalid_grant"},
		"an address that is not on record": {"GET",
			"/oidc/op/authorize?client_id=refund-desk&response_type=code&redirect_uri=" +
				url.QueryEscape(desk+"/x"), "", nil, 403, http.Header{"Location": nil}, "Reference number"},
		"signing out to nowhere": {"GET",
			"/oidc/op/logout?client_id=refund-desk&post_logout_redirect_uri=javascript:alert(1)", "", nil, 400,
			http.Header{"Location": nil}, "The application sent a request that was not accepted."},
	} {
		t.Run(name, func(t *testing.T) {
			req, err := http.NewRequest(c.method, shared.Base+c.path, strings.NewReader(c.body))
			require.NoError(t, err)
			for name, values := range c.send {
				req.Header[name] = values
			}
			res, err := http.DefaultTransport.RoundTrip(req)
			require.NoError(t, err)
			defer res.Body.Close()
			body, err := io.ReadAll(res.Body)
			require.NoError(t, err)
			require.Equal(t, c.status, res.StatusCode, string(body))
			for name, values := range c.get {
				require.Equal(t, values, res.Header[name], name)
			}
			require.Contains(t, string(body), c.says)
		})
	}
}
