package web

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/rehearsing"
)

// Tour goes through classic mistakes on the stand-ins; nil where there are none.
type Tour interface {
	Stops() []TourStop
	// Break makes the mistake of a stop, Mend mends it; both have its rehearsal run.
	Break(ctx context.Context, name string) (rehearsing.Run, error)
	Mend(ctx context.Context, name string) (rehearsing.Run, error)
}

// TourStop is one mistake.
type TourStop struct {
	Name, Title, Story, Rehearsal, Mend string
	Finding                             finding.Code
	AtGate, Broken                      bool
	Run                                 int64 // the newest one of this stop, 0 for none
}

// tourCalls registers the tour.
func (s *server) tourCalls(a huma.API) {
	none := change.Conflict("this gate is no demo", "the tour needs the stand-ins: innergate demo")
	call(s, a, api.ListTour, func(context.Context, *api.None) (*body[api.List[api.TourStop]], error) {
		if s.tour == nil {
			return rows([]TourStop{}, 0, tourStop), nil
		}
		all := s.tour.Stops()
		return rows(all, len(all), tourStop), nil
	})
	call(s, a, api.BreakStop, func(ctx context.Context, in *api.Named) (*body[api.Run], error) {
		if s.tour == nil {
			return nil, none
		}
		r, err := s.tour.Break(ctx, in.Name)
		return &body[api.Run]{run(r)}, err
	})
	call(s, a, api.MendStop, func(ctx context.Context, in *api.Named) (*body[api.Run], error) {
		if s.tour == nil {
			return nil, none
		}
		r, err := s.tour.Mend(ctx, in.Name)
		return &body[api.Run]{run(r)}, err
	})
}

func tourStop(s TourStop) api.TourStop {
	return api.TourStop{Name: s.Name, Title: s.Title, Story: s.Story, Rehearsal: s.Rehearsal, Mend: s.Mend,
		Finding: string(s.Finding), AtGate: s.AtGate, Broken: s.Broken, Run: s.Run}
}
