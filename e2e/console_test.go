package e2e

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	cdplog "github.com/chromedp/cdproto/log"
	cdpruntime "github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// chromium is one headless browser with an empty profile.
type chromium struct {
	t   *testing.T
	ctx context.Context
	mu  sync.Mutex
	bad []string // complaints of the browser: exceptions, refused by policy
}

func startChromium(t *testing.T, flags ...string) *chromium {
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath("/usr/bin/chromium"), chromedp.NoSandbox,
		chromedp.Flag("disable-gpu", true), chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update",
			true),
		chromedp.UserDataDir(t.TempDir()), chromedp.WindowSize(1280, 800))
	for i := 0; i < len(flags); i += 2 {
		opts = append(opts, chromedp.Flag(flags[i], flags[i+1]))
	}
	alloc, stopAlloc := chromedp.NewExecAllocator(context.Background(), opts...)
	ctx, stop := chromedp.NewContext(alloc)
	ctx, cancel := context.WithTimeout(ctx, 8*time.Minute)
	t.Cleanup(func() { cancel(); stop(); stopAlloc() })
	c := &chromium{t: t, ctx: ctx}
	require.NoError(t, chromedp.Listen(ctx, func(ev any) {
		c.mu.Lock()
		defer c.mu.Unlock()
		switch e := ev.(type) {
		case *cdpruntime.EventExceptionThrown:
			c.bad = append(c.bad, e.ExceptionDetails.Text)
		case *cdplog.EventEntryAdded:
			if strings.Contains(e.Entry.Text, "Content Security Policy") {
				c.bad = append(c.bad, e.Entry.Text)
			}
		}
	}))
	do(c, chromedp.EmulateViewport(1280, 800))
	return c
}

func do[T any](c *chromium, a chromedp.Action[T]) T {
	c.t.Helper()
	ctx, cancel := context.WithTimeout(c.ctx, time.Minute)
	defer cancel()
	v, err := chromedp.Run(ctx, a)
	if err != nil {
		at, _ := chromedp.Run(c.ctx, chromedp.Location())
		text, _ := chromedp.Run(c.ctx, chromedp.Evaluate[string]("document.body.innerText"))
		c.mu.Lock()
		defer c.mu.Unlock()
		require.NoError(c.t, err, "at %s: %s %v", at, text, c.bad)
	}
	return v
}

func (c *chromium) open(address string) { c.t.Helper(); do(c, chromedp.Navigate(address)) }

// until evaluates an expression again and again until it is true. Pages that go
// away meanwhile are no failure.
func (c *chromium) until(expression string) {
	c.t.Helper()
	for deadline := time.Now().Add(time.Minute); ; time.Sleep(50 * time.Millisecond) {
		if ok, err := chromedp.Run(c.ctx, chromedp.Evaluate[bool](expression)); err == nil && ok {
			return
		}
		if time.Now().After(deadline) {
			do(c, func(context.Context, *chromedp.Target) (bool, error) {
				return false, errors.New("not so: " + expression)
			})
		}
	}
}

// see waits until the page shows a text.
func (c *chromium) see(text string) {
	c.t.Helper()
	c.until("document.body && document.body.innerText.includes(" + quoteJS(text) + ")")
}

func quoteJS(s string) string { return "`" + strings.ReplaceAll(s, "`", "") + "`" }

// press clicks what people see under a name, a button, link or label, once it can be clicked.
func (c *chromium) press(name string) {
	c.t.Helper()
	c.until(`(() => { const e = [...document.querySelectorAll('button, a, label, summary, [role=button]')].find(e => e.innerText.trim() === ` + quoteJS(name) +
		` && e.offsetParent !== null); if (!e || e.disabled || e.matches('.is-loading')) return false; e.click(); return true })()`)
}

// choose picks an option of a select that people see under a name.
func (c *chromium) choose(name, option string) {
	c.t.Helper()
	c.until(`(() => { const e = document.querySelector('input[aria-label="' + ` + quoteJS(name) +
		` + '"]'); if (!e) return false; e.closest('.el-select__wrapper').click(); return true })()`)
	c.until(`(() => { const e = [...document.querySelectorAll('.el-select-dropdown__item')].find(e => e.innerText.trim() === ` + quoteJS(option) + ` && e.offsetParent !== null); if (!e) return false; e.click(); return true })()`)
}

