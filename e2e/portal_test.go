package e2e

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestPortal(t *testing.T) {
	d, err := startDemo(t.TempDir(), "127.0.0.1:0")
	require.NoError(t, err)
	defer d.stop()
	v := newVisitor(t).get(d.Base + "/")
	t.Log(v.page.url, v.page.text)
	v.post(v.page.action, map[string][]string{"provider": {"wrenmoor-staff"}}).as("bram.oduya")
	t.Log(v.page.url, v.page.text)
	c := startChromium(t)
	c.open(d.Base + "/")
	c.shot("portal-choose")
	c.press("Wrenmoor staff accounts")
	c.fill("input[name=username]", "dov.petrak")
	c.fill("input[name=password]", "wrenmoor-demo")
	c.press("Sign in")
	c.see("Crew roster")
	c.open(d.Base + "/")
	c.shot("portal")
	c.open(d.Base + "/person")
	c.shot("person")
	v.get(d.Base + "/person")
	t.Log(v.page.url, v.page.text)
}
