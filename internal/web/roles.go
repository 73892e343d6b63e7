package web

import (
	"context"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/nearword"
	"innergate.example/innergate/internal/core/policy"
	"innergate.example/innergate/internal/gate/change"
)

// roleCalls registers what is asked about roles.
func (s *server) roleCalls(a huma.API) {
	call(s, a, api.ListRoles, func(_ context.Context, in *api.RuleFilter) (*body[api.List[api.Role]], error) {
		snap := s.gate.Records.Snapshot()
		if in.Application != "" {
			if _, err := s.gate.Records.Application(in.Application); err != nil {
				return nil, change.Field("application", err)
			}
		}
		out := api.List[api.Role]{Items: []api.Role{}}
		for _, app := range snap.Applications() {
			if in.Application != "" && in.Application != string(app.Name) {
				continue
			}
			for _, r := range snap.Book(app.Name).Roles {
				out.Items = append(out.Items, api.Role{Name: string(r.Name), Role: r.As, Title: r.Title,
					Application: string(r.App),
					Values:      r.Values, Sentence: policy.RoleSentence(r), Default: app.DefaultRole == r.Name, Broken: r.Broken})
			}
		}
		out.Total = int64(len(out.Items))
		return &body[api.List[api.Role]]{out}, nil
	})
}

// held are the roles that somebody holds, and with which of them they enter.
func held(e policy.Entry, enters bool) (out []api.HeldRole) {
	for _, h := range e.Held {
		out = append(out, api.HeldRole{Role: h.Role.As, Title: h.Role.Title, By: h.By.String(), Values: h.Role.Values,
			Enters: enters && slices.ContainsFunc(e.Roles, func(r *federation.Role) bool { return r == h.Role })})
	}
	return out
}

// roleOf reads which role a list is narrowed to, nil for none.
func (s *server) roleOf(app *federation.Application, name string) (*string, error) {
	if name == "" {
		return nil, nil
	}
	var known []string
	for _, r := range s.gate.Records.Snapshot().Book(app.Name).Roles {
		if known = append(known, r.As); r.As == name {
			return &name, nil
		}
	}
	if name == "none" {
		return new(string), nil
	}
	return nil, change.Field("role", change.NotFound("role of "+string(app.Name), name, nearword.Of(name, known)))
}

// expected are the values of groups that act here when a provider sends them; none of another record.
func expected(snap *federation.Snapshot, r federation.Record) (out []api.ExpectedValue) {
	p, is := r.(*federation.Provider)
	if !is {
		return nil
	}
	for _, x := range policy.ExpectedOf(snap, p) {
		out = append(out, api.ExpectedValue{Value: x.Value, Group: string(x.Group), Title: x.Title,
			Effects: some(x.Effects)})
	}
	return out
}
