package oidcside

import (
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/grant"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/policy"
)

// Brought is a token that came back to the gate, and what is asked about it: user-info, introspection or revocation.
// Each is decided by its method, with what has been looked up; what it lacks is to be looked up, and it decides anew.
type Brought struct {
	snap    *federation.Snapshot
	by      *federation.Application // who asks, nil for whoever has the token
	now     time.Time
	refresh *grant.Handle // it is a refresh token
	bearer  Bearer        // it is an access token
	broken  error         // it is none, by a finding
}

// Bring reads a token, once.
func Bring(snap *federation.Snapshot, by *federation.Application, token string, now time.Time) *Brought {
	s := &Brought{snap: snap, by: by, now: now}
	if h, ok := grant.ReadHandle(snap.Gate.Handles, token); ok && h.Kind == grant.RefreshHandle && by != nil {
		s.refresh = &h
		return s
	}
	s.bearer, s.broken = ReadBearer(&snap.Gate, token, now)
	return s
}

// WasRevoked asks whether an access token was taken back.
type WasRevoked struct{ Token string } // its name (jti)

// Key names the token.
func (n WasRevoked) Key() string { return "revoked " + n.Token }

// Outside is false.
func (WasRevoked) Outside() bool { return false }

// Gives whether it was.
func (WasRevoked) Gives(bool) {}

// WasGiven asks for a grant. The fact is nil if it is not known.
type WasGiven struct{ Grant string }

// Key names the grant.
func (n WasGiven) Key() string { return "given " + n.Grant }

// Outside is false.
func (WasGiven) Outside() bool { return false }

// Gives the grant.
func (WasGiven) Gives(*crossing.Granted) {}

// GoesOn asks whether a session goes on.
type GoesOn struct{ Session string } // its lasting name

// Key names the session.
func (n GoesOn) Key() string { return "goes on " + n.Session }

// Outside is false.
func (GoesOn) Outside() bool { return false }

// Gives whether it does.
func (GoesOn) Gives(bool) {}

// good is what an access token was given for, as far as that gives something still.
type good struct {
	given *crossing.Granted // nil of a service whose token says everything itself
	app   *federation.Application
	side  *Application
}

// Whose is the application that a token was given to, as far as that is known by now.
func (s *Brought) Whose(f crossing.Facts) (*federation.Application, bool) {
	if given := s.given(f, nil); given != nil {
		return s.snap.ApplicationOf(given.Client)
	}
	if s.bearer.Grant != "" || s.bearer.ClientID == "" {
		return nil, false
	}
	return s.snap.ApplicationBy(Name, string(s.bearer.ClientID))
}

// given is the grant that a token is of, once it is known; else what is given.
func (s *Brought) given(f crossing.Facts, other *crossing.Granted) *crossing.Granted {
	id := s.bearer.Grant
	if s.refresh != nil {
		id = s.refresh.Grant
	}
	if given, _ := crossing.Fact(f, WasGiven{id}); given != nil {
		return given
	}
	return other
}

// good sees that an access token gives something. Errors are findings.
func (s *Brought) good(f crossing.Facts) (g good, lacks *crossing.Lacks, err error) {
	if s.broken != nil {
		return g, nil, s.broken
	}
	b := s.bearer
	revoked, known := crossing.Fact(f, WasRevoked{b.ID})
	if !known {
		return g, crossing.Lack(WasRevoked{b.ID}), nil
	}
	if revoked {
		return g, nil, finding.New(finding.GrantEnded, finding.Fact("Ended", string(grant.Revoked)))
	}
	if b.Grant != "" {
		if g.given, known = crossing.Fact(f, WasGiven{b.Grant}); !known {
			return g, crossing.Lack(WasGiven{b.Grant}), nil
		}
		if g.given == nil {
			return g, nil, finding.New(finding.GrantExpired, finding.Fact("Grant", "is not known any more"))
		}
	}
	if g.app, known = s.Whose(f); !known {
		if g.given != nil {
			return g, nil, finding.New(finding.ApplicationUnknown, finding.Fact("ID", string(g.given.Client)))
		}
		return g, nil, finding.New(finding.ApplicationUnknown, finding.Fact("client_id", finding.Clip(b.ClientID)))
	}
	s.snap, g.app = opened(s.snap, g.app, g.given)
	g.side = g.app.Side.(*Application)
	if g.given == nil {
		return g, nil, policy.Open(g.app, s.now)
	}
	// An access token is good for as long as it says; only what refreshes lies idle. A service has no session.
	lacks, err = s.lives(f, g.given, grant.Lifetimes{Absolute: g.side.Lifetimes().Absolute}, g.given.Session == "")
	return g, lacks, err
}

