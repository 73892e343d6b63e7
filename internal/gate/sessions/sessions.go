// Package sessions keeps the sessions of people, in the store and in memory.
package sessions

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"strings"
	"sync"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/store"
)

// Room caches sessions in memory, by their Ref: the hash of the cookie.
type Room struct {
	store *store.Store
	log   *slog.Logger
	now   func() time.Time
	mu    sync.RWMutex
	byRef map[string]*crossing.Session
}

// New makes a room over a store.
func New(s *store.Store, log *slog.Logger, now func() time.Time) *Room {
	return &Room{store: s, log: log, now: now, byRef: map[string]*crossing.Session{}}
}

// Put keeps a session in memory.
func (rm *Room) Put(s *crossing.Session) {
	rm.mu.Lock()
	defer rm.mu.Unlock()
	rm.byRef[s.Ref] = s
}

func (rm *Room) get(ref string) *crossing.Session {
	rm.mu.RLock()
	defer rm.mu.RUnlock()
	return rm.byRef[ref]
}

// Drop forgets a session in memory.
func (rm *Room) Drop(ref string) {
	rm.mu.Lock()
	defer rm.mu.Unlock()
	delete(rm.byRef, ref)
}

// Clear forgets all sessions in memory; they are read again.
func (rm *Room) Clear() {
	rm.mu.Lock()
	defer rm.mu.Unlock()
	clear(rm.byRef)
}

// Sweep forgets sessions in memory that have expired.
func (rm *Room) Sweep(now time.Time) {
	rm.mu.Lock()
	defer rm.mu.Unlock()
	for ref, s := range rm.byRef {
		if !now.Before(s.Expires) {
			delete(rm.byRef, ref)
		}
	}
}

// Find gives the session that a browser's cookie stands for, nil if there is
// none any more.
func (rm *Room) Find(ctx context.Context, token string) *crossing.Session {
	if token == "" {
		return nil
	}
	hash, now := store.Hash(token), rm.now()
	if s := rm.get(string(hash)); s != nil {
		if now.Before(s.Expires) {
			return s
		}
		return nil
	}
	var row store.SessionRow
	err := rm.store.Read.WithContext(ctx).Where("hash = ? AND expires > ?", hash, now.UTC()).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil
	}
	var s *crossing.Session
	if err == nil {
		s, err = rm.read(row)
	}
	if err != nil {
		rm.log.Error("a session cannot be read", "error", err)
		return nil
	}
	rm.Put(s)
	return s
}

// earlier is a session as builds before this one stored it: the word of one
// provider.
type earlier struct {
	Provider federation.Name `json:"provider"`
	Answer   *struct {
		crossing.Answer
		AuthnInstant time.Time `json:"authnInstant"`
	} `json:"answer"`
}

func (rm *Room) read(row store.SessionRow) (*crossing.Session, error) {
	plain, err := rm.store.Open("session", row.Sealed)
	if err != nil {
		return nil, err
	}
	s := &crossing.Session{}
	var was earlier
	if err := errors.Join(json.Unmarshal(plain, s), json.Unmarshal(plain, &was)); err != nil {
		return nil, err
	}
	if a := was.Answer; a != nil {
		a.Provider, a.At, a.Ends = was.Provider, a.AuthnInstant, s.Expires
		s.Proofs = []crossing.Answer{a.Answer}
	}
	for i := range s.Proofs {
		if a := &s.Proofs[i]; a.ProviderID == "" {
			a.ProviderID = federation.ID(a.Provider) // that of all records of before there were IDs
		}
	}
	s.Ref = string(row.Hash)
	return s, nil
}

// Lives reports whether a session is still there, by its lasting name.
func (rm *Room) Lives(ctx context.Context, lasting string) (bool, error) {
	var n int64
	err := rm.store.Read.WithContext(ctx).Model(&store.SessionRow{}).Where("lasting = ? AND expires > ?", lasting,
		rm.now().UTC()).Limit(1).Count(&n).Error
	return n > 0 && lasting != "", err
}

// Row gives what is stored of a session.
func (rm *Room) Row(s *crossing.Session) (*store.SessionRow, error) {
	shown := *s
	shown.Ref = ""
	plain, err := json.Marshal(shown)
	if err != nil {
		return nil, err
	}
	var by []string
	for _, p := range s.Proofs {
		by = append(by, string(p.ProviderID))
	}
	return &store.SessionRow{Hash: []byte(s.Ref), Person: s.Person.ID, Provider: strings.Join(by, " "),
		Began: rm.now().UTC(), Expires: s.Expires.UTC(), Lasting: s.Lasting, Used: rm.now().UTC(),
		Sealed: rm.store.Seal("session", plain)}, nil
}

// ForgetProvider ends the sessions that rest on a provider's word.
func (rm *Room) ForgetProvider(tx *gorm.DB, id federation.ID) error {
	return tx.Where("' ' || provider || ' ' LIKE ?", "% "+string(id)+" %").Delete(&store.SessionRow{}).Error
}
