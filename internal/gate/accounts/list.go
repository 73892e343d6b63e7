package accounts

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/people"
	"innergate.example/innergate/internal/store"
)

// Person is an account, with what it holds.
type Person struct {
	ID       int64
	Name     string // that people read
	Added    time.Time
	Disabled time.Time // zero for one that is let in
	UserType string
	Links    []people.Link
	Values   []crossing.KeptValue
	Members  []Membership
	Sessions []*crossing.Session
	Grants   int64 // that give something still
	Subjects []Subject
	Consents int64
}

// Membership is that somebody belongs to a group or an organisation, and since when.
type Membership struct {
	crossing.Membership
	Added time.Time
}

// Subject is a lasting name by which an application knows somebody.
type Subject struct {
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
func (rm *Room) List(ctx context.Context, f Filter) (Page, error) {
	where, args, err := rm.narrowed(f)
	if err != nil {
		return Page{}, err
	}
	if words := strings.Fields(profile.Fold(f.Search)); len(words) > 0 {
		return rm.search(ctx, f, words, where, args)
	}
	after, err := strconv.ParseInt("0"+f.After, 10, 64)
	if err != nil {
		return Page{}, change.Field("after", errors.New("give what the page before says is next"))
	}
	var out Page
	var ids []int64
	db := rm.Store.Read.WithContext(ctx)
	base := db.Table("person_rows p").Where(where, args...)
	if out.Total = -1; !f.Uncounted {
		if err := base.Session(&gorm.Session{}).Count(&out.Total).Error; err != nil {
			return out, err
		}
	}
	err = errors.Join(base.Session(&gorm.Session{}).Where("p.id > ?", after).Order("p.id").Limit(f.Limit).Pluck("p.id", &ids).Error)
	if err != nil {
		return out, err
	}
	if len(ids) == f.Limit {
		out.Next = fmt.Sprint(ids[len(ids)-1])
	}
	out.People, err = rm.brief(ctx, ids)
	return out, err
}

// member is that somebody belongs to units.
const member = "p.id IN (SELECT m.person FROM member_rows m WHERE m.kind = ? AND m.name IN ?)"

// marking are the groups and organisations that mark their people so.
func (rm *Room) marking(userType string) (groups, organisations []string) {
	snap := rm.Records.Snapshot()
	for _, g := range snap.Units(federation.KindGroup) {
		if strings.EqualFold(g.UserType, userType) {
			groups = append(groups, words(snap.Within(g.Name))...)
		}
	}
	for _, o := range snap.Units(federation.KindOrganisation) {
		if strings.EqualFold(o.UserType, userType) {
			organisations = append(organisations, string(o.Name))
		}
	}
	return groups, organisations
}

// narrowed gives what a filter asks of a person p; names that are none are refused.
func (rm *Room) narrowed(f Filter) (string, []any, error) {
	where, args := []string{"1 = 1"}, []any{}
	add := func(clause string, more ...any) {
		where, args = append(where, clause), append(args, more...)
	}
	switch f.State {
	case "":
	case "enabled":
		add("p.disabled IS NULL")
	case "disabled":
		add("p.disabled IS NOT NULL")
	default:
		return "", nil, change.Field("state", fmt.Errorf("%q is no state; use enabled or disabled", f.State))
	}
	if f.Group != "" {
		g, err := rm.Records.Unit(federation.KindGroup, f.Group)
		if err != nil {
			return "", nil, change.Field("group", err)
		}
		add(member, string(federation.KindGroup), words(rm.Records.Snapshot().Within(g.Name)))
	}
	if f.Organisation != "" {
		o, err := rm.Records.Unit(federation.KindOrganisation, f.Organisation)
		if err != nil {
			return "", nil, change.Field("organisation", err)
		}
		add(member, string(federation.KindOrganisation), []string{string(o.Name)})
	}
	if f.UserType != "" {
		groups, organisations := rm.marking(f.UserType)
		add(`(p.id IN (SELECT t.person FROM term_rows t WHERE t.term = ? AND t.attribute = ?) OR NOT EXISTS (SELECT 1 FROM term_rows t
			WHERE t.person = p.id AND t.attribute = ?) AND (`+member+" OR "+member+"))", profile.Fold(f.UserType), profile.AttributeUserType,
			profile.AttributeUserType, string(federation.KindGroup), groups, string(federation.KindOrganisation), organisations)
	}
	if f.Provider != "" {
		p, err := rm.Records.Provider(f.Provider)
		if err != nil {
			return "", nil, change.Field("provider", err)
		}
		add("p.id IN (SELECT l.person FROM link_rows l WHERE l.provider = ?)", string(p.ID))
	}
	return strings.Join(where, " AND "), args, nil
}

func words(names []federation.Name) []string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = string(n)
	}
	return out
}

