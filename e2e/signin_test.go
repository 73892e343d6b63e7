package e2e

import (
	"context"
	"encoding/base64"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/app"
	"innergate.example/innergate/internal/client"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/standin"
)

func TestSignInFromBothEnds(t *testing.T) {
	for _, c := range []struct{ rule, start, how string }{
		{"started at the application, request by Redirect", shared.host("crew-roster") + "/start?RelayState=shift-17",
			"started here"},
		{"started at the application, request by POST",
			shared.host("crew-roster") + "/start?binding=post&RelayState=shift-17", "started here"},
		{"started at the gate", shared.Base + "/open/crew-roster", "started at the gate"},
		{"started at the gate with a target", shared.Base + "/open/crew-roster?RelayState=" +
			url.QueryEscape(shared.host("crew-roster")+"/shift-17"), "started at the gate"},
		{"an application that accepts only its own starts is opened there", shared.Base + "/open/lost-property",
			"started here"},
	} {
		t.Run(c.rule, func(t *testing.T) {
			v := newVisitor(t).get(c.start).signIn("").onward()
			require.Contains(t, v.page.text, "ada.fenwick@wrenmoor.example")
			require.Contains(t, v.page.text, c.how)
			require.Contains(t, v.page.text, "Train driver", "attributes pass through")
			if strings.Contains(c.start, "shift-17") {
				require.Contains(t, v.page.text, "shift-17", "RelayState is carried")
			}
			// The second application needs no other trip to the provider.
			v.get(shared.host("lost-property") + "/start")
			require.NotContains(t, v.page.body, `name="password"`)
			v.onward()
			require.Contains(t, v.page.text, "You are in as ada.fenwick@wrenmoor.example")
		})
	}
}

func TestAnswersByArtifact(t *testing.T) {
	t.Parallel()
	d := ownDemo(t)
	ctx := context.Background()
	// Towards an application that asks for it.
	v := newVisitor(t).get(d.host("crew-roster") + "/start?binding=artifact&RelayState=art").signIn("").onward()
	require.Contains(t, v.page.text, "You are in as ada.fenwick@wrenmoor.example")
	require.Contains(t, v.page.text, "art")
	// From a provider that insists on it.
	_, _, code := d.cli(t, "", "provider", "set", "wrenmoor-staff", "useArtifact=true")
	require.Equal(t, 0, code)
	v = newVisitor(t).get(d.host("crew-roster") + "/start").signIn("")
	v.onward()
	require.Contains(t, v.page.text, "You are in as ada.fenwick@wrenmoor.example")
	list, err := client.Call(ctx, d.client(), api.ListTraces, api.TraceFilter{Result: "entered", Limit: 1})
	require.NoError(t, err)
	trace, err := client.Call(ctx, d.client(), api.ShowTrace, api.Name(list.Items[0].ID))
	require.NoError(t, err)
	require.Contains(t, trace.Steps[3].Binding, "HTTP-Artifact")
	// And on the face that providers share.
	_, errs, code := d.cli(t, "", "provider", "set", "wrenmoor-staff", "sharedFace=true")
	require.Equal(t, 0, code, errs)
	shared := startStandin(t, "provider", "--name", "sharing", "--gate", d.Base+"/saml/sp")
	_, errs, code = d.cli(t, "", "provider", "add", "sharing", "--metadata", shared+"/metadata")
	require.Equal(t, 0, code, errs)
	_, errs, code = d.cli(t, "", "provider", "set", "sharing", "sharedFace=true", "useArtifact=true")
	require.Equal(t, 0, code, errs)
	_, errs, code = d.cli(t, "", "app", "set", "crew-roster", "provider=sharing")
	require.Equal(t, 0, code, errs)
	v = newVisitor(t).get(d.host("crew-roster") + "/start").signIn("").onward()
	require.Contains(t, v.page.text, "You are in as ada.fenwick@wrenmoor.example")
	_, _, code = d.cli(t, "", "provider", "set", "wrenmoor-staff", "sharedFace=false")
	require.Equal(t, 0, code)
	_, _, code = d.cli(t, "", "app", "set", "crew-roster", "provider=wrenmoor-staff")
	require.Equal(t, 0, code)
	byRedirect, err := saml.ToRedirect(d.Base+"/saml/sp/wrenmoor-staff/acs", "SAMLResponse", []byte("<a/>"), "", nil)
	require.NoError(t, err)
	newVisitor(t).get(byRedirect.Location).refused(d, "response-by-redirect")
	// What the provider's faults do, they do through the back channel as well.
	newVisitor(t).get(d.host("crew-roster")+"/start").signIn("wrong-audience").refused(d, "audience-other")
	for _, f := range []string{"AAAA", "AAQAAIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIII="} {
		v := newVisitor(t).get(d.Base + "/saml/sp/wrenmoor-staff/acs?SAMLart=" + url.QueryEscape(f))
		require.Equal(t, http.StatusForbidden, v.page.status)
	}
	// The back channel answers nobody else, and once.
	stranger := startStandin(t, "app", "--gate", d.Base+"/saml/idp")
	newVisitor(t).get(stranger + "/acs?SAMLart=" +
		url.QueryEscape("AAQAAIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIIII="))
	res, err := http.Post(d.Base+"/saml/idp/artifact", "text/xml", strings.NewReader("<x/>"))
	require.NoError(t, err)
	res.Body.Close()
	require.Equal(t, http.StatusForbidden, res.StatusCode)
}

