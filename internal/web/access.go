package web

import (
	"context"
	"errors"
	"net/netip"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/policy"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/limit"
	"innergate.example/innergate/internal/gate/traces"
)

// accessCalls registers what is asked about who may enter.
func (s *server) accessCalls(a huma.API) {
	call(s, a, api.ListRules, func(_ context.Context, in *api.RuleFilter) (*body[api.List[api.AccessRule]], error) {
		snap, apps := s.gate.Records.Snapshot(), []federation.Name{federation.Name(in.Application)}
		if in.Application == "" {
			for _, app := range snap.Applications() {
				apps = append(apps, app.Name)
			}
		} else if _, err := s.gate.Records.Application(in.Application); err != nil {
			return nil, change.Field("application", err)
		}
		out, seen := api.List[api.AccessRule]{Items: []api.AccessRule{}}, map[federation.Name]bool{}
		for _, app := range apps {
			for _, r := range snap.Book(app).Rules {
				if !seen[r.Name] {
					seen[r.Name], out.Items = true, append(out.Items, ruleShown(r, time.Now()))
				}
			}
		}
		out.Total = int64(len(out.Items))
		return &body[api.List[api.AccessRule]]{out}, nil
	})
	call(s, a, api.Simulate, func(ctx context.Context, in *api.SentTo[api.Simulation]) (*body[api.Simulated], error) {
		snap, g := s.gate.Records.Snapshot(), s.gate
		app, err := g.Records.Application(in.Name)
		if err != nil {
			return nil, err
		}
		x := traces.Simulation{App: app, Person: in.Body.Person, Context: in.Body.Context, SignedIn: in.Body.SignedIn, Now: in.Body.At}
		if in.Body.Provider != "" {
			if x.Provider, err = g.Records.Provider(in.Body.Provider); err != nil {
				return nil, change.Field("provider", err)
			}
		}
		if in.Body.Network != "" {
			if _, err := netip.ParseAddr(in.Body.Network); err != nil {
				return nil, change.Field("network", errors.New("this is no address; give that of a browser, like 192.0.2.7"))
			}
			x.Network = limit.Network(in.Body.Network)
		}
		got, err := g.Traces.Simulate(ctx, snap, x)
		return &body[api.Simulated]{simulated(got)}, err
	})
}

func simulated(in crossing.Foreseen) api.Simulated {
	out := api.Simulated{Decision: string(in.Decision), Why: []string{}, Finding: in.Finding, Rules: []api.JudgedRule{}}
	for _, r := range in.Reasons {
		out.Why = append(out.Why, r.Text())
	}
	if in.Rule != nil {
		out.Asks = string(in.Rule.Name)
	}
	for _, j := range in.Judged {
		out.Rules = append(out.Rules, api.JudgedRule{Name: string(j.Rule.Name), Title: j.Rule.Title, Sentence: policy.Sentence(j.Rule),
			Then: string(j.Rule.Then), About: j.About, Why: j.Why})
	}
	return out
}

func ruleShown(r *federation.Rule, now time.Time) api.AccessRule {
	return api.AccessRule{Name: string(r.Name), Title: r.Title, Application: string(r.App), Sentence: policy.Sentence(r), Then: string(r.Then),
		Say: r.Say, Holds: r.Holds(now), Broken: r.Broken}
}
