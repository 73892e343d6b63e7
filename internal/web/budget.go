package web

import (
	"errors"
	"net/http"
	"sync"
	"time"

	"github.com/gofiber/fiber/v3"
)

// Memory that requests share, in octets. Small ones are not counted: what all
// connections may hold of them is bounded by the number of connections.
const (
	beginsInAll  = 24 << 20  // of bodies, up to mostBegin of each
	bodiesInAll  = 48 << 20  // of the rest of larger ones
	readingInAll = 96 << 20  // of what is in them, by what it grows to when it is read
	packedInAll  = 112 << 20 // of messages that were packed in that, likewise
	uncounted    = 8 << 10
	patience     = 10 * time.Second
)

// errBusy is the answer where there was no room for long.
var errBusy = fiber.NewError(http.StatusServiceUnavailable, "too much is read at once")

// Busy reports whether an error says that there is no room for a message, now or ever.
func Busy(err error) bool {
	var e *fiber.Error
	return errors.As(err, &e)
}

// budget is a bound that networks share: each may take a third of what is left free
// after it, so that there is something for whoever comes next, and shares grow even as
// room is given back and taken again. An eighth is kept for those that hold little.
type budget struct {
	mu    sync.Mutex
	most  int
	taken int
	of    map[string]int // by network

	queues map[string][]*waiting // by network, in the order in which they came
	order  []string              // networks that wait, whose turn it is first
}

// waiting is one that waits for room; got is closed when it has it.
type waiting struct {
	octets int
	got    chan struct{}
}

func newBudget(most int) *budget {
	return &budget{most: most, of: map[string]int{}, queues: map[string][]*waiting{}}
}

// largest is the most that a single request may ever take.
func (b *budget) largest() int { return b.most * 7 / 8 / 4 }

func (b *budget) fits(network string, n int) bool {
	has := b.of[network] + n
	return 3*has <= b.most*7/8-b.taken-n || has <= b.most/512 && b.taken+n <= b.most
}

func (b *budget) count(network string, n int) {
	b.taken += n
	if b.of[network] += n; b.of[network] == 0 {
		delete(b.of, network)
	}
}

// take waits until there is room, at most for a time.
func (b *budget) take(network string, n int, most time.Duration) error {
	if n > b.largest() {
		return fiber.ErrRequestEntityTooLarge
	}
	b.mu.Lock()
	if len(b.queues[network]) == 0 && b.fits(network, n) {
		b.count(network, n)
		b.mu.Unlock()
		return nil
	}
	w := &waiting{n, make(chan struct{})}
	if len(b.queues[network]) == 0 {
		b.order = append(b.order, network)
	}
	b.queues[network] = append(b.queues[network], w)
	b.mu.Unlock()
	timer := time.NewTimer(most)
	defer timer.Stop()
	select {
	case <-w.got:
		return nil
	case <-timer.C:
		return b.leave(network, w)
	}
}

// leave takes one that waited for too long out of its queue, unless its turn has just come.
func (b *budget) leave(network string, w *waiting) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	for i, other := range b.queues[network] {
		if other == w {
			b.queues[network] = append(b.queues[network][:i:i], b.queues[network][i+1:]...)
			b.next() // those behind it may be smaller
			return errBusy
		}
	}
	return nil
}

// give gives room back, and hands it on.
func (b *budget) give(network string, n int) {
	if n == 0 {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.count(network, -n)
	b.next()
}

// next lets in whoever fits now: of each network the one that came first, the networks in turn.
func (b *budget) next() {
	for i := 0; i < len(b.order); {
		network := b.order[i]
		queue := b.queues[network]
		for len(queue) > 0 && b.fits(network, queue[0].octets) {
			b.count(network, queue[0].octets)
			close(queue[0].got)
			queue = queue[1:]
		}
		if b.queues[network] = queue; len(queue) > 0 {
			i++
			continue
		}
		delete(b.queues, network)
		b.order = append(b.order[:i], b.order[i+1:]...)
	}
}

// hold is what one request has taken of each budget, until it is answered. It takes of
// each once, and in this order: nobody waits for what another holds who waits for them.
type hold struct {
	network string
	taken   [packed + 1]int
}

// The budgets.
const (
	begins = iota
	bodies
	reading
	packed
)

func newBudgets() [packed + 1]*budget {
	return [packed + 1]*budget{newBudget(beginsInAll), newBudget(bodiesInAll), newBudget(readingInAll),
		newBudget(packedInAll)}
}

// take takes of a budget for a request, until that is answered.
func (s *server) take(c fiber.Ctx, of, octets int) error {
	h, ok := c.Locals(holdKey).(*hold)
	if !ok {
		h = &hold{network: s.network(c)}
		c.Locals(holdKey, h)
	}
	if err := s.budgets[of].take(h.network, octets, patience); err != nil {
		return err
	}
	h.taken[of] += octets
	return nil
}

// release gives back what a request has taken.
func (s *server) release(c fiber.Ctx) {
	if h, ok := c.Locals(holdKey).(*hold); ok {
		for of, n := range h.taken {
			s.budgets[of].give(h.network, n)
		}
		c.Locals(holdKey, nil)
	}
}

// growth is what a message takes when it is read, in octets, told from its markup:
// generously, as measured, 300 for an element, 130 for an attribute, less for a parameter.
func growth(message []byte) int {
	var elements, members int
	for _, octet := range message {
		switch octet {
		case '<':
			elements++
		case '=', '&':
			members++
		}
	}
	return 4*len(message) + 320*elements + 140*members
}

// growthOfJSON is that of a document in JSON: what stands in its strings stays text.
func growthOfJSON(document []byte) int {
	members, quoted := 0, false
	for i := 0; i < len(document); i++ {
		switch octet := document[i]; {
		case quoted && octet == '\\':
			i++
		case octet == '"':
			quoted = !quoted
		case !quoted && (octet == ',' || octet == '{' || octet == '['):
			members++
		}
	}
	return 4*len(document) + 140*members
}

// small is a growth that is not counted.
const small = 4 * uncounted
