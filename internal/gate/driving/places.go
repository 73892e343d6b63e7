package driving

import (
	"container/heap"
	"container/list"
	"encoding/json"
	"sync"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/store"
)

// Bounds on crossings that are not finished.
const (
	maxCrossings       = 50000
	maxCrossingOctets  = 128 << 20
	maxCrossingsOfOne  = 2000 // from one network address; many people share one
	maxCrossingCookies = 10   // in one browser
)

// Bounds on those that are remembered after they finished.
const (
	maxFinished       = 100000
	maxFinishedOctets = 64 << 20
)

// record is a crossing as it is kept between two turns.
type record struct {
	State     crossing.State `json:"state"`
	Reference string         `json:"reference"` // of its trace
}

// places are those in progress, in memory and in the store. Finished ones are
// remembered until they would have expired, so that what comes again is told so.
type places struct {
	mu       sync.Mutex
	byID     map[string]*kept  // in progress
	byHandle map[string]string // further name → crossing, also a finished one
	networks map[string]*crowd
	fullest  crowds
	open     int // not finished
	octets   int
	finished map[string]*remembered
	oldest   *list.List // of *remembered, the first to end first
	memory   int        // octets of those
}

type kept struct {
	record
	size  int
	crowd *crowd
	place *list.Element // among those of its network
}

// remembered is a crossing that has ended.
type remembered struct {
	crossing.Remembered
	reference string
	place     *list.Element
	size      int
}

// crowd is what one network has under way.
type crowd struct {
	network string
	all     *list.List // of IDs, the oldest first
	octets  int
	index   int // in the heap
}

// crowds is a heap, the one that holds most on top.
type crowds []*crowd

func (c crowds) Len() int           { return len(c) }
func (c crowds) Less(i, j int) bool { return c[i].octets > c[j].octets }
func (c crowds) Swap(i, j int) {
	c[i], c[j] = c[j], c[i]
	c[i].index, c[j].index = i, j
}
func (c *crowds) Push(x any) {
	one := x.(*crowd)
	one.index = len(*c)
	*c = append(*c, one)
}
func (c *crowds) Pop() any {
	last := (*c)[len(*c)-1]
	*c = (*c)[:len(*c)-1]
	return last
}

func loadPlaces(s *store.Store, now time.Time) (*places, error) {
	c := &places{byID: map[string]*kept{}, byHandle: map[string]string{}, networks: map[string]*crowd{},
		finished: map[string]*remembered{}, oldest: list.New()}
	var rows []store.CrossingRow
	if err := s.Read.Where("expires > ?", now.UTC()).Order("expires").Find(&rows).Error; err != nil {
		return nil, err
	}
	for _, row := range rows {
		plain, err := s.Open("crossing", row.Sealed)
		if err != nil {
			return nil, err
		}
		var r record
		if err := json.Unmarshal(plain, &r); err != nil {
			return nil, err
		}
		c.put(r, len(plain))
		if row.Ended {
			c.ended(r.State.ID, row.Session)
		}
	}
	return c, nil
}

// overhead is what a crossing takes in memory beside its own octets; remembering is the same for one that has ended.
const overhead, remembering = 700, 480

// put keeps a record in memory, in place of that of before. size is that of its
// JSON.
func (c *places) put(r record, size int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	size += overhead
	k := c.byID[r.State.ID]
	if c.finished[r.State.ID] != nil {
		return // somebody else ended it meanwhile
	}
	if k == nil {
		at := c.networks[r.State.Browser.Network]
		if at == nil {
			at = &crowd{network: r.State.Browser.Network, all: list.New()}
			c.networks[at.network] = at
			heap.Push(&c.fullest, at)
		}
		k = &kept{crowd: at, place: at.all.PushBack(r.State.ID)}
		c.byID[r.State.ID] = k
		c.open++
	} else if k.State.Leg().Handle != r.State.Leg().Handle {
		delete(c.byHandle, k.State.Leg().Handle)
	}
	if r.State.Leg().Handle != "" {
		c.byHandle[r.State.Leg().Handle] = r.State.ID
	}
	c.weigh(k, size)
	k.record = r
}

func (c *places) weigh(k *kept, size int) {
	c.octets += size - k.size
	k.crowd.octets += size - k.size
	heap.Fix(&c.fullest, k.crowd.index)
	k.size = size
}

