package gate

import (
	"context"
	"errors"

	"gorm.io/gorm"
	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/store"
)

// personBy finds the person with a link key, and by what an application knows
// them; ID 0 if there is none.
func (g *Gate) personBy(ctx context.Context, key string, app federation.ID) (crossing.Person, error) {
	var row store.LinkRow
	err := g.store.Read.WithContext(ctx).Where("key = ?", store.Hash(key)).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return crossing.Person{Key: key}, nil
	}
	if err != nil {
		return crossing.Person{}, err
	}
	var person store.PersonRow
	if err = g.store.Read.WithContext(ctx).Where("id = ?", row.Person).Take(&person).Error; err != nil {
		return crossing.Person{}, err
	}
	subject, err := g.subjectOf(g.store.Read.WithContext(ctx), app, row.Person)
	return crossing.Person{ID: row.Person, Key: key, Identifier: person.Identifier, Subject: subject, Bare: len(row.Sealed) == 0}, err
}

// newPerson makes an account with a link. identifier is random.
func (g *Gate) newPerson(tx *gorm.DB, identifier string, l crossing.Link) (int64, error) {
	row := store.PersonRow{Identifier: identifier, Added: g.now().UTC()}
	if err := tx.Create(&row).Error; err != nil {
		return 0, err
	}
	link, err := g.linkRow(l, row.ID)
	if err != nil {
		return 0, err
	}
	return row.ID, tx.Create(link).Error
}
