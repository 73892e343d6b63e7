package gate

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/store"
)

// Options are what a gate is made from.
type Options struct {
	Base          string // public base address: scheme and host, no path
	Store         *store.Store
	Log           *slog.Logger
	Now           func() time.Time
	Skew          time.Duration        // allowed difference of clocks, at most 5 minutes
	AllowNetworks []netip.Prefix       // private networks it may fetch from
	AllowHTTP     bool                 // fetch from http addresses too
	Publisher     federation.Publisher // who runs the gate, for documents about it
	Protocols     []crossing.Protocol  // the first is that of records of before there were several
}

// Gate is one running Inner Gate.
type Gate struct {
	base      string
	store     *store.Store
	log       *slog.Logger
	now       func() time.Time
	order     []crossing.Protocol
	protocols map[string]crossing.Protocol
	fetch     *fetcher
	snapshot  atomic.Pointer[federation.Snapshot]
	saving    sync.Mutex // one change of configuration at a time
	jobs      jobs
	taking    taking
	found     found
	crossings *crossings
	sessions  *sessions
	hashing   chan struct{} // slow password hashes at a time
	tries     *limiter
	strangers *flow // traces of what strangers send
	results   results
	ctx       context.Context
	stop      context.CancelFunc
	swept     sync.WaitGroup
}

// ParseBase reads a base address: an origin without a path.
func ParseBase(s string) (string, error) {
	u, err := url.Parse(s)
	if err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" || u.User != nil || u.RawQuery != "" || u.Fragment != "" || u.Path != "" && u.Path != "/" {
		return "", fmt.Errorf("%q is no base address; give scheme and host only, like https://gate.wrenmoor.example", s)
	}
	return u.Scheme + "://" + strings.ToLower(u.Host), nil
}

// New loads everything from the store and makes what the gate needs of its own:
// keys and entity IDs, the first time.
func New(ctx context.Context, o Options) (*Gate, error) {
	base, err := ParseBase(o.Base)
	if err != nil {
		return nil, err
	}
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Skew < 0 || o.Skew > 5*time.Minute {
		return nil, fmt.Errorf("the clock skew %s is not allowed; use 0 to 5m", o.Skew)
	}
	g := &Gate{base: base, store: o.Store, log: o.Log, now: o.Now, hashing: make(chan struct{}, 2), tries: newLimiter(), strangers: newFlow(), results: newResults(),
		order: o.Protocols, protocols: map[string]crossing.Protocol{}, fetch: newFetcher(o.AllowNetworks, o.AllowHTTP), sessions: newSessions(o.Store, o.Log, o.Now)}
	self := federation.Gate{Publisher: o.Publisher, Base: base, Skew: o.Skew, Own: map[string]string{}}
	for _, p := range o.Protocols {
		if err := whole(p); err != nil {
			return nil, err
		}
		g.protocols[p.Name()] = p
		self.Purposes = append(self.Purposes, p.Purposes()...)
		for key, value := range p.Own(base) {
			if self.Own[key], err = o.Store.Setting(ctx, key, value); err != nil {
				return nil, err
			}
		}
	}
	if self.Contexts, err = g.loadContexts(ctx); err != nil {
		return nil, err
	}
	if err := g.ownKeys(ctx, &self); err != nil {
		return nil, err
	}
	if self.Pairwise, err = g.loadPairwise(ctx); err != nil {
		return nil, err
	}
	if err := g.load(ctx, self); err != nil {
		return nil, err
	}
	if g.crossings, err = loadCrossings(o.Store, g.now()); err != nil {
		return nil, err
	}
	if err := g.sweepAggregates(ctx); err != nil {
		return nil, err
	}
	g.ctx, g.stop = context.WithCancel(context.Background())
	g.swept.Add(1)
	go g.sweep()
	return g, nil
}

// Close ends the background work. The store is closed by whoever opened it.
func (g *Gate) Close() {
	g.stop()
	g.swept.Wait()
	g.jobs.wait.Wait()
}

// sweep removes what has expired, every minute.
func (g *Gate) sweep() {
	defer g.swept.Done()
	tick := time.NewTicker(time.Minute)
	defer tick.Stop()
	for {
		select {
		case <-g.ctx.Done():
			return
		case <-tick.C:
			g.crossings.sweep(g.now())
			g.sessions.sweep(g.now())
			g.tries.sweep(g.now())
			g.jobs.sweep(g.now())
			if err := errors.Join(g.store.Sweep(g.ctx, g.now()), g.store.Traces.Prune(g.ctx, waited(g.now()))); err != nil && g.ctx.Err() == nil {
				g.log.Error("sweeping failed", "error", err)
			}
			g.jobs.wait.Go(func() {
				if err := errors.Join(g.sendDue(g.ctx), g.refreshDue(g.ctx)); err != nil && g.ctx.Err() == nil {
					g.log.Error("refreshing or sending failed", "error", err)
				}
			})
		}
	}
}

// Base is the public base address.
func (g *Gate) Base() string { return g.base }

// Ready reports whether the database answers.
func (g *Gate) Ready(ctx context.Context) error {
	return g.store.Read.WithContext(ctx).Exec("SELECT 1").Error
}
