package gate

import (
	"context"
	"encoding/json"
	"errors"
	"sync"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/store"
)

// sessionLife is how long a gate session lasts, unless the provider limits it.
const sessionLife = 8 * time.Hour

// session is a gate session: what a provider said about the person in this
// browser.
type session struct {
	Hash     []byte          `json:"-"`
	Provider federation.Name `json:"provider"`
	Answer   crossing.Answer `json:"answer"`
	Person   crossing.Person `json:"person"`
	Expires  time.Time       `json:"expires"`
}

// sessions caches sessions in memory.
type sessions struct {
	mu     sync.RWMutex
	byHash map[string]*session
}

func newSessions() *sessions { return &sessions{byHash: map[string]*session{}} }

func (c *sessions) put(s *session) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.byHash[string(s.Hash)] = s
}

func (c *sessions) get(hash []byte) *session {
	c.mu.RLock()
	defer c.mu.RUnlock()
	return c.byHash[string(hash)]
}

func (c *sessions) sweep(now time.Time) {
	c.dropIf(func(s *session) bool { return !now.Before(s.Expires) })
}

func (c *sessions) dropProvider(name string) {
	c.dropIf(func(s *session) bool { return string(s.Provider) == name })
}

func (c *sessions) dropIf(gone func(*session) bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for h, s := range c.byHash {
		if gone(s) {
			delete(c.byHash, h)
		}
	}
}

// session finds the session that a browser's cookie stands for, nil if there is
// none any more.
func (g *Gate) session(ctx context.Context, token string) *session {
	if token == "" {
		return nil
	}
	hash, now := store.Hash(token), g.now()
	if s := g.sessions.get(hash); s != nil {
		if now.Before(s.Expires) {
			return s
		}
		return nil
	}
	var row store.SessionRow
	err := g.store.Read.WithContext(ctx).Where("hash = ? AND expires > ?", hash, now.UTC()).Take(&row).Error
	if err != nil {
		if !errors.Is(err, gorm.ErrRecordNotFound) {
			g.log.Error("a session cannot be read", "error", err)
		}
		return nil
	}
	plain, err := g.store.Open("session", row.Sealed)
	s := &session{Hash: hash}
	if err == nil {
		err = json.Unmarshal(plain, s)
	}
	if err != nil {
		g.log.Error("a session cannot be read", "error", err)
		return nil
	}
	g.sessions.put(s)
	return s
}

// newSession makes a session and its cookie's value.
func (g *Gate) newSession(p *federation.Provider, a *crossing.Answer, who crossing.Person) (*session, string) {
	token := randomText(32)
	s := &session{Hash: store.Hash(token), Provider: p.Name, Answer: *a, Person: who, Expires: g.now().Add(sessionLife)}
	if !a.Until.IsZero() && a.Until.Before(s.Expires) {
		s.Expires = a.Until
	}
	return s, token
}

func (g *Gate) sessionRow(s *session) (*store.SessionRow, error) {
	plain, err := json.Marshal(s)
	if err != nil {
		return nil, err
	}
	return &store.SessionRow{Hash: s.Hash, Person: s.Person.ID, Provider: string(s.Provider), Began: g.now().UTC(), Expires: s.Expires.UTC(),
		Sealed: g.store.Seal("session", plain)}, nil
}
