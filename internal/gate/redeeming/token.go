package redeeming

import (
	"context"
	"errors"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/crossing/oidcside"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/grant"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/gate/grants"
	"innergate.example/innergate/internal/gate/random"
)

// again is how often a decision is taken once more because somebody else was first.
const again = 20

// Token answers a token request (RFC 6749 §3.2). Errors are oidc.Refusal, or of our
// own.
func (rm *Room) Token(ctx context.Context, c Caller) (oidcside.Tokens, error) {
	a, err := rm.begin(ctx, "token", c)
	var out oidcside.Tokens
	if err == nil {
		out, err = rm.exchanged(ctx, a)
	}
	rm.record(a, err, &out)
	return out, err
}

// exchanged redeems a code, or refreshes, or gives a service a token of its own.
func (rm *Room) exchanged(ctx context.Context, a *asked) (out oidcside.Tokens, err error) {
	x := &oidcside.Exchange{Gate: &a.snap.Gate, App: a.app, Form: a.form, ID: random.ID(), Now: a.now}
	h, err := x.Brings()
	switch {
	case err != nil:
		return out, err
	case h == nil:
		return rm.ofService(ctx, a, x)
	}
	field := map[grant.HandleKind]string{grant.CodeHandle: "code", grant.RefreshHandle: "refresh_token"}[h.Kind]
	for range again {
		// The request may name something else beside it, of another sign-in.
		if a.kept != nil && a.kept.ID != h.Grant {
			if a.kept, err = rm.find(ctx, h.Grant); err != nil {
				return out, err
			}
		}
		if a.kept == nil {
			return out, oidc.Refuse(oidc.InvalidGrant, finding.New(finding.GrantExpired, finding.Fact(field,
				"is not known any more")))
		}
		if out, err = rm.turn(ctx, a, x, *h); !errors.Is(err, grants.ErrMoved) {
			return out, err
		}
		if a.kept, err = rm.find(ctx, h.Grant); err != nil {
			return out, err
		}
	}
	return out, oidc.Refuse(oidc.Busy, finding.New(finding.GrantTwice, finding.Fact(field, "is used by many at once")))
}

// turn decides once, and keeps what came of it under the grant's revision.
func (rm *Room) turn(ctx context.Context, a *asked, x *oidcside.Exchange, h grant.Handle) (out oidcside.Tokens,
	err error) {
	k := a.kept
	x.Checks = nil
	is, err := decide(ctx, rm, a, func(f crossing.Facts) (oidcside.Issue, *crossing.Lacks,
		error) {
		return x.Next(h, k, f)
	})
	a.checks = append(a.checks, x.Checks...)
	if oidc.RefusalOf(err) != nil {
		return out, rm.settle(ctx, k, is.Grant, err)
	} else if err != nil {
		return out, err
	}
	if h.Kind == grant.RefreshHandle {
		if err := rm.anew(ctx, a, k); err != nil {
			return out, err
		}
	}
	told, err := rm.renewed(ctx, a.app, k, a.snap)
	if f := finding.Of(err); f != nil {
		return out, rm.gone(ctx, k, f)
	} else if err != nil {
		return out, err
	}
	is.Attrs = told.Attributes
	return rm.issued(ctx, a, k, is)
}

// gone refuses by what somebody may not be told of any more. A grant whose provider the
// application does not use any more ends: it gives nothing either should that be taken back.
func (rm *Room) gone(ctx context.Context, k *crossing.Granted, f *finding.Finding) error {
	if f.Code == finding.GrantProvider {
		if err := rm.store.Write(ctx, func(tx *gorm.DB) error {
			return rm.grants.End(tx, k.ID, grant.Moved)
		}); err != nil {
			return err
		}
	}
	return oidc.Refuse(oidc.InvalidGrant, f)
}

// A client that refreshes within so short a time, after so many turns, is not
// recorded each time: its sign-in would be nothing else.
const (
	oftenTurns  = 3
	oftenWithin = time.Minute
)

// issued makes the tokens while the disk takes the grant, and gives them out only if
// it did.
func (rm *Room) issued(ctx context.Context, a *asked, k *crossing.Granted, is oidcside.Issue) (oidcside.Tokens,
	error) {
	type made struct {
		oidcside.Tokens
		err error
	}
	side, ready := a.side, make(chan made, 1)
	go func() {
		got, err := side.Tokens(is)
		ready <- made{got, err}
	}()
	if err := rm.settle(ctx, k, is.Grant, nil); err != nil {
		return oidcside.Tokens{}, err
	}
	a.often = k.Turn > oftenTurns && a.now.Sub(k.Used) < oftenWithin
	k.Grant = is.Grant
	got := <-ready
	return got.Tokens, got.err
}

// settle keeps the next value of a grant, also where it is refused by it.
func (rm *Room) settle(ctx context.Context, k *crossing.Granted, next grant.Grant, refused error) error {
	if next.Revision == k.Revision {
		return refused
	}
	err := rm.store.Write(ctx, func(tx *gorm.DB) error {
		moved := *k
		moved.Grant = next
		return rm.grants.Move(tx, k.Revision, moved)
	})
	if err != nil {
		return err
	}
	return refused
}

// ofService gives a service a token of its own (RFC 6749 §4.4).
func (rm *Room) ofService(ctx context.Context, a *asked, x *oidcside.Exchange) (out oidcside.Tokens, err error) {
	is, keeps, err := x.Service()
	if err == nil && keeps {
		err = rm.store.Write(ctx, func(tx *gorm.DB) error {
			return rm.grants.Put(tx, crossing.Granted{Grant: is.Grant}, a.now.Add(a.side.AccessLife()))
		})
	}
	if err != nil {
		return out, err
	}
	return a.side.Tokens(is)
}

// UserInfo says what a token lets know of a person (OpenID Connect Core §5.3).
// Refusals have the codes of RFC 6750 §3.1.
func (rm *Room) UserInfo(ctx context.Context, c Caller, token string) (out map[string]any, err error) {
	a := &asked{call: "userinfo", caller: c, snap: rm.records.Snapshot(), now: rm.now()}
	out, err = rm.userInfo(ctx, a, token)
	rm.record(a, err, nil)
	return out, err
}

func (rm *Room) userInfo(ctx context.Context, a *asked, token string) (map[string]any, error) {
	if token == "" {
		return nil, oidc.Wrong(oidc.InvalidToken, finding.Fact("Missing", "an access token as Authorization: Bearer"))
	}
	b := oidcside.Bring(a.snap, nil, token, a.now)
	return decide(ctx, rm, a, func(f crossing.Facts) (map[string]any, *crossing.Lacks, error) {
		if app, known := b.Whose(f); known {
			a.app, a.side = app, app.Side.(*oidcside.Application)
		}
		return b.UserInfo(f)
	})
}
