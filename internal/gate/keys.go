package gate

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/store"
)

// purposeApp and a name is the purpose of an application's own keys.
const purposeApp = "app/"

// Key states through a roll-over.
const (
	keyCurrent = "current"
	keyNext    = "next"
	keyOld     = "old"
)

// Key is a key of the gate, without its private half.
type Key struct {
	ID          int64
	Purpose     string
	State       string
	Added       time.Time
	Certificate keys.Certificate
}

// loadKeys gives the key set for a purpose, making the first key.
func (g *Gate) loadKeys(ctx context.Context, purpose string) (federation.KeySet, error) {
	var set federation.KeySet
	var rows []store.KeyRow
	if err := g.store.Read.WithContext(ctx).Where("purpose = ?", purpose).Order("id DESC").Find(&rows).Error; err != nil {
		return set, err
	}
	for _, r := range rows {
		p, err := g.openKey(r)
		if err != nil {
			return set, err
		}
		switch r.State {
		case keyCurrent:
			set.Current = p
		case keyNext:
			set.Next = p
		default:
			set.Old = append(set.Old, p)
		}
	}
	if set.Current != nil {
		return set, nil
	}
	row, p, err := g.newKey(purpose, keys.Kinds[0], keyCurrent)
	if err != nil {
		return set, err
	}
	set.Current = p
	return set, g.store.Write(ctx, func(tx *gorm.DB) error { return tx.Create(row).Error })
}

func (g *Gate) openKey(r store.KeyRow) (*keys.Pair, error) {
	text, err := g.store.Open("key", r.Sealed)
	if err != nil {
		return nil, err
	}
	return keys.Unmarshal(text)
}

func (g *Gate) newKey(purpose, kind, state string) (*store.KeyRow, *keys.Pair, error) {
	u, err := url.Parse(g.base)
	if err != nil {
		return nil, nil, err
	}
	p, err := keys.GenerateKind(kind, "Inner Gate "+purpose+" "+u.Hostname(), g.now(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	text, err := p.Marshal()
	return &store.KeyRow{Purpose: purpose, State: state, Added: g.now().UTC(), Sealed: g.store.Seal("key", text)}, p, err
}

// loadPairwise gives the secret of persistent NameIDs, made once.
func (g *Gate) loadPairwise(ctx context.Context) ([]byte, error) {
	secret := make([]byte, 32)
	_, _ = rand.Read(secret) // never fails (crypto/rand)
	sealed, err := g.store.Setting(ctx, "pairwise", hex.EncodeToString(g.store.Seal("pairwise", secret)))
	if err != nil {
		return nil, err
	}
	octets, err := hex.DecodeString(sealed)
	if err != nil {
		return nil, err
	}
	return g.store.Open("pairwise", octets)
}

// Keys lists the gate's keys.
func (g *Gate) Keys(ctx context.Context) ([]Key, error) {
	var rows []store.KeyRow
	if err := g.store.Read.WithContext(ctx).Order("purpose, id").Find(&rows).Error; err != nil {
		return nil, err
	}
	out := []Key{}
	for _, r := range rows {
		p, err := g.openKey(r)
		if err != nil {
			return nil, err
		}
		out = append(out, Key{r.ID, r.Purpose, r.State, r.Added, p.Certificate})
	}
	return out, nil
}

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
	g.saving.Lock()
	defer g.saving.Unlock()
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
		return tx.Create(g.history(by, "key", purpose, "added", 0, nil)).Error
	})
	if err != nil {
		return err
	}
	return g.reloadKeys(ctx)
}

// SwitchKey makes the announced key the current one. The one before stays for
// what was encrypted to it.
func (g *Gate) SwitchKey(ctx context.Context, by By, purpose string) error {
	g.saving.Lock()
	defer g.saving.Unlock()
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
		return tx.Create(g.history(by, "key", purpose, "changed", 0, nil)).Error
	})
	if err != nil {
		return err
	}
	return g.reloadKeys(ctx)
}

// RemoveKey removes a key that is not the current one.
func (g *Gate) RemoveKey(ctx context.Context, by By, id int64) error {
	g.saving.Lock()
	defer g.saving.Unlock()
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
		return tx.Create(g.history(by, "key", row.Purpose, "removed", 0, nil)).Error
	})
	if err != nil {
		return err
	}
	return g.reloadKeys(ctx)
}

// ownKeys fills in all keys of the gate itself.
func (g *Gate) ownKeys(ctx context.Context, self *federation.Gate) (err error) {
	sets := map[string]federation.KeySet{}
	for _, p := range self.Purposes {
		if sets[p.Name], err = g.loadKeys(ctx, p.Name); err != nil {
			return err
		}
	}
	self.Keys = sets
	return nil
}

// reloadKeys puts the keys as stored into a new snapshot.
func (g *Gate) reloadKeys(ctx context.Context) error {
	snap := g.Snapshot()
	self := snap.Gate
	if err := g.ownKeys(ctx, &self); err != nil {
		return err
	}
	var apps []federation.Record
	for _, a := range snap.Applications() {
		if !a.Side.OwnKeys() {
			continue
		}
		b := a.Copy().(*federation.Application)
		b.Keys = federation.KeySet{}
		if err := g.fillKeys(ctx, b); err != nil {
			return err
		}
		apps = append(apps, b)
	}
	g.snapshot.Store(snap.WithGate(self).With(apps...))
	return nil
}
