package crossing

import (
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/person"
)

// match finds the person.
func (d *drive) match() step {
	got, need, err := person.Identify(d.p, person.Comes{Who: d.s.here.who, Given: d.s.Given, Picked: d.s.Picked,
		Having: d.f.having()}, d.f.people())
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
	d.s.here.person, d.s.here.stands, d.s.Person = who, nil, who.ID
	d.s.here.decided.Person, d.s.here.decided.New = who.ID, who.Key != "" && who.ID == 0
	if who.ID == 0 && d.s.here.seen.Prove != "" {
		return (*drive).proveAddress // it may tell who they are
	}
	return (*drive).welcome
}

// welcome sees whether they may come at all.
func (d *drive) welcome() step {
	need, err := person.Welcome(d.p, d.s.here.person, d.s.here.who.Subject, d.f.people())
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