// leave takes an unfinished crossing out of its network.
func (c *places) leave(k *kept) {
	at := k.crowd
	c.weigh(k, 0)
	at.all.Remove(k.place)
	c.open--
	delete(c.byID, k.State.ID)
	if at.all.Len() == 0 {
		heap.Remove(&c.fullest, at.index)
		delete(c.networks, at.network)
	}
}

func (c *places) drop(id string) {
	if k := c.byID[id]; k != nil {
		c.leave(k)
		delete(c.byHandle, k.State.Leg().Handle)
	}
}

// forget drops one that has ended.
func (c *places) forget(r *remembered) {
	c.oldest.Remove(r.place)
	c.memory -= r.size
	delete(c.finished, r.ID())
	delete(c.byHandle, r.Handle())
}

// admit refuses another crossing of a network that has too many under way. Where
// there are too many in all, the oldest of the network that holds most gives way;
// dropped are their IDs.
func (c *places) admit(from string) (dropped []string, err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if at := c.networks[from]; at != nil && at.all.Len() >= maxCrossingsOfOne {
		return nil, finding.New(finding.TooManyStarts, finding.Fact("Network", from))
	}
	for (c.open >= maxCrossings || c.octets >= maxCrossingOctets) && len(c.fullest) > 0 {
		id := c.fullest[0].all.Front().Value.(string)
		c.drop(id)
		dropped = append(dropped, id)
	}
	return dropped, nil
}

// find gives a record that has not expired; an empty one if there is none.
func (c *places) find(id string, now time.Time) record {
	c.mu.Lock()
	defer c.mu.Unlock()
	if k := c.byID[id]; k != nil && now.Before(k.State.Expires()) {
		return k.record
	}
	if r := c.finished[id]; r != nil && now.Before(r.Expires()) {
		return record{State: r.State(), Reference: r.reference}
	}
	return record{}
}

// known finds a crossing by the first of several names that one has.
func (c *places) known(handles []string, now time.Time) record {
	for _, h := range handles {
		c.mu.Lock()
		id := c.byHandle[h]
		c.mu.Unlock()
		if id == "" {
			id = h
		}
		if r := c.find(id, now); h != "" && r.State.ID != "" {
			return r
		}
	}
	return record{}
}

// ended marks a crossing as finished, in a session if it ended in one. Of its state only
// that is kept.
func (c *places) ended(id, session string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	k := c.byID[id]
	if k == nil {
		return
	}
	c.leave(k)
	r := &remembered{Remembered: k.State.Remembered(session), reference: k.Reference}
	r.size = remembering + r.Octets()
	r.place = c.oldest.PushBack(r)
	c.finished[id] = r
	for c.memory += r.size; len(c.finished) > maxFinished || c.memory > maxFinishedOctets; {
		c.forget(c.oldest.Front().Value.(*remembered))
	}
}

// of gives those crossings of a browser that it proves to have begun.
func (c *places) of(b Browser, now time.Time) (ids []string) {
	for id := range b.Crossings {
		if r := c.find(id, now); r.State.ID != "" && b.began(r.State) {
			ids = append(ids, id)
		}
	}
	return ids
}

// session gives the lasting name of the session that a browser is in by its crossings: the
// one that the crossing itself began in, else one that another one ended in; "" for none.
func (c *places) session(b Browser, s crossing.State, now time.Time) string {
	if s.ID != "" && s.Run == nil && s.Browser.Session != "" && b.began(s) {
		return s.Browser.Session
	}
	newest, at := "", time.Time{}
	for _, id := range c.of(b, now) {
		r := c.find(id, now)
		if r.State.Stage == crossing.Ended && r.State.Run == nil && r.State.Browser.Session != "" && r.State.Began.After(at) {
			newest, at = r.State.Browser.Session, r.State.Began
		}
	}
	return newest
}

func (c *places) sweep(now time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for id, k := range c.byID {
		if !now.Before(k.State.Expires()) {
			c.drop(id)
		}
	}
	for at := c.oldest.Front(); at != nil; {
		r := at.Value.(*remembered)
		if at = at.Next(); !now.Before(r.Expires()) {
			c.forget(r)
		}
	}
}

// waiting counts crossings that have not ended.
func (c *places) waiting() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.open
}
