// Package redeeming is what applications of OpenID Connect and OAuth 2.0 ask the gate
// by themselves, without a browser: they redeem codes, refresh tokens, ask about
// people and about tokens, give tokens back, and push requests. What is decided is
// decided in the core; this room looks things up, and stores what came of it under
// the guard of its revision.
package redeeming

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"log/slog"
	"slices"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/crossing/oidcside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate/copies"
	"innergate.example/innergate/internal/gate/grants"
	"innergate.example/innergate/internal/gate/happening"
	"innergate.example/innergate/internal/gate/keyring"
	"innergate.example/innergate/internal/gate/limit"
	"innergate.example/innergate/internal/gate/performing"
	"innergate.example/innergate/internal/gate/random"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/rehearsing"
	"innergate.example/innergate/internal/gate/sessions"
	"innergate.example/innergate/internal/store"
)

// Room answers applications.
type Room struct {
	store      *store.Store
	happenings *happening.Room
	log        *slog.Logger
	now        func() time.Time
	records    *records.Room
	sessions   *sessions.Room
	grants     *grants.Room
	tries      *limit.Tries
	right      proofs
	strangers  *limit.Flow // traces of what strangers send
	pushes     *limit.Flow // requests that clients push who prove nothing
	copies     *copies.Room
	keyring    *keyring.Room
	performer  *performing.Performer
	rehearsals *rehearsing.Room
	askings    turns    // of asking providers again
	told       sync.Map // federation.ID of services → when a token of theirs was last recorded
	results    *prometheus.CounterVec
}

// Parts are what the room works with.
type Parts struct {
	Store      *store.Store
	Happenings *happening.Room
	Log        *slog.Logger
	Now        func() time.Time
	Records    *records.Room
	Sessions   *sessions.Room
	Grants     *grants.Room
	Copies     *copies.Room
	Keys       *keyring.Room
	Tries      *limit.Tries
	Performer  *performing.Performer
	Rehearsals *rehearsing.Room
}

// New makes a room.
func New(p Parts) *Room {
	rm := &Room{store: p.Store, happenings: p.Happenings, log: p.Log, now: p.Now, records: p.Records,
		sessions: p.Sessions,
		grants:   p.Grants, tries: p.Tries, strangers: limit.NewFlow(), pushes: limit.NewFlow(), copies: p.Copies,
		keyring: p.Keys, performer: p.Performer, rehearsals: p.Rehearsals,
		results: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "innergate_token_requests_total",
			Help: "Requests of applications without a browser, by what was asked and the error they heard."},
			[]string{"call", "error"})}
	rm.performs()
	return rm
}

// Results counts requests by what was asked and what came of it.
func (rm *Room) Results() prometheus.Collector { return rm.results }

// Caller is a request as it came in.
type Caller = oidcside.Caller

// asked is a request on its way through the core, with what was done for it.
type asked struct {
	performing.Acting[oidcside.Came]
	oidcside.Call
	rm     *Room
	tokens oidcside.Tokens
	pushed string // name of the request that was pushed
	often  bool   // it is one of many of its kind in a short time
	leave  func() // ends the turn of asking a provider, if it is this one's
}

// ask takes a request through the core, and records it. given tells that tokens are its answer.
func (rm *Room) ask(ctx context.Context, what oidcside.What, c Caller) (*asked, oidcside.Came, error) {
	a := &asked{rm: rm, leave: func() {},
		Call: oidcside.Call{What: what, Caller: c, Snap: rm.records.Snapshot(), ID: random.ID(), Now: rm.now()}}
	a.Performer, a.Asker = rm.performer, &performing.Asker{Snap: a.Snap, Network: c.Network, Turn: a,
		Made: crossing.Made{Random: rand.Reader, Now: a.Now,
			Secret: func(name string) (string, error) { return rm.keyring.Credential(ctx, name) }}}
	defer func() { a.leave() }()
	came, err := performing.Run(ctx, a)
	rm.record(a, err, came.Issue != nil)
	return a, came, err
}

// Advance decides.
func (a *asked) Advance(lost crossing.Effect) oidcside.Came { return a.Call.Advance(a.Facts, lost) }

// Lacks is what it lacks.
func (a *asked) Lacks(came oidcside.Came) (*crossing.Lacks, []crossing.Effect) {
	return came.Lacks, came.Effects
}

