package e2e

import (
	"bytes"
	"compress/flate"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/api"
)

// An application is opened to a few, to all at a moment, and closed again, while somebody is on their way.
func TestRollout(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	run := d.runs(t)
	in := func(who string) string {
		return newVisitor(t).get(d.host("lost-property") + "/start").as(who).page.text
	}
	for _, c := range [][2]string{{"a pilot of nobody", "phase=pilot"}, {"from share:1 to share:100", "cohort=share:120"},
		{"there is no person 4711", "cohort=person:4711"},
		{`did you mean "drivers"?`, "cohort=group:drivrs"}, {"happens twice", "nextAt=2027-10-31 02:30 Europe/Berlin"},
		{"has passed", "nextAt=2020-01-31 02:30 Europe/Berlin"}} {
		run(1, c[0], "app", "set", "lost-property", c[1])
	}
	midway := newVisitor(t).get(d.host("lost-property") + "/start").onward() // at the provider
	run(0, "refused", "app", "set", "lost-property", "phase=pilot", "cohort=person:1", "--dry-run")
	run(0, "", "app", "set", "lost-property", "phase=pilot", "cohort=person:1", "--yes")
	require.Contains(t, in("ada.fenwick"), "You are in as")
	require.Contains(t, in("bram.oduya"), "RequestDenied")
	require.Contains(t, midway.as("celia.marsh").page.text, "RequestDenied", "by what is so when they come back")
	run(0, "Ada Fenwick", "app", "admitted", "lost-property")
	out := run(0, "", "app", "rollout", "lost-property")
	require.Contains(t, out, "1 who may pass: 1 tried, 1 entered, 0 refused at last")
	require.Contains(t, out, "not-in-cohort")
	run(1, "is named by application/lost-property (cohort)", "group", "remove", func() string {
		run(0, "", "app", "set", "lost-property", "cohort=person:1 group:stations", "--yes")
		return "stations"
	}())

	run(1, "is named by application/", "provider", "set", "wrenmoor-staff", "phase=retired")
	run(1, "is named by application/", "provider", "set", "wrenmoor-staff", "nextAt=2099-01-31 06:00 Europe/Berlin",
		"nextPhase=retired")
	run(0, "", "app", "set", "crew-roster", "phase=retired", "--yes")
	run(0, "", "app", "resume", "crew-roster")

	// Opened at a moment, to the second; written down within a minute.
	at := time.Now().Add(3 * time.Second).UTC().Format(time.RFC3339)
	run(0, "", "app", "set", "lost-property", "nextAt="+at, "nextPhase=live")
	run(1, "say what becomes of it", "app", "set", "lost-property", "phase=paused")
	run(0, "allow", "simulate", "lost-property", "--person", "2", "--at", at)
	require.Contains(t, in("bram.oduya"), "RequestDenied")
	require.Eventually(t, func() bool { return strings.Contains(in("bram.oduya"), "You are in as") }, 10*time.Second,
		200*time.Millisecond)

	// One step back.
	run(0, "", "app", "set", "lost-property", "nextAt=", "phase=live", "cohort=")
	run(0, "", "app", "set", "lost-property", "phase=paused")
	require.NotContains(t, newVisitor(t).get(d.host("lost-property")+"/start").onward().page.text, "You are in as")
	run(0, "", "app", "resume", "lost-property")
	require.Contains(t, in("bram.oduya"), "You are in as")

	// A provider's pilot is offered to its cohort alone.
	run(0, "", "provider", "set", "season-club", "phase=pilot", "cohort=network:192.0.2.0/24", "--yes")
	require.NotContains(t, newVisitor(t).get(d.host("track-access")+"/start").page.text, "Season ticket club")
	run(0, "", "provider", "set", "season-club", "cohort=network:127.0.0.0/8", "--yes")
	require.Contains(t, newVisitor(t).get(d.host("track-access")+"/start").page.text, "Season ticket club")
	run(0, "", "provider", "set", "season-club", "cohort=network:0.0.0.0/0", "--yes")
	run(0, "cohort-everybody", "check", "season-club")
	run(0, "", "app", "set", "lost-property", "phase=pilot", "cohort=group:station-staff", "--yes")
	run(0, "cohort-empty", "check", "lost-property")

	c := startChromium(t)
	c.signInToConsole(d)
	// The pilot of the demo: a driver types an address and may come by the new accounts, others are not asked.
	require.Contains(t, newVisitor(t).get(d.host("track-access")+
		"/start").types("celia.marsh@wrenmoor.example").as("celia.marsh").page.text, "You are in as")
	v := newVisitor(t).get(d.host("track-access") + "/start").types("bram.oduya@wrenmoor.example")
	require.Contains(t, v.page.text, "Wrenmoor new accounts")
	v.post(v.page.action, url.Values{"provider": {"wrenmoor-new"}}).as("bram.oduya")
	require.Contains(t, v.page.text, "You are in as")
	v = newVisitor(t).get(d.host("track-access") + "/start").types("rhea.stone@wrenmoor.example")
	require.Contains(t, v.post(v.page.action, url.Values{"provider": {"wrenmoor-staff"}}).as("rhea.stone").page.text,
		"You are in as")
	require.Contains(t, run(0, "", "provider", "rollout", "wrenmoor-new"),
		"2 people: 2 entered, 0 refused at last; 1 of them in the cohort")
	c.open(d.Console + "connect/providers/wrenmoor-new")
	c.see("The earlier way meanwhile")
	c.see("Europe/London")
	c.shot("rollout")
	c.open(d.Console + "connect/applications/track-access")
	c.see("1 came, 1 entered")
	c.shot("ways")
	run(0, "", "app", "set", "lost-property", "cohort=person:1 organisation:wrenmoor",
		"nextAt=2099-01-31 06:00 Europe/Berlin", "nextPhase=live", "--yes")
	require.Contains(t, in("ada.fenwick"), "You are in as")
	c.open(d.Console + "connect/applications/lost-property")
	c.see("in the cohort")
	require.Contains(t, run(0, "", "app", "rollout", "lost-property"),
		"16 who may pass: 1 tried, 1 entered, 0 refused at last", "since the cohort changed")
	c.see("2099-01-31 06:00 Europe/Berlin")
	c.press("Withdraw")
	c.until(`!document.body.innerText.includes('2099-01-31 06:00')`)
	c.press("Go back to pilot")
	c.see("Gone back.")
	run(0, "cohort-empty", "check", "lost-property")
}

