package web

import (
	"context"
	"slices"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate/people"
	"innergate.example/innergate/internal/gate/traces"
)

// traceCalls registers the reading of traces.
func (s *server) traceCalls(a huma.API) {
	g := s.gate
	call(s, a, api.ListTraces,
		func(ctx context.Context, in *api.TraceFilter) (*body[api.TraceList], error) {
			f := traces.Filter{Search: in.Search, Result: in.Result, Application: in.Application, Provider: in.Provider,
				Since:  in.Since,
				Before: in.Before, Offset: in.Offset, Limit: in.Limit, Rehearsed: in.Rehearsed}
			if in.Search != "" {
				found, err := g.People.List(ctx, people.Filter{Search: in.Search, Limit: mostNamed})
				if err != nil {
					return nil, err
				}
				for _, p := range found.People {
					f.Accounts = append(f.Accounts, p.ID)
				}
			}
			rows, counts, err := g.Traces.List(ctx, f)
			if err != nil {
				return nil, err
			}
			names, err := namesIn(ctx, s, rows, func(h traces.Head) int64 { return h.Account })
			out := &body[api.TraceList]{api.TraceList{Items: []api.TraceHead{}, Counts: counts}}
			for _, r := range rows {
				h := traceHead(r)
				h.Name = names[r.Account]
				out.Body.Items = append(out.Body.Items, h)
			}
			return out, err
		})
	call(s, a, api.ShowTrace,
		func(ctx context.Context, in *api.Named) (*body[api.Trace], error) {
			head, steps, err := g.Traces.Get(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			snap := g.Records.Snapshot()
			for i := range steps {
				steps[i].Finding = checks.Nearest(snap, steps[i].Finding)
				for j := range steps[i].Checks {
					steps[i].Checks[j].Finding = checks.Nearest(snap, steps[i].Checks[j].Finding)
				}
				steps[i].Checks, steps[i].Reasons = traces.Prose(steps[i]), nil
			}
			h := traceHead(head)
			names, err := g.People.Names(ctx, []int64{head.Account})
			h.Name = names[head.Account]
			out := api.Trace{TraceHead: h, Steps: steps}
			if err == nil {
				out.Remedies, err = s.remedies(ctx, snap, head)
			}
			return &body[api.Trace]{out}, err
		})
}

// remedies are what would have let somebody in who was refused entry.
func (s *server) remedies(ctx context.Context, snap *federation.Snapshot, head traces.Head) (out []api.Remedy,
	err error) {
	if head.Result != crossing.Refused {
		return nil, nil
	}
	all, err := s.gate.Traces.Remedies(ctx, snap, head.ID)
	for _, r := range all {
		out = append(out, api.Remedy(r))
	}
	return out, err
}

// mostNamed is how many people are looked for by name in a search of traces.
const mostNamed = 200

// namesIn are the names that people in a list have here, by their numbers.
func namesIn[T any](ctx context.Context, s *server, rows []T, of func(T) int64) (map[int64]string, error) {
	ids := []int64{}
	for _, r := range rows {
		if id := of(r); id != 0 && !slices.Contains(ids, id) {
			ids = append(ids, id)
		}
	}
	return s.gate.People.Names(ctx, ids)
}

func traceHead(r traces.Head) api.TraceHead {
	run, _ := strconv.ParseInt(r.Run, 10, 64)
	return api.TraceHead{ID: r.ID, Started: r.Started, StartedBy: r.StartedBy, Application: r.Application,
		Provider: r.Provider,
		Person:   r.Person, Account: r.Account, Result: r.Result, Finding: r.Finding, Milliseconds: r.Millis,
		Run: run}
}
