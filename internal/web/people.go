package web

import (
	"bytes"
	"context"
	"io"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/gate/accounts"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/jobs"
	"innergate.example/innergate/internal/gate/people"
	"innergate.example/innergate/internal/gate/roll"
	"innergate.example/innergate/internal/gate/traces"
)

// OnePerson names somebody.
type OnePerson struct {
	Number int64 `path:"number" minimum:"1" doc:"Number of the account"`
}

// PeopleFilter narrows a list of people.
type PeopleFilter struct {
	Search       string `query:"search" maxLength:"500" doc:"Words that begin something known of them: names, addresses, numbers, what providers call them"`
	State        string `query:"state" doc:"enabled or disabled; both if absent"`
	Group        string `query:"group" maxLength:"63" doc:"They are in it, or in one that lies in it"`
	Organisation string `query:"organisation" maxLength:"63"`
	UserType     string `query:"userType" maxLength:"100"`
	Provider     string `query:"provider" maxLength:"63" doc:"They are linked to it"`
}

func (f PeopleFilter) filter(after string, limit int) accounts.Filter {
	return accounts.Filter{Search: f.Search, State: f.State, Group: f.Group, Organisation: f.Organisation, UserType: f.UserType,
		Provider: f.Provider, After: after, Limit: limit}
}

