package web

import (
	"context"
	"fmt"
	"io"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/gate/comparing"
	"innergate.example/innergate/internal/gate/jobs"
)

// comparisonCalls registers the comparison of accounts with people.
func (s *server) comparisonCalls(a huma.API) {
	g := s.gate
	taking(s, a, api.ComparePeople,
		func(ctx context.Context, name string, in *upload) (*body[api.Job], error) {
			if _, err := g.Records.Application(name); err != nil {
				return nil, err
			}
			var how api.CompareAccounts
			document, release, err := in.whole(&how)
			if err != nil {
				return nil, err
			}
			who := by(ctx)
			return &body[api.Job]{jobShown(g.Jobs.Start("compare accounts of "+name, "people",
				func(ctx context.Context, p jobs.Progress) (any, error) {
					defer release()
					return g.Comparing.Compare(ctx, who, comparing.Wish{App: name, Column: how.Column, Identifier: how.Identifier,
						Group:    how.Group,
						Document: document}, p)
				}))}, nil
		})
	call(s, a, api.ListComparisons,
		func(ctx context.Context, in *api.Named) (*body[api.List[api.Comparison]], error) {
			all, err := g.Comparing.List(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			return rows(all, len(all), comparison), nil
		})
	call(s, a, api.ShowComparison,
		func(ctx context.Context, in *api.ComparisonPage) (*body[api.ComparisonShown], error) {
			p, err := g.Comparing.Get(ctx, in.Name, in.ID, in.Verdict, in.Offset, in.Limit)
			if err != nil {
				return nil, err
			}
			return &body[api.ComparisonShown]{api.ComparisonShown{Comparison: comparison(p.Comparison), Lines: some(p.Lines),
				Total: p.Total}}, nil
		})
	download(s, a, api.ExportComparison,
		func(ctx context.Context, in *api.ComparisonExport) (*fileOut, error) {
			return s.file("csv", fmt.Sprintf("%s-accounts-%d", in.Name, in.ID), func(to io.Writer) error {
				return g.Comparing.Export(ctx, in.Name, in.ID, in.Verdict, to)
			})
		})
	act(s, a, api.RemoveComparison,
		func(ctx context.Context, in *api.OneComparison) error {
			return g.Comparing.Remove(ctx, by(ctx), in.Name, in.ID)
		})
}

func comparison(c comparing.Comparison) api.Comparison {
	out := api.Comparison{ID: c.ID, At: c.At, Who: c.Who, Group: c.Group, Column: c.Column, Identifier: c.Identifier,
		Accounts: c.Accounts,
		People:   c.People, Counts: c.Counts, Changes: some(c.Changes), Rates: some(c.Rates), Bad: some(c.Bad),
		BadRows:   c.BadRows,
		Separator: c.Separator, Encoding: c.Encoding, NotTold: c.Rule != nil, Rule: c.Rule}
	if b := c.Before; b != nil {
		out.Before = &api.ComparisonSince{ID: b.ID, Counts: b.Counts, Fit: some(b.Fit), Unfit: some(b.Unfit), FitN: b.FitN,
			UnfitN: b.UnfitN,
			Came:   b.Came, Went: b.Went}
	}
	return out
}
