package e2e

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// People are listed, made known, disabled, enabled and removed, by the command line and in
// the console, and sign-ins follow at once.
func TestPeople(t *testing.T) {
	d, err := startDemo(t.TempDir(), "127.0.0.1:0")
	require.NoError(t, err)
	defer d.stop()
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
		{"listed", []string{"person", "list"}, 0, subject + " (oakhollow)"},
		{"shown", []string{"person", "show", "1"}, 0, "1 session"},
		{"no such one", []string{"person", "show", "7"}, 1, `no person "7"`},
		{"no number", []string{"person", "show", "mina"}, 2, "numbered from 1"},
		{"no state", []string{"person", "list", "--state", "gone"}, 1, "enabled or disabled"},
		{"disabled", []string{"--remark", "left the company", "person", "disable", "1"}, 0, "disabled since"},
		{"twice", []string{"person", "disable", "1"}, 1, "disabled already"},
		{"in the history", []string{"history", "list", "--limit", "1"}, 0, "disabled"},
		{"not removed unasked", []string{"person", "remove", "1"}, 2, "Add --yes"},
		{"known only", []string{"provider", "set", "season-club", "firstSignIn=known"}, 0, "changed season-club"},
		{"added", []string{"person", "add", "season-club", "72911298046304926"}, 0, "season-club"},
		{"added twice", []string{"person", "add", "season-club", "72911298046304926"}, 1, "by that name already"},
		{"added to no provider", []string{"person", "add", "season-clb", "x"}, 1, `did you mean "season-club"?`},
	} {
		out, stderr, code := d.cli(t, "", c.args...)
		require.Equal(t, c.code, code, "%s: %s%s", c.rule, out, stderr)
		require.Contains(t, out+stderr, c.want, c.rule)
	}
	require.Contains(t, come(), "Your account is closed at the moment")
	v := newVisitor(t)
	v.get(d.Base + "/open/track-access")
	require.Contains(t, v.comes("season-club").page.text, "You are in as 72911298046304926", "who was made known comes")

	c := startChromium(t)
	c.signInToConsole(d)
	c.press("Admit")
	c.see(subject)
	c.see("✕ disabled")
	c.press("1")
	c.see("Known as")
	c.press("Enable")
	c.see("● enabled")
	require.Contains(t, come(), "You are in as")
	c.press("Disable")
	c.see("Sessions and grants end at once")
	c.press("Leave it")
	c.open(d.Console + "admit/people/1")
	c.shot("person")
	c.press("Remove")
	c.see("Remove person 1?")
	c.until(`(() => { const b = [...document.querySelectorAll('.el-message-box button')].find(e => e.innerText.trim() === 'Remove'); if (!b) return false; b.click(); return true })()`)
	c.see("Make somebody known before they come")
	c.until("!document.body.innerText.includes('" + subject + "')")
}
