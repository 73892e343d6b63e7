package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"html/template"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
)

// axe is the checker of accessibility, as the console's build has installed it.
func axe(t *testing.T) string {
	t.Helper()
	script, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	require.NoError(t, err, "make build installs it")
	return string(script)
}

// accessible holds the page that is open against WCAG 2.2, levels A and AA, and
// gives what does not hold. Colours that are still changing are taken as what they change to.
func (c *chromium) accessible(script, page string) (out []string) {
	c.t.Helper()
	do(c, chromedp.Evaluate[any](script+`;
		document.getAnimations().filter((a) => a instanceof CSSTransition).forEach((a) => a.finish()); 0`))
	found := do(c, chromedp.Evaluate[string](`axe.run(document, {runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa']}).then((r) =>
		JSON.stringify(r.violations.map((v) => v.id + ': ' + v.nodes.slice(0, 3).map((n) => n.html.slice(0, 200) + ' ' + (n.any[0] ?? n.all[0] ?? n.none[0])?.message).join(' | '))))`,
		chromedp.EvalAwaitPromise))
	var violations []string
	require.NoError(c.t, json.Unmarshal([]byte(found), &violations))
	for _, v := range violations {
		out = append(out, page+": "+v)
	}
	return out
}

// inDark has pages see that the person prefers dark ones.
func (c *chromium) inDark(dark bool) {
	c.t.Helper()
	scheme := map[bool]string{true: "dark", false: "light"}[dark]
	do(c, chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
			Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme},
				{Name: "prefers-reduced-motion", Value: "reduce"}}})
		return err
	}))
}

// accountsFile is the list of accounts that the stand-in of the crew roster exports.
func accountsFile(t *testing.T, d *demo) string {
	res, err := http.Get(d.host("crew-roster") + "/accounts.csv")
	require.NoError(t, err)
	defer res.Body.Close()
	f, err := os.Create(filepath.Join(t.TempDir(), "accounts.csv"))
	require.NoError(t, err)
	_, err = f.ReadFrom(res.Body)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	return f.Name()
}