// What an application asks of the sign-in reaches the provider, and its refusal
// the application.
func TestWishesReachTheProvider(t *testing.T) {
	roster := shared.host("crew-roster") + "/start?"
	for query, want := range map[string]string{
		"passive=1": "NoPassive",
		"context=urn:oasis:names:tc:SAML:2.0:ac:classes:X509":    "NoAuthnContext",
		"context=" + saml.ContextPassword + "&comparison=better": "NoAuthnContext",
	} {
		v := newVisitor(t).get(roster + query).onward()
		require.Contains(t, v.page.text, want, query)
	}
	v := newVisitor(t).get(roster + "context=" + saml.ContextPassword).signIn("").onward()
	require.Contains(t, v.page.text, "You are in as")
	require.Contains(t, v.get(roster+"passive=1").onward().page.text, "You are in as", "who is in need not be asked")
}

func TestTraceShowsEveryMessage(t *testing.T) {
	ctx := context.Background()
	newVisitor(t).get(shared.host("crew-roster") + "/start?binding=post&RelayState=trace-me").signIn("").onward()
	list, err := client.Call(ctx, shared.client(), api.ListTraces, api.TraceFilter{Application: "crew-roster",
		Result: "entered", Limit: 1})
	require.NoError(t, err)
	trace, err := client.Call(ctx, shared.client(), api.ShowTrace, api.Name(list.Items[0].ID))
	require.NoError(t, err)
	var names []string
	for _, s := range trace.Steps {
		names = append(names, string(s.From)+">"+string(s.To)+" "+s.Name)
	}
	require.Equal(t, []string{"application>gate AuthnRequest", "gate>gate select the provider",
		"gate>provider AuthnRequest", "provider>gate Response",
		"gate>gate intake", "gate>gate match the person", "gate>gate decide access", "gate>gate release",
		"gate>application Response"}, names)
	require.Equal(t, "ada.fenwick@wrenmoor.example", trace.Person)
	for _, i := range []int{3, 8} {
		s := trace.Steps[i]
		require.Contains(t, s.Octets, "ada.fenwick@wrenmoor.example", "decoded")
		require.Contains(t, s.Octets, "SignatureValue>held back until", "an assertion still valid is not shown whole")
		raw, err := base64.StdEncoding.DecodeString(s.Raw)
		require.NoError(t, err)
		require.Contains(t, string(raw), "held back until")
	}
	require.Equal(t, "trace-me", trace.Steps[8].RelayState)
}

