// Package limit counts what strangers do, by network, and says when it is
// enough.
package limit

import (
	"net/netip"
	"sync"
	"time"
)

// Tries counts failures by account and address: after ten within five minutes
// further tries are refused until the window has passed.
type Tries struct {
	mu    sync.Mutex
	fails map[string][]time.Time
}

const (
	failWindow = 5 * time.Minute
	failLimit  = 10
)

// NewTries counts from nothing.
func NewTries() *Tries { return &Tries{fails: map[string][]time.Time{}} }

// Open reports whether one more may be tried.
func (l *Tries) Open(key string, now time.Time) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	recent := 0
	for _, t := range l.fails[key] {
		if now.Sub(t) < failWindow {
			recent++
		}
	}
	return recent < failLimit
}

// Fail counts a failure.
func (l *Tries) Fail(key string, now time.Time) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.fails[key] = append(l.fails[key], now)
}

// Sweep forgets what has passed.
func (l *Tries) Sweep(now time.Time) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for k, ts := range l.fails {
		if now.Sub(ts[len(ts)-1]) > failWindow {
			delete(l.fails, k)
		}
	}
}

// Flow lets through so many in a while, of each network and in all.
type Flow struct {
	mu    sync.Mutex
	each  map[string]*bucket
	all   bucket
	swept time.Time
}

type bucket struct {
	left float64
	at   time.Time
}

// How many traces of strangers are recorded: a burst, and so many a second.
const (
	flowOfOne, flowOfOneRate = 400, 10.0
	flowOfAll, flowOfAllRate = 2000, 100.0
	flowNetworks             = 20000
)

// NewFlow begins with a full burst.
func NewFlow() *Flow { return &Flow{each: map[string]*bucket{}, all: bucket{left: flowOfAll}} }

func (b *bucket) fill(most, rate float64, now time.Time) {
	if !b.at.IsZero() {
		b.left = min(most, b.left+rate*now.Sub(b.at).Seconds())
	}
	b.at = now
}

// Take reports whether one more may pass.
func (f *Flow) Take(network string, now time.Time) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	if now.Sub(f.swept) > time.Minute || len(f.each) > flowNetworks {
		f.swept = now
		for n, b := range f.each {
			if b.fill(flowOfOne, flowOfOneRate, now); b.left >= flowOfOne || len(f.each) > flowNetworks {
				delete(f.each, n)
			}
		}
	}
	one := f.each[network]
	if one == nil {
		one = &bucket{left: flowOfOne}
		f.each[network] = one
	}
	one.fill(flowOfOne, flowOfOneRate, now)
	f.all.fill(flowOfAll, flowOfAllRate, now)
	if one.left < 1 || f.all.left < 1 {
		return false
	}
	one.left--
	f.all.left--
	return true
}

// Network is what crossings are counted by: the address, of IPv6 the /64.
func Network(address string) string {
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
