package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
)

// Who may enter: rules are made on the command line, act at the next sign-in of every protocol, and simulation
// says the same.
func TestWhoMayEnter(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	run := d.runs(t)
	enters := func(app string) bool {
		v := newVisitor(t).get(d.host(app) + "/start").through("yes")
		return strings.Contains(v.page.text, "Fenwick")
	}
	decision := func(args ...string) string {
		var got api.Simulated
		require.NoError(t, json.Unmarshal([]byte(run(0, "", append([]string{"simulate", "--output", "json"}, args...)...)),
			&got))
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
	denies := []string{"object", "put", "rule/aiders-out", "title=First aiders stay out", "application=crew-roster",
		"then=deny",
		"groups=first-aiders", "say=Ask the depot lead to be let in."}
	run(1, "entry-lost", denies...)
	_, stderr, _ := d.cli(t, "", denies...)
	run(0, "aiders-out", append([]string{"--confirm", confirmOf(stderr)}, denies...)...)
	require.Equal(t, "deny", decision("crew-roster", "--person", ada))
	require.False(t, enters("crew-roster"), "the rule acts at the next sign-in")
	list, err := client.Call(t.Context(), d.client(), api.ListTraces, api.TraceFilter{Application: "crew-roster",
		Limit: 1})
	require.NoError(t, err)
	require.Equal(t, "access-denied", list.Items[0].Finding)
	run(1, "is named by rule/aiders-out", "group", "remove", "first-aiders")
	run(0, "Whoever is in first-aiders does not enter.", "rule", "list", "--application", "crew-roster")
	run(0, "decides", "simulate", "crew-roster", "--person", ada)

	// What a change of groups does is told before it is saved, too.
	run(0, "", "group", "put", "night-shift", "--title", "Night shift")
	run(0, "", "object", "put", "rule/night", "title=The night shift stays out", "application=possession-planner",
		"then=deny", "groups=night-shift")
	require.True(t, enters("possession-planner"))
	run(1, "entry-lost", "group", "put", "first-aiders", "--inside", "night-shift")
	run(0, "", "object", "remove", "rule/night")

	// Somebody is let in before that, until a day; its end acts by itself.
	run(0, "", "object", "put", "rule/ada", "title=Ada until the spring", "application=crew-roster", "order=1",
		"then=allow", "people="+ada)
	require.Equal(t, "deny", decision("crew-roster", "--person", ada),
		"at the same place the name decides, and denials come by theirs")
	run(0, "", "object", "put", "rule/aiders-out", "order=5")
	require.Equal(t, "allow", decision("crew-roster", "--person", ada))
	require.True(t, enters("crew-roster"))
	run(0, "", "object", "put", "rule/ada", "until=2099-03-31")
	require.Equal(t, "deny", decision("crew-roster", "--person", ada, "--at", "2099-04-01T00:00:00Z"))
	require.Equal(t, "allow", decision("crew-roster", "--person", ada, "--at", "2099-03-31T23:59:59Z"))

	// An OpenID application hears access_denied, and a link has the person read the rule's own sentence.
	require.True(t, enters("possession-planner"))
	run(0, "", "object", "put", "rule/gate-wide", "title=Nobody from that network", "then=deny",
		"networks=203.0.113.0/24")
	require.True(t, enters("possession-planner"), "another network is not meant")
	require.Equal(t, "deny", decision("possession-planner", "--person", ada, "--network", "203.0.113.9"))
	run(1, "no address", "simulate", "possession-planner", "--person", ada, "--network", "203.0.113.0/24")
	run(1, "Of all who are known 18", "app", "unadmit", "possession-planner", "--everyone")
	run(0, "does not enter", "app", "unadmit", "possession-planner", "--everyone", "--yes")
	v := newVisitor(t).get(d.host("possession-planner") + "/start").through("yes")
	require.Contains(t, v.page.text, "access_denied")
	v = newVisitor(t).get(d.host("crew-roster") + "/start").through("yes")
	require.Contains(t, v.page.text, "Fenwick")

	// The console reads the rules aloud where the application stands, and tries them there.
	c := startChromium(t)
	run(0, "", "app", "set", "timetable-archive", "provider=")
	run(0, "", "object", "put", "rule/archive", "title=The archive is closed for the winter",
		"application=timetable-archive", "then=deny", "say=The archive opens again in spring.", "--yes")
	c.open(d.Base + "/open/timetable-archive")
	c.see("How do you want to sign in?")
	c.press("Wrenmoor staff accounts")
	c.atStandin("")
	c.see("The archive opens again in spring.")
	c.shot("refused-by-rule")
	c.signInToConsole(d)
	c.open(d.Console + "connect/applications/possession-planner")
	c.see("Nobody else enters.")
	c.open(d.Console + "connect/applications/crew-roster")
	c.see("Ada until the spring. Whoever is person 1 enters, until the end of 2099-03-31.")
	c.see("Everybody else enters.")
	c.press("Rules, and a trial of them")
	c.fill("input[name=person]", ada)
	c.press("Simulate")
	c.see("Ada until the spring")
	c.see("Decides.")
	c.see("What the application would be told")
	c.shot("rules")

	// Before a rule is saved the form says whom it shuts out.
	c.press("Make a rule")
	c.fill(".el-drawer input[name=name]", "nobody")
	c.fill(".el-drawer input[name=title]", "Nobody from abroad")
	c.choose("What becomes of them", "they do not enter")
	c.see("would be refused")
	c.see("refused Bram Oduya at")
	c.shot("rule-form")
}

// Entry is given by name, and taken away, from the application's page, the group's and the person's, and by a list;
// the list of everyone says who enters and by what.
func TestAdmissions(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	run := d.runs(t)
	everyone := func(args ...string) (out api.Entrants) {
		require.NoError(t, json.Unmarshal([]byte(run(0, "", append([]string{"app", "admitted", "track-access", "--output",
			"json"}, args...)...)), &out))
		return out
	}
	run(0, "nothing else is about does not enter", "app", "unadmit", "track-access", "--everyone", "--yes")
	require.Zero(t, everyone().Total)
	run(2, "nobody is named", "app", "admit", "track-access")
	run(1, `did you mean "drivers"?`, "app", "admit", "track-access", "--group", "driver")
	run(1, "has passed", "app", "admit", "track-access", "--person", "1", "--until", "2020-01-01")
	run(1, "neither a day nor a moment", "app", "admit", "track-access", "--person", "1", "--until", "soon")
	run(1, `there is no person "99"`, "app", "admit", "track-access", "--person", "99")
	run(1, "is a service", "app", "admit", "timetable-feed", "--everyone")
	run(0, "until the end of 2099-01-31 (UTC)", "app", "admit", "track-access", "--group", "first-aiders", "--person",
		"17", "--until", "2099-01-31")
	got := everyone()
	require.Equal(t, 4, got.Total, "three first aiders and Mina Thorne")
	require.Contains(t, run(0, "", "app", "admitted", "track-access", "--csv", "--search", "mina"),
		"17,Mina Thorne,allow,admission,,")
	require.Equal(t, 1, everyone("--by", "admission", "--decision", "allow", "--search", "thorne").Total)
	v := newVisitor(t).get(d.host("track-access") + "/start").comes("wrenmoor-staff")
	require.Contains(t, v.page.text, "You are in as", "Ada Fenwick is a first aider")
	v = newVisitor(t).get(d.host("track-access") + "/start").comes("season-club")
	require.Contains(t, v.page.text, "RequestDenied")
	run(1, "refused", "app", "unadmit", "track-access", "--person", "17")
	run(0, "", "app", "unadmit", "track-access", "--person", "17", "--yes")
	run(0, "", "app", "admit", "track-access", "--group", "first-aiders", "--out", "--yes")
	require.Zero(t, everyone().Total)

	// A list of people: looked at, then admitted; bad rows by their lines.
	out, stderr, code := d.cli(t, "number,until\n2,2099-06-30\n3,\n99,\n4,never\n", "app", "admit", "track-access",
		"--list", "-")
	require.Equal(t, 3, code, out+stderr)
	require.Contains(t, out, "there is no person 99")
	require.Contains(t, out, `"never" is no end`)
	list := "number,until\n2,2099-06-30\n3,\n"
	out, _, _ = d.cli(t, list, "app", "admit", "track-access", "--list", "-")
	_, digest, _ := strings.Cut(out, "--digest ")
	out, stderr, code = d.cli(t, list, "app", "admit", "track-access", "--list", "-", "--digest",
		strings.Fields(digest)[0])
	require.Zero(t, code, out+stderr)
	require.Equal(t, 2, everyone().Total)
	out, stderr, _ = d.cli(t, list, "simulate", "track-access", "--list", "-")
	require.Contains(t, out, "admitted by name", stderr)
	run(0, "(everyone)", "simulate", "track-access", "--group", "drivers", "department=Fell line")
	run(0, "admitted by name", "simulate", "track-access", "--everyone")
	run(2, "more than one says who", "simulate", "track-access", "--person", "1", "--everyone")

	// The same in the console.
	c := startChromium(t)
	c.signInToConsole(d)
	c.open(d.Console + "connect/applications/track-access")
	c.see("Nobody else enters.")
	c.press("Everyone who enters, and admissions")
	c.see("2 of 18")
	c.choose("Group to admit", "Drivers")
	c.fill("input[name=until]", "2099-03-31")
	c.press("Give entry")
	c.until(`document.querySelector('input[name=until]').value === '' && document.body.innerText.includes('Drivers')`)
	c.fill("input[name=admitPerson]", "5")
	c.press("Give entry")
	c.see("5 of 18")
	c.fill("input[name=search]", "lunn")
	c.see("1 of 18")
	c.shot("everyone")
	c.until(`(() => { const e = document.querySelector('[aria-label="Take entry away from Edda Lunn"]'); e?.click(); return !!e })()`)
	c.press("Save it all the same")
	c.until(`!document.querySelector('[aria-label="Take entry away from Edda Lunn"]')`)
	c.open(d.Console + "admit/people/6")
	c.choose("Application to admit to", "Track access")
	c.press("Give entry")
	c.until(`!!document.querySelector('[aria-label="Take entry to Track access away"]')`)
	c.shot("entries")
	c.open(d.Console + "admit/groups")
	c.until(`(() => { const e = document.querySelector('[aria-label="Admit Depots"]'); e?.click(); return !!e })()`)
	c.see("Admit Depots to applications")
	c.choose("Applications", "Track access")
	c.press("Give entry")
	c.until(`!document.body.innerText.includes('Admit Depots to applications')`)
	run(0, "depots", "app", "admitted", "track-access", "--named")
}

// The recipes of docs/access.md do what they say.
func TestRecipesOfAccess(t *testing.T) {
	want := map[string][][2]string{ // what simulate is asked, and what it decides
		"Drivers alone enter":       {{"crew-roster --group drivers", "allow"}, {"crew-roster --person 5", "deny"}},
		"Everybody but contractors": {{"lost-property --person 17", "deny"}, {"lost-property --person 1", "allow"}},
		"Contractors stay out, but one of them, until a day": {{"lost-property --person 12", "allow"},
			{"lost-property --person 17", "deny"},
			{"lost-property --person 12 --at 2099-04-01T00:00:00Z", "deny"}},
		"One client company alone": {{"track-access --person 17", "allow"}, {"track-access --person 1", "deny"}},
		"A named person and nobody else, until a day; why stands in the history": {{"track-access --person 5", "allow"},
			{"track-access --person 6", "deny"},
			{"track-access --person 5 --at 2100-01-01T00:00:00Z", "deny"}},
		"A group, but not the one in it": {{"track-access --group drivers", "deny"},
			{"track-access --group controllers", "allow"}},
		"Members of a group itself alone": {{"track-access --group depots", "allow"},
			{"track-access --group depot-leads", "deny"}},
		"Only from the office's network": {{"refund-desk --person 1 --network 127.0.0.9", "allow"},
			{"refund-desk --person 1 --network 203.0.113.9", "deny"}},
		"By an attribute that an engineer or a trusted provider vouches for": {{"possession-planner --person 1", "allow"},
			{"possession-planner --person 5", "deny"},
			{"possession-planner title=Train --provider wrenmoor-staff", "deny"}},
		"A fresh sign-in each half hour": {{"seat-finder --person 1", "allow"},
			{"seat-finder --person 1 --signed-in 2026-01-01T00:00:00Z", "step-up"}},
		"A stronger sign-in, where the provider can give one": {{"possession-planner --person 1", "step-up"},
			{"possession-planner --person 1 --context urn:oasis:names:tc:SAML:2.0:ac:classes:SmartcardPKI", "allow"}},
		"Somebody who is barred, whatever an application says": {{"crew-roster --person 15", "deny"},
			{"track-access --person 15", "deny"}, {"track-access --person 14", "allow"}},
	}
	cook(t, "../docs/access.md", 12, func(d *demo, title string) {
		require.NotEmpty(t, want[title], title)
		for _, w := range want[title] {
			out, stderr, code := d.cli(t, "", append([]string{"simulate", "--output", "json"}, strings.Fields(w[0])...)...)
			require.Zero(t, code, "%s: %s", title, stderr)
			var got api.Simulated
			require.NoError(t, json.Unmarshal([]byte(out), &got))
			require.Equal(t, w[1], got.Decision, "%s: %s: %v", title, w[0], got.Rules)
		}
	})
}

// cook does what each of so many recipes of a document says, each on a demo of its own, and has it looked at.
func cook(t *testing.T, document string, many int, look func(d *demo, title string)) {
	octets, err := os.ReadFile(document)
	require.NoError(t, err)
	_, text, _ := strings.Cut(string(octets), "\n## Recipes\n")
	text, _, _ = strings.Cut(text, "\n## ")
	recipes, title := map[string][]string{}, ""
	for line := range strings.Lines(text) {
		if code, is := strings.CutPrefix(strings.TrimRight(line, "\n"), "    "); is {
			recipes[title] = append(recipes[title], code)
		} else if strings.TrimSpace(line) != "" {
			title = strings.Trim(line, ":\n")
		}
	}
	require.Len(t, recipes, many)
	for title, lines := range recipes {
		d := ownDemo(t)
		for _, line := range lines {
			cmd := exec.Command("sh", "-c", strings.ReplaceAll(line, "innergate ", binary+" "))
			cmd.Env = append(os.Environ(), "INNERGATE_URL="+d.Base, "INNERGATE_TOKEN="+d.Token)
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, "%s: %s\n%s", title, line, out)
		}
		look(d, title)
		d.stop()
	}
}

// runs gives what runs a command, and sees how it ends and what it says.
func (d *demo) runs(t *testing.T) func(want int, says string, args ...string) string {
	return func(want int, says string, args ...string) string {
		t.Helper()
		out, stderr, code := d.cli(t, "", args...)
		require.Equal(t, want, code, "%v: %s%s", args, out, stderr)
		require.Contains(t, out+stderr, says, "%v", args)
		return out
	}
}

// confirmOf is the digest that a refusal names to confirm by.
func confirmOf(stderr string) string {
	_, rest, _ := strings.Cut(stderr, "--confirm ")
	return strings.Trim(strings.Fields(rest + " -")[0], ".")
}
