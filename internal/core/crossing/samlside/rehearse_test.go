package samlside_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/crossing/samlside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/core/trace"
)

// A rehearsal passes over phases, and over nothing else; whoever is not marked for it meets them.
func TestRehearsals(t *testing.T) {
	key := person.LinkKey("", profile.Subject{Format: string(saml.FormatEmail), Value: "ada@wrenmoor.example"})
	run := func() *crossing.Rehearsing { return &crossing.Rehearsing{Run: "7", App: "roster"} }
	closed := func(w *world, app, provider federation.Phase) {
		a, p := *w.app, *w.provider
		a.Rollout, p.Rollout = federation.Rollout{Phase: app}, federation.Rollout{Phase: provider}
		w.app, w.provider, w.snap = &a, &p, w.snap.With(&a, &p)
	}
	for what, c := range map[string]struct {
		app, provider federation.Phase
		change        func(w *world, r *crossing.Rehearsing)
		want          finding.Code // "" for let in
	}{
		"both live":     {app: federation.Live, provider: federation.Live},
		"both drafts":   {app: federation.Draft, provider: federation.Draft},
		"one is paused": {app: federation.Paused, provider: federation.Live},
		"both retired":  {app: federation.Retired, provider: federation.Retired},
		"of another one": {federation.Draft, federation.Live, func(_ *world, r *crossing.Rehearsing) { r.App = "other" },
			finding.ApplicationDisabled},
		"of one that had the name before": {federation.Draft, federation.Live,
			func(_ *world, r *crossing.Rehearsing) { r.AppID = "gone" }, finding.ApplicationDisabled},
		"not marked": {federation.Draft, federation.Draft, func(w *world, _ *crossing.Rehearsing) { w.marked = nil },
			finding.ApplicationDisabled},
		"a provider that is not the rehearsal's": {federation.Live, federation.Draft,
			func(w *world, r *crossing.Rehearsing) { r.Provider = "other" }, finding.NoProvider},
		"as the rules decide": {app: federation.Draft, provider: federation.Draft,
			change: func(w *world, r *crossing.Rehearsing) { r.Provider = "" }},
		"as the rules decide, and it is retired": {federation.Draft, federation.Retired,
			func(w *world, r *crossing.Rehearsing) { r.Provider = "" }, finding.NoProvider},
		"metadata that has expired": {federation.Draft, federation.Live, func(w *world, _ *crossing.Rehearsing) {
			a := *w.app
			a.StrictValidity, a.Intake.ValidUntil = true, now.Add(-time.Hour)
			w.app, w.snap = &a, w.snap.With(&a)
		}, finding.MetadataExpired},
		"a rule that denies": {federation.Draft, federation.Live, func(w *world, _ *crossing.Rehearsing) {
			w.rules(federation.Settings{"name": "out", "then": "deny"})
		}, finding.AccessDenied},
		"a provider that lacks its addresses": {federation.Draft, federation.Draft, func(w *world, _ *crossing.Rehearsing) {
			p := *w.provider
			side := *p.Side.(*samlside.Provider)
			side.IDP = &saml.IDP{}
			p.Side = &side
			w.provider, w.snap = &p, w.snap.With(&p)
		}, finding.RehearsalUnfinished},
		"somebody disabled": {federation.Draft, federation.Live, func(w *world, _ *crossing.Rehearsing) {
			w.people[key] = person.Person{ID: 7, Key: key, Disabled: true}
		}, finding.PersonDisabled},
	} {
		t.Run(what, func(t *testing.T) {
			w := newWorld(t)
			closed(w, c.app, c.provider)
			w.marked = run()
			w.marked.Provider = "staff"
			if c.change != nil {
				c.change(w, w.marked)
			}
			got := w.request(nil)
			if got.Result == crossing.Waiting {
				got = w.answer(got.State, nil)
			}
			if c.want != "" {
				require.Equal(t, c.want, got.Finding.Code)
				return
			}
			require.Equal(t, crossing.Entered, got.Result, "%v", got.Finding)
			require.Equal(t, "7", got.Run.Run)
			for _, e := range w.entries {
				require.True(t, e.Decided.Alike(trace.Replay(w.snap, e)), "it is decided again alike")
			}
		})
	}
}

