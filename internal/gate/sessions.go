package gate

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

// sessions caches sessions in memory, by their Ref: the hash of the cookie.
type sessions struct {
	store *store.Store
	log   *slog.Logger
	now   func() time.Time
	mu    sync.RWMutex
	byRef map[string]*crossing.Session
}

func newSessions(s *store.Store, log *slog.Logger, now func() time.Time) *sessions {
	return &sessions{store: s, log: log, now: now, byRef: map[string]*crossing.Session{}}
}

func (c *sessions) put(s *crossing.Session) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.byRef[s.Ref] = s
}

func (c *sessions) get(ref string) *crossing.Session {
	c.mu.RLock()
	defer c.mu.RUnlock()
	return c.byRef[ref]
}

func (c *sessions) drop(ref string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	delete(c.byRef, ref)
}

func (c *sessions) clear() {
	c.mu.Lock()
	defer c.mu.Unlock()
	clear(c.byRef)
}

func (c *sessions) sweep(now time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for ref, s := range c.byRef {
		if !now.Before(s.Expires) {
			delete(c.byRef, ref)
		}
	}
}

// find gives the session that a browser's cookie stands for, nil if there is
// none any more.
func (c *sessions) find(ctx context.Context, token string) *crossing.Session {
	if token == "" {
		return nil
	}
	hash, now := store.Hash(token), c.now()
	if s := c.get(string(hash)); s != nil {
		if now.Before(s.Expires) {
			return s
		}
		return nil
	}
	var row store.SessionRow
	err := c.store.Read.WithContext(ctx).Where("hash = ? AND expires > ?", hash, now.UTC()).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil
	}
	var s *crossing.Session
	if err == nil {
		s, err = c.read(row)
	}
	if err != nil {
		c.log.Error("a session cannot be read", "error", err)
		return nil
	}
	c.put(s)
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

func (c *sessions) read(row store.SessionRow) (*crossing.Session, error) {
	plain, err := c.store.Open("session", row.Sealed)
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

// row gives what is stored of a session.
func (c *sessions) row(s *crossing.Session) (*store.SessionRow, error) {
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
	return &store.SessionRow{Hash: []byte(s.Ref), Person: s.Person.ID, Provider: strings.Join(by, " "), Began: c.now().UTC(), Expires: s.Expires.UTC(),
		Sealed: c.store.Seal("session", plain)}, nil
}

// forgetProvider ends the sessions that rest on a provider's word.
func (c *sessions) forgetProvider(tx *gorm.DB, id federation.ID) error {
	return tx.Where("' ' || provider || ' ' LIKE ?", "% "+string(id)+" %").Delete(&store.SessionRow{}).Error
}
