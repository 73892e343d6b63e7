package gate

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/policy"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/checking"
	"innergate.example/innergate/internal/gate/driving"
	"innergate.example/innergate/internal/gate/limit"
	"innergate.example/innergate/internal/gate/people"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/traces"
)

// ways is a rig with the providers staff, second and third, and people who are known by all of them.
type ways struct {
	*rig
	numbers []int64
}

func newWays(t *testing.T, n int) *ways {
	w := &ways{newRig(t), make([]int64, n)}
	for _, name := range []string{"second", "third"} {
		_, err := w.Records.AddProvider(ctx, tester, records.NewRecord{Name: name,
			Source: records.Source{Document: saml.WriteIDPMetadata(saml.IDPFace{EntityID: saml.EntityID("urn:" + name),
				SSO: "https://" + name + ".example/sso", Keys: []keys.Certificate{w.idp.Certificate}})}})
		require.NoError(t, err)
	}
	for _, name := range []string{"pilots", "drivers"} {
		_, err := w.Records.PutUnit(ctx, tester, federation.Unit{Kind: federation.KindGroup, Name: federation.Name(name),
			Title: name})
		require.NoError(t, err)
	}
	for i := range w.numbers {
		who := profile.Subject{Format: string(saml.FormatPersistent), Value: fmt.Sprint("n-", i)}
		join := []people.Belongs{{Kind: federation.KindGroup, Name: []string{"pilots", "drivers"}[i%2]}}
		p, err := w.People.Add(ctx, tester, people.NewPerson{Provider: "staff", Subject: who,
			Edit: people.Edit{Values: map[string][]string{"emails": {w.address(i)}}, Join: join}})
		require.NoError(t, err)
		w.numbers[i] = p.ID
		for _, name := range []string{"second", "third"} {
			_, err := w.People.Link(ctx, tester, p.ID, name, who)
			require.NoError(t, err)
		}
	}
	return w
}

// address is the one that somebody has.
func (w *ways) address(who int) string {
	return fmt.Sprintf("p-%d@%s", who, []string{"wrenmoor.example", "oakhollow.example", "post.example"}[who%3])
}

// domains gives a provider a domain, whatever that does to people.
func (w *ways) domains(provider, domain string) {
	w.t.Helper()
	by := tester
	set := func() error {
		_, err := w.Records.Configure(ctx, by, change.KindProvider, provider, 0, federation.Settings{"domains": domain})
		return err
	}
	err := set()
	if finding.Is(err, finding.WayLost) || finding.Is(err, finding.EntryLost) {
		by.Confirms = toConfirm(err)
		err = set()
	}
	require.NoError(w.t, err)
}

// lays makes a rule of provider selection, whatever that does to people.
func (w *ways) lays(name string, s federation.Settings) { w.t.Helper(); w.laid("selection", name, s) }

// shows sees that an outcome is what provider selection says.
func (w *ways) shows(o driving.Outcome, c policy.Choice, err error, where string) {
	w.t.Helper()
	switch {
	case err != nil:
		require.True(w.t, finding.Is(o.Finding, finding.Of(err).Code), "%s: %v, and %v", where, o.Finding, err)
	case c.Ask():
		require.Equal(w.t, crossing.PageChoose, o.Page, "%s: %v", where, c)
		require.Equal(w.t, c.Providers, offers(o), where)
		require.True(w.t, !c.Address || o.Address != nil, where)
	default:
		require.NotNil(w.t, o.Departure, "%s: %+v, and %v", where, c, o)
		provider, _ := w.sent(o)
		require.Equal(w.t, string(c.Providers[0]), provider, "%s: %v", where, c)
	}
}

func offers(o driving.Outcome) (out []federation.Name) {
	for _, c := range o.Choices {
		out = append(out, federation.Name(c.Name))
	}
	return out
}

// sent tells which provider is asked, by which request.
func (w *ways) sent(o driving.Outcome) (provider, request string) {
	w.t.Helper()
	require.NotNil(w.t, o.Departure, "%+v", o)
	require.Equal(w.t, "AuthnRequest", o.Departure.Message)
	at, query, _ := strings.Cut(o.Departure.Location, "?")
	provider = strings.TrimSuffix(strings.TrimPrefix(at, "https://"), ".example/sso")
	if provider == "idp" {
		provider = "staff"
	}
	in, err := saml.FromRedirect(query, "SAMLRequest")
	require.NoError(w.t, err)
	face := "https://gate.example/saml/sp/" + provider
	q, err := saml.ReadAuthnRequest(in, &saml.SP{EntityID: saml.EntityID(face),
		ACS: []saml.Endpoint{{Binding: saml.BindingPOST, Location: face + "/acs"}}},
		saml.Demand{SSO: at, Now: w.clock.get(), Skew: time.Minute}, new(finding.Checks))
	require.NoError(w.t, err)
	return provider, q.ID
}

