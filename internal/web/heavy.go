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

	// Of one network: whoever sends slowly, or many, holds up others little.
	largeOfOne        = 2
	largeWaitingOfOne = 16
)

// heavy keeps large messages from being worked on all at once.
type heavy struct {
	mu    sync.Mutex
	all   turns
	of    map[string]turns // by network
	freed chan struct{}    // closed whenever somebody leaves
}

// turns are the large messages that are worked on, and those that wait for it.
type turns struct{ working, waiting int }

func newHeavy() *heavy { return &heavy{of: map[string]turns{}, freed: make(chan struct{})} }

// count adds to the turns of a network, and of all.
func (h *heavy) count(network string, working, waiting int) {
	h.all.working += working
	h.all.waiting += waiting
	one := h.of[network]
	one.working += working
	one.waiting += waiting
	if h.of[network] = one; one == (turns{}) {
		delete(h.of, network)
	}
}

func (h *heavy) full(network string) bool {
	return h.all.working >= largeAtOnce || h.of[network].working >= largeOfOne
}

// errBusy is the answer where too many large messages wait already.
var errBusy = fiber.NewError(http.StatusServiceUnavailable, "too many large messages at once")

// enter waits for a turn to work on a large message from a network; it lasts until
// the request is answered.
func (h *heavy) enter(c fiber.Ctx, network string) error {
	if c.Locals(heavyKey) != nil {
		return nil
	}
	if err := h.take(network); err != nil {
		return err
	}
	c.Locals(heavyKey, network)
	return nil
}

func (h *heavy) take(network string) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.full(network) {
		if err := h.wait(network); err != nil {
			return err
		}
	}
	h.count(network, 1, 0)
	return nil
}

// wait returns when there is room, with the lock that it was called with.
func (h *heavy) wait(network string) error {
	if h.all.waiting >= largeWaiting || h.of[network].waiting >= largeWaitingOfOne {
		return errBusy
	}
	h.count(network, 0, 1)
	defer func() { h.count(network, 0, -1) }()
	patience := time.NewTimer(largeWait)
	defer patience.Stop()
	for h.full(network) {
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
	return nil
}

// leave ends the turn of a request, if it had one.
func (h *heavy) leave(c fiber.Ctx) {
	if network, ok := c.Locals(heavyKey).(string); ok {
		h.give(network)
	}
}

func (h *heavy) give(network string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.count(network, -1, 0)
	close(h.freed)
	h.freed = make(chan struct{})
}
