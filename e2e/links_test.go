package e2e

import (
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// A provider is removed and another one added under its name: its people are
// strangers there until they are carried over.
func TestPeopleAreCarriedOver(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	run := func(code int, wants []string, args ...string) string {
		t.Helper()
		out, errs, got := d.cli(t, "", args...)
		require.Equal(t, code, got, out+errs)
		for _, want := range wants {
			require.Contains(t, out+errs, want)
		}
		return out
	}
	run(0, []string{"wrenmoor-staff"}, "person", "providers")
	newVisitor(t).get(d.host("crew-roster") + "/start").signIn("").onward()
	run(0, []string{"ada.fenwick", "emailAddress", "wrenmoor-staff"}, "person", "links")
	run(0, []string{`"value": "ada.fenwick`}, "person", "links", "--person", "1", "--output", "json")
	run(1, []string{"there is no person 99"}, "person", "links", "--person", "99")
	run(2, []string{"there is no person 0"}, "person", "links", "--person", "0")
	run(1, []string{`did you mean "wrenmoor-staff"?`}, "person", "links", "--provider", "wrenmoor-staf")

	run(0, nil, "app", "set", "--all", "provider=", "--yes")
	run(1, []string{"is named by organisation/wrenmoor"}, "provider", "remove", "wrenmoor-staff", "--yes")
	run(0, nil, "organisation", "put", "wrenmoor", "--provider", "")
	run(0, []string{"removed wrenmoor-staff", "innergate person carry "}, "provider", "remove", "wrenmoor-staff",
		"--yes")
	run(0, nil, "provider", "add", "wrenmoor-staff", "--metadata", d.Providers[0].Metadata)
	list := run(0, []string{"REMOVED"}, "person", "providers")
	id := regexp.MustCompile(`wrenmoor-staff +([0-9a-f]{32})`).FindStringSubmatch(list)[1]
	run(2, []string{"--digest is missing"}, "person", "carry", id, "wrenmoor-staff")
	run(1, []string{"changed since the preview"}, "person", "carry", id, "wrenmoor-staff", "--digest", "00")
	seen := run(0, []string{"to carry over", "Nothing is stored yet"}, "person", "carry", id, "wrenmoor-staff",
		"--preview")
	digest := regexp.MustCompile(`--digest ([0-9a-f]{64})`).FindStringSubmatch(seen)[1]

	c := startChromium(t)
	c.signInToConsole(d)
	c.open(d.Console + "keep/links")
	c.see("wrenmoor-staff (removed)")
	c.choose("From", "wrenmoor-staff (removed)")
	c.choose("To", "wrenmoor-staff")
	c.press("Preview")
	c.see("2 would be carried over")
	c.shot("links")
	run(0, []string{"carried over"}, "--remark", "a new tenant", "person", "carry", id, "wrenmoor-staff", "--digest",
		digest)
	c.press("Carry over")
	c.see("the links have changed since the preview")
	run(0, []string{"took over links of wrenmoor-staff: 2", "a new tenant"}, "history", "list", "--kind", "provider")
	run(0, nil, "app", "set", "crew-roster", "provider=wrenmoor-staff")
	newVisitor(t).get(d.host("crew-roster") + "/start").signIn("").onward()
	require.Equal(t, 2, strings.Count(run(0, nil, "person", "links", "--person", "1"), "ada.fenwick"),
		"one person, by both")
}

// An application that knows people by values of its own keeps them.
func TestSubjectsAreImported(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	run := func(stdin string, code int, want string, args ...string) string {
		t.Helper()
		out, errs, got := d.cli(t, stdin, append([]string{"person"}, args...)...)
		require.Equal(t, code, got, out+errs)
		require.Contains(t, out+errs, want)
		return out
	}
	known := "provider,name,value,format\nwrenmoor-staff,ada.fenwick@wrenmoor.example,crew-0017,urn:oasis:names:tc:SAML:1.1:nameid-format:emailAddress\n"
	run(known, 2, "--digest is missing", "import-subjects", "crew-roster", "-")
	run("provider,name\n", 1, `the column "value" is missing`, "import-subjects", "crew-roster", "-", "--preview")
	run(strings.Replace(known, "staff", "stuff", 1), 1, `line 2, provider: there is no provider "wrenmoor-stuff"`,
		"import-subjects", "crew-roster", "-", "--preview")
	run(known, 1, `did you mean "crew-roster"?`, "import-subjects", "crew-rooster", "-", "--preview")
	seen := run(known, 0, "people made", "import-subjects", "crew-roster", "-", "--preview")
	digest := regexp.MustCompile(`--digest ([0-9a-f]{64})`).FindStringSubmatch(seen)[1]
	run("", 0, "knows nobody", "subjects", "crew-roster")
	run(known, 0, "imported", "import-subjects", "crew-roster", "-", "--digest", digest)
	run("", 0, "crew-0017", "subjects", "crew-roster")
	_, _, code := d.cli(t, "", "app", "set", "crew-roster",
		"nameIdFormat=urn:oasis:names:tc:SAML:2.0:nameid-format:persistent")
	require.Zero(t, code)
	require.Contains(t, newVisitor(t).get(d.host("crew-roster")+"/start").signIn("").onward().page.text,
		"You are in as crew-0017")

	c := startChromium(t)
	c.signInToConsole(d)
	c.open(d.Console + "connect/applications/crew-roster")
	c.press("Subjects")
	c.see("crew-0017")
	c.set("textarea[name=csv]", "provider,name,value\nwrenmoor-staff,bram.oduya@wrenmoor.example,crew-0017")
	c.press("Preview")
	c.see("the application knows somebody else by it")
	c.set("textarea[name=csv]", "provider,name,value\nwrenmoor-staff,bram.oduya@wrenmoor.example,crew-0018")
	c.press("Preview")
	c.see("1 person would be made")
	c.shot("subjects")
	c.fill("input[name=why]", "as the roster knew him")
	c.press("Import")
	c.see("1 subject imported")
	c.see("crew-0018")
	c.open(d.Console + "keep/history")
	c.see("as the roster knew him")
}
