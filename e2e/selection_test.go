package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
)

// types gives an address on the page that asks for one.
func (v *visitor) types(address string) *visitor {
	v.t.Helper()
	require.Contains(v.t, v.page.text, "What is your e-mail address or user name?")
	return v.post(v.page.action, url.Values{"address": {address}})
}

// By which provider somebody comes: two of one domain by two providers, and who types a colleague's address ends by
// their own way.
func TestByWhichProvider(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	run := d.runs(t)
	// Bad input, wherever a name can stand.
	run(1, `did you mean "oakhollow"?`, "selection", "put", "x", "title=X", "providers=oakhollw")
	run(1, `did you mean "track-access"?`, "selection", "put", "x", "title=X", "providers=oakhollow",
		"applications=track-acces")
	run(1, "is tied to wrenmoor-staff", "selection", "put", "x", "title=X", "providers=oakhollow",
		"applications=crew-roster")
	run(1, "is no domain", "selection", "put", "x", "title=X", "providers=oakhollow", "domains=oakhollow..example")
	run(1, "is no domain", "provider", "set", "oakhollow", "domains=*.oakhollow.example")
	run(1, "anybody can have an address", "provider", "set", "oakhollow", "domains=gmail.com")
	run(2, "NAME is missing", "selection", "put")
	run(1, "no e-mail address", "selection", "try", "track-access", "--email", "nobody@")
	run(0, "No rules", "selection", "list", "--application", "seat-finder")

	// The page asks for the address; its domain says where to go on, and it is not typed twice.
	run(0, "Petra Qui", "selection", "domains")
	v := newVisitor(t).get(d.host("track-access") + "/start")
	require.Contains(t, v.types("not@an address").page.text, "That is no e-mail address")
	require.Contains(t, v.types("<b>x</b>@post.example"+strings.Repeat("x", 10<<10)).page.text, "no e-mail address")
	require.Contains(t, v.types("rosa@post.example").page.text, "Nobody signs in here by an address at post.example")
	v.types("Mina.Thorne@OAKHOLLOW.example")
	require.Equal(t, d.host("oakhollow"), v.page.url.Scheme+"://"+v.page.url.Host)
	require.Contains(t, v.page.body, `value="Mina.Thorne@OAKHOLLOW.example"`, "it is not typed twice")
	v.submit("username", "mina.thorne", "password", "oakhollow-demo").onward()
	require.Contains(t, v.page.text, "You are in as")
	// A user name has no domain; it goes on to whatever is chosen then, and so does an address that is nobody's.
	for _, typed := range []string{"mina.thorne", "mina.thorne@post.example"} {
		v = newVisitor(t).get(d.host("track-access") + "/start").types(typed)
		v.post(v.page.action, url.Values{"provider": {"oakhollow"}})
		require.Contains(t, v.page.body, `value="`+typed+`"`, "it is not typed twice")
	}
	require.Contains(t, newVisitor(t).get(d.host("track-access")+"/start").types("mina.thorne").page.text,
		"does not tell where you sign in")
	require.Contains(t, run(0, "", "selection", "list"),
		"Whoever wants to enter track-access is asked for their address first.")

	// The last choice is remembered, and can be changed.
	v = newVisitor(t).get(d.host("track-access") + "/start")
	require.NotContains(t, v.page.text, "as last time")
	v.post(v.page.action, url.Values{"provider": {"season-club"}})
	v.get(d.host("track-access") + "/start")
	require.Contains(t, v.page.text, "Season ticket club as last time")
	v.post(v.page.action, url.Values{"provider": {"oakhollow"}})
	require.Contains(t, v.get(d.host("track-access")+"/start").page.text, "Oakhollow Signalling as last time")

	// What somebody reads while typing, and a stranger who tries many.
	says := func(domain string) string {
		res, err := http.Get(d.Base + "/ways?domain=" + domain)
		require.NoError(t, err)
		defer res.Body.Close()
		buf := make([]byte, 200)
		n, _ := res.Body.Read(buf)
		return string(buf[:n])
	}
	require.Equal(t, "You go on to Oakhollow Signalling.", says("Oakhollow.example"))
	require.Empty(t, says("post.example"))

	// Two of one domain by two ways: a typed address stands for who has it, and who signs in decides.
	run(0, "", "group", "put", "pilots", "--title", "Pilots")
	run(0, "", "person", "set", "2", "--join", "group/pilots")
	run(0, "", "provider", "set", "oakhollow", "matchBy=emails", "vouchesFor=oakhollow.example")
	run(1, "name the domains", "selection", "put", "pilots", "title=Pilots", "applications=track-access", "groups=pilots",
		"typed=true", "providers=season-club")
	run(0, "", "selection", "put", "pilots", "title=Pilots come by the club", "applications=track-access", "order=10",
		"domains=wrenmoor.example", "groups=pilots", "typed=true",
		"providers=season-club", "--yes")
	for _, named := range []string{"provider remove season-club --yes", "group remove pilots",
		"app remove track-access --yes"} {
		run(1, "is named by selection/pilots", strings.Fields(named)...)
	}
	v = newVisitor(t).get(d.host("track-access") + "/start").types("bram.oduya@wrenmoor.example")
	require.Equal(t, d.host("season-club"), v.page.url.Scheme+"://"+v.page.url.Host, "a pilot")
	v = newVisitor(t).get(d.host("track-access") + "/start").types("celia.marsh@wrenmoor.example")
	require.Equal(t, d.host("wrenmoor-staff"), v.page.url.Scheme+"://"+v.page.url.Host, "nobody of the pilots")
	v.submit("username", "celia.marsh", "password", "wrenmoor-demo").onward()
	require.Contains(t, v.page.text, "You are in as")
	// Bram Oduya types a colleague's address, signs in as himself, and is sent on to his own way.
	v = newVisitor(t).get(d.host("track-access") + "/start").types("celia.marsh@wrenmoor.example")
	v.submit("username", "bram.oduya", "password", "wrenmoor-demo").onward()
	require.Equal(t, d.host("season-club"), v.page.url.Scheme+"://"+v.page.url.Host, "%s", v.page.text)
	run(0, "season-club", "selection", "try", "track-access", "--person", "2")
	c := startChromium(t)
	c.bothWays(d)
	list, err := client.Call(t.Context(), d.client(), api.ListTraces, api.TraceFilter{Application: "track-access",
		Limit: 20})
	require.NoError(t, err)
	require.NotEmpty(t, list.Items)

	// A rule that would send everybody away from the only working provider is confirmed; owners still come in.
	run(0, "get another", "selection", "put", "nobody", "title=Nobody", "order=0", "providers=season-club", "--dry-run")
	run(1, "way-lost", "selection", "put", "nobody", "title=Nobody", "order=0", "providers=season-club")
	run(0, "", "selection", "put", "nobody", "title=Nobody", "order=0", "providers=season-club", "--yes")
	run(0, "", "provider", "pause", "season-club", "--yes")
	run(3, "way-dead", "check")
	run(3, "way-none", "check", "track-access")
	c.signInToConsole(d)
	c.open(d.Console + "admit/selection?application=track-access")
	c.see("Owners always come in at")
	c.see("Track access asks for the address")
	run(0, "", "provider", "resume", "season-club", "--yes")
	run(0, "removed", "selection", "remove", "nobody", "--yes")
	c.open(d.Console + "admit/selection?application=track-access")
	c.see("Pilots come by the club")
	c.fill("input[name=email]", "mina@oakhollow.example")
	c.press("Find the way")
	c.see("the domain oakhollow.example belongs to it")
	c.shot("selection")
	c.open(d.Console + "connect/providers/oakhollow")
	c.see("Which ways lead here")
	c.see("are its own")

	// The page while somebody types, on a small screen too.
	c.signedOut()
	do(c, chromedp.EmulateViewport(390, 800))
	c.open(d.host("track-access") + "/start")
	c.see("What is your e-mail address or user name?")
	c.fill("input[name=address]", "mina@oakhollow.example")
	c.see("You go on to Oakhollow Signalling.")
	c.shot("address-small")
	do(c, chromedp.EmulateViewport(1280, 800))
	c.shot("address")
}

