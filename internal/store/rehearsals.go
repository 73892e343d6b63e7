package store

import (
	"context"
	"time"
)

// RunRow is a run of a rehearsal.
type RunRow struct {
	ID          int64 `gorm:"primaryKey;autoIncrement"`
	Rehearsal   string
	Application string // ID
	Began, Ends time.Time
	Ended       *time.Time
	State       string
	Link        []byte // hash of the link, while it waits to be opened
	Mark        []byte // hash of the cookie of the browser that opened it
	Session     string // lasting name of the run's own session
	Unattended  bool
	Took        int64 // milliseconds from the first message of its last sign-in to its end
	Sealed      []byte
}

// TableName is that of runs.
func (RunRow) TableName() string { return "rehearsal_run_rows" }

// MadeRow is somebody of whom a rehearsal made an account, and who has not come for real since.
type MadeRow struct {
	Person int64 `gorm:"primaryKey"`
	Run    int64
	At     time.Time
}

// TableName is that of people whom rehearsals made.
func (MadeRow) TableName() string { return "rehearsal_made_rows" }

// PutRun stores a run: a new one, if it has no number yet. The session of one that is there stays: HoldRun notes that.
func (s *Store) PutRun(tx *Writing, r *RunRow) error {
	if r.ID == 0 {
		return tx.Create(r).Error
	}
	return tx.Model(&RunRow{}).Where("id = ?", r.ID).Select("*").Omit("id", "session").Updates(r).Error
}

// RunSession is the lasting name of a run's session, within a write; "" for none.
func (s *Store) RunSession(tx *Writing, id int64) (session string, err error) {
	return session, tx.Model(&RunRow{}).Where("id = ?", id).Limit(1).Pluck("session", &session).Error
}

// Proved are the applications, by ID, of which a run on record passed.
func (s *Store) Proved(ctx context.Context) (map[string]bool, error) {
	var ids []string
	err := s.Read.WithContext(ctx).Model(&RunRow{}).Where("state = 'passed' AND ended IS NOT NULL").
		Distinct("application").Pluck("application", &ids).Error
	out := map[string]bool{}
	for _, id := range ids {
		out[id] = true
	}
	return out, err
}

// HoldRun notes the session of a run, as long as the run goes on; false if it has ended.
func (s *Store) HoldRun(tx *Writing, id int64, session string) (bool, error) {
	done := tx.Model(&RunRow{}).Where("id = ? AND ended IS NULL", id).Update("session", session)
	return done.RowsAffected == 1, done.Error
}

// Run finds a run by number; found is false if there is none.
func (s *Store) Run(ctx context.Context, id int64) (r RunRow, found bool, err error) {
	err = s.Read.WithContext(ctx).Where("id = ?", id).Limit(1).Find(&r).Error
	return r, r.ID != 0, err
}

// OpenRuns are those that have not ended.
func (s *Store) OpenRuns(ctx context.Context) (out []RunRow, err error) {
	return out, s.Read.WithContext(ctx).Where("ended IS NULL").Order("id").Find(&out).Error
}

// Runs are those of a rehearsal, the newest first.
func (s *Store) Runs(ctx context.Context, rehearsal string, offset, limit int) (out []RunRow, total int64, err error) {
	q := s.Read.WithContext(ctx).Model(&RunRow{}).Where("rehearsal = ?", rehearsal)
	if err := q.Count(&total).Error; err != nil {
		return nil, 0, err
	}
	return out, total, s.Read.WithContext(ctx).Where("rehearsal = ?", rehearsal).Order("id DESC").Offset(offset).
		Limit(limit).Find(&out).Error
}

// LastRuns are the newest ended run of each rehearsal, by its name.
func (s *Store) LastRuns(ctx context.Context) (map[string]RunRow, error) {
	var rows []RunRow
	err := s.Read.WithContext(ctx).Where(
		"id IN (SELECT max(id) FROM rehearsal_run_rows WHERE ended IS NOT NULL GROUP BY rehearsal)").Find(&rows).Error
	out := map[string]RunRow{}
	for _, r := range rows {
		out[r.Rehearsal] = r
	}
	return out, err
}

// PruneRuns keeps so many ended runs of each rehearsal.
func (s *Store) PruneRuns(tx *Writing, rehearsal string, keep int) error {
	return tx.Where("rehearsal = ? AND ended IS NOT NULL AND id NOT IN (SELECT id FROM rehearsal_run_rows WHERE rehearsal = ? AND ended IS NOT NULL ORDER BY id DESC LIMIT ?)",
		rehearsal, rehearsal, keep).Delete(&RunRow{}).Error
}

// NoteMade marks somebody as made by a rehearsal.
func (s *Store) NoteMade(tx *Writing, r MadeRow) error { return tx.Create(&r).Error }

// Made are those whom rehearsals made.
func (s *Store) Made(ctx context.Context) (out []MadeRow, err error) {
	return out, s.Read.WithContext(ctx).Order("person").Find(&out).Error
}

// Unmark takes the mark off somebody: they came for real, or are gone.
func (s *Store) Unmark(tx *Writing, person int64) error {
	return execs(tx, "DELETE FROM rehearsal_made_rows WHERE person = ?", person)
}