// The recipes of docs/rollout.md do what they say.
func TestRecipesOfRollout(t *testing.T) {
	want := map[string][][2]string{ // who, and what is decided
		"A few people first": {{"--person 1", "allow"}, {"--person 3", "deny"}},
		"Then their group, and the control room's network": {{"--person 1", "allow"}, {"--person 2", "deny"},
			{"--person 2 --network 192.0.2.9", "allow"}},
		"A tenth of everybody, always the same": nil,
		"Open at a moment": {{"--person 2", "deny"},
			{"--person 2 --at 2099-01-31T05:00:00Z", "allow"}},
		"One step back": {{"--person 2", "allow"}},
		"A new provider for one network, everybody else as before":   nil,
		"Whoever is not in the pilot signs in where they did before": {{"--person 1", "allow"}, {"--person 2", "deny"}},
		"A provider opens at a moment, and both sides are mailed":    nil,
	}
	cook(t, "../docs/rollout.md", 8, func(d *demo, title string) {
		who, there := want[title]
		require.True(t, there, title)
		for _, w := range who {
			out, stderr, code := d.cli(t, "", append([]string{"simulate", "lost-property", "--output", "json"},
				strings.Fields(w[0])...)...)
			require.Zero(t, code, "%s: %s", title, stderr)
			var got api.Simulated
			require.NoError(t, json.Unmarshal([]byte(out), &got))
			require.Equal(t, w[1], got.Decision, "%s: %s", title, w[0])
		}
	})
}