// bothWays signs two people of one domain in by two providers, in one browser after the other: who is a pilot, by the
// club.
func (c *chromium) bothWays(d *demo) {
	c.t.Helper()
	run := d.runs(c.t)
	v := newVisitor(c.t).get(d.host("track-access") + "/start").types("rosa.finch")
	v.post(v.page.action, url.Values{"provider": {"season-club"}}).submit("username", "rosa.finch", "password",
		"club-demo").onward()
	found, err := client.Call(c.t.Context(), d.client(), api.ListPeople,
		api.PeoplePage{PeopleFilter: api.PeopleFilter{Provider: "season-club"}, Limit: 2})
	require.NoError(c.t, err)
	require.Len(c.t, found.Items, 1)
	run(0, "", "person", "set", fmt.Sprint(found.Items[0].Number), "emails=rosa.finch@wrenmoor.example", "--join",
		"group/pilots")
	for _, who := range []struct{ types, at, username, password string }{{"ada.fenwick", "wrenmoor-staff", "ada.fenwick",
		"wrenmoor-demo"},
		{"rosa.finch", "season-club", "rosa.finch", "club-demo"}} {
		c.signedOut()
		c.open(d.host("track-access") + "/start")
		c.fill("input[name=address]", who.types+"@wrenmoor.example")
		c.press("Go on")
		c.until(`location.origin === ` + quoteJS(d.host(who.at)))
		c.set("input[name=username]", who.username) // it has the address that was typed
		c.fill("input[name=password]", who.password)
		c.press("Sign in")
		c.see("You are in as")
	}
}

