package rehearsal

import (
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/finding"
)

// After is what is seen of a run after one more turn. reference is that of its trace.
func (s Seen) After(t crossing.Turn, reference string, at time.Time) Seen {
	if t.Result == "" || t.Apart && t.Result == crossing.Entered { // it only leads to the start
		return s
	}
	if reference != s.Trace {
		s = Seen{Trace: reference, Began: at, Stage: s.Stage, Delivered: "", Findings: nil}
		if !t.State.Began.IsZero() {
			s.Began = t.State.Began
		}
	}
	s.note(t)
	switch next := t.Next.(type) {
	case *crossing.Leave:
		if s.Stage = AtProvider; next.To == crossing.Application {
			s.Stage = Done
		}
	case *crossing.Show, *crossing.Challenge:
		s.Stage = AtPerson
	}
	if t.Result == crossing.Waiting {
		return s
	}
	s.Stage, s.Result, s.Finding, s.Ended = Done, t.Result, t.Finding, at
	s.Person, s.Made, s.Told, s.Roles = t.Person.ID, t.Decided.New, t.Decided.Told, t.Entry.RoleNames()
	if t.Entry.Rule != nil {
		s.Rule = t.Entry.Rule.Name
	} else if t.Way != nil && finding.Is(errorOf(t.Finding), finding.WayOther) {
		s.Rule = t.Way.Name
	}
	if leave, leaves := t.Next.(*crossing.Leave); leaves && t.Result == crossing.Entered {
		s.Delivered = Sent
		if is, gives := leave.Plan.(crossing.Issuing); gives {
			s.Name, s.Format = is.Issues().As, is.Issues().Format
		}
	}
	return s
}

// MostFindings bounds what is kept of a run's steps.
const MostFindings = 20

func errorOf(f *finding.Finding) error {
	if f == nil {
		return nil
	}
	return f
}

// note takes what a turn tells of the provider, and what was found on the way.
func (s *Seen) note(t crossing.Turn) {
	if s.Provider = t.Decided.Provider; s.Provider == "" {
		s.Provider = t.State.Leg().Provider
	}
	if word := t.State.Leg().Word; word != nil {
		s.SignedIn, s.Subject = word.When(), word.Subject.Value
	}
	add := func(f *finding.Finding) {
		if f != nil && f.Severity != finding.Note && len(s.Findings) < MostFindings {
			s.Findings = append(s.Findings, f)
		}
	}
	for _, st := range t.Steps {
		add(st.Finding)
		for _, c := range st.Checks {
			add(c.Finding)
		}
	}
}

// Redeem is what is seen once the application came for what it was given, or was refused there.
func (s Seen) Redeem(f *finding.Finding) Seen {
	if f != nil {
		s.Result, s.Finding, s.Delivered = crossing.Refused, f, Sent
		return s
	}
	s.Result, s.Finding, s.Delivered = crossing.Entered, nil, Redeemed
	return s
}
