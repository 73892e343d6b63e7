package store

import (
	"context"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// RecipientRow is how far a recipient of events has heard.
type RecipientRow struct {
	Name    string    `gorm:"primaryKey"`
	Added   time.Time // of the recipient: another one of the name begins anew
	Heard   int64     // number of the last event that it acknowledged, or that was before it
	HeardAt *time.Time
	Tries   int       // since then, that failed
	Due     time.Time // of the next one
	Answer  string    // to the last try
}

// Recipient is how far a recipient has heard: of what is done to people, or of rehearsals that turned. One that is new
// hears of what happens from when it was added on.
func (s *Store) Recipient(ctx context.Context, name string, added time.Time, turns bool) (out RecipientRow, err error) {
	var rows []RecipientRow
	if err := s.Read.WithContext(ctx).Where("name = ? AND added = ?", name,
		added.UTC()).Limit(1).Find(&rows).Error; err != nil {
		return out, err
	}
	if len(rows) > 0 {
		return rows[0], nil
	}
	out = RecipientRow{Name: name, Added: added.UTC(), Due: added.UTC()}
	if turns {
		return out, s.Read.WithContext(ctx).Raw(`SELECT coalesce(max(id), 0) FROM rehearsal_turn_rows WHERE at < ?`,
			added.UTC()).Row().Scan(&out.Heard)
	}
	return out, s.Read.WithContext(ctx).Raw(`SELECT coalesce(max(id), (SELECT coalesce(min(id) - 1, 0) FROM person_event_rows), 0)
		FROM person_event_rows WHERE at < ?`, added.UTC()).Row().Scan(&out.Heard)
}

// PutRecipient keeps how far a recipient has heard.
func (s *Store) PutRecipient(ctx context.Context, row RecipientRow) error {
	return s.Write(ctx, func(tx *gorm.DB) error { return tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&row).Error })
}

// DropRecipients forgets those that are not among some.
func (s *Store) DropRecipients(ctx context.Context, but []string) error {
	return s.Write(ctx, func(tx *gorm.DB) error {
		return tx.Where("name NOT IN ?", append(but, "")).Delete(&RecipientRow{}).Error
	})
}
