package e2e

import (
	"context"
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// People are listed, made known, disabled, enabled and removed, by the command line and in
// the console, and sign-ins follow at once.
func TestPeople(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	come := func() string {
		v := newVisitor(t)
		v.get(d.Base + "/open/track-access")
		return v.comes("oakhollow").page.text
	}
	require.Contains(t, come(), "You are in as")
	subject := "ra9OF57hN_uTnqou"
	for _, c := range []struct {
		rule string
		args []string
		code int
		want string
	}{
		{"listed", []string{"person", "list", "--search", "mina"}, 0, "Mina Thorne"},
		{"shown, linked by their address", []string{"person", "show", "17"}, 0, subject},
		{"by what it is proved", []string{"person", "show", "17"}, 0, "said verified"},
		{"with what nothing proves", []string{"person", "show", "17"}, 0, "not proved"},
		{"joined with somebody who left", []string{"person", "join", "1", "16"}, 0, "Afterwards person 1 is disabled too"},
		{"and let in", []string{"person", "join", "1", "16", "--enable"}, 0, "Afterwards person 1 is let in"},
		{"marked and belonging by the provider", []string{"--wide", "person", "list", "--group", "contractors",
			"--user-type", "contractor", "--provider", "oakhollow"}, 0, "signalling-contractors"},
		{"no such one", []string{"person", "show", "77"}, 1, `no person "77"`},
		{"no number", []string{"person", "show", "mina"}, 2, "numbered from 1"},
		{"no state", []string{"person", "list", "--state", "gone"}, 1, "enabled or disabled"},
		{"no group", []string{"person", "list", "--group", "contractor"}, 1, `did you mean "contractors"?`},
		{"nobody found", []string{"person", "list", "--search", "nobody at all"}, 0, "Nobody like that."},
		{"disabled", []string{"--remark", "left the company", "person", "disable", "17"}, 0, "disabled since"},
		{"twice", []string{"person", "disable", "17"}, 1, "disabled already"},
		{"in the history", []string{"history", "list", "--limit", "1"}, 0, "disabled"},
		{"not removed unasked", []string{"person", "remove", "17"}, 2, "Add --yes"},
		{"known only", []string{"provider", "set", "season-club", "firstSignIn=known"}, 0, "changed season-club"},
		{"added", []string{"person", "add", "season-club", "72911298046304926", "displayName=Rosa Finch", "--join",
			"group/first-aiders"}, 0, "Rosa Finch"},
		{"added twice", []string{"person", "add", "season-club", "72911298046304926"}, 1, "by that name already"},
		{"added to no provider", []string{"person", "add", "season-clb", "x"}, 1, `did you mean "season-club"?`},
		{"added as nobody", []string{"person", "add"}, 2, "nothing is said"},
		{"changed", []string{"person", "set", "1", "department=Fell line", "nickName=", "--join", "group/contractors"}, 1,
			"entry-lost"},
		{"changed, once that was looked at", []string{"person", "set", "1", "department=Fell line", "nickName=", "--join",
			"group/contractors", "--yes"}, 0, "Fell line"},
		{"changed to nothing", []string{"person", "set", "1"}, 2, "nothing is to be changed"},
		{"into no group", []string{"person", "set", "1", "--join", "group/firstaiders"}, 1, `did you mean "first-aiders"?`},
		{"out of none", []string{"person", "set", "2", "--leave", "group/first-aiders"}, 1, "is not in group first-aiders"},
		{"what would be told", []string{"person", "told", "1", "crew-roster"}, 0, "Fell line"},
		{"told to nobody", []string{"person", "told", "1", "crew-rooster"}, 1, `did you mean "crew-roster"?`},
		{"linked", []string{"person", "link", "2", "season-club", "12"}, 0, "season-club"},
		{"parted from none", []string{"person", "part", "2", "oakhollow"}, 2, "no such link"},
		{"the only one", []string{"person", "part", "2", "season-club"}, 1, "only link"},
		{"parted", []string{"person", "part", "12", "oakhollow"}, 0, "CD36iSnu_DW33DpM"},
		{"a group", []string{"group", "put", "night-shift", "--title", "Night shift", "--inside", "operations", "--value",
			"NS"}, 0, "operations"},
		{"a circle", []string{"group", "put", "operations", "--inside", "night-shift"}, 1, "inside itself"},
		{"no domain", []string{"organisation", "put", "oakhollow", "--domain", "@oakhollow.example"}, 1, "is no domain"},
		{"listed as a tree", []string{"group", "list"}, 0, "  night-shift"},
		{"told before it goes", []string{"group", "remove", "first-aiders"}, 1, "--confirm"},
	} {
		out, stderr, code := d.cli(t, "", c.args...)
		require.Equal(t, c.code, code, "%s: %s%s", c.rule, out, stderr)
		require.Contains(t, out+stderr, c.want, c.rule)
	}
	require.Contains(t, come(), "Your account is closed at the moment")
	v := newVisitor(t)
	v.get(d.Base + "/open/track-access")
	require.Contains(t, v.comes("season-club").page.text, "You are in as 72911298046304926", "who was made known comes")

	seen, _, code := d.cli(t, "", "person", "join", "12", "20")
	require.Zero(t, code)
	require.Contains(t, seen, "person 20 would go into 12")
	digest := regexp.MustCompile(`--digest ([0-9a-f]{32})`).FindStringSubmatch(seen)[1]
	_, stderr, code := d.cli(t, "", "person", "join", "12", "20", "--digest", digest[1:]+"0")
	require.Equal(t, 1, code)
	require.Contains(t, stderr, "changed since the preview")
	_, stderr, code = d.cli(t, "", "person", "join", "12", "20", "--digest", digest)
	require.Zero(t, code, stderr)

	c := startChromium(t)
	c.signInToConsole(d)
	c.press("Admit")
	c.see("Ada Fenwick")
	c.fill(`input[name="search"]`, "mina")
	c.until("!document.body.innerText.includes('Ada Fenwick')")
	c.see("✕ disabled")
	c.press("Mina Thorne")
	c.see(subject)
	c.press("Enable")
	c.see("● enabled")
	require.Contains(t, come(), "You are in as")
	c.open(d.Console + "admit/people/12")
	c.see("Comes by")
	c.shot("person")
	c.choose("Application", "Crew roster")
	c.until("document.querySelector('dl.told')?.innerText.includes('leo.quarrie')")
	c.open(d.Console + "admit/people/17")
	c.see("▲ not proved")
	c.shot("proofs")
	c.open(d.Console + "admit/people/1")
	c.see("by an engineer")
	c.fill(`input[name="other"]`, "16")
	c.press("Preview")
	c.see("is disabled afterwards, too")
	c.shot("join")
	c.open(d.Console + "admit/people/17")
	c.press("Disable")
	c.see("Sessions and grants end at once")
	c.press("Leave it")
	c.press("Remove")
	c.see("Remove Mina Thorne?")
	c.until(`(() => { const b = [...document.querySelectorAll('.el-message-box button')].find(e => e.innerText.trim() === 'Remove'); if (!b) return false; b.click(); return true })()`)
	c.see("Make somebody known before they come")
	c.until("!document.body.innerText.includes('Mina Thorne')")
	c.open(d.Console + "admit/groups")
	c.see("First aiders")
	c.shot("groups")
	c.until(`(() => { const b = document.querySelector('[aria-label="Remove First aiders"]'); if (!b) return false; b.click(); return true })()`)
	c.see("The group or organisation is in use")
	c.press("Remove it all the same")
	c.until("!document.body.innerText.includes('First aiders')")
	c.open(d.Console + "admit/organisations")
	c.see("oakhollow.example")
	c.shot("organisations")
}

// Lists come in and go out, and the accounts of an application are compared, by the command
// line and in the console.
func TestListsAndAccounts(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	dir := t.TempDir()
	file := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	good := file("good.csv", "emails;title;state\nada.fenwick@wrenmoor.example;Senior driver;\ntomas.wick@wrenmoor.example;Senior fitter;\nzoe.tal@wrenmoor.example;Clerk;\n")
	bad := file("bad.csv", "emails,groups\nada.fenwick@wrenmoor.example,driver\nnobody\x01,x\n")
	for _, c := range []struct {
		rule string
		args []string
		code int
		want string
	}{
		{"looked at", []string{"person", "import", good, "--by", "emails"}, 0, "Nothing is stored yet"},
		{"bad rows", []string{"person", "import", bad, "--by", "emails"}, 3, `did you mean "drivers"?`},
		{"bad rows, stored", []string{"person", "import", bad, "--by", "emails", "--digest", "00"}, 1, "look at it again"},
		{"no heading", []string{"person", "import", good, "--by", "email"}, 1, "did you mean emails?"},
		{"no file", []string{"person", "import", filepath.Join(dir, "none")}, 2, "cannot be read"},
		{"given out", []string{"person", "export", "--organisation", "oakhollow"}, 0, "mina.thorne@oakhollow.example"},
		{"given out in JSON", []string{"person", "export", "--form", "json", "--search", "leo"}, 0,
			`"provider":"oakhollow"`},
		{"compared with no list", []string{"accounts", "compare", "crew-roster", file("empty.csv", "Login\n")}, 1,
			"no accounts below them"},
		{"compared by no heading", []string{"accounts", "compare", "crew-roster", good, "--column", "Logn"}, 1, "no column"},
		{"compared for nobody", []string{"accounts", "compare", "crew-rooster", good}, 1, `did you mean "crew-roster"?`},
		{"none yet", []string{"accounts", "show", "crew-roster"}, 2, "not compared yet"},
	} {
		out, stderr, code := d.cli(t, "", c.args...)
		require.Equal(t, c.code, code, "%s: %s%s", c.rule, out, stderr)
		require.Contains(t, out+stderr, c.want, c.rule)
	}
	seen, _, _ := d.cli(t, "", "person", "import", good, "--by", "emails")
	digest := regexp.MustCompile(`--digest ([0-9a-f]{64})`).FindStringSubmatch(seen)[1]
	out, stderr, code := d.cli(t, "", "person", "import", good, "--by", "emails", "--digest", digest)
	require.Zero(t, code, stderr)
	require.Regexp(t, `made +1\nchanged +2`, out)

	list := accountsFile(t, d)
	out, stderr, code = d.cli(t, "", "accounts", "compare", "crew-roster", list)
	require.Zero(t, code, stderr)
	for _, want := range []string{"5 of 9 accounts fit exactly", "case", "domain", "missing here", "missing there",
		"emails"} {
		require.Contains(t, out, want)
	}
	out, _, code = d.cli(t, "", "accounts", "show", "crew-roster", "--verdict", "domain")
	require.Zero(t, code)
	require.Contains(t, out, "edda.lunn@depot.wrenmoor.example")
	out, _, code = d.cli(t, "", "accounts", "export", "crew-roster", "1", "--verdict", "case")
	require.Zero(t, code)
	require.Contains(t, out, "case,4,Celia.Marsh@wrenmoor.example,3,")

	c := startChromium(t)
	c.signInToConsole(d)
	c.see("5 of 9 accounts fit")
	c.open(d.Console + "admit/import")
	c.attach(`input[name="list"]`, bad)
	c.press("See what would change")
	c.see("2 rows cannot be used")
	c.shot("import-bad")
	c.attach(`input[name="list"]`, file("more.csv",
		"emails,title\nzoe.tal@wrenmoor.example,Head clerk\nyan.orr@wrenmoor.example,Porter\n"))
	c.fill(`input[name="by"]`, "emails")
	c.press("See what would change")
	c.see("nothing is stored yet")
	c.see("Head clerk")
	c.shot("import")
	c.press("Import 2")
	c.see("● imported")
	c.open(d.Console + "connect/applications/crew-roster/accounts")
	c.see("5 of 9 accounts fit")
	c.shot("accounts")
	c.attach(`input[name="accounts"]`, list)
	c.press("Compare")
	c.see("0 do not any more")
	c.until(`(() => { const b = [...document.querySelectorAll('button.filter')].find(e => e.innerText.includes('missing here')); if (!b) return false; b.click(); return true })()`)
	c.see("rhea.lake@wrenmoor.example")
	c.until("!document.body.innerText.includes('edda.lunn@depot')")
}

// Whoever lacks an address is asked for it once, and proves it by a mailed code, in a
// narrow window, over a restart of the browser's page.
func TestAnAddressIsProved(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	c := startChromium(t)
	do(c, chromedp.EmulateViewport(390, 780))
	c.open(d.host("crew-roster") + "/start")
	c.fill(`input[name="username"]`, "mira.dunn")
	c.fill(`input[name="password"]`, "wrenmoor-demo")
	c.press("Sign in")
	c.see("What is your e-mail address?")
	c.shot("missing")
	c.fill(`input[name="value.emails"]`, "mira.dunn@post.example")
	c.press("Go on")
	c.see("Type the code")
	c.fill(`input[name="code"]`, "000000")
	c.press("Go on")
	c.see("That is not the code")
	c.shot("code")
	do(c, chromedp.Reload())
	c.see("That is not the code")
	at, err := chromedp.Run(c.ctx, chromedp.Location())
	require.NoError(t, err)
	require.Regexp(t, "/crossing/[0-9a-f]+$", at, "it has an address of its own")
	c.open(d.Base + "/assets/page.css")
	c.open(at)
	c.fill(`input[name="code"]`, d.code(t, "mira.dunn@post.example"))
	c.press("Go on")
	c.see("You are in as")
	out, _, code := d.cli(t, "", "person", "list", "--search", "mira")
	require.Zero(t, code)
	require.Contains(t, out, "wrenmoor")
	out, _, code = d.cli(t, "", "person", "show", "19")
	require.Zero(t, code)
	require.Contains(t, out, "by mailed code")
	v := newVisitor(t)
	v.get(d.Base + "/open/crew-roster").onward()
	require.Contains(t, v.submit("username", "mira.dunn", "password", "wrenmoor-demo").onward().page.text,
		"You are in as", "asked once")
	c.open(d.Mailbox)
	c.see("Your code for Crew roster")
	c.shot("mailbox")
}

// code is the newest one that was mailed to an address.
func (d *demo) code(t *testing.T, to string) (code string) {
	req, err := http.NewRequestWithContext(context.Background(), http.MethodGet, d.Mailbox+"letters", nil)
	require.NoError(t, err)
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	var all []struct{ To, Text string }
	require.NoError(t, json.NewDecoder(res.Body).Decode(&all))
	for _, l := range all {
		if strings.EqualFold(l.To, to) {
			code = regexp.MustCompile(`\b\d{6}\b`).FindString(l.Text)
		}
	}
	require.NotEmpty(t, code)
	return code
}

// A list tells what of it is no value, and what is taken in as it is and should be looked at first.
func TestListsTellWhatIsOdd(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	run := d.runs(t)
	for _, c := range []struct {
		says, list string
		code       int
	}{
		{`"not a mail" is no e-mail address`, "employeeNumber,emails\nX-1,not a mail\n", 3},
		{"same@wrenmoor.example stands for 3 people of the list",
			"employeeNumber,emails\nX-1,same@wrenmoor.example\nX-2,Same@Wrenmoor.example\nX-3,same@wrenmoor.example\n", 0},
		{"bram.oduya@wrenmoor.example is that of person 2, too", "employeeNumber,emails\nX-1,bram.oduya@wrenmoor.example\n",
			0},
		{`whoever comes by the name "gate.crasher" is person 2 from now on`, "number,link:wrenmoor-staff\n2,gate.crasher\n",
			0},
		{"nobody proves emails", "employeeNumber,emails,unproved\nX-1,x.one@wrenmoor.example,emails\n", 0},
	} {
		file := filepath.Join(t.TempDir(), "list.csv")
		require.NoError(t, os.WriteFile(file, []byte(c.list), 0o600))
		run(c.code, c.says, "person", "import", file)
	}
	run(1, "is no e-mail address", "person", "set", "2", "emails=not a mail")
	require.NotContains(t, run(0, "", "person", "import", "../demo/people.csv", "--skip-bad"), "LOOK AT THIS",
		"what is there already is not told again")
}