func TestGateRefuses(t *testing.T) {
	acs := shared.Base + "/saml/sp/wrenmoor-staff/acs"
	roster := shared.host("crew-roster")
	atProvider := func(t *testing.T, fault string) *visitor { return newVisitor(t).get(roster + "/start").signIn(fault) }
	for _, f := range standin.ProviderFaults() {
		if f.Finding == "" {
			continue // odd, and legal
		}
		t.Run("the provider's fault "+f.Name, func(t *testing.T) {
			if f.Name == "replay" {
				atProvider(t, "").onward()
			}
			v := atProvider(t, f.Name).onward()
			if f.Name != "denied" && f.Name != "no-proxy" {
				v.refused(shared, f.Finding)
				return
			}
			// These the application hears.
			require.Contains(t, v.page.text, "The provider answered with a refusal", v.page.text)
			list, err := client.Call(context.Background(), shared.client(), api.ListTraces,
				api.TraceFilter{Search: f.Finding, Limit: 1})
			require.NoError(t, err)
			require.Len(t, list.Items, 1)
		})
	}
	for _, f := range standin.ApplicationFaults() {
		t.Run("the application's fault "+f.Name, func(t *testing.T) {
			if f.Name == "name-format" { // whether there is such a name shows once somebody has signed in
				v := newVisitor(t).get(roster + "/start?fault=" + f.Name).onward().as("ada.fenwick")
				require.Contains(t, v.page.text, "InvalidNameIDPolicy", "the application hears it")
				return
			}
			newVisitor(t).get(roster+"/start?fault="+f.Name).onward().refused(shared, f.Finding)
		})
	}
	require.GreaterOrEqual(t, len(standin.ProviderFaults()), 20)
	require.GreaterOrEqual(t, len(standin.ApplicationFaults()), 10)
	edited := func(t *testing.T, edit func(xml string) string) *visitor {
		v := atProvider(t, "")
		xml, err := base64.StdEncoding.DecodeString(v.page.fields.Get("SAMLResponse"))
		require.NoError(t, err)
		changed := edit(string(xml))
		require.NotEqual(t, string(xml), changed)
		return v.submit("SAMLResponse", base64.StdEncoding.EncodeToString([]byte(changed)))
	}
	t.Run("an altered answer", func(t *testing.T) {
		edited(t, func(s string) string {
			return strings.ReplaceAll(s, "ada.fenwick@", "eve@")
		}).refused(shared, "signature-altered")
	})
	t.Run("an answer with a DOCTYPE", func(t *testing.T) {
		edited(t, func(s string) string { return "<!DOCTYPE x>" + s }).refused(shared, "xml-doctype")
	})
	t.Run("an answer of another issuer", func(t *testing.T) {
		edited(t, func(s string) string {
			return strings.ReplaceAll(s, "accounts.wrenmoor", "evil.wrenmoor")
		}).refused(shared, "issuer-other")
	})
	t.Run("an answer for another destination", func(t *testing.T) {
		edited(t, func(s string) string {
			return strings.Replace(s, `Destination="`+acs, `Destination="https://x.example`, 1)
		}).refused(shared, "destination-other")
	})
	t.Run("a wrapped answer", func(t *testing.T) {
		edited(t, func(s string) string {
			from, to := strings.Index(s, "<saml:Assertion "), strings.Index(s, "</saml:Assertion>")+len("</saml:Assertion>")
			evil := strings.NewReplacer("ada.fenwick@", "eve@", ` ID="_`, ` ID="_evil`).Replace(s[from:to])
			return s[:from] + evil + s[from:]
		}).refused(shared, "response-assertions")
	})
	t.Run("what is no message", func(t *testing.T) {
		newVisitor(t).post(acs, url.Values{"SAMLResponse": {"%%%"}}).refused(shared, "message-undecodable")
	})
	t.Run("an answer in another browser than it was asked for by", func(t *testing.T) {
		v := atProvider(t, "")
		newVisitor(t).post(v.page.action, v.page.fields).refused(shared, "crossing-other-browser")
		v.submit().refused(shared, "assertion-replayed") // consumed as soon as its signature held
	})
	t.Run("an answer to no request", func(t *testing.T) {
		v := atProvider(t, "")
		answer := v.page.fields
		other, err := startDemo(t.TempDir(), "127.0.0.1:0")
		require.NoError(t, err)
		defer other.stop()
		newVisitor(t).post(other.Base+"/saml/sp/wrenmoor-staff/acs", answer).refused(other, "signature-key")
	})
	t.Run("an unsolicited answer, and a provider that is unknown", func(t *testing.T) {
		v := atProvider(t, "").onward().get(shared.host("wrenmoor-staff") + "/")
		v.submit("target", "crew-roster")
		v.onward().refused(shared, "unsolicited-refused")
		newVisitor(t).post(shared.Base+"/saml/sp/nobody/acs", v.page.fields).refused(shared, "provider-unknown")
	})
	t.Run("a start for an application that is unknown, and a foreign target", func(t *testing.T) {
		newVisitor(t).get(shared.Base+"/open/nothing").refused(shared, "start-unknown")
		newVisitor(t).get(shared.Base+"/open/crew-roster?RelayState=https://evil.example/").refused(shared, "target-foreign")
	})
	t.Run("a request of an unknown application", func(t *testing.T) {
		stranger := startStandin(t, "app", "--gate", shared.Base+"/saml/idp")
		newVisitor(t).get(stranger+"/start").refused(shared, "application-unknown")
	})
	t.Run("a request for an unregistered address", func(t *testing.T) {
		ctx := context.Background()
		app := startStandin(t, "app", "--gate", shared.Base+"/saml/idp")
		metadata := strings.Replace(newVisitor(t).get(app+"/metadata").page.body, app+"/acs", app+"/other-acs", 1)
		_, err := client.Call(ctx, shared.client(), api.RecordsOf("application").Add,
			api.Body(api.NewRecord{Name: "moved", Settings: federation.Settings{"provider": "wrenmoor-staff"},
				Given: api.Given{Metadata: metadata}}))
		require.NoError(t, err)
		newVisitor(t).get(app+"/start").refused(shared, "acs-unregistered")
		require.NoError(t, client.Do(ctx, shared.client(), api.RecordsOf("application").Remove, api.Name("moved")))
	})
	t.Run("a request at the wrong destination", func(t *testing.T) {
		v := newVisitor(t).get(roster + "/start?binding=post")
		xml, err := base64.StdEncoding.DecodeString(v.page.fields.Get("SAMLRequest"))
		require.NoError(t, err)
		unsigned := strings.Replace(string(xml), "/saml/idp/sso", "/elsewhere", 1)
		from, to := strings.Index(unsigned, "<ds:Signature "),
			strings.Index(unsigned, "</ds:Signature>")+len("</ds:Signature>")
		v.submit("SAMLRequest", base64.StdEncoding.EncodeToString([]byte(unsigned[:from]+unsigned[to:]))).refused(shared,
			"destination-other")
	})
	t.Run("a crossing that is unknown", func(t *testing.T) {
		newVisitor(t).get(shared.Base+"/crossing/aaaaaaaaaaaaaaaaaaaaaaaaaa").refused(shared, "crossing-unknown")
	})
	t.Run("a foreign host", func(t *testing.T) {
		req, err := http.NewRequest(http.MethodGet, shared.Base+"/saml/idp", nil)
		require.NoError(t, err)
		req.Host = "evil.example"
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		res.Body.Close()
		require.Equal(t, http.StatusMisdirectedRequest, res.StatusCode)
	})
}

