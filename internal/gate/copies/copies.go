// Package copies keeps documents that records rely on and that lie at addresses of the
// other side, such as its keys: the last good copy of each, asked for again in the
// background before anybody has to wait for it, and when it does not do.
package copies

import (
	"context"
	"encoding/json"
	"errors"
	"sync"
	"sync/atomic"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/gate/fetch"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/store"
)

// Room keeps copies.
type Room struct {
	store   *store.Store
	now     func() time.Time
	fetch   *fetch.Fetcher
	records *records.Room
	mu      sync.Mutex
	all     map[federation.ID]*kept
	round   sync.Mutex  // one at a time goes round all of them
	again   atomic.Bool // somebody wanted to meanwhile
}

// kept is the copy of one record.
type kept struct {
	asking sync.Mutex // one asks at a time
	mu     sync.RWMutex
	state
}

// state is what is known of a copy.
type state struct {
	loaded  bool
	address string
	read    any // nil while there is none
	at      time.Time
	tried   time.Time
	problem string
}

// How often an address is asked: usually, after a failure, and at most, where what
// is kept does not do.
const (
	fresh   = time.Hour
	retry   = 5 * time.Minute
	again   = time.Minute
	largest = 256 << 10
)

// New makes a room for the records of another.
func New(s *store.Store, now func() time.Time, f *fetch.Fetcher, r *records.Room) *Room {
	return &Room{store: s, now: now, fetch: f, records: r, all: map[federation.ID]*kept{}}
}

// source is a record with the part of it that relies on a document.
type source struct {
	federation.Record
	federation.Copying
}

func sourceOf(r federation.Record) (source, bool) {
	side := r.Part().Can().Copying
	if side == nil || side.CopyOf() == "" {
		return source{}, false
	}
	return source{r, side}, true
}

func (rm *Room) kept(id federation.ID) *kept {
	rm.mu.Lock()
	defer rm.mu.Unlock()
	if rm.all[id] == nil {
		rm.all[id] = &kept{}
	}
	return rm.all[id]
}

// Of gives the document that a record relies on, as its side reads it. With anew what
// is kept does not do: it is asked for again, unless that was just now. A finding says
// why there is none.
func (rm *Room) Of(ctx context.Context, r federation.Record, anew bool) (any, *finding.Finding, error) {
	s, ok := sourceOf(r)
	if !ok {
		return nil, nil, nil
	}
	k := rm.kept(r.Basic().ID)
	st, err := rm.state(ctx, s, k)
	if err != nil {
		return nil, nil, err
	}
	if anew || st.read == nil {
		if st, err = rm.renew(ctx, s, k, again); err != nil {
			return nil, nil, err
		}
	}
	if st.read == nil {
		return nil, s.Unread(st.address, st.problem), nil
	}
	return st.read, nil, nil
}

// Peek gives what is kept, nil if there is nothing, and asks nobody.
func (rm *Room) Peek(ctx context.Context, r federation.Record) (any, error) {
	s, ok := sourceOf(r)
	if !ok {
		return nil, nil
	}
	st, err := rm.state(ctx, s, rm.kept(r.Basic().ID))
	return st.read, err
}

// state gives what is known of a copy, out of the store the first time.
func (rm *Room) state(ctx context.Context, s source, k *kept) (state, error) {
	address := s.CopyOf()
	k.mu.RLock()
	st := k.state
	k.mu.RUnlock()
	if st.loaded && st.address == address {
		return st, nil
	}
	var rows []store.KeySetRow
	err := rm.store.Read.WithContext(ctx).Where("record = ?", string(s.Basic().ID)).Limit(1).Find(&rows).Error
	if err != nil {
		return state{}, err
	}
	st = state{loaded: true, address: address}
	if len(rows) == 1 && rows[0].Address == address {
		st.tried, st.at, st.problem = rows[0].Tried, rows[0].At, rows[0].Problem
		if len(rows[0].Octets) > 0 {
			if read, err := s.ReadCopy(rows[0].Octets); err == nil {
				st.read = read
			} else {
				st.problem = err.Error()
			}
		}
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.loaded && k.address == address {
		return k.state, nil // somebody else was faster, and may know more
	}
	k.state = st
	return st, nil
}

// renew asks the address again, unless that was done within a time: whoever had to wait
// for another to ask takes what came of that.
func (rm *Room) renew(ctx context.Context, s source, k *kept, within time.Duration) (state, error) {
	k.asking.Lock()
	defer k.asking.Unlock()
	st, err := rm.state(ctx, s, k)
	if err != nil || !st.tried.IsZero() && rm.now().Sub(st.tried) < within {
		return st, err
	}
	row := &store.KeySetRow{Record: string(s.Basic().ID), Address: st.address, Tried: rm.now().UTC()}
	got, err := rm.fetch.Trusting(s.Basic().Keeping).Get(ctx, st.address, fetch.Conditions{}, largest)
	var read any
	if err == nil {
		read, err = s.ReadCopy(got.Octets)
	}
	if ctx.Err() != nil {
		return st, ctx.Err()
	}
	columns := []string{"address", "tried", "problem"}
	if st.tried, st.problem = row.Tried, ""; err != nil {
		st.problem, row.Problem = err.Error(), err.Error()
	} else {
		if row.Changed, err = changed(s, st.read, read, row.Tried); err != nil {
			return st, err
		}
		if row.Changed != nil {
			columns = append(columns, "changed")
		}
		st.read, st.at = read, row.Tried
		row.Octets, row.At = got.Octets, row.Tried
		columns = append(columns, "octets", "at")
	}
	k.mu.Lock()
	k.state = st
	k.mu.Unlock()
	return st, rm.store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Clauses(clause.OnConflict{Columns: []clause.Column{{Name: "record"}},
			DoUpdates: clause.AssignmentColumns(columns)}).Create(row).Error
	})
}

