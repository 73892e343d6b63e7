package signout

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
)

// provider is of a protocol of tests: the browser is sent to it at an address, "" for none.
type provider struct {
	federation.ProviderSide
	at string
}

func (provider) Protocol() string                 { return "harbour" }
func (p provider) Identity() string               { return "provider " + p.at }
func (provider) Keys() []federation.Key           { return nil }
func (provider) Can() (none federation.Abilities) { return none }
func (p provider) InCrossing() crossing.Abilities { return crossing.Abilities{Parting: p} }
func (p provider) Part(_ *federation.Gate, _ *federation.Provider, up crossing.Upstream, state string) (string, bool) {
	return p.at + "?" + up.Subject + "&" + state, p.at != ""
}

// application hears at an address.
type application struct {
	federation.ApplicationSide
	at string
}

func (application) Protocol() string                 { return "harbour" }
func (a application) Identity() string               { return "application " + a.at }
func (application) Keys() []federation.Key           { return nil }
func (application) Can() (none federation.Abilities) { return none }
func (application) Shared() (s federation.Sharing)   { return s }
func (a application) InCrossing() crossing.Abilities { return crossing.Abilities{Hearing: a} }
func (a application) SignedOut(session string, name json.RawMessage) (crossing.Notice, bool) {
	return crossing.Notice{Address: a.at, Session: session, Name: name}, a.at != ""
}
func (application) Notify(*federation.Gate, crossing.Notice, string, time.Time) (none crossing.CallOctets, _ error) {
	return none, nil
}

// told is a turn in words.
func told(t Turn) string {
	var out []string
	for _, e := range t.Effects {
		switch e := e.(type) {
		case EndSession:
			out = append(out, "end "+e.Session.Lasting)
		case Tell:
			out = append(out, fmt.Sprintf("tell %s %s", e.App, e.Notice.Session))
		case Keep:
			out = append(out, "keep for "+string(e.To.Name))
		}
	}
	switch n := t.Next.(type) {
	case *Send:
		out = append(out, "send to "+string(n.To.Name))
	case *Done:
		out = append(out, "back to "+n.Back)
	case *crossing.Lacks:
		for _, need := range n.Needs {
			out = append(out, "lack "+need.Key())
		}
	}
	return strings.Join(append(out, fmt.Sprintf("missed %v heard %v", t.State.Missed, t.State.Heard)), ", ")
}

func TestASignOut(t *testing.T) {
	now := time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC)
	basics := func(n string) federation.Basics {
		return federation.Basics{Name: federation.Name(n), ID: federation.ID(n)}
	}
	having := func(without ...string) *federation.Snapshot {
		var all []federation.Object
		for name, at := range map[string]string{"north": "https://north.example", "mute": "",
			"yard": "https://yard.example"} {
			if !strings.Contains(fmt.Sprint(without), name) {
				all = append(all, &federation.Provider{Basics: basics(name), Side: provider{at: at}})
			}
		}
		for name, at := range map[string]string{"planner": "https://planner.example", "deaf": ""} {
			all = append(all, &federation.Application{Basics: basics(name), Side: application{at: at}})
		}
		return federation.Load(federation.Gate{}, all...)
	}
	session := &crossing.Session{Lasting: "s1"}
	for _, name := range []string{"north", "mute", "yard", "saml"} {
		a := crossing.Answer{}
		a.Provider, a.ProviderID = federation.Name(name), federation.ID(name)
		session.Proofs = append(session.Proofs, a)
	}
	facts := crossing.Facts{}
	facts.Put(WasTold{"s1"}, []Issued{{App: "planner", Session: "a"}, {App: "planner", Session: "a"},
		{App: "planner", Session: "b"},
		{App: "deaf", Session: "c"}, {App: "removed", Session: "d"}})
	for _, name := range []string{"north", "mute", "yard"} {
		facts.Put(IsIn{"s1", federation.ID(name)}, &crossing.Upstream{Subject: "ada"})
	}
	facts.Put(IsIn{"s1", "saml"}, (*crossing.Upstream)(nil))

	facts.Put(Stands{"s1"}, true)

	left := Event{Kind: Left, Session: session, Back: "planner"}
	ends := "end s1, tell planner a, tell planner b, "
	require.Equal(t, "lack told, lack stands, lack in north, lack in mute, lack in yard, lack in saml, missed [] heard []",
		told(Advance(having(), State{}, left, crossing.Facts{}, now)))
	require.Equal(t, ends+"back to , missed [] heard []",
		told(Advance(having(), State{}, Event{Kind: Ended, Session: session}, facts, now)),
		"nobody is here to be sent anywhere")
	twice := crossing.Facts{}
	twice.Put(WasTold{"s1"}, []Issued(nil))
	twice.Put(Stands{"s1"}, false)
	for _, a := range session.Proofs {
		twice.Put(IsIn{"s1", a.ProviderID}, (*crossing.Upstream)(nil))
	}
	require.Equal(t, "end s1, back to planner, missed [] heard []", told(Advance(having(), State{}, left, twice, now)),
		"who was first sends them there")
	first := Advance(having(), State{}, left, facts, now)
	require.Equal(t, ends+"keep for north, send to north, missed [mute saml] heard []", told(first))
	address, ok := Address(having(), *first.State.At, "of-the-state")
	require.True(t, ok)
	require.Equal(t, "https://north.example?ada&of-the-state", address)

	// What is kept comes back as it was, from wherever it was kept.
	octets, err := json.Marshal(first.State)
	require.NoError(t, err)
	var kept State
	require.NoError(t, json.Unmarshal(octets, &kept))
	for _, c := range []struct {
		what string
		snap *federation.Snapshot
		from federation.Name
		at   time.Duration
		want string
	}{
		{"in time", having(), "north", Visit, "keep for yard, send to yard, missed [mute saml] heard [north]"},
		{"too late", having(), "north", Visit + 1, "back to , missed [mute saml] heard []"},
		{"from another one", having(), "yard", 0, "back to , missed [mute saml] heard []"},
		{"the next one was removed", having("yard"), "north", 0, "back to planner, missed [mute saml yard] heard [north]"},
	} {
		got := Advance(c.snap, kept, Event{Kind: Returned, From: c.from}, crossing.Facts{}, now.Add(c.at))
		require.Equal(t, c.want, told(got), c.what)
	}
	second := Advance(having(), kept, Event{Kind: Returned, From: "north"}, crossing.Facts{}, now)
	last := Advance(having(), second.State, Event{Kind: Returned, From: "yard"}, crossing.Facts{}, now)
	require.Equal(t, "back to planner, missed [mute saml] heard [north yard]", told(last))
	require.Equal(t, "back to , missed [mute saml] heard [north yard]",
		told(Advance(having(), last.State, Event{Kind: Returned, From: "yard"}, crossing.Facts{}, now)), "it is over")
}
