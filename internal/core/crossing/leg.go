package crossing

import (
	"encoding/json"
	"slices"
	"time"

	"innergate.example/innergate/internal/core/federation"
)

// Leg is one provider's part in a crossing. The last one is under way; those before it are over, and what was said in
// them stays: a proof is added, none is overwritten.
type Leg struct {
	Provider   federation.Name `json:"provider"`
	ProviderID federation.ID   `json:"providerId,omitempty"`
	Own        json.RawMessage `json:"own,omitempty"`    // what the provider's side keeps, opaque to everybody else
	Handle     string          `json:"handle,omitempty"` // further name that the provider's answer finds it by
	At         time.Time       `json:"at,omitzero"`      // when the provider was asked, zero if it was not
	Asking     []string        `json:"asking,omitempty"` // contexts asked for by the provider's record, not by the application
	// Word is what the provider said, once it was found good and as far as it is kept; Upstream is what came with it.
	Word     *Answer   `json:"word,omitempty"`
	Upstream *Upstream `json:"upstream,omitempty"`
	Came     time.Time `json:"came,omitzero"`      // when it said so
	InBefore bool      `json:"inBefore,omitempty"` // Word is out of a session: it counts as long as that does
	Person   int64     `json:"person,omitempty"`   // who they are by it, 0 for nobody that the gate knows
	// Left says that they were sent on to another provider, by which they enter: this one's word counts for their
	// session alone.
	Left bool `json:"left,omitempty"`
}

// Leg is the one under way, the zero Leg before the first.
func (s State) Leg() Leg {
	if len(s.Legs) == 0 {
		return Leg{}
	}
	return s.Legs[len(s.Legs)-1]
}

// leg is the one under way, to be changed: of this state alone.
func (s *State) leg() *Leg {
	s.Legs = slices.Clone(s.Legs)
	if len(s.Legs) == 0 {
		s.Legs = []Leg{{}}
	}
	return &s.Legs[len(s.Legs)-1]
}

// mostLegs bounds how many are kept: whoever goes from one provider to the next leaves the oldest behind.
const mostLegs = 8

// sets out on a leg. One without a word, or with one out of a session, which is kept there, gives way to it.
func (s *State) sets(out Leg) {
	s.Legs = slices.DeleteFunc(slices.Clone(s.Legs), func(l Leg) bool {
		return l.Word == nil || l.InBefore || l.Left && l.ProviderID == out.ProviderID
	})
	s.Legs = append(s.Legs[max(0, len(s.Legs)-mostLegs+1):], out)
}

// leaves the leg under way: they go on to another provider.
func (s *State) leaves() {
	if s.Leg().Word != nil {
		s.leg().Left = true
	}
}

// earlier are the legs before the last one by which the same person came, newest first.
func (s State) earlier() (out []Leg) {
	now := s.Leg()
	for i := len(s.Legs) - 2; i >= 0; i-- {
		if l := s.Legs[i]; l.Word != nil && l.Person != 0 && l.Person == now.Person {
			out = append(out, l)
		}
	}
	return out
}

// proofs are what providers vouch for in the crossing, of the person who enters: that of the last one last.
func (s State) proofs() (out []Authentication) {
	for _, l := range s.earlier() {
		if !l.Left {
			out = append(out, l.Word.Authentication)
		}
	}
	slices.Reverse(out)
	return append(out, s.Leg().Word.Authentication)
}

// added are the words that a session does not have yet, newest first, one of each provider.
func (s State) added() (out []Leg) {
	for _, l := range append([]Leg{s.Leg()}, s.earlier()...) {
		if !l.InBefore && !slices.ContainsFunc(out, func(o Leg) bool { return o.ProviderID == l.ProviderID }) {
			out = append(out, l)
		}
	}
	return out
}

// Remembered is what is kept of a crossing once it ended: whose it was, and by what a late message finds it. A State
// takes far more memory.
type Remembered struct {
	id, startedBy, handle string
	app                   federation.Name
	appID                 federation.ID
	provider              federation.Name
	providerID            federation.ID
	mode                  Mode
	run                   *Rehearsing
	browser               Tie
	own                   json.RawMessage
	began                 time.Time
	turns                 int32
	asked, paused         bool
}

// Remembered is what is kept of a crossing that ended, in a session if it ended in one, by that one's lasting name.
func (s State) Remembered(session string) Remembered {
	l := s.Leg()
	tie := s.Browser
	tie.Session = session
	return Remembered{id: s.ID, startedBy: s.StartedBy, handle: l.Handle, app: s.App, appID: s.AppID, provider: l.Provider,
		providerID: l.ProviderID, mode: s.Mode, run: s.Run, browser: tie, own: l.Own, began: s.Began, turns: int32(s.Turns),
		asked: len(s.Legs) > 0, paused: s.Question != ""}
}

// ID is the crossing's.
func (r *Remembered) ID() string { return r.id }

// Handle is the further name that the provider's answer finds it by, "" for none.
func (r *Remembered) Handle() string { return r.handle }

// Expires is when a late message needs not find it any more.
func (r *Remembered) Expires() time.Time {
	if r.paused {
		return r.began.Add(PauseLife)
	}
	return r.began.Add(Life)
}

// Octets are how many it holds beside its own fields, about.
func (r *Remembered) Octets() int {
	return len(r.id) + len(r.handle) + len(r.browser.Secret) + len(r.browser.Network) + len(r.browser.Session) + len(r.own)
}

// State is the crossing as it ended.
func (r *Remembered) State() State {
	out := State{ID: r.id, Stage: Ended, App: r.app, AppID: r.appID, Browser: r.browser, StartedBy: r.startedBy,
		Mode: r.mode, Run: r.run, Began: r.began, Turns: int(r.turns), Kept: true}
	if r.asked {
		out.Legs = []Leg{{Provider: r.provider, ProviderID: r.providerID, Own: r.own, Handle: r.handle}}
	}
	return out
}

// UnmarshalJSON reads a state, also one that was kept or recorded when a crossing had one leg, whose fields stood
// among its own.
func (s *State) UnmarshalJSON(octets []byte) error {
	type plain State
	was := struct {
		*plain
		Provider      federation.Name `json:"provider"`
		ProviderID    federation.ID   `json:"providerId"`
		ProviderState json.RawMessage `json:"providerState"`
		Handle        string          `json:"handle"`
		AskedAt       time.Time       `json:"askedAt"`
		Asking        []string        `json:"asking"`
		Word          *Answer         `json:"word"`
		Upstream      *Upstream       `json:"upstream"`
		ByWord        bool            `json:"byWord"`
	}{plain: (*plain)(s)}
	if err := json.Unmarshal(octets, &was); err != nil {
		return err
	}
	if was.Provider != "" && len(s.Legs) == 0 {
		s.Legs = []Leg{{Provider: was.Provider, ProviderID: was.ProviderID, Own: was.ProviderState, Handle: was.Handle,
			At: was.AskedAt, Asking: was.Asking, Word: was.Word, Upstream: was.Upstream, InBefore: was.Word != nil &&
				!was.ByWord,
			Person: s.Person}}
		if was.Word != nil {
			s.Legs[0].Came = was.AskedAt
		}
	}
	return nil
}
