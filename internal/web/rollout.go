package web

import (
	"context"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate/traces"
)

// rolloutCalls registers what is asked about phases.
func (s *server) rolloutCalls(a huma.API) {
	g := s.gate
	call(s, a, api.ShowRollout, func(ctx context.Context, in *api.OneObject) (*body[api.Rollout], error) {
		r, err := g.Records.Record(in.Kind, in.Name)
		if err != nil {
			return nil, err
		}
		got, err := g.Traces.Rollout(ctx, g.Records.Snapshot(), r)
		return &body[api.Rollout]{rolloutShown(r, got, time.Now())}, err
	})
}

func rolloutShown(r federation.Record, f traces.Figures, now time.Time) api.Rollout {
	b := r.Basic()
	out := api.Rollout{Phase: string(f.Phase), Cohort: strings.Join(b.Cohort, " "), Before: string(b.Before.Phase), BeforeCohort: strings.Join(b.Before.Cohort, " "), Since: f.Since, People: f.Cohort,
		Tried: f.Tried, Entered: f.Entered, Refused: f.Refused, Outside: f.Outside, Findings: []api.FindingCount{}, Awaited: []api.PersonNamed{},
		Sessions: []api.SessionLeft{}, Made: []api.PersonNamed{}}
	if at := b.Pending(); !at.IsZero() {
		if now.Before(at) {
			out.Next = &api.NextPhase{Phase: string(b.NextPhase), Cohort: strings.Join(b.NextCohort, " "), At: at, Text: b.NextAt}
		} else {
			out.Cohort = strings.Join(b.NextCohort, " ")
		}
	}
	for _, x := range f.Findings {
		out.Findings = append(out.Findings, api.FindingCount(x))
	}
	for _, x := range f.Awaited {
		out.Awaited = append(out.Awaited, api.PersonNamed(x))
	}
	for _, x := range f.Made {
		out.Made = append(out.Made, api.PersonNamed(x))
	}
	for _, x := range f.Sessions {
		out.Sessions = append(out.Sessions, api.SessionLeft(x))
	}
	return out
}
