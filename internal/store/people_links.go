package store

import (
	"encoding/hex"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
)

// Linked is a provider's name for somebody, as it is kept.
type Linked struct {
	Key      string // of the row: it tells nobody the name
	Person   int64
	Provider federation.ID
	Subject  *profile.Subject // nil if it was made before names were kept, until they sign in again
	Added    time.Time        // zero likewise
}

// Hex is the key as people are told it.
func (l Linked) Hex() string { return hex.EncodeToString([]byte(l.Key)) }

// linkRow gives what is stored of a link.
func (p People) linkRow(l person.Link, who int64, now time.Time) (*LinkRow, error) {
	plain, err := json.Marshal(l.Subject)
	if err != nil {
		return nil, err
	}
	return &LinkRow{Key: Hash(l.Key), Provider: string(l.Provider), Person: who, Added: now.UTC(),
		Sealed: p.Seal("link", plain)}, nil
}

// subject opens the name in a link, nil if it has none.
func (p People) subject(row LinkRow) (*profile.Subject, error) {
	if len(row.Sealed) == 0 {
		return nil, nil
	}
	plain, err := p.Open("link", row.Sealed)
	if err != nil {
		return nil, err
	}
	out := &profile.Subject{}
	return out, json.Unmarshal(plain, out)
}

func (p People) linked(rows []LinkRow) ([]Linked, error) {
	out := make([]Linked, len(rows))
	for i, r := range rows {
		s, err := p.subject(r)
		if err != nil {
			return nil, err
		}
		out[i] = Linked{Key: string(r.Key), Person: r.Person, Provider: federation.ID(r.Provider), Subject: s,
			Added: r.Added}
	}
	return out, nil
}

// LinkCount is how many links of a provider there are, and of how many people.
type LinkCount struct {
	Provider      federation.ID
	Links, People int64
}

// LinkCounts counts links, by their providers.
func (p People) LinkCounts() (out []LinkCount, err error) {
	err = p.db.Model(&LinkRow{}).Select("provider, count(*) AS links, count(DISTINCT person) AS people").
		Group("provider").Order("provider").Scan(&out).Error
	return out, err
}

// LinkPage is which links are listed; what is empty narrows nothing.
type LinkPage struct {
	Provider federation.ID
	Person   int64
	After    string // key of the last one seen
	Limit    int
}

// Links lists links in the order of their keys, and how many there are in all.
func (p People) Links(f LinkPage) (out []Linked, total int64, err error) {
	q := p.db.Model(&LinkRow{})
	if f.Provider != "" {
		q = q.Where("provider = ?", string(f.Provider))
	}
	if f.Person != 0 {
		q = q.Where("person = ?", f.Person)
	}
	if err := q.Session(&gorm.Session{}).Count(&total).Error; err != nil {
		return nil, 0, err
	}
	if f.After != "" {
		q = q.Where("key > ?", []byte(f.After))
	}
	var rows []LinkRow
	if err := q.Order("key").Limit(f.Limit).Find(&rows).Error; err != nil {
		return nil, 0, err
	}
	out, err = p.linked(rows)
	return out, total, err
}

// LinksOf are the links of some people, in the order of their keys.
func (p People) LinksOf(people ...int64) (out []Linked, err error) {
	for chunk := range slices.Chunk(people, atOnce) {
		var rows []LinkRow
		if err := p.db.Where("person IN ?", chunk).Order("key").Find(&rows).Error; err != nil {
			return nil, err
		}
		some, err := p.linked(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, some...)
	}
	return out, nil
}

// LinksBy are all links of a provider, in the order of their keys.
func (p People) LinksBy(provider federation.ID) ([]Linked, error) {
	var rows []LinkRow
	if err := p.db.Where("provider = ?", string(provider)).Order("key").Find(&rows).Error; err != nil {
		return nil, err
	}
	return p.linked(rows)
}

// LinkedTo are the providers that a person is linked to.
func (p People) LinkedTo(who int64) (out []federation.ID, err error) {
	err = p.db.Model(&LinkRow{}).Distinct("provider").Where("person = ?", who).Pluck("provider", &out).Error
	return out, err
}

// UsualFormat is the format in which a provider named somebody last; "" if nobody is linked to it.
func (p People) UsualFormat(provider federation.ID) (string, error) {
	var rows []LinkRow
	err := p.db.Where("provider = ? AND sealed IS NOT NULL",
		string(provider)).Order("added DESC").Limit(1).Find(&rows).Error
	if err != nil || len(rows) == 0 {
		return "", err
	}
	s, err := p.subject(rows[0])
	if err != nil {
		return "", err
	}
	return s.Format, nil
}

