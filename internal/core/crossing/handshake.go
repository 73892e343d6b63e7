package crossing

import (
	"cmp"
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

// The steps of a crossing, from its start to its answer, as they follow one another.

// open starts a sign-in at the gate.
func (d *drive) open() step {
	d.s.here.about.StartedBy = "gate"
	address := d.snap.Gate.Base + "/open/" + finding.Clip(d.e.App)
	if d.e.App == string(federation.PortalName) {
		address = d.snap.Gate.Base + "/"
	}
	st := d.trace(TraceStep{From: BrowserLane, To: GateLane, Name: StepStart, Address: address,
		RelayState: finding.Clip(d.e.Target)})
	app, ok := d.snap.Application(federation.Name(d.e.App))
	if !ok {
		return d.refuse(finding.New(finding.StartUnknown, finding.Fact("Name", finding.Clip(d.e.App))))
	}
	d.app = app
	if err := d.openTo(); err != nil {
		return d.refuse(err)
	}
	app = d.app
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
	d.wished()
	if name, changes := strings.CutPrefix(at.Target, ChangePath); changes && app.Name == federation.PortalName {
		d.s.Wish.Change = name
	}
	return (*drive).choose
}

// openTo sees that the application lets people pass, or that this is a rehearsal of it.
func (d *drive) openTo() error {
	d.rehearses()
	if d.s.Run != nil {
		if err := unfinished(d.app); err != nil {
			return err
		}
	}
	return policy.Open(d.app, d.now)
}

// opens sends the browser to an address that nobody has to sign in for. Whoever is in is named in the trace.
func (d *drive) opens(st *TraceStep, to string) step {
	st.Reasons.Add(reason.StartPlain, to)
	if s := d.session(); s != nil && len(s.Proofs) > 0 {
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
	if err := d.openTo(); err != nil {
		return d.refuse(err)
	}
	app = d.app
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
	d.wished()
	arrived.Values = append(arrived.Values, q.Values...)
	arrived.Reasons = append(arrived.Reasons, q.Wish.reasons()...)
	if q.Moved && d.s.Run == nil {
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
	case d.runOver():
		d.here(StepContinue)
		return d.refuse(finding.New(finding.RehearsalOver))
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
		d.s.leaves()
		d.s.Chosen, d.s.here.anew = d.picked(), d.e.Again
		d.types()
	}
	return (*drive).choose
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
	a := d.session().Of(d.p)
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
	d.s.here.answer, d.s.here.by = a, d.session()
	return (*drive).intake
}

// ask begins the provider's part.
func (d *drive) ask() step {
	if err := unfinished(d.p); d.s.Run != nil && err != nil {
		return d.refuse(err)
	}
	leg := Leg{Provider: d.p.Name, ProviderID: d.p.ID, At: d.now}
	if len(d.s.Wish.Contexts) == 0 && d.p.AskContext != "" {
		leg.Asking = []string{d.p.AskContext}
		d.at(StepAsk).Reasons.Add(reason.AskContext, d.p.AskContext)
	}
	d.s.Stage = Asked
	d.s.sets(leg)
	d.s.here.held, d.s.here.answer, d.s.here.by = nil, nil, nil
	return d.took(providerSide(d.p).Step(d.in(true)))
}

// hear takes a message of a provider.
func (d *drive) hear() step {
	in := d.e.Arrival
	if r := d.e.Browser.Run; r != nil && d.s.Run == nil {
		d.s.here.marked = true // it may be the start of the rehearsal, which begins at the provider
		d.opened(r)
	}
	d.p = nil
	if name, ok := in.whose(d.snap); ok {
		d.p, _ = d.snap.Provider(name)
	}
	if d.p != nil && in.Protocol != "" && d.p.Protocol() != in.Protocol {
		d.p = nil // a record of another protocol has no address here
	}
	if d.mine() && d.s.Stage == Ended && d.app != nil {
		return d.finished()
	}
	st := d.arrive(in.step())
	st.HoldUntil = d.now.Add(time.Hour) // until it is known how long it could be used
	if !d.mine() {
		d.s.here.apart, d.s.here.about.StartedBy = true, "provider"
		d.app = nil
	}
	switch {
	case d.p == nil && in.Broken != nil && in.Record == "":
		return d.refuse(from(in.Broken, finding.Provider))
	case d.p == nil:
		return d.refuse(finding.New(finding.ProviderUnknown, in.Says...))
	}
	if in.Broken != nil && policy.Open(d.p, d.now) == nil {
		return d.refuse(from(in.Broken, finding.Provider))
	}
	return (*drive).turnOfProvider
}

// turnOfProvider has the provider's side look at what came.
func (d *drive) turnOfProvider() step {
	// A call may have taken its time, and the configuration may be another now.
	switch {
	case d.p == nil:
		return d.refuse(finding.New(finding.ProviderUnknown, finding.Fact("Name", string(d.s.Leg().Provider))))
	case d.app == nil && !d.s.here.apart:
		return d.refuse(finding.New(finding.ApplicationUnknown, finding.Fact("Name", string(d.s.App))))
	}
	if err := policy.Open(d.p, d.now); err != nil {
		return d.refuse(err)
	}
	if d.e.Told != nil {
		d.s.here.told = d.e.Told
		switch {
		case d.e.Told.Refused != nil:
			return d.without(d.e.Told.Refused)
		case d.e.Told.Starts:
			return (*drive).unsolicited
		}
		d.s.here.answer = d.e.Told.Answer
		return (*drive).prove
	}
	if sent, replied := Fact(d.f, &Call{}); replied && d.s.here.call != nil {
		c := d.s.here.call
		d.trace(TraceStep{From: GateLane, To: Provider, Name: c.Name, Binding: c.Binding, Address: c.Address,
			Octets: string(sent.Shown)}).At = d.s.here.called.UTC()
		d.s.here.call = nil
	}
	return d.took(providerSide(d.p).Step(d.in(false)))
}

// find looks for the crossing by what a message says that came in only now.
func (d *drive) find(handles []string) step {
	if d.belongs() || d.s.here.looked {
		return (*drive).turnOfProvider
	}
	d.s.here.looked = true
	return d.need(Lack(WhichCrossing{handles}), (*drive).found)
}

// found goes on with the crossing that was looked for, if it is this one's.
func (d *drive) found() step {
	if found, _ := Fact(d.f, WhichCrossing{}); found != nil {
		turn := d.s.here
		d.s = *found
		d.s.here = turn
	}
	if d.mine() {
		d.s.here.apart = false
		if d.s.Run != nil {
			d.opened(d.s.Run)
			d.p = d.providerOf(d.s)
		}
		if d.app = d.appOf(d.s); d.s.Stage == Ended {
			return d.finished()
		}
	}
	return (*drive).turnOfProvider
}

// took goes on with what a step of the provider's side came to.
func (d *drive) took(out Out) step {
	d.s.here.held = out.Held
	if !d.s.here.apart {
		leg := d.s.leg()
		leg.Own, leg.Handle = out.Own, cmp.Or(out.Handle, leg.Handle)
		d.s.Verified = d.s.Verified || out.Verified
	}
	d.s.here.verified = d.s.here.verified || out.Verified
	d.effect(out.Effects...)
	d.shown(out)
	if len(out.Find) > 0 {
		return d.find(out.Find)
	}
	if n, ok := out.Next.(*Lacks); ok {
		d.s.here.call, d.s.here.called = n.call(), d.now
		return d.need(n, (*drive).turnOfProvider)
	}
	switch {
	case out.Err != nil:
		f := finding.Of(from(out.Err, finding.Provider))
		if f == nil {
			return d.refuse(out.Err)
		}
		d.s.here.told = &Told{At: d.now, Refused: f}
		return d.without(f)
	case out.Starts:
		d.s.here.told = &Told{At: d.now, Starts: true}
		return (*drive).unsolicited
	case out.Answer != nil:
		if !d.s.here.apart {
			d.s.leg().Upstream = out.Upstream
		}
		a := *out.Answer
		a.Provider, a.ProviderID, a.Issuer, a.Context = d.p.Name, d.p.ID, d.p.Identity(), d.p.ContextWords.Ours(a.Context)
		d.s.here.answer = &a
		d.s.here.told = &Told{At: d.now, Answer: &a}
		return (*drive).prove
	}
	d.keep()
	if show, ok := out.Next.(*Show); ok {
		d.trace(TraceStep{From: GateLane, To: BrowserLane, Name: "form page"})
		show.App = d.app.Title
	}
	if c, ok := out.Next.(*Challenge); ok {
		d.trace(TraceStep{From: GateLane, To: BrowserLane, Name: "challenge"})
		c.Show.App = d.app.Title
	}
	return d.ends(out.Next, Waiting)
}

// prove judges a provider's word, once it is whole.
func (d *drive) prove() step {
	a := d.s.here.answer
	if !d.belongs() {
		return (*drive).unsolicited
	}
	if !d.mine() {
		return d.refuse(finding.New(finding.CrossingOtherBrowser))
	}
	if d.runOver() {
		return d.refuse(finding.New(finding.RehearsalOver))
	}
	reasons, err := Proves(&d.snap.Gate, d.s.Wish.Effective(d.p), &a.Authentication, d.s.Leg().At, d.now)
	st := d.at(StepAsk)
	st.Reasons = append(st.Reasons, reasons...)
	if err != nil {
		return d.refuse(err)
	}
	if d.app == nil {
		return d.refuse(finding.New(finding.ApplicationUnknown, finding.Fact("Name", string(d.s.App))))
	}
	if err := policy.Open(d.app, d.now); err != nil {
		return d.refuse(err)
	}
	return (*drive).intake
}

// unsolicited turns a valid answer that nobody asked for into a start of our
// own, so that it can never put another person's session in place of one.
func (d *drive) unsolicited() step {
	if !d.p.AllowUnsolicited {
		return d.refuse(finding.New(finding.UnsolicitedRefused))
	}
	base := d.snap.Gate.Base + "/open/"
	if to := strings.TrimSuffix(d.e.Arrival.State, "/"); (to == "" || to == d.snap.Gate.Base) &&
		d.snap.Gate.Portal != nil {
		d.app = d.snap.Gate.Portal
		d.at(StepAsk).Reasons.Add(reason.StartUnsolicited)
		return d.ends(&Go{To: d.snap.Gate.Base + "/?via=" + string(d.p.Name)}, Entered)
	}
	name, ok := cutBase(d.e.Arrival.State, base)
	app, known := d.snap.Application(name)
	if !ok || !known {
		return d.refuse(finding.New(finding.UnsolicitedTarget, finding.Compare("RelayState", base+"NAME",
			finding.Clip(d.e.Arrival.State))))
	}
	d.app = app
	d.at(StepAsk).Reasons.Add(reason.StartUnsolicited)
	return d.ends(&Go{To: base + string(app.Name) + "?via=" + string(d.p.Name)}, Entered)
}

// intake turns the provider's word into a profile.
func (d *drive) intake() step {
	who, reasons, err := Intake(d.p, d.s.here.answer)
	if d.here(StepIntake).Reasons = reasons; err != nil {
		return d.refuse(err)
	}
	d.s.here.who, d.s.here.answer = who, Kept(d.p, d.s.here.answer)
	if d.s.here.by != nil && !d.s.Leg().InBefore {
		d.s.sets(Leg{Provider: d.p.Name, ProviderID: d.p.ID, InBefore: true})
	}
	leg := d.s.leg()
	leg.Word = d.s.here.answer
	if leg.Came.IsZero() {
		leg.Came = d.now
	}
	return (*drive).match
}

// match finds the person.
func (d *drive) match() step {
	got, need, err := person.Identify(d.p, person.Comes{Who: d.s.here.who, Given: d.s.Given, Picked: d.s.Picked,
		Having: d.f.Having()}, d.f.People())
	if need != nil {
		return d.need(lookUp(need, d.app.ID), (*drive).match)
	}
	if finding.Is(err, finding.MatchLinked) && !d.s.here.again && d.s.Mode != Simulated {
		// Another sign-in by this very name may have linked them since it was looked up.
		d.s.here.again = true
		return d.need(Lack(WhoIs{Link: got.Key, For: d.app.ID}), (*drive).match)
	}
	d.s.here.seen = got.Seen
	st := d.here(StepMatch)
	switch st.Reasons = got.Seen.Reasons; {
	case err != nil:
		return d.refuse(err)
	case len(got.Seen.Several) > 0:
		return (*drive).whichAccount
	}
	st.Reasons = append(st.Reasons, got.Why)
	if f := person.GroupsNotKnown(d.snap, d.p, d.s.here.who); f != nil {
		st.Checks = append(st.Checks, finding.Check{What: "Groups", Finding: f})
	}
	who := got.Person
	if who.ID == 0 && who.Key != "" {
		who.Identifier = d.f.Identifier
	}
	d.s.here.person, d.s.here.stands, d.s.Person = who, nil, who.ID
	d.s.leg().Person = who.ID
	d.s.here.decided.Person, d.s.here.decided.New = who.ID, who.Key != "" && who.ID == 0
	if who.ID == 0 && d.s.here.seen.Prove != "" {
		return (*drive).proveAddress // it may tell who they are
	}
	return (*drive).welcome
}

// proveAddress has the person prove an address that may tell who they are: nobody knows them
// yet, and nothing else is asked before it is known whether they may come.
func (d *drive) proveAddress() step {
	asked := slices.DeleteFunc(d.lacking(), func(a federation.Asked) bool {
		return !a.Verified || profile.Word(a.Name) != profile.Word(d.s.here.seen.Prove)
	})
	return d.question(asked, (*drive).welcome)
}

// welcome sees whether they may come at all.
func (d *drive) welcome() step {
	need, err := person.Welcome(d.p, d.s.here.person, d.s.here.who.Subject, d.f.People())
	switch {
	case need != nil && d.s.Mode != Simulated:
		return d.need(lookUp(need, d.app.ID), (*drive).welcome)
	case need != nil:
		err = finding.New(finding.PersonUnknown, finding.Fact("Provider", string(d.p.Name)))
	}
	if err != nil {
		return d.refuse(err)
	}
	return (*drive).admit
}

// admit decides whether they may enter.
func (d *drive) admit() step {
	h := d.s.here
	e := d.entrant()
	if next, moves := d.otherWay(e); moves {
		return next
	}
	entry, err := Admit(d.snap, e, d.now)
	d.here(StepAccess).Reasons, h.entry = entry.Reasons, entry
	switch {
	case err != nil:
		return d.refuse(err)
	case entry.Outcome == federation.Allow && entry.Pick:
		return d.whichRole(entry)
	case entry.Outcome == federation.Allow:
		return (*drive).complete
	case d.s.Step != nil || d.s.Wish.Passive:
		return d.refuse(tooWeak(entry.Rule, h.answer.Authentication))
	}
	d.at(StepAccess).Reasons.Add(reason.AccessStepUp, string(entry.Rule.Name))
	return d.stepUp(entry.Rule)
}

// otherWay asks the rules of provider selection again, by who came: whoever came by a way that is not theirs is sent
// on to it once, or refused. So nobody picks another way by typing an address that is not theirs.
func (d *drive) otherWay(e Entrant) (step, bool) {
	a := e.coming(d.snap, d.p)
	a.Hints = d.wanting().Hints
	c, err := policy.Select(d.snap, d.app, a, d.now)
	if err != nil {
		return d.refuse(err), true
	}
	if c.Has(d.p.Name) {
		return nil, false
	}
	f := finding.New(finding.WayOther, finding.Compare("Provider", federation.Listed(c.Providers), string(d.p.Name)))
	if c.Rule != nil {
		f = f.With(finding.Fact("Rule", string(c.Rule.Name)+": "+c.Rule.Title))
	}
	own, there := d.snap.Provider(c.Providers[0])
	if d.s.Moved || len(c.Providers) > 1 || d.s.Wish.Passive || !there {
		d.here(StepSelect)
		return d.refuse(f), true
	}
	d.here(StepSelect).Reasons.Add(reason.ProviderMoved, string(d.p.Name), string(own.Name))
	d.s.Moved, d.s.Chosen, d.s.Typed, d.p = true, own.Name, "", own
	d.s.leaves()
	d.s.here.answer, d.s.here.by = nil, nil
	return (*drive).suffice, true
}

// stepUp asks the provider once more, for what a rule demands: once for a crossing.
func (d *drive) stepUp(r *federation.Rule) step {
	d.s.Step = &Stepping{Rule: r.Name, Context: r.Context, MaxAge: r.MaxAge}
	return (*drive).ask
}

// whichRole asks the person which of several roles they enter with.
func (d *drive) whichRole(e policy.Entry) step {
	st := d.here(StepQuestion)
	if g := d.hears(); g != nil && slices.Contains(e.RoleNames(), g.Role) {
		d.s.Role = g.Role
		st.Reasons.Add(reason.RoleChosen, g.Role)
		return (*drive).admit
	}
	if d.s.Wish.Passive {
		return d.refuse(finding.New(finding.QuestionNeeded))
	}
	f := Form{Title: "As what do you sign in?", Text: "You have several roles in " + d.app.Title + ". Choose one.",
		Option: "role"}
	for _, r := range e.Roles {
		f.Options = append(f.Options, Choice{r.As, r.Title})
	}
	st.Reasons.Add(reason.QuestionRole)
	return d.asks(f)
}

// complete asks the person for what is missing, once they may enter. What they say is looked
// at from *match* on: they are admitted with it.
func (d *drive) complete() step {
	if a, changes := d.changing(); changes {
		return d.question([]federation.Asked{a}, (*drive).release)
	}
	return d.question(d.lacking(), (*drive).release)
}

// release decides what the application is told, and plans the answer.
func (d *drive) release() step {
	h := d.s.here
	out, err := Tell(Entering{Snap: d.snap, App: d.app, Own: d.s.AppState, Wish: d.s.Wish, Stands: d.standing(),
		Roles: h.entry.RoleValues(), Word: h.answer, New: d.f.New, Session: d.lasting(), Now: d.now})
	d.here(StepRelease).Reasons = out.Reasons
	if h.plan = out.Plan; err != nil {
		if out.planned {
			d.here(StepBuild)
		}
		return d.refuse(err)
	}
	if noting, ok := h.plan.(Noting); ok {
		if notes := noting.Notes(); len(notes) > 0 {
			st := d.here(StepBuild)
			st.Checks = append(st.Checks, notes...)
		}
	}
	h.decided.Released, h.decided.Told, h.consent = &out.Released, out.Told, out.Consent
	if h.consent != nil {
		return (*drive).agree
	}
	return d.end(h.plan)
}

// agree asks the person whether the application may be told, where they have to be
// asked: they have not agreed before, or not to as much.
func (d *drive) agree() step {
	h := d.s.here
	c := h.consent
	if h.person.ID != 0 && d.f.Agreed() == nil {
		return d.need(Lack(AgreedBefore{App: d.app.ID, Person: h.person.ID}), (*drive).agree)
	}
	st := d.here(StepAgree)
	if c.settled(d.f.Agreed()) {
		st.Reasons.Add(reason.ConsentBefore, strings.Join(c.Scopes, " "))
		return d.end(h.plan)
	}
	switch d.said() {
	case SaidYes:
		st.Reasons.Add(reason.ConsentNow, strings.Join(c.Scopes, " "))
		h.agreed = c.Scopes
		return d.end(h.plan)
	case SaidNo:
		return d.refuse(finding.New(finding.ConsentDeclined))
	}
	if d.s.Wish.Passive {
		return d.refuse(finding.New(finding.ConsentNeeded, finding.Fact("Scopes", strings.Join(c.Scopes, " "))))
	}
	d.pause(Agreeing)
	d.keep()
	d.trace(TraceStep{From: GateLane, To: BrowserLane, Name: "consent page", Values: c.Shown})
	return d.ends(&Show{Page: PageAgree, App: d.app.Title, Agree: &Agree{Consent: *c, Digest: d.digest(),
		Policy: d.app.Policy}}, Waiting)
}

// goOn takes the sign-in up again after the person was asked: by the provider's
// word of then, with everything else as it is now. A session that has ended
// meanwhile begins it anew.
func (d *drive) goOn() step {
	st := d.arrive(TraceStep{From: BrowserLane, To: GateLane, Name: string(d.e.Kind)})
	st.Reasons.Add(reason.ConsentAnswer)
	leg := d.s.Leg()
	if d.p == nil {
		return d.refuse(finding.New(finding.ProviderUnknown, finding.Fact("Name", string(leg.Provider))))
	}
	if err := policy.Open(d.p, d.now); err != nil {
		return d.refuse(err)
	}
	if leg.InBefore {
		a := d.session().Of(d.p)
		if a == nil || !a.At.Equal(leg.Word.At) || a.Subject != leg.Word.Subject {
			return (*drive).choose
		}
		d.s.here.by = d.session()
	}
	d.s.here.answer = leg.Word
	return (*drive).intake
}

// end ends the crossing: everything that it leaves behind is stored together.
func (d *drive) end(plan Plan) step {
	h := d.s.here
	spent := d.s.here.effects
	d.s.here.effects = nil
	if d.s.Kept {
		d.effect(End{})
	}
	d.effect(spent...)
	var issue Issue
	if is, gives := plan.(Issuing); gives {
		issue = is.Issues()
	}
	change, any := d.knows(issue.Subject)
	if d.s.Run != nil && any {
		change, any = change.made(d.s.run())
	}
	if any {
		d.effect(change)
	}
	if h.agreed != nil && d.s.Run == nil {
		d.effect(PutConsent{App: d.app.ID, Scopes: h.agreed})
	}
	if said := d.s.added(); len(said) > 0 {
		old := d.session()
		put := PutSession{Session: *Joined(&d.snap.Gate, old, h.person, said, d.f.New, d.now), Same: same(old, h.person)}
		put.Session.Run = d.s.run()
		if put.Rename = !put.Same || old.Presented; old != nil {
			put.Old, put.Revision = old.Lasting, old.Revision
		}
		d.effect(put)
		for _, l := range said {
			if l.Upstream != nil {
				d.effect(PutUpstream{Provider: l.ProviderID, Upstream: *l.Upstream})
			}
		}
	}
	d.effect(Issued{App: d.app.ID, Session: issue.Session, Name: issue.Name, Once: issue.Grant != nil})
	d.holding(plan)
	if issue.Grant != nil {
		g := *issue.Grant
		g.Offline = g.Offline && d.s.Run == nil // it ends with the run, as everything of it
		d.effect(Give{Grant: g, Word: h.answer.given(d.e.Browser.Network, d.role(), d.now), Run: d.s.run()})
	}
	if h.person.Key != "" && d.app.Name != federation.PortalName && d.s.Run == nil {
		d.effect(Enter{App: d.app.ID, Told: h.decided.Told})
	}
	h.stage, d.s.Stage = d.s.Stage, Ended
	d.s.here.decided.Sent = plan.Sent()
	return d.ends(&Leave{To: Application, Plan: plan}, Entered)
}

// holding keeps the message for a back channel, if it waits for one.
func (d *drive) holding(plan Plan) {
	if holds, may := plan.(Holding); may && holds.Holds() {
		d.effect(HoldMessage{App: d.app.Name})
	}
}

// knows is what the gate keeps of the person from now on, with the subject that was derived for the application, if
// one was; any tells whether that is other than what it has.
func (d *drive) knows(subject string) (out ChangePerson, any bool) {
	h, stands := d.s.here, d.standing()
	if h.person.Key == "" {
		return out, false
	}
	out.Change = person.Change{Person: h.person.ID, Via: person.BySignIn, Who: string(d.p.Name), Welcome: true}
	link := person.Link{Provider: d.p.ID, Key: h.person.Key, Subject: h.who.Subject}
	switch {
	case h.person.ID == 0:
		out.Link, out.Unless = []person.Link{link}, h.seen.Looked
	case h.person.Linking:
		out.Link, out.Has = []person.Link{link}, &h.seen.By
	case h.person.Bare:
		out.Name = &link
	}
	keep := stands.Updating()
	if _, other := keep.Over(h.person.Values, d.now); other {
		if out.Values = &keep; slices.ContainsFunc(keep.Values,
			func(k person.KeptValue) bool { return k.From == person.FromPerson }) {
			out.Via = person.ByCode
		}
	}
	d.moves(&out, h.person.Members, stands.Members())
	if out.Values != nil || out.Follow != nil || len(out.Join) > 0 {
		out.Revision = h.person.Revision // that was decided on how they were
	}
	if h.person.Subject == "" && subject != "" {
		out.Known = []person.Subject{{App: d.app.ID, Value: subject, Source: person.SubjectDerived}}
	}
	if h.person.ID == 0 {
		out.Identifier = h.person.Identifier
	}
	return out, len(out.Link) > 0 || out.Name != nil || out.Values != nil || out.Follow != nil || len(out.Join) > 0 ||
		len(out.Known) > 0
}

// moves has somebody belong where they do now, if that is elsewhere than before. Groups that are not there yet are
// made.
func (d *drive) moves(out *ChangePerson, before, now []person.Membership) {
	gone := func(m person.Membership) bool { return !slices.Contains(now, m) }
	come := func(m person.Membership) bool { return !slices.Contains(before, m) }
	if !slices.ContainsFunc(before, gone) && !slices.ContainsFunc(now, come) {
		return
	}
	follow := person.Following{From: d.p.ID}
	for _, m := range now {
		switch {
		case m.Source == d.p.ID && m.Kind == federation.KindGroup:
			follow.Groups = append(follow.Groups, m.Name)
		case come(m):
			out.Join = append(out.Join, m)
		}
	}
	if d.p.GroupValues != "" {
		out.Follow, out.Make = &follow, person.Wanting(d.snap, d.p, d.s.here.who)
		return
	}
	for _, g := range follow.Groups {
		out.Join = append(out.Join, person.Membership{Kind: federation.KindGroup, Name: g, Source: d.p.ID})
	}
}

// refuse ends the turn in a refusal: to the application, if it should hear of
// it, else on a page.
func (d *drive) refuse(err error) step {
	f := finding.Of(err)
	if f == nil {
		d.turn.Broken = err
		f = finding.New(finding.GateFailure)
		d.here(StepFailure)
	}
	d.turn.Finding = f
	d.fail(f)
	if next, goes := d.earlier(f); goes {
		return next
	}
	if next, stays := d.readsHere(f); stays {
		return next
	}
	if plan := d.tell(f); plan != nil && !d.notYet(f) {
		if d.s.Kept {
			d.s.here.effects = append([]Effect{End{}}, d.s.here.effects...)
		}
		d.holding(plan)
		d.s.here.stage, d.s.Stage = d.s.Stage, Ended
		d.s.here.decided.Sent = plan.Sent()
		return d.ends(&Leave{To: Application, Plan: plan}, Refused)
	}
	d.trace(TraceStep{From: GateLane, To: BrowserLane, Name: "refused page"})
	page := &Show{Page: PageRefused, Refusal: d.refusal(f)}
	if d.app != nil && d.s.ID != "" && !d.s.here.apart {
		if page.App = d.app.Title; !barred(f) {
			page.Continue = d.startOf()
		}
		if c, err := policy.Select(d.snap, d.app, policy.Asking{Network: d.e.Browser.Network}, d.now); err == nil &&
			c.Ask() && d.s.Kept {
			page.Again = d.address() + "?again=1"
		}
	}
	return d.ends(page, Refused)
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

// again decides anew who it is, by what is known now: something that was decided on was
// overtaken. Whoever was in by a session that has ended is asked for anew.
func (d *drive) again(why reason.Code) step {
	d.here(StepMatch).Reasons.Add(why)
	h := d.s.here
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