// The recipes of docs/selection.md do what they say.
func TestRecipesOfSelection(t *testing.T) {
	want := map[string][][2]string{ // what try is asked, and by which providers they come
		"Each company by its own provider, by the domain of the address": {{"track-access --email mina@oakhollow.example",
			"oakhollow"},
			{"track-access --email ada@wrenmoor.example", "wrenmoor-staff"}, {"track-access", "?"}},
		"Straight to one provider from the office": {{"track-access --network 192.0.2.7",
			"wrenmoor-staff"}, {"track-access --network 203.0.113.9", "+"}},
		"Two providers for one application": {{"seat-finder", "season-club wrenmoor-staff"},
			{"seat-finder --provider oakhollow", "season-club wrenmoor-staff"}},
		"Two providers of one domain, of which the person chooses": {{"track-access --email ada@wrenmoor.example",
			"oakhollow wrenmoor-staff"}},
		"Contractors by their own company's provider, whatever they type": {{"track-access --person 17", "oakhollow"},
			{"track-access --person 1", "wrenmoor-staff"}},
		"A few people of one domain by another provider first": {{"track-access --person 1", "season-club"},
			{"track-access --person 4", "wrenmoor-staff"}},
		"As the application hints": {{"track-access --hint urn:oasis:names:tc:SAML:2.0:ac:classes:SmartcardPKI",
			"wrenmoor-staff"}, {"track-access", "+"}},
		"One provider, forced": {{"track-access --provider oakhollow",
			"wrenmoor-staff"}},
	}
	cook(t, "../docs/selection.md", 8, func(d *demo, title string) {
		require.NotEmpty(t, want[title], title)
		for _, w := range want[title] {
			out, stderr, code := d.cli(t, "", append([]string{"selection", "try", "--output", "json"},
				strings.Fields(w[0])...)...)
			require.Zero(t, code, "%s: %s", title, stderr)
			var got api.WayFound
			require.NoError(t, json.Unmarshal([]byte(out), &got))
			switch w[1] {
			case "?":
				require.True(t, got.Ask, "%s: %s", title, w[0])
			case "+":
				require.Greater(t, len(got.Providers), 1, "%s: %s: %v", title, w[0], got)
			default:
				require.Equal(t, w[1], strings.Join(got.Providers, " "), "%s: %s: %v", title, w[0], got.Why)
			}
		}
	})
}