// There reports which of some numbers are somebody's.
func (p People) There(people ...int64) (map[int64]bool, error) {
	out := map[int64]bool{}
	for chunk := range slices.Chunk(people, atOnce) {
		var there []int64
		if err := p.db.Model(&PersonRow{}).Where("id IN ?", chunk).Pluck("id", &there).Error; err != nil {
			return nil, err
		}
		for _, id := range there {
			out[id] = true
		}
	}
	return out, nil
}

// Holdings is what somebody has, as far as joining two accounts rests on it.
type Holdings struct {
	person.Record
	Links    []string                 // keys
	Subjects map[federation.ID]string // hash of the lasting name, by application
	Sessions []SessionRow
}

// Holdings are those of somebody; nil if there is nobody of the number.
func (p People) Holdings(who int64) (*Holdings, error) {
	all, err := p.records([]int64{who}, []int64{who}, []int64{who})
	if err != nil || all[who].ID == 0 {
		return nil, err
	}
	out := &Holdings{Record: all[who], Subjects: map[federation.ID]string{}}
	var subjects []SubjectRow
	err = errors.Join(p.db.Model(&LinkRow{}).Where("person = ?", who).Order("key").Pluck("key", &out.Links).Error,
		p.db.Where("person = ?", who).Find(&subjects).Error,
		p.db.Where("person = ?", who).Order("hash").Find(&out.Sessions).Error)
	for _, s := range subjects {
		out.Subjects[federation.ID(s.App)] = string(s.Hash)
	}
	return out, err
}

// Grants counts what was given in the name of some people and still gives something.
func (p People) Grants(now time.Time, people ...int64) (n int64, err error) {
	for chunk := range slices.Chunk(people, atOnce) {
		var some int64
		err = errors.Join(err, p.db.Model(&GrantRow{}).Where("person IN ? AND ended = '' AND expires > ?", chunk,
			now.UTC()).Count(&some).Error)
		n += some
	}
	return n, err
}

// Withdraw ends what was given in the name of somebody.
func (p People) Withdraw(who int64, why string) error {
	return p.db.Model(&GrantRow{}).Where("person = ? AND ended = ''", who).Updates(map[string]any{
		"ended": why, "revision": gorm.Expr("revision + 1")}).Error
}

// Sessions are those of some people.
func (p People) Sessions(people ...int64) (out []SessionRow, err error) {
	for chunk := range slices.Chunk(people, atOnce) {
		var some []SessionRow
		if err := p.db.Where("person IN ?", chunk).Order("hash").Find(&some).Error; err != nil {
			return nil, err
		}
		out = append(out, some...)
	}
	return out, nil
}

// Consents counts to how many applications somebody agreed.
func (p People) Consents(who int64) (n int64, err error) {
	return n, p.db.Model(&ConsentRow{}).Where("person = ?", who).Count(&n).Error
}

// Unproved is what a provider brought of an attribute to people, and nothing proves.
func (p People) Unproved(provider federation.ID, attribute string) (count int64, first []int64, err error) {
	of := p.db.Model(&MatchRow{}).Where("source = ? AND attribute = ? AND proved = 0", string(provider),
		attribute).Session(&gorm.Session{})
	if err = of.Distinct("person").Count(&count).Error; err == nil && count > 0 {
		err = of.Distinct("person").Order("person").Limit(10).Pluck("person", &first).Error
	}
	return count, first, err
}

// Alike are others who have a value that looks like one of an attribute, as people are searched for.
func (p People) Alike(value, attribute string, but int64) (out []int64, err error) {
	err = p.db.Model(&TermRow{}).Where("term = ? AND attribute = ? AND person <> ?", profile.Fold(value),
		profile.Word(attribute), but).
		Order("person").Limit(person.MostCandidates).Pluck("person", &out).Error
	return out, err
}

// AdmittingNow are the applications that somebody is admitted to by name.
func (p People) AdmittingNow(now time.Time) (out []federation.ID, err error) {
	err = p.db.Model(&AdmissionRow{}).Where("until IS NULL OR until > ?", now.UTC()).Distinct("app").Pluck("app",
		&out).Error
	return out, err
}
