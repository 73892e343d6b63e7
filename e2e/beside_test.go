package e2e

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
)

// A sign-in that failed is held against the last that went well: by command, by the API and in the console it is said
// where the two part, and by what, letter by letter.
func TestSignInsAreCompared(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	run := d.runs(t)
	newest := func() string {
		l, err := client.Call(t.Context(), d.client(), api.ListTraces, api.TraceFilter{Limit: 1})
		require.NoError(t, err)
		return l.Items[0].ID
	}
	start := d.host("crew-roster") + "/start"
	newVisitor(t).get(start).signIn("wrong-audience").onward()
	alone := newest()
	run(1, "no sign-in to crew-roster before "+alone+" entered", "trace", "compare", alone)
	run(2, "a reference is missing", "trace", "compare")
	run(1, `there is no trace "77777-77777"`, "trace", "compare", alone, "77777-77777")

	newVisitor(t).get(start).as("ada.fenwick") // links her account
	newVisitor(t).get(start).as("ada.fenwick")
	good := newest()
	newVisitor(t).get(start).as("ada.fenwick")
	run(0, "Their steps are alike", "trace", "compare", newest())
	newVisitor(t).get(start).signIn("clock-behind").onward()
	behind := newest()
	newVisitor(t).get(start).signIn("wrong-audience").onward()
	bad := newest()

	for _, c := range []struct{ first, second, finding, says string }{
		{good, bad, "audience-other", "From here on they part:\nprovider → gate         Response"},
		{good, bad, "audience-other", "second  https://somebody-else.example/saml\n                  ^ from here on"},
		{alone, bad, "", "Their steps are alike"},
		{good, behind, "", "as a whole              sign-in"},
	} {
		out, errs, code := d.cli(t, "", "trace", "compare", c.second, c.first)
		require.Zero(t, code, errs)
		require.Contains(t, out, c.says)
		require.Contains(t, out, c.finding)
		require.NotContains(t, out, "› @ID\n", "what is bound to differ is counted only")
	}
	out, _, _ := d.cli(t, "", "trace", "compare", bad, good, "--all")
	require.Contains(t, out, "Response › @ID, as it is bound to")
	require.NotContains(t, out, "SAMLRequest=", "what was sent is told value by value")

	both, err := client.Call(t.Context(), d.client(), api.CompareTraces, api.TraceBeside{Name: strings.ToLower(bad),
		With: good})
	require.NoError(t, err)
	require.Equal(t, []string{good, bad}, []string{both.First.ID, both.Second.ID})
	require.Equal(t, "Response", both.Steps[both.Parts].Name)
	require.Equal(t, "refused", both.Steps[both.Parts].Lines[0].Label)

	c := startChromium(t)
	c.signInToConsole(d)
	c.open(d.Console + "watch/traces/" + bad)
	c.press("Compare with the last that entered")
	c.see("From here on they part")
	c.see("https://somebody-else.example/saml")
	c.shot("compare")
	c.until(`(() => { const e = document.querySelector('.el-checkbox'); if (!e) return false; e.click(); return true })()`)
	c.see("Response › @ID")
	odd := c.accessible(axe(t), "two sign-ins compared")
	require.Empty(t, odd, strings.Join(odd, "\n"))
	do(c, chromedp.EmulateViewport(390, 800))
	c.shot("compare-narrow")
	require.LessOrEqual(t, do(c, chromedp.Evaluate[int](`document.documentElement.scrollWidth`)), 390)
	c.set("#other", "77777-77777")
	c.press("Compare")
	c.see(`there is no trace "77777-77777"`)
}
