package gate

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/crossing/oidcside"
	"innergate.example/innergate/internal/core/crossing/rpside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/checking"
	"innergate.example/innergate/internal/gate/driving"
	"innergate.example/innergate/internal/gate/leaving"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/traces"
	"innergate.example/innergate/internal/standin"
	"innergate.example/innergate/internal/store"
)

var mina = standin.Person{Username: "mina.thorne", Password: "pw", Given: "Mina", Family: "Thorne",
	Groups: []string{"signalling"}}

// relied is a provider that the gate relies on: a stand-in, and somebody's browser there.
type relied struct {
	*standin.Issuer
	r    *rig
	srv  *httptest.Server
	http *http.Client
	asks map[string]*atomic.Int64 // by path
}

// provides starts a stand-in; it is not on record yet.
func (r *rig) provides(name string, edit func(*standin.Issuer)) *relied {
	r.t.Helper()
	p := &relied{r: r, asks: map[string]*atomic.Int64{"/jwks": {}, "/token": {}}}
	var h http.Handler
	p.srv = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		if n := p.asks[req.URL.Path]; n != nil {
			n.Add(1)
		}
		h.ServeHTTP(w, req)
	}))
	r.t.Cleanup(p.srv.Close)
	p.Issuer = &standin.Issuer{Name: name, Title: name, Base: p.srv.URL, Gate: "https://gate.example", ClientID: "gate",
		Secret: "a-secret-of-the-gate", SecretID: "7f3a1c52-9d04-4e1b-8a6e-2c5b90d1e7a4", Domain: "@oakhollow.example",
		People: []standin.Person{mina, {Username: "olaf.brandt", Password: "pw"}}, Pair: r.idp, Now: r.now}
	if edit != nil {
		edit(p.Issuer)
	}
	var err error
	h, err = p.Handler()
	require.NoError(r.t, err)
	p.anew()
	return p
}

// anew gives the person another browser.
func (p *relied) anew() {
	jar, err := cookiejar.New(nil)
	require.NoError(p.r.t, err)
	p.http = &http.Client{Jar: jar, CheckRedirect: func(req *http.Request, _ []*http.Request) error {
		if req.URL.Host == "gate.example" {
			return http.ErrUseLastResponse
		}
		return nil
	}}
}

func (p *relied) source(changes ...string) records.Source {
	t := federation.Typed{"clientId": p.ClientID, "clientSecret": p.Secret}
	if p.Plain {
		t["authorize"], t["token"], t["userinfo"] = p.Base+"/authorize", p.Base+"/token",
			p.Base+"/api/me "+p.Base+"/api/me/emails"
	} else {
		t["issuer"] = p.Base
	}
	for i := 0; i < len(changes); i += 2 {
		t[changes[i]] = changes[i+1]
	}
	return records.Source{Typed: t}
}

// add puts it on record.
func (p *relied) add(s federation.Settings, changes ...string) *relied {
	p.r.t.Helper()
	if s == nil {
		s = federation.Settings{}
	}
	if p.Plain {
		s["identifier"] = "id"
	}
	n := records.NewRecord{Name: p.Name, Source: p.source(changes...), Settings: s}
	if p.Plain {
		n.Protocol = "oauth2"
	}
	_, err := p.r.Records.AddProvider(ctx, tester, n)
	require.NoError(p.r.t, err)
	return p
}

var hidden = regexp.MustCompile(`name="([\w-]+)" value="([^"]*)"`)

// signs goes where the gate sends the browser, signs somebody in with a fault, and gives
// what comes back to the gate: "" if nobody does.
func (p *relied) signs(o driving.Outcome, who, fault string) (form string, posted bool) {
	p.r.t.Helper()
	require.NotNil(p.r.t, o.Departure, "%+v %v", o, o.Finding)
	require.Equal(p.r.t, "Authorization request", o.Departure.Message)
	res, err := p.http.Get(o.Departure.Location)
	require.NoError(p.r.t, err)
	if res.StatusCode == http.StatusOK {
		if m := regexp.MustCompile(`name="pending" value="([^"]*)"`).FindStringSubmatch(p.text(res)); m != nil {
			res, err = p.http.PostForm(p.Base+"/sign-in", url.Values{"pending": {m[1]}, "username": {who}, "password": {"pw"},
				"fault": {fault}})
			require.NoError(p.r.t, err)
		}
	}
	if back := res.Header.Get("Location"); back != "" {
		_ = res.Body.Close()
		u, err := url.Parse(back)
		require.NoError(p.r.t, err)
		require.Equal(p.r.t, "/oidc/rp/"+p.Name+"/callback", u.Path)
		return u.RawQuery, false
	}
	q := url.Values{}
	for _, m := range hidden.FindAllStringSubmatch(p.text(res), -1) {
		q.Add(m[1], m[2])
	}
	return q.Encode(), true
}

func (p *relied) text(res *http.Response) string {
	defer res.Body.Close()
	octets, err := io.ReadAll(res.Body)
	require.NoError(p.r.t, err)
	res.Body = io.NopCloser(strings.NewReader(string(octets)))
	return string(octets)
}

