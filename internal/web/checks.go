package web

import (
	"context"
	"errors"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/checking"
	"innergate.example/innergate/internal/gate/exchange"
)

// checkCalls registers checks and changes that wait.
func (s *server) checkCalls(a huma.API) {
	g := s.gate
	huma.Register(a, op("GET", "/checks", "list-checks", "Findings that can be known without a sign-in"),
		func(ctx context.Context, in *struct {
			Name     []string `query:"name,explode" maxItems:"100" doc:"Short names; none means all"`
			Kind     string   `query:"kind" enum:"provider,application"`
			Severity string   `query:"severity" enum:"error,warning,note" doc:"At least"`
			Reach    bool     `query:"reach" doc:"Ask the addresses as well: whether they answer, and their clocks"`
			All      bool     `query:"all" doc:"Records without findings as well"`
			Limit    int      `query:"limit" minimum:"1" maximum:"20000" default:"200"`
			Offset   int      `query:"offset" minimum:"0"`
		}) (*body[api.CheckList], error) {
			if in.Reach && len(in.Name) == 0 {
				return nil, s.problem(&change.FieldError{Field: "name",
					Err: errors.New("asking addresses takes time; name the records whose addresses are to be asked")})
			}
			all, err := g.Checking.Check(ctx, checking.Filter{Names: in.Name, Kind: in.Kind, Severity: in.Severity,
				Reach: in.Reach, Quiet: !in.All})
			if err != nil {
				return nil, s.problem(err)
			}
			out := &body[api.CheckList]{api.CheckList{Items: []api.Checked{}, Total: int64(len(all)), Counts: map[string]int{}}}
			for i, c := range all {
				for _, f := range c.Findings {
					out.Body.Counts[string(f.Severity)]++
				}
				if i >= in.Offset && len(out.Body.Items) < in.Limit {
					out.Body.Items = append(out.Body.Items, api.Checked(c))
				}
			}
			return out, nil
		})
	huma.Register(a, op("GET", "/waiting", "list-waiting", "Changes that wait for approval, the oldest first"),
		func(ctx context.Context, in *struct {
			Kind string `query:"kind" enum:"provider,application"`
			Name string `query:"name" maxLength:"63"`
		}) (*body[api.List[api.Pending]], error) {
			all, err := g.Exchange.Waiting(ctx, in.Kind, in.Name)
			if err != nil {
				return nil, s.problem(err)
			}
			return rows(all, len(all), func(p exchange.Pending) api.Pending { return api.Pending(p) }), nil
		})
}
