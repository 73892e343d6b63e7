package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// UseRow is how often somebody entered an application, and what it was told of them last.
type UseRow struct {
	Person int64  `gorm:"primaryKey"`
	App    string `gorm:"primaryKey"` // ID
	Count  int64
	Last   time.Time
	Sealed []byte
}

// NoteUse counts an entry.
func (s *Store) NoteUse(tx *gorm.DB, u UseRow) error {
	return execs(tx, `INSERT INTO use_rows (person, app, count, last, sealed) VALUES (?, ?, 1, ?, ?)
		ON CONFLICT (person, app) DO UPDATE SET count = count + 1, last = excluded.last, sealed = excluded.sealed`,
		u.Person, u.App, u.Last.UTC(), u.Sealed)
}

// Uses are those of a person, the latest first.
func (s *Store) Uses(ctx context.Context, person int64) (out []UseRow, err error) {
	return out, s.Read.WithContext(ctx).Where("person = ?", person).Order("last DESC, app").Find(&out).Error
}

// Counts are how often a person entered applications, by the ID of each.
func (s *Store) Counts(ctx context.Context, person int64) (out []UseRow, err error) {
	return out, s.Read.WithContext(ctx).Select("app", "count").Where("person = ?", person).Find(&out).Error
}