// What a rehearsal leaves behind is its own: a session that nothing else goes by, nothing of somebody on record but
// links and subjects, and of somebody new an account that is marked.
func TestRehearsalsLeaveNothingThatEnters(t *testing.T) {
	key := person.LinkKey("", profile.Subject{Format: string(saml.FormatEmail), Value: "ada@wrenmoor.example"})
	persistent := func(q *saml.AuthnRequest) { q.NameIDFormat = saml.FormatPersistent }
	w := newWorld(t)
	p := *w.provider
	p.IntakeMapping = profile.Mapping{Rules: []profile.Rule{{To: profile.Target{Name: "department"},
		From: []profile.Source{{Attribute: "groups"}}, Keep: profile.KeepPerson}}}
	w.provider, w.snap = &p, w.snap.With(&p)
	w.enter(nil)
	real := w.keep(w.enter(nil))
	require.Empty(t, real.Run)

	w.marked = &crossing.Rehearsing{Run: "7", App: "roster"}
	asked := w.request(nil)
	require.Equal(t, crossing.Waiting, asked.Result, "whoever is in for real is asked in a rehearsal")
	for who, c := range map[string]struct {
		person  person.Person
		effects string
	}{
		"new":       {person.Person{}, "[End Once ChangePerson PutSession Issued]"},
		"on record": {person.Person{ID: 7, Key: key, Revision: 3}, "[End Once PutSession Issued]"},
	} {
		w.people[key], w.rehearsed = c.person, nil
		first := w.request(persistent)
		first.State.Kept = true
		got := w.answer(first.State, nil)
		require.Equal(t, c.effects, fmt.Sprint(effects(got)), who)
		for _, e := range got.Effects {
			switch e := e.(type) {
			case crossing.ChangePerson:
				require.Equal(t, "7", e.Run, who)
				require.Len(t, e.Known, 1, who)
				require.Len(t, e.Link, 1, who)
			case crossing.PutSession:
				require.Equal(t, "7", e.Session.Run, who)
				require.Empty(t, e.Old, "the real one stays")
				w.rehearsed = &e.Session
			}
		}
	}
	require.Equal(t, crossing.Entered, w.request(nil).Result, "its own session lets in again")
	w.session, w.marked = w.rehearsed, nil
	require.Equal(t, crossing.Waiting, w.request(nil).Result, "and nobody for real")
	w.session, w.marked = nil, &crossing.Rehearsing{Run: "8", App: "roster"}
	require.Equal(t, crossing.Waiting, w.request(nil).Result, "nor in another run")

	// It ends with its run, and does not go on as a real one.
	w.rehearsed = nil
	for _, other := range []*crossing.Rehearsing{nil, {Run: "9", App: "roster"}} {
		w.marked = &crossing.Rehearsing{Run: "8", App: "roster"}
		asked = w.request(nil)
		w.marked = other
		got := w.answer(asked.State, nil)
		require.Equal(t, finding.RehearsalOver, got.Finding.Code)
	}
}

// A rehearsal that begins at the provider is let through to the application that it is about, and to no other.
func TestRehearsalsThatBeginAtTheProvider(t *testing.T) {
	w := newWorld(t)
	a, p := *w.app, *w.provider
	a.Rollout, p.Rollout, p.AllowUnsolicited = federation.Rollout{Phase: federation.Draft},
		federation.Rollout{Phase: federation.Draft}, true
	w.app, w.provider, w.snap = &a, &p, w.snap.With(&a, &p)
	sent := func(state string) crossing.Turn {
		octets := w.response(crossing.State{}, func(a *saml.Answer) { a.InResponseTo = "" })
		return w.run(crossing.State{}, crossing.Event{Kind: crossing.Arrived,
			Arrival: samlside.Response(saml.Inbound{Octets: octets, RelayState: state}, "staff", nil)})
	}
	require.Equal(t, finding.ProviderDisabled, sent("roster").Finding.Code)
	w.marked = &crossing.Rehearsing{Run: "7", App: "roster", Provider: "staff"}
	got := sent("roster")
	require.Equal(t, &crossing.Go{To: "https://g.example/open/roster?via=staff"}, got.Next, "%v", got.Finding)
	require.Equal(t, "7", got.Run.Run)
	opened := w.run(crossing.State{}, crossing.Event{Kind: crossing.Opened, App: "roster", Via: "staff"})
	require.Equal(t, crossing.Waiting, opened.Result, "%v", opened.Finding)
	require.Equal(t, crossing.Rehearsal, opened.State.Mode)
	require.NotNil(t, sent("elsewhere").Run, "an address that leads nowhere is the rehearsal's to tell")
	other := *w.app
	other.Name, other.ID = "other", "id-other"
	w.snap = w.snap.With(&other)
	require.Nil(t, sent("other").Run, "what is about another application is not")
}
