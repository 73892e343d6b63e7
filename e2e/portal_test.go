package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
	"innergate.example/innergate/internal/core/federation"
)

// atPortal has somebody come to the portal who chooses by whom they sign in.
func (d *demo) atPortal(t *testing.T, who string) *visitor {
	t.Helper()
	v := newVisitor(t).get(d.Base + "/")
	require.Contains(t, v.page.text, "For owners of this gate", "owners find their way")
	v.post(v.page.action, url.Values{"provider": {"wrenmoor-staff"}}).as(who)
	require.Equal(t, d.Base+"/", v.page.url.String())
	require.Equal(t, "no-store", v.page.header.Get("Cache-Control"))
	return v
}

// press posts a form of the gate's own, as a browser does that shows its page.
func (v *visitor) press(address, origin string, form url.Values) *visitor {
	v.t.Helper()
	req, err := http.NewRequest(http.MethodPost, address, strings.NewReader(form.Encode()))
	require.NoError(v.t, err)
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	if origin != "" {
		req.Header.Set("Origin", origin)
	}
	res, err := v.http.Do(req)
	require.NoError(v.t, err)
	return v.see(res)
}

// tiles are the addresses of those on the page.
func (v *visitor) tiles() (out []string) {
	for _, m := range regexp.MustCompile(`<li><a href="([^"]+)"`).FindAllStringSubmatch(v.page.body, -1) {
		out = append(out, m[1])
	}
	return out
}

