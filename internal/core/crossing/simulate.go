package crossing

import (
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/policy"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/reason"
)

// Foreseen is what would be decided on somebody's entry, and by which rules.
type Foreseen struct {
	Decision federation.Outcome
	Rule     *federation.Rule // that asks for more, of a step-up
	Finding  *finding.Finding // of a denial
	Reasons  reason.Reasons
	Judged   []policy.Judged
}

// Simulate decides on somebody's entry as a sign-in does, and tells of each rule why it is about them or not.
func Simulate(snap *federation.Snapshot, e Entrant, now time.Time) (Foreseen, error) {
	ask, why, err := Admit(snap, e, now)
	out := Foreseen{Decision: federation.Allow, Rule: ask, Reasons: why, Judged: policy.Judge(snap, e.App, e.Subject(), now)}
	switch out.Finding = finding.Of(err); {
	case out.Finding != nil:
		out.Decision = federation.Deny
	case err != nil:
		return out, err
	case ask != nil:
		out.Decision = federation.StepUp
	}
	return out, nil
}

// Entering is somebody as a trial has them, about to enter.
func (t Trial) Entering() (Entrant, error) {
	e := Entrant{Person: t.Person, Members: t.Person.Members}
	said := t.Said.Authentication
	var err error
	if t.Provider == nil {
		e.Marked = Marked(t.Snap, nil, profile.Profile{}, t.Person.Values, e.Members)
	} else {
		said.Provider = t.Provider.Name
		var who profile.Profile
		if who, _, err = intake(t.Provider, t.Said); err == nil {
			e = entering(t.Snap, t.Provider, who, t.Person, t.Given)
		}
	}
	e.App, e.Proofs, e.Network = t.App, []Authentication{said}, t.Said.Network
	return e, err
}
