package store

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
)

// Tx is a transaction, for what is kept in repositories.
type Tx struct {
	*Sealer
	db *gorm.DB
}

// In is the transaction of a write, for repositories.
func (s *Store) In(tx *gorm.DB) Tx { return Tx{s.Sealer, tx} }

// Rows gives the transaction to rooms that keep rows by themselves.
func (t Tx) Rows() *gorm.DB { return t.db }

// Change does something in one transaction, by what repositories write. It may be run again.
func (s *Store) Change(ctx context.Context, do func(Tx) error) error {
	return s.Write(ctx, func(tx *gorm.DB) error { return do(s.In(tx)) })
}

// People are those whom the gate knows, with what is kept of them and how they are found.
type People struct {
	*Sealer
	db *gorm.DB
}

// People reads about people.
func (s *Store) People(ctx context.Context) People { return People{s.Sealer, s.Read.WithContext(ctx)} }

// People reads and writes people.
func (t Tx) People() People { return People{t.Sealer, t.db} }

// atOnce is how many people are looked up by one statement.
const atOnce = 500

// Find finds the person with a link key, and by what an application knows
// them; ID 0 if there is none.
func (p People) Find(key string, app federation.ID) (person.Person, error) {
	out := person.Person{Key: key}
	row := asks(p.db, `SELECT l.person, coalesce(length(l.sealed), 0) = 0, `+personColumns+`
		FROM link_rows l JOIN person_rows p ON p.id = l.person
		LEFT JOIN subject_rows s ON s.app = `+asText+` AND s.person = p.id WHERE l.key = `+asOctets, string(app), Hash(key))
	var got personColumn
	err := row.Scan(append([]any{&out.ID, &out.Bare}, got.into()...)...)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return out, nil
	case err != nil:
		return person.Person{}, err
	}
	return out, p.fill(&out, got)
}

// personColumns are what a person is read from, with p for the row and s for that of the
// subject.
const personColumns = `p.identifier, p.revision, p.sealed, p.disabled IS NOT NULL, s.sealed,
	coalesce((SELECT group_concat(m.kind || ' ' || m.name || ' ' || m.source, char(10)) FROM member_rows m WHERE m.person = p.id), ''),
	coalesce((SELECT group_concat(a.app || ' ' || coalesce(strftime('%Y-%m-%dT%H:%M:%SZ', a.until), ''), char(10)) FROM admission_rows a
	WHERE a.person = p.id), '')`

type personColumn struct {
	identifier, members, admitted string
	revision                      int64
	values, subject               []byte
	disabled                      bool
}

func (c *personColumn) into() []any {
	return []any{&c.identifier, &c.revision, &c.values, &c.disabled, &c.subject, &c.members, &c.admitted}
}

// fill makes a person of what was read.
func (p People) fill(out *person.Person, c personColumn) (err error) {
	out.Identifier, out.Revision, out.Disabled = c.identifier, c.revision, c.disabled
	for line := range strings.SplitSeq(c.members, "\n") {
		if words := strings.SplitN(line, " ", 3); len(words) == 3 {
			out.Members = append(out.Members, person.Membership{Kind: federation.Kind(words[0]),
				Name:   federation.Name(words[1]),
				Source: federation.ID(words[2])})
		}
	}
	slices.SortFunc(out.Members, func(a, b person.Membership) int {
		return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Name, b.Name), cmp.Compare(a.Source, b.Source))
	})
	for line := range strings.SplitSeq(c.admitted, "\n") {
		if app, until, is := strings.Cut(line, " "); is {
			a := person.Admitted{App: federation.ID(app)}
			if until != "" {
				if a.Until, err = time.Parse(time.RFC3339, until); err != nil {
					return err
				}
			}
			out.Admitted = append(out.Admitted, a)
		}
	}
	slices.SortFunc(out.Admitted, func(a, b person.Admitted) int { return cmp.Compare(a.App, b.App) })
	if len(c.subject) > 0 {
		subject, err := p.Open("subject", c.subject)
		if err != nil {
			return err
		}
		out.Subject = string(subject)
	}
	out.Values, err = p.opened(c.values)
	return err
}

// Having finds those who have a value that is proved, at most crossing.MostCandidates, with the providers
// that they are linked to.
func (p People) Having(s person.Sought, app federation.ID) ([]person.Person, error) {
	rows, err := p.db.Raw(`SELECT t.person,
		coalesce((SELECT group_concat(l.provider, char(10)) FROM link_rows l WHERE l.person = t.person), ''), `+
		personColumns+`
		FROM match_rows t JOIN person_rows p ON p.id = t.person
		LEFT JOIN subject_rows s ON s.app = ? AND s.person = p.id
		WHERE t.attribute = ? AND t.value = ? AND t.proved ORDER BY t.person LIMIT ?`, string(app), s.Attribute,
		matchValue(s.Value),
		person.MostCandidates).Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := []person.Person{}
	for rows.Next() {
		var one person.Person
		var got personColumn
		var links string
		if err := rows.Scan(append([]any{&one.ID, &links}, got.into()...)...); err != nil {
			return nil, err
		}
		if err := p.fill(&one, got); err != nil {
			return nil, err
		}
		one.Links = linksOf(links)
		out = append(out, one)
	}
	return out, rows.Err()
}

