package gate

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"gorm.io/gorm"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/store"
)

// Bounds of the time between two refreshes.
const (
	shortest = 5 * time.Minute
	usual    = 6 * time.Hour // where the metadata says nothing
	longest  = 24 * time.Hour
)

type freshData struct {
	Fresh
	conditions
	Declined string `json:"declined,omitempty"` // SHA-256 of a document whose change was declined
	Gone     bool   `json:"gone,omitempty"`     // no longer in its aggregate
}

// Fresh is how current the copy of a metadata address is.
type Fresh struct {
	Checked  time.Time          `json:"checked,omitzero"`
	Tried    time.Time          `json:"tried,omitzero"`
	Next     time.Time          `json:"next,omitzero"`
	Failure  *finding.Finding   `json:"failure,omitempty"`
	Failures int                `json:"failures,omitempty"`
	Changed  []*finding.Finding `json:"changed,omitempty"`
	At       time.Time          `json:"changedAt,omitzero"`
}

// interval is the time until metadata is asked for again: cacheDuration if it
// says one, at most half of what is left until validUntil (SAML metadata §2.3.2).
func interval(now time.Time, until time.Time, cache time.Duration) time.Duration {
	d := usual
	if cache > 0 {
		d = cache
	}
	if !until.IsZero() {
		d = min(d, until.Sub(now)/2)
	}
	return min(max(d, shortest), longest)
}

func (g *Gate) interval(in federation.Intake) time.Duration {
	return interval(g.now(), in.ValidUntil, in.CacheDuration)
}

// retry is the time after so many failures in a row.
func retry(failures int) time.Duration { return min(shortest<<min(failures, 8), usual) }

// takenIn notes that a record's values are as of now: nothing waits any more, and
// its address is asked again in time. A record without one is taken off the list.
func (g *Gate) takenIn(tx *gorm.DB, r federation.Record) error {
	kind, name, now := kindOf(r), nameOf(r), g.now().UTC()
	if r.Basic().Intake.Address() == "" {
		return forgetFresh(tx, kind, name)
	}
	if err := dropPending(tx, kind, name); err != nil {
		return err
	}
	return saveFresh(tx, kind, name, freshData{Fresh: Fresh{Checked: now, Tried: now, Next: now.Add(g.interval(r.Basic().Intake))}})
}

// forgetFresh drops all that is known of how current a record is.
func forgetFresh(tx *gorm.DB, kind, name string) error {
	return errors.Join(dropPending(tx, kind, name), tx.Where("kind = ? AND name = ?", kind, name).Delete(&store.FreshRow{}).Error)
}

func saveFresh(tx *gorm.DB, kind, name string, d freshData) error {
	data, err := json.Marshal(d)
	if err != nil {
		return err
	}
	return tx.Save(&store.FreshRow{Kind: kind, Name: name, Next: d.Next, Data: data}).Error
}

func (g *Gate) fresh(ctx context.Context, kind, name string) (d freshData, err error) {
	var row store.FreshRow
	err = g.store.Read.WithContext(ctx).Where("kind = ? AND name = ?", kind, name).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return d, nil
	}
	if err == nil {
		err = json.Unmarshal(row.Data, &d)
	}
	return d, err
}

// Fresh tells how current a record is.
func (g *Gate) Fresh(ctx context.Context, kind, name string) (Fresh, error) {
	d, err := g.fresh(ctx, kind, name)
	return d.Fresh, err
}

func dropPending(tx *gorm.DB, kind, name string) error {
	return tx.Where("kind = ? AND name = ?", kind, name).Delete(&store.PendingRow{}).Error
}

// changedShown is how long a change that was applied at once stays among the
// findings.
const changedShown = 14 * 24 * time.Hour
