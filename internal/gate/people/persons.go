// Package people keeps the accounts of people: the providers' names for them, and
// the names by which applications know them.
package people

import (
	"context"
	"database/sql"
	"encoding/json"
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
	out := crossing.Person{Key: key}
	var subject, values []byte
	err := rm.store.Read.WithContext(ctx).Raw(`SELECT l.person, p.identifier, coalesce(length(l.sealed), 0) = 0, s.sealed, p.sealed,
		p.disabled IS NOT NULL
		FROM link_rows l JOIN person_rows p ON p.id = l.person
		LEFT JOIN subject_rows s ON s.app = ? AND s.person = l.person WHERE l.key = ?`,
		string(app), store.Hash(key)).Row().Scan(&out.ID, &out.Identifier, &out.Bare, &subject, &values, &out.Disabled)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return out, nil
	case err != nil:
		return crossing.Person{}, err
	}
	if len(subject) > 0 {
		if subject, err = rm.store.Open("subject", subject); err != nil {
			return crossing.Person{}, err
		}
		out.Subject = string(subject)
	}
	if out.Values, err = rm.Values(values); err != nil {
		return crossing.Person{}, err
	}
	return out, nil
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
	var sealed []byte
	if len(values) > 0 {
		plain, err := json.Marshal(values)
		if err != nil {
			return err
		}
		sealed = rm.store.Seal("values", plain)
	}
	return tx.Model(&row).Update("sealed", sealed).Error
}
