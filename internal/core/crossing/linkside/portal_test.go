package linkside_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/crossing/linkside"
	"innergate.example/innergate/internal/core/crossing/samlside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/saml"
)

var now = time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)

// railway is a configuration with groups g0 to g9, each in the one before, of which g5 and g0 lie in nothing.
type railway struct {
	snap *federation.Snapshot
	by   *federation.Provider
	who  person.Person
}

func newRailway(groups int, member ...int) railway {
	r := railway{by: &federation.Provider{Side: &samlside.Provider{IDP: &saml.IDP{EntityID: "urn:staff"}}}}
	r.by.Name, r.by.ID, r.by.Title, r.by.Phase = "staff", "staff-id", "Staff", federation.Live
	put := []federation.Object{r.by}
	for i := range groups {
		u := &federation.Unit{Kind: federation.KindGroup, Name: federation.Name(fmt.Sprint("g", i)),
			Title: fmt.Sprint("G", i)}
		if i%5 != 0 {
			u.Inside = federation.Name(fmt.Sprint("g", i-1))
		}
		put = append(put, u)
	}
	r.who = person.Person{ID: 7, Identifier: "x"}
	for _, i := range member {
		r.who.Members = append(r.who.Members, person.Membership{Kind: federation.KindGroup,
			Name: federation.Name(fmt.Sprint("g", i)), Source: person.FromHand})
	}
	r.snap = federation.Load(federation.Gate{Base: "https://gate.example",
		Portal: linkside.Portal("https://gate.example")}, put...)
	return r
}

func app(i int) *federation.Application {
	a := &federation.Application{Side: &linkside.Application{Location: "https://x.example/"}}
	a.Name, a.Title, a.Phase = federation.Name(fmt.Sprint("app-", i)), fmt.Sprint("App ", i), federation.Live
	a.ID = federation.ID(a.Name)
	return a
}

func (r railway) visit() crossing.Visit {
	word := crossing.Answer{Authentication: crossing.Authentication{Provider: "staff", ProviderID: "staff-id", At: now},
		Subject: profile.Subject{Value: "ada"},
		Ends:    now.Add(time.Hour)}
	return crossing.Visit{Session: &crossing.Session{Person: r.who, Proofs: []crossing.Answer{word},
		Expires: now.Add(time.Hour)},
		People: map[string]person.Person{person.LinkKey("staff-id", word.Subject): r.who}}
}

// admitted are the applications that a sign-in would let somebody enter, each decided by itself.
func (r railway) admitted(t *testing.T) (out []federation.Name) {
	v := r.visit()
	for _, a := range r.snap.Applications() {
		e, err := crossing.Trial{Snap: r.snap, Provider: r.by, App: a, Person: r.who, Said: &v.Session.Proofs[0],
			Now: now}.Entering()
		require.NoError(t, err)
		if entry, err := crossing.Admit(r.snap, e, now); err == nil && entry.Outcome != federation.Deny {
			out = append(out, a.Name)
		}
	}
	return out
}

// What is found by index is what a sign-in decides, for rules and admissions of every form.
func TestPortalIsWhatSignInsDecide(t *testing.T) {
	pick := rand.New(rand.NewPCG(31, 7))
	for round := range 300 {
		r := newRailway(10, pick.IntN(10), pick.IntN(10))
		put := []federation.Object{}
		for i := range 8 {
			a := app(i)
			a.Everyone = []string{"", federation.EveryoneYes, federation.EveryoneNo, federation.EveryoneNo,
				federation.EveryoneNo}[pick.IntN(5)]
			a.Phase = []federation.Phase{federation.Live, federation.Live, federation.Live, federation.Paused}[pick.IntN(4)]
			if pick.IntN(2) == 0 {
				require.NoError(t, federation.Apply(a, federation.Settings{"admissions": fmt.Sprintf("g%d=%s", pick.IntN(10),
					[]string{"yes", "no"}[pick.IntN(2)])}))
			}
			put = append(put, a)
			if pick.IntN(4) == 0 {
				r.who.Admitted = append(r.who.Admitted, person.Admitted{App: a.ID,
					Until: now.Add(time.Duration(pick.IntN(3)-1) * time.Hour)})
			}
		}
		for i := range 6 {
			s := federation.Settings{"title": "R", "order": fmt.Sprint(i), "then": []string{"allow", "deny",
				"step-up"}[pick.IntN(3)], "maxAge": "5m"}
			if s["then"] != "step-up" {
				delete(s, "maxAge")
			}
			if pick.IntN(5) > 0 {
				s["application"] = fmt.Sprint("app-", pick.IntN(8))
			}
			switch pick.IntN(5) {
			case 0:
				s["people"] = []any{[]string{"7", "8"}[pick.IntN(2)]}
			case 1, 2:
				s["groups"], s["alone"] = []any{fmt.Sprint("g", pick.IntN(10))}, pick.IntN(2) == 0
			case 3:
				s["providers"] = []any{"staff"}
			}
			o, err := federation.AccessRules.Plain(federation.Name(fmt.Sprint("rule-", i))).Apply(s)
			require.NoError(t, err)
			put = append(put, o)
		}
		pick.Shuffle(len(put), func(i, j int) { put[i], put[j] = put[j], put[i] })
		for _, o := range put { // saved one by one: what is kept of the index is as if all were made at once
			r.snap = r.snap.With(o)
		}
		shown, need := crossing.Portal(r.snap, r.visit(), now)
		require.Nil(t, need)
		want := r.admitted(t)
		if entry := shown.Out; entry { // a rule of the gate is about the portal, too
			continue
		}
		got := []federation.Name{}
		for _, x := range shown.Tiles {
			got = append(got, x.App.Name)
		}
		slices.Sort(got)
		require.ElementsMatch(t, want, got, "round %d", round)
	}
}

// An application has so many starting points and no more, each of which is one of its own.
func TestStartingPointsAreBounded(t *testing.T) {
	r := newRailway(1)
	start := func(i int) *federation.Plain {
		o, err := federation.StartingPoints.Plain(federation.Name(fmt.Sprint("start-",
			i))).Apply(federation.Settings{"title": "S", "application": "app-1"})
		require.NoError(t, err)
		return o.(*federation.Plain)
	}
	put := []federation.Object{app(1)}
	for i := range 1000 {
		put = append(put, start(i))
	}
	full := r.snap.With(put...)
	require.NoError(t, federation.StartingPoints.Check(full, start(999)))
	require.ErrorContains(t, federation.StartingPoints.Check(full.With(start(1000)), start(1000)), "at most 1000")
	shown, _ := crossing.Portal(full, r.visit(), now)
	require.Len(t, shown.Tiles, 1001)
}

// The portal of somebody in 200 groups, who enters 300 of 5,000 applications.
func BenchmarkPortalDecided(b *testing.B) {
	var member []int
	for i := range 200 {
		member = append(member, i)
	}
	r := newRailway(200, member...)
	var put []federation.Object
	for i := range 5000 {
		a := app(i)
		a.Everyone = federation.EveryoneNo
		if i < 300 {
			require.NoError(b, federation.Apply(a, federation.Settings{"admissions": fmt.Sprintf("g%d=yes", i%200)}))
		}
		put = append(put, a)
	}
	r.snap = r.snap.With(put...)
	v := r.visit()
	for b.Loop() {
		shown, _ := crossing.Portal(r.snap, v, now)
		require.Len(b, shown.Tiles, 300)
	}
}
