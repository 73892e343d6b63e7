package e2e

import (
	"encoding/json"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/api"
)

// as signs somebody in at an application that their provider sends on, with the password of the demo.
func (v *visitor) as(username string, password ...string) *visitor {
	v.t.Helper()
	v.onward()
	require.Contains(v.t, v.page.body, `name="password"`, v.page.text)
	return v.submit("username", username, "password", strings.Join(append(password, "wrenmoor-demo")[:1], "")).onward()
}

// Somebody enters with the roles that they hold, as attribute and as claim; with one that is asked for, if it is
// theirs.
func TestRoles(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	run := d.runs(t)
	for _, c := range []struct{ says, settings string }{
		{"values: there is none", "title=T application=crew-roster"},
		{`has the name "driver" already`, "title=T application=crew-roster role=driver values=X"},
		{`did you mean "drivers"?`, "title=T application=crew-roster values=X groups=driverss"},
		{`did you mean "crew-roster"?`, "title=T application=crew-rooster values=X"},
		{"there is no person 4711", "title=T application=crew-roster values=X people=4711"},
		{"white space", "title=T application=crew-roster role=a\u200bb values=X"},
		{"stands there twice", "title=T application=crew-roster values=X|X"},
		{"whose role it is", "title=T values=X"},
	} {
		run(1, c.says, append([]string{"role", "put", "x"}, strings.Fields(c.settings)...)...)
	}
	run(1, "is a role of possession-planner", "app", "set", "crew-roster", "defaultRole=planner-lead")
	run(1, `did you mean "roster-driver"?`, "app", "set", "crew-roster", "defaultRole=roster-drivr")
	run(1, "the protocol uses itself", "app", "set", "possession-planner", "roleParameter=scope")
	run(1, "read it in the release", "provider", "set", "wrenmoor-staff",
		`intakeMapping={"rules":[{"to":{"name":"x"},"from":[{"role":true}]}]}`)
	run(1, `did you mean "crew-roster"?`, "role", "list", "--application", "crew-rooster")
	run(1, `did you mean "driver"?`, "app", "admitted", "crew-roster", "--role", "drivr")

	// As attribute, and as claim; nested groups give the nearest alone.
	v := newVisitor(t).get(d.host("crew-roster") + "/start").as("ada.fenwick")
	require.Regexp(t, `role\s+DRIVER\s`, v.page.text)
	require.NotContains(t, v.page.text, "OPERATIONS")
	v = newVisitor(t).get(d.host("possession-planner") + "/start").as("celia.marsh")
	require.Contains(t, v.page.text, "possessions.approve")

	// A role that is asked for is given to who holds it; everything else is refused, and told to the engineer.
	for _, c := range []struct{ at, query, says string }{
		{d.Base + "/open/possession-planner", "?role=reader", "possessions.read"},
		{d.Base + "/open/crew-roster", "?role=driver", "DRIVER"}} {
		if v := newVisitor(t).get(c.at + c.query); c.at == d.Base+"/open/crew-roster" {
			require.Contains(t, v.as("dov.petrak").page.text, c.says)
		}
	}
	for _, asked := range []string{"operations", "nobody's", "<b>x</b>", strings.Repeat("x", 10<<10), "DRIVER",
		"driver "} {
		v = newVisitor(t).get(d.Base + "/open/crew-roster?role=" + url.QueryEscape(asked)).as("ada.fenwick")
		require.NotContains(t, v.page.text, "You are in as", asked)
		require.NotContains(t, v.page.body, "<b>x</b>")
	}
	run(0, "role-not-held", "trace", "list", "--app", "crew-roster")
	run(0, "driver", "trace", "show", reference.FindString(run(0, "", "trace", "list", "--app", "crew-roster")))

	// The person chooses one of several, on a page without script; a session does not choose for them.
	run(0, "", "app", "set", "possession-planner", "sentRoles=choose")
	v = newVisitor(t).get(d.host("possession-planner") + "/start").as("celia.marsh")
	require.Contains(t, v.page.text, "As what do you sign in?")
	require.Contains(t, v.page.text, "Line controller")
	form := v.page.fields
	form.Set("role", "lead") // which is not theirs
	v.post(v.page.action, form)
	require.Contains(t, v.page.text, "As what do you sign in?")
	v.submit("role", "reader").onward()
	require.Contains(t, v.page.text, "possessions.read")
	require.NotContains(t, v.page.text, "possessions.approve")

	c := startChromium(t)
	c.signInToConsole(d)
	c.open(d.Console + "admit/roles?application=possession-planner")
	c.see("Whoever is in controllers.")
	c.shot("roles")
	c.press("Make a role")
	c.see("Values that are sent for it")
	c.open(d.Console + "connect/applications/possession-planner/entrants")
	c.see("with no role")
	c.shot("entrants-roles")

	// Who loses a role is told before it is saved, and confirmed; what names a role is told before it goes.
	run(0, "0 would gain it", "role", "put", "planner-reader", "organisations=", "--dry-run")
	run(1, "role-lost", "role", "put", "planner-reader", "organisations=")
	run(0, "", "app", "set", "possession-planner", "defaultRole=planner-reader")
	run(1, "is named by application/possession-planner (defaultRole)", "role", "remove", "planner-reader")
	run(0, "reader", "app", "admitted", "possession-planner", "--role", "reader")
	require.Contains(t, run(0, "", "app", "admitted", "possession-planner", "--csv"), "by,ground,roles,finding")
	run(0, "controller", "person", "entries", "3")
	run(0, "", "role", "put", "planner-second", "application=possession-planner", "title=Second reader",
		"values=Possessions.Read")
	run(0, "role-values-alike", "check", "possession-planner")
	run(0, "", "role", "put", "refunder", "application=refund-desk", "title=Refunds", "values=refunds")
	run(0, "role-unsent", "check", "refund-desk")
}

