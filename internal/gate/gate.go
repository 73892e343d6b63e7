package gate

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"time"

	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/gate/approving"
	"innergate.example/innergate/internal/gate/arrivals"
	"innergate.example/innergate/internal/gate/bundling"
	"innergate.example/innergate/internal/gate/checking"
	"innergate.example/innergate/internal/gate/comparing"
	"innergate.example/innergate/internal/gate/copies"
	"innergate.example/innergate/internal/gate/driving"
	"innergate.example/innergate/internal/gate/editions"
	"innergate.example/innergate/internal/gate/exchange"
	"innergate.example/innergate/internal/gate/fetch"
	"innergate.example/innergate/internal/gate/freshness"
	"innergate.example/innergate/internal/gate/grants"
	"innergate.example/innergate/internal/gate/happening"
	"innergate.example/innergate/internal/gate/jobs"
	"innergate.example/innergate/internal/gate/keyring"
	"innergate.example/innergate/internal/gate/leaving"
	"innergate.example/innergate/internal/gate/limit"
	"innergate.example/innergate/internal/gate/mailing"
	"innergate.example/innergate/internal/gate/operators"
	"innergate.example/innergate/internal/gate/outbox"
	"innergate.example/innergate/internal/gate/people"
	"innergate.example/innergate/internal/gate/people/roll"
	"innergate.example/innergate/internal/gate/performing"
	"innergate.example/innergate/internal/gate/phases"
	"innergate.example/innergate/internal/gate/portal"
	"innergate.example/innergate/internal/gate/random"
	"innergate.example/innergate/internal/gate/recipients"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/redeeming"
	"innergate.example/innergate/internal/gate/rehearsing"
	"innergate.example/innergate/internal/gate/rollover"
	"innergate.example/innergate/internal/gate/sessions"
	"innergate.example/innergate/internal/gate/traces"
	"innergate.example/innergate/internal/gate/unattended"
	"innergate.example/innergate/internal/store"
)

// Options are what a gate is made from.
type Options struct {
	Base          string // public base address: scheme and host, no path
	Store         *store.Store
	Log           *slog.Logger
	Now           func() time.Time
	Skew          time.Duration        // allowed difference of clocks, at most 5 minutes
	SessionLife   time.Duration        // of a sign-in, 0 for the usual
	SessionIdle   time.Duration        // how long a session may lie idle, 0 for any time
	AllowNetworks []netip.Prefix       // private networks it may fetch from
	AllowHTTP     bool                 // fetch from http addresses too
	Publisher     federation.Publisher // who runs the gate, for documents about it
	Mail          mailing.Server       // that takes mail to people, the zero value for none
	Protocols     []crossing.Protocol  // the first is that of records of before there were several
	// Portal makes the record of the gate's own portal; nil for a gate without one.
	Portal func(base string) *federation.Application
	// Kinds are further kinds of objects, which are what their settings say.
	Kinds []*federation.Description
	// EventToken makes what recipients of events are posted; nil for a gate that tells nobody.
	EventToken recipients.Token
	EventsKeep time.Duration // how long events are kept, 0 for 30 days
	EventsMost int64         // and how many, 0 for a million
	// Busy, if it is not nil, hears when jobs begin to run and when none does any more.
	Busy func(bool)
	// PublicMail are domains of e-mail addresses that anybody can have.
	PublicMail federation.MailDomains
}

