package e2e

import (
	"context"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
	"innergate.example/innergate/internal/core/oidc"
)

// people who can sign in at the providers of the demo, and where.
var at = map[string]struct{ user, password, shows string }{
	"wrenmoor-staff": {"ada.fenwick", "wrenmoor-demo", "Fenwick"},
	"oakhollow":      {"mina.thorne", "oakhollow-demo", "Thorne"},
	"season-club":    {"rosa.finch", "club-demo", "Finch"},
}

// comes goes through whatever stands before an application, by a provider.
func (v *visitor) comes(provider string) *visitor {
	v.t.Helper()
	for range 8 {
		switch v.onward(); {
		case strings.Contains(v.page.text, "How do you want to sign in?"),
			strings.Contains(v.page.text, "Or choose where your account is"):
			v.post(v.page.action, url.Values{"provider": {provider}})
		case strings.Contains(v.page.body, `name="password"`):
			v.submit("username", at[provider].user, "password", at[provider].password, "fault", "")
		default:
			return v
		}
	}
	return v
}

// asks is an authorization request of a public application of the demo.
func asks(d *demo, client, back string) string {
	return d.Base + "/oidc/op/authorize?" + url.Values{"client_id": {client}, "response_type": {"code"},
		"redirect_uri": {back},
		"scope":        {"openid profile email"}, "state": {"s"}, "code_challenge": {oidc.Challenge(strings.Repeat("v",
			43))},
		"code_challenge_method": {"S256"}}.Encode()
}

// Whatever applications and providers speak, they reach each other: from the
// application, from the gate, and from a provider that can begin.
func TestEveryCombinationSignsIn(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	for _, app := range []string{"refund-desk", "depot-terminal", "timetable-archive"} {
		_, stderr, code := d.cli(t, "", "app", "set", app, "provider=")
		require.Zero(t, code, stderr)
	}
	native := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {}))
	defer native.Close()
	redeemed := func(v *visitor, client, back string) string {
		code := v.page.url.Query().Get("code")
		require.NotEmpty(t, code, v.page.text)
		res, err := http.PostForm(d.Base+"/oidc/op/token", url.Values{"grant_type": {"authorization_code"}, "code": {code},
			"redirect_uri": {back}, "client_id": {client}, "code_verifier": {strings.Repeat("v", 43)}})
		require.NoError(t, err)
		defer res.Body.Close()
		var got struct {
			Access string `json:"access_token"`
		}
		require.NoError(t, json.NewDecoder(res.Body).Decode(&got))
		req, err := http.NewRequest(http.MethodGet, d.Base+"/oidc/op/userinfo", nil)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+got.Access)
		info, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer info.Body.Close()
		var claims map[string]any
		require.NoError(t, json.NewDecoder(info.Body).Decode(&claims))
		return claims["name"].(string)
	}
	desk := d.host("refund-desk") + "/"
	for provider, who := range at {
		for start, shows := range map[string]string{d.host("track-access") + "/start": "You are in as",
			d.Base + "/open/track-access": "You are in as", d.host("seat-finder") + "/start": "You are in as",
			d.Base + "/open/seat-finder": "You are in as", d.Base + "/open/timetable-archive": "since 1891"} {
			v := newVisitor(t).get(start).comes(provider)
			require.Contains(t, v.page.text, shows, "%s by %s", start, provider)
			if !strings.Contains(start, "archive") {
				require.Contains(t, v.page.text, who.shows, "%s by %s", start, provider)
			}
		}
		require.Contains(t, redeemed(newVisitor(t).get(asks(d, "refund-desk", desk)).comes(provider), "refund-desk", desk),
			who.shows, provider)
		back := native.URL + "/callback"
		require.Contains(t, redeemed(newVisitor(t).get(asks(d, "depot-terminal", back)).comes(provider), "depot-terminal",
			back), who.shows, provider)
	}
	for _, app := range []string{"track-access", "seat-finder"} {
		v := newVisitor(t).get(d.host("seat-finder") + "/start").comes("oakhollow")
		v.post(d.host("oakhollow")+"/open", url.Values{"target": {app}}).comes("oakhollow")
		require.Contains(t, v.page.text, "You are in as", "%s, opened at the provider", app)
	}
}

