package people

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/store"
)

// Person is an account, with what it holds.
type Person struct {
	ID       int64
	Revision int64
	Name     string // that people read
	Added    time.Time
	Disabled time.Time // zero for one that is let in
	UserType string
	Links    []Link
	Values   []person.KeptValue
	Members  []Membership
	Sessions []*crossing.Session
	Grants   int64 // that give something still
	Subjects []KnownAs
	Consents int64
}

// Membership is that somebody belongs to a group or an organisation, and since when.
type Membership struct {
	person.Membership
	Added time.Time
}

// KnownAs is a lasting name by which an application knows somebody.
type KnownAs struct {
	App    string // short name, else the ID of a removed one
	Value  string
	Source string
	Added  time.Time
}

// Filter narrows a list of people.
type Filter struct {
	Search       string // words that begin something that is known of them
	State        string // "", enabled or disabled
	Group        string // they are in it, or in one that lies in it
	Organisation string
	UserType     string
	Provider     string // they are linked to it
	After        string // Next of the page before
	Limit        int
	Uncounted    bool // nobody asks how many there are
}

// Page is a page of people.
type Page struct {
	People []Person
	Total  int64 // -1 if there are more than are shown, and nobody counted them
	Next   string
}

// List lists people: by their numbers, or where they are searched for, by what was found.
func (rm *Room) List(ctx context.Context, f Filter) (out Page, err error) {
	narrow, err := rm.narrowed(f)
	if err != nil {
		return out, err
	}
	page, err := rm.Store.People(ctx).List(narrow)
	if errors.Is(err, store.ErrNotNext) {
		err = change.Field("after", err)
	}
	if err != nil {
		return out, err
	}
	out.Total, out.Next = page.Total, page.Next
	out.People, err = rm.brief(ctx, page.People)
	return out, err
}

// marking are the groups and organisations that mark their people so.
func (rm *Room) marking(userType string) *store.MarkedAs {
	out, snap := &store.MarkedAs{UserType: userType}, rm.Records.Snapshot()
	for _, g := range snap.Units(federation.KindGroup) {
		if strings.EqualFold(g.UserType, userType) {
			out.Groups = append(out.Groups, words(snap.Within(g.Name))...)
		}
	}
	for _, o := range snap.Units(federation.KindOrganisation) {
		if strings.EqualFold(o.UserType, userType) {
			out.Organisations = append(out.Organisations, string(o.Name))
		}
	}
	return out
}

// narrowed is what a filter asks; names that are none are refused.
func (rm *Room) narrowed(f Filter) (out store.PeopleFilter, err error) {
	out = store.PeopleFilter{Words: strings.Fields(profile.Fold(f.Search)), State: person.State(f.State), After: f.After,
		Limit:     f.Limit,
		Uncounted: f.Uncounted}
	if len(out.Words) > 6 || slices.ContainsFunc(out.Words, func(w string) bool { return len(w) > 200 }) {
		return out, change.Field("search", errors.New("search for at most six words, of at most 200 octets each"))
	}
	if f.State != "" && out.State != person.Enabled && out.State != person.Disabled {
		return out, change.Field("state", fmt.Errorf("%q is no state; use enabled or disabled", f.State))
	}
	if f.Group != "" {
		g, err := rm.Records.Unit(federation.KindGroup, f.Group)
		if err != nil {
			return out, change.Field("group", err)
		}
		out.Groups = words(rm.Records.Snapshot().Within(g.Name))
	}
	if f.Organisation != "" {
		o, err := rm.Records.Unit(federation.KindOrganisation, f.Organisation)
		if err != nil {
			return out, change.Field("organisation", err)
		}
		out.Organisation = string(o.Name)
	}
	if f.UserType != "" {
		out.Marked = rm.marking(f.UserType)
	}
	if f.Provider != "" {
		p, err := rm.Records.Provider(f.Provider)
		if err != nil {
			return out, change.Field("provider", err)
		}
		out.Provider = p.ID
	}
	return out, nil
}

func words(names []federation.Name) []string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = string(n)
	}
	return out
}

// brief are people with their links and where they belong, in the order of their numbers as given.
func (rm *Room) brief(ctx context.Context, ids []int64) ([]Person, error) {
	links, err := rm.LinksOf(ctx, ids...)
	if err != nil {
		return nil, err
	}
	kept, err := rm.Store.People(ctx).Kept(ids)
	if err != nil {
		return nil, err
	}
	out := make([]Person, 0, len(ids))
	for _, id := range ids {
		k := kept[id]
		if k == nil {
			continue
		}
		p := Person{ID: id, Revision: k.Revision, Added: k.Added, Disabled: k.Disabled, Links: links[id], Values: k.Values}
		for i, m := range k.Members {
			p.Members = append(p.Members, Membership{m, k.Since[i]})
		}
		p.name()
		p.mark(rm.Records.Snapshot())
		out = append(out, p)
	}
	return out, nil
}

// mark finds how they are marked by where they belong, where nothing else says it.
func (p *Person) mark(snap *federation.Snapshot) {
	all := make([]person.Membership, len(p.Members))
	for i, m := range p.Members {
		all[i] = m.Membership
	}
	if p.UserType == "" {
		p.UserType = person.Marked(snap, nil, profile.Profile{}, p.Values, all)
	}
}

// name finds what people read, and how they are marked.
func (p *Person) name() {
	for _, k := range p.Values {
		if k.Name == profile.AttributeUserType && len(k.Attribute.Values) > 0 {
			p.UserType = k.Attribute.Values[0].String()
		}
	}
	names := []string{}
	for _, l := range p.Links {
		if l.Subject != nil {
			names = append(names, l.Subject.Value)
		}
	}
	p.Name = person.NameOf(person.Person{ID: p.ID, Values: p.Values}, names...)
}

// Get gives one person with what they hold.
func (rm *Room) Get(ctx context.Context, id int64) (Person, error) {
	all, err := rm.brief(ctx, []int64{id})
	if err == nil && len(all) == 0 {
		err = nobody(id)
	}
	if err != nil {
		return Person{}, err
	}
	p, on := all[0], rm.Store.People(ctx)
	if p.Sessions, err = rm.Sessions.Of(ctx, id); err != nil {
		return p, err
	}
	if p.Grants, err = on.Grants(rm.Now(), id); err != nil {
		return p, err
	}
	if p.Consents, err = on.Consents(id); err != nil {
		return p, err
	}
	subjects, err := on.SubjectsOf(id)
	for _, s := range subjects {
		p.Subjects = append(p.Subjects, KnownAs{App: person.AppName(rm.Records.Snapshot(), s.App), Value: s.Value,
			Source: s.Source, Added: s.Added})
	}
	return p, err
}

// Members counts who belongs to each unit of a kind.
func (rm *Room) Members(ctx context.Context, k federation.Kind) (map[federation.Name]int64, error) {
	return rm.Store.People(ctx).MemberCounts(k)
}

// Names are what people read of accounts, by their numbers.
func (rm *Room) Names(ctx context.Context, ids []int64) (map[int64]string, error) {
	return rm.Store.People(ctx).Names(ids)
}