// People find the applications that they enter, decided as the sign-in is; what an engineer changes acts at their
// next look.
func TestPortal(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	run := d.runs(t)
	driver, controller := d.atPortal(t, "bram.oduya"), d.atPortal(t, "celia.marsh")
	look := func(v *visitor) string { t.Helper(); return v.get(d.Base + "/").page.text }

	// In the group, and outside it: a starting point, and an application; and the other way round after a change.
	require.Contains(t, look(driver), "My shifts this week")
	require.NotContains(t, look(controller), "My shifts this week")
	require.Contains(t, look(controller), "Possessions to approve", "who holds the role is shown its starting point")
	run(0, "", "start", "put", "roster-week", "groups=controllers")
	require.NotContains(t, look(driver), "My shifts this week")
	require.Contains(t, look(controller), "My shifts this week")
	run(0, "", "app", "set", "track-access", "everyone=no", "askForEntry=true",
		"owner=Signal box <signal.box@wrenmoor.example>", "--yes")
	run(0, "", "app", "admit", "track-access", "--group", "drivers")
	require.Contains(t, driver.get(d.Base+"/").tiles(), "/open/track-access")
	require.NotContains(t, controller.get(d.Base+"/").tiles(), "/open/track-access")
	require.Contains(t, controller.page.text, "You may ask for  Track access")
	run(0, "", "app", "unadmit", "track-access", "--group", "drivers", "--yes")
	run(0, "", "app", "admit", "track-access", "--group", "controllers")
	require.NotContains(t, driver.get(d.Base+"/").tiles(), "/open/track-access")
	require.Contains(t, controller.get(d.Base+"/").tiles(), "/open/track-access")

	// Asked for from the portal, by a form of its own page alone; approved, it is there at once.
	for _, origin := range []string{"", "https://evil.example", "null"} {
		require.Equal(t, 403, driver.press(d.Base+"/ask", origin, url.Values{"application": {"track-access"}}).page.status,
			origin)
	}
	require.Contains(t, driver.page.text, "Nothing was done", driver.page.text)
	for _, other := range []string{"crew-roster", "no-such", strings.Repeat("x", 9000), "<b>"} {
		require.Contains(t, driver.press(d.Base+"/ask", d.Base, url.Values{"application": {other}}).page.text,
			"This cannot be asked for")
	}
	require.Contains(t, driver.press(d.Base+"/ask", d.Base, url.Values{"application": {"track-access"}}).page.text,
		"You asked for entry to Track access")
	driver.press(d.Base+"/ask", d.Base, url.Values{"application": {"track-access"}})
	var asked api.EntryRequests
	require.NoError(t, json.Unmarshal([]byte(run(0, "", "request", "list", "--output", "json")), &asked))
	require.Len(t, asked.Items, 1, "asked twice, it is one request")
	require.Contains(t, look(driver), "you asked for entry; nobody has decided yet")
	require.NotContains(t, driver.page.body, `action="/ask"`)
	run(0, "", "request", "approve", fmt.Sprint(asked.Items[0].Number), "--digest", asked.Items[0].Digest)
	require.Contains(t, driver.get(d.Base+"/").tiles(), "/open/track-access")
	require.Contains(t, driver.get(d.Base+"/open/track-access").onward().page.text, "You are in as")

	// Hidden, yet assigned; not open yet; one alone; and what an engineer is told is what people find.
	run(0, "", "app", "set", "track-access", "hidden=true")
	require.NotContains(t, driver.get(d.Base+"/").tiles(), "/open/track-access")
	require.Contains(t, driver.get(d.Base+"/open/track-access").onward().page.text, "You are in as")
	require.Contains(t, run(0, "", "portal", "2"), "hidden")
	run(0, "", "app", "set", "seat-finder", "phase=draft", "nextAt=2099-01-31 06:00 Europe/Berlin", "nextPhase=live",
		"--yes")
	require.Contains(t, look(driver), "not open yet, from 2099-01-31 06:00 Europe/Berlin")
	for number, v := range map[int64]*visitor{2: driver, 3: controller} {
		var told api.Portal
		require.NoError(t, json.Unmarshal([]byte(run(0, "", "portal", fmt.Sprint(number), "--output", "json")), &told))
		var addresses []string
		for _, x := range told.Tiles {
			addresses = append(addresses, strings.TrimPrefix(x.Address, d.Base))
		}
		require.Equal(t, v.get(d.Base+"/").tiles(), addresses, "what is shown is what is found")
	}
	run(0, "", "app", "set", "crew-roster", "portalPlace=30", "title=<b>Roster</b> & more")
	require.Contains(t, driver.get(d.Base+"/?search=roster").page.body, "<b>&lt;b&gt;Roster&lt;/b&gt; &amp; more</b>")
	require.Equal(t, []string{"/open/crew-roster"}, driver.tiles())
	require.Contains(t, driver.get(d.Base+"/?search=%3Cscript%3E").page.body, "No application has “&lt;script&gt;”")
	require.Equal(t, []string{"/open/possession-planner", "/open/crew-roster"}, driver.get(d.Base + "/").tiles()[1:3])

	// Bad input, before anything is kept.
	for _, c := range []struct{ says, settings string }{
		{"use at most 4096", "target=" + strings.Repeat("x", 4097)}, {"4100 octets", "target=" + strings.Repeat("ü", 2050)},
		{"control character", "target=a\u0007b"}, {`did you mean "drivers"?`, "groups=driverss"},
		{`did you mean "crew-roster"?`, "application=crew-rooster"},
		{"is a role of possession-planner", "role=planner-lead"}, {`did you mean "roster-driver"?`, "role=roster-drivr"},
		{"there is no person 4711", "people=4711"},
		{"whole number", "order=first"}, {"title is empty", "title="},
	} {
		run(1, c.says, "start", "put", "roster-week", c.settings)
	}
	run(1, "no address, as a target_link_uri", "start", "put", "planner-approve", "target=today")
	run(1, "no initiate_login_uri", "start", "put", "desk", "application=refund-desk", "title=Desk",
		"target=https://x.example/")
	run(1, "whole number", "app", "set", "crew-roster", "portalPlace=first")
	run(1, "it says who somebody is", "object", "put", "portal/portal", "editable=userName")
	run(1, "its domain", "object", "put", "portal/portal", "editable=emails")
	run(1, "is named by start/planner-approve", "role", "remove", "planner-controller")
	run(1, `did you mean "crew-roster"?`, "start", "list", "--application", "crew-rooster")

	// Without cookies, half way, twice, and after the end: it works, or says how to go on.
	bare := &visitor{t: t, http: &http.Client{CheckRedirect: func(*http.Request,
		[]*http.Request) error {
		return http.ErrUseLastResponse
	}}}
	require.Contains(t, bare.get(d.Base+"/?in=1").page.text, "Your browser did not keep the sign-in")
	require.Contains(t, bare.page.body, `href="/">Sign in`)
	half := newVisitor(t).get(d.Base + "/")
	half.post(half.page.action, url.Values{"provider": {"wrenmoor-staff"}}).onward()
	run(0, "", "person", "disable", "3")
	require.NotContains(t, look(controller), "Crew roster", "whoever is disabled has no session any more")
	half.submit("username", "celia.marsh", "password", "wrenmoor-demo").onward()
	require.Contains(t, half.page.text, "Your account is closed at the moment")
	require.Contains(t, half.page.body, `<a href="/">Your applications</a>`)
	require.Contains(t, newVisitor(t).get(d.Base+"/crossing/0123456789abcdef").page.body,
		`<a href="/">Your applications</a>`)
	driver.get(d.Base+"/open/crew-roster?start=no-such").refused(d, "start-point-unknown")
	require.Contains(t, newVisitor(t).get(d.Base+"/sign-out").page.text, "You are signed out")
	driver.press(d.Base+"/sign-out", "https://evil.example", nil)
	require.Contains(t, look(driver), "Signed in as Bram Oduya")
	require.Contains(t, driver.press(d.Base+"/sign-out", d.Base, nil).page.text, "You are signed out")
	require.Contains(t, look(driver), "How do you want to sign in?")

	// One application alone leads straight there.
	run(0, "", "object", "put", "portal/portal", "straight=true", "notYet=false", "offers=false")
	for _, app := range []string{"crew-roster", "possession-planner", "track-access", "seat-finder",
		"timetable-archive"} {
		run(0, "", "app", "set", app, "phase=paused", "--yes", "nextAt=")
	}
	require.Contains(t, driver.get(d.Base+"/").page.text, "How do you want to sign in?")
	driver.post(driver.page.action, url.Values{"provider": {"wrenmoor-staff"}}).onward() // at the provider he is in still
	require.Contains(t, driver.page.text, "You are in as")
	require.Contains(t, driver.get(d.Base+"/?all=1").page.text, "Lost property office")
}

