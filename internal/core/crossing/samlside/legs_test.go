package samlside_test

import (
	"encoding/json"
	"testing"

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

// second adds a provider "card", to which whoever is among the drivers is sent on.
func (w *world) second() {
	card := *w.provider
	card.Name, card.ID, w.provider.ID = "card", "id-card", "id-staff"
	side := *w.provider.Side.(*samlside.Provider)
	side.Address = "https://g.example/saml/sp/card/acs"
	side.IDP = &saml.IDP{EntityID: "urn:card", Keys: side.IDP.Keys,
		SSO: []saml.Endpoint{{Binding: saml.BindingRedirect, Location: "https://card.example/sso"}}}
	card.Side = &side
	way, err := federation.SelectionRules.Plain("drivers").Apply(federation.Settings{"title": "Drivers",
		"groups": []any{"drivers"}, "providers": []any{"card"}})
	require.NoError(w.t, err)
	other, err := federation.SelectionRules.Plain("others").Apply(federation.Settings{"title": "Others",
		"providers": []any{"staff"}})
	require.NoError(w.t, err)
	unit := &federation.Unit{Kind: federation.KindGroup, Name: "drivers", Title: "Drivers"}
	w.snap = w.snap.Having([]federation.Object{w.provider, &card, unit, way, other}, nil)
}

// byCard answers what was asked of the second provider.
func (w *world) byCard(s crossing.State, edit func(*saml.Answer)) crossing.Turn {
	octets := w.response(s, func(a *saml.Answer) {
		a.Issuer, a.Destination, a.AssertionID, a.ResponseID = "urn:card", "https://g.example/saml/sp/card/acs", "_c", "_d"
		if edit != nil {
			edit(a)
		}
	})
	return w.run(s, crossing.Event{Kind: crossing.Arrived,
		Arrival: samlside.Response(saml.Inbound{Octets: octets, RelayState: s.ID}, "card", nil)})
}

// A crossing by one provider, then by a second one: what the first said is added to, not overwritten.
func TestLegs(t *testing.T) {
	link := func(p federation.ID) string {
		return person.LinkKey(p, profile.Subject{Format: string(saml.FormatEmail), Value: "ada@wrenmoor.example"})
	}
	ada := func(p federation.ID) person.Person {
		return person.Person{ID: 7, Key: link(p), Members: []person.Membership{{Kind: federation.KindGroup, Name: "drivers",
			Source: person.FromHand}}}
	}
	// moved is the crossing in which they were sent on.
	moved := func(w *world) crossing.State {
		w.second()
		w.people[link("id-staff")], w.people[link("id-card")] = ada("id-staff"), ada("id-card")
		sent := w.answer(w.request(nil).State, nil)
		require.Equal(t, crossing.Waiting, sent.Result, "%v", sent.Finding)
		require.EqualValues(t, "card", sent.State.Leg().Provider)
		require.Len(t, sent.State.Legs, 2)
		return sent.State
	}
	proofs := func(got crossing.Turn) (by []federation.Name) {
		for _, e := range got.Effects {
			if put, is := e.(crossing.PutSession); is {
				for _, p := range put.Session.Proofs {
					by = append(by, p.Provider)
				}
			}
		}
		return by
	}
	for rule, c := range map[string]struct {
		now  func(w *world, s crossing.State) crossing.Turn
		want []federation.Name
		code finding.Code
	}{
		"both are in the session, the newest first": {want: []federation.Name{"card", "staff"},
			now: func(w *world, s crossing.State) crossing.Turn { return w.byCard(s, nil) }},
		"kept and read again between": {want: []federation.Name{"card", "staff"},
			now: func(w *world, s crossing.State) crossing.Turn {
				octets, err := json.Marshal(s)
				require.NoError(t, err)
				var kept crossing.State
				require.NoError(t, json.Unmarshal(octets, &kept))
				return w.byCard(kept, nil)
			}},
		"somebody else by the second: of them alone": {want: []federation.Name{"card"},
			now: func(w *world, s crossing.State) crossing.Turn {
				p := ada("id-card")
				p.ID = 8
				w.people[link("id-card")] = p
				return w.byCard(s, nil)
			}},
		"in by the second already: the first is added": {want: []federation.Name{"staff", "card"},
			now: func(w *world, s crossing.State) crossing.Turn {
				w.keep(w.byCard(s, nil))
				w.session.Proofs = w.session.Proofs[:1]
				return w.answer(w.request(func(q *saml.AuthnRequest) { q.ForceAuthn = false }).State, nil)
			}},
		"the first may not be passed on: it is not what they enter by": {want: []federation.Name{"card", "staff"},
			now: func(w *world, s crossing.State) crossing.Turn {
				s.Legs[0].Word.NoProxy = true
				return w.byCard(s, nil)
			}},
		"an answer of the first again": {code: finding.InResponseToOther, now: func(w *world,
			s crossing.State) crossing.Turn {
			return w.answer(s, nil)
		}},
	} {
		t.Run(rule, func(t *testing.T) {
			w := newWorld(t)
			got := c.now(w, moved(w))
			if c.code != "" {
				require.Equal(t, c.code, got.Finding.Code)
				return
			}
			require.Equal(t, crossing.Entered, got.Result, "%v", got.Finding)
			require.Equal(t, c.want, proofs(got))
			for _, e := range w.entries {
				again := trace.Replay(w.snap, e)
				require.True(t, e.Decided.Alike(again), "it is decided again alike: %+v\n%+v", e.Decided, again)
			}
		})
	}
}

// A step-up adds a proof of the same provider: both have to let themselves be passed on.
func TestAStepUpIsALeg(t *testing.T) {
	w := newWorld(t)
	w.rules(federation.Settings{"name": "card", "application": "roster", "then": "step-up", "context": smartcard})
	key := person.LinkKey("", profile.Subject{Format: string(saml.FormatEmail), Value: "ada@wrenmoor.example"})
	w.people[key] = person.Person{ID: 7, Key: key}
	weak := w.answer(w.request(nil).State, nil).State
	require.Len(t, weak.Legs, 2)
	strong := func(s crossing.State) crossing.Turn {
		return w.answer(s, func(a *saml.Answer) { a.Context = smartcard })
	}
	require.Equal(t, crossing.Entered, strong(weak).Result)
	weak.Legs[0].Word.NoProxy = true
	require.Equal(t, finding.ProxyForbidden, strong(weak).Finding.Code)
}

// A crossing that an earlier build kept, when it had one provider, goes on.
func TestCrossingsOfBefore(t *testing.T) {
	w := newWorld(t)
	asked := w.request(nil).State
	l := asked.Leg()
	asked.Legs = nil
	octets, err := json.Marshal(asked)
	require.NoError(t, err)
	var fields map[string]any
	require.NoError(t, json.Unmarshal(octets, &fields))
	fields["provider"], fields["providerState"], fields["handle"], fields["askedAt"] = l.Provider, l.Own, l.Handle, l.At
	octets, err = json.Marshal(fields)
	require.NoError(t, err)
	var kept crossing.State
	require.NoError(t, json.Unmarshal(octets, &kept))
	require.Equal(t, l, kept.Leg())
	require.Equal(t, crossing.Entered, w.answer(kept, nil).Result)
	require.Error(t, json.Unmarshal([]byte(`{"legs": 7}`), &kept))
}