// signsIn has somebody sign in where the browser was sent.
func (w *ways) signsIn(b driving.Browser, o driving.Outcome, who int) (driving.Outcome, string) {
	w.t.Helper()
	provider, request := w.sent(o)
	return w.answers(b, provider, request, who, ""), provider
}

// answers has a provider answer a request, or without one.
func (w *ways) answers(b driving.Browser, provider, request string, who int, state string) driving.Outcome {
	w.t.Helper()
	face, issuer := "https://gate.example/saml/sp/"+provider, saml.EntityID("urn:"+provider)
	if provider == "staff" {
		issuer = "urn:idp"
	}
	octets, err := saml.WriteResponse(saml.Answer{ResponseID: messageID(), AssertionID: messageID(), At: w.clock.get(),
		Lifetime: time.Minute, Issuer: issuer, Destination: face + "/acs", InResponseTo: request,
		Audience: saml.EntityID(face),
		NameID:   saml.NameID{Format: saml.FormatPersistent, Value: fmt.Sprint("n-", who)}, AuthnInstant: w.clock.get(),
		Context: saml.ContextPassword}, saml.Protection{Pair: w.idp})
	require.NoError(w.t, err)
	return w.respond(b, provider, saml.Inbound{Binding: saml.BindingPOST, Octets: octets, RelayState: state})
}

// What is shown is what is done: over random rules, domains, people, networks, hints and typed addresses a sign-in
// goes where provider selection says, before and after it is known who comes.
func TestWaysAreShownAsTheyAreGone(t *testing.T) {
	w, rnd, seen := newWays(t, 6), rand.New(rand.NewPCG(29, 5)), map[string]int{}
	some := func(of ...string) []any {
		out := []any{}
		for _, s := range of {
			if rnd.IntN(3) == 0 {
				out = append(out, s)
			}
		}
		return out
	}
	any1 := func(of ...string) string { return of[rnd.IntN(len(of))] }
	for round := range 40 {
		for i := range 4 {
			s := federation.Settings{"title": "t", "order": fmt.Sprint(rnd.IntN(4)), "applications": some("roster"),
				"domains": some("wrenmoor.example", ".oakhollow.example"), "networks": some("192.0.2.0/24"),
				"groups": some("pilots"),
				"hints":  []any{}, "providers": some("staff", "second", "third"), "typed": false, "ask": false}
			if rnd.IntN(4) == 0 {
				s["hints"] = words("urn:second")
			}
			s["typed"] = len(s["domains"].([]any)) > 0 && len(s["groups"].([]any)) > 0 && rnd.IntN(2) == 0
			if s["ask"] = len(s["domains"].([]any)) == 0 && rnd.IntN(3) == 0; s["ask"] == false &&
				len(s["providers"].([]any)) == 0 {
				s["providers"] = words("third")
			}
			w.lays(fmt.Sprint("r", i), s)
		}
		w.domains("staff", any1("wrenmoor.example", "oakhollow.example", ""))
		w.domains("second", any1("wrenmoor.example", ".oakhollow.example", ""))
		w.phases(rnd, round)
		w.since = w.clock.get().Add(time.Second)
		w.clock.set(w.since)
		app, err := w.Records.Application("roster")
		require.NoError(t, err)
		snap := w.Snapshot()
		for who, number := range w.numbers {
			where := fmt.Sprintf("round %d, n-%d", round, who)
			b := driving.Browser{Address: any1("192.0.2.9", "198.51.100.1")}
			asked := policy.Asking{Network: limit.Network(b.Address)}
			if rnd.IntN(3) == 0 {
				asked.Hints = []string{any1("urn:second", "urn:third")}
			}
			o := w.request(b, func(q *saml.AuthnRequest) {
				for _, h := range asked.Hints {
					q.Providers = append(q.Providers, saml.EntityID(h))
				}
			})
			b = keep(b, o)
			c, err := w.Traces.WayAt(ctx, snap, app, asked)
			if p, _ := snap.Provider("second"); p.NextAt != "" || p.Phase == federation.Pilot {
				seen["pilot"]++
			}
			w.shows(o, c, err, where)
			if err == nil && c.Address {
				typed := any1(w.address(who), w.address(who), w.address((who+1)%6), "x@nobody.example",
					"stranger@wrenmoor.example",
					"CREW\\n-1")
				require.True(t, asked.Type(typed))
				o = w.Crossings.Type(ctx, b, o.Crossing, typed)
				c, err = w.Traces.WayAt(ctx, snap, app, asked)
				w.shows(o, c, err, where+" by "+typed)
				if seen["typed"]++; asked.Whole {
					seen["by a user name"]++
				}
			}
			if err == nil && c.Ask() {
				o = w.Crossings.Choose(ctx, b, o.Crossing, string(c.Providers[rnd.IntN(len(c.Providers))]), false)
				seen["chosen"]++
			}
			if err != nil {
				continue
			}
			done, provider := w.signsIn(b, o, who)
			own, err := w.Traces.WayOf(ctx, snap, app, number, asked)
			if moves := err == nil && !own.Has(federation.Name(provider)) && len(own.Providers) == 1; moves {
				w.shows(done, own, nil, where+", sent on")
				done, provider = w.signsIn(keep(b, done), done, who)
				seen["sent on"]++
			}
			entry, wrong := w.Traces.Simulate(ctx, snap, traces.Simulation{App: app, Person: number, Network: b.Address})
			require.NoError(t, wrong)
			switch {
			case err != nil:
				require.True(t, finding.Is(done.Finding, finding.Of(err).Code) || done.Departure != nil &&
					strings.Contains(string(done.Departure.Octets), saml.StatusRequestDenied), "%s: %v, and %v", where, done, err)
			case !own.Has(federation.Name(provider)):
				w.refused(done, where)
				seen["refused"]++
			case entry.Decision == federation.Deny:
				require.Equal(t, finding.NotInCohort, entry.Finding.Code, where)
				require.Contains(t, string(done.Departure.Octets), saml.StatusRequestDenied, where)
				seen["not in the cohort"]++
			default:
				require.NotNil(t, done.Departure, "%s: %+v", where, done.Finding)
				require.Equal(t, "Response", done.Departure.Message, where)
				seen["entered"]++
			}
		}
	}
	for _, each := range []string{"typed", "by a user name", "chosen", "sent on", "refused", "entered",
		"not in the cohort", "pilot"} {
		require.NotZero(t, seen[each], "%s: %v", each, seen)
	}
}

