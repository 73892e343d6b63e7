package web

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/rehearsal"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/checking"
	"innergate.example/innergate/internal/gate/rehearsing"
	"innergate.example/innergate/internal/gate/traces"
)

// standing tells whether a record works.
func (s *server) standing(ctx context.Context, r federation.Record) (api.Standing, error) {
	kind, name := change.KindOf(r), change.NameOf(r)
	all, err := s.gate.Checking.Check(ctx, checking.Filter{Names: []string{name}, Kind: kind})
	if err != nil {
		return api.Standing{}, err
	}
	c := checked(all[0])
	out := api.Standing{Findings: c.Findings, Acknowledged: c.Acknowledged}
	waiting, err := s.gate.Exchange.Waiting(ctx, kind, name)
	if err != nil {
		return out, err
	}
	if len(waiting) > 0 {
		p := api.Pending(waiting[0])
		out.Waiting = &p
	}
	last, strange, err := s.gate.Traces.Last(ctx, kind, name)
	if err != nil {
		return out, err
	}
	if r.Kind() == federation.KindApplication {
		proofs, err := s.gate.Rehearsals.Proofs(ctx)
		if err != nil {
			return out, err
		}
		for _, p := range proofs[r.Basic().Name] {
			out.Proofs = append(out.Proofs, api.Proof{Rehearsal: string(p.Rehearsal), Title: p.Title, Start: p.Start,
				State: p.State, At: p.At, Before: p.Before})
		}
	}
	out.LastSignIn, out.LastUnproved = headOf(last, r), headOf(strange, r)
	state := stateOf(r, all[0].Findings)
	if out.LastSignIn != nil {
		state.Last = out.LastSignIn.Result
	}
	out.State = state.Standing()
	return out, nil
}

// headOf shows a trace, unless it is of another record that had the name before.
func headOf(h *traces.Head, r federation.Record) *api.TraceHead {
	if h == nil || h.Started.Before(r.Basic().Added) {
		return nil
	}
	out := traceHead(*h)
	return &out
}

// stateOf is what findings and settings tell of a record's standing.
func stateOf(r federation.Record, found []*finding.Finding) checks.State {
	out := checks.State{Missing: len(r.Part().Missing()) > 0, Paused: !r.Basic().Phase.Passes()}
	for _, f := range found {
		switch {
		case f.Code == finding.ChangeWaiting:
			out.Waiting = true
		case f.Severity == finding.Error:
			out.Errors++
		case f.Severity == finding.Warning:
			out.Warnings++
		}
	}
	return out
}

// connectionCalls registers the connections: every application with its provider,
// and how far they are.
func (s *server) connectionCalls(a huma.API) {
	call(s, a, api.ListConnections,
		func(ctx context.Context, in *api.ConnectionFilter) (*body[api.ConnectionList], error) {
			all, err := s.connections(ctx, in.Search)
			if err != nil {
				return nil, err
			}
			out := api.ConnectionList{Items: []api.Connection{}, Counts: map[checks.Standing]int{}}
			for _, c := range all {
				if out.Counts[c.State]++; in.State != "" && c.State != in.State {
					continue
				}
				if out.Total++; int(out.Total) > in.Offset && len(out.Items) < in.Limit {
					out.Items = append(out.Items, c)
				}
			}
			return &body[api.ConnectionList]{out}, nil
		})
}

// connections are those that match, the worst first, each state by name.
func (s *server) connections(ctx context.Context, search string) ([]api.Connection, error) {
	all, err := s.gate.Checking.Check(ctx, checking.Filter{})
	if err != nil {
		return nil, err
	}
	found := map[string][]*finding.Finding{}
	for _, c := range all {
		found[c.Kind+"/"+c.Name] = c.Findings
	}
	lasts, _, err := s.gate.Traces.Lasts(ctx)
	if err != nil {
		return nil, err
	}
	fits, err := s.gate.Comparing.Latest(ctx)
	if err != nil {
		return nil, err
	}
	proofs, err := s.gate.Rehearsals.Proofs(ctx)
	if err != nil {
		return nil, err
	}
	snap := s.gate.Records.Snapshot()
	apps, _ := snap.FindApplications(search, 0, len(snap.Applications()))
	out := make([]api.Connection, 0, len(apps))
	for _, app := range apps {
		c := s.connection(snap, app, found, lasts[string(app.Name)])
		if f, compared := fits[app.Name]; compared {
			c.Accounts = &api.Fits{At: f.At, Fit: f.Fit, Of: f.Of}
		}
		c.Proved = proved(proofs[app.Name])
		out = append(out, c)
	}
	order := map[checks.Standing]int{}
	for i, st := range checks.Standings {
		order[st] = i
	}
	slices.SortStableFunc(out, func(a, b api.Connection) int {
		return cmp.Or(order[a.State]-order[b.State], strings.Compare(a.Name, b.Name))
	})
	return out, nil
}

// proved says how an application stands by its rehearsals, the worst first.
func proved(all []rehearsing.Proof) string {
	out := "never"
	for _, p := range all {
		switch {
		case p.State == rehearsal.Passed && !p.Before && out == "never":
			out = "proved"
		case p.State == rehearsal.Passed && p.Before && out != "failed":
			out = "before"
		case p.State != rehearsal.Passed && p.State != "":
			out = "failed"
		}
	}
	return out
}

// connection tells of one application. What is found on the provider that it is
// tied to is found on the way as well.
func (s *server) connection(snap *federation.Snapshot, app *federation.Application,
	found map[string][]*finding.Finding,
	last traces.Head) api.Connection {
	fs := found[app.Ref().String()]
	if p, ok := snap.Provider(app.Provider); ok {
		fs = slices.Concat(fs, found[p.Ref().String()])
	}
	state := stateOf(app, fs)
	out := api.Connection{Name: string(app.Name), Title: app.Title, Protocol: app.Protocol(), Phase: string(app.Phase),
		Provider: string(app.Provider), Attended: app.Attended(), Open: app.Start(&s.gate.Snapshot().Gate),
		Errors:   state.Errors,
		Warnings: state.Warnings, Waiting: state.Waiting}
	if fs = checks.Sort(slices.Clone(fs)); len(fs) > 0 {
		out.Worst = fs[0].Title
	}
	if last.ID != "" {
		out.LastSignIn = headOf(&last, app)
	}
	if out.LastSignIn != nil {
		state.Last = out.LastSignIn.Result
	}
	out.State = state.Standing()
	return out
}
