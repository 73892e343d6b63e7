package web

import (
	"bytes"
	"context"
	"io"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/jobs"
	"innergate.example/innergate/internal/gate/people"
	"innergate.example/innergate/internal/gate/people/roll"
	"innergate.example/innergate/internal/gate/traces"
)

func peopleFilter(f api.PeopleFilter, after string, limit int) people.Filter {
	return people.Filter{Search: f.Search, State: f.State, Group: f.Group, Organisation: f.Organisation,
		UserType: f.UserType,
		Provider: f.Provider, After: after, Limit: limit}
}

// peopleCalls registers accounts of people.
func (s *server) peopleCalls(a huma.API) {
	g := s.gate
	s.rollCalls(a) // before those by number: the first address that fits is taken
	call(s, a, api.ListPeople,
		func(ctx context.Context, in *api.PeoplePage) (*body[api.People], error) {
			page, err := g.People.List(ctx, peopleFilter(in.PeopleFilter, in.After, in.Limit))
			if err != nil {
				return nil, err
			}
			return &body[api.People]{api.People{Items: rows(page.People, 0, s.person).Body.Items, Total: page.Total,
				Next: page.Next}}, nil
		})
	call(s, a, api.AddPerson,
		func(ctx context.Context, in *api.Sent[api.NewPerson]) (*body[api.PersonShown], error) {
			return s.shown(g.People.Add(ctx, by(ctx), people.NewPerson{Provider: in.Body.Provider,
				Subject: profile.Subject{Value: in.Body.Subject, Format: in.Body.Format}, Edit: edit(in.Body.PersonChange)}))
		})
	call(s, a, api.ShowPerson,
		func(ctx context.Context, in *api.OnePerson) (*body[api.PersonShown], error) {
			return s.shown(g.People.Get(ctx, in.Number))
		})
	call(s, a, api.ChangePerson,
		func(ctx context.Context, in *api.SentToPerson[api.PersonChange]) (*body[api.PersonShown], error) {
			return s.shown(g.People.Change(ctx, by(ctx), in.Number, edit(in.Body)))
		})
	call(s, a, api.ToldPerson,
		func(ctx context.Context, in *api.Telling) (*body[api.Mapped], error) {
			app, err := g.Records.Application(in.Application)
			if err != nil {
				return nil, change.Field("application", err)
			}
			got, err := g.Traces.Try(ctx, g.Records.Snapshot(), traces.Trial{Person: in.Number, App: app})
			if err != nil {
				return nil, err
			}
			return &body[api.Mapped]{mapped(got)}, nil
		})
	s.accountCalls(a)
	s.linkingCalls(a)
}

// accountCalls registers what becomes of accounts.
func (s *server) accountCalls(a huma.API) {
	g := s.gate
	call(s, a, api.DisablePerson,
		func(ctx context.Context, in *api.OnePerson) (*body[api.PersonShown], error) {
			return s.shown(g.People.Disable(ctx, by(ctx), in.Number))
		})
	call(s, a, api.EnablePerson,
		func(ctx context.Context, in *api.OnePerson) (*body[api.PersonShown], error) {
			return s.shown(g.People.Enable(ctx, by(ctx), in.Number))
		})
	act(s, a, api.RemovePerson,
		func(ctx context.Context, in *api.OnePerson) error {
			return g.People.Remove(ctx, by(ctx), in.Number)
		})
}

// linkingCalls registers the joining and parting of accounts.
func (s *server) linkingCalls(a huma.API) {
	g := s.gate
	call(s, a, api.LinkPerson,
		func(ctx context.Context, in *api.SentToPerson[api.PersonLink]) (*body[api.PersonShown], error) {
			return s.shown(g.People.Link(ctx, by(ctx), in.Number, in.Body.Provider,
				profile.Subject{Value: in.Body.Subject, Format: in.Body.Format}))
		})
	call(s, a, api.PartPerson,
		func(ctx context.Context, in *api.SentToPerson[api.PersonPart]) (*body[api.PersonShown], error) {
			return s.shown(g.People.Part(ctx, by(ctx), in.Number, in.Body.Link))
		})
	call(s, a, api.JoinPeople,
		func(ctx context.Context, in *api.SentToPerson[api.PersonJoin]) (*body[api.PersonJoined], error) {
			j, err := g.People.Join(ctx, by(ctx), people.Joining{Into: in.Number, Other: in.Body.Other,
				Preview: in.Body.Preview, Enable: in.Body.Enable,
				Digest: in.Body.Digest})
			if err != nil {
				return nil, err
			}
			return &body[api.PersonJoined]{api.PersonJoined{Links: j.Links, Values: some(j.Values),
				Differ: some(j.Differ), Members: j.Members, Disabled: some(j.Disabled), Enabled: j.Stays,
				Subjects: j.Subjects, Lost: some(j.Lost), Sessions: j.Sessions, Digest: j.Digest, Preview: in.Body.Preview}}, nil
		})
}

// some is a list that is never absent.
func some[T any](in []T) []T {
	if in == nil {
		return []T{}
	}
	return in
}

// rollCalls registers lists of people.
func (s *server) rollCalls(a huma.API) {
	g := s.gate
	taking(s, a, api.ImportPeople,
		func(ctx context.Context, _ string, in *upload) (*body[api.Job], error) {
			var how api.PeopleImport
			document, release, err := in.whole(&how)
			if err != nil {
				return nil, err
			}
			who := by(ctx)
			return &body[api.Job]{jobShown(g.Jobs.Start("import people", "people", func(ctx context.Context,
				p jobs.Progress) (any, error) {
				defer release()
				return g.Roll.Import(ctx, who, roll.Import{Document: document, By: how.By, KnownOnly: how.KnownOnly,
					SkipBad: how.SkipBad,
					Empties: how.Empties, Digest: how.Digest}, p)
			}))}, nil
		})
	s.eventCalls(a)
	s.rehearsalCalls(a)
	download(s, a, api.ExportPeople,
		func(ctx context.Context, in *api.PeopleExport) (*fileOut, error) {
			return s.file(in.Form, "people", func(to io.Writer) error {
				return g.Roll.Export(ctx,
					peopleFilter(in.PeopleFilter, "", 0), in.Form, to)
			})
		})
}