func (p *relied) arrives(b driving.Browser, form string, posted bool) driving.Outcome {
	return p.r.Crossings.Arrive(ctx, b, rpside.Answer(p.Name, form, posted))
}

// through signs somebody in by the provider, from a start at the gate.
func (p *relied) through(b driving.Browser, app, fault string) (driving.Outcome, driving.Browser) {
	p.r.t.Helper()
	o := p.r.Crossings.Open(ctx, b, driving.Start{App: app, Via: p.Name})
	b = keep(b, o)
	if o.Departure != nil && o.Departure.Message == "Authorization request" {
		form, posted := p.signs(o, mina.Username, fault)
		o = p.arrives(b, form, posted)
		b = keep(b, o)
	}
	return o, b
}

// traced is everything that the trace of an outcome shows.
func (r *rig) traced(o driving.Outcome) string {
	r.t.Helper()
	_, steps, err := r.Traces.Get(ctx, o.Reference)
	require.NoError(r.t, err)
	octets, err := json.Marshal(steps)
	require.NoError(r.t, err)
	return string(octets)
}

// Every fault of the stand-ins comes to its finding, and what is odd but valid signs
// somebody in.
func TestFaultsOfProvidersThatAreReliedOn(t *testing.T) {
	for _, plain := range []bool{false, true} {
		r := newRig(t)
		p := r.provides("oakhollow", func(i *standin.Issuer) { i.Plain = plain }).add(nil)
		for _, f := range standin.IssuerFaults(plain) {
			if slices.Contains([]string{"slow", "stays"}, f.Name) || strings.HasPrefix(f.Finding, "discovery") ||
				slices.Contains(atHome, f.Name) {
				continue
			}
			p.anew()
			r.clock.set(r.clock.get().Add(2 * time.Minute)) // keys may be asked for again
			before := r.count(&store.LinkRow{})
			o, _ := p.through(driving.Browser{}, "roster", f.Name)
			if f.Finding == "" {
				require.NotNil(t, o.Departure, "%s: %v", f.Name, o.Finding)
				require.Equal(t, "Response", o.Departure.Message, f.Name)
				require.Equal(t, f.Name == "info-differs", strings.Contains(r.traced(o), `"`+string(finding.ClaimsApart)+`"`), f.Name)
				if f.Name == "groups-elsewhere" {
					shown := r.traced(o)
					for _, code := range []finding.Code{finding.GroupsElsewhere, finding.ClaimsElsewhere} {
						require.Contains(t, shown, `"`+string(code)+`"`)
					}
					require.Contains(t, shown, p.Base+"/people/groups", "and where they would be")
				}
				continue
			}
			if code, ok := pinned[f.Name]; ok {
				require.Equal(t, code, finding.Code(f.Finding), f.Name)
			}
			require.NotNil(t, o.Finding, f.Name)
			require.Equal(t, f.Finding, string(o.Finding.Code), "%s: %v", f.Name, o.Finding)
			require.Nil(t, o.Departure, f.Name)
			require.Equal(t, before, r.count(&store.LinkRow{}), "%s: nobody is half taken in", f.Name)
			shown := r.traced(o)
			require.Contains(t, shown, f.Finding, f.Name)
			require.NotContains(t, shown, p.Secret, f.Name)
		}
	}
}

// pinned are faults whose finding is said here as well, so that none is explained away.
var pinned = map[string]finding.Code{"no-id-token": finding.IDTokenMissing, "no-identifier": finding.IdentifierMissing,
	"info-elsewhere": finding.UserInfoUnreached, "public-secret": finding.TokenAlgorithm,
	"unsigned": finding.TokenAlgorithm,
	"mix-up":   finding.AnswerIssuer, "other-person": finding.UserInfoSubject, "wrong-nonce": finding.TokenNonce}

// atHome are faults of what a provider says of itself.
var atHome = []string{"document-mismatch", "document-page", "document-loop", "document-large", "other-host",
	"only-tls",
	"only-shared", "no-keys"}

func TestFaultsOfWhatAProviderSaysOfItself(t *testing.T) {
	r := newRig(t)
	for _, f := range standin.IssuerFaults(false) {
		if !slices.Contains(atHome, f.Name) {
			continue
		}
		p := r.provides("p-"+f.Name, func(i *standin.Issuer) { i.Fault = f.Name })
		preview, err := r.Records.Preview(ctx, records.NewRecord{Kind: federation.KindProvider, Name: p.Name,
			Source: p.source()})
		found := finding.Of(err)
		if err == nil {
			for _, x := range preview.Findings {
				if string(x.Code) == f.Finding {
					found = x
				}
			}
		}
		if f.Name == "no-keys" { // they are fetched once it is on record
			p.add(nil)
			require.NoError(t, r.Copies.RefreshDue(ctx))
			all, err := r.Checking.Check(ctx, checking.Filter{Names: []string{p.Name}})
			require.NoError(t, err)
			for _, x := range all[0].Findings {
				if string(x.Code) == f.Finding {
					found = x
				}
			}
			o, _ := p.through(driving.Browser{}, "roster", "")
			require.Equal(t, finding.JWKSUnavailable, o.Finding.Code)
		}
		require.NotNil(t, found, f.Name)
		require.Equal(t, f.Finding, string(found.Code), f.Name)
		if err != nil {
			var fe *change.FieldError
			require.ErrorAs(t, err, &fe)
			require.Equal(t, "issuer", fe.Field, f.Name)
			_, err := r.Records.Provider(p.Name)
			require.Error(t, err, "nothing is half stored")
		}
	}
}

