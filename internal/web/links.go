package web

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/gate/people"
	"innergate.example/innergate/internal/store"
)

// linkCalls registers people's links to providers.
func (s *server) linkCalls(a huma.API) {
	g := s.gate
	call(s, a, api.ListLinks,
		func(ctx context.Context, in *api.LinkFilter) (*body[api.List[api.Link]], error) {
			links, total, err := g.People.Links(ctx, people.LinkFilter(*in))
			if err != nil {
				return nil, err
			}
			return rows(links, int(total), link), nil
		})
	call(s, a, api.ListLinkProviders,
		func(ctx context.Context, _ *api.None) (*body[api.List[api.LinkCount]], error) {
			all, err := g.People.LinkedProviders(ctx)
			if err != nil {
				return nil, err
			}
			return rows(all, len(all), func(p people.LinkedProvider) api.LinkCount {
				return api.LinkCount{LinkProvider: linkProvider(p), Links: p.Links, People: p.People}
			}), nil
		})
	s.subjectCalls(a)
	call(s, a, api.CarryLinks, func(ctx context.Context, in *api.Sent[api.Carry]) (*body[api.Carried], error) {
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
	call(s, a, api.ListSubjects,
		func(ctx context.Context, in *api.SubjectFilter) (*body[api.List[api.KnownSubject]], error) {
			all, total, err := g.People.Subjects(ctx, in.Name, in.After, in.Limit)
			if err != nil {
				return nil, err
			}
			return rows(all, int(total), func(k store.Subject) api.KnownSubject { return api.KnownSubject(k) }), nil
		})
	call(s, a, api.ImportSubjects, func(ctx context.Context, in *api.SentTo[api.Import]) (*body[api.Imported], error) {
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
