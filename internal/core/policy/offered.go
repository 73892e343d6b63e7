package policy

import (
	"slices"
	"time"

	"innergate.example/innergate/internal/core/federation"
)

// Offer is a provider that people may come by from now on, and the applications at which it is offered.
type Offer struct {
	Provider federation.Name
	Apps     []federation.Name
}

// Offered are the providers that a change opens, with the applications at which people gain a choice by it: those
// that Select gives it for, and did not before.
func Offered(before, after *federation.Snapshot, now time.Time) (out []Offer) {
	for _, p := range after.Providers() {
		old, there := before.Provider(p.Name)
		if Open(p, now) == nil && (!there || Open(old, now) != nil) {
			out = append(out, Offer{Provider: p.Name})
		}
	}
	if len(out) == 0 {
		return nil
	}
	was, is := selected{snap: before, now: now}, selected{snap: after, now: now}
	for _, a := range after.Applications() {
		if !a.Attended() || Open(a, now) != nil {
			continue
		}
		old, next := was.of(a.Name), is.of(a.Name)
		for i := range out {
			if next[out[i].Provider] && !old[out[i].Provider] {
				out[i].Apps = append(out[i].Apps, a.Name)
			}
		}
	}
	return slices.DeleteFunc(out, func(o Offer) bool { return len(o.Apps) == 0 })
}

// selected are the providers that Select gives. Applications that are tied alike have the same.
type selected struct {
	snap *federation.Snapshot
	now  time.Time
	all  map[federation.Name]map[federation.Name]bool
}

func (s *selected) of(app federation.Name) map[federation.Name]bool {
	a, there := s.snap.Application(app)
	if !there || Open(a, s.now) != nil {
		return nil
	}
	if got, known := s.all[a.Provider]; known {
		return got
	}
	set := map[federation.Name]bool{}
	if c, err := Select(s.snap, a, Asking{}, s.now); err == nil {
		for _, p := range c.Providers {
			set[p] = true
		}
	}
	if s.all == nil {
		s.all = map[federation.Name]map[federation.Name]bool{}
	}
	s.all[a.Provider] = set
	return set
}