// letters are how many the gate has mailed to an address, of a subject.
func (d *demo) letters(t *testing.T, to, about string) (n int) {
	res, err := http.Get(d.Mailbox + "letters")
	require.NoError(t, err)
	defer res.Body.Close()
	var all []struct{ To, Subject, Text string }
	require.NoError(t, json.NewDecoder(res.Body).Decode(&all))
	for _, l := range all {
		if strings.EqualFold(l.To, to) && strings.Contains(l.Subject+l.Text, about) {
			n++
		}
	}
	return n
}

var digestOf = regexp.MustCompile(`--digest ([0-9a-f]+)`)

// Somebody who is refused reads whom to ask, asks here, is approved, and enters at once.
func TestAskedForEntry(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	run := d.runs(t)
	run(0, "", "app", "set", "lost-property", "everyone=no", "askForEntry=true",
		"owner=Inés Calder, lost-property@wrenmoor.example, https://help.wrenmoor.example/lost", "--yes")
	v := newVisitor(t).get(d.host("lost-property") + "/start").as("gwen.tarrow")
	require.Contains(t, v.page.text, "You may not enter this application yet")
	require.Regexp(t, `Ask\s+Inés Calder\s+or\s+lost-property@wrenmoor.example\s+or`, v.page.text)
	require.Contains(t, v.page.body, `href="mailto:lost-property@wrenmoor.example"`)
	require.Contains(t, v.page.body, `href="https://help.wrenmoor.example/lost"`)
	at := v.page.url.String()
	require.Contains(t, at, d.Base+"/crossing/", "the page can be reloaded")
	ref := reference.FindString(v.page.text)

	// It is asked once, however often it is pressed, and told once.
	for range 5 {
		v.submit("do", "ask")
		require.Contains(t, v.page.text, "You asked for entry")
	}
	other := newVisitor(t).get(d.host("lost-property") + "/start").as("gwen.tarrow")
	other.submit("do", "ask")
	require.Contains(t, other.page.text, "You asked for entry")
	require.Eventually(t, func() bool { return d.letters(t, "lost-property@wrenmoor.example", "asks for entry") == 1 },
		5*time.Second, 50*time.Millisecond)
	require.NotContains(t, newVisitor(t).post(at+"/form", url.Values{"do": {"ask"}}).page.text, "You asked for entry",
		"another browser")
	require.Contains(t, newVisitor(t).post(d.Base+"/crossing/nothing/form", url.Values{"do": {"ask"}}).page.text,
		"expired")
	run(0, "Gwen Tarrow", "request", "list", "--application", "lost-property")
	run(0, "Admit person 7 by name.", "trace", "show", ref)

	// Whoever approves has seen what it does; nothing else is approved, and once.
	run(1, "no request \"99\"", "request", "show", "99")
	run(2, "is no number", "request", "approve", "x")
	run(2, "--digest is missing", "request", "approve", "1")
	digest := digestOf.FindStringSubmatch(run(0, "", "request", "show", "1"))[1]
	run(1, "not what was looked at", "request", "approve", "1", "--digest", "0"+digest)
	run(0, "", "person", "set", "7", "displayName=Gwen T. Tarrow")
	run(1, "not what was looked at", "request", "approve", "1", "--digest", digest)
	digest = digestOf.FindStringSubmatch(run(0, "Gwen T. Tarrow", "request", "show", "1"))[1]
	run(0, "approved", "request", "approve", "1", "--digest", digest, "--remark", "covers at the desk")
	run(1, "was approved by token", "request", "approve", "1", "--digest", digest)
	v.get(at).onward()
	require.Contains(t, v.page.text, "You are in as", "at once, where they wait")
	run(0, "By the configuration of now they enter.", "trace", "show", reference.FindString(other.page.text))

	// Whoever goes back has the application hear of it, as ever.
	v = newVisitor(t).get(d.host("lost-property") + "/start").as("hugo.bexley")
	v.submit("do", "leave").onward()
	require.Equal(t, d.host("lost-property"), v.page.url.Scheme+"://"+v.page.url.Host)
	require.Contains(t, v.page.text, "RequestDenied")
	run(0, "", "app", "set", "lost-property", "askForEntry=false")
	v = newVisitor(t).get(d.host("lost-property") + "/start").as("jon.wray")
	require.Contains(t, v.page.text, "RequestDenied", "at once")

	// Whoever comes for the first time is known once they asked.
	run(0, "", "app", "set", "track-access", "everyone=no", "askForEntry=true", "--yes")
	v = newVisitor(t).get(d.host("track-access") + "/start")
	v.post(v.page.action, url.Values{"provider": {"season-club"}}).submit("username", "rosa.finch", "password",
		"club-demo").onward()
	v.submit("do", "ask")
	digest = digestOf.FindStringSubmatch(run(0, "", "request", "show", "2"))[1]
	run(0, "approved", "request", "approve", "2", "--digest", digest)
	require.Contains(t, v.get(v.page.url.String()).onward().page.text, "You are in as")
	run(0, "request-unmailed", "check", "track-access")
	c := startChromium(t)
	c.waitsForAnother(d)
}

