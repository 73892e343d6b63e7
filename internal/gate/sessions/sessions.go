// Package sessions keeps the sessions of people, in the store and in memory.
package sessions

import (
	"context"
	"encoding/hex"
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
	idle  time.Duration // a session that nobody comes with for so long has ended; 0 for any time
	mu    sync.RWMutex
	ended int // how often something was dropped: what was read before that may be no more
	byRef map[string]*crossing.Session
	used  map[string]use
}

// use is when somebody last came with a session, and what the store knows of that.
type use struct{ at, stored time.Time }

// New makes a room over a store.
func New(s *store.Store, log *slog.Logger, now func() time.Time, idle time.Duration) *Room {
	return &Room{store: s, log: log, now: now, idle: idle, byRef: map[string]*crossing.Session{}, used: map[string]use{}}
}

// Put keeps a session in memory.
func (rm *Room) Put(s *crossing.Session) {
	rm.mu.Lock()
	defer rm.mu.Unlock()
	rm.byRef[s.Ref], rm.used[s.Ref] = s, use{rm.now(), rm.now()}
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
	rm.ended++
	delete(rm.byRef, ref)
	delete(rm.used, ref)
}

// Clear forgets all sessions in memory; they are read again.
func (rm *Room) Clear() {
	rm.mu.Lock()
	defer rm.mu.Unlock()
	rm.ended++
	clear(rm.byRef)
	clear(rm.used)
}

// Sweep forgets sessions in memory that have expired.
func (rm *Room) Sweep(now time.Time) {
	rm.mu.Lock()
	defer rm.mu.Unlock()
	for ref, s := range rm.byRef {
		if !now.Before(s.Expires) || rm.idle > 0 && now.Sub(rm.used[ref].at) > rm.idle {
			delete(rm.byRef, ref)
			delete(rm.used, ref)
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
		if now.Before(s.Expires) && rm.touch(ctx, s.Ref, now) {
			return s
		}
		return nil
	}
	return rm.Stored(ctx, "hash", hash)
}

// Stored gives a session as it is stored now, by its hash or lasting name; nil if there is
// none. One that ends while it is read is not kept in memory.
func (rm *Room) Stored(ctx context.Context, by string, name any) *crossing.Session {
	now := rm.now()
	rm.mu.RLock()
	ended := rm.ended
	rm.mu.RUnlock()
	var row store.SessionRow
	err := rm.store.Read.WithContext(ctx).Where(by+" = ?", name).Where("expires > ? AND coalesce(used, began) >= ?",
		now.UTC(),
		rm.since(now)).Take(&row).Error
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
	rm.mu.Lock()
	kept := rm.ended == ended
	if kept {
		rm.byRef[s.Ref], rm.used[s.Ref] = s, use{now, row.Used}
	}
	rm.mu.Unlock()
	if kept {
		rm.touch(ctx, s.Ref, now)
	}
	return s
}

// In gives a session by its lasting name as a transaction sees it, also one that was stored a moment ago and is not yet
// on the disk; nil if there is none. Nobody comes with it by that.
func (rm *Room) In(tx *gorm.DB, lasting string) (*crossing.Session, error) {
	var row store.SessionRow
	err := tx.Where("lasting = ?", lasting).Limit(1).Find(&row).Error
	if err != nil || row.Lasting == "" {
		return nil, err
	}
	return rm.read(row)
}

// since is when somebody must have come with a session that is still there.
func (rm *Room) since(now time.Time) time.Time {
	if rm.idle == 0 {
		return time.Time{}
	}
	return now.Add(-rm.idle).UTC()
}

// touch notes that somebody comes with a session; false if it lay idle too long. The
// store hears of it now and then: not every request is worth a transaction.
func (rm *Room) touch(ctx context.Context, ref string, now time.Time) bool {
	if rm.idle == 0 {
		return true
	}
	rm.mu.Lock()
	u := rm.used[ref]
	alive := now.Sub(u.at) <= rm.idle
	write := alive && now.Sub(u.stored) > rm.idle/10
	if alive {
		u.at = now
	}
	if write {
		u.stored = now
	}
	rm.used[ref] = u
	rm.mu.Unlock()
	if write {
		err := rm.store.Write(ctx, func(tx *gorm.DB) error {
			return tx.Model(&store.SessionRow{}).Where("hash = ?", []byte(ref)).Update("used", now.UTC()).Error
		})
		if err != nil {
			rm.log.Error("the use of a session cannot be noted", "error", err)
		}
	}
	return alive
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
	s.Ref, s.Revision = string(row.Hash), row.Revision
	if row.Lasting != "" {
		s.Lasting = row.Lasting
	}
	if s.Lasting == "" { // of before sessions had a name that lasts
		s.Lasting = hex.EncodeToString(row.Hash)
	}
	return s, nil
}

// Lives reports whether a session is still there, by its lasting name.
func (rm *Room) Lives(ctx context.Context, lasting string) (bool, error) {
	var n int64
	err := rm.store.Read.WithContext(ctx).Model(&store.SessionRow{}).Where("lasting = ? AND expires > ? AND coalesce(used, began) >= ?",
		lasting, rm.now().UTC(), rm.since(rm.now())).Limit(1).Count(&n).Error
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
		Revision: s.Revision, Began: rm.now().UTC(), Expires: s.Expires.UTC(), Lasting: s.Lasting, Run: s.Run,
		Used:   rm.now().UTC(),
		Sealed: rm.store.Seal("session", plain)}, nil
}

// ForgetProvider ends the sessions that rest on a provider's word.
func (rm *Room) ForgetProvider(tx *gorm.DB, id federation.ID) error {
	if err := tx.Where("provider = ?", string(id)).Delete(&store.UpstreamRow{}).Error; err != nil {
		return err
	}
	return tx.Where("' ' || provider || ' ' LIKE ?", "% "+string(id)+" %").Delete(&store.SessionRow{}).Error
}

// Of gives the sessions of a person that have not ended, the newest first.
func (rm *Room) Of(ctx context.Context, person int64) (out []*crossing.Session, err error) {
	var rows []store.SessionRow
	err = rm.store.Read.WithContext(ctx).Where("person = ? AND expires > ?", person, rm.now().UTC()).Order("began DESC").
		Limit(50).Find(&rows).Error
	for _, row := range rows {
		var s *crossing.Session
		if err == nil {
			s, err = rm.read(row)
			out = append(out, s)
		}
	}
	return out, err
}
