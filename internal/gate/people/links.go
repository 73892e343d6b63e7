package people

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/nearword"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/store"
)

// Link is a provider's name for a person.
type Link struct {
	Key      string // of the row, for the next page
	Person   int64
	Provider LinkedProvider
	Subject  *profile.Subject // nil if it was made before names were kept, until they sign in again
	Added    time.Time        // zero likewise
}

// LinkedProvider is a provider that people are linked to, on record or removed.
type LinkedProvider struct {
	ID      federation.ID
	Name    federation.Name
	Title   string
	Removed time.Time // zero for one on record
	Links   int64
	People  int64

	record  federation.Record // nil if it was removed
	removal int64             // of history, 0 if it is on record or history does not know
}

// LinkedProviders lists the providers that people are linked to, on record and
// removed.
func (rm *Room) LinkedProviders(ctx context.Context) ([]LinkedProvider, error) {
	all, err := rm.allLinked(ctx)
	return slices.DeleteFunc(all, func(p LinkedProvider) bool { return p.Links == 0 }), err
}

// allLinked lists the providers on record, and those that were removed and still
// have people linked to them.
func (rm *Room) allLinked(ctx context.Context) ([]LinkedProvider, error) {
	counts, err := rm.Store.People(ctx).LinkCounts()
	if err != nil {
		return nil, err
	}
	out, at := []LinkedProvider{}, map[federation.ID]int{}
	for _, p := range rm.Records.Snapshot().Providers() {
		at[p.ID] = len(out)
		out = append(out, LinkedProvider{ID: p.ID, Name: p.Name, Title: p.Title, record: p})
	}
	var removed map[federation.ID]LinkedProvider
	for _, c := range counts {
		i, known := at[c.Provider]
		if !known {
			if removed == nil {
				if removed, err = rm.removedProviders(ctx); err != nil {
					return nil, err
				}
			}
			one := removed[c.Provider]
			one.ID = c.Provider
			i, out = len(out), append(out, one)
		}
		out[i].Links, out[i].People = c.Links, c.People
	}
	return out, nil
}

// removedProviders are those that history saw removed.
func (rm *Room) removedProviders(ctx context.Context) (map[federation.ID]LinkedProvider, error) {
	rows, err := rm.Records.RemovedOf(ctx, change.KindProvider)
	out := map[federation.ID]LinkedProvider{}
	for _, r := range rows {
		id := federation.ID(cmp.Or(r.Object, r.Name))
		out[id] = LinkedProvider{ID: id, Name: federation.Name(r.Name), Removed: r.At, removal: r.ID}
	}
	return out, err
}

// identity is that of a provider in its protocol, when it was removed if it was;
// "" if that is not known any more.
func (rm *Room) identity(ctx context.Context, p LinkedProvider) (string, error) {
	if p.record != nil {
		return p.record.Part().Identity(), nil
	}
	if p.removal == 0 {
		return "", nil
	}
	row, err := rm.Records.HistoryRow(ctx, p.removal)
	if err != nil {
		return "", err
	}
	r, err := rm.Records.Restored(row)
	if err != nil {
		return "", err
	}
	return r.(federation.Record).Part().Identity(), nil
}

// linked finds a provider by short name or ID. A short name means the one on
// record, else the only one of the name that was removed.
func (rm *Room) linked(ctx context.Context, name string) (LinkedProvider, error) {
	all, err := rm.allLinked(ctx)
	if err != nil {
		return LinkedProvider{}, err
	}
	var removed []LinkedProvider
	var names []string
	for _, p := range all {
		if p.record != nil && string(p.Name) == name || string(p.ID) == name {
			return p, nil
		}
		if names = append(names, string(p.Name)); string(p.Name) == name {
			removed = append(removed, p)
		}
	}
	switch len(removed) {
	case 0:
		return LinkedProvider{}, change.NotFound(change.KindProvider, name, nearword.Of(name, names))
	case 1:
		return removed[0], nil
	}
	return LinkedProvider{}, fmt.Errorf("%d providers of the name %q were removed; give the ID of one", len(removed),
		name)
}

// LinkFilter narrows the list of links.
type LinkFilter struct {
	Provider string // short name or ID
	Person   int64
	Limit    int
	After    string // Key of the last one seen
}

// Links lists links, and how many match.
func (rm *Room) Links(ctx context.Context, f LinkFilter) ([]Link, int64, error) {
	page := store.LinkPage{Person: f.Person, Limit: f.Limit}
	if f.Provider != "" {
		p, err := rm.linked(ctx, f.Provider)
		if err != nil {
			return nil, 0, change.Field("provider", err)
		}
		page.Provider = p.ID
	}
	if f.Person != 0 {
		there, err := rm.Store.People(ctx).There(f.Person)
		if err != nil {
			return nil, 0, err
		}
		if !there[f.Person] {
			return nil, 0, change.Field("person", fmt.Errorf("there is no person %d; the numbers stand in the list of links",
				f.Person))
		}
	}
	after, err := hex.DecodeString(f.After)
	if err != nil {
		return nil, 0, change.Field("after", errors.New("give the key of the last link seen"))
	}
	page.After = string(after)
	all, total, err := rm.Store.People(ctx).Links(page)
	if err != nil {
		return nil, 0, err
	}
	links, err := rm.shownLinks(ctx, all)
	return links, total, err
}