// waitsForAnother has an admission wait for another owner, who approves it in the console.
func (c *chromium) waitsForAnother(d *demo) {
	t, run := c.t, d.runs(c.t)
	run(0, "", "app", "set", "lost-property", "approval=true", "askForEntry=true")
	run(0, "approval-alone", "check", "lost-property")
	run(1, "nobody can approve", "app", "admit", "lost-property", "--person", "8")
	_, stderr, code := d.cli(t, "yard-office-secret\n", "owner", "add", "yard-office", "--password-file", "-")
	require.Zero(t, code, stderr)
	run(0, "as request 3", "app", "admit", "lost-property", "--person", "8", "--until", "2099-01-31")
	digest := digestOf.FindStringSubmatch(run(0, "", "request", "show", "3"))[1]
	run(1, "you asked for it yourself", "request", "approve", "3", "--digest", digest)
	for _, around := range []string{"admissions=drivers=yes", "everyone=yes", "approval=false"} {
		run(1, "wait for approval", "app", "set", "lost-property", around, "--yes")
	}
	run(0, "", "simulate", "lost-property", "--person", "8")

	v := newVisitor(t).get(d.host("lost-property") + "/start").as("kaja.moss")
	require.Contains(t, v.page.text, "Ask for entry")
	v.submit("do", "ask")
	c.signInAs(d, "yard-office", "yard-office-secret")
	c.open(d.Console + "admit/requests")
	c.see("Hugo Bexley")
	c.shot("requests")
	c.fill("input[name=remark]", "seen with the depot")
	do(c, chromedp.Evaluate[any](`document.querySelector('[aria-label="Approve request 3"]').click()`))
	c.until(`!document.querySelector('[aria-label="Approve request 3"]')`)
	run(0, "yard-office", "request", "list", "--state", "approved")
	require.Contains(t, newVisitor(t).get(d.host("lost-property")+"/start").as("hugo.bexley").page.text, "You are in as")
	run(0, "request 3 approved", "history", "list", "--kind", "application", "--name", "lost-property")

	c.signedOut()
	do(c, chromedp.EmulateViewport(390, 800))
	c.open(d.host("lost-property") + "/start")
	c.fill("input[name=username]", "rhea.stone")
	c.fill("input[name=password]", "wrenmoor-demo")
	c.press("Sign in")
	c.see("Ask for entry")
	c.shot("refused-small")
	do(c, chromedp.EmulateViewport(1280, 800))
	c.shot("refused-ask")
}

