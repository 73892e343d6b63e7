package e2e

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
)

// Who may enter: rules are made on the command line, act at the next sign-in of every protocol, and simulation
// says the same.
func TestWhoMayEnter(t *testing.T) {
	d, err := startDemo(t.TempDir(), "127.0.0.1:0")
	require.NoError(t, err)
	defer d.stop()
	run := func(want int, says string, args ...string) string {
		out, stderr, code := d.cli(t, "", args...)
		require.Equal(t, want, code, "%v: %s%s", args, out, stderr)
		require.Contains(t, out+stderr, says, "%v", args)
		return out
	}
	enters := func(app string) bool {
		v := newVisitor(t).get(d.host(app) + "/start").through("yes")
		return strings.Contains(v.page.text, "Fenwick")
	}
	decision := func(args ...string) string {
		var got api.Simulated
		require.NoError(t, json.Unmarshal([]byte(run(0, "", append([]string{"simulate", "--output", "json"}, args...)...)), &got))
		return got.Decision
	}
	require.True(t, enters("crew-roster"), "before there are rules everybody enters")
	const ada = "1"
	require.Equal(t, "allow", decision("crew-roster", "--person", ada))

	// The first rule that is about somebody decides; what cannot be is refused with the field.
	run(1, `did you mean "drivers"?`, "object", "put", "rule/x", "title=X", "then=allow", "groups=driver")
	run(1, `did you mean "crew-roster"?`, "object", "put", "rule/x", "title=X", "then=allow", "application=crew-rooster")
	run(1, "192.0.2.0/24", "object", "put", "rule/x", "title=X", "then=allow", "networks=192.0.2.7/24")
	run(1, "allow, deny or step-up", "object", "put", "rule/x", "title=X")
	denies := []string{"object", "put", "rule/aiders-out", "title=First aiders stay out", "application=crew-roster", "then=deny",
		"groups=first-aiders", "say=Ask the depot lead to be let in."}
	run(1, "entry-lost", denies...)
	_, stderr, _ := d.cli(t, "", denies...)
	run(0, "aiders-out", append([]string{"--confirm", confirmOf(stderr)}, denies...)...)
	require.Equal(t, "deny", decision("crew-roster", "--person", ada))
	require.False(t, enters("crew-roster"), "the rule acts at the next sign-in")
	list, err := client.Call(t.Context(), d.client(), api.ListTraces, api.TraceFilter{Application: "crew-roster", Limit: 1})
	require.NoError(t, err)
	require.Equal(t, "access-denied", list.Items[0].Finding)
	run(1, "is named by rule/aiders-out", "group", "remove", "first-aiders")
	run(0, "Whoever is in first-aiders does not enter.", "rule", "list", "--application", "crew-roster")
	run(0, "decides", "simulate", "crew-roster", "--person", ada)

	// What a change of groups does is told before it is saved, too.
	run(0, "", "group", "put", "night-shift", "--title", "Night shift")
	run(0, "", "object", "put", "rule/night", "title=The night shift stays out", "application=possession-planner", "then=deny", "groups=night-shift")
	require.True(t, enters("possession-planner"))
	run(1, "entry-lost", "group", "put", "first-aiders", "--inside", "night-shift")
	run(0, "", "object", "remove", "rule/night")

	// Somebody is let in before that, until a day; its end acts by itself.
	run(0, "", "object", "put", "rule/ada", "title=Ada until the spring", "application=crew-roster", "order=1", "then=allow", "people="+ada)
	require.Equal(t, "deny", decision("crew-roster", "--person", ada), "at the same place the name decides, and denials come by theirs")
	run(0, "", "object", "put", "rule/aiders-out", "order=5")
	require.Equal(t, "allow", decision("crew-roster", "--person", ada))
	require.True(t, enters("crew-roster"))
	run(0, "", "object", "put", "rule/ada", "until=2099-03-31")
	require.Equal(t, "deny", decision("crew-roster", "--person", ada, "--at", "2099-04-01T00:00:00Z"))
	require.Equal(t, "allow", decision("crew-roster", "--person", ada, "--at", "2099-03-31T23:59:59Z"))

	// An OpenID application hears access_denied, and a link has the person read the rule's own sentence.
	require.True(t, enters("possession-planner"))
	run(0, "", "object", "put", "rule/gate-wide", "title=Nobody from that network", "then=deny", "networks=203.0.113.0/24")
	require.True(t, enters("possession-planner"), "another network is not meant")
	require.Equal(t, "deny", decision("possession-planner", "--person", ada, "--network", "203.0.113.9"))
	run(1, "no address", "simulate", "possession-planner", "--person", ada, "--network", "203.0.113.0/24")
	out, stderr, _ := d.cli(t, "", "app", "set", "possession-planner", "everyone=no", "--yes")
	require.Contains(t, out+stderr, "--confirm")
	run(0, "", "app", "set", "possession-planner", "everyone=no", "--yes", "--confirm", confirmOf(stderr))
	v := newVisitor(t).get(d.host("possession-planner") + "/start").through("yes")
	require.Contains(t, v.page.text, "access_denied")
	v = newVisitor(t).get(d.host("crew-roster") + "/start").through("yes")
	require.Contains(t, v.page.text, "Fenwick")

	// The console reads the rules aloud where the application stands, and tries them there.
	c := startChromium(t)
	c.signInToConsole(d)
	c.open(d.Console + "connect/applications/possession-planner")
	c.see("Whoever no rule is about does not enter")
	c.open(d.Console + "connect/applications/crew-roster")
	c.see("Ada until the spring. Whoever is person 1 enters, until the end of 2099-03-31.")
	c.see("Whoever no rule is about enters")
	c.press("Rules, and a trial of them")
	c.fill("input[name=person]", ada)
	c.press("Simulate")
	c.see("Ada until the spring")
	c.see("Decides.")
}

// confirmOf is the digest that a refusal names to confirm by.
func confirmOf(stderr string) string {
	_, rest, _ := strings.Cut(stderr, "--confirm ")
	return strings.Trim(strings.Fields(rest + " -")[0], ".")
}
