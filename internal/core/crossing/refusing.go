package crossing

import (
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/reason"
)

// readsHere has people who may not enter read why, and whom to ask, before the application hears of it, where its
// record says so. Whenever they come back it is decided anew: whoever was given entry meanwhile goes on.
func (d *drive) readsHere(f *finding.Finding) (step, bool) {
	h := d.s.here
	if d.app == nil || !d.app.RefusedHere && !d.app.AskForEntry || !OfEntry(f) || h.answer == nil || h.apart ||
		d.s.ID == "" || d.s.Stage == Ended || d.s.Wish.Passive {
		return nil, false
	}
	g := d.hears()
	if g == nil {
		g = h.gave
	}
	if g != nil && g.Do == DoLeave {
		return nil, false
	}
	page := &Show{Page: PageRefused, App: d.app.Title, Refusal: d.refusal(f)}
	if g != nil && g.Do == DoAsk && page.Refusal.MayAsk && !d.s.Requested {
		d.s.Requested, page.Refusal.Requested = true, true
		d.here(StepAccess).Reasons.Add(reason.EntryRequested)
		if change, any := d.knows(""); any && h.person.ID == 0 {
			d.effect(change)
		}
		d.effect(RequestEntry{App: d.app.ID})
	}
	d.pause(Refusing)
	d.keep()
	page.Refusal.Question = d.s.Question
	d.trace(TraceStep{From: GateLane, To: BrowserLane, Name: "refused page"})
	return d.ends(page, Refused), true
}

// OfEntry reports whether a refusal is about who may enter, and as what.
func OfEntry(f *finding.Finding) bool {
	return barred(f) || f.Code == finding.RoleNotHeld || f.Code == finding.NotInCohort
}

// refusal tells whom to ask, and whether here; nil where nobody can be asked for anything.
func (d *drive) refusal(f *finding.Finding) *RefusalRead {
	h := d.s.here
	if d.app == nil || h.apart || d.s.ID == "" || !OfEntry(f) {
		return nil
	}
	out := &RefusalRead{Owner: d.app.Owner, Requested: d.s.Requested}
	if d.app.AskForEntry && d.s.Run == nil && h.answer != nil && h.person.Key != "" && !h.person.Disabled {
		out.MayAsk = admissionHelps(d.snap, d.entrant(), d.now)
	}
	return out
}

// admissionHelps reports whether somebody who is refused would enter if they were admitted by name.
func admissionHelps(snap *federation.Snapshot, e Entrant, now time.Time) bool {
	e.Stands = e.Stands.WithAdmission(person.Admitted{App: e.App.ID})
	entry, err := Admit(snap, e, now)
	return err == nil && entry.Outcome != federation.Deny
}

// notYet reports whether somebody reads that a pilot does not include them, before they signed in and without that the
// application hears of it: its record says that refusals are read here.
func (d *drive) notYet(f *finding.Finding) bool {
	return f.Code == finding.NotInCohort && d.app.RefusedHere && d.s.here.answer == nil && !d.s.Wish.Passive
}

// longestAsked bounds what is kept of a request for the earlier sign-in of an application, in octets. Of a longer one
// nothing is kept: people arrive there without it.
const longestAsked = 32 << 10

// earlier sends whoever is not in a pilot to where they signed in to the application before, with what it asked for.
func (d *drive) earlier(f *finding.Finding) (step, bool) {
	if d.app == nil || d.app.OldSignIn == "" || f.Code != finding.NotInCohort || d.s.here.apart || d.s.ID == "" ||
		d.s.Stage == Ended {
		return nil, false
	}
	if d.s.Kept {
		d.s.here.effects = append([]Effect{End{}}, d.s.here.effects...)
	}
	d.s.here.stage, d.s.Stage = d.s.Stage, Ended
	d.trace(TraceStep{From: GateLane, To: BrowserLane, Name: "earlier sign-in", Address: d.app.OldSignIn})
	return d.ends(&Go{To: d.app.OldSignIn, Asked: d.s.Asked, Posted: d.s.Posted}, Refused), true
}