func (c *chromium) fill(selector, text string) {
	c.t.Helper()
	c.until(`document.querySelector(` + quoteJS(selector) + `) !== null`)
	do(c, chromedp.SendKeys(selector, text))
}

// set gives a field a value, in place of what it had.
func (c *chromium) set(selector, text string) {
	c.t.Helper()
	c.until(`(() => { const e = document.querySelector(` + quoteJS(selector) + `); if (!e) return false; e.value = ` +
		quoteJS(text) + `; e.dispatchEvent(new Event('input')); return true })()`)
}

// attach gives a file to a field.
func (c *chromium) attach(selector, file string) {
	c.t.Helper()
	c.until(`document.querySelector(` + quoteJS(selector) + `) !== null`)
	do(c, chromedp.SetUploadFiles(selector, []string{file}))
}

// shot keeps a picture for the documentation, when INNERGATE_SHOTS names a
// folder.
func (c *chromium) shot(name string) {
	c.t.Helper()
	dir := os.Getenv("INNERGATE_SHOTS")
	if dir == "" {
		return
	}
	time.Sleep(400 * time.Millisecond)
	require.NoError(c.t, os.WriteFile(filepath.Join(dir, name+".png"), do(c, chromedp.CaptureScreenshot()), 0o644))
}

func (c *chromium) atStandin(fault string) {
	c.t.Helper()
	c.fill("input[name=username]", "ada.fenwick")
	c.fill("input[name=password]", "wrenmoor-demo")
	if fault != "" {
		do(c, chromedp.SetValue("select[name=fault]", fault))
	}
	c.press("Sign in")
}

func (c *chromium) signInToConsole(d *demo) {
	c.t.Helper()
	c.signInAs(d, d.Owner.Username, d.Owner.Password)
}

func (c *chromium) signInAs(d *demo, username, password string) {
	c.t.Helper()
	c.open(d.Console)
	c.fill("input[name=username]", username)
	c.fill("input[name=password]", password)
	c.press("Sign in")
	c.see("Connections")
}

// The first view of the console is small, also with ten thousand applications on record: what it needs comes packed, and
// what it does not need yet comes later.
func TestTheFirstViewIsSmall(t *testing.T) {
	c := startChromium(t)
	c.signInToConsole(shared)
	c.see("Track access")
	sum := do(c, chromedp.Evaluate[float64](`performance.getEntriesByType('resource').filter((e) => !e.name.includes('/api/')).
		reduce((n, e) => n + e.encodedBodySize, performance.getEntriesByType('navigation')[0].encodedBodySize)`))
	whole := do(c, chromedp.Evaluate[float64](`performance.getEntriesByType('resource').filter((e) => e.name.endsWith('.js')).
		reduce((n, e) => n + e.decodedBodySize, 0)`))
	t.Logf("%.0f kB came packed, of scripts of %.0f kB", sum/1000, whole/1000)
	require.Greater(t, whole, 200_000.0, "the browser tells sizes")
	require.Less(t, sum, 230_000.0)
}

