// Package grant is the machine of what one sign-in gave an application: the code
// that it redeems, and the tokens that it refreshes after that. It stands beside
// the crossing and is made like it: a value, an event and a time give the next
// value, and nothing is stored here.
//
//	next, err := g.Redeem(grant.Redemption{Client: id, RedirectURI: uri, Verifier: v}, now)
//
// Whoever stores the next value sees that the grant is still at the revision it
// was read at; one that lost reads it again and asks again. So of ten redemptions
// at once one succeeds, and the others come second.
//
// Codes and tokens are not kept (see Handle): they say which grant and which turn
// they are of, so the same turn always gives the same token, and a client that lost
// an answer gets it again.
package grant

import (
	"slices"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/oidc"
)

// CodeLife is how long a code can be redeemed (RFC 6749 §4.1.2 allows ten
// minutes).
const CodeLife = time.Minute

// Grace is how long the token before is taken as well, while its successor was
// not used: an answer may be lost, and two windows may ask at once.
const Grace = 20 * time.Second

// Grant is what an application was given by one sign-in. It is immutable: every
// event gives another one.
type Grant struct {
	ID        string        `json:"id"` // random; tokens carry it
	Revision  int           `json:"revision"`
	Client    federation.ID `json:"client"` // record of the application
	Person    int64         `json:"person,omitempty"`
	Subject   string        `json:"subject"` // sub, kept for as long as the grant lives
	Scopes    []string      `json:"scopes,omitempty"`
	Resources []string      `json:"resources,omitempty"`
	// IDClaims and InfoClaims are claims that were asked for one by one, for the ID
	// token and the user-info address (OpenID Connect Core §5.5).
	IDClaims   []string  `json:"idClaims,omitempty"`
	InfoClaims []string  `json:"infoClaims,omitempty"`
	Session    string    `json:"session,omitempty"` // of the gate; the grant ends with it unless Offline
	Offline    bool      `json:"offline,omitempty"` // outlives the session (offline_access)
	Refreshes  bool      `json:"refreshes,omitempty"`
	Began      time.Time `json:"began"`
	Code       Code      `json:"code"`
	Turn       int       `json:"turn,omitempty"` // of the refresh token that is good now; 0 before there is one
	Turned     time.Time `json:"turned,omitzero"`
	Used       time.Time `json:"used,omitzero"` // last time that something was asked with it
	Ended      Ending    `json:"ended,omitempty"`
}

// Code is what the redemption of the code is held against.
type Code struct {
	Redeemed    bool             `json:"redeemed,omitempty"`
	RedirectURI oidc.RedirectURI `json:"redirectUri"`
	Challenge   string           `json:"challenge,omitempty"`
	Nonce       string           `json:"nonce,omitempty"`
}

// Ending is why a grant gives nothing any more; "" while it does.
type Ending string

// Endings.
const (
	CodeTwice   Ending = "code-twice"    // the code was redeemed again
	CodeMisused Ending = "code-misused"  // with another redirect URI or verifier than that of its request
	TokenTwice  Ending = "token-twice"   // a refresh token was used that had long been replaced
	Revoked     Ending = "revoked"       // by the application (RFC 7009)
	Moved       Ending = "provider"      // the application does not use its provider any more
	Withdrawn   Ending = "withdrawn"     // by the person, or by an engineer for them
	SignedOut   Ending = "signed-out"    // its session ended
	NotRedeemed Ending = "code-not-used" // the code's time went by
	Crowded     Ending = "crowded"       // newer ones of the person took its place
	Idle        Ending = "idle"          // it was not used for as long as the application's record allows
	Aged        Ending = "aged"          // its sign-in is older than the application's record allows
)

// Lifetimes are how long an application may use a grant; zero has no bound.
type Lifetimes struct {
	Idle     time.Duration // since it was last used
	Absolute time.Duration // since the sign-in
}

// Redemption is a code as a client presents it.
type Redemption struct {
	Client      federation.ID
	RedirectURI oidc.RedirectURI // "" if it was not sent
	Verifier    string
}

// refuse is an invalid_grant (RFC 6749 §5.2). Its evidence is for the trace: the
// client is told the code alone.
func refuse(code finding.Code, evidence ...finding.Evidence) error {
	return &oidc.Refusal{Code: oidc.InvalidGrant, Finding: finding.New(code, evidence...)}
}

