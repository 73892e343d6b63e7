package e2e

import (
	"encoding/base64"
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/api"
)

// Mappings are tried on a sign-in that was recorded, saved, seen at the applications, and
// taken back, all from the command line.
func TestMappingOnTheCommandLine(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	dir := t.TempDir()
	file := func(name, rules string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(`{"rules":[`+rules+`]}`), 0o600))
		return path
	}
	intake := file("intake.json",
		`{"to":{"name":"userName"},"from":[{"attribute":"preferred_username"}],"steps":[{"do":"upper"}]},
		{"to":{"name":"groups"},"from":[{"attribute":"groups"}],"note":"for the rosters"}`)
	release := file("release.json",
		`{"to":{"subject":true},"from":[{"attribute":"userName"},{"attribute":"preferred_username"}],"steps":[{"do":"upper"}]},
		{"to":{"name":"depot"},"from":[{"constant":"north"}]}`)
	broken := file("broken.json", `{"to":{"name":"x"},"from":[{"attribute":"a"}],"steps":[{"do":"keep","text":"a(b"}]}`)

	token := filepath.Join(dir, "token")
	require.NoError(t, os.WriteFile(token, []byte("eyJhbGciOiJub25lIn0."+base64.RawURLEncoding.EncodeToString(
		[]byte(`{"iss":"x","sub":"p1","preferred_username":"pasted"}`))+".\n{\"groups\":[\"a\"]}"), 0o600))

	v := newVisitor(t)
	v.get(d.Base + "/open/track-access")
	require.Contains(t, v.comes("oakhollow").page.text, "Thorne", "without rules, everything")
	out, stderr, code := d.cli(t, "", "-o", "json", "trace", "list", "--app", "track-access", "--limit", "1")
	require.Zero(t, code, stderr)
	var heads []api.TraceHead
	require.NoError(t, json.Unmarshal([]byte(out), &heads))
	trace := heads[0].ID

	for _, c := range []struct {
		rule string
		args []string
		code int
		want []string
	}{
		{"as it is", []string{"mapping", "try", "--trace", trace}, 0, []string{"Received from oakhollow", "Mina Thorne",
			"Sent to track-access"}},
		{"as it would be", []string{"mapping", "try", "--trace", trace, "--intake", intake, "--release", release}, 0,
			[]string{"userName is made of preferred_username", "Sent to track-access: MINA.THORNE", "north"}},
		{"with given values", []string{"mapping", "try", "--app", "track-access", "--release", release, "userName=ada"}, 0,
			[]string{"Sent to track-access: ADA"}},
		{"proposed", []string{"mapping", "propose", "provider/oakhollow"}, 0, []string{"name.givenName", "given_name"}},
		{"proposed for an application", []string{"mapping", "propose", "application/crew-roster"}, 0,
			[]string{"Nothing is there for", "costCentre"}},
		{"proposed for none", []string{"mapping", "propose", "provider/oakholow"}, 1, []string{`did you mean "oakhollow"?`}},
		{"on a person", []string{"mapping", "try", "--person", "17", "--intake", intake}, 0,
			[]string{"userName is made of preferred_username"}},
		{"on nobody", []string{"mapping", "try", "--person", "77"}, 1, []string{`no person "77"`}},
		{"on a pasted token", []string{"mapping", "try", "--provider", "oakhollow", "--intake", intake, "--message", token},
			0,
			[]string{"PASTED"}},
		{"on something else", []string{"mapping", "try", "--provider", "oakhollow", "--message", intake}, 0,
			[]string{"rules"}},
		{"on a message of nobody", []string{"mapping", "try", "--app", "track-access", "--message", token}, 1,
			[]string{"name the one it is of"}},
		{"on two things", []string{"mapping", "try", "--person", "17", "--message", token, "--provider", "oakhollow"}, 1,
			[]string{"give one of them"}},
		{"run again", []string{"reevaluate", "provider/oakhollow", "intakeMapping=@" + intake}, 0,
			[]string{"differs", "name: no longer Mina Thorne", "1 of 1 person affected"}},
		{"shutting out", []string{"reevaluate", "provider/oakhollow", "phase=paused"}, 3, []string{"refused", "1 refused"}},
		{"of no record", []string{"reevaluate", "provider/oakhollo", "phase=paused"}, 1,
			[]string{`did you mean "oakhollow"?`}},
		{"of nothing", []string{"reevaluate", "phase=paused"}, 2, []string{"stands before any record"}},
		{"a set", []string{"set", "put", "common", "--way", "release", "--title", "Common", "--mapping", release}, 0,
			[]string{"shared by 0"}},
		{"a set of no way", []string{"set", "put", "other"}, 2, []string{"--way intake"}},
		{"no set", []string{"set", "show", "comon"}, 1, []string{`did you mean "common"?`}},
		{"shared, unconfirmed", []string{"app", "set", "track-access", "releaseSet=common"}, 1,
			[]string{"names-change", "MINA", "--confirm"}},
		{"run again with a set", []string{"reevaluate", "application/track-access", "releaseSet=common"}, 0,
			[]string{"1 under another name"}},
		{"and without it", []string{"set", "remove", "common"}, 0, []string{"removed common"}},
		{"broken", []string{"mapping", "try", "--trace", trace, "--intake", broken}, 2,
			[]string{"character 1", "missing closing"}},
		{"broken, saved", []string{"provider", "set", "oakhollow", "intakeMapping=@" + broken}, 1,
			[]string{"intakeMapping, rule 1, step 1.text"}},
		{"no trace", []string{"mapping", "try", "--trace", "00000-00000"}, 1, []string{"there is no trace"}},
		{"no application", []string{"mapping", "try", "--app", "track-acces", "a=b"}, 1,
			[]string{`did you mean "track-access"?`}},
		{"no record", []string{"mapping", "show", "oakhollow"}, 2, []string{"provider/NAME"}},
		{"saved", []string{"provider", "set", "oakhollow", "intakeMapping=@" + intake}, 0, []string{"changed oakhollow"}},
		{"and shown", []string{"mapping", "show", "provider/oakhollow"}, 0, []string{"preferred_username, upper",
			"for the rosters"}},
		{"released, unconfirmed", []string{"app", "set", "track-access", "releaseMapping=@" + release}, 1,
			[]string{"names-change"}},
	} {
		out, stderr, code := d.cli(t, "", c.args...)
		require.Equal(t, c.code, code, "%s: %s%s", c.rule, out, stderr)
		for _, want := range c.want {
			require.Contains(t, out+stderr, want, c.rule)
		}
	}

	_, stderr, _ = d.cli(t, "", "app", "set", "track-access", "releaseMapping=@"+release)
	digest := regexp.MustCompile(`--confirm ([0-9a-f]+)`).FindStringSubmatch(stderr)
	require.Len(t, digest, 2, stderr)
	_, stderr, code = d.cli(t, "", "--confirm", digest[1], "app", "set", "track-access", "releaseMapping=@"+release)
	require.Zero(t, code, stderr)
	v = newVisitor(t)
	v.get(d.Base + "/open/track-access")
	text := v.comes("oakhollow").page.text
	require.Contains(t, text, "You are in as MINA.THORNE")
	require.Contains(t, text, "north")
	require.NotContains(t, text, "Thorne", "what no rule makes is not told")
	out, stderr, code = d.cli(t, "", "check", "oakhollow", "track-access", "--severity", "note")
	require.Zero(t, code, stderr)
	require.Contains(t, out, "scope-unneeded", "the scope email is asked for, and no rule reads it")
	_, stderr, _ = d.cli(t, "", "app", "set", "track-access", "releaseMapping=")
	digest = regexp.MustCompile(`--confirm ([0-9a-f]+)`).FindStringSubmatch(stderr)
	_, stderr, code = d.cli(t, "", "--confirm", digest[1], "app", "set", "track-access", "releaseMapping=")
	require.Zero(t, code, stderr)
	out, stderr, code = d.cli(t, "", "mapping", "show", "application/track-access")
	require.Zero(t, code, stderr)
	require.Contains(t, out, "everything passes unchanged")
}