func TestConsoleAddsBothAndPeopleSignInFromBothEnds(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	// Stand-ins of the engineer's own, added by nobody yet.
	provider := startStandin(t, "provider", "--name", "depot-accounts", "--title", "Depot accounts", "--gate",
		d.Base+"/saml/sp/depot-accounts")
	application := startStandin(t, "app", "--name", "shunting-log", "--title", "Shunting log", "--gate",
		d.Base+"/saml/idp")

	c := startChromium(t)
	c.signInToConsole(d)
	c.see("Crew roster")

	c.press("Add a provider")
	c.fill("input[name=name]", "depot-accounts")
	c.press("Address")
	c.fill("input[name=address]", application+"/metadata")
	c.press("Preview")
	c.see("The metadata is for the other role")
	c.shot("refused-metadata")
	c.set("input[name=address]", provider+"/metadata")
	c.fill("input[name=title]", "Depot accounts")
	c.press("Preview")
	c.see("What would be set")
	c.press("live now")
	c.press("Preview")
	c.see("would be offered at seat-finder, track-access")
	c.press("Add")
	c.see("What the provider needs from the gate")
	c.see(d.Base + "/saml/sp/depot-accounts/acs")
	c.shot("provider")

	metadata := filepath.Join(t.TempDir(), "shunting-log.xml")
	require.NoError(t, os.WriteFile(metadata, []byte(newVisitor(t).get(application+"/metadata").page.body), 0o600))
	c.open(d.Console + "connect/applications/add")
	c.see("Add an application")
	do(c, chromedp.SetUploadFiles("input[type=file]", []string{metadata}))
	c.until(`document.querySelector('input[name=name]').value === 'shunting-log'`)
	c.fill("input[name=title]", "Shunting log")
	c.press("everyone with a valid answer of a provider")
	c.press("Preview")
	c.see("nothing found.")
	c.press("Add")
	c.see("What the application needs from the gate")

	// Started at the application: two providers are possible, the person chooses.
	c.open(application + "/start?RelayState=track-4")
	c.see("How do you want to sign in?")
	c.shot("choose")
	c.press("Depot accounts")
	c.atStandin("")
	c.see("You are in as ada.fenwick@wrenmoor.example")
	c.see("started here")
	c.see("track-4")
	// Started at the gate: the session lets in without another trip.
	c.open(d.Base + "/open/shunting-log")
	c.see("started at the gate")
	c.shot("application")

	// A fault, its page, and its trace.
	c.open(d.host("crew-roster") + "/start")
	c.atStandin("wrong-audience")
	c.see("You could not be signed in")
	c.shot("refused")
	id := reference.FindString(do(c, chromedp.Evaluate[string]("document.body.innerText")))
	require.NotEmpty(t, id)

	c.open(d.Console + "watch/traces")
	c.see(id)
	c.shot("traces")
	c.press(id)
	c.see("The assertion was made for another audience")
	c.see("somebody-else.example")
	require.True(t, strings.HasPrefix(do(c, chromedp.Evaluate[string]("document.querySelector('main pre').innerText")),
		"<samlp:Response"),
		"as it is, without a space before")
	c.shot("trace")
	do(c, chromedp.Evaluate[bool](`(() => { document.querySelectorAll('svg .row')[0].focus(); return true })()`))
	do(c, chromedp.KeyEvent("\r"))
	c.see("application → gate")

	// The search box, by keyboard.
	do(c, chromedp.Evaluate[bool](`(() => { document.activeElement.blur(); return true })()`))
	do(c, chromedp.Evaluate[bool](`document.body.dispatchEvent(new KeyboardEvent('keydown', {key: '/', bubbles: true, cancelable: true}))`))
	c.until("document.activeElement.matches('header input')")
	do(c, chromedp.KeyEvent("o"))
	c.see("application crew-roster")
	do(c, chromedp.KeyEvent("g"))
	do(c, chromedp.KeyEvent("\r")) // before the hits for what is typed now are there
	c.until("location.pathname === '/console/connect/applications/shunting-log'")
	c.see("What the application needs from the gate")
	do(c, chromedp.Evaluate[bool](`document.body.dispatchEvent(new KeyboardEvent('keydown', {key: '/', bubbles: true, cancelable: true}))`))
	do(c, chromedp.KeyEvent("shunting"))
	c.see("application shunting-log")
	c.shot("search")
	do(c, chromedp.KeyEvent("\r"))

	// Settings: what will change is shown before it is saved.
	c.press("Settings")
	c.fill("input[name=owner]", "Shunting office")
	c.choose("Phase", "paused: nobody passes")
	c.see("What will change")
	c.see("Phase: live: people pass → paused: nobody passes")
	c.shot("settings")
	c.press("Save")
	c.see("paused: nobody passes")
	c.see("Shunting office")

	c.press("Remove")
	c.see("Remove shunting-log?")
	do(c, chromedp.Evaluate[bool](`(() => { document.querySelector('.el-message-box__btns .el-button--primary').click(); return true })()`))
	c.see("9 applications")

	// A bookmark has one field, and a page without what it does not have.
	c.press("Add an application")
	c.press("nothing: it is only a link")
	c.fill("input[name=name]", "fare-tables")
	c.fill("input[name=link]", "fares")
	c.press("Preview")
	c.see("is no address")
	c.set("input[name=link]", "https://fares.wrenmoor.example/")
	c.press("everyone with a valid answer of a provider")
	c.press("Preview")
	c.see("https://fares.wrenmoor.example/")
	c.press("Add")
	c.see("Link application")
	c.see("link for a portal")
	c.see("Nothing found")
	c.shot("link")
	c.press("Settings")
	c.see("Provider")
	c.until(`!document.body.innerText.includes('Signed is')`)
	c.press("Leave it")

	c.open(d.Console + "keep/contexts")
	c.see("PasswordProtectedTransport")
	c.shot("contexts")
	c.until(`document.querySelector('textarea[name=ranks]').value.includes('SmartcardPKI')`)
	c.set("textarea[name=ranks]", "urn:a urn:a")
	c.press("Save")
	c.see("stands in rank 1 and in rank 1")
	c.set("textarea[name=ranks]", "urn:a\nurn:b urn:c")
	c.fill("input[name=why]", "as agreed with Oakhollow")
	c.press("Save")
	c.until(`document.querySelectorAll('main ol li').length === 2 && document.querySelector('input[name=why]').value === ''`)
	c.open(d.Console + "keep/history?kind=ranking")
	c.see("as agreed with Oakhollow")

	c.open(d.Console + "keep/tokens")
	c.fill("input[name=name]", "build-server")
	c.press("Make a token")
	c.see("The secret of build-server")
	c.see("igt_")
	c.open(d.Console + "keep/keys")
	c.see("Signs answers for applications")
	c.press("Announce the next key")
	c.see("Switch to the next key")
	c.shot("keys")
	c.press("Switch to the next key")
	c.see("old")
	c.open(d.Console + "keep/owners")
	c.see("signal-box")
	c.press("Remove")
	c.see("Something stands in the way")
	c.press("Sign out")
	c.see("Sign in to the console")
	c.mu.Lock()
	defer c.mu.Unlock()
	require.Empty(t, c.bad, "the browser complains of nothing")
}

