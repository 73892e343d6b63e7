package web

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/gate/people"
)

// linkCalls registers people's links to providers.
func (s *server) linkCalls(a huma.API) {
	g := s.gate
	type filter struct {
		Provider string `query:"provider" maxLength:"200" doc:"Short name, or the ID of one that was removed"`
		Person   int64  `query:"person" minimum:"1" doc:"Number of the account"`
		Limit    int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
		After    string `query:"after" maxLength:"64" doc:"Key of the last link seen; for the next page"`
	}
	call(s, a, op("GET", "/links", "list-links", "People's links to providers"),
		func(ctx context.Context, in *filter) (*body[api.List[api.Link]], error) {
			links, total, err := g.People.Links(ctx, people.LinkFilter(*in))
			if err != nil {
				return nil, err
			}
			return rows(links, int(total), link), nil
		})
	call(s, a, op("GET", "/links/providers", "list-link-providers",
		"Providers that people are linked to, on record or removed"),
		func(ctx context.Context, _ *struct{}) (*body[api.List[api.LinkCount]], error) {
			all, err := g.People.LinkedProviders(ctx)
			if err != nil {
				return nil, err
			}
			return rows(all, len(all), func(p people.LinkedProvider) api.LinkCount {
				return api.LinkCount{LinkProvider: linkProvider(p), Links: p.Links, People: p.People}
			}), nil
		})
	s.subjectCalls(a)
	carry := op("POST", "/links/carry", "carry-links", "Let the people of one provider in by another, after a preview")
	carry.DefaultStatus = http.StatusOK
	call(s, a, carry, func(ctx context.Context, in *struct{ Body api.Carry }) (*body[api.Carried], error) {
		c, err := g.People.CarryLinks(ctx, by(ctx), people.Carry(in.Body))
		if err != nil {
			return nil, err
		}
		out := api.Carried{From: linkProvider(c.From), To: linkProvider(c.To), Links: c.Links, Already: c.Already,
			Unnamed: c.Unnamed,
			Taken:   rows(c.Taken, 0, link).Body.Items, Digest: c.Digest, Preview: in.Body.Preview}
		return &body[api.Carried]{out}, nil
	})
}

// subjectCalls registers the lasting names by which applications know people.
func (s *server) subjectCalls(a huma.API) {
	g := s.gate
	type page struct {
		Name  string `path:"name" maxLength:"200" doc:"Short name"`
		After int64  `query:"after" minimum:"0" doc:"Number of the last person seen; for the next page"`
		Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	}
	call(s, a, op("GET", "/applications/{name}/subjects", "list-subjects",
		"Lasting names by which the application knows people"),
		func(ctx context.Context, in *page) (*body[api.List[api.KnownSubject]], error) {
			all, total, err := g.People.Subjects(ctx, in.Name, in.After, in.Limit)
			if err != nil {
				return nil, err
			}
			return rows(all, int(total), func(k people.Subject) api.KnownSubject { return api.KnownSubject(k) }), nil
		})
	put := op("POST", "/applications/{name}/subjects", "import-subjects",
		"Keep the values by which the application knows people, after a preview")
	put.DefaultStatus, put.MaxBodyBytes = http.StatusOK, maxBody
	call(s, a, put, func(ctx context.Context, in *struct {
		Name string `path:"name" maxLength:"200" doc:"Short name"`
		Body api.Import
	}) (*body[api.Imported], error) {
		im := people.Import{CSV: in.Body.CSV, Replace: in.Body.Replace, Preview: in.Body.Preview, Digest: in.Body.Digest}
		for _, k := range in.Body.Known {
			im.Known = append(im.Known, people.Known{Provider: k.Provider, Name: k.Name, Format: k.Format, Value: k.Value})
		}
		out, err := g.People.ImportSubjects(ctx, by(ctx), in.Name, im)
		if err != nil {
			return nil, err
		}
		return &body[api.Imported]{api.Imported{Subjects: out.Subjects, Replaced: out.Replaced, Already: out.Already,
			People: out.People, Digest: out.Digest, Preview: in.Body.Preview}}, nil
	})
}

func linkProvider(p people.LinkedProvider) api.LinkProvider {
	return api.LinkProvider{ID: string(p.ID), Name: string(p.Name), Title: p.Title, Removed: p.Removed}
}

func link(l people.Link) api.Link {
	out := api.Link{Key: l.Key, Person: l.Person, Provider: linkProvider(l.Provider), Added: l.Added}
	if s := l.Subject; s != nil {
		out.Subject = &api.Subject{Format: s.Format, NameQualifier: s.NameQualifier, SPNameQualifier: s.SPNameQualifier,
			Value: s.Value}
	}
	return out
}
