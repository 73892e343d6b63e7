package crossing

import (
	"cmp"
	"encoding/json"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
)

// Decision is what a turn came to, in values that can be compared, with the
// revisions it was made with.
type Decision struct {
	App              federation.Name    `json:"app,omitempty"`
	AppRevision      int                `json:"appRevision,omitempty"`
	Provider         federation.Name    `json:"provider,omitempty"`
	ProviderRevision int                `json:"providerRevision,omitempty"`
	Comes            string             `json:"comes"` // what comes next: leave application, show choose, and the like
	Result           string             `json:"result,omitempty"`
	Finding          finding.Code       `json:"finding,omitempty"`
	Person           int64              `json:"person,omitempty"`
	New              bool               `json:"new,omitempty"` // an account is made
	Released         *profile.Released  `json:"released,omitempty"`
	Told             []Delivered        `json:"told,omitempty"` // of Released, as it gets to the application
	Sent             []federation.Value `json:"sent,omitempty"`
}

// needs says that a turn run again needs what was not looked up when it was recorded.
const needs = "need"

// of completes a decision with what the turn came to.
func (c Decision) of(t Turn) Decision {
	c.Result = t.Result
	if t.Finding != nil {
		c.Finding = t.Finding.Code
	}
	switch n := t.Next.(type) {
	case *Leave:
		c.Comes = "leave " + string(n.To)
	case *Go:
		c.Comes = "go"
	case *Show:
		c.Comes = "show " + string(n.Page)
	case *Challenge:
		c.Comes = "challenge"
	case *Lacks:
		c.Comes = needs
	}
	return c
}

// Alike reports whether two decisions are the same, whatever revisions they were
// made with. What is told follows from what is released, and is not recorded.
func (c Decision) Alike(d Decision) bool {
	c.AppRevision, c.ProviderRevision, c.Told, d.Told = d.AppRevision, d.ProviderRevision, nil, nil
	a, errA := json.Marshal(c)
	b, errB := json.Marshal(d)
	return errA == nil && errB == nil && string(a) == string(b)
}

// Entry is a turn as it is recorded: everything it was decided on, and nothing
// that could be used again. Messages are in it as what a side made of them;
// codes, tokens, verifiers and credentials are not, and neither is the
// provider's part of the state, which may hold such.
type Entry struct {
	At     time.Time       `json:"at"`
	Kind   EventKind       `json:"kind"`
	From   Lane            `json:"from,omitempty"`
	Record federation.Name `json:"record,omitempty"` // whose message arrived
	App    string          `json:"app,omitempty"`
	Target string          `json:"target,omitempty"`
	Start  federation.Name `json:"start,omitempty"` // starting point
	Via    federation.Name `json:"via,omitempty"`
	Role   string          `json:"role,omitempty"`
	Again  bool            `json:"again,omitempty"`
	Typed  string          `json:"typed,omitempty"` // address that the person typed
	Many   bool            `json:"many,omitempty"`  // too many were typed from that network
	State  string          `json:"state,omitempty"` // relay state of an answer that nobody asked for
	Holds  bool            `json:"holds,omitempty"`
	// Network is that of the browser.
	Network string `json:"network,omitempty"`
	Before  State  `json:"before,omitzero"`
	Told    *Told  `json:"told,omitempty"`

	New     string                     `json:"new,omitempty"`
	Session *Session                   `json:"session,omitempty"`
	People  map[string]person.Person   `json:"people,omitempty"`
	Agreed  *[]string                  `json:"agreed,omitempty"`
	Said    string                     `json:"said,omitempty"` // when the person was asked to agree
	Having  map[string][]person.Person `json:"having,omitempty"`
	Gave    *Gave                      `json:"gave,omitempty"` // when the person was asked something
	Mailed  *Mailed                    `json:"mailed,omitempty"`
	Given   []person.Given             `json:"given,omitempty"` // what the person had said by the end of the turn
	Facts   map[string]json.RawMessage `json:"facts,omitempty"` // of further needs, by their keys: what these keep of them

	Decided Decision `json:"decided"`
}