// fileOut is a document that is downloaded.
type fileOut struct {
	Type        string `header:"Content-Type"`
	Disposition string `header:"Content-Disposition"`
	Body        []byte
}

// file writes a document, whole or not at all.
func (s *server) file(form, name string, write func(io.Writer) error) (*fileOut, error) {
	var b bytes.Buffer
	if err := write(&b); err != nil {
		return nil, err
	}
	kind := map[string]string{roll.CSV: "text/csv; charset=utf-8; header=present", roll.JSON: "application/json"}[form]
	return &fileOut{kind, `attachment; filename="` + name + "." + form + `"`, b.Bytes()}, nil
}

func edit(in api.PersonChange) people.Edit {
	names := func(in []api.UnitName) (out []people.Belongs) {
		for _, u := range in {
			out = append(out, people.Belongs{Kind: federation.Kind(u.Kind), Name: u.Name})
		}
		return out
	}
	var marks []person.ValueMark
	for _, m := range in.Marks {
		marks = append(marks, person.ValueMark{Attribute: m.Attribute, Value: m.Value,
			Mark: person.Mark{Type: m.Type, Primary: m.Primary}})
	}
	return people.Edit{Values: in.Values, Marks: marks, Join: names(in.Join), Leave: names(in.Leave)}
}

// source says by what something is known.
func (s *server) source(id federation.ID) api.KnownBy {
	if word := map[federation.ID]string{person.FromHand: "hand", person.FromImport: "import", person.FromPerson: "person",
		person.Landed: "organisation"}[id]; word != "" {
		return api.KnownBy{Word: word}
	}
	from := s.providerOf(id)
	return api.KnownBy{Word: "provider", Provider: &from}
}

func (s *server) providerOf(id federation.ID) api.LinkProvider {
	for _, r := range s.gate.Records.Snapshot().Providers() {
		if r.ID == id {
			return linkProvider(people.LinkedProvider{ID: r.ID, Name: r.Name, Title: r.Title})
		}
	}
	return api.LinkProvider{ID: string(id)}
}

func (s *server) person(p people.Person) api.Person {
	return api.Person{Number: p.ID, Name: p.Name, Added: p.Added, Disabled: p.Disabled, UserType: p.UserType,
		Links: rows(p.Links, 0, link).Body.Items,
		Members: rows(p.Members, 0, func(m people.Membership) api.Membership {
			return api.Membership{Kind: string(m.Kind), Name: string(m.Name), Source: s.source(m.Source), Added: m.Added}
		}).Body.Items}
}

func (s *server) shown(p people.Person, err error) (*body[api.PersonShown], error) {
	if err != nil {
		return nil, err
	}
	out := api.PersonShown{Person: s.person(p), Grants: p.Grants, Consents: p.Consents}
	out.Values = rows(p.Values, 0, func(v person.KeptValue) api.PersonValue {
		x := api.PersonValue{Name: v.Name, Values: plain(v.Attribute.Values), Source: s.source(v.From), At: v.At,
			Proofs: make([]string, len(v.Attribute.Values))}
		x.Verified = len(x.Proofs) > 0
		for i := range x.Proofs {
			x.Proofs[i] = string(v.Proof(i))
			x.Verified = x.Verified && v.Proof(i) == person.ByMail
			if m := v.Mark(i); m != (person.Mark{}) {
				x.Marks = append(x.Marks, api.ValueMark{Attribute: v.Name, Value: v.Attribute.Values[i].String(), Type: m.Type,
					Primary: m.Primary})
			}
		}
		if x.Source.Provider != nil {
			x.From = *x.Source.Provider
		}
		return x
	}).Body.Items
	out.Sessions = rows(p.Sessions, 0, func(x *crossing.Session) api.PersonSession {
		one := api.PersonSession{Began: x.Began, Expires: x.Expires, Providers: []string{}}
		for _, a := range x.Proofs {
			one.Providers = append(one.Providers, string(a.Provider))
		}
		return one
	}).Body.Items
	out.Subjects = rows(p.Subjects, 0, func(x people.KnownAs) api.PersonSubject {
		return api.PersonSubject{Application: x.App, Value: x.Value, Source: x.Source, Added: x.Added}
	}).Body.Items
	return &body[api.PersonShown]{out}, nil
}

func imported(in *roll.Imported) *api.PeopleImported {
	return &api.PeopleImported{Rows: in.Rows, New: in.New, Changed: in.Changed, Same: in.Same, Disabled: in.Disabled,
		Enabled: in.Enabled,
		BadRows: in.BadRows, Bad: some(in.Bad), OddRows: in.OddRows, Odd: some(in.Odd), By: in.By, Columns: some(in.Columns),
		Separator: in.Separator, Encoding: in.Encoding,
		Digest: in.Digest, Stored: in.Stored, Consequence: consequence(in.Consequence),
		Listed: rows(in.Listed, 0, func(r roll.Row) api.ImportedRow {
			return api.ImportedRow{Line: r.Line, Person: r.Person, Name: r.Name, Differences: some(r.Differences)}
		}).Body.Items}
}
