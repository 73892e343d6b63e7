package oidcside

import (
	"net/url"
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

// Exchange is a token request (RFC 6749 §3.2) of an application that has proved who it is.
type Exchange struct {
	Gate *federation.Gate
	App  *federation.Application
	Form url.Values
	ID   string // random, of the access token and of what is kept for a service
	Now  time.Time
	// Checks are what was seen on the way.
	Checks finding.Checks
}

func (x *Exchange) side() *Application { return x.App.Side.(*Application) }

// Brings reads what the request brings: a code or a refresh token, nil for a service, which brings nothing.
func (x *Exchange) Brings() (*grant.Handle, error) {
	service := x.side().ClientKind == oidc.Service
	field, kind := "code", grant.CodeHandle
	switch by := x.Form.Get("grant_type"); {
	case by == "client_credentials" && service:
		return nil, nil
	case by == "client_credentials":
		return nil, oidc.Wrong(oidc.UnauthorizedClient, finding.Compare("Kind", string(oidc.Service),
			string(x.side().ClientKind)))
	case by == "":
		return nil, oidc.Wrong(oidc.InvalidRequest, finding.Fact("Missing", "grant_type"))
	case by != "authorization_code" && by != "refresh_token":
		return nil, oidc.Wrong(oidc.UnsupportedGrant, finding.Compare("grant_type",
			"authorization_code, refresh_token or client_credentials", finding.Clip(by)))
	case service:
		return nil, oidc.Wrong(oidc.UnauthorizedClient, finding.Fact("Kind",
			"a service gets tokens by client_credentials alone"))
	case by == "refresh_token":
		field, kind = by, grant.RefreshHandle
	}
	given := x.Form.Get(field)
	if given == "" {
		return nil, oidc.Wrong(oidc.InvalidRequest, finding.Fact("Missing", field))
	}
	h, ok := grant.ReadHandle(x.Gate.Handles, given)
	if !ok || h.Kind != kind {
		return nil, oidc.Refuse(oidc.InvalidGrant, finding.New(finding.GrantOther,
			finding.Fact(field, "was not given out here")))
	}
	return &h, nil
}

// Next decides the next value of the grant that a code or refresh token is of, and what is issued by it. The grant of
// the issue is to be kept also with a refusal: what comes twice ends it.
func (x *Exchange) Next(h grant.Handle, k *crossing.Granted, f crossing.Facts) (is Issue, lacks *crossing.Lacks,
	err error) {
	is = Issue{Gate: x.Gate, Grant: k.Grant, Word: &k.Word, First: h.Kind == grant.CodeHandle, ID: x.ID, Now: x.Now}
	next, turned, lacks, err := x.redeemed(h, k, f)
	if lacks != nil || err != nil {
		is.Grant = next
		return is, lacks, err
	}
	x.Checks.Pass("Grant", "good for this application")
	resources, err := x.narrowed(k.Resources)
	if err != nil {
		return is, nil, err
	}
	var refreshes bool
	if is.Scopes, is.Resources, refreshes = x.side().StillMay(turned.Scopes, resources); refreshes {
		is.Turn = int64(turned.Turn)
	} else if h.Kind == grant.RefreshHandle {
		return is, nil, oidc.Refuse(oidc.InvalidGrant, finding.New(finding.GrantEnded, finding.Fact("Setting", "noRefresh")))
	}
	is.Grant = next
	return is, nil, nil
}

// redeemed is the next value of a grant, by the code or refresh token that came.
func (x *Exchange) redeemed(h grant.Handle, k *crossing.Granted, f crossing.Facts) (grant.Grant, grant.Refreshed,
	*crossing.Lacks, error) {
	if h.Kind == grant.CodeHandle {
		next, err := k.Redeem(grant.Redemption{Client: x.App.ID, RedirectURI: oidc.RedirectURI(x.Form.Get("redirect_uri")),
			Verifier: x.Form.Get("code_verifier")}, x.Now)
		return next, grant.Refreshed{Turn: next.Turn, Scopes: k.Scopes}, nil, err
	}
	session := true
	if !k.Offline {
		goes, known := crossing.Fact(f, GoesOn{k.Session})
		if !known {
			return k.Grant, grant.Refreshed{}, crossing.Lack(GoesOn{k.Session}), nil
		}
		session = goes
	}
	next, turned, err := k.Refresh(grant.Refresh{Client: x.App.ID, Turn: int(h.Number),
		Scopes:    strings.Fields(x.Form.Get("scope")),
		Lifetimes: x.side().Lifetimes(), Session: session}, x.Now)
	return next, turned, nil, err
}

// narrowed are the audiences of an access token: those granted, or the part of them that the request names (RFC 8707
// §2.2).
func (x *Exchange) narrowed(granted []string) ([]string, error) {
	asked := x.Form["resource"]
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

// Service decides on a token for a service itself (RFC 6749 §4.4). keeps tells whether its grant is to be kept, as
// the token says nothing itself.
func (x *Exchange) Service() (is Issue, keeps bool, err error) {
	if err := policy.Open(x.App, x.Now); err != nil {
		return is, false, oidc.Refuse(oidc.UnauthorizedClient, finding.Of(err))
	}
	side := x.side()
	scopes, other := side.Granted(strings.Fields(x.Form.Get("scope")))
	if other != "" {
		return is, false, oidc.Refuse(oidc.InvalidScope, finding.New(finding.ScopeGrown,
			finding.Fact("Scope", finding.Clip(other))))
	}
	resources, err := x.narrowed(side.Resources)
	if err != nil {
		return is, false, err
	}
	g := grant.Grant{Client: x.App.ID, Subject: string(side.ClientID), Scopes: scopes, Resources: resources, Began: x.Now,
		Code: grant.Code{Redeemed: true}}
	if keeps = side.AccessToken == "opaque"; keeps {
		g.ID = x.ID
	}
	return Issue{Gate: x.Gate, Grant: g, Scopes: scopes, Resources: resources, ID: x.ID, Now: x.Now}, keeps, nil
}
