package trace

import (
	"cmp"
	"encoding/json"
	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/person"
	"slices"
	"strings"
	"time"
)

// Entry is a turn as it is recorded: everything it was decided on, and nothing
// that could be used again. Messages are in it as what a side made of them;
// codes, tokens, verifiers and credentials are not, and neither is the
// provider's part of the state, which may hold such.
type Entry struct {
	At     time.Time          `json:"at"`
	Kind   crossing.EventKind `json:"kind"`
	From   crossing.Lane      `json:"from,omitempty"`
	Record federation.Name    `json:"record,omitempty"` // whose message arrived
	App    string             `json:"app,omitempty"`
	Target string             `json:"target,omitempty"`
	Start  federation.Name    `json:"start,omitempty"` // starting point
	Via    federation.Name    `json:"via,omitempty"`
	Role   string             `json:"role,omitempty"`
	Again  bool               `json:"again,omitempty"`
	Typed  string             `json:"typed,omitempty"` // address that the person typed
	Many   bool               `json:"many,omitempty"`  // too many were typed from that network
	State  string             `json:"state,omitempty"` // relay state of an answer that nobody asked for
	Holds  bool               `json:"holds,omitempty"`
	// Network is that of the browser.
	Network string `json:"network,omitempty"`
	// Run is that of a rehearsal, for which the browser is marked.
	Run    *crossing.Rehearsing `json:"run,omitempty"`
	Before crossing.State       `json:"before,omitzero"`
	Told   *crossing.Told       `json:"told,omitempty"`

	New     string                     `json:"new,omitempty"`
	Session *crossing.Session          `json:"session,omitempty"`
	People  map[string]person.Person   `json:"people,omitempty"`
	Agreed  *[]string                  `json:"agreed,omitempty"`
	Said    string                     `json:"said,omitempty"` // when the person was asked to agree
	Having  map[string][]person.Person `json:"having,omitempty"`
	Gave    *crossing.Gave             `json:"gave,omitempty"` // when the person was asked something
	Mailed  *crossing.Mailed           `json:"mailed,omitempty"`
	Given   []person.Given             `json:"given,omitempty"` // what the person had said by the end of the turn
	Facts   map[string]json.RawMessage `json:"facts,omitempty"` // of further needs, by their keys: what these keep of them

	Decided crossing.Decision `json:"decided"`
}

// Recorded gives the entry of a turn. before is the state it began with, f the
// facts that it ended with.
func Recorded(before crossing.State, e crossing.Event, f crossing.Facts, t crossing.Turn, at time.Time) Entry {
	out := Entry{At: at, Kind: e.Kind, App: finding.Clip(e.App), Target: e.Target, Via: e.Via, Role: finding.Clip(e.Role),
		Again: e.Again,
		Start: federation.Name(finding.Clip(string(e.Start))), Typed: crossing.ClipAddress(e.Address), Many: e.Many,
		Holds: crossing.Holds(before, e), Network: e.Browser.Network, Run: t.Run,
		Before: before.Resting(), Told: t.Told,
		New: f.New, People: map[string]person.Person{}, Decided: t.Decided}
	out.Before.Legs = slices.Clone(out.Before.Legs)
	for i := range out.Before.Legs {
		out.Before.Legs[i].Own, out.Before.Legs[i].Upstream = nil, nil
	}
	out.Before.Browser.Secret, out.Before.Browser.Session, out.Before.Asked = nil, "", ""
	if a := e.Arrival; a != nil {
		out.From, out.State = a.From, finding.Clip(a.State)
		switch out.Record = federation.Name(t.About.Provider); {
		case a.From == crossing.Application:
			out.Record, out.State = federation.Name(t.About.Application), ""
		case t.Told != nil && t.Told.Answer != nil:
			out.Record = t.Told.Answer.Provider // they may have been sent on to another one
		}
	}
	in := f.Session
	if t.Run != nil {
		in = f.Rehearsed
	}
	if in != nil {
		s := *in
		s.Ref, s.Person.Identifier = "", ""
		out.Session = &s
	}
	for key, p := range f.People() {
		p.Identifier = ""
		out.People[key] = p
	}
	for key, people := range f.Having() {
		if out.Having == nil {
			out.Having = map[string][]person.Person{}
		}
		for _, p := range people {
			p.Identifier = ""
			out.Having[key] = append(out.Having[key], p)
		}
		if len(people) == 0 {
			out.Having[key] = []person.Person{}
		}
	}
	out.Gave, out.Given, out.Facts = t.Gave, t.State.Given, f.Kept()
	if mailed, sent := crossing.Fact(f, &crossing.Mail{}); sent {
		out.Mailed = &mailed
	}
	out.Decided.Told = nil // it follows from what was released
	if out.Before.Proof != nil {
		proof := *out.Before.Proof
		proof.Sum = []byte("kept") // that there was one
		out.Before.Proof = &proof
	}
	if out.Agreed = f.Agreed(); before.Stage == crossing.Agreeing && t.Decided.Comes != "show agree" {
		out.Said = finding.Clip(crossing.SaidBy(before, e))
	}
	return out
}