// phases puts providers and the application into some phase, at once or by a moment that has come since: written down
// or not.
func (w *ways) phases(rnd *rand.Rand, round int) {
	w.t.Helper()
	any1 := func(of ...string) string { return of[rnd.IntN(len(of))] }
	next := w.clock.get().Add(time.Minute).Format(time.RFC3339)
	for _, r := range [][2]string{{change.KindProvider, "second"}, {change.KindProvider, "third"},
		{change.KindApplication, "roster"}} {
		phase := any1("live", "live", "pilot")
		cohort := any1("group:pilots", "group:drivers network:192.0.2.0/24", fmt.Sprintf("person:%d",
			w.numbers[rnd.IntN(len(w.numbers))]), "share:40")
		s := federation.Settings{"phase": phase, "cohort": cohort, "nextAt": ""}
		if rnd.IntN(2) == 0 {
			s = federation.Settings{"nextPhase": phase, "nextCohort": cohort, "nextAt": next}
		}
		by := tester
		_, err := w.Records.Configure(ctx, by, r[0], r[1], 0, s)
		if err != nil && toConfirm(err) != "" {
			by.Confirms = toConfirm(err)
			_, err = w.Records.Configure(ctx, by, r[0], r[1], 0, s)
		}
		require.NoError(w.t, err)
	}
	w.clock.set(w.clock.get().Add(2 * time.Minute))
	if round%2 == 0 {
		require.NoError(w.t, w.Records.ChangeDue(ctx))
	}
}

// refused sees that the trace of a sign-in says that the way is not theirs.
func (w *ways) refused(o driving.Outcome, where string) {
	w.t.Helper()
	require.True(w.t, o.Finding != nil && o.Finding.Code == finding.WayOther ||
		o.Departure != nil && strings.Contains(string(o.Departure.Octets), saml.StatusRequestDenied), "%s: %+v", where, o)
}

