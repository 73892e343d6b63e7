// Package people keeps the accounts of people: the providers' names for them, and
// the names by which applications know them.
package people

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"sync"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/store"
)

// Room keeps people.
type Room struct {
	store   *store.Store
	now     func() time.Time
	records *records.Room
	usual   sync.Map // format that a provider names people in, by its ID
}

// New makes a room for people of the providers and applications of another.
func New(s *store.Store, now func() time.Time, r *records.Room) *Room {
	return &Room{store: s, now: now, records: r}
}

// Find finds the person with a link key, and by what an application knows
// them; ID 0 if there is none.
func (rm *Room) Find(ctx context.Context, key string, app federation.ID) (crossing.Person, error) {
	out := crossing.Person{Key: key}
	row := rm.store.Read.WithContext(ctx).Raw(`SELECT l.person, coalesce(length(l.sealed), 0) = 0, `+personColumns+`
		FROM link_rows l JOIN person_rows p ON p.id = l.person
		LEFT JOIN subject_rows s ON s.app = ? AND s.person = p.id WHERE l.key = ?`, string(app), store.Hash(key)).Row()
	var got personColumn
	err := row.Scan(append([]any{&out.ID, &out.Bare}, got.into()...)...)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return out, nil
	case err != nil:
		return crossing.Person{}, err
	}
	return out, rm.fill(&out, got)
}

// personColumns are what a person is read from, with p for the row and s for that of the
// subject.
const personColumns = `p.identifier, p.sealed, p.disabled IS NOT NULL, s.sealed,
	coalesce((SELECT group_concat(m.kind || ' ' || m.name || ' ' || m.source, char(10)) FROM member_rows m WHERE m.person = p.id), ''),
	coalesce((SELECT group_concat(a.app || ' ' || coalesce(strftime('%Y-%m-%dT%H:%M:%SZ', a.until), ''), char(10)) FROM admission_rows a
	WHERE a.person = p.id), '')`

type personColumn struct {
	identifier, members, admitted string
	values, subject               []byte
	disabled                      bool
}

func (c *personColumn) into() []any {
	return []any{&c.identifier, &c.values, &c.disabled, &c.subject, &c.members, &c.admitted}
}

// fill makes a person of what was read.
func (rm *Room) fill(out *crossing.Person, c personColumn) (err error) {
	out.Identifier, out.Disabled = c.identifier, c.disabled
	for line := range strings.SplitSeq(c.members, "\n") {
		if words := strings.SplitN(line, " ", 3); len(words) == 3 {
			out.Members = append(out.Members, crossing.Membership{Kind: federation.Kind(words[0]), Name: federation.Name(words[1]),
				Source: federation.ID(words[2])})
		}
	}
	slices.SortFunc(out.Members, func(a, b crossing.Membership) int {
		return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Name, b.Name), cmp.Compare(a.Source, b.Source))
	})
	for line := range strings.SplitSeq(c.admitted, "\n") {
		if app, until, is := strings.Cut(line, " "); is {
			a := crossing.Admitted{App: federation.ID(app)}
			if until != "" {
				if a.Until, err = time.Parse(time.RFC3339, until); err != nil {
					return err
				}
			}
			out.Admitted = append(out.Admitted, a)
		}
	}
	slices.SortFunc(out.Admitted, func(a, b crossing.Admitted) int { return cmp.Compare(a.App, b.App) })
	if len(c.subject) > 0 {
		subject, err := rm.store.Open("subject", c.subject)
		if err != nil {
			return err
		}
		out.Subject = string(subject)
	}
	out.Values, err = rm.Values(c.values)
	return err
}

