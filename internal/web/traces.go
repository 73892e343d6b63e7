package web

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/gate/traces"
)

// traceCalls registers the reading of traces.
func (s *server) traceCalls(a huma.API) {
	g := s.gate
	type filter struct {
		Search      string    `query:"search" maxLength:"200" doc:"Part of a reference, application, provider, person or finding"`
		Result      string    `query:"result" enum:"entered,refused,waiting,left"`
		Application string    `query:"application" maxLength:"200"`
		Provider    string    `query:"provider" maxLength:"200"`
		Since       time.Time `query:"since" doc:"Only traces started at this time or later"`
		Before      time.Time `query:"before" doc:"Only traces started before this"`
		Offset      int       `query:"offset" minimum:"0"`
		Limit       int       `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	}
	huma.Register(a, op("GET", "/traces", "list-traces", "Traces, newest first"),
		func(ctx context.Context, in *filter) (*body[api.TraceList], error) {
			rows, counts, err := g.Traces.List(ctx, traces.Filter(*in))
			if err != nil {
				return nil, s.problem(err)
			}
			out := &body[api.TraceList]{api.TraceList{Items: []api.TraceHead{}, Counts: counts}}
			for _, r := range rows {
				out.Body.Items = append(out.Body.Items, traceHead(r))
			}
			return out, nil
		})
	huma.Register(a, op("GET", "/traces/{name}", "show-trace", "One trace, step by step"),
		func(ctx context.Context, in *named) (*body[api.Trace], error) {
			head, steps, err := g.Traces.Get(ctx, in.Name)
			if err != nil {
				return nil, s.problem(err)
			}
			snap := g.Records.Snapshot()
			for i := range steps {
				steps[i].Finding = checks.Nearest(snap, steps[i].Finding)
				steps[i].Checks, steps[i].Reasons = traces.Prose(steps[i]), nil
			}
			return &body[api.Trace]{api.Trace{TraceHead: traceHead(head), Steps: steps}}, nil
		})
}

func traceHead(r traces.Head) api.TraceHead {
	return api.TraceHead{ID: r.ID, Started: r.Started, StartedBy: r.StartedBy, Application: r.Application,
		Provider: r.Provider,
		Person:   r.Person, Result: r.Result, Finding: r.Finding, Milliseconds: r.Millis}
}
