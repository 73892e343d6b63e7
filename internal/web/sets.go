package web

import (
	"context"
	"fmt"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/jobs"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/traces"
)

// setCalls registers named mappings, and the re-evaluation of recorded crossings.
func (s *server) setCalls(a huma.API) {
	g := s.gate
	call(s, a, api.ListSets,
		func(context.Context, *api.None) (*body[api.List[api.Set]], error) {
			snap := g.Records.Snapshot()
			out := api.List[api.Set]{Items: []api.Set{}}
			for _, set := range snap.Sets() {
				out.Items = append(out.Items, setShown(snap, set))
			}
			out.Total = int64(len(out.Items))
			return &body[api.List[api.Set]]{out}, nil
		})
	call(s, a, api.ShowSet,
		func(_ context.Context, in *api.Named) (*body[api.Set], error) {
			set, err := g.Records.Set(in.Name)
			if err != nil {
				return nil, err
			}
			return &body[api.Set]{setShown(g.Records.Snapshot(), set)}, nil
		})
	call(s, a, api.PutSet,
		func(ctx context.Context, in *api.SentTo[api.SetChange]) (*body[api.Set], error) {
			set, err := g.Records.PutSet(ctx, by(ctx), setOf(in.Name, in.Body))
			if err != nil {
				return nil, err
			}
			out := setShown(g.Records.Snapshot(), set)
			out.Consequence = took(ctx)
			return &body[api.Set]{out}, nil
		})
	act(s, a, api.RemoveSet,
		func(ctx context.Context, in *api.Named) error {
			return g.Records.RemoveSet(ctx, by(ctx), in.Name)
		})
	call(s, a, api.Reevaluate,
		func(ctx context.Context, in *api.Sent[api.Reevaluation]) (*body[api.Job], error) {
			return s.reevaluate(ctx, in.Body)
		})
	call(s, a, api.WeighChange,
		func(ctx context.Context, in *api.Sent[api.Proposed]) (*body[api.Consequence], error) {
			got, err := g.Records.Weigh(ctx, proposed(in.Body))
			if err != nil {
				return nil, err
			}
			out := consequence(got)
			if out == nil {
				out = &api.Consequence{People: []api.Affected{}}
			}
			return &body[api.Consequence]{*out}, nil
		})
}

func setOf(name string, in api.SetChange) federation.Set {
	return federation.Set{Name: federation.Name(name), Way: profile.Way(in.Way), Title: in.Title, Notes: in.Notes,
		Mapping: in.Mapping, Revision: in.Revision}
}

// deviation is what a record that shares a set makes by itself.
func deviation(r federation.Record) api.Deviation {
	d := api.Deviation{Record: r.Ref().String(), Own: []string{}, Omits: []string{}}
	for _, rule := range federation.OwnMapping(r).Rules {
		if rule.Omit {
			d.Omits = append(d.Omits, rule.To.String())
		} else {
			d.Own = append(d.Own, rule.To.String())
		}
	}
	return d
}

func setShown(snap *federation.Snapshot, set *federation.Set) api.Set {
	out := api.Set{Name: string(set.Name), SetChange: api.SetChange{Way: string(set.Way), Title: set.Title,
		Notes:   set.Notes,
		Mapping: set.Mapping, Revision: set.Revision}, Using: []string{}, Deviating: []api.Deviation{}, Added: set.Added}
	for _, r := range snap.Using(set.Name) {
		out.Using = append(out.Using, r.Ref().String())
		if d := deviation(r); len(d.Own)+len(d.Omits) > 0 {
			out.Deviating = append(out.Deviating, d)
		}
	}
	return out
}

// proposed reads a change that is only looked at.
func proposed(in api.Proposed) (c records.Proposed) {
	for _, x := range in.Changes {
		c.Changes = append(c.Changes, records.SettingChange{Kind: x.Kind, Name: x.Name, Settings: x.Settings})
	}
	if in.Set != nil {
		set := setOf(in.Set.Name, in.Set.SetChange)
		c.Set = &set
	}
	return c
}

