package web

import (
	"net/http"
	"sync"
	"time"

	"github.com/gofiber/fiber/v3"
)

// What is large, and how much of it is worked on at a time: reading a message takes
// many times its size in memory.
const (
	large        = 64 << 10 // octets
	largeAtOnce  = 8
	largeWaiting = 64
	largeWait    = 10 * time.Second
	largeOfOne   = 2 // of one network: whoever sends slowly holds up others little
)

// heavy keeps large messages from being worked on all at once.
type heavy struct {
	mu      sync.Mutex
	all     int
	of      map[string]int // by network
	waiting int
	freed   chan struct{} // closed whenever somebody leaves
}

func newHeavy() *heavy { return &heavy{of: map[string]int{}, freed: make(chan struct{})} }

// errBusy is the answer where too many large messages wait already.
var errBusy = fiber.NewError(http.StatusServiceUnavailable, "too many large messages at once")

// enter waits for a turn to work on a large message from a network; it lasts until
// the request is answered.
func (h *heavy) enter(c fiber.Ctx, network string) error {
	if c.Locals(heavyKey) != nil {
		return nil
	}
	patience := time.NewTimer(largeWait)
	defer patience.Stop()
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.waiting >= largeWaiting {
		return errBusy
	}
	h.waiting++
	defer func() { h.waiting-- }()
	for h.all >= largeAtOnce || h.of[network] >= largeOfOne {
		freed := h.freed
		h.mu.Unlock()
		select {
		case <-freed:
			h.mu.Lock()
		case <-patience.C:
			h.mu.Lock()
			return errBusy
		}
	}
	h.all++
	h.of[network]++
	c.Locals(heavyKey, network)
	return nil
}

// leave ends the turn of a request, if it had one.
func (h *heavy) leave(c fiber.Ctx) {
	network, ok := c.Locals(heavyKey).(string)
	if !ok {
		return
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	h.all--
	if h.of[network]--; h.of[network] == 0 {
		delete(h.of, network)
	}
	close(h.freed)
	h.freed = make(chan struct{})
}
