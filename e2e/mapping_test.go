package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/api"
)

// Mappings are tried on a sign-in that was recorded, saved, seen at the applications, and
// taken back, all from the command line.
func TestMappingOnTheCommandLine(t *testing.T) {
	d, err := startDemo(t.TempDir(), "127.0.0.1:0")
	require.NoError(t, err)
	defer d.stop()
	dir := t.TempDir()
	file := func(name, rules string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(`{"rules":[`+rules+`]}`), 0o600))
		return path
	}
	intake := file("intake.json", `{"to":{"name":"userName"},"from":[{"attribute":"preferred_username"}],"steps":[{"do":"upper"}]},
		{"to":{"name":"groups"},"from":[{"attribute":"groups"}],"note":"for the rosters"}`)
	release := file("release.json", `{"to":{"subject":true},"from":[{"attribute":"userName"}]},
		{"to":{"name":"depot"},"from":[{"constant":"north"}]}`)
	broken := file("broken.json", `{"to":{"name":"x"},"from":[{"attribute":"a"}],"steps":[{"do":"keep","text":"a(b"}]}`)

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
		{"as it is", []string{"mapping", "try", "--trace", trace}, 0, []string{"Received of oakhollow", "Mina Thorne", "Told track-access"}},
		{"as it would be", []string{"mapping", "try", "--trace", trace, "--intake", intake, "--release", release}, 0,
			[]string{"userName is made of preferred_username", "Told track-access: MINA.THORNE", "north"}},
		{"with given values", []string{"mapping", "try", "--app", "track-access", "--release", release, "userName=ada"}, 0,
			[]string{"Told track-access: ada"}},
		{"broken", []string{"mapping", "try", "--trace", trace, "--intake", broken}, 2, []string{"character 1", "missing closing"}},
		{"broken, saved", []string{"provider", "set", "oakhollow", "intakeMapping=@" + broken}, 1,
			[]string{"intakeMapping.rules[0].steps[0].text"}},
		{"no trace", []string{"mapping", "try", "--trace", "00000-00000"}, 1, []string{"there is no trace"}},
		{"no application", []string{"mapping", "try", "--app", "track-acces", "a=b"}, 1, []string{`did you mean "track-access"?`}},
		{"no record", []string{"mapping", "show", "oakhollow"}, 2, []string{"provider/NAME"}},
		{"saved", []string{"provider", "set", "oakhollow", "intakeMapping=@" + intake}, 0, []string{"changed oakhollow"}},
		{"and shown", []string{"mapping", "show", "provider/oakhollow"}, 0, []string{"preferred_username, upper", "for the rosters"}},
		{"released", []string{"app", "set", "track-access", "releaseMapping=@" + release}, 0, []string{"changed track-access"}},
	} {
		out, stderr, code := d.cli(t, "", c.args...)
		require.Equal(t, c.code, code, "%s: %s%s", c.rule, out, stderr)
		for _, want := range c.want {
			require.Contains(t, out+stderr, want, c.rule)
		}
	}

	v = newVisitor(t)
	v.get(d.Base + "/open/track-access")
	text := v.comes("oakhollow").page.text
	require.Contains(t, text, "You are in as MINA.THORNE")
	require.Contains(t, text, "north")
	require.NotContains(t, text, "Thorne", "what no rule makes is not told")
	_, stderr, code = d.cli(t, "", "app", "set", "track-access", "releaseMapping=")
	require.Zero(t, code, stderr)
	out, stderr, code = d.cli(t, "", "mapping", "show", "application/track-access")
	require.Zero(t, code, stderr)
	require.Contains(t, out, "everything passes unchanged")
}
