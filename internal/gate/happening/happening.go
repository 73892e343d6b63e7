// Package happening tells what happens as it happens: steps of sign-ins, of requests without a browser, of sign-outs.
// The traces keep it; whoever watches sees it, as far as they keep up, and slows nobody down.
package happening

import (
	"sync"
	"sync/atomic"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/trace"
	"innergate.example/innergate/internal/store"
)

// Happening is what happened in one turn, as it may be shown.
type Happening struct {
	Trace string          // reference number
	Head  store.TraceHead // of a turn that has a trace of its own; zero where steps are added to one
	Steps []any
	Code  string // finding, "" for none
}

// Room tells.
type Room struct {
	traces  *store.TraceLog
	mu      sync.RWMutex
	watches map[*Watch]struct{}
}

// New makes a room whose traces are kept.
func New(traces *store.TraceLog) *Room { return &Room{traces: traces, watches: map[*Watch]struct{}{}} }

// Record keeps a turn, and shows it to who watches.
func (rm *Room) Record(head store.TraceHead, steps []any, entry any) {
	rm.traces.Record(head, kept(steps), entry)
	rm.tell(Happening{Trace: head.ID, Head: head, Steps: steps, Code: head.Finding})
}

// Append adds steps to a trace, and shows them to who watches. result and code are as in the store.
func (rm *Room) Append(reference string, steps []any, result, code string) {
	rm.traces.Append(reference, kept(steps), result, code)
	rm.tell(Happening{Trace: reference, Steps: steps, Code: code})
}

// Drop counts a turn that is neither kept nor shown.
func (rm *Room) Drop() { rm.traces.Drop() }

// Bounds: how many happenings wait for one who watches, and how many watch at once.
const (
	mostWaiting = 256
	mostWatches = 100
)

// Watch is somebody who watches.
type Watch struct {
	rm     *Room
	of     func(Happening) bool
	came   chan Happening
	missed atomic.Int64
}

// Watch begins to watch what of lets through, nil for everything; false if too many watch already.
func (rm *Room) Watch(of func(Happening) bool) (*Watch, bool) {
	rm.mu.Lock()
	defer rm.mu.Unlock()
	if len(rm.watches) >= mostWatches {
		return nil, false
	}
	w := &Watch{rm: rm, of: of, came: make(chan Happening, mostWaiting)}
	rm.watches[w] = struct{}{}
	return w, true
}

// Came gives what happened, in order.
func (w *Watch) Came() <-chan Happening { return w.came }

// Missed is how many happenings were left out since it was last asked, because nobody took them: look at the traces.
func (w *Watch) Missed() int64 { return w.missed.Swap(0) }

// End stops watching.
func (w *Watch) End() {
	w.rm.mu.Lock()
	defer w.rm.mu.Unlock()
	delete(w.rm.watches, w)
}

// tell shows what happened to who watches: whoever has no room misses it.
func (rm *Room) tell(h Happening) {
	rm.mu.RLock()
	defer rm.mu.RUnlock()
	for w := range rm.watches {
		if w.of != nil && !w.of(h) {
			continue
		}
		select {
		case w.came <- h:
		default:
			w.missed.Add(1)
		}
	}
}

// kept are steps in the form in which they are kept; who watches gets them whole.
func kept(steps []any) []any {
	out := make([]any, len(steps))
	for i, s := range steps {
		out[i] = s
		if step, is := s.(crossing.TraceStep); is {
			out[i] = trace.Keep(step)
		}
	}
	return out
}
