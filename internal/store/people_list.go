package store

import (
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
)

// PeopleFilter narrows a list of people; what is empty narrows nothing.
type PeopleFilter struct {
	Words        []string // that begin something that is known of them, folded
	State        person.State
	Groups       []string // they are in one of them
	Organisation string
	Marked       *MarkedAs
	Provider     federation.ID // they are linked to it
	After        string        // Next of the page before
	Limit        int
	Uncounted    bool // nobody asks how many there are
}

// MarkedAs are those of a user type: by a value of their own, else by where they belong.
type MarkedAs struct {
	UserType              string
	Groups, Organisations []string // that mark their people so
}

// PeoplePage is a page of people, by their numbers.
type PeoplePage struct {
	People []int64
	Total  int64 // -1 if there are more than are shown, and nobody counted them
	Next   string
}

// ErrNotNext says that a page was asked for after one that there was not.
var ErrNotNext = errors.New("give what the page before says is next")

// List lists people: by their numbers, or where they are searched for, by what was found.
func (p People) List(f PeopleFilter) (out PeoplePage, err error) {
	where, args := f.narrowed()
	if len(f.Words) > 0 {
		return p.search(f, where, args)
	}
	after, err := strconv.ParseInt("0"+f.After, 10, 64)
	if err != nil {
		return out, ErrNotNext
	}
	base := p.db.Table("person_rows p").Where(where, args...)
	if out.Total = -1; !f.Uncounted {
		if err := base.Session(&gorm.Session{}).Count(&out.Total).Error; err != nil {
			return out, err
		}
	}
	err = base.Session(&gorm.Session{}).Where("p.id > ?", after).Order("p.id").Limit(f.Limit).Pluck("p.id",
		&out.People).Error
	if n := len(out.People); err == nil && n == f.Limit {
		out.Next = fmt.Sprint(out.People[n-1])
	}
	return out, err
}

// belongs is that somebody belongs to units.
const belongs = "p.id IN (SELECT m.person FROM member_rows m WHERE m.kind = ? AND m.name IN ?)"

// narrowed gives what a filter asks of a person p.
func (f *PeopleFilter) narrowed() (string, []any) {
	where, args := []string{"1 = 1"}, []any{}
	add := func(clause string, more ...any) {
		where, args = append(where, clause), append(args, more...)
	}
	switch f.State {
	case person.Enabled:
		add("p.disabled IS NULL")
	case person.Disabled:
		add("p.disabled IS NOT NULL")
	}
	if len(f.Groups) > 0 {
		add(belongs, string(federation.KindGroup), f.Groups)
	}
	if f.Organisation != "" {
		add(belongs, string(federation.KindOrganisation), []string{f.Organisation})
	}
	if m := f.Marked; m != nil {
		add(`(p.id IN (SELECT t.person FROM term_rows t WHERE t.term = ? AND t.attribute = ?) OR NOT EXISTS (SELECT 1 FROM term_rows t
			WHERE t.person = p.id AND t.attribute = ?) AND (`+belongs+" OR "+belongs+"))", profile.Fold(m.UserType),
			profile.AttributeUserType,
			profile.AttributeUserType, string(federation.KindGroup), m.Groups, string(federation.KindOrganisation),
			m.Organisations)
	}
	if f.Provider != "" {
		add("p.id IN (SELECT l.person FROM link_rows l WHERE l.provider = ?)", string(f.Provider))
	}
	return strings.Join(where, " AND "), args
}

// last follows every text that begins with a word.
const last = "\U0010FFFF"