func TestASlowProviderHoldsNobodyUp(t *testing.T) {
	t.Parallel()
	r := newRig(t)
	p := r.provides("oakhollow", nil).add(nil)
	began := time.Now()
	o, _ := p.through(driving.Browser{}, "roster", "slow")
	require.Equal(t, finding.TokenUnreached, o.Finding.Code)
	require.Less(t, time.Since(began), 11*time.Second)
}

// Whatever each of them speaks, any application is reached by any provider.
func TestEveryCrossingBetweenTheProtocols(t *testing.T) {
	r := newRig(t)
	open := r.provides("oakhollow", nil).add(federation.Settings{"scopes": "openid profile email groups"})
	plain := r.provides("season-club", func(i *standin.Issuer) { i.Plain = true }).add(nil)
	kinds := map[string]string{"web": plannerBack, "browser": "https://desk.example/", "native": "http://127.0.0.1/cb"}
	for kind, back := range kinds {
		_, err := r.Records.AddApplication(ctx, tester, records.NewRecord{Name: kind, Source: records.Source{
			Typed: federation.Typed{"kind": kind, "clientId": kind, "redirectUris": back}}})
		require.NoError(t, err)
	}
	_, err := r.Records.AddApplication(ctx, tester, records.NewRecord{Name: "archive", Protocol: "link",
		Source: records.Source{Typed: federation.Typed{"link": "https://archive.example/"}}})
	require.NoError(t, err)
	r.rule("elsewhere", federation.Settings{"then": "deny",
		"networks": words("203.0.113.0/24")}) // so that the link asks for a sign-in
	for _, p := range []*relied{open, plain} {
		b := driving.Browser{}
		for _, app := range []string{"roster", "archive", "web", "browser", "native"} {
			var o driving.Outcome
			switch back, client := kinds[app]; {
			case client:
				o = r.Crossings.Arrive(ctx, b, clientRequest(app, back))
				b = keep(b, o)
				if o.Page == crossing.PageChoose {
					o = r.Crossings.Choose(ctx, b, o.Crossing, p.Name, false)
				}
			case app == "roster":
				o = r.request(b, nil)
				b = keep(b, o)
				o = r.Crossings.Choose(ctx, b, o.Crossing, p.Name, false)
			default:
				o = r.Crossings.Open(ctx, b, driving.Start{App: app, Via: p.Name})
			}
			b = keep(b, o)
			if o.Departure != nil && o.Departure.Message == "Authorization request" {
				require.Equal(t, "roster", app, "afterwards they are in: one session, whatever the applications speak")
				form, posted := p.signs(o, mina.Username, "")
				o = p.arrives(b, form, posted)
				b = keep(b, o)
			}
			switch {
			case kinds[app] != "":
				require.NotNil(t, o.Departure, "%s by %s: %v", app, p.Name, o.Finding)
				u, err := url.Parse(o.Departure.Location)
				require.NoError(t, err)
				require.NotEmpty(t, u.Query().Get("code"), "%s by %s", app, p.Name)
			case app == "archive":
				require.Equal(t, "https://archive.example/", o.Departure.Location)
			default:
				a, _ := r.said(o)
				require.Equal(t, p.Name == "season-club", a.NameID.Value != "" && a.NameID.Value[0] <= '9' &&
					len(a.NameID.Value) > 15,
					"of OAuth 2.0 the number, digit by digit: %s", a.NameID.Value)
				then, now, err := r.Traces.Replay(ctx, r.Records.Snapshot(), o.Reference)
				require.NoError(t, err)
				require.Len(t, then, 3, "no secret and no token is needed to decide a crossing again")
				for i := range then {
					require.True(t, then[i].Alike(now[i]), "%+v %+v", then[i], now[i])
				}
			}
		}
	}
}