// last follows every text that begins with a word.
const last = "\U0010FFFF"

// search finds people by words that begin a term: through the index by the rarest one,
// and each that it finds by the others. Everybody comes once, at their first such term.
func (rm *Room) search(ctx context.Context, f Filter, words []string, where string, args []any) (Page, error) {
	if len(words) > 6 || slices.ContainsFunc(words, func(w string) bool { return len(w) > 200 }) {
		return Page{}, change.Field("search", errors.New("search for at most six words, of at most 200 octets each"))
	}
	var at []string // the word that leads, and whom it led to last
	if f.After != "" {
		plain, err := base64.RawURLEncoding.DecodeString(f.After)
		at = strings.Split(string(plain), "\x1f")
		if err != nil || len(at) != 4 || !slices.Contains(words, at[0]) {
			return Page{}, change.Field("after", errors.New("give what the page before says is next"))
		}
	}
	lead, err := rm.rarest(ctx, words)
	if err != nil {
		return Page{}, err
	}
	if at != nil {
		lead = at[0]
	}
	sql := `SELECT t.term, t.attribute, t.person FROM term_rows t JOIN person_rows p ON p.id = t.person
		WHERE t.term >= ? AND t.term < ? AND NOT EXISTS (SELECT 1 FROM term_rows e WHERE e.person = t.person AND e.term >= ?
		AND (e.term < t.term OR e.term = t.term AND e.attribute < t.attribute)) AND ` + where
	args = append([]any{lead, lead + last, lead}, args...)
	for _, w := range words {
		if w != lead {
			sql += " AND EXISTS (SELECT 1 FROM term_rows o WHERE o.person = t.person AND o.term >= ? AND o.term < ?)"
			args = append(args, w, w+last)
		}
	}
	if at != nil {
		sql += " AND (t.term, t.attribute, t.person) > (?, ?, ?)"
		args = append(args, at[1], at[2], at[3])
	}
	var rows []store.TermRow
	err = rm.Store.Read.WithContext(ctx).Raw(sql+" ORDER BY t.term, t.attribute, t.person LIMIT ?",
		append(args, f.Limit+1)...).Scan(&rows).Error
	if err != nil {
		return Page{}, err
	}
	out := Page{Total: int64(len(rows))}
	if len(rows) > f.Limit {
		rows = rows[:f.Limit]
		end := rows[len(rows)-1]
		out.Total, out.Next = -1, base64.RawURLEncoding.EncodeToString(fmt.Appendf(nil, "%s\x1f%s\x1f%s\x1f%d", lead, end.Term,
			end.Attribute, end.Person))
	} else if f.After != "" {
		out.Total = -1
	}
	ids := make([]int64, len(rows))
	for i, r := range rows {
		ids[i] = r.Person
	}
	out.People, err = rm.brief(ctx, ids)
	return out, err
}

// common is how many terms a word begins when it is no use to count on.
const common = 200

// rarest is the word that begins the fewest terms, the longest of those that are as rare.
func (rm *Room) rarest(ctx context.Context, words []string) (string, error) {
	slices.SortFunc(words, func(a, b string) int { return len(b) - len(a) })
	lead, fewest := words[0], common
	for _, w := range words {
		if len(words) == 1 {
			break
		}
		var n int
		err := rm.Store.Read.WithContext(ctx).Raw(
			"SELECT COUNT(*) FROM (SELECT 1 FROM term_rows WHERE term >= ? AND term < ? LIMIT ?)", w, w+last, common).Scan(&n).Error
		if err != nil {
			return "", err
		}
		if n < fewest {
			lead, fewest = w, n
		}
	}
	return lead, nil
}