// Rules are typed, seen at work on a recorded sign-in, and saved in the console.
func TestConsoleMapsAttributes(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	v := newVisitor(t)
	v.get(d.Base + "/open/track-access")
	v.comes("oakhollow")
	c := startChromium(t)
	c.signInToConsole(d)
	c.open(d.Console + "connect/providers/oakhollow")
	c.press("Mapping")
	c.see("Intake mapping of Oakhollow Signalling")
	c.see("No rules: everything passes unchanged.")
	c.see("mina.thorne@oakhollow.example")

	// As text: what is wrong is said while typing.
	c.press("As text")
	c.set("textarea[name=rules]", `{"rules": [`)
	c.see("This is no JSON yet")
	c.set("textarea[name=rules]",
		`{"rules": [{"to": {"name": "x"}, "from": [{"attribute": "name"}], "steps": [{"do": "keep", "text": "("}]}]}`)
	c.see("the pattern does not compile at character 1")
	c.press("As a list")
	c.see("steps[0].text: the pattern does not compile at character 1")
	c.press("As text")
	c.set("textarea[name=rules]",
		`{"rules": [{"to": {"name": "x"}, "from": [{"attribute": "nmae"}], "mandatory": true}]}`)
	c.see("The provider did not send a mandatory value")
	c.set("textarea[name=rules]",
		`{"rules": [{"to": {"name": "userName"}, "from": [{"attribute": "preferred_username"}]}]}`)
	c.press("As a list")
	c.see("● mina.thorne")

	// As a list: a rule in its form, proposed ones, and who would get something else.
	c.press("userName")
	c.see("Rule for userName")
	c.press("Add a step")
	c.choose("Step 1", "upper: capital letters")
	c.see("userName is made of preferred_username: MINA.THORNE")
	c.press("Done")
	c.until(`[...document.querySelectorAll('td')].some((e) => e.innerText.includes('preferred_username, upper'))`)
	c.press("Add a rule") // an empty one: the one before stays as it is
	c.until(`document.querySelector('input[name=to]')?.value === ''`)
	c.fill("input[name=to]", "zone")
	c.fill("input[aria-label='Source 1']", "zoneinfo")
	c.press("Done")
	c.until(`['preferred_username, upper', 'zoneinfo'].every((t) => [...document.querySelectorAll('td')].some((e) => e.innerText.includes(t)))`)
	c.until(`(() => { const e = document.querySelector("button[aria-label='Remove rule 2']"); if (!e) return false; e.click(); return true })()`)
	c.press("Add 8 proposed rules")
	c.see("9 rules")
	c.see("updated_at")
	c.press("Run all recorded sign-ins through the change")
	c.see("1 of 1 person")
	c.shot("mapping")
	c.press("Save")
	c.open(d.Console + "connect/providers/oakhollow")
	c.see("revision 2")

	// A set, shared from the page of an application; other names are confirmed as they were seen.
	c.open(d.Console + "map/sets")
	c.see("No sets yet")
	c.set("input[name=name]", "common")
	c.set("input[name=title]", "Common to all")
	c.press("Make it")
	c.see("Shared by nobody yet")
	c.press("As text")
	c.set("textarea[name=rules]", `{"rules": [{"to": {"subject": true}, "from": [{"attribute": "userName"}]}]}`)
	c.press("Save")
	c.see("revision 2")
	c.open(d.Console + "connect/applications/track-access/mapping")
	c.see("Release mapping of Track access")
	c.see("Sent · track-access")
	c.see("It asks for")
	c.choose("Over the set", "common: Common to all")
	c.see("From the set: the subject MINA.THORNE")
	c.press("Save")
	c.see("People would get another name at the application")
	c.press("Give them the other names")
	c.see("1 rule, shared by 1")
	c.open(d.Console + "map")
	c.see("Over a set 1")
	c.open(d.Console + "map/sets/common")
	c.see("Shared by track-access")
	v = newVisitor(t)
	v.get(d.Base + "/open/track-access")
	require.Contains(t, v.comes("oakhollow").page.text, "You are in as MINA.THORNE")
}

