package people

import (
	"context"
	"errors"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/store"
)

// Where subjects come from.
const (
	SubjectDerived  = "derived"
	SubjectImported = "imported"
)

// Subject is the lasting name by which an application knows a person.
type Subject struct {
	Person int64
	Value  string
	Source string // SubjectDerived, SubjectImported
	Added  time.Time
}

// subjectOf is the value by which an application knows a person, "" if there is
// none.
func (rm *Room) subjectOf(db *gorm.DB, app federation.ID, person int64) (string, error) {
	var rows []store.SubjectRow // at most one; no error for none
	if err := db.Where("app = ? AND person = ?", string(app), person).Limit(1).Find(&rows).Error; err != nil ||
		len(rows) == 0 {
		return "", err
	}
	plain, err := rm.store.Open("subject", rows[0].Sealed)
	return string(plain), err
}

func (rm *Room) subjectRow(app federation.ID, person int64, value, source string) *store.SubjectRow {
	return &store.SubjectRow{App: string(app), Person: person, Hash: subjectHash(app, value), Name: nameHash(value),
		Source: source,
		Added:  rm.now().UTC(), Sealed: rm.store.Seal("subject", []byte(value))}
}

func subjectHash(app federation.ID, value string) []byte {
	return store.Hash("subject\x1f" + string(app) + "\x1f" + value)
}

// nameHash is by what a subject is found, whatever application knows somebody by it.
func nameHash(value string) []byte { return store.Hash("name\x1f" + value) }

// IsSubject reports whether some application knows somebody by a name.
func (rm *Room) IsSubject(db *gorm.DB, name string) (bool, error) {
	var n int64
	err := db.Model(&store.SubjectRow{}).Where("name = ?", nameHash(name)).Limit(1).Count(&n).Error
	return n > 0, err
}

// nameSubjects has the subjects found that earlier builds stored.
func (rm *Room) nameSubjects(tx *gorm.DB, person int64) error {
	var rows []store.SubjectRow
	err := tx.Where("person = ? AND name IS NULL", person).Find(&rows).Error
	for _, row := range rows {
		var plain []byte
		if err == nil {
			plain, err = rm.store.Open("subject", row.Sealed)
		}
		if err == nil {
			err = tx.Model(&store.SubjectRow{}).Where("app = ? AND person = ?", row.App, row.Person).Update("name",
				nameHash(string(plain))).Error
		}
	}
	return err
}

// Settle keeps the subject that was derived. It reports whether the application
// knows the person by it now; if there is another one already, that stays.
func (rm *Room) Settle(tx *gorm.DB, app federation.ID, person int64, value string) (bool, error) {
	have, err := rm.subjectOf(tx, app, person)
	if err != nil || have != "" {
		return have == value, err
	}
	return true, tx.Create(rm.subjectRow(app, person, value, SubjectDerived)).Error
}

// Subjects lists by what an application knows people, in the order of their
// numbers after a number, and how many there are.
func (rm *Room) Subjects(ctx context.Context, app string, after int64, limit int) ([]Subject, int64, error) {
	a, err := rm.records.Application(app)
	if err != nil {
		return nil, 0, err
	}
	q := rm.store.Read.WithContext(ctx).Model(&store.SubjectRow{}).Where("app = ?", string(a.ID))
	var total int64
	var rows []store.SubjectRow
	err = errors.Join(q.Session(&gorm.Session{}).Count(&total).Error,
		q.Where("person > ?", after).Order("person").Limit(limit).Find(&rows).Error)
	out := []Subject{}
	for _, r := range rows {
		if err == nil {
			var plain []byte
			plain, err = rm.store.Open("subject", r.Sealed)
			out = append(out, Subject{Person: r.Person, Value: string(plain), Source: r.Source, Added: r.Added})
		}
	}
	return out, total, err
}
