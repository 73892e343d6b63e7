package crossing

import (
	"cmp"
	"crypto/subtle"
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/policy"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/reason"
)

// drive is one call of Advance under way.
type drive struct {
	snap *federation.Snapshot
	s    State
	e    Event
	f    Facts
	now  time.Time

	app  *federation.Application
	p    *federation.Provider
	turn Turn
}

// step does one thing and gives the next one; nil when the turn is over.
type step func(*drive) step

// Advance moves a crossing on. The zero State is that of a crossing which does
// not exist yet, or is not known. See the package comment.
func Advance(snap *federation.Snapshot, s State, e Event, f Facts, now time.Time) Turn {
	d := &drive{snap: snap, s: s, e: e, f: f, now: now}
	if e.Kind == Learned || e.Kind == Lost {
		d.s.here = s.here.copied()
	} else {
		d.s.here = &here{arrived: -1, at: -1, reshown: e.Kind == Continued}
	}
	if r := d.rehearsal(); r != nil || d.s.here.marked {
		d.opened(cmp.Or(r, e.Browser.Run))
	}
	d.resume()
	for next := d.enter(); next != nil; {
		next = next(d)
	}
	return d.done()
}

// resume finds the records that the turn is about, as they are now.
func (d *drive) resume() {
	about, apart := d.s.here.about, d.s.here.apart
	switch name := federation.Name(about.Application); {
	case name != "" && (apart || name != d.s.App):
		d.app, _ = d.snap.Application(name)
	case !apart:
		d.app = d.appOf(d.s)
	}
	switch name := federation.Name(about.Provider); {
	case name != "" && (apart || name != d.s.Leg().Provider):
		d.p, _ = d.snap.Provider(name)
	case !apart:
		d.p = d.providerOf(d.s)
	}
}

// providerOf is the provider that a crossing asked last, nil if it was removed.
func (d *drive) providerOf(s State) *federation.Provider {
	l := s.Leg()
	if p, ok := d.snap.Provider(l.Provider); ok && p.Is(l.Provider, l.ProviderID) {
		return p
	}
	return nil
}

// appOf is the application that a crossing is for, nil if it was removed: another
// one under its name gets nothing of it.
func (d *drive) appOf(s State) *federation.Application {
	if a, ok := d.snap.Application(s.App); ok && a.Is(s.App, s.AppID) {
		return a
	}
	return nil
}

// enter gives the step that an event leads to.
func (d *drive) enter() step {
	switch d.e.Kind {
	case Opened:
		return (*drive).open
	case Arrived:
		if d.e.Arrival.From == Application {
			return (*drive).receive
		}
		return (*drive).hear
	case Learned:
		next := d.s.here.resume
		d.s.here.resume = nil
		return next
	case Lost:
		return (*drive).lost
	}
	return (*drive).back
}

// done gathers what the turn came to.
func (d *drive) done() Turn {
	t, h := &d.turn, d.s.here
	if h.about.StartedBy == "" {
		h.about.StartedBy = d.s.StartedBy
	}
	if d.app != nil {
		h.about.Application = string(d.app.Name)
		h.decided.App, h.decided.AppRevision = d.app.Name, d.app.Revision
	}
	if d.p != nil {
		h.about.Provider = string(d.p.Name)
		h.decided.Provider, h.decided.ProviderRevision = d.p.Name, d.p.Revision
	}
	if h.answer != nil {
		h.about.Person = cmp.Or(h.who.Subject.Value, h.answer.Subject.Value)
	}
	if n, ok := t.Next.(*Lacks); !ok || n.Outside() {
		t.Effects, h.effects = h.effects, nil
	}
	t.State, t.Apart, t.About, t.Told, t.Entry, t.Way = d.s, h.apart, h.about, h.told, h.entry, h.way
	// Whoever is in by a session proved who they are when it began.
	t.Verified = h.verified || d.s.Verified && !h.apart || h.by != nil && t.Result == Entered
	for _, s := range h.steps {
		t.Steps = append(t.Steps, *s)
	}
	t.Decided, t.Person, t.Gave, t.Run = h.decided.of(*t), h.person, h.gave, d.rehearsal()
	return *t
}

// trace adds a step to the trace; what is decided next is told there.
func (d *drive) trace(s TraceStep) *TraceStep {
	s.At = d.now.UTC()
	h := d.s.here
	h.steps = append(h.steps, &s)
	if s.To == GateLane {
		h.at = len(h.steps) - 1
	}
	return &s
}

// here is a step of the trace that the gate takes by itself.
func (d *drive) here(name string) *TraceStep {
	return d.trace(TraceStep{From: GateLane, To: GateLane, Name: name})
}

