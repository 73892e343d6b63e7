package traces

import (
	"context"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
)

// Simulation is who would want to enter an application, and how. What is not said is as at their newest sign-in
// that is known.
type Simulation struct {
	App              *federation.Application
	Person           int64
	Provider         *federation.Provider
	Context, Network string
	SignedIn         time.Time // zero for now
	Now              time.Time // zero for now
}

// Simulate tells whether somebody would enter, and why. Nothing is changed.
func (rm *Room) Simulate(ctx context.Context, snap *federation.Snapshot, s Simulation) (out crossing.Foreseen, err error) {
	t, err := rm.OfPerson(ctx, snap, Whom{s.Person, s.App, s.Provider})
	if err != nil {
		return out, err
	}
	if t.Provider == nil && s.Provider != nil {
		t.Provider = s.Provider
	}
	e, err := t.Entering()
	if err != nil {
		return out, err
	}
	now := s.Now
	if now.IsZero() {
		now = rm.now()
	}
	p := &e.Proofs[0]
	if p.At = s.SignedIn; p.At.IsZero() {
		p.At = now
	}
	if s.Context != "" {
		p.Context = s.Context
	}
	if s.Network != "" {
		e.Network = s.Network
	}
	return crossing.Simulate(snap, e, now)
}
