// Package people keeps the accounts of people: the providers' names for them, and
// the names by which applications know them.
package people

import (
	"context"
	"errors"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/store"
)

// Room keeps people.
type Room struct {
	store   *store.Store
	now     func() time.Time
	records *records.Room
}

// New makes a room for people of the providers and applications of another.
func New(s *store.Store, now func() time.Time, r *records.Room) *Room {
	return &Room{store: s, now: now, records: r}
}

// Find finds the person with a link key, and by what an application knows
// them; ID 0 if there is none.
func (rm *Room) Find(ctx context.Context, key string, app federation.ID) (crossing.Person, error) {
	var row store.LinkRow
	err := rm.store.Read.WithContext(ctx).Where("key = ?", store.Hash(key)).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return crossing.Person{Key: key}, nil
	}
	if err != nil {
		return crossing.Person{}, err
	}
	var person store.PersonRow
	if err = rm.store.Read.WithContext(ctx).Where("id = ?", row.Person).Take(&person).Error; err != nil {
		return crossing.Person{}, err
	}
	subject, err := rm.subjectOf(rm.store.Read.WithContext(ctx), app, row.Person)
	return crossing.Person{ID: row.Person, Key: key, Identifier: person.Identifier, Subject: subject,
		Bare: len(row.Sealed) == 0}, err
}

// Make makes an account with a link. identifier is random.
func (rm *Room) Make(tx *gorm.DB, identifier string, l crossing.Link) (int64, error) {
	row := store.PersonRow{Identifier: identifier, Added: rm.now().UTC()}
	if err := tx.Create(&row).Error; err != nil {
		return 0, err
	}
	link, err := rm.linkRow(l, row.ID)
	if err != nil {
		return 0, err
	}
	return row.ID, tx.Create(link).Error
}
