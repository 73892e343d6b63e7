package web

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/trace"
	"innergate.example/innergate/internal/gate/change"
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
			head, out, err := s.trace(ctx, in.Name)
			if err == nil {
				out.Remedies, err = s.remedies(ctx, g.Records.Snapshot(), head)
			}
			return &body[api.Trace]{out}, err
		})
	call(s, a, api.CompareTraces,
		func(ctx context.Context, in *api.TraceBeside) (*body[api.TraceComparison], error) {
			head, now, err := s.trace(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			if in.With == "" {
				before, ok, err := g.Traces.LastGood(ctx, head)
				if err != nil {
					return nil, err
				}
				if !ok {
					return nil, nothingBefore(head)
				}
				in.With = before.ID
			}
			_, then, err := s.trace(ctx, in.With)
			if err != nil {
				return nil, err
			}
			out := api.TraceComparison{First: then.TraceHead, Second: now.TraceHead}
			first, err := s.beside(ctx, then)
			if err != nil {
				return nil, err
			}
			second, err := s.beside(ctx, now)
			var fleeting []crossing.Fleeting
			for _, p := range s.protocols {
				fleeting = append(fleeting, p.Fleeting())
			}
			out.Steps, out.Parts = trace.Beside(first, second, fleeting...)
			return &body[api.TraceComparison]{out}, err
		})
}

// trace is a trace as it is shown.
func (s *server) trace(ctx context.Context, id string) (traces.Head, api.Trace, error) {
	head, steps, err := s.steps(ctx, id)
	if err != nil {
		return head, api.Trace{}, err
	}
	h := traceHead(head)
	names, err := s.gate.People.Names(ctx, []int64{head.Account})
	h.Name = names[head.Account]
	return head, api.Trace{TraceHead: h, Steps: steps}, err
}

// steps are those of a trace as they are shown.
func (s *server) steps(ctx context.Context, id string) (traces.Head, []crossing.TraceStep, error) {
	head, steps, err := s.gate.Traces.Get(ctx, id)
	snap := s.gate.Records.Snapshot()
	for i := range steps {
		steps[i].Finding = checks.Nearest(snap, steps[i].Finding)
		for j := range steps[i].Checks {
			steps[i].Checks[j].Finding = checks.Nearest(snap, steps[i].Checks[j].Finding)
		}
		steps[i].Checks, steps[i].Reasons = traces.Prose(steps[i]), nil
	}
	return head, steps, err
}

// beside is what of a trace is held against another: itself as it is shown, and of a rehearsal what its run came to.
func (s *server) beside(ctx context.Context, t api.Trace) (trace.Shown, error) {
	out := trace.Shown{Steps: t.Steps, Values: federation.Labelled("result", t.Result, "finding", t.Finding,
		"application", t.Application, "provider", t.Provider, "person", t.Person, "started by", t.StartedBy)}
	if t.Run == 0 {
		return out, nil
	}
	r, err := s.gate.Rehearsals.Get(ctx, t.Run)
	var gone *change.NotFoundError
	if errors.As(err, &gone) {
		return out, nil // runs are kept for a shorter time
	}
	out.Values = append(out.Values, federation.Labelled("verdict", string(r.Verdict.State))...)
	for _, l := range r.Verdict.Lines {
		out.Values = append(out.Values, federation.Labelled("expected "+l.Expected, l.Came)...)
	}
	return out, err
}

// nothingBefore says that there is nothing good to hold a sign-in against.
func nothingBefore(of traces.Head) error {
	return change.Field("with", fmt.Errorf(
		"no sign-in to %s before %s entered, of those on record; name another trace to hold it against: the list of traces shows them",
		cmp.Or(of.Application, "a known application"), of.ID))
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
