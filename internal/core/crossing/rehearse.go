package crossing

import (
	"cmp"
	"strings"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/reason"
)

// Rehearsing is whose run of a rehearsal a crossing is, and what of it is other than in a real one. A browser is
// marked for it by whoever has the run's link, until the run ends.
type Rehearsing struct {
	Run      string          `json:"run"` // its number; no secret
	App      federation.Name `json:"app"`
	AppID    federation.ID   `json:"appId,omitempty"`
	Provider federation.Name `json:"provider,omitempty"` // to come by, "" for as the rules decide
	Force    bool            `json:"force,omitempty"`    // a fresh sign-in is asked for, whoever starts
	// What is wished of a start at the gate or the provider; an application that starts wishes itself.
	Passive bool   `json:"passive,omitempty"`
	Context string `json:"context,omitempty"` // in the gate's words
	Role    string `json:"role,omitempty"`
}

// run names the run of a rehearsal that a crossing is of, "" for a real one.
func (s State) run() string {
	if s.Run == nil {
		return ""
	}
	return s.Run.Run
}

// session is the one that the browser is in: of a real crossing its own, of a rehearsal that of its run. Neither is
// ever the other's.
func (d *drive) session() *Session {
	in := d.f.Session
	if d.s.Run != nil {
		in = d.f.Rehearsed
	}
	if in == nil || in.Run != d.s.run() {
		return nil
	}
	return in
}

// rehearses has everything that follows go by the records of a rehearsal, if the browser is marked for the
// application: it, and the provider that it is about, are open in it.
func (d *drive) rehearses() {
	r := d.e.Browser.Run
	if d.s.Run != nil || r == nil || d.app == nil || !d.app.Is(r.App, r.AppID) {
		return
	}
	d.s.Mode, d.s.Run = Rehearsal, r
	d.opened(r)
	d.app, _ = d.snap.Application(r.App)
	d.at(StepStart).Reasons.Add(reason.Rehearsed, string(r.App))
}

// rehearsal is the run that a turn belongs to: that of its crossing or, of a message that belongs to none, that for
// which the browser is marked, if it is about one of its records.
func (d *drive) rehearsal() *Rehearsing {
	r := d.e.Browser.Run
	switch {
	case d.s.Run != nil:
		return d.s.Run
	case r == nil || !d.s.here.apart:
		return nil
	case d.app != nil && d.app.Is(r.App, r.AppID), d.app == nil && d.p != nil && d.p.Name == r.Provider:
		return r
	}
	return nil
}

// opened opens the records of a rehearsal, to it.
func (d *drive) opened(r *Rehearsing) {
	if app, there := d.snap.Application(r.App); there && app.Is(r.App, r.AppID) {
		d.snap = d.snap.Rehearsing(app, r.Provider)
	}
}

// wished adds what a rehearsal wishes.
func (d *drive) wished() {
	r := d.s.Run
	if r == nil {
		return
	}
	d.s.Wish.Force, d.s.Chosen = d.s.Wish.Force || r.Force, cmp.Or(d.s.Chosen, r.Provider)
	if d.s.StartedBy == "application" {
		return
	}
	d.s.Wish.Passive, d.s.Wish.Role = r.Passive, cmp.Or(d.s.Wish.Role, r.Role)
	if r.Context != "" {
		d.s.Wish.Contexts, d.s.Wish.Comparison = []string{r.Context}, federation.CompareMinimum
	}
}

// runOver reports whether the run that a crossing is of has ended, or the browser is not marked for it any more.
func (d *drive) runOver() bool {
	if d.s.Run == nil || d.e.Told != nil || d.s.Mode == Simulated {
		return false
	}
	r := d.e.Browser.Run
	return r == nil || r.Run != d.s.Run.Run
}

// unfinished is the refusal where a record lacks so much that nobody can pass it even in a rehearsal.
func unfinished(r federation.Record) error {
	missing := r.Part().Missing()
	if len(missing) == 0 {
		return nil
	}
	return finding.New(finding.RehearsalUnfinished, finding.Fact(r.Kind().Title(), string(r.Basic().Name)),
		finding.Fact("Missing", strings.Join(federation.Lacking(missing), ", "))).From(finding.Gate)
}

// made is what a rehearsal leaves of a person: an account of somebody new, with the link and the subject that a
// sign-in for real is to find again. Of somebody on record nothing becomes other: what would be kept is found out
// again, and a subject is derived alike.
func (c ChangePerson) made(run string) (out ChangePerson, any bool) {
	c.Run = run
	return c, c.Person == 0
}