// What counts once is consumed before anything is fetched for it, also by an error.
func TestStateCountsOnceInItsBrowser(t *testing.T) {
	r := newRig(t)
	p := r.provides("oakhollow", nil).add(nil)
	other := r.provides("elsewhere", nil).add(nil)
	begin := func() (string, driving.Browser) {
		p.anew()
		o := r.Crossings.Open(ctx, driving.Browser{}, driving.Start{App: "roster", Via: "oakhollow"})
		form, _ := p.signs(o, mina.Username, "")
		return form, keep(driving.Browser{}, o)
	}
	refuses := func(o driving.Outcome, code finding.Code) {
		t.Helper()
		require.NotNil(t, o.Finding)
		require.Equal(t, code, o.Finding.Code, "%v", o.Finding)
		require.Nil(t, o.Departure)
	}
	form, b := begin()
	refuses(p.arrives(driving.Browser{}, form, false), finding.CrossingOtherBrowser)
	refuses(other.arrives(b, form, false), finding.AnswerUnasked)
	refuses(r.Crossings.Arrive(ctx, b, rpside.Answer("nobody", form, false)), finding.ProviderUnknown)
	refuses(r.Crossings.Arrive(ctx, b, rpside.Answer("staff", form, false)), finding.ProviderUnknown)
	refuses(p.arrives(b, "code=x", false), finding.AnswerUnasked)
	require.Zero(t, p.asks["/token"].Load(), "no code was redeemed for any of them")
	r.restart()
	require.NotNil(t, p.arrives(b, form, false).Departure, "the browser that began it goes on, after a restart too")
	require.Equal(t, crossing.PageFinished, p.arrives(b, form, false).Page, "reloaded: already signed in")

	form, b = begin()
	q, err := url.ParseQuery(form)
	require.NoError(t, err)
	refuses(p.arrives(b, url.Values{"error": {"access_denied"}, "state": q["state"], "iss": q["iss"]}.Encode(), false),
		finding.ProviderDenied)
	refuses(p.arrives(b, form, false), finding.AnswerTwice)

	form, b = begin()
	calls := p.asks["/token"].Load()
	done := make(chan driving.Outcome, 10)
	for range cap(done) {
		go func() { done <- p.arrives(b, form, false) }()
	}
	entered := 0
	for range cap(done) {
		if o := <-done; o.Departure != nil {
			entered++
		}
	}
	require.Equal(t, 1, entered, "ten at once: one enters")
	require.Equal(t, calls+1, p.asks["/token"].Load(), "and the code is redeemed once")
}

func TestKeysOfProvidersAreKeptFresh(t *testing.T) {
	r := newRig(t)
	p := r.provides("oakhollow", nil).add(nil)
	require.NoError(t, r.Copies.RefreshDue(ctx))
	require.Eventually(t, func() bool { return p.asks["/jwks"].Load() == 1 }, 5*time.Second, time.Millisecond,
		"before anybody signs in")
	in := func(fault string) finding.Code {
		p.anew()
		o, _ := p.through(driving.Browser{}, "roster", fault)
		if o.Finding != nil {
			return o.Finding.Code
		}
		return ""
	}
	r.clock.set(r.clock.get().Add(2 * time.Minute))
	require.Empty(t, in(""))
	require.EqualValues(t, 1, p.asks["/jwks"].Load(), "and for none who does")
	for range 5 {
		require.Equal(t, finding.TokenKey, in("unknown-key"))
	}
	require.EqualValues(t, 2, p.asks["/jwks"].Load(), "an unknown kid asks once, and then not for a minute")
	r.clock.set(r.clock.get().Add(2 * time.Minute))
	require.Empty(t, in("rotated"), "keys that were exchanged are found by it")
	all, err := r.Checking.Check(ctx, checking.Filter{Names: []string{"oakhollow"}, Code: string(finding.ChangedKey)})
	require.NoError(t, err)
	require.Len(t, all[0].Findings, 1, "and the change is told, with the difference")
	require.Contains(t, all[0].Findings[0].Error(), "kid k-")
	r.restart()
	require.Empty(t, in("rotated"), "the copy outlasts a restart")
	p.srv.Close()
	r.clock.set(r.clock.get().Add(2 * time.Hour))
	require.NoError(t, r.Copies.RefreshDue(ctx))
	all, err = r.Checking.Check(ctx, checking.Filter{Names: []string{"oakhollow"}, Code: string(finding.JWKSUnavailable)})
	require.NoError(t, err)
	require.Equal(t, finding.Warning, all[0].Findings[0].Severity, "with a good copy it is a warning")
}

// A document that moves an endpoint to another host waits for somebody to approve it,
// whatever the record says; the secret goes where it went before.
func TestEndpointsThatMoveWait(t *testing.T) {
	r := newRig(t)
	p := r.provides("oakhollow", nil).add(nil)
	thief := r.provides("thief", nil)
	p.Issuer.Switch("other-host")
	got, err := r.Exchange.Refresh(ctx, tester, change.KindProvider, "oakhollow")
	require.NoError(t, err)
	require.Equal(t, "waiting", got.Outcome)
	require.Equal(t, finding.ChangedAddress, got.Findings[0].Code)
	require.Contains(t, got.Findings[0].Error(), "tokens.somebody-else.example")
	o, _ := p.through(driving.Browser{}, "roster", "")
	require.NotNil(t, o.Departure, "people go on signing in as before: %v", o.Finding)
	require.Zero(t, thief.asks["/token"].Load())
	p.Issuer.Switch("")
	got, err = r.Exchange.Refresh(ctx, tester, change.KindProvider, "oakhollow")
	require.NoError(t, err)
	require.Equal(t, "unchanged", got.Outcome)

	p.Issuer.Switch("only-shared")
	got, err = r.Exchange.Refresh(ctx, tester, change.KindProvider, "oakhollow")
	require.NoError(t, err)
	require.Equal(t, "applied", got.Outcome)
	require.Equal(t, finding.ChangedAlgorithm, got.Findings[0].Code)
	require.Contains(t, got.Findings[0].Error(), "HS256", "with the difference")
	p.Issuer.Switch("document-mismatch")
	got, err = r.Exchange.Refresh(ctx, tester, change.KindProvider, "oakhollow")
	require.NoError(t, err)
	require.Equal(t, "waiting", got.Outcome, "another issuer waits as well")
	require.Equal(t, finding.ChangedEntityID, got.Findings[0].Code)
}