// Gate is one running Inner Gate: its rooms, and their work in the background.
type Gate struct {
	Records    *records.Room
	Freshness  *freshness.Room
	Copies     *copies.Room
	Exchange   *exchange.Room
	Checking   *checking.Room
	People     *people.Room
	Crossings  *driving.Room
	Portal     *portal.Room
	Recipients *recipients.Room
	// Happenings tells what happens, as it happens.
	Happenings *happening.Room
	// Performer satisfies what decisions lack.
	Performer *performing.Performer
	Traces    *traces.Room
	Arrivals  *arrivals.Room
	Keys      *keyring.Room
	Rollover  *rollover.Room
	Operators *operators.Room
	Grants    *grants.Room
	Leaving   *leaving.Room
	Redeeming *redeeming.Room
	// Rehearsals are runs of saved sign-in tests.
	Rehearsals *rehearsing.Room
	// Unattended runs those that nobody sits at.
	Unattended *unattended.Room
	// Bundles are what is taken along.
	Bundles   *bundling.Room
	Outbox    *outbox.Room
	Jobs      *jobs.Room
	Requests  *approving.Room
	Phases    *phases.Room
	Roll      *roll.Room
	Comparing *comparing.Room

	base     string
	store    *store.Store
	log      *slog.Logger
	now      func() time.Time
	sessions *sessions.Room
	tries    *limit.Tries
	ctx      context.Context
	stop     context.CancelFunc
	working  sync.WaitGroup
}