// Somebody's own page tells who they are and whose word that is, what applications were told, and ends and takes back
// what is theirs; nothing of it is done for another site.
func TestOwnPage(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	run := d.runs(t)
	v, other := d.atPortal(t, "ada.fenwick"), d.atPortal(t, "ada.fenwick")
	own := func() string { t.Helper(); return v.get(d.Base + "/person").page.text }
	run(0, "", "app", "set", "possession-planner", "askConsent=true")
	v.get(d.host("possession-planner") + "/start")
	v.onward()
	require.Contains(t, v.page.text, "May Possession planner know this about you?")
	v.submit("agree", "yes").onward()
	require.Contains(t, own(), "Possession planner may know: your e-mail address, your groups, your name and profile")
	require.Equal(t, "no-store", v.page.header.Get("Cache-Control"))
	require.Equal(t, "DENY", v.page.header.Get("X-Frame-Options"))
	require.Contains(t, v.page.text, "ada.fenwick@wrenmoor.example from Wrenmoor staff accounts, proved")
	require.Regexp(t, `Possession planner  1 time, last .* Ada Fenwick`, v.page.text, "what it was told")
	require.Regexp(t, `groups [^(]*drivers`, v.page.text)
	run(0, "", "app", "set", "possession-planner", "traceValues=email=hashed")
	run(0, "", "provider", "set", "wrenmoor-staff", "traceValues=groups=off")
	v.get(d.host("possession-planner") + "/start").onward()
	require.Regexp(t, `Possession planner  2 times, last .* email \(not kept\) groups \(not kept\)`, own(),
		"what a setting does not keep")

	// Another session is ended, by the page alone; two at once are one.
	require.Contains(t, v.page.text, "Another browser")
	id := regexp.MustCompile(`name="session" value="([0-9a-f]+)"`).FindStringSubmatch(v.page.body)[1]
	for _, origin := range []string{"", "https://evil.example"} {
		require.Equal(t, 403, v.press(d.Base+"/person/sessions", origin, url.Values{"session": {id}}).page.status)
		require.Equal(t, 403, v.press(d.Base+"/person/consents", origin,
			url.Values{"application": {"possession-planner"}}).page.status)
		require.Equal(t, 403, v.press(d.Base+"/person/change", origin, url.Values{"attribute": {"nickName"}}).page.status)
	}
	require.Contains(t, other.get(d.Base+"/").page.text, "Signed in as Ada Fenwick")
	stranger := d.atPortal(t, "bram.oduya")
	stranger.press(d.Base+"/person/sessions", d.Base, url.Values{"session": {id}})
	require.Contains(t, other.get(d.Base+"/").page.text, "Signed in as Ada Fenwick",
		"nobody ends the session of somebody else")
	require.NotContains(t, v.press(d.Base+"/person/sessions", d.Base, url.Values{"session": {id}}).page.text,
		"Another browser")
	require.NotContains(t, v.press(d.Base+"/person/sessions", d.Base, url.Values{"session": {id}}).page.text,
		"Another browser")
	require.Contains(t, other.get(d.Base+"/").page.text, "How do you want to sign in?")
	other = d.atPortal(t, "ada.fenwick")
	require.NotContains(t, v.press(d.Base+"/person/sessions", d.Base, url.Values{"all": {"yes"}}).page.text,
		"Another browser")
	require.Contains(t, other.get(d.Base+"/person").page.text, "How do you want to sign in?")

	// What was agreed to is taken back, once and twice.
	for range 2 {
		require.NotContains(t, v.press(d.Base+"/person/consents", d.Base,
			url.Values{"application": {"possession-planner"}}).page.text, "may know:")
	}
	require.Contains(t, v.get(d.host("possession-planner")+"/start").onward().page.text,
		"May Possession planner know this about you?")

	// Changed by themselves: what a setting allows, and nothing that decides.
	for _, name := range []string{"emails", "displayName", "userName", "no-such", ""} {
		require.Equal(t, 403, v.press(d.Base+"/person/change", d.Base, url.Values{"attribute": {name}}).page.status, name)
	}
	v.press(d.Base+"/person/change", d.Base, url.Values{"attribute": {"nickName"}})
	require.Contains(t, v.page.text, "Change your nickname")
	require.Contains(t, v.submit("value.nickName", strings.Repeat("x", 300)).page.text, "too long")
	require.Contains(t, v.submit("value.nickName", "<i>Sparks</i>").page.body, "&lt;i&gt;Sparks&lt;/i&gt;")
	require.Equal(t, d.Base+"/person", v.page.url.String())
	require.Contains(t, v.page.text, "you said so")
	run(0, "", "object", "put", "rule/planner-named", "title=Named", "application=possession-planner", "then=deny",
		`when=attributes.nickName.exists(n, n == "Boss")`)
	require.Equal(t, 403, v.press(d.Base+"/person/change", d.Base, url.Values{"attribute": {"nickName"}}).page.status,
		"a rule reads it now")
	require.NotContains(t, own(), "Change")

	// An address is changed by a mailed code, where nothing is decided by addresses.
	for _, p := range []string{"wrenmoor-staff", "oakhollow", "wrenmoor-new"} {
		run(0, "", "provider", "set", p, "matchBy=", "domains=", "vouchesFor=", "--yes")
	}
	for _, o := range []string{"wrenmoor", "oakhollow"} {
		run(0, "", "object", "put", "organisation/"+o, "domains=")
	}
	run(0, "", "object", "put", "portal/portal", "editable=emails")
	m := newVisitor(t).get(d.Base + "/")
	m.post(m.page.action, url.Values{"provider": {"wrenmoor-staff"}}).as("mira.dunn")
	m.submit("value.emails", "mira@post.example").submit("code", d.code(t,
		"mira@post.example")) // the provider sends none
	require.Contains(t, m.get(d.Base+"/person").page.text, "mira@post.example you said so, proved")
	m.press(d.Base+"/person/change", d.Base, url.Values{"attribute": {"emails"}})
	m.submit("value.emails", "mira.dunn@post.example")
	require.Contains(t, m.page.text, "Type the code")
	m.submit("code", "000000")
	require.Contains(t, m.get(d.Base+"/person").page.text, "mira@post.example you said so, proved",
		"without the code nothing changes")
	m.press(d.Base+"/person/change", d.Base, url.Values{"attribute": {"emails"}})
	m.submit("value.emails", "mira.dunn@post.example").submit("code", d.code(t, "mira.dunn@post.example"))
	require.Contains(t, m.page.text, "mira.dunn@post.example you said so, proved")
}

