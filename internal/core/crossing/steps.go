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
	"innergate.example/innergate/internal/core/reason"
)

// ask begins the provider's part.
func (d *drive) ask() step {
	d.s.Stage, d.s.Provider, d.s.ProviderID, d.s.ProviderState, d.s.Handle, d.s.AskedAt = Asked, d.p.Name, d.p.ID, nil,
		"", d.now
	d.s.Asking = nil
	if len(d.s.Wish.Contexts) == 0 && d.p.AskContext != "" {
		d.s.Asking = []string{d.p.AskContext}
		d.at(StepAsk).Reasons.Add(reason.AskContext, d.p.AskContext)
	}
	d.s.here.held, d.s.here.answer, d.s.Upstream = nil, nil, nil
	return d.took(providerSide(d.p).Step(d.in(true)))
}

// in is what the provider's side goes by now.
func (d *drive) in(begins bool) In {
	w := d.s.Step.over(d.s.Wish.Effective(d.p))
	w.Contexts = d.p.ContextWords.Theirs(w.Contexts)
	if typed := d.hint(); typed != nil {
		w.Hints = typed
	}
	in := In{Begins: begins, Mine: d.mine(), Gate: &d.snap.Gate, Provider: d.p, Crossing: d.s.ID, Wish: w, Event: d.e, Facts: d.f,
		Now: d.now, Held: d.s.here.held}
	if d.belongs() { // of another browser, too: it is refused for that afterwards
		in.Own = d.s.ProviderState
	}
	return in
}

// belongs reports whether what arrived is the answer to what this crossing asked.
func (d *drive) belongs() bool {
	return d.s.ID != "" && d.p != nil && d.p.Is(d.s.Provider, d.s.ProviderID) && (d.s.Stage == Asked || d.s.Stage == Ended)
}

func (d *drive) mine() bool { return d.belongs() && d.holds() }

// hear takes a message of a provider.
func (d *drive) hear() step {
	in := d.e.Arrival
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
		return d.refuse(finding.New(finding.ProviderUnknown, finding.Fact("Name", string(d.s.Provider))))
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
		d.s.ProviderState, d.s.Verified = out.Own, d.s.Verified || out.Verified
		if out.Handle != "" {
			d.s.Handle = out.Handle
		}
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
			d.s.Upstream = out.Upstream
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

// without goes on after a provider's refusal. What was only wished for (OpenID
// Connect Core §5.5.1.1) is asked for once, and then left out.
func (d *drive) without(f *finding.Finding) step {
	w := &d.s.Wish
	if d.s.Step != nil && f.Code == finding.ContextImpossible {
		return d.refuse(finding.New(finding.AccessStepUp, append([]finding.Evidence{finding.Fact("Rule", d.s.Step.Rule)}, f.Evidence...)...))
	}
	if f.Code != finding.ContextImpossible || !w.Voluntary || len(w.Contexts) == 0 || !d.mine() {
		return d.refuse(f)
	}
	d.at(StepAsk).Reasons.Add(reason.WishLost, strings.Join(w.Contexts, " or "))
	w.Contexts, w.Voluntary = nil, false
	return (*drive).ask
}

// shown puts what a step came to into the trace.
func (d *drive) shown(out Out) {
	for _, what := range out.Unsaid {
		d.at(StepAsk).Reasons.Add(reason.WishLost, what)
	}
	if out.Replied != nil {
		d.arrive(*out.Replied)
	}
	h := &d.s.here
	if h.arrived < 0 {
		return
	}
	st := h.steps[h.arrived]
	if st.Checks = append(st.Checks, out.Checks...); !out.Until.IsZero() {
		st.HoldUntil = out.Until
	}
	if out.Opened != nil {
		opened := d.here(StepDecrypt)
		opened.Octets, opened.HoldUntil = string(out.Opened), out.Until
		h.at = h.arrived
	}
}

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
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
	reasons, err := Proves(&d.snap.Gate, d.s.Wish.Effective(d.p), &a.Authentication, d.s.AskedAt, d.now)
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
	if to := strings.TrimSuffix(d.e.Arrival.State, "/"); (to == "" || to == d.snap.Gate.Base) && d.snap.Gate.Portal != nil {
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
	return (*drive).match
}

// standing is who comes, as this sign-in leaves them: found out once they are matched, and again if they are matched anew.
func (d *drive) standing() *person.Standing {
	h := &d.s.here
	if h.stands == nil || !h.stands.By(d.snap) { // a call may have taken its time
		h.stands = person.Stand(d.snap, d.p, h.who, h.person, d.s.Given)
	}
	return h.stands
}

// entrant is who comes, at the application.
func (d *drive) entrant() Entrant {
	return Entrant{App: d.app, Stands: d.standing(), Proofs: d.s.Proofs, Network: d.e.Browser.Network, Role: d.role()}
}

// admit decides whether they may enter.
func (d *drive) admit() step {
	d.s.Proofs = []Authentication{d.s.here.answer.Authentication}
	h := &d.s.here
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

// otherWay asks the rules of provider selection again, by who came: whoever came by a way that is not theirs is sent on
// to it once, or refused. So nobody picks another way by typing an address that is not theirs.
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
	d.s.here.answer, d.s.here.by = nil, nil
	return (*drive).suffice, true
}

// stepUp asks the provider once more, for what a rule demands: once for a crossing.
func (d *drive) stepUp(r *federation.Rule) step {
	d.s.Step = &Stepping{Rule: r.Name, Context: r.Context, MaxAge: r.MaxAge}
	return (*drive).ask
}

// role is the one that somebody enters with: that they chose, or that was asked for.
func (d *drive) role() string { return cmp.Or(d.s.Role, d.s.Wish.Role) }

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
	f := Form{Title: "As what do you sign in?", Text: "You have several roles in " + d.app.Title + ". Choose one.", Option: "role"}
	for _, r := range e.Roles {
		f.Options = append(f.Options, Choice{r.As, r.Title})
	}
	st.Reasons.Add(reason.QuestionRole)
	return d.asks(f)
}