// Whoever is not in a pilot goes on as before: to where the application asked earlier, with what it asked for, by GET
// and by POST; and a pilot that goes by who somebody is asks for their address, or goes by their session.
func TestEarlierWay(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	run := d.runs(t)
	old := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_ = r.ParseForm()
		fmt.Fprintf(w, "The earlier sign-in: %s x=%s request=%t state=%t", r.Method, r.Form.Get("x"),
			r.Form.Get("SAMLRequest") != "", r.Form.Has("RelayState"))
	}))
	defer old.Close()
	earlier := "oldSignIn=" + old.URL + "/sso?x=1"
	run(1, "is no address", "app", "set", "lost-property", "oldSignIn=old")
	run(0, "", "app", "set", "lost-property", "phase=pilot", "cohort=person:1", earlier, "--yes")
	v := newVisitor(t).get(d.host("lost-property") + "/start").as("bram.oduya")
	require.Contains(t, v.page.text, "The earlier sign-in: GET x=1 request=true")
	require.Contains(t, newVisitor(t).get(d.host("lost-property")+"/start").as("ada.fenwick").page.text, "You are in as")
	require.Contains(t, run(0, "", "trace", "show", newest(run, "lost-property", "refused")), "earlier sign-in")

	// By POST: the message goes as it came.
	still := newVisitor(t)
	still.http.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	res, err := still.http.Get(d.host("lost-property") + "/start")
	require.NoError(t, err)
	res.Body.Close()
	asked, err := res.Location()
	require.NoError(t, err)
	octets, err := base64.StdEncoding.DecodeString(asked.Query().Get("SAMLRequest"))
	require.NoError(t, err)
	plain, err := io.ReadAll(flate.NewReader(bytes.NewReader(octets)))
	require.NoError(t, err)
	v = newVisitor(t).post(d.Base+"/saml/idp/sso", url.Values{"SAMLRequest": {base64.StdEncoding.EncodeToString(plain)},
		"RelayState": {"shelf 7"}}).as("bram.oduya").onward()
	require.Contains(t, v.page.text, "The earlier sign-in: POST x=1 request=true state=true")

	// The provider it is tied to has a pilot by group: an address tells who somebody is, and a session does.
	run(0, "", "app", "set", "lost-property", "phase=live", "provider=oakhollow", "--yes")
	run(0, "", "provider", "set", "oakhollow", "phase=pilot", "cohort=person:17 person:12",
		"nextAt=2099-01-31 06:00 Europe/Berlin", "nextPhase=live", "--yes")
	v = newVisitor(t).get(d.host("lost-property") + "/start").types("ada.fenwick@wrenmoor.example")
	require.Contains(t, v.page.text, "The earlier sign-in: GET")
	v = newVisitor(t).get(d.host("lost-property")+"/start").types("mina.thorne@oakhollow.example").as("mina.thorne",
		"oakhollow-demo")
	require.Contains(t, v.page.text, "You are in as")
	v = newVisitor(t).get(d.host("lost-property")+"/start").types("mina.thorne@oakhollow.example").as("petra.quill",
		"oakhollow-demo")
	require.Contains(t, v.page.text, "The earlier sign-in: GET", "who came decides, not the address")
	v = newVisitor(t).get(d.host("crew-roster") + "/start").as("leo.quarrie").get(d.host("lost-property") + "/start")
	require.Contains(t, v.page.text, "Sign in to Oakhollow", "his session tells")
	require.Contains(t, run(0, "", "trace", "show", newest(run, "lost-property", "entered")),
		"is in its pilot, which includes the person by name")
	run(0, "", "app", "set", "lost-property", "oldSignIn=", "refusedHere=true", "--yes")
	v = newVisitor(t).get(d.host("lost-property") + "/start").types("ada.fenwick@wrenmoor.example")
	require.Contains(t, v.page.text, "It opens on 2099-01-31 06:00 Europe/Berlin.")
}

// newest is the reference of the newest trace of an application with a result.
func newest(run func(int, string, ...string) string, app, result string) string {
	return reference.FindString(run(0, "", "trace", "list", "--app", app, "--result", result, "--limit", "1"))
}