func TestSecretsOfTheGateAreKeptSealed(t *testing.T) {
	r := newRig(t)
	p := r.provides("oakhollow", nil).add(nil)
	var rows []store.CredentialRow
	require.NoError(t, r.st.Read.Find(&rows).Error)
	require.Len(t, rows, 1)
	require.NotContains(t, string(rows[0].Sealed), p.Secret)
	var dump []string
	for _, table := range []string{"provider_rows", "history_rows", "document_rows"} {
		var out []map[string]any
		require.NoError(t, r.st.Read.Table(table).Find(&out).Error)
		dump = append(dump, fmt.Sprintf("%s", out))
	}
	require.NotContains(t, strings.Join(dump, ""), p.Secret)

	retake := func(typed federation.Typed) {
		now := r.revision("oakhollow")
		require.NoError(t, r.Records.Retake(ctx, tester, change.KindProvider, "oakhollow", now,
			records.Source{Typed: typed}))
	}
	first := r.revision("oakhollow")
	retake(federation.Typed{"clientSecret": " " + p.SecretID + "\n"})
	require.NotEmpty(t, mustRecord(r, "oakhollow").Intake.Address(), "the document stays what it is refreshed from")
	octets, err := json.Marshal(mustRecord(r, "oakhollow").Intake)
	require.NoError(t, err)
	require.NotContains(t, string(octets), p.SecretID, "what was cut off is not told with what was left")
	o, _ := p.through(driving.Browser{}, "roster", "")
	require.Equal(t, finding.ClientRefused, o.Finding.Code)
	require.Contains(t, o.Finding.Error(), "identifier of the secret, not the secret", "the provider's words as they are")
	require.Contains(t, o.Finding.Error(), "has the form of an identifier")
	all, err := r.Checking.Check(ctx, checking.Filter{Names: []string{"oakhollow"},
		Code: string(finding.SecretIsIdentifier)})
	require.NoError(t, err)
	require.Len(t, all[0].Findings, 1, "and known before")

	changes, _, err := r.Records.History(ctx, records.HistoryFilter{Kind: change.KindProvider, Name: "oakhollow",
		Limit: 10})
	require.NoError(t, err)
	for _, c := range changes {
		if c.Revision == first {
			_, _, err := r.Records.Restore(ctx, tester, c.ID)
			require.NoError(t, err)
		}
	}
	p.anew()
	o, _ = p.through(driving.Browser{}, "roster", "")
	require.NotNil(t, o.Departure, "restoring brings the secret of then back: %v", o.Finding)
}

func (r *rig) revision(provider string) int {
	p, err := r.Records.Provider(provider)
	require.NoError(r.t, err)
	return p.Revision
}

func TestOneIssuerAndSeveralClients(t *testing.T) {
	r := newRig(t)
	p := r.provides("oakhollow", nil).add(nil)
	_, err := r.Records.AddProvider(ctx, tester, records.NewRecord{Name: "again", Source: p.source()})
	require.True(t, finding.Is(err, finding.MetadataKnown), "%v", err)
	_, err = r.Records.AddProvider(ctx, tester, records.NewRecord{Name: "other", Source: p.source("clientId", "gate-2")})
	require.NoError(t, err, "the same issuer knows the gate as several clients")
}

// The tenant is part of what a person is known by.
func TestTenantsKeepPeopleApart(t *testing.T) {
	r := newRig(t)
	p := r.provides("oakhollow", nil)
	typed := federation.Typed{"issuer": "http://127.0.0.1:1/{tenant}", "authorize": p.Base + "/authorize",
		"token": p.Base + "/token", "jwksUri": p.Base + "/jwks", "clientId": "gate", "clientSecret": p.Secret}
	_, err := r.Records.AddProvider(ctx, tester, records.NewRecord{Name: "oakhollow",
		Source:   records.Source{Typed: typed},
		Settings: federation.Settings{"tenants": "rail club", "requireClaims": "amr=pwd"}})
	require.NoError(t, err)
	in := func(tenant string) (finding.Code, int64) {
		p.anew()
		o := r.Crossings.Open(ctx, driving.Browser{}, driving.Start{App: "roster", Via: "oakhollow"})
		b := keep(driving.Browser{}, o)
		p.Issuer.Base = "http://127.0.0.1:1/" + tenant // iss of answers and tokens alone
		asked := *o.Departure
		form, posted := (&relied{Issuer: &standin.Issuer{Base: p.srv.URL, Name: "oakhollow"}, r: r, http: p.http}).signs(
			driving.Outcome{Departure: &asked}, mina.Username, "")
		o = p.arrives(b, form, posted)
		if o.Finding != nil {
			return o.Finding.Code, 0
		}
		return "", r.count(&store.PersonRow{})
	}
	code, people := in("rail")
	require.Empty(t, code)
	require.EqualValues(t, 1, people)
	_, people = in("rail")
	require.EqualValues(t, 1, people)
	_, people = in("club")
	require.EqualValues(t, 2, people, "the same sub of another tenant is somebody else")
	code, _ = in("freight")
	require.Equal(t, finding.TenantRefused, code)
	_, err = r.Records.Configure(ctx, tester, change.KindProvider, "oakhollow", 0,
		federation.Settings{"requireClaims": "amr=otp"})
	require.NoError(t, err)
	code, _ = in("rail")
	require.Equal(t, finding.ClaimRefused, code)
}

