package people

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/nearword"
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

// linkRow gives what is stored of a link.
func (rm *Room) linkRow(l crossing.Link, person int64) (*store.LinkRow, error) {
	plain, err := json.Marshal(l.Subject)
	if err != nil {
		return nil, err
	}
	return &store.LinkRow{Key: store.Hash(l.Key), Provider: string(l.Provider), Person: person, Added: rm.now().UTC(),
		Sealed: rm.store.Seal("link", plain)}, nil
}

// NameLink keeps the name with a link that lacks it.
func (rm *Room) NameLink(tx *gorm.DB, l crossing.Link) (bool, error) {
	row, err := rm.linkRow(l, 0)
	if err != nil {
		return false, err
	}
	var now store.LinkRow
	if err := tx.Where("key = ?", row.Key).Limit(1).Find(&now).Error; err != nil || now.Person == 0 {
		return false, err
	}
	if now.Sealed != nil {
		return true, nil
	}
	if err := tx.Model(&store.LinkRow{}).Where("key = ?", row.Key).Update("sealed", row.Sealed).Error; err != nil {
		return false, err
	}
	return true, PutTerms(tx, subjectTerms(now.Person, l.Subject))
}

// subject opens the name in a link, nil if it has none.
func (rm *Room) subject(row store.LinkRow) (*profile.Subject, error) {
	if len(row.Sealed) == 0 {
		return nil, nil
	}
	plain, err := rm.store.Open("link", row.Sealed)
	if err != nil {
		return nil, err
	}
	out := &profile.Subject{}
	return out, json.Unmarshal(plain, out)
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
	var counts []LinkedProvider
	err := rm.store.Read.WithContext(ctx).Model(&store.LinkRow{}).Select("provider AS id, count(*) AS links, count(DISTINCT person) AS people").
		Group("provider").Order("provider").Scan(&counts).Error
	if err != nil {
		return nil, err
	}
	out, at := []LinkedProvider{}, map[federation.ID]int{}
	for _, p := range rm.records.Snapshot().Providers() {
		at[p.ID] = len(out)
		out = append(out, LinkedProvider{ID: p.ID, Name: p.Name, Title: p.Title, record: p})
	}
	var removed map[federation.ID]LinkedProvider
	for _, c := range counts {
		i, known := at[c.ID]
		if !known {
			if removed == nil {
				if removed, err = rm.removedProviders(ctx); err != nil {
					return nil, err
				}
			}
			one := removed[c.ID]
			one.ID = c.ID
			i, out = len(out), append(out, one)
		}
		out[i].Links, out[i].People = c.Links, c.People
	}
	return out, nil
}

// removedProviders are those that history saw removed.
func (rm *Room) removedProviders(ctx context.Context) (map[federation.ID]LinkedProvider, error) {
	var rows []store.HistoryRow
	err := rm.store.Read.WithContext(ctx).Omit("data").Where("kind = ? AND what = ?", change.KindProvider,
		"removed").Order("id").Find(&rows).Error
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
	row, err := rm.records.HistoryRow(ctx, p.removal)
	if err != nil {
		return "", err
	}
	r, err := rm.records.Restored(row)
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
	return LinkedProvider{}, fmt.Errorf("%d providers of the name %q were removed; give the ID of one", len(removed), name)
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
	q := rm.store.Read.WithContext(ctx).Model(&store.LinkRow{})
	if f.Provider != "" {
		p, err := rm.linked(ctx, f.Provider)
		if err != nil {
			return nil, 0, change.Field("provider", err)
		}
		q = q.Where("provider = ?", string(p.ID))
	}
	if f.Person != 0 {
		var count int64
		if err := rm.store.Read.WithContext(ctx).Model(&store.PersonRow{}).Where("id = ?",
			f.Person).Count(&count).Error; err != nil {
			return nil, 0, err
		}
		if count == 0 {
			return nil, 0, change.Field("person", fmt.Errorf("there is no person %d; the numbers stand in the list of links",
				f.Person))
		}
		q = q.Where("person = ?", f.Person)
	}
	var total int64
	if err := q.Session(&gorm.Session{}).Count(&total).Error; err != nil {
		return nil, 0, err
	}
	if f.After != "" {
		after, err := hex.DecodeString(f.After)
		if err != nil {
			return nil, 0, change.Field("after", errors.New("give the key of the last link seen"))
		}
		q = q.Where("key > ?", after)
	}
	var rows []store.LinkRow
	if err := q.Order("key").Limit(f.Limit).Find(&rows).Error; err != nil {
		return nil, 0, err
	}
	links, err := rm.shownLinks(ctx, rows)
	return links, total, err
}