// search finds people by words that begin a term: through the index by the rarest one, and each that it finds by the
// others. Everybody comes once, at their first such term.
func (p People) search(f PeopleFilter, where string, args []any) (out PeoplePage, err error) {
	words := slices.Clone(f.Words)
	var at []string // the word that leads, and whom it led to last
	if f.After != "" {
		plain, err := base64.RawURLEncoding.DecodeString(f.After)
		at = strings.Split(string(plain), "\x1f")
		if err != nil || len(at) != 4 || !slices.Contains(words, at[0]) {
			return out, ErrNotNext
		}
	}
	lead, err := p.rarest(words)
	if err != nil {
		return out, err
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
	var rows []TermRow
	err = p.db.Raw(sql+" ORDER BY t.term, t.attribute, t.person LIMIT ?", append(args, f.Limit+1)...).Scan(&rows).Error
	if err != nil {
		return out, err
	}
	out.Total = int64(len(rows))
	if len(rows) > f.Limit {
		rows = rows[:f.Limit]
		end := rows[len(rows)-1]
		out.Total, out.Next = -1, base64.RawURLEncoding.EncodeToString(fmt.Appendf(nil, "%s\x1f%s\x1f%s\x1f%d", lead,
			end.Term,
			end.Attribute, end.Person))
	} else if f.After != "" {
		out.Total = -1
	}
	for _, r := range rows {
		out.People = append(out.People, r.Person)
	}
	return out, nil
}

// common is how many terms a word begins when it is no use to count on.
const common = 200

// rarest is the word that begins the fewest terms, the longest of those that are as rare.
func (p People) rarest(words []string) (string, error) {
	slices.SortFunc(words, func(a, b string) int { return len(b) - len(a) })
	lead, fewest := words[0], common
	for _, w := range words {
		if len(words) == 1 {
			break
		}
		var n int
		err := p.db.Raw("SELECT COUNT(*) FROM (SELECT 1 FROM term_rows WHERE term >= ? AND term < ? LIMIT ?)", w, w+last,
			common).Scan(&n).Error
		if err != nil {
			return "", err
		}
		if n < fewest {
			lead, fewest = w, n
		}
	}
	return lead, nil
}

// Kept is somebody with what is kept of them and where they belong.
type Kept struct {
	person.Record
	Added time.Time
	Since []time.Time // of each membership
}

// Kept are some people, by their numbers.
func (p People) Kept(people []int64) (map[int64]*Kept, error) {
	records, err := p.records(people, nil, nil)
	if err != nil {
		return nil, err
	}
	out := map[int64]*Kept{}
	for id, r := range records {
		out[id] = &Kept{Record: r}
	}
	for chunk := range slices.Chunk(people, atOnce) {
		var rows []PersonRow
		var members []MemberRow
		err := errors.Join(p.db.Select("id", "added").Where("id IN ?", chunk).Find(&rows).Error,
			p.db.Where("person IN ?", chunk).Order("person, kind, name, source").Find(&members).Error)
		if err != nil {
			return nil, err
		}
		for _, r := range rows {
			out[r.ID].Added = r.Added
		}
		for _, m := range members {
			if k := out[m.Person]; k != nil {
				k.Members, k.Since = append(k.Members, m.membership()), append(k.Since, m.Added)
			}
		}
	}
	return out, nil
}

// MemberCounts counts who belongs to each unit of a kind.
func (p People) MemberCounts(k federation.Kind) (map[federation.Name]int64, error) {
	var rows []struct {
		Name string
		N    int64
	}
	err := p.db.Model(&MemberRow{}).Where("kind = ?",
		string(k)).Select("name, count(DISTINCT person) AS n").Group("name").Scan(&rows).Error
	out := map[federation.Name]int64{}
	for _, r := range rows {
		out[federation.Name(r.Name)] = r.N
	}
	return out, err
}

// AdmissionOf is an admission by name, of whom and since when.
type AdmissionOf struct {
	person.Admission
	Person int64
	Added  time.Time
}

// Admissions are those of people to an application, from a number on, and how many there are.
func (p People) Admissions(app federation.ID, after int64, limit int) (out []AdmissionOf, total int64, err error) {
	of := p.db.Model(&AdmissionRow{}).Where("app = ?", string(app)).Session(&gorm.Session{})
	var rows []AdmissionRow
	err = errors.Join(of.Count(&total).Error, of.Where("person > ?",
		after).Order("person").Limit(limit).Find(&rows).Error)
	return admissionsOf(rows), total, err
}

// AdmissionsOf are those of one person.
func (p People) AdmissionsOf(who int64) ([]AdmissionOf, error) {
	var rows []AdmissionRow
	err := p.db.Where("person = ?", who).Order("app").Find(&rows).Error
	return admissionsOf(rows), err
}

func admissionsOf(rows []AdmissionRow) (out []AdmissionOf) {
	for _, r := range rows {
		out = append(out, AdmissionOf{r.admission(), r.Person, r.Added})
	}
	return out
}

// EventPage is which events are given out: those after a number, the oldest first, or with From those since a time;
// of one person if it is named.
type EventPage struct {
	After  int64
	From   time.Time
	Person int64
	Newest bool  // the newest first
	Before int64 // with it: those before a number
	Limit  int
}

// Events gives out what was done to people, and the numbers of the oldest and of the newest event that is kept.
func (p People) Events(f EventPage) (out []person.Event, oldest, newest int64, err error) {
	// The bounds come first: what is stored meanwhile is given out with the next page.
	err = p.db.Raw("SELECT coalesce(min(id), 0), coalesce((SELECT seq FROM sqlite_sequence WHERE name = 'person_event_rows'), 0) FROM person_event_rows").
		Row().Scan(&oldest, &newest)
	if err != nil {
		return nil, 0, 0, err
	}
	q := p.db.Where("id > ? AND id <= ?", f.After, newest)
	if !f.From.IsZero() {
		q = q.Where("at >= ?", f.From.UTC())
	}
	if f.Person != 0 {
		q = q.Where("person = ?", f.Person)
	}
	var rows []PersonEventRow
	order := "id"
	if f.Newest {
		order = "id DESC"
	}
	if f.Before > 0 {
		q = q.Where("id < ?", f.Before)
	}
	err = q.Order(order).Limit(f.Limit).Find(&rows).Error
	for _, r := range rows {
		e := person.Event{ID: r.ID, At: r.At, Person: r.Person, Via: person.Writer(r.Via), Who: r.Who}
		if err == nil {
			err = e.Read(r.Did)
		}
		out = append(out, e)
	}
	return out, oldest, newest, err
}

// DropEvents drops events from before a time, and of more than so many the oldest. At most so many go at once.
func (t Tx) DropEvents(before time.Time, most, atOnce int64) (gone int64, err error) {
	done := t.db.Exec(`DELETE FROM person_event_rows WHERE id IN (SELECT id FROM person_event_rows WHERE at < ?
		OR id <= (SELECT max(id) FROM person_event_rows) - ? ORDER BY id LIMIT ?)`, before.UTC(), most, atOnce)
	return done.RowsAffected, done.Error
}

// EventsAfter counts events that are kept, after a number.
func (p People) EventsAfter(after int64) (n int64, err error) {
	return n, p.db.Model(&PersonEventRow{}).Where("id > ?", after).Count(&n).Error
}
