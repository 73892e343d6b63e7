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
		d.s.here = here{arrived: -1, at: -1, reshown: e.Kind == Continued}
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
	case name != "" && (apart || name != d.s.Provider):
		d.p, _ = d.snap.Provider(name)
	case !apart:
		d.p = d.providerOf(d.s)
	}
}

// providerOf is the provider that a crossing asked, nil if it was removed.
func (d *drive) providerOf(s State) *federation.Provider {
	if p, ok := d.snap.Provider(s.Provider); ok && p.Is(s.Provider, s.ProviderID) {
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
	t, h := d.turn, &d.s.here
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
	t.Decided, t.Person, t.Gave = h.decided.of(t), h.person, h.gave
	return t
}

// trace adds a step to the trace; what is decided next is told there.
func (d *drive) trace(s TraceStep) *TraceStep {
	s.At = d.now.UTC()
	h := &d.s.here
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
	d.s = State{here: here, ID: d.f.New, Mode: d.s.Mode, Stage: Begun, App: d.app.Name, AppID: d.app.ID, StartedBy: by,
		Began:   d.now,
		Browser: Tie{Network: d.e.Browser.Network}}
}

// open starts a sign-in at the gate.
func (d *drive) open() step {
	d.s.here.about.StartedBy = "gate"
	address := d.snap.Gate.Base + "/open/" + finding.Clip(d.e.App)
	if d.e.App == string(federation.PortalName) {
		address = d.snap.Gate.Base + "/"
	}
	st := d.trace(TraceStep{From: BrowserLane, To: GateLane, Name: StepStart, Address: address, RelayState: finding.Clip(d.e.Target)})
	app, ok := d.snap.Application(federation.Name(d.e.App))
	if !ok {
		return d.refuse(finding.New(finding.StartUnknown, finding.Fact("Name", finding.Clip(d.e.App))))
	}
	d.app = app
	if err := policy.Open(app, d.now); err != nil {
		return d.refuse(err)
	}
	at, err := d.lands()
	if err != nil {
		return d.refuse(err)
	}
	if to := app.OwnStart; to != "" {
		if at.OnRecord && federation.IsAddress(at.Target) {
			to = at.Target // the application starts there, too
		}
		st.Reasons.Add(reason.StartOwn, to)
		return d.ends(&Go{To: to}, "")
	}
	if side := Of(app.Side).Starting; side != nil {
		switch to, starts, err := side.Start(&d.snap.Gate, at); {
		case err != nil:
			return d.refuse(err)
		case starts:
			st.Reasons.Add(reason.StartOwn, to)
			return d.ends(&Go{To: to}, "")
		}
	}
	if app.OnlyOwnStarts {
		return d.refuse(finding.New(finding.OwnStartMissing, finding.Fact("Application", string(app.Name))))
	}
	own, err := applicationSide(app).Unasked(&d.snap.Gate, app, at)
	if err != nil {
		return d.refuse(err)
	}
	if side := Of(app.Side).Plain; side != nil && d.e.Role == "" && policy.Unguarded(d.snap, app) {
		return d.opens(st, cmp.Or(at.Target, side.Address()))
	}
	if at.Target != "" {
		st.Reasons.Add(reason.StartTarget, at.Target)
	}
	d.begin("gate")
	d.s.AppState, d.s.Chosen, d.s.Wish.Role = own, d.picked(), finding.Clip(d.e.Role)
	if name, changes := strings.CutPrefix(at.Target, ChangePath); changes && app.Name == federation.PortalName {
		d.s.Wish.Change = name
	}
	return (*drive).choose
}

// opens sends the browser to an address that nobody has to sign in for. Whoever is in is named in the trace.
func (d *drive) opens(st *TraceStep, to string) step {
	st.Reasons.Add(reason.StartPlain, to)
	if s := d.f.Session; s != nil && len(s.Proofs) > 0 {
		d.s.here.about.Person, d.s.here.verified = s.Proofs[0].Subject.Value, true
	}
	d.trace(TraceStep{From: GateLane, To: BrowserLane, Name: "link", Address: to})
	return d.ends(&Go{To: to}, Entered)
}

// lands says where in the application somebody goes on: at its starting point, as what that says; else as the address
// says that they came by.
func (d *drive) lands() (Landing, error) {
	if d.e.Start == "" {
		return Landing{Target: d.e.Target}, nil
	}
	p, there := d.snap.Start(d.e.Start)
	if !there || p.App != d.app.Name || p.Broken {
		return Landing{}, finding.New(finding.StartPointUnknown, finding.Fact("Application", string(d.app.Name)),
			finding.Fact("Starting point", finding.Clip(string(d.e.Start))))
	}
	d.at(StepStart).Reasons.Add(reason.StartPoint, string(p.Name), p.Title)
	if role, there := d.snap.Role(p.Role); there && d.e.Role == "" {
		d.e.Role = role.As
	}
	return Landing{Target: p.Target, OnRecord: true}, nil
}

// receive takes a request of an application.
func (d *drive) receive() step {
	in := d.e.Arrival
	d.s.here.about.StartedBy = "application"
	arrived := d.arrive(in.step())
	if in.Broken != nil {
		return d.refuse(from(in.Broken, finding.Application))
	}
	app, ok := d.recordOf(in)
	if !ok {
		return d.refuse(finding.New(finding.ApplicationUnknown, in.Says...))
	}
	d.app = app
	if err := policy.Open(app, d.now); err != nil {
		return d.refuse(err)
	}
	told := d.e.Told
	if told == nil {
		q, checks, err := applicationSide(app).Receive(&d.snap.Gate, app, in, d.now)
		arrived.Checks = append(arrived.Checks, checks...)
		f := from(err, finding.Application)
		if err != nil && finding.Of(f) == nil {
			return d.refuse(err)
		}
		told = &Told{At: d.now, Request: &q, Refused: finding.Of(f)}
	}
	d.s.here.told = told
	if told.Refused != nil {
		return d.refuse(told.Refused)
	}
	q := told.Request
	d.begin("application")
	d.s.AppState, d.s.Wish, d.s.Verified = q.Own, q.Wish, q.Verified
	arrived.Values = append(arrived.Values, q.Values...)
	arrived.Reasons = append(arrived.Reasons, q.Wish.reasons()...)
	if q.Moved {
		arrived.Reasons.Add(reason.FaceMoved)
		d.effect(Moved{App: app.Name})
	}
	if app.OldSignIn != "" && len(in.Asked) <= longestAsked {
		d.s.Asked, d.s.Posted = in.Asked, in.Posted
	}
	if q.Unmet != nil {
		return d.refuse(q.Unmet)
	}
	if in.Indirect {
		// The session cookie does not come along with a cross-site post: go on with a
		// GET of our own.
		d.keep()
		return d.ends(&Go{To: d.address()}, Waiting)
	}
	return (*drive).choose
}

// recordOf finds the application that a message belongs to.
func (d *drive) recordOf(in *Arrival) (*federation.Application, bool) {
	name, ok := in.whose(d.snap)
	if !ok {
		return nil, false
	}
	app, ok := d.snap.Application(name)
	return app, ok && (in.Protocol == "" || app.Protocol() == in.Protocol)
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
	if d.f.Session != nil {
		d.s.Browser.Session = d.f.Session.Lasting
	}
	d.effect(Keep{})
}

// holds reports whether this is the browser that began the crossing.
func (d *drive) holds() bool {
	if d.e.Told != nil || d.s.Mode == Simulated {
		return d.e.Browser.Holds
	}
	return len(d.s.Browser.Secret) > 0 && subtle.ConstantTimeCompare(d.s.Browser.Secret, d.e.Browser.Secret) == 1
}

// back goes on with a crossing of this browser at its own address.
func (d *drive) back() step {
	switch {
	case d.s.ID == "":
		d.here(StepContinue)
		d.s.here.about.StartedBy = "application"
		return d.refuse(finding.New(finding.CrossingUnknown))
	case !d.holds():
		d.here(StepContinue)
		d.s.here.apart = true
		return d.refuse(finding.New(finding.CrossingOtherBrowser))
	case d.app == nil:
		d.here(StepContinue)
		return d.refuse(finding.New(finding.ApplicationUnknown, finding.Fact("Name", string(d.s.App))))
	case d.s.Stage == Ended:
		return d.finished()
	case d.s.Turns >= MaxTurns:
		d.here(StepContinue)
		return d.refuse(finding.New(finding.CrossingTurns, finding.Compare("Turns", "fewer", "60")))
	}
	if err := policy.Open(d.app, d.now); err != nil {
		d.here(StepContinue)
		return d.refuse(err)
	}
	if (d.s.Stage == Agreeing || d.s.Stage == Questioned || d.s.Stage == Refusing) && d.e.Kind != Chosen {
		return (*drive).goOn
	}
	switch d.e.Kind {
	case Submitted, Authorization:
		if d.s.Stage != Asked || d.p == nil {
			d.here(StepContinue)
			return d.refuse(finding.New(finding.CrossingUnknown))
		}
		if err := policy.Open(d.p, d.now); err != nil {
			d.here(StepContinue)
			return d.refuse(err)
		}
		d.arrive(TraceStep{From: BrowserLane, To: GateLane, Name: string(d.e.Kind)})
		return (*drive).turnOfProvider
	case Chosen:
		d.s.Chosen, d.s.here.anew = d.picked(), d.e.Again
		d.types()
	}
	return (*drive).choose
}

// types takes what was typed as an address. Whoever picks a provider afterwards did not take it back.
func (d *drive) types() {
	if d.e.Address == "" && d.s.Chosen != "" {
		d.s.Many = false
		return
	}
	if d.s.Typed, d.s.Many = clipAddress(d.e.Address), d.e.Many; d.s.Many {
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

// finished is for what was done before: there is nothing to tell in the trace.
func (d *drive) finished() step {
	d.turn.Finding = finding.New(finding.CrossingEnded)
	d.s.here.steps, d.s.here.effects = nil, nil
	page := &Show{Page: PageFinished}
	if d.app != nil {
		page.App, page.Continue = d.app.Title, d.startOf()
	}
	return d.ends(page, "")
}

// startOf is where a person can start anew, "" if that is at the application alone.
func (d *drive) startOf() string {
	if d.app.OwnStart != "" {
		return d.app.OwnStart
	}
	return d.app.Start(&d.snap.Gate)
}

// lost goes on after an effect whose guard failed.
func (d *drive) lost() step {
	d.s.here.effects = nil
	if _, ended := d.e.Lost.(End); !ended && d.s.Stage == Ended { // it did not come to that
		d.s.Stage = d.s.here.stage
	}
	switch lost := d.e.Lost.(type) {
	case ChangePerson:
		return d.again(races[lost.Lost])
	case RequestEntry, Enter, PutSession, Issued, Give, PutUpstream, PutConsent:
		return d.again(reason.SessionRace)
	case Once:
		f := finding.New(finding.AssertionReplayed, finding.Fact("Assertion", lost.ID))
		if lost.As != "" {
			f = finding.New(lost.As)
		}
		d.s.here.told = &Told{At: d.now, Refused: f}
		return d.refuse(f)
	case Keep:
		return d.ends(&Go{To: d.address()}, "")
	}
	return d.finished()
}

// races are why it is decided anew, by what was overtaken.
var races = map[person.Guard]reason.Code{person.GuardValue: reason.PersonRace, person.GuardLink: reason.PersonRace,
	person.GuardSubject: reason.SubjectRace, person.GuardThere: reason.SessionRace, person.GuardRevision: reason.PersonRace, person.GuardWelcome: reason.SessionRace}

// again decides anew who it is, by what is known now: something that was decided on was
// overtaken. Whoever was in by a session that has ended is asked for anew.
func (d *drive) again(why reason.Code) step {
	d.here(StepMatch).Reasons.Add(why)
	h := &d.s.here
	h.decided.Released, h.decided.Told, h.decided.Sent, h.decided.Person, h.decided.New = nil, nil, nil, 0, false
	d.f.forget(func(n Need) bool {
		switch n.(type) {
		case WhoIs, WhoHas, AgreedBefore:
			return true
		}
		return false
	})
	if h.by != nil {
		h.by, h.answer = nil, nil
		return (*drive).choose
	}
	return (*drive).match
}

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
	if d.f.Session == nil || d.s.here.anew || !d.snap.Piloting(d.app, d.now) {
		return nil, nil
	}
	all, need := insides(d.snap, d.f.Session, d.app.ID, d.f.people(), d.now)
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
func insides(snap *federation.Snapshot, s *Session, app federation.ID, people map[string]person.Person, now time.Time) (out []inside, need *Lacks) {
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

// StandsFor is the one who has an address that is typed, where a rule of provider selection lets it stand for them, or a
// pilot may be about them: nil for nobody, or several. What is missing has to be looked up first; having gives what has been.
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

// clipAddress is what was typed as an address, as far as one is as long.
func clipAddress(text string) string {
	if text = strings.TrimSpace(text); len(text) > longestAddress {
		text = strings.ToValidUTF8(text[:longestAddress], "")
	}
	return text
}

// choose finds the provider, by the person's choice where several are possible.
func (d *drive) choose() step {
	a := d.wanting()
	if d.s.Many {
		a.Address = ""
	}
	in, need := d.inSession()
	if need != nil {
		return d.need(need, (*drive).choose)
	}
	typed, missing := StandsFor(d.snap, d.app, a.Address, d.now, d.f.looked)
	if missing != nil {
		return d.need(Lack(WhoHas{Sought: *missing, Hinted: true, For: d.app.ID}), (*drive).choose)
	}
	a.Typed, a.In = typed, in
	st := d.here(StepSelect)
	c, err := policy.Select(d.snap, d.app, a, d.now)
	if err != nil {
		return d.refuse(err)
	}
	if d.s.Typed != "" && d.s.Chosen != "" && !c.Has(d.s.Chosen) {
		d.s.Typed = "" // somebody went back, and picked another way than that of the address
		return (*drive).choose
	}
	st.Reasons = append(st.Reasons, c.Reasons...)
	d.s.here.way = c.Rule
	mistyped := d.s.Typed != "" && a.Address == "" && !a.Whole
	if c.Ask() || (mistyped || d.s.Many) && d.s.Chosen == "" {
		by := d.inBy(c.Providers)
		switch {
		case by != "":
			c.Providers = []federation.Name{by} // somebody who is in already is not asked again by which way
			st.Reasons = reason.Reasons{reason.New(reason.ProviderBySignIn, string(by))}
		case d.s.Wish.Passive:
			return d.refuse(finding.New(finding.PassiveImpossible))
		default:
			return d.askChoice(c, a)
		}
	}
	d.p, _ = d.snap.Provider(c.Providers[0])
	return (*drive).suffice
}

// inBy gives a provider among several that the person is in by, first one whose
// word suffices.
func (d *drive) inBy(among []federation.Name) (by federation.Name) {
	if d.s.here.anew || d.s.Chosen != "" || d.f.Session == nil {
		return ""
	}
	for i := range d.f.Session.Proofs {
		a := &d.f.Session.Proofs[i]
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

// askChoice shows the page where the person chooses, and is asked for their address where rules need it.
func (d *drive) askChoice(c policy.Choice, a policy.Asking) step {
	d.s.Stage = Choosing
	d.keep()
	d.trace(TraceStep{From: GateLane, To: BrowserLane, Name: "choose page"})
	page := &Show{Page: PageChoose, App: d.app.Title, Portal: d.app.Name == federation.PortalName}
	for _, n := range c.Providers {
		p, _ := d.snap.Provider(n)
		page.Choices = append(page.Choices, Choice{Name: string(n), Title: p.Title})
	}
	asked := &AddressAsked{Typed: d.s.Typed}
	switch {
	case d.s.Many:
		if asked.Wrong = "Too many addresses were tried from here. Choose below, or try again in five minutes."; len(page.Choices) == 0 {
			asked.Wrong = "Too many addresses were tried from here. Try again in five minutes."
		}
	case d.s.Typed == "" && c.Address:
	case d.s.Typed == "" || a.Address != "" && !c.Unclaimed:
		asked = nil
	case a.Whole:
		asked.Wrong = "A user name does not tell where you sign in. Choose below; you need not type it again."
	case a.Address == "":
		asked.Wrong = "That is no e-mail address. Write it like ada@wrenmoor.example, or type your user name."
	default:
		asked.Wrong = "Nobody signs in here by an address at " + profile.DomainOf(a.Address) +
			". Try another one, or choose below."
	}
	page.Address = asked
	return d.ends(page, Waiting)
}

// suffice lets the person in by their session, if it does what is wished.
func (d *drive) suffice() step {
	st := d.at(StepSelect)
	a := d.f.Session.Of(d.p)
	if a == nil {
		return (*drive).ask
	}
	if !d.now.Before(a.Ends) {
		st.Reasons.Add(reason.SessionEnded, stamp(a.Ends))
		return (*drive).ask
	}
	if a.Read != "" && a.Read != d.p.Mapping().Sources() {
		st.Reasons.Add(reason.SessionIntake)
		return (*drive).ask
	}
	wish := d.s.Wish.Effective(d.p)
	reasons, err := Proves(&d.snap.Gate, wish, &a.Authentication, time.Time{}, d.now)
	if f := finding.Of(err); f != nil {
		st.Reasons = append(st.Reasons, insufficient(wish, &a.Authentication, f))
		return (*drive).ask
	}
	st.Reasons.Add(reason.SessionSuffices, d.p.Title, stamp(a.When()))
	st.Reasons = append(st.Reasons, reasons...)
	d.s.here.answer, d.s.here.by = a, d.f.Session
	return (*drive).intake
}