// at is the step of the trace that is being taken; name is that of a new one, if
// there is none.
func (d *drive) at(name string) *TraceStep {
	if d.s.here.at < 0 {
		return d.here(name)
	}
	return d.s.here.steps[d.s.here.at]
}

// arrive adds the step of a message that arrived.
func (d *drive) arrive(s TraceStep) *TraceStep {
	st := d.trace(s)
	d.s.here.arrived = d.s.here.at
	return st
}

func (d *drive) effect(es ...Effect) { d.s.here.effects = append(d.s.here.effects, es...) }

func (d *drive) ends(next Next, result string) step {
	d.turn.Next, d.turn.Result = next, result
	return nil
}

// need stops until facts are there, and goes on with a step.
func (d *drive) need(n *Lacks, then step) step {
	d.s.here.resume = then
	d.turn.Next = n
	return nil
}

// begin makes the state of a new crossing.
func (d *drive) begin(by string) {
	here := d.s.here
	d.s = State{here: here, ID: d.f.New, Mode: d.s.Mode, Run: d.s.Run, Stage: Begun, App: d.app.Name, AppID: d.app.ID,
		StartedBy: by, Began: d.now,
		Browser: Tie{Network: d.e.Browser.Network}}
}

// reasons say what an application wishes.
func (w Wish) reasons() (rs reason.Reasons) {
	if w.Force {
		rs.Add(reason.WishForce)
	}
	if w.Passive {
		rs.Add(reason.WishPassive)
	}
	if len(w.Contexts) > 0 {
		rs.Add(reason.WishContexts, w.Comparison, strings.Join(w.Contexts, " or "))
	}
	if w.MaxAge > 0 {
		rs.Add(reason.WishAge, w.MaxAge.String())
	}
	if w.Subject != "" {
		rs.Add(reason.WishSubject, w.Subject)
	}
	if w.Role != "" {
		rs.Add(reason.WishRole, w.Role)
	}
	return rs
}

// from says who sent what is wrong.
func from(err error, side finding.Side) error {
	if f := finding.Of(err); f != nil {
		return f.From(side)
	}
	return err
}

// address is that of the crossing itself.
func (d *drive) address() string { return d.snap.Gate.Base + "/crossing/" + d.s.ID }

// keep has the state stored for the next turn.
func (d *drive) keep() {
	d.s.Turns++
	if in := d.session(); in != nil {
		d.s.Browser.Session = in.Lasting
	}
	d.effect(Keep{})
}

// Holds reports whether an event came from the browser that began a crossing, for what is recorded of it.
func Holds(s State, e Event) bool { return seen(s, e).holds() }

// SaidBy is what the person said when they were asked to agree, likewise.
func SaidBy(s State, e Event) string { return seen(s, e).said() }

// seen is an event as it meets a state that may be of no turn.
func seen(s State, e Event) *drive {
	s.here = s.here.copied()
	return &drive{s: s, e: e}
}

// holds reports whether this is the browser that began the crossing.
func (d *drive) holds() bool {
	if d.e.Told != nil || d.s.Mode == Simulated {
		return d.e.Browser.Holds
	}
	return len(d.s.Browser.Secret) > 0 && subtle.ConstantTimeCompare(d.s.Browser.Secret, d.e.Browser.Secret) == 1
}

// types takes what was typed as an address. Whoever picks a provider afterwards did not take it back.
func (d *drive) types() {
	if d.e.Address == "" && d.s.Chosen != "" {
		d.s.Many = false
		return
	}
	if d.s.Typed, d.s.Many = ClipAddress(d.e.Address), d.e.Many; d.s.Many {
		d.s.Typed = ""
	}
}

// hint is what was typed, for the provider: it is not typed twice.
func (d *drive) hint() []string {
	if !new(policy.Asking).Type(d.s.Typed) {
		return nil
	}
	return []string{d.s.Typed}
}

// picked is the provider that the event names, "" if there is none of the name:
// what a stranger made up is not kept.
func (d *drive) picked() federation.Name {
	if _, ok := d.snap.Provider(d.e.Via); !ok {
		return ""
	}
	return d.e.Via
}

// startOf is where a person can start anew, "" if that is at the application alone.
func (d *drive) startOf() string {
	if d.app.OwnStart != "" {
		return d.app.OwnStart
	}
	return d.app.Start(&d.snap.Gate)
}

// races are why it is decided anew, by what was overtaken.
var races = map[person.Guard]reason.Code{person.GuardValue: reason.PersonRace, person.GuardLink: reason.PersonRace,
	person.GuardSubject: reason.SubjectRace, person.GuardThere: reason.SessionRace,
	person.GuardRevision: reason.PersonRace, person.GuardWelcome: reason.SessionRace}