// lives sees that a grant gives something still.
func (s *Brought) lives(f crossing.Facts, k *crossing.Granted, l grant.Lifetimes, alone bool) (*crossing.Lacks,
	error) {
	session := true
	if !k.Offline && !alone {
		goes, known := crossing.Fact(f, GoesOn{k.Session})
		if !known {
			return crossing.Lack(GoesOn{k.Session}), nil
		}
		session = goes
	}
	return nil, k.Lives(k.Client, l, session, s.now)
}

// renewal is somebody who is told of by what was given.
func renewal(f crossing.Facts, app *federation.Application, k *crossing.Granted) crossing.Renewal {
	out := crossing.Renewal{App: app, Word: &k.Word, Person: k.Person, People: f.People(), Rehearsed: k.Run != ""}
	if them, known := crossing.Fact(f, crossing.ByNumber{Person: k.Person}); known {
		out.Numbered = &them
	}
	return out
}

// UserInfo is what a token lets know of a person (OpenID Connect Core §5.3). Refusals have the codes of RFC 6750 §3.1.
func (s *Brought) UserInfo(f crossing.Facts) (claims map[string]any, lacks *crossing.Lacks, err error) {
	g, lacks, err := s.good(f)
	switch {
	case lacks != nil:
		return nil, lacks, nil
	case finding.Of(err) != nil:
		return nil, nil, oidc.Refuse(oidc.InvalidToken, finding.Of(err))
	case err != nil:
		return nil, nil, err
	case g.given == nil || g.given.Session == "":
		return nil, nil, oidc.Wrong(oidc.InsufficientScope, finding.Fact("Token", "is a service's, and about nobody"))
	}
	scopes, _, _ := g.side.StillMay(s.bearer.Scopes(g.given.Grant), nil)
	issuer := Issuer(&s.snap.Gate)
	switch audience := s.bearer.Audience(g.given.Grant, issuer); {
	case !slices.Contains(scopes, "openid"):
		return nil, nil, oidc.Wrong(oidc.InsufficientScope, finding.Compare("scope", "openid", strings.Join(scopes, " ")))
	case !slices.Contains(audience, string(issuer)):
		return nil, nil, oidc.Wrong(oidc.InvalidToken, finding.Compare("aud", issuer, strings.Join(audience, " ")))
	}
	told, lacks, err := crossing.Renew(s.snap, renewal(f, g.app, g.given), s.now)
	switch f := finding.Of(err); {
	case lacks != nil:
		return nil, lacks, nil
	case f != nil:
		return nil, nil, oidc.Refuse(oidc.InvalidToken, f)
	case err != nil:
		return nil, nil, err
	}
	return g.side.UserInfo(g.given.Grant, scopes, told.Attributes), nil, nil
}

// inactive is all that is said of a token that gives nothing, or is none of the caller's business (RFC 7662 §2.2).
func inactive() map[string]any { return map[string]any{"active": false} }

// Introspect says what a token is good for (RFC 7662), to its own application and to those that are its audience. Why
// one gives nothing is told to nobody.
func (s *Brought) Introspect(f crossing.Facts) (out map[string]any, lacks *crossing.Lacks, err error) {
	if s.refresh != nil {
		out, lacks, err = s.introspectRefresh(f)
	} else {
		out, lacks, err = s.introspectBearer(f)
	}
	if finding.Of(err) != nil {
		return inactive(), nil, nil
	}
	return out, lacks, err
}

