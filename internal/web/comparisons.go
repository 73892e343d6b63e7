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

// OneComparison names a comparison of an application.
type OneComparison struct {
	Name string `path:"name" maxLength:"200" doc:"Short name of the application"`
	ID   int64  `path:"id" minimum:"1"`
}

// comparisonCalls registers the comparison of accounts with people.
func (s *server) comparisonCalls(a huma.API) {
	g := s.gate
	call(s, a, starts("/applications/{name}/comparisons", "compare-accounts",
		"Compare the accounts that the application keeps, CSV with any headings, with people; a job tells how far it is"),
		func(ctx context.Context, in *struct {
			Name string `path:"name" maxLength:"200" doc:"Short name"`
			upload
		}) (*body[api.Job], error) {
			if _, err := g.Records.Application(in.Name); err != nil {
				return nil, err
			}
			var how api.CompareAccounts
			document, release, err := in.whole(&how)
			if err != nil {
				return nil, err
			}
			who := by(ctx)
			return &body[api.Job]{jobShown(g.Jobs.Start("compare accounts of "+in.Name, "people", func(ctx context.Context, p jobs.Progress) (any, error) {
				defer release()
				return g.Comparing.Compare(ctx, who, comparing.Wish{App: in.Name, Column: how.Column, Identifier: how.Identifier, Group: how.Group,
					Document: document}, p)
			}))}, nil
		})
	describeUpload(a, "/applications/{name}/comparisons")
	call(s, a, op("GET", "/applications/{name}/comparisons", "list-comparisons", "Comparisons that are kept, the newest first"),
		func(ctx context.Context, in *named) (*body[api.List[api.Comparison]], error) {
			all, err := g.Comparing.List(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			return rows(all, len(all), comparison), nil
		})
	call(s, a, op("GET", "/applications/{name}/comparisons/{id}", "show-comparison", "One comparison, with a page of its lines"),
		func(ctx context.Context, in *struct {
			OneComparison
			Verdict string `query:"verdict" maxLength:"40" doc:"Only lines of this one"`
			Offset  int    `query:"offset" minimum:"0"`
			Limit   int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
		}) (*body[api.ComparisonShown], error) {
			p, err := g.Comparing.Get(ctx, in.Name, in.ID, in.Verdict, in.Offset, in.Limit)
			if err != nil {
				return nil, err
			}
			return &body[api.ComparisonShown]{api.ComparisonShown{Comparison: comparison(p.Comparison), Lines: some(p.Lines), Total: p.Total}}, nil
		})
	call(s, a, op("GET", "/applications/{name}/comparisons/{id}/export", "export-comparison", "The lines of a comparison as CSV"),
		func(ctx context.Context, in *struct {
			OneComparison
			Verdict string `query:"verdict" maxLength:"40" doc:"Only lines of this one"`
		}) (*fileOut, error) {
			return s.file("csv", fmt.Sprintf("%s-accounts-%d", in.Name, in.ID), func(to io.Writer) error {
				return g.Comparing.Export(ctx, in.Name, in.ID, in.Verdict, to)
			})
		})
	call(s, a, op("DELETE", "/applications/{name}/comparisons/{id}", "remove-comparison", "Remove a comparison that is kept"),
		func(ctx context.Context, in *OneComparison) (*struct{}, error) {
			return nil, g.Comparing.Remove(ctx, by(ctx), in.Name, in.ID)
		})
}

func comparison(c comparing.Comparison) api.Comparison {
	out := api.Comparison{ID: c.ID, At: c.At, Who: c.Who, Group: c.Group, Column: c.Column, Identifier: c.Identifier, Accounts: c.Accounts,
		People: c.People, Counts: c.Counts, Changes: some(c.Changes), Rates: some(c.Rates), Bad: some(c.Bad), BadRows: c.BadRows,
		Separator: c.Separator, Encoding: c.Encoding, NotTold: c.Rule != nil, Rule: c.Rule}
	if b := c.Before; b != nil {
		out.Before = &api.ComparisonSince{ID: b.ID, Counts: b.Counts, Fit: some(b.Fit), Unfit: some(b.Unfit), FitN: b.FitN, UnfitN: b.UnfitN,
			Came: b.Came, Went: b.Went}
	}
	return out
}