// LinksOf gives the links of several people, by their numbers.
func (rm *Room) LinksOf(ctx context.Context, ids ...int64) (map[int64][]Link, error) {
	var rows []store.LinkRow
	if err := rm.store.Read.WithContext(ctx).Where("person IN ?", ids).Order("key").Find(&rows).Error; err != nil {
		return nil, err
	}
	links, err := rm.shownLinks(ctx, rows)
	out := map[int64][]Link{}
	for _, l := range links {
		out[l.Person] = append(out[l.Person], l)
	}
	return out, err
}

// LinkedTo are the providers that a person is linked to.
func (rm *Room) LinkedTo(ctx context.Context, person int64) (out []federation.ID, err error) {
	err = rm.store.Read.WithContext(ctx).Model(&store.LinkRow{}).Distinct("provider").Where("person = ?", person).Pluck("provider", &out).Error
	return out, err
}

func (rm *Room) shownLinks(ctx context.Context, rows []store.LinkRow) ([]Link, error) {
	providers, out := map[string]LinkedProvider{}, []Link{}
	for _, p := range rm.records.Snapshot().Providers() {
		providers[string(p.ID)] = LinkedProvider{ID: p.ID, Name: p.Name, Title: p.Title, record: p}
	}
	if slices.ContainsFunc(rows, func(r store.LinkRow) bool { return providers[r.Provider].record == nil }) {
		removed, err := rm.removedProviders(ctx)
		if err != nil {
			return nil, err
		}
		for _, r := range rows {
			if one := removed[federation.ID(r.Provider)]; providers[r.Provider].record == nil {
				one.ID = federation.ID(r.Provider)
				providers[r.Provider] = one
			}
		}
	}
	for _, row := range rows {
		s, err := rm.subject(row)
		if err != nil {
			return nil, err
		}
		out = append(out, Link{Key: hex.EncodeToString(row.Key), Person: row.Person, Provider: providers[row.Provider],
			Subject: s, Added: row.Added})
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

	was  string // identity of From
	rows []*store.LinkRow
}

// CarryLinks links everybody who is linked to a provider to another one too, by
// the same name. The links to the first stay. What is decided is decided in the
// transaction that stores it, and has to be what was previewed.
func (rm *Room) CarryLinks(ctx context.Context, by change.By, c Carry) (out *Carried, err error) {
	if c.Preview {
		if out, err = rm.carried(ctx, c); err != nil {
			return nil, err
		}
		return out, rm.weighCarry(rm.store.Read.WithContext(ctx), out)
	}
	err = rm.records.Change(ctx, by, func(*federation.Snapshot) (p records.Plan, err error) {
		if out, err = rm.carried(ctx, c); err != nil {
			return p, err
		}
		from, to := out.From, out.To.record
		p.More = func(tx *gorm.DB) error {
			if err := rm.weighCarry(tx, out); err != nil {
				return err
			}
			if err := change.Seen(c.Digest, out.Digest, "the links have changed since the preview"); err != nil {
				return err
			}
			if err := rm.createLinks(tx, out.rows); err != nil {
				return err
			}
			what := fmt.Sprintf("took over links of %s: %d", cmp.Or(string(from.Name), string(from.ID)), out.Links)
			return change.Note{At: rm.now(), By: by, What: what, Revision: to.At()}.WriteOf(tx, to)
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
	to, err := rm.records.Provider(c.To)
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
func (rm *Room) weighCarry(tx *gorm.DB, c *Carried) error {
	var from, to []store.LinkRow
	if err := errors.Join(tx.Where("provider = ?", string(c.From.ID)).Order("key").Find(&from).Error,
		tx.Where("provider = ?", string(c.To.ID)).Find(&to).Error); err != nil {
		return err
	}
	has := map[string]int64{}
	for _, row := range to {
		has[string(row.Key)] = row.Person
	}
	c.Links, c.Already, c.Unnamed, c.Taken, c.rows = 0, 0, 0, nil, nil
	sum := sha256.New()
	for _, row := range from {
		s, err := rm.subject(row)
		if err != nil {
			return err
		}
		if s == nil {
			c.Unnamed++
			continue
		}
		l := crossing.Link{Provider: c.To.ID, Subject: renamed(*s, c.was, c.To.record.Part().Identity())}
		l.Key = crossing.LinkKey(l.Provider, l.Subject)
		next, err := rm.linkRow(l, row.Person)
		if err != nil {
			return err
		}
		person, taken := has[string(next.Key)]
		switch {
		case !taken:
			c.rows, c.Links = append(c.rows, next), c.Links+1
		case person == row.Person:
			c.Already++
		default:
			c.Taken = append(c.Taken, Link{Person: person, Provider: c.To, Subject: &l.Subject})
		}
		fmt.Fprintf(sum, "%x %d %t %d\n", next.Key, row.Person, taken, person)
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
