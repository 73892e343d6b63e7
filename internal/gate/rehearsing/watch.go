package rehearsing

// Watch is somebody who watches a run.
type Watch struct {
	rm  *Room
	run int64
	// came holds the newest state of the run; what is older gives way to it, so that nobody waits for who watches.
	came chan Run
}

// mostWatches bounds how many watch at once.
const mostWatches = 100

// Watch begins to watch a run; false if too many watch already.
func (rm *Room) Watch(run int64) (*Watch, bool) {
	rm.mu.Lock()
	defer rm.mu.Unlock()
	if len(rm.watches) >= mostWatches {
		return nil, false
	}
	w := &Watch{rm: rm, run: run, came: make(chan Run, 1)}
	rm.watches[w] = struct{}{}
	return w, true
}

// Came gives the run each time that it is another one.
func (w *Watch) Came() <-chan Run { return w.came }

// End stops watching.
func (w *Watch) End() {
	w.rm.mu.Lock()
	defer w.rm.mu.Unlock()
	delete(w.rm.watches, w)
}

// tell shows a run to who watches it. It is called under the lock, so that what is newer comes later.
func (rm *Room) tell(r Run) {
	for w := range rm.watches {
		if w.run != r.ID {
			continue
		}
		select {
		case <-w.came:
		default:
		}
		w.came <- r
	}
}
