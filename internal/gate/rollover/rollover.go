// Package rollover exchanges the gate's own keys without an outage: the next one
// is announced before it is used, the one before stays for what was encrypted to
// it.
package rollover

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/keyring"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/store"
)

// Room rolls keys over.
type Room struct {
	store   *store.Store
	now     func() time.Time
	keyring *keyring.Room
	records *records.Room
}

// New makes a room that changes the keys of a ring, and the snapshot with them.
func New(s *store.Store, now func() time.Time, ring *keyring.Room, r *records.Room) *Room {
	return &Room{store: s, now: now, keyring: ring, records: r}
}

// Keys lists the keys, by the purposes that people know; those of a removed
// application have its ID, and are unused.
func (rm *Room) Keys(ctx context.Context) ([]keyring.Key, error) {
	all, err := rm.keyring.List(ctx)
	shown := rm.shown()
	for i, k := range all {
		if name, used := shown[k.Purpose]; used {
			all[i].Purpose = name
		} else {
			all[i].State = keyring.Unused
		}
	}
	return all, err
}

// Verifiers are the records whose documents announce that they verify signatures by P-256, by the purpose, as people
// know it, of the keys by which the gate signs towards them.
func (rm *Room) Verifiers() map[string][]federation.Name {
	out := map[string][]federation.Name{}
	snap := rm.records.Snapshot()
	add := func(v federation.Verifying, n federation.Name) {
		if v == nil {
			return
		}
		if purpose, announced := v.VerifiesEC(); announced {
			purpose = cmp.Or(purpose, "app/"+string(n))
			out[purpose] = append(out[purpose], n)
		}
	}
	for _, a := range snap.Applications() {
		add(a.Side.Can().Verifying, a.Name)
	}
	for _, p := range snap.Providers() {
		add(p.Side.Can().Verifying, p.Name)
	}
	return out
}

// purposes are those that keys are used for now.
func (rm *Room) purposes() []keyring.Purpose {
	var out []keyring.Purpose
	snap := rm.records.Snapshot()
	for _, p := range snap.Gate.Purposes {
		out = append(out, keyring.OfGate(p))
	}
	for _, a := range snap.Applications() {
		if a.Side.OwnKeys() {
			out = append(out, keyring.OfApplication(a))
		}
	}
	return out
}

// shown gives what people call each purpose that is used.
func (rm *Room) shown() map[string]string {
	out := map[string]string{}
	for _, p := range rm.purposes() {
		out[p.Stored] = p.Shown
	}
	return out
}

// purpose finds one by what people call it.
func (rm *Room) purpose(name string) (keyring.Purpose, error) {
	var known []string
	for _, p := range rm.purposes() {
		if p.Shown == name {
			return p, nil
		}
		known = append(known, p.Shown)
	}
	return keyring.Purpose{}, change.Field("purpose", fmt.Errorf("there is no purpose %q; use one of %s", name,
		strings.Join(known, ", ")))
}

// kinds are those of the keys that a purpose can have.
func (rm *Room) kinds(name string) []string {
	for _, p := range rm.records.Snapshot().Gate.Purposes {
		if p.Name == name && len(p.Kinds) > 0 {
			return p.Kinds
		}
	}
	return keys.Kinds
}

// Announce makes the next key for a purpose. From now on it is in metadata
// beside the current one, so that the other sides can learn it.
func (rm *Room) Announce(ctx context.Context, by change.By, purpose, kind string) error {
	of, err := rm.purpose(purpose)
	if err != nil {
		return err
	}
	can := rm.kinds(purpose)
	if kind == "" {
		kind = can[0]
	}
	if !slices.Contains(can, kind) {
		return change.Field("kind", fmt.Errorf("a key of kind %q cannot be made for %q; use %s", kind, purpose,
			strings.Join(can, ", ")))
	}
	row, _, err := rm.keyring.Make(of, kind, keyring.Next)
	if err != nil {
		return err
	}
	return rm.change(ctx, by, func(tx *gorm.DB) error {
		var n int64
		if err := tx.Model(&store.KeyRow{}).Where("purpose = ? AND state = ?", of.Stored,
			keyring.Next).Count(&n).Error; err != nil {
			return err
		}
		if n > 0 {
			return change.Conflict(fmt.Sprintf("a next key for %q is announced already", purpose),
				"switch to it, or remove it first")
		}
		key := *row // it may be run again
		if err := tx.Create(&key).Error; err != nil {
			return err
		}
		return change.Note{At: rm.now(), By: by, Kind: "key", Name: purpose, What: "added"}.Write(tx)
	})
}

// change changes keys of the gate's own; whoever looks at them from then on sees the new ones.
func (rm *Room) change(ctx context.Context, by change.By, how func(tx *gorm.DB) error) error {
	return rm.records.Change(ctx, by, func(*federation.Snapshot) (records.Plan, error) {
		return records.Plan{Keys: true, More: func(tx store.Tx) error { return how(tx.Rows()) }}, nil
	})
}

// Switch makes the announced key the current one. The one before stays for
// what was encrypted to it.
func (rm *Room) Switch(ctx context.Context, by change.By, purpose string) error {
	of, err := rm.purpose(purpose)
	if err != nil {
		return err
	}
	return rm.change(ctx, by, func(tx *gorm.DB) error {
		var next store.KeyRow
		err := tx.Where("purpose = ? AND state = ?", of.Stored, keyring.Next).Take(&next).Error
		if errors.Is(err, gorm.ErrRecordNotFound) {
			return change.Conflict(fmt.Sprintf("no next key for %q is announced", purpose),
				"announce one, and give the other sides time to take in the metadata")
		}
		if err != nil {
			return err
		}
		if err := tx.Model(&store.KeyRow{}).Where("purpose = ? AND state = ?", of.Stored, keyring.Current).Update("state",
			keyring.Old).Error; err != nil {
			return err
		}
		if err := tx.Model(&next).Update("state", keyring.Current).Error; err != nil {
			return err
		}
		return change.Note{At: rm.now(), By: by, Kind: "key", Name: purpose, What: "changed"}.Write(tx)
	})
}

// Remove removes a key that is not the current one of anything that has keys now.
func (rm *Room) Remove(ctx context.Context, by change.By, id int64) error {
	return rm.change(ctx, by, func(tx *gorm.DB) error {
		var row store.KeyRow
		err := tx.Where("id = ?", id).Take(&row).Error
		if errors.Is(err, gorm.ErrRecordNotFound) {
			return &change.NotFoundError{Kind: "key", Name: fmt.Sprint(id)}
		}
		if err != nil {
			return err
		}
		shown, used := rm.shown()[row.Purpose]
		if row.State == keyring.Current && used {
			return change.Conflict(fmt.Sprintf("key %d is the current one for %q", id, shown),
				"announce another and switch to it first")
		}
		if err := tx.Delete(&row).Error; err != nil {
			return err
		}
		return change.Note{At: rm.now(), By: by, Kind: "key", Name: cmp.Or(shown, row.Purpose), What: "removed"}.Write(tx)
	})
}
