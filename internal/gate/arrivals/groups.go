package arrivals

import (
	"context"
	"encoding/json"
	"slices"
	"strconv"
	"sync"
	"time"

	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/policy"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/trace"
	"innergate.example/innergate/internal/store"
)

// Bounds of looking for values of groups.
const (
	leastSignIns = 10 // before an expected value is missed
	mostMissed   = 10 // that a finding names
)

// said is what a provider said of groups in recorded sign-ins.
type said struct {
	signIns int             // whose values were kept
	groups  map[string]bool // in the form in which they are compared
	unknown []string
}

// grouped keeps what looking came to, for a minute.
type grouped struct {
	mu   sync.Mutex
	snap *federation.Snapshot
	at   time.Time
	of   map[federation.Name]*said
}

// groups goes through recorded sign-ins by providers whose values make members.
func (rm *Room) groups(ctx context.Context, snap *federation.Snapshot) (map[federation.Name]*said, error) {
	follow := func(p *federation.Provider) bool { return p.GroupValues != "" }
	if !slices.ContainsFunc(snap.Providers(), follow) {
		return nil, nil
	}
	k := &rm.grouped
	k.mu.Lock()
	defer k.mu.Unlock()
	if age := rm.now().Sub(k.at); k.snap == snap && age >= 0 && age < keeps {
		return k.of, nil
	}
	out, looked := map[federation.Name]*said{}, 0
	var broken error
	err := rm.store.Traces.Each(ctx, store.TraceFilter{}, func(_ store.TraceHead, inputs []json.RawMessage) bool {
		looked++
		answer, err := answerIn(inputs)
		if broken = err; err != nil {
			return false
		}
		if answer == nil {
			return looked < mostTraces
		}
		if p, there := snap.Provider(answer.Provider); there && follow(p) {
			if out[p.Name] == nil {
				out[p.Name] = &said{groups: map[string]bool{}}
			}
			out[p.Name].note(snap, p, answer)
		}
		return looked < mostTraces
	})
	if err == nil {
		err = broken
	}
	if err == nil {
		k.snap, k.at, k.of = snap, rm.now(), out
	}
	return out, err
}

// note takes a sign-in in, unless its values were not kept.
func (s *said) note(snap *federation.Snapshot, p *federation.Provider, a *crossing.Answer) {
	who, _, err := crossing.Intake(p, a)
	values := profile.Find(who.Attributes, profile.AttributeGroups)
	if err != nil || slices.ContainsFunc(values, func(v profile.Value) bool { return trace.Covered(v.String()) }) {
		return
	}
	s.signIns++
	for _, v := range values {
		s.groups[profile.Small(v.String())] = true
	}
	for _, v := range person.UnknownGroups(snap, who) {
		if !slices.Contains(s.unknown, v) && len(s.unknown) < mostNames {
			s.unknown = append(s.unknown, v)
		}
	}
}

// UnknownGroups finds providers that sent values of groups that mean nothing here: for checks.
func (rm *Room) UnknownGroups(ctx context.Context, snap *federation.Snapshot) (map[federation.ID]*finding.Finding,
	error) {
	of, err := rm.groups(ctx, snap)
	out := map[federation.ID]*finding.Finding{}
	for name, s := range of {
		p, there := snap.Provider(name)
		if !there || len(s.unknown) == 0 || p.GroupValues != federation.GroupsKnown {
			continue
		}
		f := finding.New(finding.GroupValueUnknown)
		slices.Sort(s.unknown)
		for _, v := range s.unknown[:min(len(s.unknown), mostMissed)] {
			f = f.With(finding.Fact("Value", finding.Clip(v)))
		}
		out[p.ID] = checks.Nearest(snap, f)
	}
	return out, err
}

// SilentGroups finds providers none of whose recorded sign-ins brought an expected value of groups: for checks.
func (rm *Room) SilentGroups(ctx context.Context, snap *federation.Snapshot) (map[federation.ID]*finding.Finding,
	error) {
	of, err := rm.groups(ctx, snap)
	out := map[federation.ID]*finding.Finding{}
	for name, s := range of {
		p, there := snap.Provider(name)
		if !there || s.signIns < leastSignIns {
			continue
		}
		var missed []string
		for _, x := range policy.ExpectedOf(snap, p) {
			if !s.groups[profile.Small(x.Value)] {
				missed = append(missed, x.Value)
			}
		}
		if len(missed) == 0 {
			continue
		}
		f := finding.New(finding.GroupValueSilent)
		for _, v := range missed[:min(len(missed), mostMissed)] {
			f = f.With(finding.Fact("Value", v))
		}
		out[p.ID] = f.With(finding.Passing("Values that never arrived", strconv.Itoa(len(missed))),
			finding.Passing("Sign-ins looked at", strconv.Itoa(s.signIns)))
	}
	return out, err
}
