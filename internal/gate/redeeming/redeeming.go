// Package redeeming is what applications of OpenID Connect and OAuth 2.0 ask the gate
// by themselves, without a browser: they redeem codes, refresh tokens, ask about
// people and about tokens, give tokens back, and push requests. What is decided is
// decided in the core; this room looks things up, and stores what came of it under
// the guard of its revision.
package redeeming

import (
	"context"
	"crypto/sha256"
	"errors"
	"log/slog"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/crossing/oidcside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/grant"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/gate/copies"
	"innergate.example/innergate/internal/gate/grants"
	"innergate.example/innergate/internal/gate/happening"
	"innergate.example/innergate/internal/gate/keyring"
	"innergate.example/innergate/internal/gate/limit"
	"innergate.example/innergate/internal/gate/performing"
	"innergate.example/innergate/internal/gate/records"
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
}

// New makes a room.
func New(p Parts) *Room {
	rm := &Room{store: p.Store, happenings: p.Happenings, log: p.Log, now: p.Now, records: p.Records,
		sessions: p.Sessions,
		grants:   p.Grants, tries: p.Tries, strangers: limit.NewFlow(), pushes: limit.NewFlow(), copies: p.Copies,
		keyring: p.Keys, performer: p.Performer,
		results: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "innergate_token_requests_total",
			Help: "Requests of applications without a browser, by what was asked and the error they heard."},
			[]string{"call", "error"})}
	rm.satisfies()
	return rm
}

// Results counts requests by what was asked and what came of it.
func (rm *Room) Results() prometheus.Collector { return rm.results }

// Caller is a request as it came in.
type Caller struct {
	Authorization string
	Query         string
	Form          string // the body
	ContentType   string
	Network       string // where it came from, for counting
}

// asked is a request of a client that has proved who it is.
type asked struct {
	call   string
	caller Caller
	form   url.Values
	snap   *federation.Snapshot
	app    *federation.Application
	side   *oidcside.Application
	client *oidc.Client
	proved oidc.Proved
	method oidc.Method
	now    time.Time
	kept   *crossing.Granted // that the request is about, once it is known
	checks finding.Checks
	often  bool // it is one of many of its kind in a short time
}

// largestForm is how much of a body is read, in octets.
const largestForm = 128 << 10

// read takes a form apart: each parameter once, and none of value (RFC 6749 §3.2).
func read(c Caller) (url.Values, error) {
	if t, _, _ := strings.Cut(c.ContentType, ";"); !strings.EqualFold(strings.TrimSpace(t),
		"application/x-www-form-urlencoded") {
		return nil, oidc.Wrong(oidc.InvalidRequest, finding.Compare("Content-Type", "application/x-www-form-urlencoded",
			c.ContentType))
	}
	if len(c.Form) > largestForm {
		return nil, oidc.Wrong(oidc.InvalidRequest, finding.Fact("Cause", "the body is too large"))
	}
	if f := crossing.SecretIn(c.Query, append([]string{"code", "code_verifier", "refresh_token", "token"},
		crossing.CallSecrets...)); f != nil {
		return nil, oidc.Refuse(oidc.InvalidRequest, f)
	}
	form, err := url.ParseQuery(c.Form)
	if err != nil {
		return nil, oidc.Wrong(oidc.InvalidRequest, finding.Fact("Cause", err.Error()))
	}
	for name, values := range form {
		form[name] = slices.DeleteFunc(values, func(v string) bool { return v == "" })
		switch {
		case len(form[name]) == 0:
			delete(form, name)
		case len(form[name]) > 1 && name != "resource":
			return nil, oidc.Wrong(oidc.InvalidRequest, finding.Fact("Given more than once", finding.Clip(name)))
		}
	}
	return form, nil
}

// begin has the client prove who it is.
func (rm *Room) begin(ctx context.Context, call string, c Caller) (*asked, error) {
	a := &asked{call: call, caller: c, snap: rm.records.Snapshot(), now: rm.now()}
	form, err := read(c)
	if err != nil {
		return a, err
	}
	a.form = form
	if err := rm.about(ctx, a); err != nil {
		return a, err
	}
	presented, err := oidc.Present(c.Authorization, form)
	if err != nil {
		return a, err
	}
	a.method = presented.Method
	app, ok := a.snap.ApplicationBy(oidcside.Name, string(presented.ClientID))
	if !ok {
		return a, oidc.Refuse(oidc.InvalidClient, finding.New(finding.ApplicationUnknown, finding.Fact("client_id",
			finding.Clip(presented.ClientID))))
	}
	a.app, a.side = app, app.Side.(*oidcside.Application)
	if err := rm.proveWithin(ctx, a, presented); err != nil {
		return a, err
	}
	a.checks.Pass("Client", "proved by "+string(a.method))
	return a, rm.spend(ctx, a)
}