func TestReloadedAnswerIsNoAlarm(t *testing.T) {
	v := newVisitor(t).get(shared.host("crew-roster") + "/start").signIn("")
	action, fields := v.page.action, v.page.fields
	v.onward()
	v.post(action, fields)
	require.Equal(t, http.StatusOK, v.page.status)
	require.Contains(t, v.page.text, "You are already signed in")
}

func TestTwoTabsDoNotDisturbEachOther(t *testing.T) {
	v := newVisitor(t).get(shared.host("crew-roster") + "/start").signIn("")
	first := v.page
	v.get(shared.host("lost-property") + "/start").onward()
	require.Contains(t, v.page.text, "You are in as", "the second tab uses the provider's session")
	v.page = first
	v.onward()
	require.Contains(t, v.page.text, "You are in as")
}

func TestUnsolicitedAnswerBecomesAStartWhereAllowed(t *testing.T) {
	ctx := context.Background()
	provider := startStandin(t, "provider", "--name", "branch", "--gate", shared.Base+"/saml/sp/branch")
	_, err := client.Call(ctx, shared.client(), api.RecordsOf("provider").Add,
		api.Body(api.NewRecord{Name: "branch", Settings: federation.Settings{"allowUnsolicited": true},
			Given: api.Given{Address: provider + "/metadata"}}))
	require.NoError(t, err)
	app := startStandin(t, "app", "--name", "branch-app", "--gate", shared.Base+"/saml/idp")
	_, err = client.Call(ctx, shared.client(), api.RecordsOf("application").Add,
		api.Body(api.NewRecord{Name: "branch-app", Settings: federation.Settings{"provider": "branch"},
			Given: api.Given{Address: app + "/metadata"}}))
	require.NoError(t, err)
	v := newVisitor(t).get(app + "/start").signIn("").onward()
	require.Contains(t, v.page.text, "You are in as")
	v.get(provider+"/").submit("target", "branch-app")
	v.onward()
	require.Contains(t, v.page.text, "started at the gate")
	v.get(provider+"/").submit("target", "nowhere")
	v.onward().refused(shared, "unsolicited-target")
	require.Contains(t, v.get(provider+"/").submit("target", "").onward().page.text, "Your applications",
		"without a target to the portal")

	err = client.Do(ctx, shared.client(), api.RecordsOf("provider").Remove, api.Name("branch"))
	require.ErrorContains(t, err, "branch-app", "a provider in use is not removed")
	require.NoError(t, client.Do(ctx, shared.client(), api.RecordsOf("application").Remove, api.Name("branch-app")))
	require.NoError(t, client.Do(ctx, shared.client(), api.RecordsOf("provider").Remove, api.Name("branch")))
}

