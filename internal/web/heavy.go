package web

import (
	"net/http"
	"sync/atomic"
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
)

// heavy keeps large messages from being worked on all at once.
type heavy struct {
	slots   chan struct{}
	waiting atomic.Int64
}

func newHeavy() *heavy { return &heavy{slots: make(chan struct{}, largeAtOnce)} }

// errBusy is the answer where too many large messages wait already.
var errBusy = fiber.NewError(http.StatusServiceUnavailable, "too many large messages at once")

// enter waits for a turn to work on a large message; it lasts until the request is
// answered.
func (h *heavy) enter(c fiber.Ctx) error {
	if c.Locals(heavyKey) != nil {
		return nil
	}
	if h.waiting.Add(1) > largeWaiting {
		h.waiting.Add(-1)
		return errBusy
	}
	defer h.waiting.Add(-1)
	patience := time.NewTimer(largeWait)
	defer patience.Stop()
	select {
	case h.slots <- struct{}{}:
		c.Locals(heavyKey, true)
		return nil
	case <-patience.C:
		return errBusy
	}
}

// leave ends the turn of a request, if it had one.
func (h *heavy) leave(c fiber.Ctx) {
	if c.Locals(heavyKey) != nil {
		<-h.slots
	}
}