// brief are people with their links and where they belong, in the order of their numbers
// as given.
func (rm *Room) brief(ctx context.Context, ids []int64) ([]Person, error) {
	var rows []store.PersonRow
	var members []store.MemberRow
	db := rm.Store.Read.WithContext(ctx)
	links, err := rm.People.LinksOf(ctx, ids...)
	err = errors.Join(err, db.Where("id IN ?", ids).Find(&rows).Error,
		db.Where("person IN ?", ids).Order("person, kind, name").Find(&members).Error)
	if err != nil {
		return nil, err
	}
	byID := map[int64]*Person{}
	for _, r := range rows {
		p := &Person{ID: r.ID, Added: r.Added, Links: links[r.ID]}
		if r.Disabled != nil {
			p.Disabled = *r.Disabled
		}
		if p.Values, err = rm.People.Values(r.Sealed); err != nil {
			return nil, err
		}
		p.name()
		byID[r.ID] = p
	}
	for _, m := range members {
		if p := byID[m.Person]; p != nil {
			p.Members = append(p.Members, Membership{crossing.Membership{Kind: federation.Kind(m.Kind), Name: federation.Name(m.Name),
				Source: federation.ID(m.Source)}, m.Added})
		}
	}
	out := make([]Person, 0, len(ids))
	for _, id := range ids {
		if p := byID[id]; p != nil {
			p.mark(rm.Records.Snapshot())
			out = append(out, *p)
		}
	}
	return out, nil
}

// mark finds how they are marked by where they belong, where nothing else says it.
func (p *Person) mark(snap *federation.Snapshot) {
	all := make([]crossing.Membership, len(p.Members))
	for i, m := range p.Members {
		all[i] = m.Membership
	}
	if p.UserType == "" {
		p.UserType = crossing.Marked(snap, nil, profile.Profile{}, p.Values, all)
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
	p.Name = crossing.NameOf(crossing.Person{ID: p.ID, Values: p.Values}, names...)
}

// Get gives one person with what they hold.
func (rm *Room) Get(ctx context.Context, id int64) (Person, error) {
	if _, err := rm.row(rm.Store.Read.WithContext(ctx), id); err != nil {
		return Person{}, err
	}
	all, err := rm.brief(ctx, []int64{id})
	if err != nil || len(all) == 0 {
		return Person{}, errors.Join(err, rm.gone(id))
	}
	p := all[0]
	if p.Sessions, err = rm.Sessions.Of(ctx, id); err != nil {
		return p, err
	}
	db, now := rm.Store.Read.WithContext(ctx), rm.Now().UTC()
	var subjects []store.SubjectRow
	err = errors.Join(
		db.Model(&store.GrantRow{}).Where("person = ? AND ended = '' AND expires > ?", id, now).Count(&p.Grants).Error,
		db.Where("person = ?", id).Order("app").Find(&subjects).Error,
		db.Model(&store.ConsentRow{}).Where("person = ?", id).Count(&p.Consents).Error)
	for _, r := range subjects {
		var plain []byte
		if err == nil {
			plain, err = rm.Store.Open("subject", r.Sealed)
		}
		s := Subject{App: r.App, Value: string(plain), Source: r.Source, Added: r.Added}
		if a, ok := rm.Records.Snapshot().ApplicationOf(federation.ID(r.App)); ok {
			s.App = string(a.Name)
		}
		p.Subjects = append(p.Subjects, s)
	}
	return p, err
}

// Members counts who belongs to each unit of a kind.
func (rm *Room) Members(ctx context.Context, k federation.Kind) (map[federation.Name]int64, error) {
	var rows []struct {
		Name string
		N    int64
	}
	err := rm.Store.Read.WithContext(ctx).Model(&store.MemberRow{}).Where("kind = ?", string(k)).
		Select("name, count(DISTINCT person) AS n").Group("name").Scan(&rows).Error
	out := map[federation.Name]int64{}
	for _, r := range rows {
		out[federation.Name(r.Name)] = r.N
	}
	return out, err
}

// gone is the error that nobody has a number, if they went while they were looked at.
func (rm *Room) gone(id int64) error {
	return &change.NotFoundError{Kind: "person", Name: fmt.Sprint(id)}
}