func TestRestartBreaksNoSignInAndForgetsNoAssertion(t *testing.T) {
	dir := t.TempDir()
	port := freePorts(t)
	d, err := startDemo(dir, port)
	require.NoError(t, err)
	waiting := newVisitor(t).get(d.host("crew-roster") + "/start").signIn("")
	ended := newVisitor(t).get(d.host("crew-roster") + "/start").signIn("")
	used := ended.page
	ended.onward()
	require.Contains(t, ended.page.text, "You are in as")
	d.stop()
	require.NotContains(t, d.out.String(), "ERROR")

	again, err := startDemo(dir, port)
	require.NoError(t, err)
	defer again.stop()
	waiting.submit()
	require.Contains(t, waiting.page.body, "SAMLResponse", "the gate answers the request from before the restart")
	newVisitor(t).post(used.action, used.fields).refused(again, "assertion-replayed")
	ended.get(d.host("crew-roster") + "/start")
	require.NotContains(t, ended.page.body, `name="password"`, "the session survives")
}

func TestDatabaseHoldsNoSecretInTheClear(t *testing.T) {
	newVisitor(t).get(shared.host("crew-roster") + "/start").signIn("").onward()
	_, err := client.Call(context.Background(), shared.client(), api.ListTraces,
		api.TraceFilter{}) // waits until traces are written
	require.NoError(t, err)
	for _, file := range []string{"innergate.db", "innergate.db-wal", "traces.db", "traces.db-wal"} {
		octets, err := os.ReadFile(shared.dir + "/data/data/" + file)
		require.NoError(t, err)
		for _, secret := range []string{"PRIVATE KEY", shared.Token, shared.Owner.Password, "<saml:Assertion",
			"SignatureValue"} {
			require.NotContains(t, string(octets), secret, "%s in %s", secret, file)
		}
	}
}

