package oidcside

import (
	"encoding/json"
	"net/url"
	"slices"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/oidc"
)

// logoutLife is how long a logout token is good (OpenID Connect Back-Channel Logout
// §2.4 recommends two minutes at most).
const logoutLife = 2 * time.Minute

// SignedOut plans the call by which the application hears that a session has ended
// (OpenID Connect Back-Channel Logout §2.5); false if it does not want to hear.
func (a *Application) SignedOut(session string, told json.RawMessage) (crossing.Notice, bool) {
	return crossing.Notice{Address: a.BackChannel, Session: session, Name: told}, a.BackChannel != ""
}

// Notify makes the call: a logout token in a form, anew at each try.
func (a *Application) Notify(g *federation.Gate, n crossing.Notice, id string, now time.Time) (crossing.CallOctets,
	error) {
	var t Told
	if err := json.Unmarshal(n.Name, &t); err != nil {
		return crossing.CallOctets{}, err
	}
	sign, err := a.signer(g)
	if err != nil {
		return crossing.CallOctets{}, err
	}
	token, err := sign.Sign(oidc.LogoutToken, oidc.Issue{Issuer: Issuer(g), ClientID: a.ClientID, Subject: t.Subject,
		Session: n.Session, Now: now, Life: logoutLife, ID: id}.LogoutToken())
	return crossing.CallOctets{Header: map[string]string{"Content-Type": "application/x-www-form-urlencoded"},
		Body: []byte(url.Values{"logout_token": {token}}.Encode())}, err
}

// Leaving is a request to sign out (OpenID Connect RP-Initiated Logout §2).
type Leaving struct {
	Hint        string // id_token_hint
	ClientID    oidc.ClientID
	RedirectURI oidc.RedirectURI // post_logout_redirect_uri
	State       string
}

// Left is what a request to sign out came to.
type Left struct {
	App     *federation.Application // nil if it names none
	Subject string                  // whom the ID token was about, "" without one
	Session string                  // sid in it
	Back    string                  // where to go afterwards, "" for nowhere
}

// ReadLeaving holds a request to sign out against what is on record. The ID token
// may have ended; an address that is not on record is refused, so nobody is sent
// there.
func ReadLeaving(s *federation.Snapshot, l Leaving) (out Left, err error) {
	if l.Hint != "" {
		claims, err := oidc.Wanted{Kind: oidc.IDToken, Algorithms: Algorithms, Keys: SigningKeys(&s.Gate)}.Verify(l.Hint)
		if err != nil {
			return out, finding.New(finding.OAuthRequest, finding.Fact("id_token_hint", finding.Of(err).Title))
		}
		aud, _ := claims["aud"].(string)
		if iss, _ := claims["iss"].(string); oidc.Issuer(iss) != Issuer(&s.Gate) {
			return out, finding.New(finding.OAuthRequest, finding.Compare("iss of id_token_hint", Issuer(&s.Gate), iss))
		}
		if l.ClientID != "" && l.ClientID != oidc.ClientID(aud) {
			return out, finding.New(finding.OAuthRequest, finding.Compare("aud of id_token_hint", l.ClientID, aud))
		}
		l.ClientID = oidc.ClientID(aud)
		out.Subject, _ = claims["sub"].(string)
		out.Session, _ = claims["sid"].(string)
	}
	if l.ClientID != "" {
		app, ok := s.ApplicationBy(Name, string(l.ClientID))
		if !ok {
			return out, finding.New(finding.ApplicationUnknown, finding.Fact("client_id", finding.Clip(l.ClientID)))
		}
		out.App = app
	}
	if l.RedirectURI == "" {
		return out, nil
	}
	if out.App == nil {
		return out, finding.New(finding.OAuthRequest,
			finding.Fact("post_logout_redirect_uri", "comes without id_token_hint and client_id, so nobody knows whose it is"))
	}
	if side := out.App.Side.(*Application); !slices.Contains(side.PostLogout, l.RedirectURI) {
		near := ""
		if len(side.PostLogout) > 0 {
			near = string(side.PostLogout[0])
		}
		return out, finding.New(finding.RedirectUnregistered, finding.Compare("post_logout_redirect_uri", near,
			finding.Clip(l.RedirectURI)))
	}
	out.Back = string(l.RedirectURI)
	if l.State != "" {
		out.Back = oidc.WithQuery(out.Back, "state", l.State)
	}
	return out, nil
}

// Is reports whether a session, by the name it lasts under, is the one that the ID
// token spoke of.
func (l Left) Is(lasting string) bool {
	return l.App != nil && l.Session != "" && lasting != "" && l.Session == sidOf(lasting, l.App.Identity())
}