// Every page of the console, in light and in dark. The list is held against the
// console's own.
func TestConsoleIsAccessible(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	ok := func(args ...string) {
		out, errs, code := d.cli(t, "", args...)
		require.Contains(t, []int{0, 3}, code, out+errs)
	}
	newVisitor(t).get(d.host("crew-roster") + "/start").signIn("wrong-audience").onward()
	failing, _, _ := d.cli(t, "", "connections", "--state", "failing")
	require.Regexp(t, `crew-roster .*  audience-other`, failing)
	newVisitor(t).get(d.host("crew-roster") + "/start").signIn("").onward()
	ok("provider", "set", "wrenmoor-staff", "allowSHA1=true", "trustKey=@"+certificateFile(t))
	ok("acknowledge", "wrenmoor-staff", "exception-in-force", "--until", "30d", "--remark", "until spring")
	ok("app", "set", "lost-property", "ownStart=")
	ok("provider", "set", "wrenmoor-staff",
		`intakeMapping={"rules":[{"to":{"name":"x"},"from":[{"attribute":"nobody"}]}]}`)
	ok("set", "put", "common", "--way", "intake", "--mapping", mappingFile(t))
	ok("app", "add", "half", "--draft")
	ok("accounts", "compare", "crew-roster", accountsFile(t, d))
	newVisitor(t).get(d.host("possession-planner") + "/start?scope=openid%20offline_access").through("yes")
	ok("app", "secret", "possession-planner")
	list, err := client.Call(t.Context(), d.client(), api.ListTraces, api.TraceFilter{Result: "refused"})
	require.NoError(t, err)
	changes, err := client.Call(t.Context(), d.client(), api.ListHistory, api.HistoryFilter{Kind: "provider", Limit: 1})
	require.NoError(t, err)

	pages := map[string]string{"/connect": "Connections", "/connect/providers": "Short name",
		"/connect/providers/add": "Short name", "/connect/providers/wrenmoor-staff": "What the provider needs",
		"/connect/applications": "Short name", "/connect/applications/add": "Short name",
		"/connect/applications/lost-property": "What the application needs", "/connect/applications/half": "Unfinished",
		"/connect/applications/crew-roster/subjects": "Subjects", "/connect/aggregates": "Northern",
		"/connect/applications/possession-planner": "Client ID", "/connect/applications/possession-planner/grants": "good",
		"/connect/aggregates/northern-lines": "Entities", "/watch/traces": "Traces",
		"/watch/traces/" + list.Items[0].ID: "AuthnRequest", "/watch/checks": "Checks",
		"/watch/traces/" + list.Items[0].ID + "/compare?with=" + list.Items[0].ID: "Their steps are alike",
		"/watch/checks?code=own-start-missing":                                    "Acknowledge",
		"/connect/providers/wrenmoor-staff/mapping":                               "absent", "/map": "Intake of", "/admit/people": "Belongs to",
		"/admit/people/1": "Sign-ins of late", "/admit/groups": "Signalling contractors",
		"/admit/organisations": "oakhollow.example", "/admit/rules": "Would somebody enter?",
		"/admit/selection": "Owners always come in at", "/admit/roles": "Would somebody enter?",
		"/rehearse": "Contractors stay out", "/rehearse-tour": "Make the mistake", "/rehearse/driver-enters-roster": "It was never run", "/watch/live": "Whoever signs in now",
		"/admit/portal": "My shifts this week", "/watch/events": "heard all", "/admit/requests": "Nothing waits",
		"/connect/applications/crew-roster/entrants": "Admitted by name", "/admit/import": "Make nobody",
		"/connect/applications/crew-roster/accounts": "5 of 9 accounts fit", "/watch/notices": "Nothing waits",
		"/map/sets": "Shared by", "/map/sets/common": "Shared by", "/connect/applications/crew-roster/mapping": "Sent",
		"/keep/keys": "Keys", "/keep/contexts": "Contexts", "/keep/objects/set": "common",
		"/keep/links": "Links", "/keep/history": "History", fmt.Sprint("/keep/history/",
			changes.Items[0].ID): "Before and after",
		"/keep/owners": "signal-box", "/keep/tokens": "API tokens", "/no/such/page": "page"}
	everyRoute(t, pages)

	script, found := axe(t), []string{}
	c := startChromium(t)
	look := func(page string) { found = append(found, c.accessible(script, page)...) }
	for _, dark := range []bool{false, true} {
		c.inDark(dark)
		for _, page := range []string{"/sign-in", "/setup#x"} {
			c.open(strings.TrimSuffix(d.Console, "/") + page)
			c.until("document.querySelector('h1') !== null")
			look(page)
		}
	}
	c.signInToConsole(d)
	c.inDark(false)
	c.see("broken 1")
	c.see("nobody has signed in yet")
	c.shot("connections")
	for _, dark := range []bool{false, true} {
		c.inDark(dark)
		for page, text := range pages {
			c.open(strings.TrimSuffix(d.Console, "/") + page)
			c.see(text)
			look(fmt.Sprint(page, map[bool]string{true: " in dark"}[dark]))
		}
	}
	// What opens over a page.
	c.inDark(false)
	c.open(d.Console + "connect/providers/wrenmoor-staff")
	c.press("Settings")
	c.see("Requests are sent by")
	look("the drawer of settings")
	c.open(d.Console + "connect/providers/wrenmoor-staff")
	c.press("Take in newer values")
	c.press("Single values")
	c.see("Further certificates")
	look("the drawer of newer values")
	c.open(d.Console + "map/sets/common")
	c.press("x")
	c.see("Rule for x")
	c.press("Add a step")
	look("the form of a rule")
	c.open(d.Console + "connect/applications/add")
	c.press("OpenID Connect")
	c.press("Signing out, starting at the gate, keys")
	c.see("Initiate login URI")
	look("the form of a client")
	c.open(d.Console + "connect/providers/wrenmoor-staff")
	c.press("Remove")
	c.see("Remove wrenmoor-staff?")
	c.until("getComputedStyle(document.querySelector('.el-message-box')).opacity === '1' && !document.querySelector('[class*=enter-active]')")
	look("a question")
	require.Empty(t, found, strings.Join(found, "\n"))
}

// mappingFile is a file with one rule.
func mappingFile(t *testing.T) string {
	file := filepath.Join(t.TempDir(), "mapping.json")
	require.NoError(t, os.WriteFile(file, []byte(`{"rules":[{"to":{"name":"x"},"from":[{"attribute":"mail"}]}]}`), 0o600))
	return file
}

// everyRoute sees that each route of the console has a page in the list.
func everyRoute(t *testing.T, pages map[string]string) {
	source, err := os.ReadFile("../console/src/router.ts")
	require.NoError(t, err)
	for _, m := range regexp.MustCompile(`path: '([^']+)', component`).FindAllStringSubmatch(string(source), -1) {
		pattern := "^" + regexp.MustCompile(`:[a-z]+(\\\(\.\*\\\)\*|\(\.\*\)\*)?`).ReplaceAllStringFunc(m[1],
			func(p string) string {
				if strings.Contains(p, "*") {
					return ".*"
				}
				return "[^/]+"
			}) + "$"
		if m[1] == "/setup" || m[1] == "/sign-in" {
			continue // seen before anybody is signed in
		}
		found := false
		for page := range pages {
			path, _, _ := strings.Cut(page, "?")
			found = found || regexp.MustCompile(pattern).MatchString(path)
		}
		require.True(t, found, "%s is looked at", m[1])
	}
}

