package redeeming

import (
	"sync"
)

// turns let one at a time ask about a session; nobody waits for another one's provider.
type turns struct {
	mu sync.Mutex
	of map[string]*turnOf // by session, of those that somebody asks about
}

type turnOf struct {
	sync.Mutex
	wanted int
}

// enter waits for the turn of a session, and gives what ends it.
func (t *turns) enter(session string) (leave func()) {
	t.mu.Lock()
	if t.of == nil {
		t.of = map[string]*turnOf{}
	}
	one := t.of[session]
	if one == nil {
		one = &turnOf{}
		t.of[session] = one
	}
	one.wanted++
	t.mu.Unlock()
	one.Lock()
	return func() {
		one.Unlock()
		t.mu.Lock()
		defer t.mu.Unlock()
		if one.wanted--; one.wanted == 0 {
			delete(t.of, session)
		}
	}
}

// enter waits for this request's turn to ask about a session; it keeps it until it is answered.
func (a *asked) enter(session string) {
	a.leave()
	a.leave = a.rm.askings.enter(session)
}
