package web_test

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/crossing/linkside"
	"innergate.example/innergate/internal/core/crossing/samlside"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/gate"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/traces"
	"innergate.example/innergate/internal/standin"
	"innergate.example/innergate/internal/store"
	"innergate.example/innergate/internal/web"
	"innergate.example/innergate/internal/web/samlweb"
)

var protocols = []crossing.Protocol{samlside.Protocol{}, linkside.Protocol{}}

// newApp is the interface of a gate whose base address is https.
func newApp(t *testing.T) (*fiber.App, *gate.Gate) {
	dir, log := t.TempDir(), slog.New(slog.DiscardHandler)
	st, err := store.Open(filepath.Join(dir, "data"), filepath.Join(dir, "key"), store.TraceLimits{Keep: 100}, log)
	require.NoError(t, err)
	g, err := gate.New(context.Background(), gate.Options{Base: "https://gate.example", Store: st, Log: log,
		Skew: time.Minute, Protocols: protocols})
	require.NoError(t, err)
	t.Cleanup(func() { g.Close(); _ = st.Close() })
	pair, err := standin.LoadPair("", "x")
	require.NoError(t, err)
	for _, name := range []string{"staff", "branch"} {
		_, err = g.Records.AddProvider(context.Background(), change.By{Who: "test"}, records.NewRecord{Name: name,
			Title: "<b>" + name, Source: records.Source{Document: saml.WriteIDPMetadata(
				saml.IDPFace{EntityID: saml.EntityID("urn:" + name), SSO: "https://" + name + ".example/sso",
					Keys: []keys.Certificate{pair.Certificate}})}})
		require.NoError(t, err)
	}
	_, err = g.Records.AddApplication(context.Background(), change.By{Who: "test"}, records.NewRecord{Name: "roster",
		Source: records.Source{Document: saml.WriteSPMetadata(saml.SPFace{EntityID: "urn:roster",
			ACS: "https://roster.example/acs"})}})
	require.NoError(t, err)
	return web.New(web.Options{Gate: g, Log: log, Version: "test", Protocols: protocols,
		Endpoints: []web.Endpoints{samlweb.Endpoints{}}}), g
}

