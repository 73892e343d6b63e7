package oidcside

import (
	"crypto"
	"fmt"
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/grant"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/profile"
)

// SigningKeys are all keys that tokens of ours may be signed with: the current ones
// first, then those that come next and those of before.
func SigningKeys(g *federation.Gate) (out []oidc.Key) {
	for _, alg := range Algorithms {
		for _, p := range g.Keys[purposes[alg]].All() {
			if k, ok := published(p.Certificate.Public); ok {
				out = append(out, k)
			}
		}
	}
	return out
}

func published(public crypto.PublicKey) (oidc.Key, bool) {
	id, err := oidc.Thumbprint(public)
	return oidc.Key{ID: id, Algorithm: oidc.AlgorithmOf(public), Use: "sig", Public: public}, err == nil
}

// signer makes tokens for an application.
func (a *Application) signer(g *federation.Gate) (*oidc.Signer, error) {
	set := g.Keys[purposes[a.algorithm()]]
	if set.Current == nil {
		return nil, fmt.Errorf("there is no key to sign tokens with %s", a.algorithm())
	}
	return oidc.NewSigner(set.Current.Signer())
}

// Issue is what tokens are made from.
type Issue struct {
	Gate      *federation.Gate
	Grant     grant.Grant
	Word      *crossing.Answer // nil for a service
	Attrs     []profile.Attribute
	Scopes    []string // of the access token
	Resources []string // likewise
	Turn      int64    // of the refresh token, 0 for none
	First     bool     // a code is redeemed, so the nonce is told
	ID        string   // of the access token, random
	Now       time.Time
}

// Tokens is a token response (RFC 6749 §5.1, OpenID Connect Core §3.1.3.3).
type Tokens struct {
	AccessToken  string `json:"access_token"`
	TokenType    string `json:"token_type"`
	ExpiresIn    int64  `json:"expires_in"`
	RefreshToken string `json:"refresh_token,omitempty"`
	IDToken      string `json:"id_token,omitempty"`
	Scope        string `json:"scope,omitempty"`
}

// Tokens makes the tokens for an application.
func (a *Application) Tokens(in Issue) (Tokens, error) {
	out := Tokens{TokenType: "Bearer", ExpiresIn: int64(a.lives.access / time.Second),
		Scope: strings.Join(in.Scopes, " ")}
	sign, err := a.signer(in.Gate)
	if err != nil {
		return out, err
	}
	said := oidc.Issue{Issuer: Issuer(in.Gate), ClientID: a.ClientID, Subject: in.Grant.Subject, Now: in.Now,
		Life: a.lives.access, ID: in.Grant.ID + "." + in.ID}
	if in.Word != nil {
		said.Context, said.Methods, said.AuthTime = in.Word.Context, in.Word.Methods, in.Word.At
		said.Session = sidOf(in.Grant.Session, string(a.ClientID))
	}
	if out.AccessToken, err = a.accessToken(in, said, sign); err != nil {
		return out, err
	}
	if in.Turn > 0 {
		out.RefreshToken = grant.Handle{Kind: grant.RefreshHandle, Grant: in.Grant.ID,
			Number: in.Turn}.Token(in.Gate.Handles)
	}
	if in.Word == nil || !slices.Contains(in.Scopes, openID) {
		return out, nil
	}
	said.Life = a.lives.id
	if in.First {
		said.Nonce = in.Grant.Code.Nonce
	}
	said.Person = written(a.inToken(in.Attrs, in.Scopes, in.Grant.IDClaims))
	out.IDToken, err = sign.Sign(oidc.IDToken, said.IDToken(sign.Algorithm, out.AccessToken))
	return out, err
}

func (a *Application) accessToken(in Issue, said oidc.Issue, sign *oidc.Signer) (string, error) {
	if a.AccessToken == "opaque" {
		return grant.Handle{Kind: grant.AccessHandle, Grant: marked(in),
			Number: in.Now.Add(said.Life).Unix()}.Token(in.Gate.Handles), nil
	}
	audience := slices.Clone(in.Resources)
	if len(audience) > 0 && slices.Contains(in.Scopes, "openid") {
		audience = append(audience, string(said.Issuer)) // for the user-info address
	}
	if in.Word != nil {
		said.Session = "" // the access token is for others too
	}
	return sign.Sign(oidc.AccessToken, said.AccessToken(in.Scopes, audience))
}

// marked names a grant with the part of its scopes and resources that a token is
// good for, a bit each: what is not in a token that says nothing cannot be read out
// of it. What tells it from every other token comes last.
func marked(in Issue) string {
	g := in.Grant
	return fmt.Sprintf("%s~%x~%x~%s", g.ID, bits(g.Scopes, in.Scopes), bits(g.Resources, in.Resources), in.ID)
}

func bits(all, some []string) (out uint64) {
	for i, s := range all {
		if i < 64 && slices.Contains(some, s) {
			out |= 1 << i
		}
	}
	return out
}

func ofBits(all []string, mask uint64) (out []string) {
	for i, s := range all {
		if i < 64 && mask&(1<<i) != 0 {
			out = append(out, s)
		}
	}
	return out
}

// StillMay is what is left of scopes and audiences that were granted, by the settings
// of now; false if it gets no refresh tokens any more.
func (a *Application) StillMay(scopes, resources []string) (left, named []string, refreshes bool) {
	for _, s := range once(scopes) {
		if a.may(s) {
			left = append(left, s)
		}
	}
	for _, r := range resources {
		if slices.Contains(a.Resources, r) {
			named = append(named, r)
		}
	}
	return left, named, !a.NoRefresh
}

// Lifetimes are how long its refresh tokens are good.
func (a *Application) Lifetimes() grant.Lifetimes { return a.lives.refresh }

// AccessLife is how long its access tokens are good.
func (a *Application) AccessLife() time.Duration { return a.lives.access }

// Granted are the scopes of a service's token, of those it asks for; all that it may
// ask for if it names none.
func (a *Application) Granted(asked []string) (granted []string, refused string) {
	if len(asked) == 0 {
		asked = a.Scopes
	}
	for _, s := range asked {
		if !a.may(s) {
			return nil, s
		}
	}
	return once(asked), ""
}