// One session serves applications of both protocols, and ends everywhere.
func TestOneSessionOfBothProtocolsEndsEverywhere(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	track, seats := d.host("track-access"), d.host("seat-finder")
	in := func() *visitor {
		v := newVisitor(t).get(track + "/start").comes("oakhollow")
		require.Contains(t, v.page.text, "Thorne")
		v.get(seats + "/start").onward()
		require.Contains(t, v.page.text, "Thorne", "without another sign-in")
		return v
	}
	v := in()
	v.post(seats+"/sign-out", nil)
	require.Equal(t, seats+"/", v.page.url.String(), "by way of the provider, and back")
	require.NotContains(t, v.page.text, "You are in as")
	require.Contains(t, v.get(d.host("oakhollow")).page.text, "Nobody is signed in",
		"the session at the provider has ended too")
	require.Contains(t, v.get(track+"/start").onward().page.text, "What is your e-mail address or user name?")

	v = in()
	v.post(d.host("oakhollow")+"/sign-out", nil)
	require.Contains(t, v.page.text, "Nobody is signed in", v.page.text)
	require.Contains(t, v.get(track+"/start").onward().page.text, "What is your e-mail address or user name?",
		"the gate heard of it through the back channel")
	require.Eventually(t, func() bool { return !strings.Contains(v.get(seats+"/").page.text, "You are in as") },
		5*time.Second,
		50*time.Millisecond, "and so did the application")

	for _, c := range []struct{ provider, token, title string }{{"oakhollow", "x.y.z", "cannot be read"},
		{"oakhollow", "", "cannot be read"}, {"season-club", "x.y.z", "cannot be used"}} {
		res, err := http.PostForm(d.Base+"/oidc/rp/"+c.provider+"/backchannel-logout", url.Values{"logout_token": {c.token}})
		require.NoError(t, err)
		var said struct {
			Error string
			Text  string `json:"error_description"`
		}
		require.NoError(t, json.NewDecoder(res.Body).Decode(&said))
		require.NoError(t, res.Body.Close())
		require.Equal(t, http.StatusBadRequest, res.StatusCode)
		require.Equal(t, "invalid_request", said.Error)
		require.Contains(t, said.Text, c.title)
	}
	for _, path := range []string{"nobody", "wrenmoor-staff"} {
		res, err := http.Get(d.Base + "/oidc/rp/" + path + "/jwks")
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
		require.Equal(t, http.StatusNotFound, res.StatusCode, path)
	}
}

// The gate proves who it is with a key of its own, which rolls over.
func TestProofByAKeyOfTheGate(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	run := func(want int, args ...string) string {
		t.Helper()
		out, stderr, code := d.cli(t, "", args...)
		require.Equal(t, want, code, "%v: %s%s", args, out, stderr)
		return out + stderr
	}
	run(0, "provider", "set", "oakhollow", "authMethod=private_key_jwt")
	sheet := run(0, "provider", "exchange", "oakhollow")
	require.Contains(t, sheet, d.Base+"/oidc/rp/oakhollow/jwks")
	require.NotContains(t, sheet, "--client-secret-file", "no secret is wanted any more")
	require.Contains(t, run(0, "provider", "exchange", "oakhollow", "--certificate"), "BEGIN CERTIFICATE")
	der := filepath.Join(t.TempDir(), "gate.der")
	run(0, "provider", "exchange", "oakhollow", "--der", der)
	octets, err := os.ReadFile(der)
	require.NoError(t, err)
	_, err = x509.ParseCertificate(octets)
	require.NoError(t, err)
	require.Contains(t, run(2, "provider", "exchange", "season-club", "--der", der), "no certificate")
	signs := func() {
		t.Helper()
		v := newVisitor(t).get(d.host("track-access") + "/start").comes("oakhollow")
		require.Contains(t, v.page.text, "Thorne")
	}
	signs()
	run(0, "key", "announce", "oidc-client")
	signs()
	run(0, "key", "switch", "oidc-client")
	signs()
	require.NotContains(t, run(0, "trace", "list", "--output", "json"), "refused")
}

