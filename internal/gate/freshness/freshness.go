// Package freshness knows how current the copies of metadata addresses are, and
// which of their changes wait for approval.
package freshness

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/fetch"
	"innergate.example/innergate/internal/store"
)

// Room knows how current records are.
type Room struct {
	store *store.Store
	now   func() time.Time
}

// New makes a room over a store.
func New(s *store.Store, now func() time.Time) *Room { return &Room{store: s, now: now} }

// Bounds of the time between two refreshes.
const (
	shortest = 5 * time.Minute
	usual    = 6 * time.Hour // where the metadata says nothing
	longest  = 24 * time.Hour
)

// Kept is what is stored of how current a record is.
type Kept struct {
	State
	fetch.Conditions
	Declined string `json:"declined,omitempty"` // SHA-256 of a document whose change was declined
	Gone     bool   `json:"gone,omitempty"`     // no longer in its aggregate
}

// State is how current the copy of a metadata address is.
type State struct {
	Checked  time.Time          `json:"checked,omitzero"`
	Tried    time.Time          `json:"tried,omitzero"`
	Next     time.Time          `json:"next,omitzero"`
	Failure  *finding.Finding   `json:"failure,omitempty"`
	Failures int                `json:"failures,omitempty"`
	Changed  []*finding.Finding `json:"changed,omitempty"`
	At       time.Time          `json:"changedAt,omitzero"`
}

// Interval is the time until metadata is asked for again: cacheDuration if it
// says one, at most half of what is left until validUntil (SAML metadata §2.3.2).
func Interval(now time.Time, until time.Time, cache time.Duration) time.Duration {
	d := usual
	if cache > 0 {
		d = cache
	}
	if !until.IsZero() {
		d = min(d, until.Sub(now)/2)
	}
	return min(max(d, shortest), longest)
}

// Interval is the time until a document is asked for again.
func (rm *Room) Interval(in federation.Intake) time.Duration {
	return Interval(rm.now(), in.ValidUntil, in.CacheDuration)
}

// Retry is the time after so many failures in a row.
func Retry(failures int) time.Duration { return min(shortest<<min(failures, 8), usual) }

// TakenIn notes that a record's values are as of now: nothing waits any more, and
// its address is asked again in time. A record without one is taken off the list.
func (rm *Room) TakenIn(tx *gorm.DB, r federation.Record) error {
	kind, name, now := change.KindOf(r), change.NameOf(r), rm.now().UTC()
	if r.Basic().Intake.Address() == "" {
		return Forget(tx, kind, name)
	}
	if err := DropPending(tx, kind, name); err != nil {
		return err
	}
	return Save(tx, kind, name, Kept{State: State{Checked: now, Tried: now,
		Next: now.Add(rm.Interval(r.Basic().Intake))}})
}

// Forget drops all that is known of how current a record is.
func Forget(tx *gorm.DB, kind, name string) error {
	return errors.Join(DropPending(tx, kind, name), tx.Where("kind = ? AND name = ?", kind,
		name).Delete(&store.FreshRow{}).Error)
}

// Save stores how current a record is.
func Save(tx *gorm.DB, kind, name string, d Kept) error {
	data, err := json.Marshal(d)
	if err != nil {
		return err
	}
	return tx.Save(&store.FreshRow{Kind: kind, Name: name, Next: d.Next, Data: data}).Error
}

// Load gives what is stored of a record; nothing if it has no address.
func (rm *Room) Load(ctx context.Context, kind, name string) (d Kept, err error) {
	var row store.FreshRow
	err = rm.store.Read.WithContext(ctx).Where("kind = ? AND name = ?", kind, name).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return d, nil
	}
	if err == nil {
		err = json.Unmarshal(row.Data, &d)
	}
	return d, err
}

// Of tells how current a record is.
func (rm *Room) Of(ctx context.Context, kind, name string) (State, error) {
	d, err := rm.Load(ctx, kind, name)
	return d.State, err
}

// DropPending drops the change of a record that waits for approval.
func DropPending(tx *gorm.DB, kind, name string) error {
	return tx.Where("kind = ? AND name = ?", kind, name).Delete(&store.PendingRow{}).Error
}

// ChangedShown is how long a change that was applied at once stays among the
// findings.
const ChangedShown = 14 * 24 * time.Hour
