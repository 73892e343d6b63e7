package store

import (
	"cmp"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm/clause"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
)

// Applied is what became of a change.
type Applied struct {
	Person   int64 // that was changed or made
	Revision int64
	Did      person.Did
}

// Apply stores changes of people, one after another as they stand, each with its event: the one place where people are
// written. All of them are stored or none; a *person.LostError or *person.RefusedError names the one that cannot be.
func (p People) Apply(snap *federation.Snapshot, now time.Time, changes []person.Change) ([]Applied, error) {
	w := &peopleWrite{People: p, snap: snap, now: now, changes: changes, laid: make([]person.Laid, len(changes)),
		ids: make([]int64, len(changes)), revisions: make([]int64, len(changes))}
	for _, do := range []func() error{w.held, w.lay, w.knows, w.rows, w.links, w.members, w.admissions, w.subjects,
		w.takings, w.removals,
		w.events} {
		if err := do(); err != nil {
			return nil, err
		}
	}
	out := make([]Applied, len(changes))
	for i := range changes {
		out[i] = Applied{Person: w.ids[i], Revision: w.revisions[i], Did: w.laid[i].Did}
	}
	return out, nil
}

// peopleWrite is one call of Apply.
type peopleWrite struct {
	People
	snap      *federation.Snapshot
	now       time.Time
	changes   []person.Change
	laid      []person.Laid
	ids       []int64
	revisions []int64
	providers map[string]string  // names by ID
	known     [][]person.Subject // that are other than those on record
}

// held sees that values have nobody, or still those, of whom that was decided on.
func (w *peopleWrite) held() error {
	first := map[string]map[string]int{} // attribute, value as it is compared, change
	for i := range w.changes {
		c := &w.changes[i]
		for _, u := range c.Unless {
			if first[u.Attribute] == nil {
				first[u.Attribute] = map[string]int{}
			}
			if _, known := first[u.Attribute][u.Value]; !known {
				first[u.Attribute][u.Value] = i
			}
		}
		if err := w.has(i, c); err != nil {
			return err
		}
	}
	for attribute, values := range first {
		keys := make([]string, 0, len(values))
		for v := range values {
			keys = append(keys, v)
		}
		found, err := w.Matching(attribute, keys)
		if err != nil {
			return err
		}
		var lost *person.LostError
		for v, who := range found {
			if at := values[v]; lost == nil || at < lost.At {
				lost = &person.LostError{At: at, Guard: person.GuardValue, Whose: who[0]}
			}
		}
		if lost != nil {
			return lost
		}
	}
	return nil
}

func (w *peopleWrite) has(i int, c *person.Change) error {
	if c.Has == nil {
		return nil
	}
	var there, linked int64
	err := w.db.Raw(`SELECT count(*) FROM match_rows WHERE attribute = ? AND value = ? AND person = ? AND proved`,
		c.Has.Attribute,
		matchValue(c.Has.Value), c.Person).Row().Scan(&there)
	for _, l := range c.Link {
		var n int64
		err = errors.Join(err, w.db.Model(&LinkRow{}).Where("person = ? AND provider = ?", c.Person,
			string(l.Provider)).Count(&n).Error)
		linked += n
	}
	if err == nil && (there == 0 || linked > 0) {
		return &person.LostError{At: i, Guard: person.GuardValue}
	}
	return err
}

// lay lays each change over how people are by then.
func (w *peopleWrite) lay() error {
	var all, members, admitted []int64
	units := map[federation.Ref]bool{}
	for i := range w.changes {
		c := &w.changes[i]
		if c.Person != 0 {
			all = append(all, c.Person)
			if len(c.Join)+len(c.Leave) > 0 || c.Follow != nil {
				members = append(members, c.Person)
			}
			if len(c.Admit)+len(c.Unadmit) > 0 {
				admitted = append(admitted, c.Person)
			}
		}
		for _, m := range c.Join {
			units[m.Unit()] = false
		}
		if c.Follow != nil {
			for _, g := range c.Follow.Groups {
				units[federation.Ref{Kind: federation.KindGroup, Name: g}] = false
			}
		}
	}
	now, err := w.records(all, members, admitted)
	if err = errors.Join(err, w.unitsThere(units)); err != nil {
		return err
	}
	ground := person.Ground{Snap: w.snap, Now: w.now, There: func(r federation.Ref) bool { return units[r] }}
	for i := range w.changes {
		c := &w.changes[i]
		laid, err := c.Lay(ground, now[c.Person])
		if err != nil {
			return placed(err, i)
		}
		for _, l := range c.Link {
			laid.Did.Linked = append(laid.Did.Linked, w.providerName(string(l.Provider)))
		}
		if w.laid[i], w.ids[i] = laid, c.Person; c.Person != 0 {
			now[c.Person] = laid.Record
		}
	}
	return nil
}

