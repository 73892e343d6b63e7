package e2e

import (
	"bufio"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// startStandin runs a stand-in as a program of its own and gives its address.
func startStandin(t *testing.T, kind string, args ...string) string {
	t.Helper()
	cmd := exec.Command(binary, append([]string{"standin", kind, "--listen", "127.0.0.1:0"}, args...)...)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Signal(syscall.SIGINT)
		_ = cmd.Wait()
	})
	lines := bufio.NewScanner(out)
	require.True(t, lines.Scan())
	_, address, ok := strings.Cut(lines.Text(), " is up at ")
	require.True(t, ok, lines.Text())
	return strings.TrimSuffix(address, "/")
}

// Stand-ins send what real ones send, and applications keep accounts of their own, so
// that delivered is not yet let in.
func TestPeopleAsTheyAre(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	_, _, code := d.cli(t, "", "provider", "set", "wrenmoor-staff", "askFor=")
	require.Zero(t, code)
	roster := d.host("crew-roster")
	come := func(who, names string) string {
		v := newVisitor(t)
		v.get(d.Base + "/open/crew-roster").onward()
		return v.submit("username", who, "password", "wrenmoor-demo", "names", names).onward().page.body
	}
	for _, c := range []struct {
		who, names string
		want       []string
	}{
		{"ada.fenwick", "oid", []string{`<td title="urn:oid:2.5.4.42">givenName</td>`,
			"Ada Fenwick</strong> (early shift), found by the name"}},
		{"ada.fenwick", "uri", []string{"http://schemas.xmlsoap.org/ws/2005/05/identity/claims/givenname"}},
		{"ada.fenwick", "short", []string{`<td title="givenName">givenName</td>`}},
		{"nils.abara", "oid", []string{"nils.abara@wrenmoor.example, nils@training.wrenmoor.example", "eduPersonEntitlement",
			"urn:wrenmoor:route:coast"}},
		{"mira.dunn", "oid", []string{"mira.dunn", "an empty one was made"}},
		{"otto.pell", "oid", []string{"Otto.Pell@Wrenmoor.example", "No account of this application"}},
	} {
		body := come(c.who, c.names)
		for _, want := range c.want {
			require.Contains(t, body, want, "%s %s", c.who, c.names)
		}
	}
	v := newVisitor(t)
	require.Contains(t, v.get(roster+"/accounts.csv").page.body,
		"Login,Name,Roster\nada.fenwick@wrenmoor.example,Ada Fenwick,early shift\n")
	require.Contains(t, come("mira.dunn", "oid"), "Account <strong>without a name</strong>, found by the name")
	require.Contains(t, v.get(roster+"/accounts.csv").page.body, "\nmira.dunn,,\n", "the list grows")
	planner := d.host("possession-planner")
	for who, want := range map[string]string{"bram.oduya": "Account <strong>Bram Oduya</strong> (coast line), found by <code>email</code>",
		"rhea.stone": "No account of this application has the <code>email</code>"} {
		require.Contains(t, newVisitor(t).get(planner+"/start").as(who).page.body, want)
	}
	require.Contains(t, v.get(planner+"/accounts.csv").page.body, "\nrhea.stone@wrenmoor.example,,\n")
	v.post(planner+"/accounts", url.Values{"onlyKnown": {"1"}})
	require.Contains(t, newVisitor(t).get(planner+"/start").as("ada.fenwick").page.text,
		"there is no account for ada.fenwick")
	v.post(roster+"/accounts", url.Values{"onlyKnown": {"1"}})
	require.Contains(t, come("rhea.stone", ""), "not let in here: there is no account for rhea.stone@wrenmoor.example")
	require.Contains(t, come("ada.fenwick", ""), "found by the name")

	file := filepath.Join(t.TempDir(), "accounts.csv")
	require.NoError(t, os.WriteFile(file, []byte("E-mail;x\n"), 0o600))
	_, stderr, code := d.cli(t, "", "standin", "app", "--gate", d.Base, "--only-known")
	require.Equal(t, 2, code, stderr)
	_, stderr, code = d.cli(t, "", "standin", "provider", "--gate", d.Base, "--names", "long")
	require.Equal(t, 2, code, stderr)
	require.Contains(t, stderr, "oid, uri or short")
}