// ByKeys finds whose links have these keys.
func (p People) ByKeys(keys []string) (map[string]int64, error) {
	out := map[string]int64{}
	for chunk := range slices.Chunk(keys, atOnce) {
		hashes, of := make([][]byte, len(chunk)), map[string]string{}
		for i, k := range chunk {
			hashes[i] = Hash(k)
			of[string(hashes[i])] = k
		}
		var rows []LinkRow
		if err := p.db.Select("key, person").Where("key IN ?", hashes).Find(&rows).Error; err != nil {
			return nil, err
		}
		for _, r := range rows {
			out[of[string(r.Key)]] = r.Person
		}
	}
	return out, nil
}

// Candidate is somebody, and one of the names that providers have for them.
type Candidate struct {
	person.Person
	Subject profile.Subject
}

// Many finds people by their numbers, with the providers that they are linked to, and by what an application knows
// them. Of their names that of one provider goes before others.
func (p People) Many(ids []int64, app, first federation.ID) ([]Candidate, error) {
	return p.candidates(app, first, "p.id IN ?", "", ids)
}

// Count is how many people are known.
func (p People) Count() (n int64, err error) {
	return n, p.db.Model(&PersonRow{}).Count(&n).Error
}

// After finds the next people by number, at most so many.
func (p People) After(person int64, most int) ([]Candidate, error) {
	return p.candidates("", "", "p.id > ?", " LIMIT ?", person, most)
}

func (p People) candidates(app, first federation.ID, which, limit string, args ...any) ([]Candidate, error) {
	rows, err := p.db.Raw(`SELECT p.id, (SELECT l.sealed FROM link_rows l WHERE l.person = p.id
		AND l.sealed IS NOT NULL ORDER BY l.provider = ? DESC, l.added LIMIT 1),
		coalesce((SELECT group_concat(l.provider, char(10)) FROM link_rows l WHERE l.person = p.id), ''), `+personColumns+`
		FROM person_rows p LEFT JOIN subject_rows s ON s.app = ? AND s.person = p.id WHERE `+which+` ORDER BY p.id`+limit,
		append([]any{string(first), string(app)}, args...)...).Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Candidate
	for rows.Next() {
		var one Candidate
		var got personColumn
		var sealed []byte
		var links string
		if err := rows.Scan(append([]any{&one.ID, &sealed, &links}, got.into()...)...); err != nil {
			return nil, err
		}
		if err := p.fill(&one.Person, got); err != nil {
			return nil, err
		}
		one.Links = linksOf(links)
		s, err := p.subject(LinkRow{Sealed: sealed})
		if err != nil {
			return nil, err
		}
		if s != nil {
			one.Subject = *s
		}
		out = append(out, one)
	}
	return out, rows.Err()
}

// linksOf are the providers of links, each once.
func linksOf(lines string) (out []federation.ID) {
	for p := range strings.SplitSeq(lines, "\n") {
		if p != "" && !slices.Contains(out, federation.ID(p)) {
			out = append(out, federation.ID(p))
		}
	}
	return out
}

// opened is what is kept with a person.
func (p People) opened(sealed []byte) (out []person.KeptValue, err error) {
	if len(sealed) == 0 {
		return nil, nil
	}
	plain, err := p.Open("values", sealed)
	if err == nil {
		err = json.Unmarshal(plain, &out)
	}
	return out, err
}

// sealed is how values are stored.
func (p People) sealed(values []person.KeptValue) ([]byte, error) {
	if len(values) == 0 {
		return nil, nil
	}
	plain, err := json.Marshal(values)
	if err != nil {
		return nil, err
	}
	return p.Seal("values", plain), nil
}

// KeptAttributes are the names of all that is kept with anybody. It goes from one name to the
// next by the index, however many people there are.
func (p People) KeptAttributes() (out []string, err error) {
	err = p.db.Raw(`WITH RECURSIVE each(name) AS (SELECT min(attribute) FROM match_rows UNION ALL
		SELECT (SELECT min(attribute) FROM match_rows WHERE attribute > each.name) FROM each WHERE each.name IS NOT NULL)
		SELECT name FROM each WHERE name IS NOT NULL`).Scan(&out).Error
	return out, err
}

// Names are what people read of accounts: what is kept of their names, else what a provider
// calls them.
func (p People) Names(ids []int64) (map[int64]string, error) {
	out := map[int64]string{}
	if len(ids) == 0 {
		return out, nil
	}
	all, err := p.Many(ids, "", "")
	for _, p := range all {
		out[p.ID] = person.NameOf(p.Person, p.Subject.Value)
	}
	return out, err
}