// Nobody comes back from an error page of the provider's: that ends as left, with what it
// usually means.
func TestCrossingsThatAreLeftAtTheProvider(t *testing.T) {
	r := newRig(t)
	r.provides("oakhollow", nil).add(nil)
	o := r.Crossings.Open(ctx, driving.Browser{}, driving.Start{App: "roster", Via: "oakhollow"})
	require.NotNil(t, o.Departure)
	r.clock.set(r.clock.get().Add(crossing.Life + 2*time.Minute))
	require.NoError(t, r.Crossings.Sweep(ctx))
	head, steps, err := r.Traces.Get(ctx, o.Reference)
	require.NoError(t, err)
	require.Equal(t, crossing.Left, head.Result)
	f := steps[len(steps)-1].Finding
	require.Equal(t, finding.CrossingLeft, f.Code)
	require.Contains(t, f.Error(), "https://gate.example/oidc/rp/oakhollow/callback", "the value that is mostly wrong")
}

// By exception the answer itself brings an ID token, in a form.
func TestAnswersByForm(t *testing.T) {
	r := newRig(t)
	for kind, token := range map[string]bool{"id_token": false, "code id_token": true} {
		p := r.provides("p-"+kind[:2], nil).add(federation.Settings{"responseType": kind})
		o, _ := p.through(driving.Browser{}, "roster", "")
		require.NotNil(t, o.Departure, "%s: %v", kind, o.Finding)
		require.Equal(t, token, p.asks["/token"].Load() == 1, kind)
		p.anew()
		o = r.Crossings.Open(ctx, driving.Browser{}, driving.Start{App: "roster", Via: p.Name})
		form, _ := p.signs(o, mina.Username, "")
		o = p.arrives(keep(driving.Browser{}, o), form, false)
		require.Equal(t, finding.AnswerMalformed, o.Finding.Code, "%s in the address, where a form was asked for", kind)
		for fault, code := range map[string]finding.Code{"wrong-nonce": finding.TokenNonce,
			"unsigned":  finding.TokenAlgorithm,
			"wrong-key": finding.TokenAltered} {
			p.anew()
			before := p.asks["/token"].Load()
			o, _ := p.through(driving.Browser{}, "roster", fault)
			require.Equal(t, code, o.Finding.Code, "%s, %s", kind, fault)
			require.Equal(t, before, p.asks["/token"].Load(), "%s: no code is redeemed for it", kind)
		}
	}
}