// release decides what the application is told, and plans the answer.
func (d *drive) release() step {
	h := &d.s.here
	out, err := Tell(Entering{Snap: d.snap, App: d.app, Own: d.s.AppState, Wish: d.s.Wish, Stands: d.standing(), Roles: h.entry.RoleValues(), Word: h.answer, New: d.f.New, Session: d.lasting(), Now: d.now})
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

// lasting is what the session will be named by that the answer comes with.
func (d *drive) lasting() string {
	s := d.s.here.by
	if s == nil {
		s = Joined(&d.snap.Gate, d.f.Session, d.s.here.person, d.s.here.answer, d.f.New, d.now)
	}
	return s.Lasting
}

// end ends the crossing: everything that it leaves behind is stored together.
func (d *drive) end(plan Plan) step {
	h := &d.s.here
	spent := d.s.here.effects
	d.s.here.effects = nil
	if d.s.Kept {
		d.effect(End{})
	}
	d.effect(spent...)
	if change, any := d.knows(); any {
		d.effect(change)
	}
	if h.agreed != nil {
		d.effect(PutConsent{App: d.app.ID, Scopes: h.agreed})
	}
	if h.by == nil {
		old := d.f.Session
		put := PutSession{Session: *Joined(&d.snap.Gate, old, h.person, h.answer, d.f.New, d.now), Same: same(old, h.person)}
		if put.Rename = !put.Same || old.Presented; old != nil {
			put.Old, put.Revision = old.Lasting, old.Revision
		}
		d.effect(put)
		if d.s.Upstream != nil {
			d.effect(PutUpstream{Provider: d.p.ID, Upstream: *d.s.Upstream})
		}
	}
	d.effect(Issued{App: d.app.ID}, HoldMessage{App: d.app.Name}, Give{Word: h.answer.given(d.e.Browser.Network, d.role(), d.now)})
	if h.person.Key != "" && d.app.Name != federation.PortalName {
		veil := NewVeil(d.snap, string(d.app.Name), string(d.p.Name))
		d.effect(Enter{App: d.app.ID, Told: veil.Delivered(h.decided.Told, h.person)})
	}
	h.stage, d.s.Stage = d.s.Stage, Ended
	d.s.here.decided.Sent = plan.Sent()
	return d.ends(&Leave{To: Application, Plan: plan}, Entered)
}

// knows is what the gate keeps of the person from now on; any tells whether that is other than what it has.
func (d *drive) knows() (out ChangePerson, any bool) {
	h, stands := &d.s.here, d.standing()
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
		if out.Values = &keep; slices.ContainsFunc(keep.Values, func(k person.KeptValue) bool { return k.From == person.FromPerson }) {
			out.Via = person.ByCode
		}
	}
	d.moves(&out, h.person.Members, stands.Members())
	if out.Values != nil || out.Follow != nil || len(out.Join) > 0 {
		out.Revision = h.person.Revision // that was decided on how they were
	}
	if h.person.Subject == "" {
		out.Settle = d.app.ID
	}
	return out, len(out.Link) > 0 || out.Name != nil || out.Values != nil || out.Follow != nil || len(out.Join) > 0 || out.Settle != ""
}

// moves has somebody belong where they do now, if that is elsewhere than before. Groups that are not there yet are made.
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
		d.effect(HoldMessage{App: d.app.Name})
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
		if c, err := policy.Select(d.snap, d.app, policy.Asking{Network: d.e.Browser.Network}, d.now); err == nil && c.Ask() && d.s.Kept {
			page.Again = d.address() + "?again=1"
		}
	}
	return d.ends(page, Refused)
}

// barred reports whether a refusal is of the person: coming again in the same way changes nothing.
func barred(f *finding.Finding) bool {
	return slices.Contains([]finding.Code{finding.AccessDenied, finding.AccessNobody, finding.AccessKeptOut, finding.RoleNone,
		finding.PersonDisabled}, f.Code)
}

// fail marks in the trace where it was refused.
func (d *drive) fail(f *finding.Finding) {
	st := d.at(StepFailure)
	st.Finding = f
	if n := len(st.Checks); n > 0 && st.Checks[n-1].Finding != nil && st.Checks[n-1].Finding.Code == f.Code {
		st.Checks[n-1].Finding = f // with the side that sent it
	}
}

// tell plans what the application hears of a refusal; nil if it hears nothing.
func (d *drive) tell(f *finding.Finding) Plan {
	if d.s.here.apart || d.app == nil || d.s.ID == "" || d.s.Stage == Ended {
		return nil
	}
	r := d.s.heard(f)
	if r == RefusedNobody {
		return nil
	}
	return applicationSide(d.app).Refuse(&d.snap.Gate, d.app, d.s.AppState, r, f)
}

func cutBase(s, base string) (federation.Name, bool) {
	if len(s) <= len(base) || s[:len(base)] != base {
		return federation.Name(s), s != ""
	}
	return federation.Name(s[len(base):]), true
}
