package crossing

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/reason"
)

// in is what the provider's side goes by now.
func (d *drive) in(begins bool) In {
	w := d.s.Step.over(d.s.Wish.Effective(d.p))
	w.Contexts = d.p.ContextWords.Theirs(w.Contexts)
	if typed := d.hint(); typed != nil {
		w.Hints = typed
	}
	in := In{Begins: begins, Mine: d.mine(), Gate: &d.snap.Gate, Provider: d.p, Crossing: d.s.ID, Wish: w, Event: d.e,
		Facts: d.f,
		Now:   d.now, Held: d.s.here.held}
	if d.belongs() { // of another browser, too: it is refused for that afterwards
		in.Own = d.s.Leg().Own
	}
	return in
}

// belongs reports whether what arrived is the answer to what this crossing asked.
func (d *drive) belongs() bool {
	l := d.s.Leg()
	return d.s.ID != "" && d.p != nil && d.p.Is(l.Provider, l.ProviderID) &&
		(d.s.Stage == Asked || d.s.Stage == Ended)
}

func (d *drive) mine() bool { return d.belongs() && d.holds() }

// without goes on after a provider's refusal. What was only wished for (OpenID
// Connect Core §5.5.1.1) is asked for once, and then left out.
func (d *drive) without(f *finding.Finding) step {
	w := &d.s.Wish
	if d.s.Step != nil && f.Code == finding.ContextImpossible {
		return d.refuse(finding.New(finding.AccessStepUp, append([]finding.Evidence{finding.Fact("Rule", d.s.Step.Rule)},
			f.Evidence...)...))
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
	h := d.s.here
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

// standing is who comes, as this sign-in leaves them: found out once they are matched, and again if they are matched
// anew.
func (d *drive) standing() *person.Standing {
	h := d.s.here
	if h.stands == nil || !h.stands.By(d.snap) { // a call may have taken its time
		h.stands = person.Stand(d.snap, d.p, h.who, h.person, d.s.Given)
	}
	return h.stands
}

// entrant is who comes, at the application.
func (d *drive) entrant() Entrant {
	return Entrant{App: d.app, Stands: d.standing(), Proofs: d.s.proofs(), Network: d.e.Browser.Network, Role: d.role()}
}

// role is the one that somebody enters with: that they chose, or that was asked for.
func (d *drive) role() string { return cmp.Or(d.s.Role, d.s.Wish.Role) }

// lasting is what the session will be named by that the answer comes with.
func (d *drive) lasting() string {
	s := d.s.here.by
	if s == nil {
		s = Joined(&d.snap.Gate, d.session(), d.s.here.person, d.s.added(), d.f.New, d.now)
	}
	return s.Lasting
}

// barred reports whether a refusal is of the person: coming again in the same way changes nothing.
func barred(f *finding.Finding) bool {
	return slices.Contains([]finding.Code{finding.AccessDenied, finding.AccessNobody, finding.AccessKeptOut,
		finding.RoleNone,
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