// What a provider has to send of groups stands on its exchange sheet, letter by letter; what means nothing here, and
// what never comes, is told.
func TestExpectedValuesOfGroups(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	run := d.runs(t)
	require.Regexp(t, `drivers\s+drivers\s+enters crew-roster \(rule roster-drivers\); is driver in crew-roster`,
		run(0, "", "provider", "exchange", "wrenmoor-staff"))
	require.NotContains(t, run(0, "", "provider", "exchange", "season-club"), "Values of groups",
		"its values make nobody a member")
	run(0, "oakhollow, wrenmoor-new, wrenmoor-staff", "group", "show", "drivers")
	require.NotContains(t, run(0, "", "group", "show", "drivers"), "is operations in crew-roster", "the nearest counts")

	run(0, "", "group", "put", "planer", "--title", "Planners")
	for range 10 {
		newVisitor(t).get(d.host("lost-property") + "/start").as("jon.wray")
	}
	ref := reference.FindString(run(0, "", "trace", "list", "--app", "lost-property", "--limit", "1"))
	out := run(0, "group-value-unknown", "trace", "show", ref)
	require.Contains(t, out, "planners")
	require.Contains(t, out, "planer", "the nearest")
	out = run(0, "", "check", "wrenmoor-staff", "--severity", "note")
	require.Contains(t, out, "group-value-unknown")
	require.Contains(t, out, "group-value-silent")
	require.Contains(t, out, "drivers")

	// Where values are not kept, nothing is said of them.
	run(0, "", "provider", "set", "wrenmoor-staff", "traceValues=groups=off")
	newVisitor(t).get(d.host("lost-property") + "/start").as("jon.wray")
	ref = reference.FindString(run(0, "", "trace", "list", "--app", "lost-property", "--limit", "1"))
	require.NotContains(t, run(0, "", "trace", "show", ref), "planners")

	c := startChromium(t)
	c.signInToConsole(d)
	c.open(d.Console + "admit/groups")
	c.press("Drivers")
	c.see("whose administrators so decide")
	c.see("is driver in crew-roster")
	c.shot("group")
	c.open(d.Console + "connect/providers/wrenmoor-staff")
	c.see("Values of groups that act here")
	do(c, chromedp.Evaluate[any](`[...document.querySelectorAll('h2')].find(h => h.innerText.startsWith('Values of groups')).scrollIntoView()`))
	c.shot("expected")
}

// The recipes of docs/roles.md do what they say.
func TestRecipesOfRoles(t *testing.T) {
	want := map[string]struct{ simulate, roles string }{ // what is simulated, and what is sent for roles
		"An attribute for each role": {"crew-roster groups=depot-leads --group depot-leads",
			"LEAD"},
		"A role by a condition, for whoever came by one provider": {"track-access --person 17 --provider oakhollow",
			"guest"},
		"One role alone, the first by place":   {"possession-planner --person 1", "possessions.deputy"},
		"A role for everybody else":            {"refund-desk --person 1", "refunds.read"},
		"Nobody without a role":                {"depot-terminal --person 1", "deny"},
		"Entry that is asked for and approved": {"lost-property --person 1", "deny"},
	}
	cook(t, "../docs/roles.md", 6, func(d *demo, title string) {
		w, there := want[title]
		require.True(t, there, title)
		out, stderr, code := d.cli(t, "", append([]string{"simulate", "--output", "json"}, strings.Fields(w.simulate)...)...)
		require.Zero(t, code, "%s: %s", title, stderr)
		var got api.Simulated
		require.NoError(t, json.Unmarshal([]byte(out), &got))
		if w.roles == "deny" {
			require.Equal(t, "deny", got.Decision, title)
			return
		}
		require.NotNil(t, got.Released)
		require.Regexp(t, `"roles?"[^}]*`+regexp.QuoteMeta(w.roles), out, title)
	})
}