// Every start from the portal lands where it should, at applications of every kind on sites of their own; a
// provider's own tile leads to the portal.
func TestPortalAcrossSites(t *testing.T) {
	s := startSites(t)
	ctx := context.Background()
	kiosk := fmt.Sprint("https://kiosk.oakhollow.example:", s.port+4)
	startStandin(t, "app", "--name", "kiosk", "--only-own-starts", "--gate", s.dir+"/idp.xml", "--base", kiosk,
		"--listen", fmt.Sprint("127.0.0.1:", s.port+4),
		"--tls-certificate", s.dir+"/tls.pem", "--tls-key", s.dir+"/tls.key")
	c := startChromium(t, "host-resolver-rules", "MAP *.example 127.0.0.1", "ignore-certificate-errors", "")
	c.open(kiosk + "/")
	metadata := do(c, chromedp.Evaluate[string](`fetch('/metadata').then(r => r.text())`, chromedp.EvalAwaitPromise))
	for _, n := range []api.NewRecord{
		{Name: "kiosk", Given: api.Given{Metadata: metadata}, Settings: federation.Settings{"ownStart": kiosk + "/start",
			"onlyOwnStarts": true}},
		{Name: "notices", Given: api.Given{Typed: federation.Typed{"link": s.app + "/?notices"}},
			Settings: federation.Settings{"everyone": "yes"}},
	} {
		_, err := client.Call(ctx, s.api, api.RecordsOf("application").Add, api.Body(n))
		require.NoError(t, err)
	}
	_, err := client.Call(ctx, s.api, api.RecordsOf("application").Retake, api.To("desk", api.Retake{Revision: 1,
		Given: api.Given{Typed: federation.Typed{"initiateLoginUri": s.desk + "/"}}}))
	require.NoError(t, err)
	for name, settings := range map[string]federation.Settings{
		"week":  {"application": "roster", "title": "This week", "target": "week/current <&> any text"},
		"door":  {"application": "kiosk", "title": "Kiosk door", "target": kiosk + "/start?RelayState=door"},
		"today": {"application": "desk", "title": "Refunds today", "target": "https://elsewhere.example/today"},
		"coast": {"application": "notices", "title": "Coast notices", "target": s.app + "/?coast"},
	} {
		_, err := client.Call(ctx, s.api, api.PutObject, api.SentToObject[api.ObjectChange]{OneObject: api.Of("start", name),
			Body: api.ObjectChange{Settings: settings}})
		require.NoError(t, err, name)
	}
	c.open(s.gate + "/")
	c.atStandin("")
	c.see("Your applications")
	for _, lands := range []struct{ tile, says, at string }{
		{"roster", "started at the gate", s.app}, {"This week", "week/current <&> any text", s.app},
		{"kiosk", "You are in as", kiosk}, {"Kiosk door", "door", kiosk},
		{"desk", "", s.desk + "/?iss="}, {"Refunds today", "", s.desk + "/?iss="}, {"notices", "", s.app + "/?notices"},
		{"Coast notices", "", s.app + "/?coast"},
	} {
		c.open(s.gate + "/")
		c.see("Your applications")
		c.until(`(() => { const t = [...document.querySelectorAll('.tiles a')].find((a) => a.querySelector('b').innerText === ` + quoteJS(lands.tile) + `); t?.click(); return !!t })()`)
		c.until("location.href.startsWith(" + quoteJS(lands.at) + ")")
		c.see(lands.says)
		if lands.tile == "Refunds today" {
			require.Contains(t, do(c, chromedp.Evaluate[string]("location.href")),
				"target_link_uri=https%3A%2F%2Felsewhere.example%2Ftoday")
		}
	}
	c.signedOut()
	c.open(s.app + "/start?force=1")
	c.signInQuietly("bram.oduya") // at the provider; the gate hears nothing
	c.open(s.provider + "/")      // a tile of the provider's own
	c.press("Send it to the gate")
	c.see("Signed in as Bram Oduya")
	c.until("location.href === " + quoteJS(s.gate+"/"))
	traces, err := client.Call(ctx, s.api, api.ListTraces, api.TraceFilter{Application: "notices"})
	require.NoError(t, err)
	require.Len(t, traces.Items, 2, "that a link was opened is traced")
	require.Equal(t, "ada.fenwick@wrenmoor.example", traces.Items[0].Person)
}

