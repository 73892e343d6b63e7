// Package arrivals tells what providers sent in sign-ins of late, from what was recorded
// of them: names of attributes, never their values.
package arrivals

import (
	"context"
	"encoding/json"
	"slices"
	"sync"
	"time"

	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/store"
)

// Bounds of looking back.
const (
	mostSignIns = 50
	mostNames   = 500
	keeps       = 20 * time.Second
)

// Room looks back.
type Room struct {
	store *store.Store
	now   func() time.Time
	mu    sync.Mutex
	kept  map[federation.Name]kept
}

type kept struct {
	at time.Time
	checks.Arrived
}

// New makes a room over a store.
func New(s *store.Store, now func() time.Time) *Room {
	return &Room{store: s, now: now, kept: map[federation.Name]kept{}}
}

// Of tells what a provider sent in its last fifty recorded sign-ins.
func (rm *Room) Of(ctx context.Context, p *federation.Provider) (checks.Arrived, error) {
	rm.mu.Lock()
	k, ok := rm.kept[p.Name]
	rm.mu.Unlock()
	if age := rm.now().Sub(k.at); ok && age >= 0 && age < keeps {
		return k.Arrived, nil
	}
	var out checks.Arrived
	var broken error
	err := rm.store.Traces.Each(ctx, store.TraceFilter{Provider: string(p.Name)},
		func(_ store.TraceHead, inputs []json.RawMessage) bool {
			said, err := answerIn(inputs, p)
			if broken = err; err != nil {
				return false
			}
			if said != nil {
				out.SignIns++
				note(&out, said.Attributes)
			}
			return out.SignIns < mostSignIns
		})
	if err == nil {
		err = broken
	}
	if err != nil {
		return out, err
	}
	rm.mu.Lock()
	defer rm.mu.Unlock()
	rm.kept[p.Name] = kept{rm.now(), out}
	return out, nil
}

// answerIn is what the provider said in a crossing, nil if it said nothing.
func answerIn(inputs []json.RawMessage, p *federation.Provider) (*crossing.Answer, error) {
	for _, octets := range inputs {
		var in struct {
			Told *crossing.Told `json:"told"`
		}
		if err := json.Unmarshal(octets, &in); err != nil {
			return nil, err
		}
		if in.Told != nil && in.Told.Answer != nil && p.Is(in.Told.Answer.Provider, in.Told.Answer.ProviderID) {
			return in.Told.Answer, nil
		}
	}
	return nil, nil
}

func note(out *checks.Arrived, attributes []profile.Attribute) {
	for _, a := range attributes {
		same := func(b profile.Attribute) bool {
			return a.Name == b.Name && a.Format == b.Format && a.Friendly == b.Friendly
		}
		if len(a.Values) > 0 && len(out.Attributes) < mostNames && !slices.ContainsFunc(out.Attributes, same) {
			out.Attributes = append(out.Attributes, profile.Attribute{Name: a.Name, Format: a.Format, Friendly: a.Friendly})
		}
	}
}

// All tells it of several providers by name. One that is not there any more is left out.
func (rm *Room) All(ctx context.Context, snap *federation.Snapshot, names []federation.Name) (
	map[federation.Name]checks.Arrived, error) {
	out := map[federation.Name]checks.Arrived{}
	for _, name := range names {
		p, ok := snap.Provider(name)
		if !ok {
			continue
		}
		came, err := rm.Of(ctx, p)
		if err != nil {
			return nil, err
		}
		out[name] = came
	}
	return out, nil
}

// Proposed is a mapping for a record, and of how many sign-ins it was made.
type Proposed struct {
	profile.Proposal
	SignIns int
}

// Propose proposes the intake mapping of a provider from what arrived, or the release
// mapping of an application from what it asks for.
func (rm *Room) Propose(ctx context.Context, snap *federation.Snapshot, r federation.Record) (out Proposed, err error) {
	if p, ok := r.(*federation.Provider); ok {
		came, err := rm.Of(ctx, p)
		if side, offers := p.Side.(federation.Offering); offers && came.SignIns == 0 {
			came.Attributes = side.Offered()
		}
		return Proposed{profile.ProposeIntake(came.Attributes), came.SignIns}, err
	}
	a := r.(*federation.Application)
	c := checks.New(snap, rm.now())
	if c.Arrived, err = rm.All(ctx, snap, checks.Serving(snap, a)); err != nil {
		return out, err
	}
	made, signIns := c.ProfileFor(a)
	var wanted []profile.Requested
	if side, asks := a.Side.(federation.Requesting); asks {
		wanted = side.Requested()
	}
	return Proposed{profile.ProposeRelease(wanted, made), signIns}, nil
}
