package gate

import (
	"context"
	"encoding/json"
	"net/netip"
	"sync"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/store"
)

// Bounds on crossings in progress.
const (
	crossingLife       = 10 * time.Minute
	maxCrossings       = 50000
	maxCrossingsOfOne  = 2000 // from one network address; many people share one
	maxCrossingCookies = 10   // in one browser
)

// record is a crossing in progress. Once made it is only changed under the lock
// of crossings, by replacing it.
type record struct {
	ID          string          `json:"id"`
	Trace       store.TraceRow  `json:"trace"`
	Application federation.Name `json:"application"`
	Reply       crossing.Reply  `json:"reply"`
	Wish        crossing.Wish   `json:"wish"`
	Chosen      federation.Name `json:"chosen,omitempty"`
	Provider    federation.Name `json:"provider,omitempty"`
	Asked       *crossing.Asked `json:"asked,omitempty"`
	Secret      []byte          `json:"secret"` // hash of the cookie
	From        string          `json:"from"`   // network the browser is in
	Expires     time.Time       `json:"expires"`
	Ended       bool            `json:"ended,omitempty"`
}

// crossings are those in progress, in memory and in the store.
type crossings struct {
	store   *store.Store
	mu      sync.Mutex
	byID    map[string]*record
	byAsked map[string]string // ID of our request → crossing
	from    map[string]int
}

func loadCrossings(s *store.Store, now time.Time) (*crossings, error) {
	c := &crossings{store: s, byID: map[string]*record{}, byAsked: map[string]string{}, from: map[string]int{}}
	var rows []store.CrossingRow
	if err := s.Read.Where("expires > ?", now.UTC()).Find(&rows).Error; err != nil {
		return nil, err
	}
	for _, row := range rows {
		plain, err := s.Open("crossing", row.Sealed)
		if err != nil {
			return nil, err
		}
		r := &record{}
		if err := json.Unmarshal(plain, r); err != nil {
			return nil, err
		}
		r.Ended = row.Ended
		c.put(r)
	}
	return c, nil
}

// put replaces a record in memory. The lock is held, or not needed yet.
func (c *crossings) put(r *record) {
	if c.byID[r.ID] == nil {
		c.from[r.From]++
	}
	c.byID[r.ID] = r
	if r.Asked != nil {
		c.byAsked[r.Asked.ID] = r.ID
	}
}

// network is what crossings are counted by: the address, of IPv6 the /64.
func network(address string) string {
	a, err := netip.ParseAddr(address)
	if err != nil {
		return address
	}
	if a = a.Unmap(); a.Is6() {
		p, _ := a.Prefix(64)
		return p.String()
	}
	return a.String()
}

// admit refuses when there are too many crossings already.
func (c *crossings) admit(from string) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.byID) >= maxCrossings || c.from[from] >= maxCrossingsOfOne {
		return finding.New(finding.TooManyStarts, finding.Fact("Network", from))
	}
	return nil
}

// keep commits a record to disk, then to memory.
func (c *crossings) keep(ctx context.Context, r *record) error {
	plain, err := json.Marshal(r)
	if err != nil {
		return err
	}
	row := store.CrossingRow{ID: r.ID, Expires: r.Expires.UTC(), Sealed: c.store.Seal("crossing", plain)}
	if err := c.store.Write(ctx, func(tx *gorm.DB) error { return tx.Save(&row).Error }); err != nil {
		return err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.put(r)
	return nil
}

// find gives a record that has not expired, nil if there is none.
func (c *crossings) find(id string, now time.Time) *record {
	c.mu.Lock()
	defer c.mu.Unlock()
	if r := c.byID[id]; r != nil && now.Before(r.Expires) {
		return r
	}
	return nil
}

// asked finds the crossing by the ID of our request to the provider.
func (c *crossings) asked(id string, now time.Time) *record {
	c.mu.Lock()
	key := c.byAsked[id]
	c.mu.Unlock()
	if key == "" {
		return nil
	}
	return c.find(key, now)
}

// endIn marks the record as ended in a transaction; it fails with a finding if
// somebody else was first.
func endIn(tx *gorm.DB, id string) error {
	done := tx.Model(&store.CrossingRow{}).Where("id = ? AND ended = ?", id, false).Update("ended", true)
	if done.Error == nil && done.RowsAffected != 1 {
		return finding.New(finding.CrossingEnded)
	}
	return done.Error
}

// ended marks the record as ended in memory, after the transaction.
func (c *crossings) ended(id string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if r := c.byID[id]; r != nil {
		done := *r
		done.Ended = true
		c.byID[id] = &done
	}
}

func (c *crossings) sweep(now time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for id, r := range c.byID {
		if now.Before(r.Expires) {
			continue
		}
		delete(c.byID, id)
		if r.Asked != nil {
			delete(c.byAsked, r.Asked.ID)
		}
		if c.from[r.From]--; c.from[r.From] <= 0 {
			delete(c.from, r.From)
		}
	}
}
