// Package limit counts what strangers do, by network, and says when it is
// enough.
package limit

import (
	"net/netip"
	"sync"
	"time"
)

// Tries counts tries by account and address: after so many within five minutes
// further ones are refused until the window has passed. What is kept of them is
// bounded, however many keys there are.
type Tries struct {
	mu   sync.Mutex
	kept map[string][]time.Time // the newest last
}

// window is how long a try counts.
const window = 5 * time.Minute

// How many tries there are, and of how many keys they are kept.
const (
	Usual    = 10
	maxTries = 50000
)

// NewTries counts from nothing.
func NewTries() *Tries { return &Tries{kept: map[string][]time.Time{}} }

// recent drops what has passed.
func (l *Tries) recent(key string, now time.Time) []time.Time {
	ts := l.kept[key]
	for len(ts) > 0 && now.Sub(ts[0]) >= window {
		ts = ts[1:]
	}
	return ts
}

// Open reports whether one more may be tried.
func (l *Tries) Open(key string, now time.Time) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return len(l.recent(key, now)) < Usual
}

// Wait is how long it takes until one more may be tried.
func (l *Tries) Wait(key string, now time.Time) time.Duration {
	l.mu.Lock()
	defer l.mu.Unlock()
	ts := l.recent(key, now)
	if len(ts) < Usual {
		return 0
	}
	return max(window-now.Sub(ts[len(ts)-Usual]), time.Second)
}

// Fail counts a failure.
func (l *Tries) Fail(key string, now time.Time) { l.Take(key, Usual, now) }

// Take counts a try before it is made, and reports whether it may be: however many
// come at once, no more than most are.
func (l *Tries) Take(key string, most int, now time.Time) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	ts := l.recent(key, now)
	if len(ts) >= most {
		return false
	}
	if len(ts) == 0 && len(l.kept) >= maxTries {
		l.sweep(now)
	}
	for k := range l.kept { // any: whoever makes so many keys is counted by address as well
		if len(l.kept) < maxTries {
			break
		}
		delete(l.kept, k)
	}
	l.kept[key] = append(ts, now)
	return true
}

// Give takes a try back that came to nothing bad.
func (l *Tries) Give(key string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if ts := l.kept[key]; len(ts) > 1 {
		l.kept[key] = ts[:len(ts)-1]
	} else {
		delete(l.kept, key)
	}
}

// Sweep forgets what has passed.
func (l *Tries) Sweep(now time.Time) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.sweep(now)
}

func (l *Tries) sweep(now time.Time) {
	for k, ts := range l.kept {
		if now.Sub(ts[len(ts)-1]) >= window {
			delete(l.kept, k)
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