// Recorded gives the entry of a turn. before is the state it began with, f the
// facts that it ended with.
func Recorded(before State, e Event, f Facts, t Turn, at time.Time) Entry {
	d := drive{s: before, e: e}
	out := Entry{At: at, Kind: e.Kind, App: finding.Clip(e.App), Target: e.Target, Via: e.Via, Role: finding.Clip(e.Role), Again: e.Again,
		Start: federation.Name(finding.Clip(string(e.Start))), Typed: clipAddress(e.Address), Many: e.Many, Holds: d.holds(), Network: e.Browser.Network,
		Before: before.Resting(), Told: t.Told,
		New: f.New, People: map[string]person.Person{}, Decided: t.Decided}
	out.Before.ProviderState, out.Before.Upstream, out.Before.Browser.Secret = nil, nil, nil
	out.Before.Browser.Session, out.Before.Asked = "", ""
	if a := e.Arrival; a != nil {
		out.From, out.State = a.From, finding.Clip(a.State)
		if out.Record = federation.Name(t.About.Provider); a.From == Application {
			out.Record, out.State = federation.Name(t.About.Application), ""
		}
	}
	if f.Session != nil {
		s := *f.Session
		s.Ref, s.Person.Identifier = "", ""
		out.Session = &s
	}
	for key, p := range f.people() {
		p.Identifier = ""
		out.People[key] = p
	}
	for key, people := range f.having() {
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
	out.Gave, out.Given, out.Facts = t.Gave, t.State.Given, f.kept()
	if mailed, sent := Fact(f, &Mail{}); sent {
		out.Mailed = &mailed
	}
	out.Decided.Told = nil // it follows from what was released
	if out.Before.Proof != nil {
		proof := *out.Before.Proof
		proof.Sum = []byte("kept") // that there was one
		out.Before.Proof = &proof
	}
	if out.Agreed = f.agreed(); before.Stage == Agreeing && t.Decided.Comes != "show agree" {
		out.Said = finding.Clip(d.said())
	}
	return out
}

// Replay decides a recorded turn again, with a configuration of now.
func Replay(snap *federation.Snapshot, in Entry) Decision { return rerun(snap, in).Decided }

func rerun(snap *federation.Snapshot, in Entry) Turn {
	e := Event{Kind: in.Kind, App: in.App, Target: in.Target, Via: in.Via, Role: in.Role, Start: in.Start, Again: in.Again,
		Address: in.Typed, Many: in.Many, Told: in.Told, Said: in.Said, Gave: in.Gave,
		Browser: Browser{Network: in.whence(), Holds: in.Holds}}
	if in.Kind == Arrived {
		e.Arrival = &Arrival{From: in.From, Record: in.Record, State: in.State}
	}
	f := in.facts()
	s := in.Before
	if s.Mode = Simulated; s.ID == "" {
		s.Mode = Real
	}
	t := Advance(snap, s, e, f, in.At)
	if l, ok := t.Next.(*Lacks); ok && l.mails() && in.Mailed != nil {
		t = Advance(snap, t.State, Event{Kind: Learned, Gave: e.Gave, Browser: e.Browser}, f, in.At)
	}
	return t
}

// facts are those that a recorded turn ended with.
func (in Entry) facts() Facts {
	f := Facts{New: in.New, Session: in.Session}
	for link, p := range in.People {
		f.Put(WhoIs{Link: link}, p)
	}
	for sought, people := range in.Having {
		attribute, value, _ := strings.Cut(sought, "\x1f")
		f.Put(WhoHas{Sought: person.Sought{Attribute: attribute, Value: value}}, people)
	}
	if in.Agreed != nil {
		f.Put(AgreedBefore{}, *in.Agreed)
	}
	if in.Mailed != nil {
		f.Put(&Mail{}, *in.Mailed)
	}
	for key, octets := range in.Facts {
		f.Put(recalled(key), octets)
	}
	return f
}

// kept is what is recorded of facts of needs that say themselves what of them may be.
func (f Facts) kept() (out map[string]json.RawMessage) {
	for key, l := range f.of {
		keeps, does := l.need.(Keeps)
		if !does {
			continue
		}
		octets, err := json.Marshal(keeps.Keep(l.fact))
		if err != nil {
			continue // a turn that is run anew needs it then, and says so
		}
		if out == nil {
			out = map[string]json.RawMessage{}
		}
		out[key] = octets
	}
	return out
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
func (in Entry) SaidIn(snap *federation.Snapshot) *Answer {
	said := in.said(snap)
	if said == nil {
		return nil
	}
	out := *said
	out.Network = in.whence()
	return &out
}

func (in Entry) said(snap *federation.Snapshot) *Answer {
	if in.Told != nil && in.Told.Answer != nil {
		return in.Told.Answer
	}
	if in.Before.Word != nil {
		return in.Before.Word
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
	case in.From == Application && in.Record == a.Name && in.Told != nil && in.Told.Request != nil:
		return in.Told.Request.Own
	}
	return nil
}

// Whose tells who came by what was said in a recorded turn, as a sign-in finds it out, by
// what was looked up then: nobody on record, if that does not tell.
func (in Entry) Whose(p *federation.Provider, said *Answer) person.Person {
	who, _, err := intake(p, said)
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