func certificateFile(t *testing.T) string {
	path := t.TempDir() + "/trust.pem"
	require.NoError(t, os.WriteFile(path, newPair(t, "publisher").Certificate.PEM(), 0o600))
	return path
}

// Every page that people see during a sign-in, also on a small screen: nothing has
// to be moved sideways there, and what is pressed is large enough.
func TestPagesForPeopleAreAccessible(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	branch := startStandin(t, "provider", "--name", "branch", "--gate", d.Base+"/saml/sp/branch")
	for _, args := range [][]string{{"provider", "add", "branch", "--metadata", branch + "/metadata"},
		{"app", "set", "crew-roster", "provider="}} {
		out, errs, code := d.cli(t, "", args...)
		require.Zero(t, code, out+errs)
	}
	script := axe(t)
	c := startChromium(t)
	refused := d.Base + "/open/crew-roster?RelayState=https://evil.example/"
	rendered := templates(t)
	var found []string
	look := func(page string) {
		for _, width := range []int64{1280, 390} {
			do(c, chromedp.EmulateViewport(width, 800))
			for _, dark := range []bool{false, true} {
				c.inDark(dark)
				found = append(found, c.accessible(script, fmt.Sprint(page, " at ", width,
					map[bool]string{true: " in dark"}[dark]))...)
			}
			fits := do(c, chromedp.Evaluate[bool]("document.documentElement.scrollWidth <= innerWidth"))
			require.True(t, fits, "%s fits into %d", page, width)
			small := do(c, chromedp.Evaluate[string](`[...document.querySelectorAll('a, button, input:not([type=hidden])')].filter((e) => e.getBoundingClientRect().height < 24).map((e) => e.outerHTML).join()`))
			require.Empty(t, small, "%s at %d: targets are at least 24 px high", page, width)
		}
	}
	for page, text := range map[string]string{
		d.Base + "/open/crew-roster": "How do you want to sign in?", refused: "You could not be signed in",
		d.Base + "/open/nothing":                        "There is nothing at this address",
		d.host("track-access") + "/start":               "What is your e-mail address or user name?",
		d.Base + "/crossing/aaaaaaaaaaaaaaaaaaaaaaaaaa": "This sign-in has expired",
		d.Base + "/nowhere":                             "This page does not exist",
		d.Base + "/saml/idp/sso":                        "Reference number",
		rendered + "/form.html":                         "Your staff number",
		rendered + "/post.html":                         "Go on to roster.wrenmoor.example",
		rendered + "/message.html":                      "Choose another way",
		rendered + "/agree.html":                        "while you are away",
		rendered + "/leave.html":                        "Stay signed in",
		rendered + "/refused.html":                      "Ask for entry",
		rendered + "/portal.html":                       "You may ask for",
		rendered + "/person.html":                       "What you agreed to",
		rendered + "/choose.html":                       strings.Repeat("Long", 5),
		strings.Replace(rendered, "127.0.0.1", "localhost", 1) + "/message.html": "Choose another way",
	} {
		c.open(page)
		c.see(text)
		look(page)
	}
	require.Empty(t, found, strings.Join(found, "\n"))
}