// Tokens are kept only where the record says so, and then a refresh asks again.
func TestARefreshAsksTheProviderAgain(t *testing.T) {
	r := newRig(t)
	p := r.provides("oakhollow", nil).add(federation.Settings{"keepTokens": true,
		"scopes": "openid profile email groups offline_access"})
	bare := r.provides("bare", nil).add(nil)
	app := r.client("planner", nil, federation.Settings{"claimsIn": "both"})
	_, err := r.Records.Configure(ctx, tester, change.KindApplication, "planner", 0, federation.Settings{"provider": ""})
	require.NoError(t, err)
	sign := func(p *relied) (refresh string) {
		b := driving.Browser{}
		o := r.authorize(b, "scope", "openid profile offline_access")
		b = keep(b, o)
		o = r.Crossings.Choose(ctx, b, o.Crossing, p.Name, false)
		form, posted := p.signs(o, mina.Username, "")
		o = p.arrives(b, form, posted)
		o = r.Crossings.Submit(ctx, b, o.Crossing, url.Values{"agree": {"yes"}, "digest": {o.Agree.Digest}})
		out, err := r.Redeeming.Token(ctx, caller(redemption(r.back(o).Get("code")), "planner", app.Shown))
		require.NoError(t, err)
		return out.RefreshToken
	}
	named := func(refresh string) (name any, next string, err error) {
		out, err := r.Redeeming.Token(ctx, caller(refreshing(refresh), "planner", app.Shown))
		if err != nil {
			return nil, "", err
		}
		return r.claims(out.IDToken, oidc.IDToken)["name"], out.RefreshToken, nil
	}
	kept, without := sign(p), sign(bare)
	bare.Rename(mina.Username, "Thorne-Wick")
	name, _, err := named(without)
	require.NoError(t, err)
	require.Equal(t, "Mina Thorne", name, "what was said at the sign-in")
	p.Rename(mina.Username, "Thorne-Wick")
	name, kept, err = named(kept)
	require.NoError(t, err)
	require.Equal(t, "Mina Thorne-Wick", name, "asked again with the access token")
	r.clock.set(r.clock.get().Add(10 * time.Minute))
	p.Rename(mina.Username, "Wick")
	name, kept, err = named(kept)
	require.NoError(t, err)
	require.Equal(t, "Mina Wick", name, "and, once that has ended, with the refresh token")
	p.srv.CloseClientConnections()
	r.clock.set(r.clock.get().Add(10 * time.Minute))
	p.Issuer.Secret = "another"
	name, kept, err = named(kept)
	require.NoError(t, err, "a provider that fails ends nothing")
	require.Equal(t, "Mina Wick", name)
	p.Issuer.Secret = "a-secret-of-the-gate"
	require.NoError(t, r.maps(change.KindProvider, "oakhollow", `{"to":{"name":"name"},"from":[{"attribute":"name"}]}`))
	r.clock.set(r.clock.get().Add(time.Minute))
	name, kept, err = named(kept)
	require.NoError(t, err)
	require.Equal(t, "Mina Wick", name, "by the rules of now")
	require.NoError(t, r.maps(change.KindProvider, "oakhollow", `{"to":{"name":"name"},"from":[{"attribute":"nmae"}],
		"mandatory":true}`))
	_, _, err = named(kept)
	refusedBy(t, err, oidc.InvalidGrant, finding.AttributeMissing)
	require.NoError(t, r.maps(change.KindProvider, "oakhollow", ""))
	p.Forget()
	r.clock.set(r.clock.get().Add(10 * time.Minute))
	_, _, err = named(kept)
	refusedBy(t, err, oidc.InvalidGrant, finding.UpstreamEnded)
}

func TestSigningOutThereAndHere(t *testing.T) {
	r := newRig(t)
	p := r.provides("oakhollow", nil).add(nil)
	other := r.provides("yard", nil).add(nil)
	_, b := p.through(driving.Browser{}, "roster", "")
	_, b = other.through(b, "roster", "signed-info")
	s := r.Leaving.Session(ctx, b.Session)
	require.NotNil(t, s)
	next, err := r.Leaving.Depart(ctx, s, "https://planner.example/bye")
	require.NoError(t, err)
	require.Nil(t, r.Leaving.Session(ctx, b.Session), "the session here has ended before anybody leaves")
	for _, name := range []string{"yard"} {
		u, err := url.Parse(next)
		require.NoError(t, err)
		require.Equal(t, "/end-session", u.Path)
		require.Equal(t, "https://gate.example/oidc/rp/"+name+"/signed-out", u.Query().Get("post_logout_redirect_uri"))
		hint := strings.Split(u.Query().Get("id_token_hint"), ".")
		require.Len(t, hint, 3)
		claims, err := base64.RawURLEncoding.DecodeString(hint[1])
		require.NoError(t, err)
		require.Contains(t, string(claims), `"auth_time"`, "the ID token, and not what the user-info address signed")
		state := u.Query().Get("state")
		stray, err := r.Leaving.Resume(ctx, "oakhollow", state)
		require.NoError(t, err)
		require.Empty(t, stray, "state belongs to one provider")
		next, err = r.Leaving.Resume(ctx, name, state)
		require.NoError(t, err)
		again, err := r.Leaving.Resume(ctx, name, state)
		require.NoError(t, err)
		require.Empty(t, again, "and counts once")
	}
	require.Equal(t, "https://planner.example/bye", next,
		"the two names were of different people: one session, one provider")
	heads, _, err := r.Traces.List(ctx, traces.Filter{Result: crossing.SignedOut, Limit: 10})
	require.NoError(t, err)
	_, steps, err := r.Traces.Get(ctx, heads[0].ID)
	require.NoError(t, err)
	require.Contains(t, fmt.Sprint(steps), "Sign-out answer",
		"that the provider sent them back is in the trace of the sign-out")

	bySession := crossing.Upstream{Session: "sid"}
	for what, told := range map[string]leaving.Told{"the session": {Upstream: bySession, Once: "1"},
		"the person": {Once: "2"}} {
		p.anew()
		_, b := p.through(driving.Browser{}, "roster", "")
		s := r.Leaving.Session(ctx, b.Session)
		if told.Session != "" {
			told.Session = s.Proofs[0].SessionIndex
		} else {
			told.Subject = s.Proofs[0].Subject.Value
		}
		told.Until = r.clock.get().Add(time.Minute)
		record := mustRecord(r, "oakhollow")
		wrong, other := told, told
		wrong.Session, wrong.Once = "other", "x"+told.Once
		other.Tenant, other.Once = "of another tenant", "y"+told.Once
		for _, told := range []leaving.Told{wrong, other} {
			n, err := r.Leaving.Elsewhere(ctx, record, told)
			require.NoError(t, err)
			require.Zero(t, n, what)
		}
		n, err := r.Leaving.Elsewhere(ctx, record, told)
		require.NoError(t, err)
		require.Equal(t, 1, n, what)
		require.Nil(t, r.Leaving.Session(ctx, b.Session), what)
		_, err = r.Leaving.Elsewhere(ctx, record, told)
		require.True(t, finding.Is(err, finding.LogoutTokenRefused), "a logout token counts once")
	}
	require.Zero(t, r.count(&store.UpstreamRow{}), "nothing is kept of those who have left")
}