// Changed is how a copy differs from the one before.
type Changed struct {
	At       time.Time          `json:"at"`
	Findings []*finding.Finding `json:"findings"`
}

// changed tells how a new copy differs from the one before, nil if it does not or there
// was none.
func changed(s source, before, after any, at time.Time) ([]byte, error) {
	if before == nil {
		return nil, nil
	}
	found := checks.Change(s.Kind().Side(), federation.Differences(s.DescribeCopy(before), s.DescribeCopy(after)))
	if len(found) == 0 {
		return nil, nil
	}
	return json.Marshal(Changed{At: at, Findings: found})
}

// RefreshDue asks the addresses whose time has come.
func (rm *Room) RefreshDue(ctx context.Context) error {
	if !rm.round.TryLock() {
		rm.again.Store(true) // the round before is not through yet, and goes round once more
		return nil
	}
	defer rm.round.Unlock()
	for {
		rm.again.Store(false)
		if err := rm.refresh(ctx); err != nil || !rm.again.Load() {
			return err
		}
	}
}

func (rm *Room) refresh(ctx context.Context) error {
	places := make(chan struct{}, 16)
	var working sync.WaitGroup
	var mu sync.Mutex
	var errs []error
	there := map[federation.ID]bool{}
	for _, r := range rm.records.Snapshot().Records() {
		there[r.Basic().ID] = true
		s, ok := sourceOf(r)
		if !ok || !r.Basic().Phase.Passes() {
			continue
		}
		places <- struct{}{}
		working.Go(func() {
			defer func() { <-places }()
			if err := rm.due(ctx, s); err != nil && ctx.Err() == nil {
				mu.Lock()
				errs = append(errs, err)
				mu.Unlock()
			}
		})
	}
	working.Wait()
	rm.forget(there)
	return errors.Join(errs...)
}

// due asks an address whose time has come. It waits for somebody who is asking it right
// now: what came of that is stored then.
func (rm *Room) due(ctx context.Context, s source) error {
	k := rm.kept(s.Basic().ID)
	st, err := rm.state(ctx, s, k)
	if err != nil {
		return err
	}
	within := fresh
	if st.problem != "" {
		within = retry
	}
	_, err = rm.renew(ctx, s, k, within)
	return err
}

// forget drops copies of records that are gone from memory.
func (rm *Room) forget(there map[federation.ID]bool) {
	rm.mu.Lock()
	defer rm.mu.Unlock()
	for id := range rm.all {
		if !there[id] {
			delete(rm.all, id)
		}
	}
}

// Findings are what is to be known of the copies, by the path of their records: that one
// cannot be had, and lately what changed.
func (rm *Room) Findings(ctx context.Context, lately time.Duration) (map[string][]*finding.Finding, error) {
	var rows []store.KeySetRow
	if err := rm.store.Read.WithContext(ctx).Omit("octets").Where("problem <> '' OR changed IS NOT NULL").
		Find(&rows).Error; err != nil {
		return nil, err
	}
	if len(rows) == 0 {
		return nil, nil
	}
	byID := map[string]store.KeySetRow{}
	for _, row := range rows {
		byID[row.Record] = row
	}
	out := map[string][]*finding.Finding{}
	for _, r := range rm.records.Snapshot().Records() {
		row, told := byID[string(r.Basic().ID)]
		s, ok := sourceOf(r)
		if !told || !ok || s.CopyOf() != row.Address {
			continue
		}
		at := r.Ref().String()
		if row.Problem != "" {
			f := s.Unread(row.Address, row.Problem).From(r.Kind().Side())
			if !row.At.IsZero() {
				f = f.With(finding.Passing("Last good copy", row.At.UTC().Format(time.RFC3339)))
				f.Severity = finding.Warning
			}
			out[at] = append(out[at], f)
		}
		var c Changed
		if row.Changed != nil {
			if err := json.Unmarshal(row.Changed, &c); err != nil {
				return nil, err
			}
			if rm.now().Sub(c.At) < lately {
				out[at] = append(out[at], c.Findings...)
			}
		}
	}
	return out, nil
}