// LinksOf gives the links of several people, by their numbers.
func (rm *Room) LinksOf(ctx context.Context, ids ...int64) (map[int64][]Link, error) {
	all, err := rm.Store.People(ctx).LinksOf(ids...)
	if err != nil {
		return nil, err
	}
	links, err := rm.shownLinks(ctx, all)
	out := map[int64][]Link{}
	for _, l := range links {
		out[l.Person] = append(out[l.Person], l)
	}
	return out, err
}

func (rm *Room) shownLinks(ctx context.Context, all []store.Linked) ([]Link, error) {
	providers, out := map[federation.ID]LinkedProvider{}, []Link{}
	for _, p := range rm.Records.Snapshot().Providers() {
		providers[p.ID] = LinkedProvider{ID: p.ID, Name: p.Name, Title: p.Title, record: p}
	}
	if slices.ContainsFunc(all, func(l store.Linked) bool { return providers[l.Provider].record == nil }) {
		removed, err := rm.removedProviders(ctx)
		if err != nil {
			return nil, err
		}
		for _, l := range all {
			if one := removed[l.Provider]; providers[l.Provider].record == nil {
				one.ID = l.Provider
				providers[l.Provider] = one
			}
		}
	}
	for _, l := range all {
		out = append(out, Link{Key: l.Hex(), Person: l.Person, Provider: providers[l.Provider], Subject: l.Subject,
			Added: l.Added})
	}
	return out, nil
}

// Carry is the wish to let the people of one provider in by another.
type Carry struct {
	From, To string // short name or ID; To is on record
	Preview  bool   // only tell what would be
	Digest   string // of the preview that was seen
}

// Carried is what carrying links over comes to.
type Carried struct {
	From, To LinkedProvider
	Links    int    // new ones of To
	Already  int    // that To had for the same person
	Unnamed  int    // made before names were kept: they can follow once the person signed in again
	Taken    []Link // that To has for somebody else: they stay so
	Digest   string

	was string // identity of From
	put []person.Change
}

// CarryLinks links everybody who is linked to a provider to another one too, by
// the same name. The links to the first stay. What is decided is decided in the
// transaction that stores it, and has to be what was previewed.
func (rm *Room) CarryLinks(ctx context.Context, b change.By, c Carry) (out *Carried, err error) {
	if c.Preview {
		if out, err = rm.carried(ctx, c); err != nil {
			return nil, err
		}
		return out, rm.weighCarry(rm.Store.People(ctx), b, out)
	}
	err = rm.Records.Change(ctx, b, func(*federation.Snapshot) (p records.Plan, err error) {
		if out, err = rm.carried(ctx, c); err != nil {
			return p, err
		}
		from, to := out.From, out.To.record
		p.More = func(tx store.Tx) error {
			if err := rm.weighCarry(tx.People(), b, out); err != nil {
				return err
			}
			if err := change.Seen(c.Digest, out.Digest, "the links have changed since the preview"); err != nil {
				return err
			}
			if _, err := rm.Apply(tx, out.put...); err != nil {
				return refused(err)
			}
			what := fmt.Sprintf("took over links of %s: %d", cmp.Or(string(from.Name), string(from.ID)), out.Links)
			return change.Note{At: rm.Now(), By: b, What: what, Revision: to.At()}.WriteOf(tx.Rows(), to)
		}
		return p, nil
	})
	return out, err
}

// carried is from which provider links are carried to which.
func (rm *Room) carried(ctx context.Context, c Carry) (*Carried, error) {
	from, err := rm.linked(ctx, c.From)
	if err != nil {
		return nil, change.Field("from", err)
	}
	to, err := rm.Records.Provider(c.To)
	if err != nil {
		return nil, change.Field("to", err)
	}
	if from.ID == to.ID {
		return nil, change.Field("to", fmt.Errorf("%q is the provider that the links are of; name the removed one by its ID",
			c.To))
	}
	was, err := rm.identity(ctx, from)
	return &Carried{was: was, From: from, To: LinkedProvider{ID: to.ID, Name: to.Name, Title: to.Title, record: to}}, err
}

// weighCarry finds out what carrying over comes to.
func (rm *Room) weighCarry(p store.People, b change.By, c *Carried) error {
	from, err := p.LinksBy(c.From.ID)
	to, more := p.LinksBy(c.To.ID)
	if err = errors.Join(err, more); err != nil {
		return err
	}
	has := map[string]int64{}
	for _, l := range to {
		has[l.Key] = l.Person
	}
	c.Links, c.Already, c.Unnamed, c.Taken, c.put = 0, 0, 0, nil, nil
	sum := sha256.New()
	for _, was := range from {
		if was.Subject == nil {
			c.Unnamed++
			continue
		}
		l := person.Link{Provider: c.To.ID, Subject: renamed(*was.Subject, c.was, c.To.record.Part().Identity())}
		l.Key = person.LinkKey(l.Provider, l.Subject)
		key := store.Hash(l.Key)
		who, taken := has[string(key)]
		switch {
		case !taken:
			put := by(b, was.Person)
			put.Link = []person.Link{l}
			c.put, c.Links = append(c.put, put), c.Links+1
		case who == was.Person:
			c.Already++
		default:
			c.Taken = append(c.Taken, Link{Person: who, Provider: c.To, Subject: &l.Subject})
		}
		fmt.Fprintf(sum, "%x %d %t %d\n", key, was.Person, taken, who)
	}
	c.Digest = hex.EncodeToString(sum.Sum(nil))
	return nil
}

// renamed gives the name that another provider has for somebody: a qualifier
// that says whose name it is says the other's (SAML core §8.3.7).
func renamed(s profile.Subject, from, to string) profile.Subject {
	if from != "" && s.NameQualifier == from {
		s.NameQualifier = to
	}
	return s
}