// Replay decides a recorded turn again, with a configuration of now.
func Replay(snap *federation.Snapshot, in Entry) crossing.Decision { return run(snap, in).Decided }

func run(snap *federation.Snapshot, in Entry) crossing.Turn {
	e := crossing.Event{Kind: in.Kind, App: in.App, Target: in.Target, Via: in.Via, Role: in.Role, Start: in.Start,
		Again:   in.Again,
		Address: in.Typed, Many: in.Many, Told: in.Told, Said: in.Said, Gave: in.Gave,
		Browser: crossing.Browser{Network: in.whence(), Holds: in.Holds, Run: in.Run}}
	if in.Kind == crossing.Arrived {
		e.Arrival = &crossing.Arrival{From: in.From, Record: in.Record, State: in.State}
	}
	f := in.facts()
	s := in.Before
	if s.Mode = crossing.Simulated; s.ID == "" {
		s.Mode = crossing.Real
	}
	t := crossing.Advance(snap, s, e, f, in.At)
	if l, ok := t.Next.(*crossing.Lacks); ok && l.Mails() && in.Mailed != nil {
		t = crossing.Advance(snap, t.State, crossing.Event{Kind: crossing.Learned, Gave: e.Gave, Browser: e.Browser}, f,
			in.At)
	}
	return t
}

// facts are those that a recorded turn ended with.
func (in Entry) facts() crossing.Facts {
	f := crossing.Facts{New: in.New, Session: in.Session, Rehearsed: in.Session}
	for link, p := range in.People {
		f.Put(crossing.WhoIs{Link: link}, p)
	}
	for sought, people := range in.Having {
		attribute, value, _ := strings.Cut(sought, "\x1f")
		f.Put(crossing.WhoHas{Sought: person.Sought{Attribute: attribute, Value: value}}, people)
	}
	if in.Agreed != nil {
		f.Put(crossing.AgreedBefore{}, *in.Agreed)
	}
	if in.Mailed != nil {
		f.Put(&crossing.Mail{}, *in.Mailed)
	}
	for key, octets := range in.Facts {
		f.Put(recalled(key), octets)
	}
	return f
}

// recalled is a need whose fact was recorded: only its key is known.
type recalled string

// Key is the one that was recorded.
func (n recalled) Key() string { return string(n) }

// Outside is false: nobody is asked again.
func (recalled) Outside() bool { return false }

// whence is the network of the browser; earlier builds recorded that in which the crossing began.
func (in Entry) whence() string { return cmp.Or(in.Network, in.Before.Browser.Network) }

// SaidIn gives what a provider said in a recorded turn, earlier in its crossing, or earlier in
// the session that did for it; nil if nobody said anything.
func (in Entry) SaidIn(snap *federation.Snapshot) *crossing.Answer {
	said := in.said(snap)
	if said == nil {
		return nil
	}
	out := *said
	out.Network = in.whence()
	return &out
}

func (in Entry) said(snap *federation.Snapshot) *crossing.Answer {
	if in.Told != nil && in.Told.Answer != nil {
		return in.Told.Answer
	}
	if in.Before.Leg().Word != nil {
		return in.Before.Leg().Word
	}
	p, ok := snap.Provider(in.Decided.Provider)
	if in.Session == nil || !ok || in.Decided.Released == nil {
		return nil
	}
	return in.Session.Of(p)
}

// Asked is how an application asked in a recorded turn, or earlier in its crossing; nil if it
// did not, or was another one.
func (in Entry) Asked(a *federation.Application) json.RawMessage {
	switch {
	case in.Before.AppState != nil && a.Is(in.Before.App, in.Before.AppID):
		return in.Before.AppState
	case in.From == crossing.Application && in.Record == a.Name && in.Told != nil && in.Told.Request != nil:
		return in.Told.Request.Own
	}
	return nil
}

// Whose tells who came by what was said in a recorded turn, as a sign-in finds it out, by
// what was looked up then: nobody on record, if that does not tell.
func (in Entry) Whose(p *federation.Provider, said *crossing.Answer) person.Person {
	who, _, err := crossing.Intake(p, said)
	if err != nil {
		return person.Person{}
	}
	picked := in.Before.Picked
	if in.Gave != nil && in.Gave.Picked != 0 {
		picked = in.Gave.Picked
	}
	got, _, err := person.Identify(p, person.Comes{Who: who, Given: in.given(), Picked: picked, Having: in.Having},
		in.People)
	if err != nil {
		return person.Person{Key: got.Key}
	}
	return got.Person
}

// given is what the person had said by the end of the turn.
func (in Entry) given() []person.Given {
	if in.Given == nil {
		return in.Before.Given // it was recorded by an earlier build
	}
	return in.Given
}
