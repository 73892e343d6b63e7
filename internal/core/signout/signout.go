// Package signout decides what follows when somebody signs out, or a session ends: who was told somebody in it, how
// each of them hears that this is over, and where the browser goes meanwhile. It is a machine beside the crossing and
// made like it:
//
//	Advance(snapshot, state, event, facts, now) → state', effects, what comes next
//
// Participants that hear through the back channel are told at once, each by a notice that waits in the outbox until
// it is heard or its time is over: one that does not answer holds up nobody. Participants that the browser has to be
// sent to are visited one after another; each has a time by which the person is to be back. Whatever becomes of them,
// the session here has ended before anybody is asked.
package signout

import (
	"encoding/json"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
)

// Kind is what happened.
type Kind string

// Events.
const (
	Left     Kind = "left"     // the person signs out, in this browser
	Ended    Kind = "ended"    // a session ends without them: it is taken over, somebody is disabled, a provider says so
	Returned Kind = "returned" // a participant sends the browser back
)

// Event is what happened to a sign-out.
type Event struct {
	Kind    Kind
	Session *crossing.Session // Left, Ended
	Trace   string            // number under which what follows is recorded, "" for none
	Back    string            // Left: where the person wants to go at last, "" for nowhere
	From    federation.Name   // Returned: the provider
}

// State is a sign-out between two turns, while the browser is at a participant.
type State struct {
	Trace   string        `json:"trace,omitempty"`
	Waiting []Participant `json:"parts,omitempty"` // where the person is still to be sent, in order
	Back    string        `json:"back,omitempty"`
	At      *Participant  `json:"at,omitempty"`     // where they are
	Until   time.Time     `json:"until,omitzero"`   // by when they are to be back
	Heard   []string      `json:"heard,omitempty"`  // participants that sent them back
	Missed  []string      `json:"missed,omitempty"` // those where the session goes on: they cannot be told, or not any more
}

// Participant is a provider where the person is in, which the browser is sent to.
type Participant struct {
	Name     federation.Name   `json:"name"`
	ID       federation.ID     `json:"id"`
	Upstream crossing.Upstream `json:"upstream"`
}

// Visit is how long a participant may take to send the person back.
const Visit = 10 * time.Minute

// Turn is what came of an event.
type Turn struct {
	State   State
	Effects []crossing.Effect
	Next    Next
	Notices []Notice // those who are told through the back channel
}

// Next is what comes next: one of *Send, *Done, *crossing.Lacks.
type Next any

// Send sends the browser to a participant, which is told to send it back with a state that nobody can guess.
type Send struct{ To Participant }

// Done is the end: the person goes back, or nowhere ("").
type Done struct{ Back string }

// EndSession ends the session with everything that hangs on it. There is no guard: ending one that has ended is no
// loss.
type EndSession struct{ Session *crossing.Session }

// Tell puts a notice to an application into the outbox.
type Tell struct{ Notice }

// Keep stores the state under the one that the browser comes back with, for the participant alone and once.
type Keep struct{ To Participant }

func (EndSession) Effect() {}
func (Tell) Effect()       {}
func (Keep) Effect()       {}

// WasTold asks what applications were told in a session.
type WasTold struct{ Session string } // its lasting name

// Key is one: a sign-out is of one session.
func (WasTold) Key() string { return "told" }

// Outside is false.
func (WasTold) Outside() bool { return false }

// Gives what they were told.
func (WasTold) Gives([]Issued) {}

// Stands asks whether a session stands still: it may be signed out twice at once.
type Stands struct{ Session string } // its lasting name

// Key is one, as that of WasTold.
func (Stands) Key() string { return "stands" }

// Outside is false.
func (Stands) Outside() bool { return false }

// Gives whether it does.
func (Stands) Gives(bool) {}

// IsIn asks what a provider gave with its word in a session. The fact is nil if nothing is kept of it.
type IsIn struct {
	Session  string
	Provider federation.ID
}

// Key names the provider.
func (n IsIn) Key() string { return "in " + string(n.Provider) }

// Outside is false.
func (IsIn) Outside() bool { return false }

// Gives what the provider gave.
func (IsIn) Gives(*crossing.Upstream) {}

// Issued is what one application was told in a session.
type Issued struct {
	App     federation.ID
	Session string          // as it was told the session
	Name    json.RawMessage // and the person, which only its side reads
}

