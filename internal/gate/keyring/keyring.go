// Package keyring keeps the gate's own keys and secrets, sealed.
package keyring

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/store"
)

// Room keeps keys and secrets.
type Room struct {
	store *store.Store
	base  string
	now   func() time.Time
}

// New makes a room for a gate with a base address.
func New(s *store.Store, base string, now func() time.Time) *Room {
	return &Room{store: s, base: base, now: now}
}

// Purpose is what keys are for.
type Purpose struct {
	Stored string // what the keys are found by
	Shown  string // what people call it
	first  string // kind of the first key, "" for the usual one
}

func (p Purpose) kind() string { return cmp.Or(p.first, keys.Kinds[0]) }

// OfGate is a purpose of the gate itself.
func OfGate(p federation.Purpose) Purpose {
	out := Purpose{Stored: p.Name, Shown: p.Name}
	if len(p.Kinds) > 0 {
		out.first = p.Kinds[0]
	}
	return out
}

// OfApplication is the purpose of an application's own keys. They belong to its ID,
// so that another one under its name never gets them.
func OfApplication(a *federation.Application) Purpose {
	out := Purpose{Stored: "app/" + string(a.ID), Shown: "app/" + string(a.Name)}
	if of, says := a.Side.(interface{ KeyKind() string }); says {
		out.first = of.KeyKind()
	}
	return out
}

// Key states through a roll-over.
const (
	Current = "current"
	Next    = "next"
	Old     = "old"
	Unused  = "unused" // shown only: nothing has such keys any more
)

// Key is a key of the gate, without its private half.
type Key struct {
	ID          int64
	Purpose     string
	State       string
	Added       time.Time
	Certificate keys.Certificate
}

// Load gives the key set for a purpose, making the first key.
func (rm *Room) Load(ctx context.Context, purpose Purpose) (federation.KeySet, error) {
	set, err := rm.there(ctx, purpose)
	if err != nil || set.Current != nil {
		return set, err
	}
	row, p, err := rm.Make(purpose, purpose.kind(), Current)
	if err != nil {
		return set, err
	}
	set.Current = p
	return set, rm.store.Write(ctx, func(tx *gorm.DB) error {
		key := *row // it may be run again
		return tx.Create(&key).Error
	})
}

// there gives the key set for a purpose as far as it was made.
func (rm *Room) there(ctx context.Context, purpose Purpose) (federation.KeySet, error) {
	var set federation.KeySet
	var rows []store.KeyRow
	if err := rm.store.Read.WithContext(ctx).Where("purpose = ?",
		purpose.Stored).Order("id DESC").Find(&rows).Error; err != nil {
		return set, err
	}
	for _, r := range rows {
		p, err := rm.openKey(r)
		if err != nil {
			return set, err
		}
		switch r.State {
		case Current:
			set.Current = p
		case Next:
			set.Next = p
		default:
			set.Old = append(set.Old, p)
		}
	}
	return set, nil
}

func (rm *Room) openKey(r store.KeyRow) (*keys.Pair, error) {
	text, err := rm.store.Open("key", r.Sealed)
	if err != nil {
		return nil, err
	}
	return keys.Unmarshal(text)
}

// Make makes a key of a kind (keys.Kinds), and what is to be stored of it.
func (rm *Room) Make(purpose Purpose, kind, state string) (*store.KeyRow, *keys.Pair, error) {
	u, err := url.Parse(rm.base)
	if err != nil {
		return nil, nil, err
	}
	p, err := keys.GenerateKind(kind, "Inner Gate "+purpose.Shown+" "+u.Hostname(), rm.now(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	text, err := p.Marshal()
	return &store.KeyRow{Purpose: purpose.Stored, State: state, Added: rm.now().UTC(), Sealed: rm.store.Seal("key",
		text)}, p, err
}

// Secrets of the gate, each made once.
const (
	Pairwise = "pairwise" // lasting names of people are derived with it
	Handles  = "handles"  // codes and tokens are made with it
)

// Secret gives one of the gate's secrets.
func (rm *Room) Secret(ctx context.Context, name string) ([]byte, error) {
	secret := make([]byte, 32)
	_, _ = rand.Read(secret) // never fails (crypto/rand)
	sealed, err := rm.store.Setting(ctx, name, hex.EncodeToString(rm.store.Seal(name, secret)))
	if err != nil {
		return nil, err
	}
	octets, err := hex.DecodeString(sealed)
	if err != nil {
		return nil, err
	}
	return rm.store.Open(name, octets)
}

// List lists the gate's keys.
func (rm *Room) List(ctx context.Context) ([]Key, error) {
	var rows []store.KeyRow
	if err := rm.store.Read.WithContext(ctx).Order("purpose, id").Find(&rows).Error; err != nil {
		return nil, err
	}
	out := []Key{}
	for _, r := range rows {
		p, err := rm.openKey(r)
		if err != nil {
			return nil, err
		}
		out = append(out, Key{r.ID, r.Purpose, r.State, r.Added, p.Certificate})
	}
	return out, nil
}

// Own fills in all keys of the gate itself.
func (rm *Room) Own(ctx context.Context, self *federation.Gate) (err error) {
	sets := map[string]federation.KeySet{}
	for _, p := range self.Purposes {
		get := rm.Load
		if p.Later {
			get = rm.there
		}
		if sets[p.Name], err = get(ctx, OfGate(p)); err != nil {
			return err
		}
	}
	self.Keys = sets
	return nil
}

// Need gives the gate with keys for a purpose that was left for later. What it was
// before stays as it is.
func (rm *Room) Need(ctx context.Context, self federation.Gate, purpose string) (federation.Gate, error) {
	for _, p := range self.Purposes {
		if p.Name != purpose || self.Keys[purpose].Current != nil {
			continue
		}
		set, err := rm.Load(ctx, OfGate(p))
		if err != nil {
			return self, err
		}
		self.Keys = maps.Clone(self.Keys)
		self.Keys[purpose] = set
	}
	return self, nil
}

// PutCredential keeps a secret that calls name by reference. It is never given
// out again but to such a call.
func (rm *Room) PutCredential(ctx context.Context, name, secret string) error {
	return rm.store.Write(ctx, func(tx *gorm.DB) error { return rm.Confide(tx, name, secret) })
}

// Confide is PutCredential inside a transaction.
func (rm *Room) Confide(tx *gorm.DB, name, secret string) error {
	return tx.Save(&store.CredentialRow{Name: name, Sealed: rm.store.Seal("credential "+name, []byte(secret))}).Error
}

// Credential gives a secret that calls name by reference.
func (rm *Room) Credential(ctx context.Context, name string) (string, error) {
	var row store.CredentialRow
	err := rm.store.Read.WithContext(ctx).Where("name = ?", name).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return "", fmt.Errorf("there is no credential %q", name)
	}
	if err != nil {
		return "", err
	}
	secret, err := rm.store.Open("credential "+name, row.Sealed)
	return string(secret), err
}
