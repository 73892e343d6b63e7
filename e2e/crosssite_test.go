package e2e

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
	"innergate.example/innergate/internal/core/federation"
)

// sites are the gate, a provider and an application on three sites of their own
// over TLS, as browsers see them in the field.
type sites struct {
	gate, provider, app string
	desk                string // an application that runs in the browser
	api                 *client.Client
	dir                 string // with tls.pem, tls.key and idp.xml
	port                int    // of the gate; four are taken
}

func startSites(t *testing.T) sites {
	dir := t.TempDir()
	cert, key := filepath.Join(dir, "tls.pem"), filepath.Join(dir, "tls.key")
	out, err := exec.Command("openssl", "req", "-x509", "-nodes", "-newkey", "rsa:2048", "-days", "1", "-subj",
		"/CN=test", "-keyout", key, "-out", cert,
		"-addext", "subjectAltName=DNS:*.wrenmoor.example,DNS:*.oakhollow.example,DNS:*.staff-accounts.example").CombinedOutput()
	require.NoError(t, err, string(out))
	address := freePorts(t)
	_, port, err := net.SplitHostPort(address)
	require.NoError(t, err)
	var n int
	_, err = fmt.Sscan(port, &n)
	require.NoError(t, err)
	s := sites{gate: "https://gate.wrenmoor.example:" + port,
		provider: fmt.Sprint("https://login.staff-accounts.example:", n+1),
		app:      fmt.Sprint("https://roster.oakhollow.example:", n+2),
		desk:     fmt.Sprint("https://refunds.oakhollow.example:", n+3), dir: dir, port: n}

	config := filepath.Join(dir, "gate.yaml")
	require.NoError(t, os.WriteFile(config,
		[]byte("base: "+s.gate+"\nlisten: "+address+
			"\ndata: data\nsealKey: seal.key\ntls: {certificate: tls.pem, key: tls.key}\n"), 0o600))
	_, printed := serve(t, config)
	h := &http.Client{Timeout: 20 * time.Second,
		Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true},
			DialContext: func(ctx context.Context, netw, addr string) (net.Conn, error) {
				_, p, _ := net.SplitHostPort(addr)
				return (&net.Dialer{}).DialContext(ctx, netw, "127.0.0.1:"+p)
			}}}
	require.Eventually(t, func() bool {
		res, err := h.Get(s.gate + "/readyz")
		return err == nil && res.StatusCode == 200
	}, 10*time.Second, 50*time.Millisecond)
	require.Eventually(t, func() bool {
		return strings.Contains(printed.String(), "/console/setup#")
	}, 5*time.Second, 20*time.Millisecond)
	_, link, _ := strings.Cut(printed.String(), "/console/setup#")
	setup, _, _ := strings.Cut(link, "\n")
	post := func(path, body, cookie string) *http.Response {
		req, err := http.NewRequest(http.MethodPost, s.gate+"/api/v1"+path, strings.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("Innergate-Console", "1")
		req.Header.Set("Cookie", cookie)
		res, err := h.Do(req)
		require.NoError(t, err)
		require.Less(t, res.StatusCode, 300)
		return res
	}
	res := post("/setup", `{"username":"first","password":"a long enough password","token":"`+setup+`"}`, "")
	cookie, _, _ := strings.Cut(res.Header.Get("Set-Cookie"), ";")
	require.True(t, strings.HasPrefix(cookie, "__Host-ig-console="))
	var token api.Token
	require.NoError(t, json.NewDecoder(post("/tokens", `{"name":"test"}`, cookie).Body).Decode(&token))
	s.api = client.Through(h, s.gate, token.Secret)

	idp, sp := filepath.Join(dir, "idp.xml"), filepath.Join(dir, "sp.xml")
	common := []string{"--tls-certificate", cert, "--tls-key", key}
	startStandin(t, "provider", append(common, "--listen", fmt.Sprint("127.0.0.1:", n+1), "--base", s.provider, "--name",
		"accounts", "--gate", sp)...)
	startStandin(t, "app", append(common, "--listen", fmt.Sprint("127.0.0.1:", n+2), "--base", s.app, "--name", "roster",
		"--gate", idp)...)
	read := func(address string) string {
		res, err := h.Get(address)
		require.NoError(t, err)
		defer res.Body.Close()
		var b bytes.Buffer
		_, err = b.ReadFrom(res.Body)
		require.NoError(t, err)
		return b.String()
	}
	ctx := context.Background()
	_, err = client.Call(ctx, s.api, api.RecordsOf("provider").Add, api.Body(api.NewRecord{Name: "accounts",
		Given:    api.Given{Metadata: read(s.provider + "/metadata")},
		Settings: federation.Settings{"allowUnsolicited": true}}))
	require.NoError(t, err)
	_, err = client.Call(ctx, s.api, api.RecordsOf("application").Add, api.Body(api.NewRecord{Name: "roster",
		Given: api.Given{Metadata: read(s.app + "/metadata")}}))
	require.NoError(t, err)
	startStandin(t, "browser", append(common, "--listen", fmt.Sprint("127.0.0.1:", n+3), "--base", s.desk, "--name",
		"desk",
		"--gate", s.gate, "--client-id", "desk")...)
	_, err = client.Call(ctx, s.api, api.RecordsOf("application").Add, api.Body(api.NewRecord{Name: "desk",
		Settings: federation.Settings{"askConsent": true},
		Given: api.Given{Typed: federation.Typed{"kind": "browser", "clientId": "desk", "redirectUris": s.desk + "/",
			"postLogoutRedirectUris": s.desk + "/"}}}))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(idp, []byte(read(s.gate+"/saml/idp")), 0o600))
	require.NoError(t, os.WriteFile(sp, []byte(read(s.gate+"/saml/sp/accounts")), 0o600))
	return s
}

