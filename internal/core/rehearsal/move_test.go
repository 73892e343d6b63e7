package rehearsal_test

import (
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/rehearsal"
)

// What is done on a page: the password goes into one field of one form, at the provider's hosts alone, once.
func TestNextOnAPage(t *testing.T) {
	ada := rehearsal.Typist{Username: "ada", Hosts: []string{"idp.example"}}
	typed := ada
	typed.Typed = true
	local := rehearsal.Typist{Username: "ada", Hosts: []string{"127.0.0.1:81", "idp.example"}, Plain: true}
	const form = `<form method=post action=/in><input type=hidden name=k value=1><label>User name <input name=user></label>
		<input type=password name=pw></form>`
	for what, c := range map[string]struct {
		by   rehearsal.Typist
		at   string
		html string
		want string // the move: address, fields, [password field]; or a part of why not
	}{
		"a plain form":               {ada, "https://idp.example/", form, "POST https://idp.example/in k=1&user=ada [pw]"},
		"asked again":                {typed, "https://idp.example/", form, "test-account-refused"},
		"another host":               {ada, "https://evil.example/", form, "provider's hosts on record"},
		"a port":                     {ada, "https://idp.example:8443/", form, "provider's hosts on record"},
		"plain http":                 {ada, "http://idp.example/", form, "provider's hosts on record"},
		"http, in a demo, elsewhere": {local, "http://idp.example/", form, "provider's hosts on record"},
		"http on loopback, in a demo": {local, "http://127.0.0.1:81/", form,
			"POST http://127.0.0.1:81/in k=1&user=ada [pw]"},
		"leads elsewhere": {ada, "https://idp.example/", strings.Replace(form, "/in", "https://evil.example/in", 1),
			"provider's hosts on record"},
		"a base elsewhere": {ada, "https://idp.example/", `<base href="https://evil.example/">` + form,
			"provider's hosts on record"},
		"in the address": {ada, "https://idp.example/", strings.Replace(form, "post", "get", 1), "within the address"},
		"a new password": {ada, "https://idp.example/", strings.Replace(form, "</form>",
			"<input type=password name=pw2></form>", 1), "a new password"},
		"a code beside": {ada, "https://idp.example/", strings.Replace(form, "</form>", "<input name=otp></form>", 1),
			"second factor"},
		"a code": {typed, "https://idp.example/", `<form method=post><input name=x autocomplete=one-time-code></form>`,
			"second factor"},
		"more": {ada, "https://idp.example/", strings.Replace(form, "</form>",
			"<label>Staff number <input name=n></label></form>", 1), "Staff number"},
		"a puzzle": {ada, "https://idp.example/", form + "<p>Solve the captcha", "a person sits there"},
		"in pieces": {ada, "https://idp.example/", strings.Replace(form, "</form>",
			"</form><form enctype=multipart/form-data method=post><input type=password name=z>", 1), "POST https://idp.example/in k=1&user=ada [pw]"},
		"name first": {ada, "https://idp.example/", `<form method=post action=next><input type=email name=m><button name=b value=go>`,
			"POST https://idp.example/next b=go&m=ada"},
		"onward": {ada, "https://idp.example/", `<form method=post action=https://gate.example/acs><input type=hidden name=SAMLResponse value=x><button>Go</button></form>
			<script>document.forms[0].submit()</script>`, "POST https://gate.example/acs SAMLResponse=x"},
		"its default button": {ada, "https://gate.example/", `<form method=post action=/f><button name=agree value=yes>A</button><button name=agree value=no>B</button></form>`,
			"POST https://gate.example/f agree=yes"},
		"a list, a box": {ada, "https://idp.example/", `<form action=/g><select name=s><option value=1><option value=2 selected></select>
			<input type=checkbox name=c checked><input type=checkbox name=d></form>`, "GET https://idp.example/g c=on&s=2"},
		"refreshes":    {ada, "https://idp.example/a/", `<meta http-equiv=Refresh content="0; url=../b">`, "GET https://idp.example/b "},
		"by a script":  {ada, "https://idp.example/", `<div id=app></div><script src=app.js></script>`, "made by a script"},
		"in a frame":   {ada, "https://idp.example/", `<iframe src=/in></iframe>`, "in a frame"},
		"two forms":    {ada, "https://idp.example/", `<form action=/a></form><form action=/b></form>`, "several forms"},
		"very deep":    {ada, "https://idp.example/", strings.Repeat("<div>", 300_000) + form, "leads nowhere"},
		"nothing":      {ada, "https://idp.example/", "", "leads nowhere"},
		"script:":      {ada, "https://idp.example/", `<form method=post action="javascript:alert(1)"><button>x</button></form>`, "leads to no address"},
		"as a file":    {ada, "https://idp.example/", `<form method=post enctype=text/plain><button>x</button></form>`, "text/plain"},
		"sent by hand": {ada, "https://idp.example/", `<form method=post><input name=user><input type=password></form>`, "sent by a script"},
	} {
		at, err := url.Parse(c.at)
		require.NoError(t, err)
		m, err := c.by.Next(rehearsal.ReadPage(at, []byte(c.html)))
		if err != nil {
			require.Contains(t, err.Error()+string(finding.Of(err).Code), c.want, what)
			if c.want != string(finding.TestAccountRefused) {
				require.Equal(t, finding.RehearsalUndriven, finding.Of(err).Code, what)
			}
			continue
		}
		got := map[bool]string{true: "POST ", false: "GET "}[m.Post] + m.Address.String() + " " + m.Fields.Encode()
		if m.Password != "" {
			got += " [" + m.Password + "]"
		}
		require.Equal(t, c.want, got, what)
	}
}

// A page may be anything.
func FuzzReadPage(f *testing.F) {
	f.Add([]byte(`<form><input type=password name=p></form>`))
	at, _ := url.Parse("https://idp.example/")
	f.Fuzz(func(t *testing.T, octets []byte) {
		p := rehearsal.ReadPage(at, octets)
		m, err := rehearsal.Typist{Username: "ada", Hosts: []string{"idp.example"}}.Next(p)
		if err == nil && m.Password != "" {
			require.Equal(t, "idp.example", m.Address.Host)
			require.Equal(t, "https", m.Address.Scheme)
			require.True(t, m.Post)
		}
	})
}
