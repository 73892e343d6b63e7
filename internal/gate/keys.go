package gate

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/store"
)

// AnnounceKey makes the next key for a purpose. From now on it is in metadata
// beside the current one, so that the other sides can learn it.
func (g *Gate) AnnounceKey(ctx context.Context, by By, purpose, kind string) error {
	if kind == "" {
		kind = keys.Kinds[0]
	}
	snap := g.Snapshot()
	var known []string
	rsaOnly := false
	for _, p := range snap.Gate.Purposes {
		known = append(known, p.Name)
		rsaOnly = rsaOnly || p.Name == purpose && p.RSA
	}
	if !slices.Contains(keys.Kinds, kind) || rsaOnly && !strings.HasPrefix(kind, "rsa") {
		return field("kind", fmt.Errorf("a key of kind %q cannot be made for %q; use one of %s, for what is encrypted to an RSA key", kind, purpose, strings.Join(keys.Kinds, ", ")))
	}
	for _, a := range snap.Applications() {
		if a.Side.OwnKeys() {
			known = append(known, purposeApp+string(a.Name))
		}
	}
	if !slices.Contains(known, purpose) {
		return field("purpose", fmt.Errorf("there is no purpose %q; use one of %s", purpose, strings.Join(known, ", ")))
	}
	g.Lock()
	defer g.Unlock()
	row, _, err := g.newKey(purpose, kind, keyNext)
	if err != nil {
		return err
	}
	err = g.store.Write(ctx, func(tx *gorm.DB) error {
		var n int64
		if err := tx.Model(&store.KeyRow{}).Where("purpose = ? AND state = ?", purpose, keyNext).Count(&n).Error; err != nil {
			return err
		}
		if n > 0 {
			return &ConflictError{fmt.Sprintf("a next key for %q is announced already", purpose), "switch to it, or remove it first"}
		}
		if err := tx.Create(row).Error; err != nil {
			return err
		}
		return Note{At: g.now(), By: by, Kind: "key", Name: purpose, What: "added"}.Write(tx)
	})
	if err != nil {
		return err
	}
	return g.reloadKeys(ctx)
}

// SwitchKey makes the announced key the current one. The one before stays for
// what was encrypted to it.
func (g *Gate) SwitchKey(ctx context.Context, by By, purpose string) error {
	g.Lock()
	defer g.Unlock()
	err := g.store.Write(ctx, func(tx *gorm.DB) error {
		var next store.KeyRow
		err := tx.Where("purpose = ? AND state = ?", purpose, keyNext).Take(&next).Error
		if errors.Is(err, gorm.ErrRecordNotFound) {
			return &ConflictError{fmt.Sprintf("no next key for %q is announced", purpose), "announce one, and give the other sides time to take in the metadata"}
		}
		if err != nil {
			return err
		}
		if err := tx.Model(&store.KeyRow{}).Where("purpose = ? AND state = ?", purpose, keyCurrent).Update("state", keyOld).Error; err != nil {
			return err
		}
		if err := tx.Model(&next).Update("state", keyCurrent).Error; err != nil {
			return err
		}
		return Note{At: g.now(), By: by, Kind: "key", Name: purpose, What: "changed"}.Write(tx)
	})
	if err != nil {
		return err
	}
	return g.reloadKeys(ctx)
}

// RemoveKey removes a key that is not the current one.
func (g *Gate) RemoveKey(ctx context.Context, by By, id int64) error {
	g.Lock()
	defer g.Unlock()
	err := g.store.Write(ctx, func(tx *gorm.DB) error {
		var row store.KeyRow
		err := tx.Where("id = ?", id).Take(&row).Error
		if errors.Is(err, gorm.ErrRecordNotFound) {
			return &NotFoundError{Kind: "key", Name: fmt.Sprint(id)}
		}
		if err != nil {
			return err
		}
		if row.State == keyCurrent {
			return &ConflictError{fmt.Sprintf("key %d is the current one for %q", id, row.Purpose), "announce another and switch to it first"}
		}
		if err := tx.Delete(&row).Error; err != nil {
			return err
		}
		return Note{At: g.now(), By: by, Kind: "key", Name: row.Purpose, What: "removed"}.Write(tx)
	})
	if err != nil {
		return err
	}
	return g.reloadKeys(ctx)
}
