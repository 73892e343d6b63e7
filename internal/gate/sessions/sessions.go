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
	mu    sync.Mutex
	ended int // how often something was dropped: what was read before that may be no more
	lately
}

// lately are sessions that somebody came with lately: new are those of the last while, old those of the while before it
// that nobody came with since. When the new ones fill their half, the old ones are forgotten, and are read again when
// somebody comes. With idle set, one may then be over up to a tenth of that time early, as after a restart: the store
// hears of its use that often.
type lately struct {
	new, old map[string]*used
	octets   int // of the new ones
}

// most is how many octets of sessions are kept in memory, about.
const most = 16 << 20

// used is a session, when somebody last came with it, and what the store knows of that.
type used struct {
	session    *crossing.Session
	at, stored time.Time
	size       int
}

// weight is what a session takes in memory, about, by what its row does.
func weight(row *store.SessionRow) int { return 1200 + 2*len(row.Sealed) }

// get gives one, nil if it is not there.
func (l *lately) get(ref string) *used {
	if u := l.new[ref]; u != nil {
		return u
	}
	if u := l.old[ref]; u != nil {
		l.put(ref, u)
		return u
	}
	return nil
}

// put keeps one, in place of what there was.
func (l *lately) put(ref string, u *used) {
	l.drop(ref)
	if l.octets+u.size > most/2 {
		l.new, l.old, l.octets = map[string]*used{}, l.new, 0
	}
	l.new[ref] = u
	l.octets += u.size
}

func (l *lately) drop(ref string) {
	if u := l.new[ref]; u != nil {
		l.octets -= u.size
		delete(l.new, ref)
	}
	delete(l.old, ref)
}

// New makes a room over a store.
func New(s *store.Store, log *slog.Logger, now func() time.Time, idle time.Duration) *Room {
	return &Room{store: s, log: log, now: now, idle: idle, lately: lately{new: map[string]*used{}}}
}

// Put keeps a session in memory that is stored in a row.
func (rm *Room) Put(s *crossing.Session, row *store.SessionRow) {
	rm.mu.Lock()
	defer rm.mu.Unlock()
	rm.put(s.Ref, &used{s, rm.now(), rm.now(), weight(row)})
}

// Drop forgets a session in memory.
func (rm *Room) Drop(ref string) {
	rm.mu.Lock()
	defer rm.mu.Unlock()
	rm.ended++
	rm.drop(ref)
}

// Clear forgets all sessions in memory; they are read again.
func (rm *Room) Clear() {
	rm.mu.Lock()
	defer rm.mu.Unlock()
	rm.ended++
	rm.lately = lately{new: map[string]*used{}}
}

// Sweep forgets sessions in memory that have expired.
func (rm *Room) Sweep(now time.Time) {
	rm.mu.Lock()
	defer rm.mu.Unlock()
	for _, all := range []map[string]*used{rm.new, rm.old} {
		for ref, u := range all {
			if !now.Before(u.session.Expires) || rm.idle > 0 && now.Sub(u.at) > rm.idle {
				rm.drop(ref)
			}
		}
	}
}

// Find gives the session that a browser's cookie stands for, nil if there is
// none any more.
func (rm *Room) Find(ctx context.Context, token string) *crossing.Session {
	if token == "" {
		return nil
	}
	hash := store.Hash(token)
	if s, known := rm.comes(ctx, string(hash), rm.now()); known {
		return s
	}
	return rm.Stored(ctx, "hash", hash)
}

// Stored gives a session as it is stored now, by its hash or lasting name; nil if there is
// none. One that ends while it is read is not kept in memory.
func (rm *Room) Stored(ctx context.Context, by string, name any) *crossing.Session {
	now := rm.now()
	rm.mu.Lock()
	ended := rm.ended
	rm.mu.Unlock()
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
		rm.put(s.Ref, &used{s, now, row.Used, weight(&row)})
	}
	rm.mu.Unlock()
	if kept {
		rm.comes(ctx, s.Ref, now)
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

// comes notes that somebody comes with a session in memory, and gives it, nil if it has expired or lay idle too long;
// known is false if it is not in memory. The store hears of it now and then: not every request is worth a transaction.
func (rm *Room) comes(ctx context.Context, ref string, now time.Time) (s *crossing.Session, known bool) {
	rm.mu.Lock()
	u := rm.get(ref)
	write := false
	if u != nil && now.Before(u.session.Expires) && (rm.idle == 0 || now.Sub(u.at) <= rm.idle) {
		s, u.at, write = u.session, now, rm.idle > 0 && now.Sub(u.stored) > rm.idle/10
	}
	if write {
		u.stored = now
	}
	rm.mu.Unlock()
	if write {
		err := rm.store.Write(ctx, func(tx *gorm.DB) error {
			return tx.Model(&store.SessionRow{}).Where("hash = ?", []byte(ref)).Update("used", now.UTC()).Error
		})
		if err != nil {
			rm.log.Error("the use of a session cannot be noted", "error", err)
		}
	}
	return s, u != nil
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