// Having finds those who have a value that is proved, at most crossing.MostCandidates, with the providers
// that they are linked to.
func (rm *Room) Having(ctx context.Context, s crossing.Sought, app federation.ID) ([]crossing.Person, error) {
	rows, err := rm.store.Read.WithContext(ctx).Raw(`SELECT t.person,
		coalesce((SELECT group_concat(l.provider, char(10)) FROM link_rows l WHERE l.person = t.person), ''), `+personColumns+`
		FROM match_rows t JOIN person_rows p ON p.id = t.person
		LEFT JOIN subject_rows s ON s.app = ? AND s.person = p.id
		WHERE t.attribute = ? AND t.value = ? AND t.proved ORDER BY t.person LIMIT ?`, string(app), s.Attribute, matchValue(s.Value),
		crossing.MostCandidates).Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := []crossing.Person{}
	for rows.Next() {
		var one crossing.Person
		var got personColumn
		var links string
		if err := rows.Scan(append([]any{&one.ID, &links}, got.into()...)...); err != nil {
			return nil, err
		}
		if err := rm.fill(&one, got); err != nil {
			return nil, err
		}
		one.Links = linksOf(links)
		out = append(out, one)
	}
	return out, rows.Err()
}

// ByKeys finds whose links have these keys.
func (rm *Room) ByKeys(ctx context.Context, keys []string) (map[string]int64, error) {
	out := map[string]int64{}
	for chunk := range slices.Chunk(keys, atOnce) {
		hashes, of := make([][]byte, len(chunk)), map[string]string{}
		for i, k := range chunk {
			hashes[i] = store.Hash(k)
			of[string(hashes[i])] = k
		}
		var rows []store.LinkRow
		if err := rm.store.Read.WithContext(ctx).Select("key, person").Where("key IN ?", hashes).Find(&rows).Error; err != nil {
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
	crossing.Person
	Subject profile.Subject
}

// Many finds people by their numbers, with the providers that they are linked to, and by what an application knows
// them. Of their names that of one provider goes before others.
func (rm *Room) Many(ctx context.Context, ids []int64, app, first federation.ID) ([]Candidate, error) {
	return rm.candidates(ctx, app, first, "p.id IN ?", "", ids)
}

// Count is how many people are known.
func (rm *Room) Count(ctx context.Context) (n int64, err error) {
	return n, rm.store.Read.WithContext(ctx).Model(&store.PersonRow{}).Count(&n).Error
}

// After finds the next people by number, at most so many.
func (rm *Room) After(ctx context.Context, person int64, most int) ([]Candidate, error) {
	return rm.candidates(ctx, "", "", "p.id > ?", " LIMIT ?", person, most)
}

func (rm *Room) candidates(ctx context.Context, app, first federation.ID, which, limit string, args ...any) ([]Candidate, error) {
	rows, err := rm.store.Read.WithContext(ctx).Raw(`SELECT p.id, (SELECT l.sealed FROM link_rows l WHERE l.person = p.id
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
		if err := rm.fill(&one.Person, got); err != nil {
			return nil, err
		}
		one.Links = linksOf(links)
		s, err := rm.subject(store.LinkRow{Sealed: sealed})
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

// Make makes an account with a link. identifier is random.
func (rm *Room) Make(tx *gorm.DB, identifier string, l crossing.Link) (int64, error) {
	row := store.PersonRow{Identifier: identifier, Added: rm.now().UTC()}
	if err := tx.Create(&row).Error; err != nil {
		return 0, err
	}
	return row.ID, rm.PutLink(tx, l, row.ID)
}

// Link links somebody who was found by a value: false if that is not as it was decided on.
func (rm *Room) Link(tx *gorm.DB, e crossing.PutLink) (bool, error) {
	var there, linked int64
	err := errors.Join(
		tx.Raw(`SELECT count(*) FROM person_rows p WHERE p.id = ? AND EXISTS (SELECT 1 FROM match_rows t WHERE t.attribute = ?
			AND t.value = ? AND t.person = p.id AND t.proved)`, e.Person, e.By.Attribute, matchValue(e.By.Value)).Row().Scan(&there),
		tx.Model(&store.LinkRow{}).Where("person = ? AND provider = ?", e.Person, string(e.Provider)).Count(&linked).Error)
	if err != nil || there != 1 || linked != 0 {
		return false, err
	}
	err = rm.PutLink(tx, e.Link, e.Person)
	if store.IsTaken(err) {
		return false, nil
	}
	return err == nil, err
}

// PutLink links somebody.
func (rm *Room) PutLink(tx *gorm.DB, l crossing.Link, person int64) error {
	row, err := rm.linkRow(l, person)
	if err != nil {
		return err
	}
	return rm.createLinks(tx, []*store.LinkRow{row})
}

// Held reports whether somebody has one of several values by now, proved.
func (rm *Room) Held(tx *gorm.DB, unless []crossing.Sought) (bool, error) {
	for _, u := range unless {
		var n int64
		err := tx.Model(&store.MatchRow{}).Where("attribute = ? AND value = ? AND proved", u.Attribute,
			matchValue(u.Value)).
			Limit(1).Count(&n).Error
		if err != nil || n > 0 {
			return n > 0, err
		}
	}
	return false, nil
}

// PutMembers keeps where somebody belongs by a provider.
func (rm *Room) PutMembers(tx *gorm.DB, person int64, put crossing.PutMembers) error {
	names := make([]string, len(put.Groups))
	all := slices.Clone(put.Landed)
	for i, g := range put.Groups {
		names[i] = string(g)
		all = append(all, crossing.Membership{Kind: federation.KindGroup, Name: g, Source: put.From})
	}
	if put.Follow {
		err := tx.Where("person = ? AND kind = ? AND source = ? AND name NOT IN ?", person, string(federation.KindGroup),
			string(put.From), append(names, "")).Delete(&store.MemberRow{}).Error
		if err != nil {
			return err
		}
	}
	return rm.Join(tx, person, all...)
}

// Join has somebody belong to groups and organisations, as far as these are there.
func (rm *Room) Join(tx *gorm.DB, person int64, all ...crossing.Membership) error {
	rows := make([]store.MemberRow, len(all))
	for i, m := range all {
		rows[i] = store.MemberRow{Person: person, Kind: string(m.Kind), Name: string(m.Name), Source: string(m.Source), Added: rm.now().UTC()}
	}
	return rm.PutMemberRows(tx, rows)
}

// Values opens what is kept with a person.
func (rm *Room) Values(sealed []byte) (out []crossing.KeptValue, err error) {
	if len(sealed) == 0 {
		return nil, nil
	}
	plain, err := rm.store.Open("values", sealed)
	if err == nil {
		err = json.Unmarshal(plain, &out)
	}
	return out, err
}

// PutValues keeps values with a person, over those that are there by then.
func (rm *Room) PutValues(tx *gorm.DB, person int64, put crossing.PutValues) error {
	var row store.PersonRow
	if err := tx.Where("id = ?", person).Take(&row).Error; err != nil {
		return err
	}
	stored, err := rm.Values(row.Sealed)
	if err != nil {
		return err
	}
	values, _ := put.Over(stored, rm.now())
	return rm.Keep(tx, person, values)
}

// Keep keeps exactly these values with a person, who is looked for by them.
func (rm *Room) Keep(tx *gorm.DB, person int64, values []crossing.KeptValue) error {
	sealed, err := rm.Sealed(values)
	if err == nil {
		err = tx.Model(&store.PersonRow{}).Where("id = ?", person).Update("sealed", sealed).Error
	}
	if err != nil {
		return err
	}
	return Lookup(tx, false, Looked{person, values})
}

// Sealed is how values are stored.
func (rm *Room) Sealed(values []crossing.KeptValue) ([]byte, error) {
	if len(values) == 0 {
		return nil, nil
	}
	plain, err := json.Marshal(values)
	if err != nil {
		return nil, err
	}
	return rm.store.Seal("values", plain), nil
}

// PutMemberRows stores memberships of many, as far as their groups and organisations are
// there.
func (rm *Room) PutMemberRows(tx *gorm.DB, rows []store.MemberRow) error {
	for chunk := range slices.Chunk(rows, 200) {
		args := make([]any, 0, 5*len(chunk))
		for _, m := range chunk {
			args = append(args, m.Person, m.Kind, m.Name, m.Source, m.Added)
		}
		marks := strings.TrimSuffix(strings.Repeat("(?,?,?,?,?),", len(chunk)), ",")
		err := tx.Exec(`INSERT OR IGNORE INTO member_rows (person, kind, name, source, added) SELECT v.column1, v.column2, v.column3,
			v.column4, v.column5 FROM (VALUES `+marks+`) v JOIN object_rows u ON u.kind = v.column2 AND u.name = v.column3`, args...).Error
		if err != nil {
			return err
		}
	}
	return nil
}