// placed says which change an error is of.
func placed(err error, at int) error {
	var lost *person.LostError
	var refused *person.RefusedError
	switch {
	case errors.As(err, &lost):
		lost.At = at
	case errors.As(err, &refused):
		refused.At = at
	}
	return err
}

// providerName is the short name of a provider, the ID of one that was removed.
func (w *peopleWrite) providerName(id string) string {
	if w.providers == nil {
		w.providers = map[string]string{}
		for _, p := range w.snap.Providers() {
			w.providers[string(p.ID)] = string(p.Name)
		}
	}
	return cmp.Or(w.providers[id], id)
}

// records are people as changes find them.
func (p People) records(all, members, admitted []int64) (map[int64]person.Record, error) {
	out := map[int64]person.Record{}
	for chunk := range slices.Chunk(all, atOnce) {
		var rows []PersonRow
		if err := p.db.Where("id IN ?", chunk).Find(&rows).Error; err != nil {
			return nil, err
		}
		for _, r := range rows {
			one := person.Record{ID: r.ID, Revision: r.Revision}
			if r.Disabled != nil {
				one.Disabled = *r.Disabled
			}
			var err error
			if one.Values, err = p.opened(r.Sealed); err != nil {
				return nil, err
			}
			out[r.ID] = one
		}
	}
	for chunk := range slices.Chunk(members, atOnce) {
		var rows []MemberRow
		if err := p.db.Where("person IN ?", chunk).Order("person, kind, name, source").Find(&rows).Error; err != nil {
			return nil, err
		}
		for _, r := range rows {
			one := out[r.Person]
			one.Members = append(one.Members, r.membership())
			out[r.Person] = one
		}
	}
	for chunk := range slices.Chunk(admitted, atOnce) {
		var rows []AdmissionRow
		if err := p.db.Where("person IN ?", chunk).Order("person, app").Find(&rows).Error; err != nil {
			return nil, err
		}
		for _, r := range rows {
			one := out[r.Person]
			one.Admitted = append(one.Admitted, r.admission())
			out[r.Person] = one
		}
	}
	return out, nil
}

func (r *MemberRow) membership() person.Membership {
	return person.Membership{Kind: federation.Kind(r.Kind), Name: federation.Name(r.Name),
		Source: federation.ID(r.Source)}
}

func (r *AdmissionRow) admission() person.Admission {
	out := person.Admission{Admitted: person.Admitted{App: federation.ID(r.App)}, Source: federation.ID(r.Source),
		Author: r.Author}
	if r.Until != nil {
		out.Until = *r.Until
	}
	return out
}

// unitsThere finds out which groups and organisations there are by now.
func (w *peopleWrite) unitsThere(units map[federation.Ref]bool) error {
	names := map[federation.Kind][]string{}
	for r := range units {
		names[r.Kind] = append(names[r.Kind], string(r.Name))
	}
	for kind, some := range names {
		for chunk := range slices.Chunk(some, atOnce) {
			var there []string
			err := w.db.Model(&ObjectRow{}).Where("kind = ? AND name IN ?", string(kind), chunk).Pluck("name", &there).Error
			if err != nil {
				return err
			}
			for _, n := range there {
				units[federation.Ref{Kind: kind, Name: federation.Name(n)}] = true
			}
		}
	}
	return nil
}

// rows stores how people are: new ones, and those of whom anything is other.
func (w *peopleWrite) rows() error {
	var made []PersonRow
	var places []int
	var anew, again []Looked
	last := map[int64]int64{} // revisions of those who are changed more than once
	for i := range w.changes {
		c, laid := &w.changes[i], &w.laid[i]
		if c.Person != 0 && (laid.Did.Nothing() || c.State == person.Removed) {
			w.revisions[i] = laid.Revision
			continue
		}
		row := PersonRow{ID: c.Person, Revision: max(laid.Revision, last[c.Person]) + 1, Disabled: moment(laid.Disabled)}
		if w.revisions[i] = row.Revision; c.Person != 0 {
			last[c.Person] = row.Revision
		}
		var err error
		if row.Sealed, err = w.sealed(laid.Values); err != nil {
			return err
		}
		if c.Person == 0 {
			row.Identifier, row.Added = c.Identifier, w.now.UTC()
			made, places = append(made, row), append(places, i)
			continue
		}
		err = w.db.Exec("UPDATE person_rows SET revision = ?, disabled = ?, sealed = ? WHERE id = ?", row.Revision,
			row.Disabled, row.Sealed,
			row.ID).Error
		if err != nil {
			return err
		}
		if laid.Keeps {
			again = append(again, Looked{row.ID, laid.Values})
		}
	}
	if len(made) > 0 {
		if err := w.db.CreateInBatches(&made, 200).Error; err != nil {
			return err
		}
	}
	for k, i := range places {
		if w.ids[i] = made[k].ID; len(w.laid[i].Values) > 0 {
			anew = append(anew, Looked{made[k].ID, w.laid[i].Values})
		}
	}
	return errors.Join(lookUp(w.db, true, anew...), lookUp(w.db, false, again...))
}