func mustRecord(r *rig, name string) *federation.Provider {
	p, err := r.Records.Provider(name)
	require.NoError(r.t, err)
	return p
}

// A provider may send people to sign in; that becomes a start of ours.
func TestStartsAtAProvider(t *testing.T) {
	r := newRig(t)
	p := r.provides("oakhollow", nil).add(nil)
	start := func(iss, target string) driving.Outcome {
		return r.Crossings.Arrive(ctx, driving.Browser{}, rpside.Start("oakhollow",
			url.Values{"iss": {iss}, "target_link_uri": {target}}.Encode()))
	}
	require.Equal(t, finding.UnsolicitedRefused, start(p.Base, "https://gate.example/open/roster").Finding.Code)
	_, err := r.Records.Configure(ctx, tester, change.KindProvider, "oakhollow", 0,
		federation.Settings{"allowUnsolicited": true})
	require.NoError(t, err)
	require.Equal(t, "https://gate.example/open/roster?via=oakhollow", start(p.Base,
		"https://gate.example/open/roster").Next)
	require.Equal(t, finding.AnswerIssuer, start("https://a.example", "https://gate.example/open/roster").Finding.Code)
	for _, target := range []string{"", "https://evil.example/", "https://gate.example/open/nobody"} {
		require.Equal(t, finding.UnsolicitedTarget, start(p.Base, target).Finding.Code, target)
	}
}

// What was wished for is asked for, and what was demanded is proved or refused.
func TestWishesTowardsProvidersThatAreReliedOn(t *testing.T) {
	r := newRig(t)
	p := r.provides("oakhollow", nil).add(nil)
	plain := r.provides("season-club", func(i *standin.Issuer) { i.Plain = true }).add(nil)
	r.client("planner", nil, nil)
	asked := func() driving.Outcome {
		o := r.request(driving.Browser{}, nil)
		b := keep(driving.Browser{}, o)
		o = r.Crossings.Choose(ctx, b, o.Crossing, p.Name, false)
		form, posted := p.signs(o, mina.Username, "")
		return p.arrives(keep(b, o), form, posted)
	}
	asked()
	r.clock.set(r.clock.get().Add(20 * time.Minute))
	o := asked()
	a, _ := r.said(o)
	require.WithinDuration(t, r.clock.get().Add(-20*time.Minute), a.AuthnInstant, time.Second,
		"when they signed in there")
	p.anew()
	by := func(p *relied) {
		_, err := r.Records.Configure(ctx, tester, change.KindApplication, "planner", 0,
			federation.Settings{"provider": p.Name})
		require.NoError(t, err)
	}
	by(p)
	o = r.authorize(driving.Browser{}, "max_age", "60", "login_hint", "mina.thorne")
	u, err := url.Parse(o.Departure.Location)
	require.NoError(t, err)
	require.Equal(t, "60", u.Query().Get("max_age"))
	require.Equal(t, "mina.thorne", u.Query().Get("login_hint"))
	form, posted := p.signs(o, mina.Username, "")
	require.NotEmpty(t, r.back(p.arrives(keep(driving.Browser{}, o), form, posted)).Get("code"))
	for value, said := range map[string]string{saml.ContextPassword: "",
		"urn:card": "unmet_authentication_requirements"} {
		p.anew()
		o = r.authorize(driving.Browser{}, "claims", `{"id_token":{"acr":{"essential":true,"value":"`+value+`"}}}`)
		form, posted = p.signs(o, mina.Username, "")
		require.Equal(t, said, r.back(p.arrives(keep(driving.Browser{}, o), form, posted)).Get("error"), value)
	}
	p.anew()
	o = r.authorize(driving.Browser{}, "prompt", "none")
	form, posted = p.signs(o, mina.Username, "")
	require.Equal(t, "login_required", r.back(p.arrives(keep(driving.Browser{}, o), form, posted)).Get("error"),
		"the provider's word, handed on")
	by(plain)
	require.Equal(t, "login_required", r.back(r.authorize(driving.Browser{}, "prompt", "none")).Get("error"))
	require.Equal(t, "access_denied", r.back(r.authorize(driving.Browser{}, "max_age", "0")).Get("error"),
		"a provider without ID tokens cannot prove it")
}

// clientRequest is an authorization request of an application of OpenID Connect.
func clientRequest(client, back string) *crossing.Arrival {
	return oidcside.Request(url.Values{"client_id": {client}, "response_type": {"code"}, "redirect_uri": {back},
		"scope": {"openid profile"}, "state": {"st"}, "nonce": {"n"}, "code_challenge": {oidc.Challenge(verifierOf)},
		"code_challenge_method": {"S256"}}.Encode(), false, false)
}