// took is what a change that was just made did to people, nil for nothing.
func took(ctx context.Context) *api.Consequence { return consequence(*by(ctx).Took) }

// consequence shows what a change does to people; nil where it touches nobody.
func consequence(c change.Consequence) *api.Consequence {
	if c.Empty() {
		return nil
	}
	out := &api.Consequence{Looked: c.Looked, Seen: c.Seen, Known: c.Known, Shut: c.Shut, Renamed: c.Renamed,
		Held: c.Held, Told: c.Told, Let: c.Let,
		Untold: c.Untold, Cause: c.Cause, Stopped: c.Stopped, People: []api.Affected{}, Finding: c.Finding,
		Confirm: c.Digest}
	for _, o := range c.Offered {
		out.Offered = append(out.Offered, api.Offer{Provider: string(o.Provider), Applications: plainNames(o.Apps)})
	}
	out.Choosing, out.Cast = c.Choosing, c.Cast
	for _, x := range c.Casts {
		out.Roles = append(out.Roles, api.RoleChange{Application: x.App, Role: x.Role, Gain: x.Gain, Lose: x.Lose})
	}
	if w := c.Ways; w.Keep+w.Other+w.None > 0 {
		out.Ways = &api.WaysTold{Keep: w.Keep, Other: w.Other, None: w.None, Examples: some(w.Examples)}
	}
	for _, p := range c.People {
		out.People = append(out.People, api.Affected(p))
	}
	return out
}

// reevaluate begins a job that runs crossings again.
func (s *server) reevaluate(_ context.Context, in api.Reevaluation) (*body[api.Job], error) {
	g := s.gate
	c := proposed(api.Proposed{Changes: in.Changes, Set: in.Set})
	for kind, name := range map[string]string{"application": in.Application, "provider": in.Provider} {
		if name == "" {
			continue
		}
		if _, err := g.Records.Record(kind, name); err != nil {
			return nil, err
		}
	}
	before, after, err := g.Records.Propose(c)
	if err != nil {
		return nil, err
	}
	which := traces.Which{Application: in.Application, Provider: in.Provider, Most: in.Most}
	end, err := g.Traces.Begin()
	if err != nil {
		return nil, err
	}
	j := g.Jobs.Start("re-evaluate recorded crossings", "crossings", func(ctx context.Context, p jobs.Progress) (any,
		error) {
		defer end()
		total, err := g.Traces.Count(ctx, which)
		if err != nil {
			return nil, err
		}
		p.Total(total)
		got, err := g.Traces.Reevaluate(ctx, before, after, which, p.Set)
		if err != nil {
			return nil, fmt.Errorf("re-evaluation: %w", err)
		}
		return &got, nil
	})
	return &body[api.Job]{jobShown(j)}, nil
}

func reevaluated(in *traces.Evaluated) *api.Reevaluated {
	out := &api.Reevaluated{Looked: in.Looked, Alike: in.Alike, Differs: in.Differs, Untold: in.Untold, Apart: in.Apart,
		Seen: in.Seen, People: in.People, Shut: in.Shut, Renamed: in.Renamed, Held: in.Held, Stopped: in.Stopped,
		Listed: []api.ReevaluatedCrossing{}}
	for _, l := range in.Listed {
		x := api.ReevaluatedCrossing{Trace: l.ID, Started: l.Started, Person: l.Person, Application: l.Application,
			Provider: l.Provider, Verdict: string(l.Verdict), Cause: l.Cause, Shut: l.Shut, Renamed: l.Renamed, Held: l.Held,
			Differences: l.Differences}
		if x.Differences == nil {
			x.Differences = []federation.Difference{}
		}
		out.Listed = append(out.Listed, x)
	}
	return out
}

func plainNames(all []federation.Name) []string {
	out := make([]string, len(all))
	for i, n := range all {
		out[i] = string(n)
	}
	return out
}