// Redeem turns the code into tokens. Another client changes nothing; the same
// client's second redemption, and a wrong verifier, end the grant, since the code
// is known to somebody else (RFC 6749 §4.1.2, RFC 9700 §2.1.1). The grant that
// comes back is to be stored even with an error, if its revision is another.
func (g Grant) Redeem(r Redemption, now time.Time) (Grant, error) {
	switch {
	case r.Client != g.Client:
		return g, refuse(finding.GrantOther, finding.Fact("Code", "was given to another application"))
	case g.Ended != "":
		return g, refuse(finding.GrantEnded, finding.Fact("Ended", string(g.Ended)))
	case g.Code.Redeemed:
		return g.End(CodeTwice), refuse(finding.GrantTwice, finding.Fact("Code", "was redeemed before"))
	case now.After(g.Began.Add(CodeLife)):
		return g.End(NotRedeemed), refuse(finding.GrantExpired,
			finding.Fact("Code", "from "+g.Began.UTC().Format(time.RFC3339)))
	case r.RedirectURI != g.Code.RedirectURI:
		return g.End(CodeMisused), refuse(finding.GrantOther,
			finding.Compare("redirect_uri", g.Code.RedirectURI, r.RedirectURI))
	}
	if err := oidc.CheckVerifier(g.Code.Challenge, r.Verifier); err != nil {
		return g.End(CodeMisused), err
	}
	n := g.next(now)
	n.Code.Redeemed = true
	if g.Refreshes {
		n.Turn, n.Turned = 1, now
	}
	return n, nil
}

// Refresh is a refresh token as a client presents it, its sum verified.
type Refresh struct {
	Client    federation.ID
	Turn      int
	Scopes    []string // asked for, in order to get less; none leaves them
	Lifetimes Lifetimes
	Session   bool // the grant's session is still there
}

// Refreshed is what a refresh gives: the turn of the refresh token to go on with,
// and the scopes of the access token.
type Refreshed struct {
	Turn   int
	Scopes []string
}

// Refresh turns a refresh token into the next one (RFC 6749 §6, RFC 9700 §4.14.2).
// The one before is taken for a while as long as its successor was not used, and
// gives the same successor; an older one ends the grant, since two have it. Another
// client changes nothing.
func (g Grant) Refresh(r Refresh, now time.Time) (Grant, Refreshed, error) {
	if err := g.Lives(r.Client, r.Lifetimes, r.Session, now); err != nil {
		return g, Refreshed{}, err
	}
	if r.Turn < 1 || r.Turn > g.Turn {
		return g, Refreshed{}, refuse(finding.GrantOther, finding.Fact("Refresh token", "of a turn that never was"))
	}
	scopes := g.Scopes
	for _, s := range r.Scopes {
		if !slices.Contains(g.Scopes, s) {
			return g, Refreshed{}, &oidc.Refusal{Code: oidc.InvalidScope,
				Finding: finding.New(finding.ScopeGrown, finding.Fact("Scope", s))}
		}
		scopes = r.Scopes
	}
	late := now.After(g.Turned.Add(Grace))
	switch {
	case r.Turn == g.Turn:
		n := g.next(now)
		n.Turn, n.Turned = g.Turn+1, now
		return n, Refreshed{n.Turn, scopes}, nil
	case r.Turn == g.Turn-1 && !late:
		return g, Refreshed{g.Turn, scopes}, nil
	}
	return g.End(TokenTwice), Refreshed{}, refuse(finding.GrantTwice, finding.Fact("Refresh token",
		"was replaced before"))
}

// Lives says why a grant gives nothing, nil if it still does.
func (g Grant) Lives(client federation.ID, l Lifetimes, session bool, now time.Time) error {
	used := g.Used
	if used.IsZero() {
		used = g.Began
	}
	over := func(since time.Time, life time.Duration) bool { return life > 0 && now.After(since.Add(life)) }
	switch {
	case client != g.Client:
		return refuse(finding.GrantOther, finding.Fact("Token", "was given to another application"))
	case g.Ended != "":
		return refuse(finding.GrantEnded, finding.Fact("Ended", string(g.Ended)))
	case !g.Code.Redeemed:
		return refuse(finding.GrantOther, finding.Fact("Code", "was not redeemed"))
	case !g.Offline && !session:
		return refuse(finding.GrantEnded, finding.Fact("Ended", string(SignedOut)))
	case over(g.Began, l.Absolute):
		return refuse(finding.GrantExpired, finding.Fact("Sign-in", g.Began.UTC().Format(time.RFC3339)))
	case over(used, l.Idle):
		return refuse(finding.GrantExpired, finding.Fact("Last used", used.UTC().Format(time.RFC3339)))
	}
	return nil
}

// Over is why a grant that was not ended gives nothing any more: its code was not redeemed in
// time, or its refresh token was not used, or is too old; "" if it does.
func (g Grant) Over(l Lifetimes, now time.Time) Ending {
	used := g.Used
	if used.IsZero() {
		used = g.Began
	}
	switch {
	case g.Ended != "":
		return g.Ended
	case !g.Code.Redeemed && now.After(g.Began.Add(CodeLife)):
		return NotRedeemed
	case g.Code.Redeemed && l.Absolute > 0 && now.After(g.Began.Add(l.Absolute)):
		return Aged
	case g.Code.Redeemed && l.Idle > 0 && now.After(used.Add(l.Idle)):
		return Idle
	}
	return ""
}

// End gives the grant as one that gives nothing any more. The first reason stays.
func (g Grant) End(why Ending) Grant {
	if g.Ended != "" {
		return g
	}
	g.Revision++
	g.Ended = why
	return g
}

func (g Grant) next(now time.Time) Grant {
	g.Revision++
	g.Used = now
	return g
}
