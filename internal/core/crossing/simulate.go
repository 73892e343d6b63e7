package crossing

import (
	"strings"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/policy"
	"innergate.example/innergate/internal/core/profile"
)

// Foreseen is what would be decided on somebody's entry, and by what.
type Foreseen struct {
	Decision federation.Outcome
	Entry    policy.Entry
	Finding  *finding.Finding // of a denial
}

// Foresee decides on somebody's entry as a sign-in does.
func Foresee(snap *federation.Snapshot, e Entrant, now time.Time) (Foreseen, error) {
	entry, err := Admit(snap, e, now)
	out := Foreseen{Decision: entry.Outcome, Entry: entry, Finding: finding.Of(err)}
	if out.Finding != nil {
		out.Decision = federation.Deny
		return out, nil
	}
	return out, err
}

// InWords says in a line what is decided, and by what.
func (f Foreseen) InWords() string {
	var words []string
	for _, r := range f.Entry.Reasons {
		words = append(words, r.Text())
	}
	if f.Finding != nil {
		words = append(words, f.Finding.Title)
		if f.Entry.Rule != nil {
			words = append(words, string(f.Entry.Rule.Name)+": "+f.Entry.Rule.Title)
		}
	}
	return strings.Join(words, "; ")
}

// standing is somebody as a trial has them; who is what came, through the intake.
func (t Trial) standing() (*person.Standing, error) {
	if t.Provider == nil || t.Silent {
		return person.OnRecord(t.Snap, t.Provider, profile.Profile{Subject: t.Said.Subject}, t.Person, t.Given), nil
	}
	who, _, err := intake(t.Provider, t.Said)
	return person.Stand(t.Snap, t.Provider, who, t.Person, t.Given), err
}

// Entering is somebody as a trial has them, about to enter.
func (t Trial) Entering() (Entrant, error) {
	said := t.Said.Authentication
	if t.Provider != nil {
		said.Provider = t.Provider.Name
	}
	stands, err := t.standing()
	return Entrant{App: t.App, Stands: stands, Proofs: []Authentication{said}, Network: t.Said.Network,
		Role: t.Wish.Role}, err
}

// roles are the values of the roles that somebody would enter with, as a trial has them.
func (t Trial) roles() []string {
	if t.App == nil || len(t.Snap.Book(t.App.Name).Roles) == 0 {
		return nil
	}
	e, err := t.Entering()
	if err != nil {
		return nil
	}
	entry, err := policy.Enter(t.Snap, t.App, e.Subject(), t.Now)
	if err != nil {
		return nil
	}
	return entry.RoleValues()
}

// Coming is what provider selection is asked about somebody as a trial has them: once they are known.
func (t Trial) Coming() (policy.Asking, error) {
	e, err := t.Entering()
	if finding.Of(err) != nil {
		return policy.Asking{Whole: true, Network: t.Said.Network}, nil
	}
	if err != nil {
		return policy.Asking{}, err
	}
	by := t.Provider
	if t.Silent {
		by = nil
	}
	return e.coming(t.Snap, by), nil
}
