package redeeming

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/crossing/oidcside"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/grant"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/policy"
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
		switch kind := a.form.Get("grant_type"); kind {
		case "authorization_code", "refresh_token":
			out, err = rm.ofGrant(ctx, a, kind == "refresh_token")
		case "client_credentials":
			out, err = rm.ofService(ctx, a)
		case "":
			err = oidc.Wrong(oidc.InvalidRequest, finding.Fact("Missing", "grant_type"))
		default:
			err = oidc.Wrong(oidc.UnsupportedGrant, finding.Compare("grant_type",
				"authorization_code, refresh_token or client_credentials",
				finding.Clip(kind)))
		}
	}
	rm.record(a, err, &out)
	return out, err
}

// ofGrant redeems a code, or refreshes.
func (rm *Room) ofGrant(ctx context.Context, a *asked, refresh bool) (out oidcside.Tokens, err error) {
	if a.client.Kind == oidc.Service {
		return out, oidc.Wrong(oidc.UnauthorizedClient, finding.Fact("Kind", "a service gets tokens by client_credentials alone"))
	}
	field, kind := "code", grant.CodeHandle
	if refresh {
		field, kind = "refresh_token", grant.RefreshHandle
	}
	given := a.form.Get(field)
	if given == "" {
		return out, oidc.Wrong(oidc.InvalidRequest, finding.Fact("Missing", field))
	}
	h, ok := grant.ReadHandle(a.snap.Gate.Handles, given)
	if !ok || h.Kind != kind {
		return out, oidc.Refuse(oidc.InvalidGrant, finding.New(finding.GrantOther, finding.Fact(field, "was not given out here")))
	}
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
		if out, err = rm.turn(ctx, a, a.kept, h); !errors.Is(err, grants.ErrMoved) {
			return out, err
		}
		if a.kept, err = rm.find(ctx, h.Grant); err != nil {
			return out, err
		}
	}
	return out, oidc.Refuse(oidc.Busy, finding.New(finding.GrantTwice, finding.Fact(field, "is used by many at once")))
}

// turn decides once, and keeps what came of it under the grant's revision.
func (rm *Room) turn(ctx context.Context, a *asked, k *crossing.Granted, h grant.Handle) (out oidcside.Tokens, err error) {
	next, refreshed, err := rm.decided(ctx, a, k, h)
	if oidc.RefusalOf(err) != nil {
		return out, rm.settle(ctx, k, next, err)
	} else if err != nil {
		return out, err
	}
	a.checks.Pass("Grant", "good for this application")
	resources, err := narrowed(a, k.Resources)
	if err != nil {
		return out, err
	}
	is := oidcside.Issue{Gate: &a.snap.Gate, Grant: next, Word: &k.Word, Turn: int64(refreshed.Turn),
		First: h.Kind == grant.CodeHandle, ID: random.ID(), Now: a.now}
	var refreshes bool
	if is.Scopes, is.Resources, refreshes = a.side.StillMay(refreshed.Scopes, resources); !refreshes {
		is.Turn = 0
	}
	if h.Kind == grant.RefreshHandle && !refreshes {
		return out, oidc.Refuse(oidc.InvalidGrant, finding.New(finding.GrantEnded, finding.Fact("Setting", "noRefresh")))
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

// decided is the next value of a grant, by the code or refresh token that came.
func (rm *Room) decided(ctx context.Context, a *asked, k *crossing.Granted, h grant.Handle) (grant.Grant, grant.Refreshed,
	error) {
	if h.Kind == grant.CodeHandle {
		next, err := k.Redeem(grant.Redemption{Client: a.app.ID, RedirectURI: oidc.RedirectURI(a.form.Get("redirect_uri")),
			Verifier: a.form.Get("code_verifier")}, a.now)
		return next, grant.Refreshed{Turn: next.Turn, Scopes: k.Scopes}, err
	}
	alive := true
	if !k.Offline {
		var err error
		if alive, err = rm.sessions.Lives(ctx, k.Session); err != nil {
			return k.Grant, grant.Refreshed{}, err
		}
	}
	return k.Refresh(grant.Refresh{Client: a.app.ID, Turn: int(h.Number), Scopes: strings.Fields(a.form.Get("scope")),
		Lifetimes: a.side.Lifetimes(), Session: alive}, a.now)
}

// A client that refreshes within so short a time, after so many turns, is not
// recorded each time: its sign-in would be nothing else.
const (
	oftenTurns  = 3
	oftenWithin = time.Minute
)

// issued makes the tokens while the disk takes the grant, and gives them out only if
// it did.
func (rm *Room) issued(ctx context.Context, a *asked, k *crossing.Granted, is oidcside.Issue) (oidcside.Tokens, error) {
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

// narrowed are the audiences of an access token: those granted, or the part of them
// that the request names (RFC 8707 §2.2).
func narrowed(a *asked, granted []string) ([]string, error) {
	asked := a.form["resource"]
	for _, r := range asked {
		if !slices.Contains(granted, r) {
			return nil, oidc.Wrong(oidc.InvalidTarget, finding.Compare("resource", strings.Join(granted, " "), finding.Clip(r)))
		}
	}
	if len(asked) > 0 {
		return asked, nil
	}
	return granted, nil
}

// ofService gives a service a token of its own (RFC 6749 §4.4).
func (rm *Room) ofService(ctx context.Context, a *asked) (out oidcside.Tokens, err error) {
	if a.client.Kind != oidc.Service {
		return out, oidc.Wrong(oidc.UnauthorizedClient, finding.Compare("Kind", string(oidc.Service), string(a.client.Kind)))
	}
	if err := policy.Open(a.app, a.now); err != nil {
		return out, oidc.Refuse(oidc.UnauthorizedClient, finding.Of(err))
	}
	scopes, other := a.side.Granted(strings.Fields(a.form.Get("scope")))
	if other != "" {
		return out, oidc.Refuse(oidc.InvalidScope, finding.New(finding.ScopeGrown, finding.Fact("Scope", finding.Clip(other))))
	}
	resources, err := narrowed(a, a.client.Resources)
	if err != nil {
		return out, err
	}
	g := grant.Grant{Client: a.app.ID, Subject: string(a.client.ID), Scopes: scopes, Resources: resources, Began: a.now,
		Code: grant.Code{Redeemed: true}}
	opaque := a.side.AccessToken == "opaque"
	if opaque {
		g.ID = random.ID()
	}
	if opaque {
		err = rm.store.Write(ctx, func(tx *gorm.DB) error {
			return rm.grants.Put(tx, crossing.Granted{Grant: g}, a.now.Add(a.side.AccessLife()))
		})
		if err != nil {
			return out, err
		}
	}
	return a.side.Tokens(oidcside.Issue{Gate: &a.snap.Gate, Grant: g, Scopes: scopes, Resources: resources,
		ID: random.ID(), Now: a.now})
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