// peopleCalls registers accounts of people.
func (s *server) peopleCalls(a huma.API) {
	g := s.gate
	s.rollCalls(a) // before those by number: the first address that fits is taken
	call(s, a, op("GET", "/people", "list-people", "People by their numbers, or those that are searched for"),
		func(ctx context.Context, in *struct {
			PeopleFilter
			After string `query:"after" maxLength:"700" doc:"Next of the page before"`
			Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
		}) (*body[api.People], error) {
			page, err := g.Accounts.List(ctx, in.filter(in.After, in.Limit))
			if err != nil {
				return nil, err
			}
			return &body[api.People]{api.People{Items: rows(page.People, 0, s.person).Body.Items, Total: page.Total, Next: page.Next}}, nil
		})
	call(s, a, op("POST", "/people", "add-person", "Make somebody known before they come"),
		func(ctx context.Context, in *struct{ Body api.NewPerson }) (*body[api.PersonShown], error) {
			return s.shown(g.Accounts.Add(ctx, by(ctx), accounts.NewPerson{Provider: in.Body.Provider,
				Subject: profile.Subject{Value: in.Body.Subject, Format: in.Body.Format}, Edit: edit(in.Body.PersonChange)}))
		})
	call(s, a, op("GET", "/people/{number}", "show-person", "One person, with what they hold"),
		func(ctx context.Context, in *OnePerson) (*body[api.PersonShown], error) {
			return s.shown(g.Accounts.Get(ctx, in.Number))
		})
	call(s, a, op("PATCH", "/people/{number}", "change-person", "Change what is kept of somebody, and where they belong"),
		func(ctx context.Context, in *struct {
			OnePerson
			Body api.PersonChange
		}) (*body[api.PersonShown], error) {
			return s.shown(g.Accounts.Change(ctx, by(ctx), in.Number, edit(in.Body)))
		})
	call(s, a, op("GET", "/people/{number}/told", "told-person", "What an application would be told of somebody at their next sign-in"),
		func(ctx context.Context, in *struct {
			OnePerson
			Application string `query:"application" required:"true" maxLength:"63"`
		}) (*body[api.Mapped], error) {
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
	call(s, a, does("/people/{number}/disable", "disable-person",
		"Let somebody in no more: their sessions end at once, and what these gave"),
		func(ctx context.Context, in *OnePerson) (*body[api.PersonShown], error) {
			return s.shown(g.Accounts.Disable(ctx, by(ctx), in.Number))
		})
	call(s, a, does("/people/{number}/enable", "enable-person", "Let somebody in again"),
		func(ctx context.Context, in *OnePerson) (*body[api.PersonShown], error) {
			return s.shown(g.Accounts.Enable(ctx, by(ctx), in.Number))
		})
	call(s, a, op("DELETE", "/people/{number}", "remove-person",
		"Remove somebody with all that is theirs; that it was done stays in the history"),
		func(ctx context.Context, in *OnePerson) (*struct{}, error) {
			return nil, g.Accounts.Remove(ctx, by(ctx), in.Number)
		})
}

// linkingCalls registers the joining and parting of accounts.
func (s *server) linkingCalls(a huma.API) {
	g := s.gate
	call(s, a, does("/people/{number}/links", "link-person", "Link somebody to a further name of a provider for them"),
		func(ctx context.Context, in *struct {
			OnePerson
			Body api.PersonLink
		}) (*body[api.PersonShown], error) {
			return s.shown(g.Accounts.Link(ctx, by(ctx), in.Number, in.Body.Provider,
				profile.Subject{Value: in.Body.Subject, Format: in.Body.Format}))
		})
	call(s, a, does("/people/{number}/part", "part-person",
		"Take a link away from somebody, and make an account of its own for it, which is the answer"),
		func(ctx context.Context, in *struct {
			OnePerson
			Body api.PersonPart
		}) (*body[api.PersonShown], error) {
			return s.shown(g.Accounts.Part(ctx, by(ctx), in.Number, in.Body.Link))
		})
	call(s, a, does("/people/{number}/join", "join-people", "Make one account of two, after a preview"),
		func(ctx context.Context, in *struct {
			OnePerson
			Body api.PersonJoin
		}) (*body[api.PersonJoined], error) {
			j, err := g.Accounts.Join(ctx, by(ctx), accounts.Joining{Into: in.Number, Other: in.Body.Other,
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
	call(s, a, starts("/people/import", "import-people", "Take a list of people in, CSV or JSON, after a preview; a job tells how far it is"),
		func(ctx context.Context, in *upload) (*body[api.Job], error) {
			var how api.PeopleImport
			document, release, err := in.whole(&how)
			if err != nil {
				return nil, err
			}
			who := by(ctx)
			return &body[api.Job]{jobShown(g.Jobs.Start("import people", "people", func(ctx context.Context, p jobs.Progress) (any, error) {
				defer release()
				return g.Roll.Import(ctx, who, roll.Import{Document: document, By: how.By, KnownOnly: how.KnownOnly, SkipBad: how.SkipBad,
					Empties: how.Empties, Digest: how.Digest}, p)
			}))}, nil
		})
	describeUpload(a, "/people/import")
	call(s, a, op("GET", "/people/export", "export-people", "People as a list that can be taken in again"),
		func(ctx context.Context, in *struct {
			PeopleFilter
			Form string `query:"form" enum:"csv,json" default:"csv"`
		}) (*fileOut, error) {
			return s.file(in.Form, "people", func(to io.Writer) error { return g.Roll.Export(ctx, in.filter("", 0), in.Form, to) })
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

func edit(in api.PersonChange) accounts.Edit {
	names := func(in []api.UnitName) (out []accounts.Belongs) {
		for _, u := range in {
			out = append(out, accounts.Belongs{Kind: federation.Kind(u.Kind), Name: u.Name})
		}
		return out
	}
	return accounts.Edit{Values: in.Values, Join: names(in.Join), Leave: names(in.Leave)}
}

// source says by what something is known.
func (s *server) source(id federation.ID) api.KnownBy {
	if word := map[federation.ID]string{crossing.FromHand: "hand", crossing.FromImport: "import", crossing.FromPerson: "person",
		crossing.Landed: "organisation"}[id]; word != "" {
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

func (s *server) person(p accounts.Person) api.Person {
	return api.Person{Number: p.ID, Name: p.Name, Added: p.Added, Disabled: p.Disabled, UserType: p.UserType,
		Links: rows(p.Links, 0, link).Body.Items,
		Members: rows(p.Members, 0, func(m accounts.Membership) api.Membership {
			return api.Membership{Kind: string(m.Kind), Name: string(m.Name), Source: s.source(m.Source), Added: m.Added}
		}).Body.Items}
}

func (s *server) shown(p accounts.Person, err error) (*body[api.PersonShown], error) {
	if err != nil {
		return nil, err
	}
	out := api.PersonShown{Person: s.person(p), Grants: p.Grants, Consents: p.Consents}
	out.Values = rows(p.Values, 0, func(v crossing.KeptValue) api.PersonValue {
		x := api.PersonValue{Name: v.Name, Values: plain(v.Attribute.Values), Source: s.source(v.From), At: v.At,
			Proofs: make([]string, len(v.Attribute.Values))}
		x.Verified = len(x.Proofs) > 0
		for i := range x.Proofs {
			x.Proofs[i] = string(v.Proof(i))
			x.Verified = x.Verified && v.Proof(i) == crossing.ByMail
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
	out.Subjects = rows(p.Subjects, 0, func(x accounts.Subject) api.PersonSubject {
		return api.PersonSubject{Application: x.App, Value: x.Value, Source: x.Source, Added: x.Added}
	}).Body.Items
	return &body[api.PersonShown]{out}, nil
}

func imported(in *roll.Imported) *api.PeopleImported {
	return &api.PeopleImported{Rows: in.Rows, New: in.New, Changed: in.Changed, Same: in.Same, Disabled: in.Disabled, Enabled: in.Enabled,
		BadRows: in.BadRows, Bad: some(in.Bad), By: in.By, Columns: some(in.Columns), Separator: in.Separator, Encoding: in.Encoding,
		Digest: in.Digest, Stored: in.Stored, Listed: rows(in.Listed, 0, func(r roll.Row) api.ImportedRow {
			return api.ImportedRow{Line: r.Line, Person: r.Person, Name: r.Name, Differences: some(r.Differences)}
		}).Body.Items}
}
