package store

import (
	"errors"
	"slices"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/person"
)

// Subject is the lasting name by which an application knows a person.
type Subject struct {
	Person int64
	Value  string
	Source string // person.SubjectDerived, person.SubjectImported
	Added  time.Time
}

// knows finds out which lasting names are other than those on record.
func (w *peopleWrite) knows() error {
	for i := range w.changes {
		c := &w.changes[i]
		var other []person.Subject
		for _, s := range c.Known {
			have, err := "", error(nil)
			if c.Person != 0 {
				have, err = w.subjectOf(s.App, c.Person)
			}
			switch {
			case err != nil:
				return err
			case have == s.Value:
				continue
			case have != "" && !c.Replace:
				return &person.LostError{At: i, Guard: person.GuardSubject}
			}
			other = append(other, s)
			w.laid[i].Did.Known = append(w.laid[i].Did.Known, person.AppName(w.snap, s.App))
		}
		w.known = append(w.known, other)
	}
	return nil
}

// subjects stores by what applications know people. Where one is put in place of another, all that go go first, so
// that two may change theirs.
func (w *peopleWrite) subjects() error {
	var rows []*SubjectRow
	of := map[string]int{}
	for i, known := range w.known {
		for _, s := range known {
			if w.changes[i].Person != 0 {
				err := w.db.Where("app = ? AND person = ?", string(s.App), w.ids[i]).Delete(&SubjectRow{}).Error
				if err != nil {
					return err
				}
			}
			row := w.subjectRow(s, w.ids[i], w.now)
			if _, twice := of[string(row.Hash)]; twice {
				return &person.LostError{At: i, Guard: person.GuardSubject}
			}
			of[string(row.Hash)], rows = i, append(rows, row)
		}
	}
	for chunk := range slices.Chunk(rows, atOnce) {
		hashes := make([][]byte, len(chunk))
		for i, r := range chunk {
			hashes[i] = r.Hash
		}
		var taken []SubjectRow
		if err := w.db.Select("hash, person").Where("hash IN ?", hashes).Find(&taken).Error; err != nil {
			return err
		}
		if len(taken) > 0 {
			return &person.LostError{At: of[string(taken[0].Hash)], Guard: person.GuardSubject, Whose: taken[0].Person}
		}
	}
	if len(rows) == 0 {
		return nil
	}
	return w.db.CreateInBatches(rows, 200).Error
}

// subjectOf is the value by which an application knows a person, "" if there is none.
func (p People) subjectOf(app federation.ID, who int64) (string, error) {
	var rows []SubjectRow // at most one; no error for none
	if err := p.db.Where("app = ? AND person = ?", string(app), who).Limit(1).Find(&rows).Error; err != nil ||
		len(rows) == 0 {
		return "", err
	}
	plain, err := p.Open("subject", rows[0].Sealed)
	return string(plain), err
}

func (p People) subjectRow(s person.Subject, who int64, now time.Time) *SubjectRow {
	return &SubjectRow{App: string(s.App), Person: who, Hash: subjectHash(s.App, s.Value), Name: nameHash(s.Value),
		Source: s.Source, Added: now.UTC(), Sealed: p.Seal("subject", []byte(s.Value))}
}

func subjectHash(app federation.ID, value string) []byte {
	return Hash("subject\x1f" + string(app) + "\x1f" + value)
}

// nameHash is by what a subject is found, whatever application knows somebody by it.
func nameHash(value string) []byte { return Hash("name\x1f" + value) }

// IsSubject reports whether some application knows somebody by a name.
func (p People) IsSubject(name string) (bool, error) {
	var n int64
	err := p.db.Model(&SubjectRow{}).Where("name = ?", nameHash(name)).Limit(1).Count(&n).Error
	return n > 0, err
}

// nameSubjects has the subjects found that earlier builds stored.
func (p People) nameSubjects(who int64) error {
	var rows []SubjectRow
	err := p.db.Where("person = ? AND name IS NULL", who).Find(&rows).Error
	for _, row := range rows {
		var plain []byte
		if err == nil {
			plain, err = p.Open("subject", row.Sealed)
		}
		if err == nil {
			err = p.db.Model(&SubjectRow{}).Where("app = ? AND person = ?", row.App, row.Person).Update("name",
				nameHash(string(plain))).Error
		}
	}
	return err
}

// Subjects lists by what an application knows people, in the order of their numbers after a number, and how many
// there are.
func (p People) Subjects(app federation.ID, after int64, limit int) (out []Subject, total int64, err error) {
	q := p.db.Model(&SubjectRow{}).Where("app = ?", string(app))
	var rows []SubjectRow
	err = errors.Join(q.Session(&gorm.Session{}).Count(&total).Error,
		q.Where("person > ?", after).Order("person").Limit(limit).Find(&rows).Error)
	out = []Subject{}
	for _, r := range rows {
		if err == nil {
			var plain []byte
			plain, err = p.Open("subject", r.Sealed)
			out = append(out, Subject{Person: r.Person, Value: string(plain), Source: r.Source, Added: r.Added})
		}
	}
	return out, total, err
}

// SubjectsAt gives by what an application knows some people, by their numbers.
func (p People) SubjectsAt(app federation.ID, people []int64) (map[int64]string, error) {
	out := map[int64]string{}
	for chunk := range slices.Chunk(people, atOnce) {
		var rows []SubjectRow
		if err := p.db.Where("app = ? AND person IN ?", string(app), chunk).Find(&rows).Error; err != nil {
			return nil, err
		}
		for _, r := range rows {
			plain, err := p.Open("subject", r.Sealed)
			if err != nil {
				return nil, err
			}
			out[r.Person] = string(plain)
		}
	}
	return out, nil
}

// KnownBy gives whom an application knows by some values.
func (p People) KnownBy(app federation.ID, values []string) (map[string]int64, error) {
	out := map[string]int64{}
	for chunk := range slices.Chunk(values, atOnce) {
		of, hashes := map[string]string{}, [][]byte{}
		for _, v := range chunk {
			hash := subjectHash(app, v)
			of[string(hash)], hashes = v, append(hashes, hash)
		}
		var rows []SubjectRow
		if err := p.db.Select("hash, person").Where("hash IN ?", hashes).Find(&rows).Error; err != nil {
			return nil, err
		}
		for _, r := range rows {
			out[of[string(r.Hash)]] = r.Person
		}
	}
	return out, nil
}

// SubjectOf is a lasting name of somebody, with the application that has it.
type SubjectOf struct {
	App federation.ID
	Subject
}

// SubjectsOf are the lasting names of somebody.
func (p People) SubjectsOf(who int64) (out []SubjectOf, err error) {
	var rows []SubjectRow
	err = p.db.Where("person = ?", who).Order("app").Find(&rows).Error
	for _, r := range rows {
		var plain []byte
		if err == nil {
			plain, err = p.Open("subject", r.Sealed)
		}
		out = append(out, SubjectOf{federation.ID(r.App), Subject{r.Person, string(plain), r.Source, r.Added}})
	}
	return out, err
}