// Faults of providers on the command line and by the sign-in page, with their findings;
// what is secret is in no trace.
func TestFaultsOfIssuers(t *testing.T) {
	for fault, code := range map[string]string{"wrong-nonce": "token-nonce", "mix-up": "answer-issuer",
		"wrong-secret": "client-refused", "other-person": "user-info-subject", "page": "token-answer-odd",
		"echo": "token-refused"} {
		v := newVisitor(t).get(shared.host("track-access") + "/start").onward()
		v.post(v.page.action, url.Values{"provider": {"oakhollow"}})
		v.submit("username", "mina.thorne", "password", "oakhollow-demo", "fault", fault)
		v.refused(shared, code)
		stdout, _, _ := shared.cli(t, "", "trace", "show", reference.FindString(v.page.text), "--output", "json")
		require.NotContains(t, stdout, "oakhollow-demo-secret", fault)
		require.NotRegexp(t, `"access_token": "[^(]`, stdout, fault)
	}
	// The provider's error page is a sign-in that was left, with what that usually means.
	v := newVisitor(t).get(shared.host("track-access") + "/start").onward()
	v.post(v.page.action, url.Values{"provider": {"oakhollow"}})
	v.submit("username", "mina.thorne", "password", "oakhollow-demo", "fault", "stays")
	require.Contains(t, v.page.text, "The reply address of the request is not registered")
	l, err := client.Call(context.Background(), shared.client(), api.ListTraces,
		api.TraceFilter{Application: "track-access", Limit: 1})
	require.NoError(t, err)
	require.Equal(t, "waiting", l.Items[0].Result)
}

// Providers are added by each way, and what cannot be is said with its field and the way
// out.
func TestRelyingOnTheCommandLine(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	ends, err := time.Parse(time.DateOnly, time.Now().UTC().Add(100*time.Hour).Format(time.DateOnly))
	require.NoError(t, err)
	dir := t.TempDir()
	file := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	secret, id := file("secret", "oakhollow-demo-secret-of-the-gate\n"), file("id",
		"7f3a1c52-9d04-4e1b-8a6e-2c5b90d1e7a4")
	issuer, club := d.host("oakhollow"), d.host("season-club")
	res, err := http.Get(issuer + oidc.DiscoveryPath)
	require.NoError(t, err)
	var whole map[string]any
	require.NoError(t, json.NewDecoder(res.Body).Decode(&whole))
	require.NoError(t, res.Body.Close())
	octets, err := json.Marshal(whole)
	require.NoError(t, err)
	document := file("openid.json", string(octets))
	by := func(name string, more ...string) []string {
		return append([]string{"provider", "add", name, "--client-id", name, "--client-secret-file", secret}, more...)
	}
	plain := []string{"--protocol", "oauth2", "--authorize", club + "/authorize", "--token", club + "/token",
		"--userinfo",
		club + "/api/me", "--userinfo", club + "/api/me/emails"}
	for _, c := range []struct {
		rule string
		args []string
		code int
		want []string
	}{
		{"by its issuer", by("a", "--issuer", issuer), 0, []string{"added a, " + issuer}},
		{"by the address of its document, as issuer", by("b", "--issuer", issuer+oidc.DiscoveryPath), 0,
			[]string{"added b"}},
		{"by the address of its document", by("c", "--metadata", issuer+oidc.DiscoveryPath), 0, []string{"added c"}},
		{"by its document", by("d", "--metadata", document), 0, []string{"added d"}},
		{"by single endpoints", by("e", "--issuer", issuer, "--authorize", issuer+"/authorize", "--token", issuer+"/token",
			"--jwks-uri", issuer+"/jwks"), 0, []string{"added e"}},
		{"of OAuth 2.0", by("f", append(plain, "--identifier", "id")...), 0, []string{"added f"}},
		{"by a mutable identifier", by("g", append(plain, "--identifier", "login")...), 0, []string{"identifier-mutable"}},
		{"a preview stores nothing", by("h", "--issuer", issuer, "--preview"), 0, []string{"Token endpoint"}},
		{"unfinished", []string{"provider", "add", "i", "--issuer", issuer, "--draft"}, 0,
			[]string{"client ID, client secret",
				"provider exchange i"}},
		{"the secret's identifier", []string{"provider", "add", "j", "--issuer", issuer, "--client-id", "j",
			"--client-secret-file", id}, 0, []string{"secret-is-identifier"}},
		{"a slash too many", by("k", "--issuer", issuer+"/"), 1, []string{"--issuer", "discovery-issuer"}},
		{"nothing there", by("l", "--issuer", d.host("track-access")), 1, []string{"--issuer"}},
		{"a private network", by("m", "--issuer", "http://10.11.12.13"), 1, []string{"--issuer"}},
		{"known already", []string{"provider", "add", "n", "--issuer", issuer, "--client-id", "wrenmoor-gate",
			"--client-secret-file", secret}, 1, []string{"--client-id", "metadata-entity-known", "oakhollow"}},
		{"no client ID", []string{"provider", "add", "o", "--issuer", issuer}, 1, []string{"--client-id", "client secret"}},
		{"no identifier", by("p", plain...), 1, []string{"identifier"}},
		{"an API token as endpoint", by("q", "--token", "igt_abc"), 2, []string{"token endpoint", "INNERGATE_TOKEN"}},
		{"a protocol mistyped", by("r", "--protocol", "oath2", "--issuer", issuer), 1, []string{"saml, oidc, oauth2"}},
		{"a setting mistyped", []string{"provider", "set", "oakhollow", "algorithms=RS265"}, 1,
			[]string{"did you mean RS256"}},
		{"a method mistyped", []string{"provider", "set", "oakhollow", "authMethod=client_secret_bsic"}, 1,
			[]string{"authMethod"}},
		{"a live check", []string{"check", "--reach", "a"}, 3, []string{"authorization-request-refused", "Redirect URI"}},
		{"a live check of what works", []string{"check", "--reach", "oakhollow", "season-club"}, 0,
			[]string{"nothing found"}},
		{"an end of the secret", []string{"provider", "update", "oakhollow", "--client-secret-file", secret,
			"--client-secret-ends", ends.Format(time.DateOnly)}, 0,
			[]string{"secret-at-provider-ending"}},
		{"what ends", []string{"provider", "list", "--wide"}, 0, []string{fmt.Sprintf("in %d days",
			int(time.Until(ends).Hours()/24))}},
	} {
		out, stderr, code := d.cli(t, "", c.args...)
		require.Equal(t, c.code, code, "%s: %s%s", c.rule, out, stderr)
		for _, want := range c.want {
			require.Contains(t, out+stderr, want, c.rule)
		}
		require.NotContains(t, out+stderr, "demo-secret", c.rule)
	}
	_, _, code := d.cli(t, "", "provider", "show", "h")
	require.Equal(t, 1, code, "the preview stored nothing")
	out, _, _ := d.cli(t, "", "history", "list", "--output", "json")
	require.NotContains(t, out, "demo-secret")

	stdout, stderr, code := d.cli(t, "", "standin", "issuer", "--gate", d.Base, "--client-id", "x", "--fault", "nonsense")
	require.Equal(t, 2, code, stdout)
	require.Regexp(t, regexp.MustCompile(`no fault "nonsense".*wrong-nonce`), strings.ReplaceAll(stderr, "\n", " "))
}