// Satisfy looks up what is lacked; a provider's side asks in its own name.
func (a *asked) Satisfy(ctx context.Context, came oidcside.Came, l *crossing.Lacks) error {
	a.Asker.Provider = a.Asking
	return a.Acting.Satisfy(ctx, came, l)
}

// A client that refreshes within so short a time, after so many turns, is not
// recorded each time: its sign-in would be nothing else.
const (
	oftenTurns  = 3
	oftenWithin = time.Minute
)

// Finish makes the tokens while the disk takes what was decided, and gives them out only if it did. A refusal is the
// error; what it leaves behind is stored as well.
func (a *asked) Finish(ctx context.Context, came oidcside.Came) (lost crossing.Effect, err error) {
	type made struct {
		oidcside.Tokens
		err error
	}
	ready := make(chan made, 1)
	if came.Issue != nil {
		side := a.App.Side.(*oidcside.Application)
		go func() {
			got, err := side.Tokens(*came.Issue)
			ready <- made{got, err}
		}()
	}
	if lost, err = a.Store(ctx, came, came.Effects); lost != nil || err != nil {
		return lost, err
	}
	if came.Issue == nil {
		return nil, came.Refused
	}
	if k := a.Given; k != nil {
		a.often = k.Turn > oftenTurns && a.Now.Sub(k.Used) < oftenWithin
	}
	got := <-ready
	a.tokens = got.Tokens
	return nil, got.err
}

// Token answers a token request (RFC 6749 §3.2). Errors are oidc.Refusal, or of our
// own.
func (rm *Room) Token(ctx context.Context, c Caller) (oidcside.Tokens, error) {
	a, _, err := rm.ask(ctx, oidcside.AskToken, c)
	return a.tokens, err
}

// UserInfo says what a token lets know of a person (OpenID Connect Core §5.3).
// Refusals have the codes of RFC 6750 §3.1.
func (rm *Room) UserInfo(ctx context.Context, c Caller, token string) (map[string]any, error) {
	c.Bearer = token
	_, came, err := rm.ask(ctx, oidcside.AskUserInfo, c)
	return came.Says, err
}

// Introspect says what a token is good for (RFC 7662), to its own application and to
// those that are its audience.
func (rm *Room) Introspect(ctx context.Context, c Caller) (map[string]any, error) {
	_, came, err := rm.ask(ctx, oidcside.AskIntrospect, c)
	return came.Says, err
}

// Revoke takes a token back (RFC 7009): an access token alone, or with a refresh
// token everything that its sign-in gave. One that is not known is no error.
func (rm *Room) Revoke(ctx context.Context, c Caller) error {
	_, _, err := rm.ask(ctx, oidcside.AskRevoke, c)
	return err
}

// Push keeps an authorization request until the browser comes with its name
// (RFC 9126 §2.1).
func (rm *Room) Push(ctx context.Context, c Caller) (uri string, life time.Duration, err error) {
	a, _, err := rm.ask(ctx, oidcside.AskPush, c)
	return a.pushed, oidcside.PushedLife(), err
}

// proofs are secrets that were right, by application and network, as sums.
type proofs struct {
	mu   sync.Mutex
	kept map[string][][sha256.Size]byte
}

// mostProofs are kept; if there are more, all are forgotten.
const mostProofs = 20000

func (p *proofs) has(key string, sums [][sha256.Size]byte) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return len(sums) > 0 && slices.Equal(p.kept[key], sums)
}

func (p *proofs) put(key string, sums [][sha256.Size]byte) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.kept == nil || len(p.kept) >= mostProofs {
		p.kept = map[string][][sha256.Size]byte{}
	}
	p.kept[key] = sums
}

