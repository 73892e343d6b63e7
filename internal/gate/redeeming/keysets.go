package redeeming

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"innergate.example/innergate/internal/core/crossing/oidcside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/gate/fetch"
	"innergate.example/innergate/internal/store"
)

// keySets are the keys at applications' addresses: the last good copy of each is
// kept, asked for again now and then, and when a key is missing.
type keySets struct {
	store *store.Store
	now   func() time.Time
	fetch *fetch.Fetcher
	mu    sync.Mutex
	byApp map[federation.ID]*keySet
}

type keySet struct {
	mu      sync.Mutex // one asks at a time
	address string
	keys    []oidc.Key
	tried   time.Time
	loaded  bool
	problem error
}

// How often an address is asked: usually, and at most, for a key that is missing.
const (
	keysFresh  = time.Hour
	keysAgain  = time.Minute
	largestSet = 256 << 10
)

func newKeySets(p Parts) *keySets {
	return &keySets{store: p.Store, now: p.Now, fetch: p.Fetch, byApp: map[federation.ID]*keySet{}}
}

func (ks *keySets) set(id federation.ID) *keySet {
	ks.mu.Lock()
	defer ks.mu.Unlock()
	if ks.byApp[id] == nil {
		ks.byApp[id] = &keySet{}
	}
	return ks.byApp[id]
}

// of gives the keys at an application's address; with missing, they are asked for
// again, unless that was tried just now.
func (ks *keySets) of(ctx context.Context, a *federation.Application, address string, missing bool) ([]oidc.Key,
	error) {
	s := ks.set(a.ID)
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := ks.load(ctx, a, address, s); err != nil {
		return nil, err
	}
	since := ks.now().Sub(s.tried)
	if missing && since >= keysAgain || len(s.keys) == 0 && since >= keysAgain {
		if err := ks.ask(ctx, a, s); err != nil {
			return nil, err
		}
	}
	if len(s.keys) == 0 {
		return nil, &oidc.Refusal{Code: oidc.InvalidClient, Finding: finding.New(finding.JWKSUnusable,
			finding.Fact("Address", address), finding.Fact("Cause", fmt.Sprint(s.problem)))}
	}
	return s.keys, nil
}

// load takes the copy that is kept.
func (ks *keySets) load(ctx context.Context, a *federation.Application, address string, s *keySet) error {
	if s.loaded && s.address == address {
		return nil
	}
	var rows []store.KeySetRow
	if err := ks.store.Read.WithContext(ctx).Where("record = ?", string(a.ID)).Limit(1).Find(&rows).Error; err != nil {
		return err
	}
	s.loaded, s.address, s.keys, s.tried, s.problem = true, address, nil, time.Time{}, nil
	if len(rows) == 1 && rows[0].Address == address {
		s.tried = rows[0].Tried
		if len(rows[0].Octets) > 0 {
			s.keys, s.problem = oidc.ReadKeys(rows[0].Octets)
		}
	}
	return nil
}

// ask fetches the keys. What cannot be used leaves the last good copy.
func (ks *keySets) ask(ctx context.Context, a *federation.Application, s *keySet) error {
	row := &store.KeySetRow{Record: string(a.ID), Address: s.address, Tried: ks.now().UTC()}
	got, err := ks.fetch.Trusting(a.Keeping).Get(ctx, s.address, fetch.Conditions{}, largestSet)
	var keys []oidc.Key
	if err == nil {
		keys, err = oidc.ReadKeys(got.Octets)
	}
	if s.tried, s.problem = row.Tried, err; err != nil {
		row.Problem = err.Error()
	}
	columns := []string{"address", "tried", "problem"}
	if err == nil {
		s.keys, row.Octets, row.At = keys, got.Octets, row.Tried
		columns = append(columns, "octets", "at")
	}
	return ks.store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Clauses(clause.OnConflict{Columns: []clause.Column{{Name: "record"}},
			DoUpdates: clause.AssignmentColumns(columns)}).Create(row).Error
	})
}

// RefreshKeys asks the addresses whose time has come.
func (rm *Room) RefreshKeys(ctx context.Context) error {
	var errs []error
	for _, a := range rm.records.Snapshot().Applications() {
		side, ok := a.Side.(*oidcside.Application)
		if !ok || side.KeyAddress == "" || a.Phase != federation.Live {
			continue
		}
		s := rm.keys.set(a.ID)
		s.mu.Lock()
		err := rm.keys.load(ctx, a, side.KeyAddress, s)
		if err == nil && rm.now().Sub(s.tried) >= keysFresh {
			err = rm.keys.ask(ctx, a, s)
		}
		s.mu.Unlock()
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}
