package web

import (
	"context"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate/phases"
	"innergate.example/innergate/internal/gate/traces"
)

// rolloutCalls registers what is asked about phases.
func (s *server) rolloutCalls(a huma.API) {
	g := s.gate
	call(s, a, api.ShowRollout, func(ctx context.Context, in *api.OneObject) (*body[api.Rollout], error) {
		got, err := g.Phases.Of(ctx, in.Kind, in.Name)
		if err != nil {
			return nil, err
		}
		return &body[api.Rollout]{rolloutShown(got, s.gate.Now())}, nil
	})
}

func tallied(all []traces.Tally) []api.FindingCount {
	out := make([]api.FindingCount, len(all))
	for i, x := range all {
		out[i] = api.FindingCount(x)
	}
	return out
}

func rolloutShown(f phases.Standing, now time.Time) api.Rollout {
	b, o := f.Record.Basic(), f.Old
	out := api.Rollout{Phase: string(f.Phase), Cohort: strings.Join(b.Cohort, " "), Before: string(b.Before.Phase),
		BeforeCohort: strings.Join(b.Before.Cohort, " "),
		Since:        f.Since, People: f.Cohort, Tried: f.Tried, Entered: f.Entered, Refused: f.Refused,
		Findings: tallied(f.Findings),
		Old: api.EarlierWay{People: o.People, Entered: o.Entered, Refused: o.Refused, OfCohort: o.OfCohort,
			Unknown:  o.Unknown,
			Findings: tallied(o.Findings)},
		Awaited: []api.PersonNamed{}, Sessions: []api.SessionLeft{}, Made: []api.PersonNamed{}, InTheWay: []api.InTheWay{},
		Ways: []api.WayTo{}}
	if at := b.Pending(); !at.IsZero() {
		if now.Before(at) {
			out.Next = &api.NextPhase{Phase: string(b.NextPhase), Cohort: strings.Join(b.NextCohort, " "), At: at,
				Text: b.NextAt,
				Told: append([]string{}, f.Told...)}
		} else {
			out.Cohort = strings.Join(b.NextCohort, " ")
		}
	}
	for _, w := range f.Ways {
		p := w.Provider
		one := api.WayTo{Provider: string(p.Name), Title: p.Title, By: w.By, People: w.People, Entered: w.Entered,
			Refused: w.Refused}
		phase, _ := p.PhaseAt(now)
		if one.Phase = string(phase); phase == federation.Pilot {
			one.Cohort = strings.Join(p.CohortAt(now), " ")
		}
		out.Ways = append(out.Ways, one)
	}
	for _, x := range f.InTheWay {
		out.InTheWay = append(out.InTheWay, api.InTheWay{What: x.What, Code: string(x.Code), Severity: string(x.Severity)})
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
