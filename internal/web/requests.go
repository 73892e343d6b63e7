package web

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/gate/approving"
)

// requestCalls registers admissions that were asked for.
func (s *server) requestCalls(a huma.API) {
	g := s.gate
	call(s, a, api.ListRequests, func(ctx context.Context, in *api.RequestFilter) (*body[api.EntryRequests], error) {
		all, waiting, err := g.Requests.List(ctx, approving.Filter{App: in.Application, State: in.State, After: in.After,
			Limit: in.Limit})
		out := api.EntryRequests{Items: []api.EntryRequest{}, Waiting: waiting}
		for _, q := range all {
			out.Items = append(out.Items, requestShown(q))
		}
		return &body[api.EntryRequests]{out}, err
	})
	show := func(ctx context.Context, id int64) (*body[api.EntryRequest], error) {
		q, err := g.Requests.Get(ctx, id)
		return &body[api.EntryRequest]{requestShown(q)}, err
	}
	call(s, a, api.ShowRequest, func(ctx context.Context, in *api.Numbered) (*body[api.EntryRequest], error) {
		return show(ctx, in.ID)
	})
	call(s, a, api.ApproveRequest, func(ctx context.Context, in *api.Approves) (*body[api.EntryRequest], error) {
		if err := g.People.Approve(ctx, by(ctx), in.ID, in.Body.Digest); err != nil {
			return nil, err
		}
		return show(ctx, in.ID)
	})
	call(s, a, api.DeclineRequest, func(ctx context.Context, in *api.Numbered) (*body[api.EntryRequest], error) {
		if err := g.Requests.Decline(ctx, by(ctx), in.ID); err != nil {
			return nil, err
		}
		return show(ctx, in.ID)
	})
}

func requestShown(q approving.Request) api.EntryRequest {
	out := api.EntryRequest{Number: q.ID, Application: string(q.App), Title: q.Title, Person: q.Person, Author: q.Author,
		Owner: q.Owner,
		Why:   q.Why, Asked: q.Asked, Ends: q.Ends, State: q.State, Decided: q.Decided, By: q.By, Remark: q.Remark,
		Everyone: q.Entry.Everyone, AtOnce: q.Entry.AtOnce, Until: q.Entry.Until, Digest: q.Digest}
	for _, n := range q.Groups {
		out.Groups = append(out.Groups, api.RequestGroup{Name: n.Name, Title: n.Title, Gone: n.Gone})
	}
	for _, n := range q.People {
		out.People = append(out.People, api.RequestPerson{Number: n.Number, Name: n.Title, Called: n.Called,
			Disabled: n.Disabled, Gone: n.Gone})
	}
	return out
}
