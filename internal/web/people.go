package web

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/gate/accounts"
)

// peopleCalls registers accounts of people.
func (s *server) peopleCalls(a huma.API) {
	g := s.gate
	type one struct {
		Number int64 `path:"number" minimum:"1" doc:"Number of the account"`
	}
	type filter struct {
		State string `query:"state" doc:"enabled or disabled; both if absent"`
		After int64  `query:"after" minimum:"0" doc:"Number of the last one seen; for the next page"`
		Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	}
	huma.Register(a, op("GET", "/people", "list-people", "People by their numbers"),
		func(ctx context.Context, in *filter) (*body[api.List[api.Person]], error) {
			list, total, err := g.Accounts.List(ctx, accounts.Filter{State: in.State, After: in.After, Limit: in.Limit})
			if err != nil {
				return nil, s.problem(err)
			}
			return rows(list, int(total), person), nil
		})
	show := func(p accounts.Person, err error) (*body[api.PersonShown], error) {
		if err != nil {
			return nil, s.problem(err)
		}
		return &body[api.PersonShown]{s.personShown(p)}, nil
	}
	huma.Register(a, op("POST", "/people", "add-person", "Make somebody known before they come"),
		func(ctx context.Context, in *struct{ Body api.NewPerson }) (*body[api.PersonShown], error) {
			return show(g.Accounts.Add(ctx, by(ctx), accounts.NewPerson{Provider: in.Body.Provider,
				Subject: profile.Subject{Value: in.Body.Subject, Format: in.Body.Format}}))
		})
	huma.Register(a, op("GET", "/people/{number}", "show-person", "One person, with what they hold"),
		func(ctx context.Context, in *one) (*body[api.PersonShown], error) {
			return show(g.Accounts.Get(ctx, in.Number))
		})
	huma.Register(a, does("/people/{number}/disable", "disable-person",
		"Let somebody in no more: their sessions end at once, and what these gave"),
		func(ctx context.Context, in *one) (*body[api.PersonShown], error) {
			return show(g.Accounts.Disable(ctx, by(ctx), in.Number))
		})
	huma.Register(a, does("/people/{number}/enable", "enable-person", "Let somebody in again"),
		func(ctx context.Context, in *one) (*body[api.PersonShown], error) {
			return show(g.Accounts.Enable(ctx, by(ctx), in.Number))
		})
	huma.Register(a, op("DELETE", "/people/{number}", "remove-person",
		"Remove somebody with all that is theirs; that it was done stays in the history"),
		func(ctx context.Context, in *one) (*struct{}, error) {
			return nil, s.problem(g.Accounts.Remove(ctx, by(ctx), in.Number))
		})
}

func person(p accounts.Person) api.Person {
	return api.Person{Number: p.ID, Added: p.Added, Disabled: p.Disabled, Links: rows(p.Links, 0, link).Body.Items}
}

func (s *server) personShown(p accounts.Person) api.PersonShown {
	out := api.PersonShown{Person: person(p), Values: []api.PersonValue{}, Sessions: p.Sessions, Grants: p.Grants,
		Subjects: p.Subjects, Consents: p.Consents}
	for _, v := range p.Values {
		from := api.LinkProvider{ID: string(v.From)}
		for _, r := range s.gate.Records.Snapshot().Providers() {
			if r.ID == v.From {
				from.Name, from.Title = string(r.Name), r.Title
			}
		}
		out.Values = append(out.Values, api.PersonValue{Name: v.Name, Values: plain(v.Attribute.Values), From: from, At: v.At})
	}
	return out
}