// A typed address tells nothing where no rule says so; addresses that nobody has take the same steps and give the same
// answer as those that somebody has; who tries many is asked to wait.
func TestTypedAddressesTellNothing(t *testing.T) {
	w := newWays(t, 3)
	w.lays("ask", federation.Settings{"title": "t", "order": "9", "ask": true})
	w.domains("staff", "wrenmoor.example")
	browser := driving.Browser{Address: "192.0.2.1"}
	types := func(address string) driving.Outcome {
		o := w.request(browser, nil)
		return w.Crossings.Type(ctx, keep(browser, o), o.Crossing, address)
	}
	told := func(o driving.Outcome) string {
		if o.Departure != nil {
			provider, _ := w.sent(o)
			return provider
		}
		return fmt.Sprint(offers(o), o.Address)
	}
	require.Equal(t, "staff", told(types("p-0@wrenmoor.example")))
	require.Equal(t, "staff", told(types("nobody@wrenmoor.example")))
	require.Equal(t, strings.ReplaceAll(told(types("p-2@post.example")), "p-2", "nobody"),
		told(types("nobody@post.example")))

	// Where a rule lets it decide, nobody and whoever is not of the group are alike.
	w.lays("pilots", federation.Settings{"title": "t", "order": "1", "domains": words("wrenmoor.example", "post.example"),
		"groups": words("pilots"), "typed": true, "providers": words("third")})
	require.Equal(t, "third", told(types("P-0@Wrenmoor.example")), "a pilot")
	require.Equal(t, "staff", told(types("nobody@wrenmoor.example")))
	require.Equal(t, "third", told(types("p-2@post.example")), "a pilot")

	// From one network no more than sixty in five minutes, of whichever addresses.
	n := 0
	for ; n < 200 && told(types("nobody@wrenmoor.example")) == "staff"; n++ {
	}
	require.LessOrEqual(t, n, 60)
	require.Contains(t, types("p-0@wrenmoor.example").Address.Wrong, "Too many addresses")
	require.Equal(t, told(types("p-0@wrenmoor.example")), told(types("nobody@wrenmoor.example")))
	w.client("planner", nil, federation.Settings{"provider": ""})
	hint := func() driving.Outcome { return w.authorize(browser, "login_hint", "p-0@wrenmoor.example") }
	require.Equal(t, "staff", told(hint()), "an address that an application hints at counts among them")
	browser.Address = "198.51.100.1"
	require.Equal(t, "third", told(hint()))
	require.Equal(t, "third", told(types("p-0@wrenmoor.example")), "another network")
	w.clock.set(w.clock.get().Add(6 * time.Minute))
	browser.Address = "192.0.2.1"
	require.Equal(t, "third", told(types("p-0@wrenmoor.example")), "and later")
}

// Of an address that was typed traces keep what the settings of providers and of the application allow, and tell the
// same.
func TestTypedAddressesInTraces(t *testing.T) {
	for setting, shows := range map[string]bool{"": true, "emails=off userName=off": false,
		"emails=hashed userName=hashed": false} {
		w := newWays(t, 3)
		w.lays("pilots", federation.Settings{"title": "t", "order": "1", "domains": words("wrenmoor.example"),
			"groups": words("pilots"), "typed": true, "providers": words("third")})
		_, err := w.Records.Configure(ctx, tester, change.KindProvider, "third", 0,
			federation.Settings{"traceValues": setting})
		require.NoError(t, err)
		for _, address := range []string{"p-0@wrenmoor.example", "stranger.at@wrenmoor.example", "stranger.named"} {
			o := w.request(driving.Browser{}, nil)
			b := keep(driving.Browser{}, o)
			o = w.Crossings.Type(ctx, b, o.Crossing, address)
			if o.Departure == nil {
				o = w.Crossings.Choose(ctx, b, o.Crossing, "third", false)
			}
			done, _ := w.signsIn(b, o, 0)
			require.NotNil(t, done.Departure, "%+v", done.Finding)
			raw, err := w.store.Traces.Inputs(ctx, done.Reference)
			require.NoError(t, err)
			_, steps, err := w.Traces.Get(ctx, done.Reference)
			require.NoError(t, err)
			octets, err := json.Marshal([]any{raw, steps})
			require.NoError(t, err)
			local, domain, _ := strings.Cut(address, "@")
			require.Equal(t, shows, strings.Contains(string(octets), local+strings.Repeat("@", min(1, len(domain)))), "%q: %s",
				setting, octets)
			require.Contains(t, string(octets), domain)
		}
	}
}