func call(t *testing.T, app *fiber.App, method, path, body string, header ...string) (*http.Response, string) {
	t.Helper()
	req := httptest.NewRequest(method, "https://gate.example"+path, strings.NewReader(body))
	if body != "" {
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	for i := 0; i < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	res, err := app.Test(req, fiber.TestConfig{Timeout: time.Minute})
	require.NoError(t, err)
	octets, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return res, string(octets)
}

func TestPagesAreHardened(t *testing.T) {
	app, _ := newApp(t)
	for _, c := range []struct {
		path   string
		status int
		text   string
	}{
		{"/open/roster", 200, "How do you want to sign in?"},
		{"/open/nothing", 404, "Reference number"},
		{"/saml/idp/sso", 403, "Reference number"},
		{"/nowhere", 404, "This page does not exist"},
		{"/saml/sp/nobody", 404, "This page does not exist"},
	} {
		res, body := call(t, app, "GET", c.path, "")
		require.Equal(t, c.status, res.StatusCode, c.path)
		require.Contains(t, body, c.text, c.path)
		policy := res.Header.Get("Content-Security-Policy")
		for _, want := range []string{"default-src 'none'", "frame-ancestors 'none'", "base-uri 'none'"} {
			require.Contains(t, policy, want)
		}
		require.NotContains(t, policy, "unsafe-inline")
		require.NotContains(t, policy, "form-action", "browsers apply it to the redirect that follows")
		for name, want := range map[string]string{"X-Content-Type-Options": "nosniff", "Referrer-Policy": "strict-origin",
			"X-Frame-Options": "DENY", "Cache-Control": "no-store", "Strict-Transport-Security": "max-age=31536000"} {
			require.Equal(t, want, res.Header.Get(name), c.path)
		}
		require.Empty(t, res.Header.Get("Cross-Origin-Opener-Policy"))
		require.NotContains(t, body, "<script", "no script but on pages that post by themselves")
	}
	res, _ := call(t, app, "GET", "/console/", "")
	require.NotContains(t, res.Header.Get("Content-Security-Policy"), "unsafe")
}

func TestCookiesOverHTTPS(t *testing.T) {
	app, _ := newApp(t)
	res, body := call(t, app, "GET", "/open/roster", "")
	require.Contains(t, body, "&lt;b&gt;staff", "titles are escaped")
	require.Len(t, res.Cookies(), 1)
	c := res.Cookies()[0]
	require.True(t, strings.HasPrefix(c.Name, "__Host-ig-c-"), c.Name)
	require.True(t, c.Secure && c.HttpOnly)
	require.Equal(t, http.SameSiteNoneMode, c.SameSite, "a cross-site post must find its crossing")
	require.Equal(t, "/", c.Path)
	require.InDelta(t, 3600, c.MaxAge, 1)

	id := strings.TrimPrefix(c.Name, "__Host-ig-c-")
	res, _ = call(t, app, "POST", "/crossing/"+id, "provider=branch", "Cookie", c.Name+"="+c.Value)
	require.Equal(t, http.StatusSeeOther, res.StatusCode)
	require.Contains(t, res.Header.Get("Location"), "https://branch.example/sso?SAMLRequest=")
	res, body = call(t, app, "POST", "/crossing/"+id, "provider=branch")
	require.Equal(t, http.StatusForbidden, res.StatusCode)
	require.Contains(t, body, "another browser")
}

func TestAddressBehindProxies(t *testing.T) {
	_, g := newApp(t)
	nets := func(s ...string) (out []netip.Prefix) {
		for _, n := range s {
			out = append(out, netip.MustParsePrefix(n))
		}
		return out
	}
	// The address of the connection is 0.0.0.0 here; who may scrape tells what the
	// gate takes for the browser's address.
	for _, c := range []struct {
		rule, header string
		proxies      []netip.Prefix
		status       int
	}{
		{"nobody is believed", "203.0.113.9", nil, 403},
		{"a listed proxy is", "203.0.113.9", nets("0.0.0.0/32"), 200},
		{"what the browser itself wrote is not", "203.0.113.9, 198.51.100.1", nets("0.0.0.0/32"), 403},
		{"two listed proxies in a row are passed over", "203.0.113.9, 198.51.100.1", nets("0.0.0.0/32", "198.51.100.0/24"),
			200},
		{"the last line is the nearest hop", "203.0.113.9 + 198.51.100.1", nets("0.0.0.0/32"), 403},
		{"all lines are one list", "198.51.100.7, 203.0.113.9 + 198.51.100.1", nets("0.0.0.0/32", "198.51.100.1/32"), 200},
		{"rubbish ends it", "203.0.113.9, rubbish", nets("0.0.0.0/32"), 403},
		{"who cannot be read is nobody, not the proxy", "unknown", nets("0.0.0.0/32", "203.0.113.0/24"), 403},
		{"behind two proxies too", "unknown, 203.0.113.9", nets("0.0.0.0/32", "203.0.113.0/24"), 403},
		{"an empty one neither", "", nets("0.0.0.0/32", "203.0.113.0/24"), 403},
		{"a port is no matter", "203.0.113.9:4711", nets("0.0.0.0/32"), 200},
		{"nor with IPv6", "[::ffff:203.0.113.9]:4711", nets("0.0.0.0/32"), 200},
	} {
		app := web.New(web.Options{Gate: g, Log: slog.New(slog.DiscardHandler), MetricsNetworks: nets("203.0.113.0/24"),
			Proxies: c.proxies, Protocols: protocols})
		req := httptest.NewRequest("GET", "https://gate.example/metrics", nil)
		req.Header["X-Forwarded-For"] = strings.Split(c.header, " + ") // lines
		res, err := app.Test(req, fiber.TestConfig{Timeout: time.Minute})
		require.NoError(t, err)
		require.Equal(t, c.status, res.StatusCode, c.rule)
	}
}

func TestChooseAgain(t *testing.T) {
	app, g := newApp(t)
	res, _ := call(t, app, "GET", "/open/roster", "")
	c := res.Cookies()[0]
	cookie, id := c.Name+"="+c.Value, strings.TrimPrefix(c.Name, "__Host-ig-c-")
	res, _ = call(t, app, "POST", "/crossing/"+id, "provider=staff", "Cookie", cookie)
	_, query, _ := strings.Cut(res.Header.Get("Location"), "?")
	in, err := saml.FromRedirect(query, "SAMLRequest")
	require.NoError(t, err)
	asked, _, _ := strings.Cut(strings.SplitN(string(in.Octets), ` ID="`, 2)[1], `"`)
	bad, err := saml.WriteResponse(saml.Answer{ResponseID: "_r", AssertionID: "_a", At: time.Now(), Issuer: "urn:staff",
		Destination: g.Base() + "/saml/sp/staff/acs", InResponseTo: asked}, saml.Protection{})
	require.NoError(t, err)
	form := url.Values{"SAMLResponse": {base64.StdEncoding.EncodeToString(bad)}}.Encode()
	_, body := call(t, app, "POST", "/saml/sp/staff/acs", form, "Cookie", cookie)
	require.Contains(t, body, "Choose another way to sign in")
	_, body = call(t, app, "GET", "/crossing/"+id+"?again=1", "", "Cookie", cookie)
	require.Contains(t, body, "How do you want to sign in?")
	res, _ = call(t, app, "POST", "/crossing/"+id, "provider=branch", "Cookie", cookie)
	require.Contains(t, res.Header.Get("Location"), "https://branch.example/sso")
}

func TestAuthnRequestByPOSTGoesOnWithAGET(t *testing.T) {
	app, g := newApp(t)
	out, err := saml.WriteAuthnRequest(saml.AuthnRequest{ID: "_q", IssueInstant: time.Now(), Issuer: "urn:roster",
		ACS: "https://roster.example/acs"},
		saml.Endpoint{Binding: saml.BindingPOST, Location: g.Base() + "/saml/idp/sso"}, "a&b", nil)
	require.NoError(t, err)
	form := "SAMLRequest=" + strings.ReplaceAll(strings.ReplaceAll(out.Form[0].Value, "+", "%2B"), "=",
		"%3D") + "&RelayState=a%26b"
	res, _ := call(t, app, "POST", "/saml/idp/sso", form)
	require.Equal(t, http.StatusSeeOther, res.StatusCode)
	require.True(t, strings.HasPrefix(res.Header.Get("Location"), g.Base()+"/crossing/"),
		"the session cookie comes along only now")
	res, _ = call(t, app, "POST", "/saml/idp/sso?"+form, "x=y")
	require.Equal(t, http.StatusForbidden, res.StatusCode, "a message in the address is none in the form")
}

func TestMetadataAndRequestsOfOddSize(t *testing.T) {
	app, g := newApp(t)
	for path, role := range map[string]string{"/saml/idp": "IDPSSODescriptor", "/saml/sp/staff": "SPSSODescriptor"} {
		res, body := call(t, app, "GET", path, "")
		require.Equal(t, "application/samlmetadata+xml", res.Header.Get("Content-Type"))
		require.Contains(t, body, role)
		require.Contains(t, body, `entityID="`+g.Base()+path+`"`)
	}
	_, signed := call(t, app, "GET", "/saml/idp?signed=true", "")
	file, cert := filepath.Join(t.TempDir(), "m.xml"), filepath.Join(t.TempDir(), "c.pem")
	require.NoError(t, os.WriteFile(file, []byte(signed), 0o600))
	require.NoError(t, os.WriteFile(cert, g.Snapshot().Gate.Keys["idp"].Current.Certificate.PEM(), 0o600))
	out, err := exec.Command("xmlsec1", "--verify", "--pubkey-cert-pem", cert, "--id-attr:ID",
		"urn:oasis:names:tc:SAML:2.0:metadata:EntityDescriptor", file).CombinedOutput()
	require.NoError(t, err, string(out))
	res, _ := call(t, app, "GET", "/open/roster", "", "Cookie", "x="+strings.Repeat("y", 20<<10))
	require.Equal(t, http.StatusOK, res.StatusCode, "large cookies of other programs on the host are no trouble")
	res, body := call(t, app, "GET", "/open/roster", "", "Host", "evil.example", "X-Forwarded-Host", "evil.example")
	require.NotContains(t, body, "evil.example")
	require.Equal(t, http.StatusOK, res.StatusCode)
	res, _ = call(t, app, "GET", "/metrics", "")
	require.Equal(t, http.StatusForbidden, res.StatusCode, "not for everybody")
	_, secret, err := g.Operators.AddToken(context.Background(), change.By{Who: "test"}, "monitor", time.Time{})
	require.NoError(t, err)
	res, body = call(t, app, "GET", "/metrics", "", "Authorization", "Bearer "+secret)
	require.Equal(t, http.StatusOK, res.StatusCode)
	for _, want := range []string{"innergate_ready 1", `innergate_certificate_days_left{kind="gate",name="idp"} 18`,
		`innergate_records{kind="provider"} 2`,
		"innergate_crossings_waiting 2", "go_goroutines"} {
		require.Contains(t, body, want)
	}
	for _, path := range []string{"/healthz", "/readyz"} {
		res, _ := call(t, app, "GET", path, "")
		require.Equal(t, http.StatusOK, res.StatusCode)
	}
}

func TestAPIDescribesTakingIn(t *testing.T) {
	app, _ := newApp(t)
	_, text := call(t, app, "GET", "/api/v1/openapi.json", "")
	var document struct {
		Paths map[string]map[string]struct {
			Parameters  []struct{ Name string }
			RequestBody struct{ Content map[string]any }
			Responses   map[string]any
		}
	}
	require.NoError(t, json.Unmarshal([]byte(text), &document))
	for path, calls := range document.Paths {
		for method, o := range calls {
			var remark bool
			for _, p := range o.Parameters {
				remark = remark || p.Name == "remark"
			}
			changes := method != "get" && !strings.HasSuffix(path, "/preview") && !strings.HasSuffix(path, "/simulations") &&
				!strings.HasSuffix(path, "/way") && path != "/api/v1/me" && path != "/api/v1/setup"
			if changes {
				require.True(t, remark, "%s %s takes a remark", method, path)
			}
			require.False(t, remark && method == "get", "%s %s changes nothing", method, path)
		}
	}
	for path, method := range map[string]string{"/aggregates": "post", "/aggregates/{name}/take": "post",
		"/aggregates/{name}/refresh": "post", "/aggregates/upload": "post"} {
		o, ok := document.Paths["/api/v1"+path][method]
		require.True(t, ok, path)
		require.Contains(t, o.Responses, "202", "%s starts a job", path)
	}
	require.Contains(t, document.Paths["/api/v1/aggregates/upload"]["post"].RequestBody.Content, "multipart/form-data")
}

// The console's session may change things only from the console itself, uploads
// and previews included.
func TestTakingInByConsoleSession(t *testing.T) {
	app, g := newApp(t)
	require.NoError(t, g.Operators.AddOwner(context.Background(), change.By{Who: "test"}, "gwen",
		"a long enough password"))
	session, err := g.Operators.SignIn(context.Background(), "gwen", "a long enough password", "127.0.0.1")
	require.NoError(t, err)
	cookie := "__Host-ig-console=" + session
	form := "--b\r\nContent-Disposition: form-data; name=\"settings\"\r\n\r\n{\"name\":\"lines\"}\r\n--b\r\nContent-Disposition: form-data; name=\"document\"; filename=\"x\"\r\n\r\n<html></html>\r\n--b--\r\n"
	for _, c := range []struct {
		rule, path, body, kind string
		header                 []string
		status                 int
	}{
		{"an upload without the console's header", "/aggregates/upload", form, "multipart/form-data; boundary=b", nil, 403},
		{"an upload from another site", "/aggregates/upload", form, "multipart/form-data; boundary=b",
			[]string{"Innergate-Console", "1", "Origin", "https://evil.example"}, 403},
		{"an upload from the console", "/aggregates/upload", form, "multipart/form-data; boundary=b",
			[]string{"Innergate-Console", "1", "Origin", "https://gate.example"}, 202},
		{"a preview from another site", "/providers/preview", `{"name":"x","metadata":"x"}`, "application/json",
			[]string{"Origin", "https://evil.example"}, 403},
		{"a preview from the console", "/providers/preview", `{"name":"x","metadata":"x"}`, "application/json",
			[]string{"Innergate-Console", "1"}, 422},
		{"setting back from another site", "/history/1/restore", "{}", "application/json", nil, 403},
		{"an approval from another site", "/providers/staff/approve", "{}", "application/json", nil, 403},
	} {
		res, text := call(t, app, "POST", "/api/v1"+c.path, c.body,
			append([]string{"Cookie", cookie, "Content-Type", c.kind}, c.header...)...)
		require.Equal(t, c.status, res.StatusCode, "%s: %s", c.rule, text)
	}
	res, text := call(t, app, "GET", "/api/v1/history?limit=1", "", "Cookie", cookie)
	require.Equal(t, 200, res.StatusCode)
	require.Contains(t, text, `"who":"test"`, "what was refused left nothing")
}

// A message over the size limit is read to its end and refused on a page; a
// connection that is just closed would show the person nothing.
func TestTooLargeAMessageIsRefusedOnAPage(t *testing.T) {
	app, g := newApp(t)
	at := listening(t, app)
	send := func(path string, size int) (int, string) {
		body := "SAMLResponse=" + strings.Repeat("A", size)
		req, err := http.NewRequest(http.MethodPost, "http://"+at+path, strings.NewReader(body))
		require.NoError(t, err)
		req.Host = "gate.example"
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err, "%s %d", path, size)
		defer res.Body.Close()
		text, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return res.StatusCode, string(text)
	}
	for _, path := range []string{"/saml/sp/staff/acs", "/saml/idp/sso"} {
		for _, size := range []int{5 << 20, 40 << 20} {
			status, text := send(path, size)
			require.Equal(t, http.StatusForbidden, status, path)
			require.Contains(t, text, "You could not be signed in")
		}
	}
	_, counts, err := g.Traces.List(context.Background(), traces.Filter{Search: "xml-too-large", Limit: 1})
	require.NoError(t, err)
	require.EqualValues(t, 4, counts["refused"])
	status, text := send("/crossing/x", 5<<20)
	require.Equal(t, http.StatusRequestEntityTooLarge, status)
	require.Contains(t, text, "too much at once")
	status, text = send("/api/v1/me", 5<<20)
	require.Equal(t, http.StatusRequestEntityTooLarge, status)
	require.Contains(t, text, "3.1 MB")
}