// in gives the browser for a subtest, so that failures count there.
func (c *chromium) in(t *testing.T) *chromium { return &chromium{t: t, ctx: c.ctx} }

// tab opens another tab of the same browser.
func (c *chromium) tab() *chromium {
	ctx, stop := chromedp.NewContext(c.ctx)
	c.t.Cleanup(stop)
	_, err := chromedp.Run(ctx, chromedp.EmulateViewport(1280, 800)) // the first call opens the tab
	require.NoError(c.t, err)
	return &chromium{t: c.t, ctx: ctx}
}

// signedOut forgets the cookies of all sites.
func (c *chromium) signedOut() {
	_, err := chromedp.Call(c.ctx, network.ClearBrowserCookies, cdp.Empty{})
	require.NoError(c.t, err)
}

// signInQuietly signs in at the provider without passing its answer on; it
// gives the page that would have.
func (c *chromium) signInQuietly(username string) string {
	c.t.Helper()
	c.fill("input[name=username]", username)
	c.fill("input[name=password]", "wrenmoor-demo")
	return do(c, chromedp.Evaluate[string](`fetch('/sign-in', {method: 'POST', body: new URLSearchParams(new FormData(document.querySelector('form')))}).then(r => r.text())`, chromedp.EvalAwaitPromise))
}

// post submits the form of a page that was kept.
func (c *chromium) post(page string) {
	c.t.Helper()
	c.until(`(() => { const f = document.importNode(new DOMParser().parseFromString(` + quoteJS(page) +
		`, 'text/html').querySelector('form'), true); document.body.append(f); HTMLFormElement.prototype.submit.call(f); return true })()`)
}