func moment(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	t = t.UTC()
	return &t
}

// links stores links that are new, and names those that lack it.
func (w *peopleWrite) links() error {
	var rows []*LinkRow
	at := map[string]int{}
	for i := range w.changes {
		for _, l := range w.changes[i].Link {
			row, err := w.linkRow(l, w.ids[i], w.now)
			if err != nil {
				return err
			}
			if first, twice := at[string(row.Key)]; twice {
				return &person.LostError{At: i, Guard: person.GuardLink, Whose: w.ids[first]}
			}
			at[string(row.Key)], rows = i, append(rows, row)
		}
	}
	for chunk := range slices.Chunk(rows, atOnce) {
		keys := make([][]byte, len(chunk))
		for i, r := range chunk {
			keys[i] = r.Key
		}
		var taken []LinkRow
		if err := w.db.Select("key, person").Where("key IN ?", keys).Find(&taken).Error; err != nil {
			return err
		}
		var lost *person.LostError
		for _, t := range taken {
			if i := at[string(t.Key)]; lost == nil || i < lost.At {
				lost = &person.LostError{At: i, Guard: person.GuardLink, Whose: t.Person}
			}
		}
		if lost != nil {
			return lost
		}
	}
	if len(rows) > 0 {
		if err := w.createLinks(rows); err != nil {
			return err
		}
	}
	return w.names()
}

func (w *peopleWrite) names() error {
	for i := range w.changes {
		l := w.changes[i].Name
		if l == nil {
			continue
		}
		row, err := w.linkRow(*l, 0, w.now)
		if err != nil {
			return err
		}
		var now LinkRow
		if err := w.db.Where("key = ?", row.Key).Limit(1).Find(&now).Error; err != nil {
			return err
		}
		switch {
		case now.Person == 0:
			return &person.LostError{At: i, Guard: person.GuardLink}
		case now.Sealed != nil:
			continue
		}
		err = errors.Join(w.db.Model(&LinkRow{}).Where("key = ?", row.Key).Update("sealed", row.Sealed).Error,
			putTerms(w.db, subjectTerms(now.Person, l.Subject)))
		if err != nil {
			return err
		}
	}
	return nil
}

// members stores where people belong from now on.
func (w *peopleWrite) members() error {
	var rows []MemberRow
	for i := range w.laid {
		for _, m := range w.laid[i].Joins {
			rows = append(rows, MemberRow{Person: w.ids[i], Kind: string(m.Kind), Name: string(m.Name),
				Source: string(m.Source),
				Added:  w.now.UTC()})
		}
		for _, m := range w.laid[i].Leaves {
			err := w.db.Where("person = ? AND kind = ? AND name = ? AND source = ?", w.ids[i], string(m.Kind), string(m.Name),
				string(m.Source)).Delete(&MemberRow{}).Error
			if err != nil {
				return err
			}
		}
	}
	for chunk := range slices.Chunk(rows, 200) {
		args := make([]any, 0, 5*len(chunk))
		for _, m := range chunk {
			args = append(args, m.Person, m.Kind, m.Name, m.Source, m.Added)
		}
		marks := strings.TrimSuffix(strings.Repeat("(?,?,?,?,?),", len(chunk)), ",")
		if err := w.db.Exec("INSERT OR IGNORE INTO member_rows (person, kind, name, source, added) VALUES "+marks,
			args...).Error; err != nil {
			return err
		}
	}
	return nil
}

// admissions stores who is admitted by name, and is so no more.
func (w *peopleWrite) admissions() error {
	var rows []AdmissionRow
	for i := range w.laid {
		for _, a := range w.laid[i].Admits {
			rows = append(rows, AdmissionRow{Person: w.ids[i], App: string(a.App), Source: string(a.Source), Author: a.Author,
				Added: w.now.UTC(), Until: moment(a.Until)})
		}
		for _, app := range w.laid[i].Unadmit {
			if err := w.db.Where("person = ? AND app = ?", w.ids[i], string(app)).Delete(&AdmissionRow{}).Error; err != nil {
				return err
			}
		}
	}
	for chunk := range slices.Chunk(rows, 200) {
		if err := w.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&chunk).Error; err != nil {
			return err
		}
	}
	return nil
}