// performs has looked up what is asked about tokens, and stored what is decided on them.
func (rm *Room) performs() {
	p := rm.performer
	performing.Satisfies(p, func(ctx context.Context, _ *performing.Asker, n oidcside.WasRevoked) (bool, error) {
		return rm.revoked(ctx, n.Token)
	})
	performing.Satisfies(p, func(ctx context.Context, _ *performing.Asker, n oidcside.WasGiven) (*crossing.Granted,
		error) {
		k, found, err := rm.grants.Get(ctx, n.Grant)
		if err != nil || !found {
			return nil, err
		}
		return &k, nil
	})
	performing.Satisfies(p, func(ctx context.Context, _ *performing.Asker, n oidcside.GoesOn) (bool, error) {
		return rm.sessions.Lives(ctx, n.Session)
	})
	performing.Satisfies(p, func(_ context.Context, _ *performing.Asker, n oidcside.MayGuess) (g oidcside.Guessing,
		err error) {
		if g.Right = rm.right.has(n.Client, n.Sums); !g.Right && !rm.tries.Open(n.Client, rm.now()) {
			g.Wait = max(rm.tries.Wait(n.Client, rm.now()), time.Second)
		}
		return g, nil
	})
	performing.Satisfies(p, func(ctx context.Context, _ *performing.Asker, n oidcside.ClientKeys) (c crossing.Copied,
		err error) {
		c.Document, c.Fail, err = rm.copies.Of(ctx, n.App, n.Anew)
		return c, err
	})
	performing.Satisfies(p, func(ctx context.Context, a *performing.Asker, n oidcside.KeptOf) (*crossing.Upstream,
		error) {
		a.Turn.(*asked).enter(n.Session)
		up, kept, err := rm.sessions.Upstream(ctx, n.Session, n.Provider)
		if !kept {
			return nil, err
		}
		return &up, err
	})
	performing.Satisfies(p, func(_ context.Context, _ *performing.Asker, n oidcside.RunNamed) (*crossing.Rehearsing,
		error) {
		return rm.rehearsals.Marked(n.Value), nil
	})
	performing.Satisfies(p, func(_ context.Context, _ *performing.Asker, n oidcside.MayPush) (bool, error) {
		return rm.pushes.Take(n.Network, rm.now()), nil
	})
	rm.stores()
}

// stores says how what is decided on tokens is stored.
func (rm *Room) stores() {
	p := rm.performer
	performing.Notes(p, func(_ context.Context, _ *performing.Asker, e oidcside.Guessed) {
		if e.Right == nil {
			rm.tries.Fail(e.Client, rm.now())
			return
		}
		rm.right.put(e.Client, e.Right)
	})
	performing.Stores(p, func(s *performing.Storing, e oidcside.MoveGrant) error {
		err := rm.grants.Move(s.Tx, e.From, e.Next)
		if errors.Is(err, grants.ErrMoved) {
			return performing.Lost(e)
		}
		return err
	})
	performing.Stores(p, func(s *performing.Storing, e oidcside.EndGrant) error {
		return rm.grants.End(s.Tx, e.Grant, e.Why)
	})
	performing.Stores(p, func(s *performing.Storing, e oidcside.PutGrant) error {
		return rm.grants.Put(s.Tx, crossing.Granted{Grant: e.Grant}, e.Until)
	})
	performing.Stores(p, func(s *performing.Storing, e oidcside.TakeBack) error {
		err := s.Tx.Create(&store.UsedRow{Key: revokedKey(e.Token), Until: e.Until}).Error
		if store.IsTaken(err) {
			return nil
		}
		return err
	})
	performing.Stores(p, func(s *performing.Storing, e oidcside.MoveUpstream) error {
		return rm.sessions.MoveUpstream(s.Tx, e.Session, e.Provider, e.Upstream)
	})
	performing.Stores(p, func(s *performing.Storing, e oidcside.HoldRequest) error {
		a := s.Turn.(*asked)
		a.pushed = pushedName + random.Text(32)
		return s.Tx.Create(&store.HeldRow{Hash: store.Hash(a.pushed), Application: string(e.App), Expires: e.Until.UTC(),
			Sealed: rm.store.Seal("held", []byte(e.Form))}).Error
	})
}

// revokedKey is what a revoked access token is remembered by, until it ends.
func revokedKey(id string) []byte { return store.Hash("revoked\x1f" + id) }

func (rm *Room) revoked(ctx context.Context, id string) (bool, error) {
	var n int64
	err := rm.store.Read.WithContext(ctx).Model(&store.UsedRow{}).Where("key = ?", revokedKey(id)).Count(&n).Error
	return n > 0, err
}

// Redeem gives a message that was held for an application, once; nil if there is
// none.
func (rm *Room) Redeem(ctx context.Context, app federation.Name, key string) (message []byte, err error) {
	err = rm.store.Write(ctx, func(tx *gorm.DB) error {
		message = nil
		var row store.HeldRow
		err := tx.Where("hash = ? AND application = ? AND expires > ?", store.Hash(key), string(app),
			rm.now().UTC()).Take(&row).Error
		if errors.Is(err, gorm.ErrRecordNotFound) {
			return nil
		}
		if err != nil {
			return err
		}
		if message, err = rm.store.Open("held", row.Sealed); err != nil {
			return err
		}
		return tx.Delete(&row).Error
	})
	return message, err
}
