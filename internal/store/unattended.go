package store

import (
	"context"
	"time"

	"gorm.io/gorm/clause"
)

// TestAccountRow is an account at a provider with which rehearsals sign in while nobody is there.
type TestAccountRow struct {
	Provider string `gorm:"primaryKey"` // ID
	Username string `gorm:"primaryKey"`
	Hosts    string // for whose forms the password was given, separated by spaces
	Given    time.Time
	Giver    string
	Refused  *time.Time // when the provider did not take it
	Finding  string     // what was found then, in JSON
	Sealed   []byte     // the password
}

// TableName is that of test accounts.
func (TestAccountRow) TableName() string { return "test_account_rows" }

// PutTestAccount stores a test account, in place of what was known of it.
func (s *Store) PutTestAccount(tx *Writing, r *TestAccountRow) error {
	return tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(r).Error
}

// TestAccounts are those on record.
func (s *Store) TestAccounts(ctx context.Context) (out []TestAccountRow, err error) {
	return out, s.Read.WithContext(ctx).Order("provider, username").Find(&out).Error
}

// RefuseTestAccount notes that a provider did not take an account, if it is still the one that was given at a time;
// without a time it is tried again.
func (s *Store) RefuseTestAccount(ctx context.Context, r TestAccountRow) error {
	return s.Write(ctx, func(tx *Writing) error {
		return tx.Model(&TestAccountRow{}).Where("provider = ? AND username = ? AND given = ?", r.Provider, r.Username,
			r.Given).Updates(map[string]any{"refused": r.Refused, "finding": r.Finding}).Error
	})
}

// DropTestAccount forgets a test account.
func (s *Store) DropTestAccount(tx *Writing, provider, username string) error {
	return tx.Where("provider = ? AND username = ?", provider, username).Delete(&TestAccountRow{}).Error
}

// TurnRow is that a rehearsal began to fail, or passes again.
type TurnRow struct {
	ID          int64 `gorm:"primaryKey;autoIncrement"`
	At          time.Time
	Rehearsal   string
	Application string // its short name
	State       string
	Run         int64
	Finding     string // code of what refused, "" for none
	Mailed      bool
}

// TableName is that of turns.
func (TurnRow) TableName() string { return "rehearsal_turn_rows" }

// Turn notes what an unattended run came to, where that is other than before; a first one that passed is no turn.
func (s *Store) Turn(tx *Writing, r TurnRow) (turned bool, err error) {
	var last []TurnRow
	if err := tx.Where("rehearsal = ?", r.Rehearsal).Order("id DESC").Limit(1).Find(&last).Error; err != nil {
		return false, err
	}
	was := "passed"
	if len(last) > 0 {
		was = last[0].State
	}
	if (was == "passed") == (r.State == "passed") {
		return false, nil
	}
	return true, tx.Create(&r).Error
}

// Turns are those after a number, the oldest first.
func (s *Store) Turns(ctx context.Context, after int64, limit int) (out []TurnRow, err error) {
	return out, s.Read.WithContext(ctx).Where("id > ?", after).Order("id").Limit(limit).Find(&out).Error
}

// TurnsAfter counts them.
func (s *Store) TurnsAfter(ctx context.Context, after int64) (n int64, err error) {
	return n, s.Read.WithContext(ctx).Model(&TurnRow{}).Where("id > ?", after).Count(&n).Error
}

// Unmailed are turns that nobody was mailed of yet.
func (s *Store) Unmailed(ctx context.Context) (out []TurnRow, err error) {
	return out, s.Read.WithContext(ctx).Where("NOT mailed").Order("id").Limit(200).Find(&out).Error
}

// Mailed notes that a turn was mailed of, or that there is nobody to mail; false takes that back.
func (s *Store) Mailed(ctx context.Context, id int64, mailed bool) error {
	return s.Write(ctx, func(tx *Writing) error {
		return tx.Model(&TurnRow{}).Where("id = ?", id).Update("mailed", mailed).Error
	})
}

// PastRun is what a chart shows of a run.
type PastRun struct {
	ID         int64
	Rehearsal  string
	Ended      time.Time
	State      string
	Unattended bool
	Took       int64
}

// PastRuns are runs that ended since a moment, the newest first; of one rehearsal, or of all.
func (s *Store) PastRuns(ctx context.Context, rehearsal string, since time.Time, most int) (out []PastRun, err error) {
	q := s.Read.WithContext(ctx).Model(&RunRow{}).Where("ended >= ?", since.UTC())
	if rehearsal != "" {
		q = q.Where("rehearsal = ?", rehearsal)
	}
	return out, q.Order("ended DESC, id DESC").Limit(most).Find(&out).Error
}