// What rules make crosses from every protocol to every other: in under one name, out
// under another.
func TestMappedValuesCrossEveryProtocol(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	for provider, from := range map[string]string{"wrenmoor-staff": "displayName", "oakhollow": "name",
		"season-club": "name"} {
		_, stderr, code := d.cli(t, "", "provider", "set", provider,
			`intakeMapping={"rules":[{"to":{"name":"displayName"},"from":[{"attribute":"`+
				from+`"}],"steps":[{"do":"upper"}]},{"to":{"name":"came"},"from":[{"constant":"`+provider+`"}]}]}`)
		require.Zero(t, code, stderr)
	}
	_, stderr, code := d.cli(t, "", "provider", "set", "wrenmoor-staff", "askFor=")
	require.Zero(t, code, stderr)
	for _, app := range []string{"track-access", "seat-finder"} {
		_, stderr, code := d.cli(t, "", "app", "set", app,
			`releaseMapping={"rules":[{"to":{"name":"crew"},"from":[{"expression":`+
				`"attributes.came[0] + ' ' + attributes.displayName[0]"}]}]}`)
		require.Zero(t, code, stderr)
		for provider, who := range map[string]string{"wrenmoor-staff": "ADA FENWICK", "oakhollow": "MINA THORNE",
			"season-club": "ROSA FINCH"} {
			v := newVisitor(t)
			v.get(d.host(app) + "/start")
			text := v.comes(provider).page.text
			require.Contains(t, text, provider+" "+who, "%s to %s", provider, app)
			require.NotContains(t, text, "displayName", "what no rule of the release makes is not told")
		}
	}
}