// proveWithin proves, and bounds how often a secret can be guessed that the client brought
// along. No other proof is ever locked, and no secret that was right from this network before.
func (rm *Room) proveWithin(ctx context.Context, a *asked, p oidc.Presented) error {
	key := "client " + string(a.app.ID) + " " + a.caller.Network
	guess := p.Guess(a.side.Client(nil)) && !rm.right.has(key, p.Sums())
	if guess && !rm.tries.Open(key, a.now) {
		wait := rm.tries.Wait(key, a.now).Round(time.Second)
		return &oidc.Refusal{Code: oidc.Busy, Wait: wait, Finding: finding.New(finding.ClientLocked,
			finding.Fact("Network", a.caller.Network), finding.Fact("Again in", wait.String()))}
	}
	err := rm.prove(ctx, a, p)
	switch {
	case err != nil && guess:
		rm.tries.Fail(key, a.now)
	case err == nil && guess:
		rm.right.put(key, p.Sums())
	}
	return err
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

// spend consumes what the client may use once, whatever becomes of its request.
func (rm *Room) spend(ctx context.Context, a *asked) error {
	if a.proved.Once == "" {
		return nil
	}
	err := rm.store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Create(&store.UsedRow{Key: store.Hash("assertion\x1f" + string(a.app.ID) + "\x1f" + a.proved.Once),
			Until: a.proved.Until.UTC()}).Error
	})
	if store.IsTaken(err) {
		return oidc.Refuse(oidc.InvalidClient, finding.New(finding.ClientAssertionTwice, finding.Fact("jti", a.proved.Once)))
	}
	return err
}

// prove holds the client's proof against its keys, which are asked for again once if
// none fits.
func (rm *Room) prove(ctx context.Context, a *asked, p oidc.Presented) (err error) {
	a.client = a.side.Client(nil)
	fetched := a.side.KeyAddress != "" && p.Method == oidc.SignedJWT
	for anew := false; ; anew = true {
		if fetched {
			more, err := rm.keys(ctx, a.app, anew)
			if err != nil {
				return err
			}
			a.client = a.side.Client(more)
		}
		a.proved, err = p.Prove(a.client, oidcside.Issuer(&a.snap.Gate), a.now)
		if anew || !fetched || !finding.Is(err, finding.TokenKey) {
			return err
		}
	}
}

// keys are those at an application's address.
func (rm *Room) keys(ctx context.Context, a *federation.Application, anew bool) ([]oidc.Key, error) {
	read, f, err := rm.copies.Of(ctx, a, anew)
	switch {
	case err != nil:
		return nil, err
	case f != nil:
		return nil, oidc.Refuse(oidc.InvalidClient, f)
	}
	return read.([]oidc.Key), nil
}

// about finds the grant that a request names, so that whatever comes of it is told
// in the trace of its sign-in.
func (rm *Room) about(ctx context.Context, a *asked) error {
	for _, name := range []string{"code", "refresh_token", "token"} {
		h, ok := grant.ReadHandle(a.snap.Gate.Handles, a.form.Get(name))
		if !ok {
			continue
		}
		id := oidcside.GrantOf(h)
		var err error
		if a.kept, err = rm.find(ctx, id); err != nil || a.kept != nil {
			return err
		}
	}
	return nil
}

// find gives a grant, nil if there is none.
func (rm *Room) find(ctx context.Context, id string) (*crossing.Granted, error) {
	k, found, err := rm.grants.Get(ctx, id)
	if err != nil || !found {
		return nil, err
	}
	return &k, nil
}

// renewed decides whether somebody may still be told of, with the people that it
// takes, and what.
func (rm *Room) renewed(ctx context.Context, a *federation.Application, k *crossing.Granted,
	snap *federation.Snapshot) (profile.Released, error) {
	now := rm.now()
	return decide(ctx, rm, &asked{snap: snap}, func(f crossing.Facts) (profile.Released, *crossing.Lacks, error) {
		return crossing.Renew(snap, crossing.Renewal{App: a, Word: &k.Word, Person: k.Person, People: f.People()}, now)
	})
}

// decide has something decided, with what that lacks looked up. What the token is of is what the request is about.
func decide[T any](ctx context.Context, rm *Room, a *asked, step func(crossing.Facts) (T, *crossing.Lacks,
	error)) (out T, err error) {
	facts := crossing.Facts{}
	out, err = performing.Decide(ctx, rm.performer, &performing.Asker{Snap: a.snap}, &facts, step)
	if given, _ := crossing.Fact(facts, oidcside.WasGiven{}); given != nil {
		a.kept = given
	}
	return out, err
}

// satisfies has looked up what is asked about tokens.
func (rm *Room) satisfies() {
	performing.Satisfies(rm.performer, func(ctx context.Context, _ *performing.Asker, n oidcside.WasRevoked) (bool,
		error) {
		return rm.revoked(ctx, n.Token)
	})
	performing.Satisfies(rm.performer, func(ctx context.Context, _ *performing.Asker,
		n oidcside.WasGiven) (*crossing.Granted, error) {
		return rm.find(ctx, n.Grant)
	})
	performing.Satisfies(rm.performer, func(ctx context.Context, _ *performing.Asker, n oidcside.GoesOn) (bool, error) {
		return rm.sessions.Lives(ctx, n.Session)
	})
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