// ParseBase reads a base address: an origin without a path.
func ParseBase(s string) (string, error) {
	u, err := url.Parse(s)
	if err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" || u.User != nil ||
		u.RawQuery != "" || u.Fragment != "" || u.Path != "" && u.Path != "/" {
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
	g := &Gate{base: base, store: o.Store, log: o.Log, now: o.Now, tries: limit.NewTries()}
	g.ctx, g.stop = context.WithCancel(context.Background())
	if err := g.furnish(ctx, o); err != nil {
		g.stop()
		return nil, err
	}
	g.working.Go(g.sweep)
	return g, nil
}

// furnish makes the rooms, from the ground up.
func (g *Gate) furnish(ctx context.Context, o Options) (err error) {
	out := fetch.New(o.AllowNetworks, o.AllowHTTP)
	kept := editions.New(o.Store)
	g.sessions = sessions.New(o.Store, o.Log, o.Now, o.SessionIdle)
	g.Keys = keyring.New(o.Store, g.base, o.Now)
	g.Freshness = freshness.New(o.Store, o.Now)
	g.Operators = operators.New(o.Store, g.base, o.Now, g.tries)
	g.Arrivals = arrivals.New(o.Store, o.Now)
	self := federation.Gate{Publisher: o.Publisher, Base: g.base, Skew: o.Skew,
		SignInLife: o.SessionLife, Mails: o.Mail != mailing.Server{}, PublicMail: o.PublicMail}
	if o.Portal != nil {
		self.Portal = o.Portal(g.base)
	}
	g.Records, err = records.New(ctx, records.Parts{Store: o.Store, Now: o.Now, Fetch: out, Sessions: g.sessions,
		Keys:      g.Keys,
		Freshness: g.Freshness, Editions: kept, Kinds: append([]*federation.Description{federation.AccessRules,
			federation.SelectionRules, federation.Roles, federation.StartingPoints, federation.Recipients,
			federation.Rehearsals,
			federation.Defaults, federation.PortalSettings}, o.Kinds...)}, self, o.Protocols)
	if err != nil {
		return err
	}
	g.Copies = copies.New(o.Store, o.Now, out, g.Records)
	g.Rollover = rollover.New(o.Store, o.Now, g.Keys, g.Records)
	g.Checking = checking.New(checking.Parts{Store: o.Store, Now: o.Now, Fetch: out, Records: g.Records,
		Arrivals: g.Arrivals, Editions: kept,
		Freshness: g.Freshness, Copies: g.Copies, Kept: func(ctx context.Context) (checks.Kept,
			error) {
			return g.People.Kept(ctx)
		},
		Unheard: func(ctx context.Context) (map[federation.Name]*finding.Finding, error) {
			return g.Recipients.Unheard(ctx)
		},
		Beside: []checking.Beside{g.Arrivals.UnknownGroups, g.Arrivals.SilentGroups,
			func(ctx context.Context, _ *federation.Snapshot) (map[federation.ID]*finding.Finding, error) {
				return g.Outbox.Unheard(ctx)
			},
			func(ctx context.Context, snap *federation.Snapshot) (map[federation.ID]*finding.Finding, error) {
				return g.Traces.Wayless(ctx, snap)
			},
			func(ctx context.Context, snap *federation.Snapshot) (map[federation.ID]*finding.Finding, error) {
				return g.Requests.Alone(ctx, snap)
			},
			func(ctx context.Context, snap *federation.Snapshot) (map[federation.ID]*finding.Finding, error) {
				return g.Traces.Piloted(ctx, snap)
			},
			func(ctx context.Context, snap *federation.Snapshot) (map[federation.ID]*finding.Finding, error) {
				return g.Rehearsals.Never(ctx, snap)
			}}})
	g.Jobs = jobs.New(g.ctx, o.Log, o.Now, o.Busy)
	g.Exchange, err = exchange.New(g.ctx, exchange.Parts{Jobs: g.Jobs, Store: o.Store, Log: o.Log, Now: o.Now, Fetch: out,
		Records:   g.Records,
		Freshness: g.Freshness, Editions: kept})
	if err != nil {
		return err
	}
	g.Happenings = happening.New(o.Store.Traces)
	performer := performing.New(o.Store)
	g.Performer = performer
	g.satisfying(performer, out)
	g.Outbox = outbox.New(o.Store, g.Happenings, o.Log, o.Now, out, g.Records)
	g.Grants = grants.New(o.Store, o.Now, g.Records)
	g.Traces = traces.New(o.Store, o.Now, g.Grants, g.Arrivals)
	g.Records.Weighs(g.Traces.Consequence)
	g.Records.Weighs(g.Traces.Offers)
	g.Records.Weighs(g.Traces.Rerouted)
	performing.Satisfies(performer, func(ctx context.Context, _ *performing.Asker, n crossing.AgreedBefore) ([]string,
		error) {
		return g.Grants.Agreed(ctx, n.App, n.Person)
	})
	g.Leaving = leaving.New(leaving.Parts{Store: o.Store, Happenings: g.Happenings, Now: o.Now, Records: g.Records,
		Sessions:  g.sessions,
		Performer: performer, Grants: g.Grants, Outbox: g.Outbox})
	g.Records.Owned(g.Operators.Count)
	mailer := mailing.New(o.Mail, o.Now)
	g.Requests = approving.New(approving.Parts{Store: o.Store, Log: o.Log, Now: o.Now, Records: g.Records, Mailer: mailer,
		Behind: g.Operators.Behind, Owners: g.Operators.Count})
	g.People = people.New(people.Parts{Store: o.Store, Now: o.Now, Records: g.Records, Sessions: g.sessions,
		Leaving: g.Leaving,
		Traces:  g.Traces, Requests: g.Requests})
	if err := g.People.Index(ctx); err != nil {
		return err
	}
	g.Roll = roll.New(o.Store, o.Now, g.Records, g.People, g.Traces)
	g.Comparing = comparing.New(o.Store, o.Now, g.Records, g.Traces)
	g.People.Forgets(g.Comparing.Forget)
	g.Portal = portal.New(portal.Parts{Store: o.Store, Now: o.Now, Records: g.Records, Sessions: g.sessions,
		People: g.People, Performer: performer,
		Grants: g.Grants, Leaving: g.Leaving, Requests: g.Requests, Traces: g.Traces})
	g.Recipients = recipients.New(recipients.Parts{Store: o.Store, Log: o.Log, Now: o.Now, Fetch: out, Records: g.Records,
		Token: o.EventToken,
		Keep:  cmp.Or(o.EventsKeep, 30*24*time.Hour), Most: cmp.Or(o.EventsMost, 1_000_000)})
	g.Phases = phases.New(phases.Parts{Store: o.Store, Log: o.Log, Now: o.Now, Records: g.Records, Traces: g.Traces,
		Checking:  g.Checking,
		Comparing: g.Comparing, Mailer: mailer, Rehearsed: func(ctx context.Context, app federation.Name) ([]string, error) {
			return g.Rehearsals.Open(ctx, app)
		}})
	g.Rehearsals, err = rehearsing.New(ctx, rehearsing.Parts{Store: o.Store, Log: o.Log, Now: o.Now, Base: g.base,
		Records: g.Records, Sessions: g.sessions, Leaving: g.Leaving, Tries: g.tries, Account: g.Comparing.Has})
	if err != nil {
		return err
	}
	g.Unattended, err = unattended.New(unattended.Parts{Store: o.Store, Log: o.Log, Now: o.Now, Base: g.base,
		Records: g.Records, Rehearsals: g.Rehearsals, Fetch: out, Mailer: mailer, Context: g.ctx,
		Go: func(do func()) { g.working.Go(do) }})
	if err != nil {
		return err
	}
	g.Bundles = bundling.New(bundling.Parts{Store: o.Store, Records: g.Records, Checking: g.Checking, Traces: g.Traces,
		Rehearsals: g.Rehearsals, Protocols: o.Protocols, Names: g.People.Names})
	g.Redeeming = redeeming.New(redeeming.Parts{Store: o.Store, Happenings: g.Happenings, Log: o.Log, Now: o.Now,
		Records:  g.Records,
		Sessions: g.sessions, Grants: g.Grants, Copies: g.Copies, Keys: g.Keys, Tries: g.tries, Performer: performer,
		Rehearsals: g.Rehearsals})
	g.Crossings, err = driving.New(driving.Parts{Store: o.Store, Happenings: g.Happenings, Log: o.Log, Now: o.Now,
		Records:  g.Records,
		Sessions: g.sessions, People: g.People, Keys: g.Keys, Tries: g.tries, Grants: g.Grants, Leaving: g.Leaving,
		Outbox: g.Outbox, Mailer: mailer, Requests: g.Requests, Rehearsals: g.Rehearsals})
	if err == nil {
		g.Crossings.Performs(performer)
	}
	return err
}

// satisfying has the kinds of needs satisfied that any decision may have.
func (g *Gate) satisfying(p *performing.Performer, out *fetch.Fetcher) {
	performing.Satisfies(p, func(ctx context.Context, _ *performing.Asker, n crossing.WhoIs) (person.Person, error) {
		return g.store.People(ctx).Find(n.Link, n.For)
	})
	performing.Satisfies(p, func(ctx context.Context, _ *performing.Asker, n crossing.ByNumber) (person.Person, error) {
		some, err := g.store.People(ctx).Many([]int64{n.Person}, n.For, "")
		if err != nil || len(some) == 0 {
			return person.Person{}, err
		}
		return some[0].Person, nil
	})
	performing.Satisfies(p, func(ctx context.Context, _ *performing.Asker, n crossing.WasUsed) (bool, error) {
		return g.store.WasUsed(ctx, driving.UsedKey(n.Once))
	})
	performing.Satisfies(p, func(_ context.Context, a *performing.Asker, n crossing.TooOften) (bool, error) {
		return !g.tries.Open(driving.TriesKey(n.What, a.Network), g.now()), nil
	})
	performing.Satisfies(p, func(ctx context.Context, a *performing.Asker, n crossing.CopyOf) (c crossing.Copied,
		err error) {
		if a.Provider != nil {
			c.Document, c.Fail, err = g.Copies.Of(ctx, a.Provider, n.Anew)
		}
		return c, err
	})
	performing.Satisfies(p, func(ctx context.Context, a *performing.Asker, n *crossing.Call) (crossing.Called, error) {
		return g.call(ctx, out, a, n)
	})
}

// call asks somebody outside.
func (g *Gate) call(ctx context.Context, out *fetch.Fetcher, a *performing.Asker,
	c *crossing.Call) (done crossing.Called, err error) {
	octets, err := c.Plan.Render(&a.Snap.Gate, a.Made)
	if err != nil {
		return done, err
	}
	name := ""
	if a.Provider != nil {
		out, name = out.Trusting(a.Provider.Keeping), string(a.Provider.Name)
	}
	began := time.Now()
	reply, err := out.Call(ctx, c, octets)
	f := finding.Of(err)
	if f == nil && err != nil {
		return done, err
	}
	g.Crossings.Called(name, c.Name, reply.Status, f, time.Since(began))
	return crossing.Called{Shown: octets.Shown, Octets: reply.Octets, Status: reply.Status, Type: reply.Type, Fail: f},
		nil
}

// Close ends the background work. The store is closed by whoever opened it.
func (g *Gate) Close() {
	g.stop()
	g.working.Wait()
	g.Jobs.Wait()
}

// sweep removes what has expired, and does what is due, every minute.
func (g *Gate) sweep() {
	tick, often := time.NewTicker(time.Minute), time.NewTicker(2*time.Second)
	defer tick.Stop()
	defer often.Stop()
	var daily time.Time
	for {
		select {
		case <-g.ctx.Done():
			return
		case <-g.Outbox.Woken():
			g.working.Go(func() { g.report("sending failed", g.Outbox.SendDue(g.ctx)) })
		case <-g.Records.Changed():
			g.working.Go(func() { g.report("asking for copies failed", g.Copies.RefreshDue(g.ctx)) })
		case <-often.C:
			g.working.Go(func() { g.report("telling recipients failed", g.Recipients.Tell(g.ctx)) })
			g.working.Go(func() { g.report("ending rehearsals failed", g.Rehearsals.Sweep(g.ctx)) })
			g.working.Go(func() { g.report("running rehearsals failed", g.Unattended.Due(g.ctx)) })
			g.working.Go(func() { g.report("mailing of rehearsals failed", g.Unattended.Mail(g.ctx)) })
		case <-tick.C:
			g.sessions.Sweep(g.now())
			g.tries.Sweep(g.now())
			g.Jobs.Sweep()
			g.report("changing phases failed", g.Records.ChangeDue(g.ctx))
			g.report("sweeping failed", errors.Join(g.store.Sweep(g.ctx, g.now()), g.Crossings.Sweep(g.ctx),
				g.Recipients.Sweep(g.ctx)))
			if g.now().Sub(daily) >= 24*time.Hour {
				daily = g.now()
				g.Checking.Remind(g.log)
				g.report("dropping documents failed", g.store.SweepDocuments(g.ctx))
			}
			// None of them waits for another one's counterparts.
			g.working.Go(func() { g.report("sending failed", g.Outbox.SendDue(g.ctx)) })
			g.working.Go(func() { g.report("announcing failed", g.Phases.Announce(g.ctx)) })
			g.working.Go(func() { g.report("refreshing failed", g.Exchange.RefreshDue(g.ctx)) })
			g.working.Go(func() { g.report("asking for copies failed", g.Copies.RefreshDue(g.ctx)) })
		}
	}
}

func (g *Gate) report(what string, err error) {
	if err != nil && g.ctx.Err() == nil {
		g.log.Error(what, "error", err)
	}
}

// Now is the time by the gate's clock: whoever serves it reads no other.
func (g *Gate) Now() time.Time { return g.now() }

// NewID names something that needs a name which nobody else has; it is no secret.
func (g *Gate) NewID() string { return random.ID() }

// Secret is so many random octets, as text.
func (g *Gate) Secret(octets int) string { return random.Text(octets) }

// Base is the public base address.
func (g *Gate) Base() string { return g.base }

// Snapshot is the configuration at this moment.
func (g *Gate) Snapshot() *federation.Snapshot { return g.Records.Snapshot() }

// Ready reports whether the database answers, and takes what is written.
func (g *Gate) Ready(ctx context.Context) error {
	if err := g.store.Read.WithContext(ctx).Exec("SELECT 1").Error; err != nil {
		return err
	}
	return g.store.Writable(ctx)
}