// The recipes of docs/portal.md do what they say.
func TestRecipesOfPortal(t *testing.T) {
	want := map[string][2]string{ // what stands on the portal of a first aider then, and how
		"A place in an application for those who need it":      {"First aid board", ""},
		"Only starting points, without the application itself": {"Crew roster", "hidden"},
		"People ask for what they miss":                        {"Track access", "may ask"},
		"Announce what opens":                                  {"Track access", "not open yet"},
	}
	cook(t, "../docs/portal.md", len(want), func(d *demo, title string) {
		w, there := want[title]
		require.True(t, there, title)
		out := d.runs(t)(0, "", "portal", "3")
		require.Regexp(t, w[0]+`\s.*`+w[1], out, title)
	})
}

// The pages of people, as small as a telephone and held by axe; and the console's page of the portal.
func TestPortalPages(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	c := startChromium(t)
	script := axe(t)
	c.open(d.Base + "/")
	require.Empty(t, c.accessible(script, "choose"))
	c.press("Wrenmoor staff accounts")
	c.fill("input[name=username]", "dov.petrak")
	c.fill("input[name=password]", "wrenmoor-demo")
	c.press("Sign in")
	c.see("Possessions to approve")
	require.Empty(t, c.accessible(script, "portal"))
	c.shot("portal")
	c.set("#search", "post shift")
	c.until(`[...document.querySelectorAll('.tiles > li')].every((t) => t.hidden)`)
	c.set("#search", "shift")
	c.until(`[...document.querySelectorAll('.tiles > li')].filter((t) => !t.hidden).length === 1`)
	c.until(`(() => { const t = document.querySelector('.tiles a[href$="roster-week"]'); t?.click(); return !!t })()`)
	c.see("week/current")
	c.open(d.Base + "/person")
	c.see("Crew roster")
	require.Empty(t, c.accessible(script, "person"))
	c.shot("own-page")
	do(c, chromedp.EmulateViewport(390, 800))
	for _, page := range []string{"/", "/person"} {
		c.open(d.Base + page)
		require.Empty(t, c.accessible(script, page))
		require.LessOrEqual(t, do(c, chromedp.Evaluate[int](`document.documentElement.scrollWidth`)), 390)
		c.shot("small" + strings.ReplaceAll(page, "/", "-"))
	}
	do(c, chromedp.EmulateViewport(1280, 800))
	c.signInToConsole(d)
	c.open(d.Console + "admit/portal")
	c.see("My shifts this week")
	require.Empty(t, c.accessible(script, "console"))
	c.shot("console-portal")
	c.press("Make a starting point")
	c.see("Landing value")
	time.Sleep(300 * time.Millisecond)
	c.shot("console-start")
}
