package policy

import (
	"slices"
	"strings"
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

// Leading is a way to an application that people may be given, whoever they are.
type Leading struct {
	Provider *federation.Provider
	By       string // "its record", the titles of rules, or "everybody's choice"
}

// LeadsTo gives the ways to an application, those of closed providers, too: by its record, else by the rules that
// choose for it, else all that are not closed.
func LeadsTo(snap *federation.Snapshot, app *federation.Application, now time.Time) (out []Leading) {
	add := func(n federation.Name, by string) {
		p, there := snap.Provider(n)
		if !there {
			return
		}
		if i := slices.IndexFunc(out, func(l Leading) bool { return l.Provider == p }); i < 0 {
			out = append(out, Leading{p, by})
		} else if !strings.Contains(out[i].By, by) {
			out[i].By += ", " + by
		}
	}
	if app.Provider != "" {
		add(app.Provider, "its record")
		return out
	}
	all := len(snap.Ways(app.Name).Rules) == 0
	for _, r := range snap.Ways(app.Name).Rules {
		for _, n := range r.Providers {
			add(n, "rule "+string(r.Name))
		}
		all = all || len(r.Providers) == 0 ||
			len(r.Domains)+len(r.Groups)+len(r.Organisations)+len(r.Networks)+len(r.UserTypes)+len(r.Hints) > 0
	}
	for _, p := range snap.Providers() {
		if all && Open(p, now) == nil {
			add(p.Name, "everybody's choice")
		}
	}
	return out
}