// The other side rolls its key over: people are refused until its metadata is
// taken in anew, and enter again from the next request on.
func TestOtherSideRollsItsKeyOver(t *testing.T) {
	for _, approve := range []bool{false, true} {
		name := fmt.Sprintf("rolling-%t", approve)
		var serving atomic.Pointer[http.Handler]
		srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			(*serving.Load()).ServeHTTP(w, r)
		}))
		t.Cleanup(srv.Close)
		people, err := app.People()
		require.NoError(t, err)
		roll := func() {
			h, err := (&standin.Provider{Name: name, Title: name, Base: srv.URL, Gate: shared.Base + "/saml/sp/" + name,
				People: people, Pair: newPair(t, name)}).Handler()
			require.NoError(t, err)
			serving.Store(&h)
		}
		roll()
		ctx, c := context.Background(), shared.client()
		_, err = client.Call(ctx, c, api.RecordsOf("provider").Add, api.Body(api.NewRecord{Name: name,
			Given: api.Given{Address: srv.URL + "/metadata"}, Settings: federation.Settings{"approveChanges": approve}}))
		require.NoError(t, err)
		application := startStandin(t, "app", "--name", name, "--gate", shared.Base+"/saml/idp")
		_, err = client.Call(ctx, c, api.RecordsOf("application").Add, api.Body(api.NewRecord{Name: name,
			Settings: federation.Settings{"provider": name},
			Given:    api.Given{Address: application + "/metadata"}}))
		require.NoError(t, err)
		enters := func() {
			v := newVisitor(t).get(application + "/start").signIn("").onward()
			require.Contains(t, v.page.text, "You are in as ada.fenwick@wrenmoor.example")
		}
		refused := func() { newVisitor(t).get(application+"/start").signIn("").submit().refused(shared, "signature-key") }
		enters()
		roll()
		refused()
		out, err := client.Call(ctx, c, api.RecordsOf("provider").Refresh, api.Refreshing{Named: api.Name(name),
			Again: false})
		require.NoError(t, err)
		require.Equal(t, "changed-key", string(out.Findings[0].Code))
		if approve {
			require.Equal(t, "waiting", out.Outcome)
			refused()
			require.NoError(t, client.Do(ctx, c, api.Providers.Approve, api.To(name, api.Decision{Digest: out.Digest})))
		}
		enters()

		// Back to the key of before, as somebody who was too quick would want.
		l, err := client.Call(ctx, c, api.ListHistory, api.HistoryFilter{Kind: "provider", Name: name, Limit: 10})
		require.NoError(t, err)
		_, err = client.Call(ctx, c, api.Restore, api.Numbered{ID: l.Items[len(l.Items)-1].ID})
		require.NoError(t, err)
		refused()
		require.NoError(t, client.Do(ctx, c, api.RecordsOf("application").Remove, api.Name(name)))
		require.NoError(t, client.Do(ctx, c, api.RecordsOf("provider").Remove, api.Name(name)))
	}
}

// A bookmark: people sign in at the gate and are sent on, without a message.
func TestLinkIsOpenedAtTheGate(t *testing.T) {
	v := newVisitor(t).get(shared.Base + "/open/timetable-archive").signIn("").onward()
	require.Contains(t, v.page.text, "Every timetable of Wrenmoor Rail")
	v.get(shared.Base + "/open/timetable-archive")
	require.Contains(t, v.page.text, "Every timetable of Wrenmoor Rail", "by the session")
	list, err := client.Call(t.Context(), shared.client(), api.ListTraces,
		api.TraceFilter{Application: "timetable-archive",
			Result: "entered", Limit: 1})
	require.NoError(t, err)
	trace, err := client.Call(t.Context(), shared.client(), api.ShowTrace, api.Name(list.Items[0].ID))
	require.NoError(t, err)
	last := trace.Steps[len(trace.Steps)-1]
	require.Equal(t, "link", last.Name)
	require.Contains(t, last.Values, federation.Value{Label: "Told of the person", Value: "nothing"})
	newVisitor(t).get(shared.Base+"/open/timetable-archive?RelayState=https://evil.example/").refused(shared,
		"target-foreign")
}