func (s *Brought) introspectBearer(f crossing.Facts) (map[string]any, *crossing.Lacks, error) {
	t, lacks, err := s.good(f)
	if lacks != nil || err != nil {
		return nil, lacks, err
	}
	var g grant.Grant
	if t.given != nil {
		g = t.given.Grant
	}
	b, issuer := s.bearer, Issuer(&s.snap.Gate)
	audience := b.Audience(g, issuer)
	if t.app.ID != s.by.ID && !s.by.Side.(*Application).Answers(audience) {
		return inactive(), nil, nil
	}
	out := map[string]any{"active": true, "token_type": "Bearer", "iss": string(issuer),
		"client_id": string(t.side.ClientID),
		"exp":       b.Until.Unix(), "aud": audience, "scope": strings.Join(b.Scopes(g), " "), "sub": b.Subject}
	if t.given != nil {
		out["sub"] = g.Subject
	}
	if !b.Issued.IsZero() {
		out["iat"] = b.Issued.Unix()
	}
	if t.given == nil || g.Session == "" {
		return out, nil, nil
	}
	if _, lacks, err := crossing.Renew(s.snap, renewal(f, t.app, t.given), s.now); lacks != nil || err != nil {
		return nil, lacks, err
	}
	if word := t.given.Word; !word.At.IsZero() {
		out["auth_time"] = word.At.Unix()
	}
	if word := t.given.Word; word.Context != "" {
		out["acr"] = word.Context
	}
	return out, nil, nil
}

func (s *Brought) introspectRefresh(f crossing.Facts) (map[string]any, *crossing.Lacks, error) {
	need := WasGiven{s.refresh.Grant}
	k, known := crossing.Fact(f, need)
	switch side := s.by.Side.(*Application); {
	case !known:
		return nil, crossing.Lack(need), nil
	case k == nil || k.Client != s.by.ID || int(s.refresh.Number) != k.Turn:
		return inactive(), nil, nil
	default:
		s.snap, s.by = opened(s.snap, s.by, k)
		if lacks, err := s.lives(f, k, side.Lifetimes(), false); lacks != nil || err != nil {
			return nil, lacks, err
		}
		if k.Session != "" { // it is about somebody, who may enter still
			if _, lacks, err := crossing.Renew(s.snap, renewal(f, s.by, k), s.now); lacks != nil || err != nil {
				return nil, lacks, err
			}
		}
		return map[string]any{"active": true, "token_type": "refresh_token", "client_id": string(side.ClientID),
			"sub": k.Subject,
			"iss": string(Issuer(&s.snap.Gate)), "scope": strings.Join(k.Scopes, " ")}, nil, nil
	}
}

// Taken is what a revocation takes back: an access token alone, or with a refresh token everything that its sign-in
// gave.
type Taken struct {
	Grant string    // that ends, "" for none
	Token string    // name of the access token that gives nothing any more, "" for none
	Until time.Time // when that would have ended
}

// Revoke takes a token back (RFC 7009). One that is not known is no error: there is nothing to take then.
func (s *Brought) Revoke(f crossing.Facts) (Taken, *crossing.Lacks, error) {
	foreign := oidc.Refuse(oidc.UnauthorizedClient, finding.New(finding.GrantOther, finding.Fact("Token",
		"was given to another application")))
	if s.refresh != nil {
		need := WasGiven{s.refresh.Grant}
		k, known := crossing.Fact(f, need)
		switch {
		case !known:
			return Taken{}, crossing.Lack(need), nil
		case k == nil:
			return Taken{}, nil, nil
		case k.Client != s.by.ID:
			return Taken{}, nil, foreign
		}
		return Taken{Grant: k.ID}, nil, nil
	}
	t, lacks, err := s.good(f)
	switch {
	case lacks != nil:
		return Taken{}, lacks, nil
	case err != nil && finding.Of(err) == nil:
		return Taken{}, nil, err
	case err != nil:
		return Taken{}, nil, nil // it gives nothing any more, or is none of ours
	case t.app.ID != s.by.ID:
		return Taken{}, nil, foreign
	}
	return Taken{Token: s.bearer.ID, Until: s.bearer.Until}, nil, nil
}