// An engineer connects a client of OpenID Connect in the console: the secret is shown
// once, and followed by another.
func TestConsoleConnectsAClient(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	c := startChromium(t)
	c.signInToConsole(d)
	c.see("Possession planner")
	c.open(d.Console + "connect/applications/add")
	c.press("OpenID Connect")
	c.fill("textarea[name=redirectUris]", "https://rota.wrenmoor.example/#back")
	c.fill("input[name=name]", "rota")
	c.press("Preview")
	c.see("has a fragment; take # and what follows off")
	c.shot("client-form")
	c.set("textarea[name=redirectUris]", "https://rota.wrenmoor.example/back")
	c.press("Preview")
	c.see("What would be set")
	c.press("Add")
	c.see("rota is added.")
	c.see("igs_")
	c.shot("client-secret")
	c.press("Go on to what the application needs")
	c.see("What the application needs from the gate")
	c.see(d.Base + "/.well-known/openid-configuration")
	require.NotContains(t, do(c, chromedp.Evaluate[string]("document.body.innerText")), "igs_")
	c.press("Secrets and grants")
	c.see("with one secret")
	c.press("Make the next secret")
	c.see("igs_")
	c.see("with 2 secrets")
	c.press("End those of before now")
	c.see("with one secret")

	c.open(d.host("possession-planner") + "/start?scope=openid%20offline_access%20profile%20email")
	c.atStandin("")
	c.see("May Possession planner know this about you?")
	c.shot("agree")
	c.press("Agree, and go on")
	c.see("You are in as")
	c.open(d.Console + "connect/applications/possession-planner")
	c.see("Back-channel logout URI")
	c.shot("client")
	c.press("Settings")
	c.see("Client authentication")
	c.shot("client-settings")
	c.open(d.Console + "connect/applications/possession-planner")
	c.press("Secrets and grants")
	c.see("beyond the session")
	c.press("Withdraw")
	c.see("withdrawn")
	c.shot("grants")
	c.open(d.Console + "watch/traces")
	c.see("possession-planner")
	c.until(`(() => { const a = document.querySelector('a[href*="/watch/traces/"]'); if (!a) return false; a.click(); return true })()`)
	c.see("Token response")
	c.until(`(() => { const rows = [...document.querySelectorAll('g[role=button]')].filter(e => e.textContent.includes('Token response')); if (!rows.length) return false; rows[0].dispatchEvent(new MouseEvent('click', { bubbles: true })); document.querySelector('h1').scrollIntoView(); scrollTo(0, 330); return true })()`)
	c.see("at_hash")
	c.shot("client-trace")
}