func TestAcrossSites(t *testing.T) {
	s := startSites(t)
	whole := startChromium(t, "host-resolver-rules", "MAP *.example 127.0.0.1", "ignore-certificate-errors", "")
	enter := func(c *chromium, start string) {
		t.Helper()
		c.open(start)
		c.atStandin("")
		c.see("You are in as ada.fenwick@wrenmoor.example")
	}
	t.Run("request by Redirect, answers by POST", func(t *testing.T) {
		c := whole.in(t)
		enter(c, s.app+"/start?RelayState=shift-17")
		c.see("shift-17")
	})
	t.Run("the session is found though the request came by a cross-site POST", func(t *testing.T) {
		c := whole.in(t)
		c.open(s.app + "/start?binding=post")
		c.see("You are in as ada.fenwick@wrenmoor.example")
	})
	t.Run("an unsolicited answer for another person replaces nobody", func(t *testing.T) {
		c := whole.in(t)
		c.open(s.provider + "/")
		c.press("Sign out here")
		c.see("Nobody is signed in")
		c.open(s.app + "/start?force=1")
		c.signInQuietly("bram.oduya") // at the provider; his answer does not reach the gate
		c.open(s.provider + "/")
		c.see("Bram Oduya")
		c.fill("input[name=target]", "roster")
		c.press("Send it to the gate")
		c.see("started at the gate")
		c.see("ada.fenwick@wrenmoor.example")
	})
	t.Run("two tabs at once", func(t *testing.T) {
		c := whole.in(t)
		c.signedOut()
		one, two := c.tab(), c.tab()
		one.open(s.app + "/start?RelayState=tab-one")
		two.open(s.app + "/start?RelayState=tab-two")
		one.atStandin("")
		one.see("tab-one")
		two.atStandin("")
		two.see("tab-two")
	})
	t.Run("thirty restored tabs", func(t *testing.T) {
		c := whole.in(t)
		c.signedOut()
		first := c.tab()
		first.open(s.app + "/start?RelayState=tab-0")
		last := c.tab()
		for i := 1; i <= 30; i++ {
			last.open(fmt.Sprint(s.app, "/start?RelayState=tab-", i))
		}
		last.atStandin("")
		last.see("tab-30")
		first.atStandin("")
		first.see("This sign-in was begun in another browser") // its cookie gave way to later ones
		first.see("Reference number")
	})
	t.Run("the back button and a reloaded answer", func(t *testing.T) {
		c := whole.in(t)
		c.signedOut()
		c.open(s.app + "/start")
		answer := c.signInQuietly("ada.fenwick")
		c.post(answer)
		c.see("You are in as")
		do(c, chromedp.Evaluate[bool](`!!setTimeout(() => history.back())`)) // once: a second one would go to the start
		c.see("You are already signed in")                                   // the browser posts the answer again
		c.press("Go to roster")
		c.see("You are in as")
		c.open(s.provider + "/")
		c.post(answer)
		c.see("You are already signed in")
	})
	t.Run("an application in the browser: tokens by CORS, renewal without asking, sign-out", func(t *testing.T) {
		c := whole.in(t)
		c.signedOut()
		c.open(s.desk + "/")
		c.press("Sign in")
		c.atStandin("")
		c.see("May desk know this about you?")
		c.see("ada.fenwick@wrenmoor.example")
		c.press("Agree, and go on")
		c.see("You are in as")
		c.see("Ada Fenwick")
		require.Equal(t, s.desk+"/", do(c, chromedp.Evaluate[string]("location.href")), "no code stays in the address")
		c.press("Renew")
		c.see("Renewed, without asking anybody.")
		// Another site, without a record here, reads nothing.
		c.open(s.app + "/")
		require.Equal(t, "TypeError", do(c, chromedp.Evaluate[string](`fetch(`+quoteJS(s.gate+"/oidc/op/token")+
			`, {method: 'POST', body: new URLSearchParams({client_id: 'desk', grant_type: 'refresh_token', refresh_token: 'x'})}).then(r => r.text(), e => e.name)`,
			chromedp.EvalAwaitPromise)))
		c.open(s.desk + "/")
		c.press("Sign in")
		c.see("You are in as") // asked for neither password nor consent again
		c.press("Sign out")
		c.see("You are not signed in.")
		c.open(s.gate + "/oidc/op/logout")
		c.see("You are signed out")
	})
}
