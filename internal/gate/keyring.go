package gate

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"net/url"
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

// PutCredential keeps a secret that calls name by reference. It is never given
// out again but to such a call.
func (g *Gate) PutCredential(ctx context.Context, name, secret string) error {
	return g.store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Save(&store.CredentialRow{Name: name, Sealed: g.store.Seal("credential "+name, []byte(secret))}).Error
	})
}

func (g *Gate) credential(ctx context.Context, name string) (string, error) {
	var row store.CredentialRow
	err := g.store.Read.WithContext(ctx).Where("name = ?", name).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return "", fmt.Errorf("there is no credential %q", name)
	}
	if err != nil {
		return "", err
	}
	secret, err := g.store.Open("credential "+name, row.Sealed)
	return string(secret), err
}