// takings moves what one account takes over of another.
func (w *peopleWrite) takings() error {
	for i := range w.changes {
		t := w.changes[i].Take
		if t == nil {
			continue
		}
		var err error
		if t.Link != "" {
			err = w.db.Model(&LinkRow{}).Where("key = ? AND person = ?", []byte(t.Link), t.From).Update("person",
				w.ids[i]).Error
		} else {
			err = w.takeAll(t.From, w.ids[i])
		}
		if err = errors.Join(err, w.subjectTerms(t.From), w.subjectTerms(w.ids[i])); err != nil {
			return err
		}
	}
	return nil
}

func (p People) takeAll(from, to int64) error {
	err := p.db.Exec("UPDATE link_rows SET person = ? WHERE person = ?", to, from).Error
	if err == nil { // of two admissions the longer one stays
		err = p.db.Exec(`DELETE FROM admission_rows WHERE person = ? AND EXISTS (SELECT 1 FROM admission_rows o WHERE o.person = ?
			AND o.app = admission_rows.app AND admission_rows.until IS NOT NULL AND (o.until IS NULL OR o.until > admission_rows.until))`,
			to, from).Error
	}
	for _, of := range []string{"member_rows", "admission_rows", "use_rows", "subject_rows", "consent_rows"} {
		if err == nil {
			err = p.db.Exec("UPDATE OR IGNORE "+of+" SET person = ? WHERE person = ?", to, from).Error
		}
	}
	return err
}

// removals takes people out with all that is theirs.
func (w *peopleWrite) removals() error {
	for i := range w.changes {
		if w.changes[i].State != person.Removed {
			continue
		}
		for _, theirs := range []any{&LinkRow{}, &SubjectRow{}, &ConsentRow{}, &GrantRow{}, &TermRow{}, &MatchRow{},
			&MemberRow{},
			&AdmissionRow{}, &RequestRow{}, &UseRow{}, &MadeRow{}} {
			if err := w.db.Where("person = ?", w.ids[i]).Delete(theirs).Error; err != nil {
				return err
			}
		}
		// What was done to them before says nothing more of them, and keeps its place.
		err := errors.Join(w.db.Model(&PersonEventRow{}).Where("person = ?", w.ids[i]).Update("did", []byte("{}")).Error,
			w.db.Where("id = ?", w.ids[i]).Delete(&PersonRow{}).Error)
		if err != nil {
			return err
		}
	}
	return nil
}

// events tells what was done: by whom, and of what, never what it is.
func (w *peopleWrite) events() error {
	var rows []PersonEventRow
	for i := range w.changes {
		c, did := &w.changes[i], &w.laid[i].Did
		if did.Nothing() {
			continue
		}
		octets, err := json.Marshal(did.Bounded())
		if err != nil {
			return err
		}
		rows = append(rows, PersonEventRow{At: w.now.UTC(), Person: w.ids[i], Via: string(c.Via), Who: c.Who, Did: octets})
	}
	if len(rows) == 0 {
		return nil
	}
	return w.db.CreateInBatches(&rows, 150).Error
}

// EnsureIndexed has somebody of an earlier build looked for as this one does, by what is kept with them.
func (p People) EnsureIndexed(who int64, values []person.KeptValue) error {
	sealed, err := p.sealed(values)
	if err == nil {
		err = p.db.Model(&PersonRow{}).Where("id = ?", who).Update("sealed", sealed).Error
	}
	if err == nil {
		err = lookUp(p.db, false, Looked{who, values})
	}
	if err == nil {
		err = p.subjectTerms(who)
	}
	if err == nil {
		err = p.nameSubjects(who)
	}
	return err
}

// createLinks stores links, and has their people looked for by the names in them.
func (p People) createLinks(rows []*LinkRow) error {
	if err := p.db.CreateInBatches(rows, 200).Error; err != nil {
		return err
	}
	var terms []TermRow
	for _, row := range rows {
		s, err := p.subject(*row)
		if err != nil {
			return err
		}
		if s != nil {
			terms = append(terms, subjectTerms(row.Person, *s)...)
		}
	}
	return putTerms(p.db, terms)
}

// subjectTerms has somebody looked for by the links that they have now.
func (p People) subjectTerms(who int64) error {
	err := p.db.Exec("DELETE FROM term_rows WHERE person = ? AND attribute IN (?, ?)", who, TermSubject,
		TermSubjectPart).Error
	var rows []LinkRow
	if err == nil {
		err = p.db.Where("person = ?", who).Find(&rows).Error
	}
	var terms []TermRow
	for _, row := range rows {
		if err != nil {
			return err
		}
		var s *profile.Subject
		if s, err = p.subject(row); s != nil {
			terms = append(terms, subjectTerms(who, *s)...)
		}
	}
	if err != nil {
		return err
	}
	return putTerms(p.db, terms)
}