// Notice is what one application is told.
type Notice struct {
	App federation.ID
	crossing.Notice
}

// Advance moves a sign-out on. What it lacks is to be looked up, and the same event given again with the facts.
func Advance(snap *federation.Snapshot, s State, e Event, f crossing.Facts, now time.Time) Turn {
	if e.Kind == Returned {
		return returned(snap, s, e, now)
	}
	lacks := &crossing.Lacks{}
	told, known := crossing.Fact(f, WasTold{e.Session.Lasting})
	if !known {
		lacks.Needs = append(lacks.Needs, WasTold{e.Session.Lasting})
	}
	stands, looked := crossing.Fact(f, Stands{e.Session.Lasting})
	if !looked && e.Kind == Left {
		lacks.Needs = append(lacks.Needs, Stands{e.Session.Lasting})
	}
	s = State{Trace: e.Trace, Back: e.Back}
	for _, word := range e.Session.Proofs {
		if e.Kind != Left {
			break // nobody is here to be sent anywhere
		}
		need := IsIn{e.Session.Lasting, word.ProviderID}
		up, looked := crossing.Fact(f, need)
		switch {
		case !looked:
			lacks.Needs = append(lacks.Needs, need)
		case up != nil && Reachable(snap, Participant{word.Provider, word.ProviderID, *up}):
			s.Waiting = append(s.Waiting, Participant{word.Provider, word.ProviderID, *up})
		case stands:
			s.Missed = append(s.Missed, string(word.Provider))
		}
	}
	if len(lacks.Needs) > 0 {
		return Turn{State: s, Next: lacks}
	}
	t := Turn{Notices: Plan(snap, told), Effects: []crossing.Effect{EndSession{e.Session}}}
	for _, n := range t.Notices {
		t.Effects = append(t.Effects, Tell{n})
	}
	return t.visits(snap, s, now)
}

// returned goes on when a participant sends the browser back. One that comes too late, or is another one, is passed
// over: what it has to say is said by its own side.
func returned(snap *federation.Snapshot, s State, e Event, now time.Time) Turn {
	if s.At == nil || s.At.Name != e.From || now.After(s.Until) {
		return Turn{State: s, Next: &Done{}}
	}
	s.Heard = append(s.Heard, string(e.From))
	return Turn{}.visits(snap, s, now)
}

// visits sends the browser to the next participant that there still is and that can be told so, else to the end.
func (t Turn) visits(snap *federation.Snapshot, s State, now time.Time) Turn {
	for len(s.Waiting) > 0 {
		at := s.Waiting[0]
		s.Waiting = s.Waiting[1:]
		if !Reachable(snap, at) {
			s.Missed = append(s.Missed, string(at.Name))
			continue
		}
		s.At, s.Until = &at, now.Add(Visit)
		t.State, t.Next, t.Effects = s, &Send{at}, append(t.Effects, Keep{at})
		return t
	}
	s.At, s.Until = nil, time.Time{}
	t.State, t.Next = s, &Done{s.Back}
	return t
}

// Reachable reports whether the browser can be sent to a participant to end the session there.
func Reachable(snap *federation.Snapshot, at Participant) bool {
	_, ok := Address(snap, at, "")
	return ok
}

// Address is where the browser is sent, with the state that it comes back with; false if there is none.
func Address(snap *federation.Snapshot, at Participant, state string) (string, bool) {
	p, there := snap.Provider(at.Name)
	if !there || !p.Is(at.Name, at.ID) {
		return "", false
	}
	side := crossing.Of(p.Side).Parting
	if side == nil {
		return "", false
	}
	return side.Part(&snap.Gate, p, at.Upstream, state)
}

// Plan says whom to tell, each once however often it was told somebody. One that was removed, or does not want to
// hear, is left out; one that is paused is told all the same: it holds sessions of its own.
func Plan(snap *federation.Snapshot, issued []Issued) (out []Notice) {
	type telling struct {
		app     federation.ID
		session string
	}
	done := map[telling]bool{}
	for _, i := range issued {
		app, ok := snap.ApplicationOf(i.App)
		if !ok || done[telling{i.App, i.Session}] {
			continue
		}
		done[telling{i.App, i.Session}] = true
		side := crossing.Of(app.Side).Hearing
		if side == nil {
			continue
		}
		if n, wants := side.SignedOut(i.Session, i.Name); wants {
			out = append(out, Notice{i.App, n})
		}
	}
	return out
}