// wanting is what is known of who wants to come, before they have.
func (d *drive) wanting() policy.Asking {
	a := policy.Asking{Chosen: d.s.Chosen, Network: cmp.Or(d.e.Browser.Network, d.s.Browser.Network),
		Hints: slices.Concat(d.s.Wish.Named, d.s.Wish.Contexts)}
	a.Type(d.s.Typed)
	for _, h := range d.s.Wish.Hints {
		if a.Address == "" && d.s.Typed == "" && profile.DomainOf(h) != "" {
			a.Address = h
		}
	}
	return a
}

// inSession is who is in by their session, where a pilot may be about them: nil for nobody. The need is that they are
// looked up.
func (d *drive) inSession() (*policy.Subject, *Lacks) {
	if d.session() == nil || d.s.here.anew || !d.snap.Piloting(d.app, d.now) {
		return nil, nil
	}
	all, need := insides(d.snap, d.session(), d.app.ID, d.f.People(), d.now)
	if need != nil || len(all) == 0 {
		return nil, need
	}
	e := Entrant{Stands: all[0].standing(d.snap), Network: d.e.Browser.Network}
	s := e.Subject()
	return &s, nil
}

// inside is somebody who is in by their session, by the word of one provider.
type inside struct {
	provider *federation.Provider
	word     *Answer
	who      profile.Profile
	person   person.Person
}

// standing is who they are by that word.
func (i *inside) standing(snap *federation.Snapshot) *person.Standing {
	return person.Stand(snap, i.provider, i.who, i.person, nil)
}

// insides is who is in by a session, by each word in it that counts still. The need is that they are looked up; app is
// the application whose subject is wanted.
func insides(snap *federation.Snapshot, s *Session, app federation.ID, people map[string]person.Person,
	now time.Time) (out []inside, need *Lacks) {
	if s == nil {
		return nil, nil
	}
	for i := range s.Proofs {
		a := &s.Proofs[i]
		p, there := snap.Provider(a.Provider)
		if !there || !p.Is(a.Provider, a.ProviderID) || !now.Before(a.Ends) {
			continue
		}
		who, _, err := Intake(p, a)
		if err != nil {
			continue
		}
		them, _, need := person.Match(p, who, people)
		if need != nil {
			return nil, lookUp(need, app)
		}
		out = append(out, inside{p, a, who, them})
	}
	return out, nil
}

// StandsFor is the one who has an address that is typed, where a rule of provider selection lets it stand for them,
// or a pilot may be about them: nil for nobody, or several. What is missing has to be looked up first; having gives
// what has been.
func StandsFor(snap *federation.Snapshot, app *federation.Application, address string, now time.Time,
	having func(person.Sought) ([]person.Person, bool)) (who *policy.Subject, missing *person.Sought) {
	domain, ok := profile.Domain(profile.DomainOf(address))
	has := func(m federation.MailDomain) bool { return m.Has(domain) }
	stands := app.Provider == "" && slices.ContainsFunc(snap.Ways(app.Name).Typed, has)
	if !ok || !stands && !snap.Piloting(app, now) {
		return nil, nil
	}
	sought := person.Sought{Attribute: profile.Word("emails"), Value: profile.Key("emails", address)}
	people, looked := having(sought)
	if !looked {
		return nil, &sought
	}
	if people = person.Candidates(people, sought); len(people) != 1 {
		return nil, nil
	}
	s := Entrant{Stands: person.OnRecord(snap, nil, profile.Profile{}, people[0], nil)}.Subject()
	return &s, nil
}

// looked is what was looked up of a value.
func (f *Facts) looked(s person.Sought) ([]person.Person, bool) {
	return Fact(*f, WhoHas{Sought: s})
}

// longestAddress bounds an address that a person types, in octets (RFC 5321 §4.5.3.1.3).
const longestAddress = 254

// ClipAddress is what was typed as an address, as far as one is as long.
func ClipAddress(text string) string {
	if text = strings.TrimSpace(text); len(text) > longestAddress {
		text = strings.ToValidUTF8(text[:longestAddress], "")
	}
	return text
}

// inBy gives a provider among several that the person is in by, first one whose
// word suffices.
func (d *drive) inBy(among []federation.Name) (by federation.Name) {
	in := d.session()
	if d.s.here.anew || d.s.Chosen != "" || in == nil {
		return ""
	}
	for i := range in.Proofs {
		a := &in.Proofs[i]
		p, ok := d.snap.Provider(a.Provider)
		if !ok || !p.Is(a.Provider, a.ProviderID) || !slices.Contains(among, a.Provider) {
			continue
		}
		if _, err := Proves(&d.snap.Gate, d.s.Wish.Effective(p), &a.Authentication, time.Time{}, d.now); err == nil {
			return a.Provider
		}
		if by == "" {
			by = a.Provider
		}
	}
	return by
}