// What is wrong about people is named: the field, the cause and the way out.
func TestBadInputOfPeople(t *testing.T) {
	app, g := newApp(t)
	_, secret, err := g.Operators.AddToken(context.Background(), change.By{Who: "test"}, "people", time.Time{})
	require.NoError(t, err)
	for _, c := range []struct {
		method, path, body string
		status             int
		want               string
	}{
		{"GET", "/links?limit=0", "", 422, "limit"},
		{"GET", "/links?person=-1", "", 422, "person"},
		{"GET", "/links?person=7", "", 422, "there is no person 7"},
		{"GET", "/links?after=zz", "", 422, "key of the last link seen"},
		{"GET", "/links?provider=stafff", "", 422, `did you mean \"staff\"?`},
		{"POST", "/links/carry", `{}`, 422, "from"},
		{"POST", "/links/carry", `{"from":"staff","to":"staff","preview":true}`, 422,
			"is the provider that the links are of"},
		{"POST", "/links/carry", `{"from":"staff","to":"nobody","preview":true}`, 422, `there is no provider \"nobody\"`},
		{"POST", "/links/carry", `{"from":"0123","to":"staff","preview":true}`, 422, `there is no provider \"0123\"`},
		{"GET", "/applications/rooster/subjects", "", 404, `did you mean \"roster\"?`},
		{"GET", "/applications/roster/subjects?after=-1", "", 422, "after"},
		{"POST", "/applications/rooster/subjects", `{"csv":"x"}`, 404, `did you mean \"roster\"?`},
		{"POST", "/applications/roster/subjects", `{}`, 422, "0 lines"},
		{"POST", "/applications/roster/subjects", `{"csv":"provider,name,value\nstaff,a,1","format":"x"}`, 422, "format"},
		{"POST", "/applications/roster/subjects", `{"csv":"x","known":[{"provider":"staff","name":"a","value":"1"}]}`, 422,
			"not both"},
		{"POST", "/applications/roster/subjects",
			`{"known":[{"provider":"staff","name":"a","format":"persistent","value":"1"}]}`,
			422, "digest"},
		{"POST", "/applications/roster/subjects", `{"csv":"` + strings.Repeat("x", 2600000) + `"}`, 422, "csv"},
		{"POST", "/applications/roster/subjects",
			`{"known":[{"provider":"staff","name":"a","format":"persistent","value":"1"}],"preview":true}`, 200, `"people":1`},
		{"GET", "/applications/roster/subjects", "", 200, `"total":0`},
	} {
		res, text := call(t, app, c.method, "/api/v1"+c.path, c.body, "Authorization", "Bearer "+secret, "Content-Type",
			"application/json")
		require.Equal(t, c.status, res.StatusCode, "%s %s: %s", c.path, c.body[:min(len(c.body), 80)], text)
		require.Contains(t, text, c.want, c.path)
	}
}

// A panic in a handler is answered, and ends nothing.
func TestAPanicIsAnswered(t *testing.T) {
	app, _ := newApp(t)
	app.Get("/boom", func(fiber.Ctx) error { panic("secret detail") })
	app.Get("/api/v1/boom", func(fiber.Ctx) error { panic("secret detail") })
	for _, path := range []string{"/boom", "/api/v1/boom"} {
		res, body := call(t, app, "GET", path, "")
		require.NotContains(t, body, "secret")
		require.GreaterOrEqual(t, res.StatusCode, 400)
	}
	res, _ := call(t, app, "GET", "/healthz", "")
	require.Equal(t, 200, res.StatusCode)
	res, _ = call(t, app, "GET", "/api/v1/tokens", "")
	require.Equal(t, "no-store", res.Header.Get("Cache-Control"), "answers of the API are kept nowhere")
}
