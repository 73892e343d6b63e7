// Package arrivals tells what providers sent in sign-ins of late, from what was recorded
// of them: names of attributes, and, for a minute and in memory alone, values of groups.
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
	mostTraces  = 3000
	keeps       = time.Minute
)

// Room looks back.
type Room struct {
	store   *store.Store
	now     func() time.Time
	mu      sync.Mutex
	at      time.Time
	all     map[federation.Name]checks.Arrived // of all providers, as it was then
	grouped grouped
}

// New makes a room over a store.
func New(s *store.Store, now func() time.Time) *Room {
	return &Room{store: s, now: now}
}

// Of tells what a provider sent in its last fifty recorded sign-ins.
func (rm *Room) Of(ctx context.Context, p *federation.Provider) (checks.Arrived, error) {
	all, err := rm.look(ctx, store.TraceFilter{Provider: string(p.Name)}, mostSignIns)
	return all[p.Name], err
}

// All tells it of all providers, from the last three thousand recorded sign-ins; it is
// looked up once a minute.
func (rm *Room) All(ctx context.Context) (map[federation.Name]checks.Arrived, error) {
	rm.mu.Lock()
	defer rm.mu.Unlock()
	if age := rm.now().Sub(rm.at); rm.all != nil && age >= 0 && age < keeps {
		return rm.all, nil
	}
	all, err := rm.look(ctx, store.TraceFilter{}, mostTraces)
	if err == nil {
		rm.at, rm.all = rm.now(), all
	}
	return all, err
}

// look goes back through recorded sign-ins, until it has seen so many of people.
func (rm *Room) look(ctx context.Context, f store.TraceFilter, most int) (map[federation.Name]checks.Arrived, error) {
	out := map[federation.Name]checks.Arrived{}
	var broken error
	looked, heard := 0, 0
	err := rm.store.Traces.Each(ctx, f, func(_ store.TraceHead, inputs []json.RawMessage) bool {
		looked++
		said, err := answerIn(inputs)
		if broken = err; err != nil {
			return false
		}
		if said != nil && out[said.Provider].SignIns < mostSignIns {
			came := out[said.Provider]
			came.SignIns++
			note(&came, said.Attributes)
			out[said.Provider] = came
			heard++
		}
		return looked < mostTraces && heard < most
	})
	if err == nil {
		err = broken
	}
	return out, err
}

// answerIn is what a provider said in a crossing, nil if none said anything.
func answerIn(inputs []json.RawMessage) (*crossing.Answer, error) {
	for _, octets := range inputs {
		var in struct {
			Told    *crossing.Told    `json:"told"`
			Session *crossing.Session `json:"session"`
			Decided struct {
				Provider federation.Name `json:"provider"`
				Result   string          `json:"result"`
			} `json:"decided"`
		}
		if err := json.Unmarshal(octets, &in); err != nil {
			return nil, err
		}
		if in.Told != nil && in.Told.Answer != nil {
			return in.Told.Answer, nil
		}
		if in.Session == nil || in.Decided.Result != crossing.Entered {
			continue
		}
		for i, a := range in.Session.Proofs { // as far as all of it was kept
			if a.Provider == in.Decided.Provider && a.Read == "" {
				return &in.Session.Proofs[i], nil
			}
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

// Proposed is a mapping for a record, and of how many sign-ins it was made.
type Proposed struct {
	profile.Proposal
	SignIns int
}

// Propose proposes the intake mapping of a provider from what arrived, or the release
// mapping of an application from what it asks for.
func (rm *Room) Propose(ctx context.Context, snap *federation.Snapshot, r federation.Record) (out Proposed,
	err error) {
	if p, ok := r.(*federation.Provider); ok {
		came, err := rm.Of(ctx, p)
		if side := p.Side.Can().Offering; side != nil && came.SignIns == 0 {
			came.Attributes = side.Offered()
		}
		return Proposed{profile.ProposeIntake(came.Attributes), came.SignIns}, err
	}
	a := r.(*federation.Application)
	c := checks.New(snap, rm.now())
	if c.Arrived, err = rm.All(ctx); err != nil {
		return out, err
	}
	made, signIns := c.ProfileFor(a)
	var wanted []profile.Requested
	if side := a.Side.Can().Requesting; side != nil {
		wanted = side.Requested()
	}
	return Proposed{profile.ProposeRelease(wanted, made), signIns}, nil
}