// An address that somebody has takes no longer than one that nobody has, and no shorter: of two addresses one is as
// often the slower one. Compared are distributions, each pair in one moment.
func TestTypedAddressesTakeAsLong(t *testing.T) {
	w := newWays(t, 3)
	w.lays("pilots", federation.Settings{"title": "t", "order": "1", "domains": words("wrenmoor.example"),
		"groups": words("drivers"), "typed": true, "providers": words("third")}) // p-0 is a pilot
	takes := func(i int, address string) time.Duration {
		browser := driving.Browser{Address: fmt.Sprintf("203.0.%d.%d", i/250, i%250)}
		o := w.request(browser, nil)
		b := keep(browser, o)
		began := time.Now()
		w.Crossings.Type(ctx, b, o.Crossing, address)
		return time.Since(began)
	}
	const pairs = 300
	slower := 0
	for i := range pairs {
		of := []string{"p-0@wrenmoor.example", fmt.Sprintf("q-%d@wrenmoor.example", i%10)} // one takes turns in being first
		first, second := takes(i, of[i%2]), takes(i, of[1-i%2])
		if (first > second) == (i%2 == 0) {
			slower++
		}
	}
	require.InDelta(t, pairs/2, slower, 35, "four standard deviations")
}

// Whoever begins at a provider that is not their way is sent on to it as well: what they came by is none beyond the
// rules.
func TestProvidersBeginAndTheRulesHold(t *testing.T) {
	for providers, want := range map[string]string{"third": "third", "second third": "", "staff second": "staff"} {
		w := newWays(t, 1)
		_, err := w.Records.Configure(ctx, tester, change.KindProvider, "staff", 0,
			federation.Settings{"allowUnsolicited": true})
		require.NoError(t, err)
		w.lays("all", federation.Settings{"title": "t", "providers": words(strings.Fields(providers)...)})
		o := w.answers(driving.Browser{}, "staff", "", 0, "https://gate.example/open/roster")
		require.Equal(t, "https://gate.example/open/roster?via=staff", o.Next, "%+v", o.Finding)
		o = w.Crossings.Open(ctx, keep(driving.Browser{}, o), driving.Start{App: "roster", Via: "staff"})
		if want == "" {
			require.Equal(t, []federation.Name{"second", "third"}, offers(o))
			continue
		}
		provider, _ := w.sent(o)
		require.Equal(t, want, provider)
	}
}

// What somebody typed goes to the provider that it chose alone: sent on to their own way, nothing of it goes along,
// nor stays in traces that are not to keep it.
func TestTypedAddressesAreNotTakenAlong(t *testing.T) {
	w := newWays(t, 4)
	w.lays("pilots", federation.Settings{"order": "1", "domains": words("wrenmoor.example"), "groups": words("pilots"),
		"typed":     true,
		"providers": words("third")})
	w.lays("rest", federation.Settings{"order": "2", "domains": words("wrenmoor.example"), "providers": words("staff")})
	for _, name := range []string{"third", "staff"} {
		_, err := w.Records.Configure(ctx, tester, change.KindProvider, name, 0,
			federation.Settings{"traceValues": "emails=off"})
		require.NoError(t, err)
	}
	o := w.request(driving.Browser{}, nil)
	b := keep(driving.Browser{}, o)
	o = w.Crossings.Type(ctx, b, o.Crossing, "p-0@wrenmoor.example")
	moved, provider := w.signsIn(b, o, 3) // who is no pilot
	require.Equal(t, "third", provider)
	b = keep(b, moved)
	done, provider := w.signsIn(b, moved, 3)
	require.Equal(t, "staff", provider)
	require.NotNil(t, done.Departure, "%+v", done.Finding)
	raw, err := w.store.Traces.Inputs(ctx, done.Reference)
	require.NoError(t, err)
	octets, err := json.Marshal(raw)
	require.NoError(t, err)
	require.NotContains(t, string(octets), "p-0@")
}

// People for whom a rule leaves no provider are found without a sign-in, and counted where their sign-in is refused.
func TestPeopleWithoutAWay(t *testing.T) {
	w := newWays(t, 4)
	found := func() string {
		all, err := w.Checking.Check(ctx, checking.Filter{Code: string(finding.WayNone)})
		require.NoError(t, err)
		var out []string
		for _, c := range all {
			for _, f := range c.Findings {
				out = append(out, fmt.Sprint(c.Name, f.Evidence))
			}
		}
		return strings.Join(out, " ")
	}
	w.lays("pilots", federation.Settings{"order": "1", "groups": words("pilots"), "providers": words("third")})
	require.Empty(t, found())
	_, err := w.Records.Configure(ctx, tester, change.KindProvider, "third", 0, federation.Settings{"phase": "paused"})
	require.NoError(t, err, "closing a way is meant, and acts at once")
	snap := w.Snapshot()
	app, err := w.Records.Application("roster")
	require.NoError(t, err)
	without := 0
	for _, number := range w.numbers {
		if _, err := w.Traces.WayOf(ctx, snap, app, number, policy.Asking{}); err != nil {
			without++
		}
	}
	require.Equal(t, 2, without)
	require.Contains(t, found(), fmt.Sprintf("roster[{People  %d", without))
}