// An engineer connects an OpenID provider and one of OAuth 2.0 in the console.
func TestConsoleAddsProvidersThatAreReliedOn(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	c := startChromium(t)
	c.signInToConsole(d)
	c.open(d.Console + "connect/providers/add")
	c.press("OpenID Connect")
	c.fill("input[name=name]", "oakhollow-two")
	c.see(d.Base + "/oidc/rp/oakhollow-two/callback")
	c.fill("input[name=issuer]", d.host("oakhollow")+"/")
	c.fill("input[name=clientId]", "second")
	c.fill("input[name=clientSecret]", "7f3a1c52-9d04-4e1b-8a6e-2c5b90d1e7a4")
	c.press("Preview")
	c.see("The document is that of another issuer")
	c.set("input[name=issuer]", d.host("oakhollow"))
	c.press("Preview")
	c.see("The client secret looks like an identifier")
	c.shot("relied-preview")
	c.press("Add")
	c.see("OpenID Connect provider")
	c.see("revision 1")
	c.press("Ask its addresses too")
	c.see("The provider refuses an authorization request of the gate")
	c.press("Settings")
	c.set("input[name=scopes]", "openid email")
	c.see("What will change")
	c.press("Save")
	c.see("revision 2")

	c.open(d.Console + "connect/providers/add")
	c.press("OAuth 2.0")
	c.fill("input[name=name]", "club-two")
	c.fill("input[name=authorize]", d.host("season-club")+"/authorize")
	c.fill("input[name=token]", d.host("season-club")+"/token")
	c.fill("textarea[name=userinfo]", d.host("season-club")+"/api/me")
	c.fill("input[name=identifier]", "email")
	c.fill("input[name=clientId]", "second")
	c.fill("input[name=clientSecret]", "club-demo-secret-of-the-gate")
	c.press("Preview")
	c.see("The identifier can change, or go to somebody else")
	c.press("Add")
	c.see("OAuth 2.0 provider")
	c.see("Known by its token endpoint")
}