// templates serves the pages that no protocol shows yet, and those that pass by at
// once, filled in.
func templates(t *testing.T) string {
	dir := os.DirFS("../internal/web/pages")
	type field struct {
		Name, Label, Fill, Value, Hint, Type, Autofill string
		Secret, Code                                   bool
	}
	view := map[string]any{"Title": "One more question", "Text": "Your application has to know this once.",
		"Reference": "ABCDE-FGHJK", "Crossing": "x", "Continue": "/go", "Application": "Crew roster", "Again": "/again",
		"Location": "/x", "Host": "roster.wrenmoor.example", "Nonce": "n", "Fields": []field{{Name: "a", Value: "b"}},
		"Address": map[string]string{"Typed": "ada", "Wrong": "That is no e-mail address."}, "Many": true, "Last": "a",
		"Choices": []map[string]string{{"Name": "a", "Title": "Wrenmoor staff accounts"},
			{"Name": "b", "Title": strings.Repeat("Long", 30)}},
		"Form": map[string]any{"Submit": "Go on", "Wrong": "That is no number.", "Question": "q", "Options": nil,
			"Also": []map[string]string{{"Name": "again", "Title": "Send another code"}},
			"Fields": []field{{Name: "number", Label: "Your staff number", Hint: "On your card", Type: "email",
				Autofill: "email"},
				{Name: "pin", Label: "PIN", Secret: true}}},
		"Owners": []map[string]any{{"Words": "Edda Lunn"}, {"Words": strings.Repeat("long", 20) + "@wrenmoor.example",
			"Address": template.URL("mailto:x@wrenmoor.example")}},
		"Refusal": map[string]any{"Question": "q", "MayAsk": true, "Requested": false},
		"Agree": map[string]any{"Lasts": true, "Policy": "https://roster.wrenmoor.example/policy", "Digest": "d",
			"Shown": []map[string]string{{"Label": "Your name", "Value": strings.Repeat("Long", 30)}}}}
	long := strings.Repeat("Long", 30)
	tiles := []map[string]any{{"Title": long, "Text": long, "Marks": []string{"starts itself"}, "App": "a",
		"Asked": false}}
	for name, x := range map[string]any{"All": 9, "Script": true, "Name": long, "Coming": tiles, "Offers": tiles,
		"Groups": []string{long}, "Others": 1,
		"Sections": []map[string]any{{"Title": long, "List": template.HTML(`<li><a href="/open/a"><b>` + long +
			`</b><span>` + long + `</span></a>`)}},
		"Values": []map[string]any{{"Label": "Nickname", "Name": "nickName", "Values": []string{long}, "From": "you",
			"Proved": true, "Editable": true}},
		"Links": []map[string]any{{"Provider": map[string]string{"Title": long},
			"Subject": map[string]string{"Value": long}}},
		"Sessions": []map[string]any{{"Here": true, "By": []string{long}, "Began": ""},
			{"ID": "1", "By": []string{long}, "Began": ""}},
		"Consents": []map[string]any{{"App": "a", "Title": long, "Scopes": []string{long}, "At": ""}},
		"Told": []map[string]any{{"Title": long, "Count": 2, "Last": "", "Known": true,
			"What": []map[string]any{{"Name": long, "Values": []string{long}}}}}} {
		view[name] = x
	}
	all, err := template.New("").Funcs(template.FuncMap{"day": func(any) string { return "30 November 2026, 08:00 UTC" }}).ParseFS(dir, "*.html")
	require.NoError(t, err)
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if q.URL.Path == "/assets/page.css" {
			http.ServeFileFS(w, q, dir, "page.css")
			return
		}
		w.Header().Set("Content-Security-Policy", "script-src 'none'") // the page would go on at once
		name := strings.TrimPrefix(q.URL.Path, "/")
		if !slices.Contains([]string{"form.html", "post.html", "message.html", "choose.html", "agree.html", "leave.html",
			"refused.html", "portal.html", "person.html"},
			name) {
			http.NotFound(w, q)
			return
		}
		require.NoError(t, all.ExecuteTemplate(w, name, view))
	}))
	t.Cleanup(srv.Close)
	return srv.URL
}

// What the command line does to many at once, the console does too, and takes back.
func TestManyInTheConsole(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	c := startChromium(t)
	c.signInToConsole(d)
	phases := func() (out []string) {
		l, err := client.Call(t.Context(), d.client(), api.RecordsOf("application").List, api.Listing{})
		require.NoError(t, err)
		for _, r := range l.Items {
			out = append(out, r.Phase)
		}
		return out
	}
	c.open(d.Console + "connect/applications")
	c.see("All 9 that match")
	c.until(`(() => { const e = document.querySelectorAll('tbody .el-checkbox'); if (e.length < 3) return false; e[0].click(); e[1].click(); return true })()`)
	c.see("2 chosen")
	c.press("Pause")
	c.see("2 of 2 would be paused")
	c.set(".el-message-box input", "night works")
	c.shot("many")
	c.until(`(() => { const e = document.querySelector('.el-message-box__btns .el-button--primary'); e?.click(); return !!e })()`)
	c.see("Paused 2 applications.")
	require.Equal(t, []string{"paused", "paused", "live"}, phases()[:3])
	c.shot("many-done")
	c.press("Take it back")
	c.see("night works")
	c.see("It was made together with others")
	c.shot("undo")
	c.press("Take it back")
	c.see("took back change")
	require.NotContains(t, phases(), "paused")

	c.open(d.Console + "keep/tokens")
	c.fill("input[name=name]", "build-server")
	c.set("input[name=expires]", "2031-05-01")
	c.press("Make a token")
	c.see("The secret of build-server.")
	c.shot("tokens")
	tokens, err := client.Call(t.Context(), d.client(), api.ListTokens, api.None{})
	require.NoError(t, err)
	require.True(t, slices.ContainsFunc(tokens.Items, func(t api.Token) bool {
		return t.Name == "build-server" && t.Expires.UTC().Format("2006-01") == "2031-05"
	}))
}
