package oidcside_test

import (
	"fmt"
	"maps"
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/crossing/oidcside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/grant"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/person"
)

// What is said of a token is decided by what is known, one after another: was it taken back, what was it given for,
// does the session go on, may the person still enter.
func TestTokensThatComeBack(t *testing.T) {
	w := newWorld(t, side(t, web, ""))
	p := &federation.Provider{Side: plainProvider{}}
	p.ID, p.Name, p.Phase, p.Title = "id-staff", "staff", federation.Live, "Staff"
	other := record(side(t, federation.Typed{"kind": "web", "clientId": "roster",
		"redirectUris": "https://roster.example/"}, ""))
	other.ID, other.Name = "id-roster", "roster"
	snap := w.snap.With(p).With(other)
	a := word()
	a.Provider, a.ProviderID = "staff", "id-staff"
	link := person.LinkKey("id-staff", a.Subject)

	g := grant.Grant{ID: "g", Client: w.app.ID, Person: 1, Subject: "s-1", Scopes: []string{"openid", "profile"},
		Session:   "lasting",
		Refreshes: true, Began: now, Code: grant.Code{RedirectURI: back, Challenge: oidc.Challenge(verifier)}}
	tokens, next, _ := w.tokens(t, g)
	given := &crossing.Granted{Grant: next, Word: *a}
	type facts struct {
		revoked, over bool
		given         *crossing.Granted
		person        int64
	}
	all := facts{given: given, person: 1}
	// learnt looks up what is lacked, of what is true, and tells how often.
	learnt := func(true facts, step func(crossing.Facts) *crossing.Lacks) (asked int) {
		f := crossing.Facts{}
		for lacks := step(f); lacks != nil; lacks = step(f) {
			require.Less(t, asked, 5)
			asked++
			for _, n := range lacks.Needs {
				switch n := n.(type) {
				case oidcside.WasRevoked:
					f.Put(n, true.revoked)
				case oidcside.WasGiven:
					require.Equal(t, "g", n.Grant)
					f.Put(n, true.given)
				case oidcside.GoesOn:
					require.Equal(t, "lasting", n.Session)
					f.Put(n, !true.over)
				case crossing.WhoIs:
					require.Equal(t, link, n.Link)
					f.Put(n, person.Person{ID: true.person})
				default:
					t.Fatalf("%T", n)
				}
			}
		}
		return asked
	}
	ended := *given
	ended.Grant = ended.End(grant.Revoked)
	turned := *given
	turned.Turn++
	for what, c := range map[string]struct {
		of                     facts
		by                     *federation.Application
		at                     time.Time
		access, refresh        bool   // active
		info                   string // finding of user-info
		takesAccess, takesTurn string // what revocation takes: "token", "grant", "" or a code
	}{
		"good": {of: all, access: true, refresh: true, takesAccess: "token", takesTurn: "grant"},
		"taken back": {of: facts{revoked: true, given: given, person: 1}, refresh: true, info: "grant-ended",
			takesTurn: "grant"},
		"of a session that is over": {of: facts{over: true, given: given, person: 1}, info: "grant-ended",
			takesTurn: "grant"},
		"of nothing known":      {of: facts{person: 1}, info: "grant-expired"},
		"of a grant that ended": {of: facts{given: &ended, person: 1}, info: "grant-ended", takesTurn: "grant"},
		"of an earlier turn": {of: facts{given: &turned, person: 1}, access: true, takesAccess: "token",
			takesTurn: "grant"},
		"of somebody else by now": {of: facts{given: given, person: 2}, info: "grant-unlinked", takesAccess: "token",
			takesTurn: "grant"},
		"of another application": {of: all, by: other, takesAccess: "unauthorized_client",
			takesTurn: "unauthorized_client"},
		"too late": {of: all, at: now.Add(time.Hour), refresh: true, info: "grant-expired",
			takesTurn: "grant"},
	} {
		if c.by == nil {
			c.by = w.app
		}
		if c.at.IsZero() {
			c.at = now
		}
		active := func(token string) bool {
			var out map[string]any
			learnt(c.of, func(f crossing.Facts) *crossing.Lacks {
				got, lacks, err := oidcside.Bring(snap, c.by, token, c.at).Introspect(f)
				require.NoError(t, err, what)
				out = got
				return lacks
			})
			return out["active"] == true
		}
		require.Equal(t, c.access, active(tokens.AccessToken), what)
		require.Equal(t, c.refresh, active(tokens.RefreshToken), what)
		require.False(t, active(tokens.AccessToken+"x"), what)
		var err error
		learnt(c.of, func(f crossing.Facts) (lacks *crossing.Lacks) {
			_, lacks, err = oidcside.Bring(snap, nil, tokens.AccessToken, c.at).UserInfo(f)
			return lacks
		})
		if found := ""; err != nil || c.info != "" {
			if f := finding.Of(err); f != nil {
				found = string(f.Code)
			}
			require.Equal(t, c.info, found, what)
			require.Equal(t, oidc.InvalidToken, oidc.RefusalOf(err).Code, what)
		}
		for token, want := range map[string]string{tokens.AccessToken: c.takesAccess, tokens.RefreshToken: c.takesTurn,
			"none": ""} {
			got := ""
			learnt(c.of, func(f crossing.Facts) *crossing.Lacks {
				taken, lacks, err := oidcside.Bring(snap, c.by, token, c.at).Revoke(f)
				switch {
				case err != nil:
					got = string(oidc.RefusalOf(err).Code)
				case taken.Grant == "g":
					got = "grant"
				case taken.Token != "":
					got = "token"
				}
				return lacks
			})
			require.Equal(t, want, got, fmt.Sprintf("%s: %.4s", what, token))
		}
	}
}

// What a token request comes to, and what of its grant is kept: a refused narrowing leaves it as it was, what comes
// twice ends it.
func TestTokenRequests(t *testing.T) {
	w := newWorld(t, side(t, web, `{"resources":["https://api.example","https://plan.example"]}`))
	service := newWorld(t, side(t, federation.Typed{"kind": "service", "clientId": "night-run"}, `{"scopes":["read"]}`))
	g := grant.Grant{ID: "g", Client: w.app.ID, Subject: "s-1", Scopes: []string{"openid"}, Session: "lasting",
		Refreshes: true,
		Resources: []string{"https://api.example", "https://plan.example"}, Began: now,
		Code: grant.Code{RedirectURI: back, Challenge: oidc.Challenge(verifier)}}
	redeemed, err := g.Redeem(grantRedemption(w), now)
	require.NoError(t, err)
	key := w.snap.Gate.Handles
	code := grant.Handle{Kind: grant.CodeHandle, Grant: "g"}.Token(key)
	refresh := grant.Handle{Kind: grant.RefreshHandle, Grant: "g", Number: int64(redeemed.Turn)}.Token(key)
	byCode := url.Values{"grant_type": {"authorization_code"}, "code": {code}, "redirect_uri": {back},
		"code_verifier": {verifier}}
	byRefresh := url.Values{"grant_type": {"refresh_token"}, "refresh_token": {refresh}}
	with := func(form url.Values, more ...string) url.Values {
		out := maps.Clone(form)
		for i := 0; i < len(more); i += 2 {
			out[more[i]] = []string{more[i+1]}
		}
		return out
	}
	for what, c := range map[string]struct {
		of   world
		form url.Values
		k    grant.Grant
		want string // audiences, or the code of the refusal
		ends bool   // and what becomes of the grant
	}{
		"nothing":                {w, url.Values{}, g, "invalid_request", false},
		"of a kind that is none": {w, url.Values{"grant_type": {"password"}}, g, "unsupported_grant_type", false},
		"of a service, that is none": {w, url.Values{"grant_type": {"client_credentials"}}, g, "unauthorized_client",
			false},
		"by code, of a service":     {service, byCode, g, "unauthorized_client", false},
		"without the code":          {w, with(byCode, "code", ""), g, "invalid_request", false},
		"a refresh token as a code": {w, with(byCode, "code", refresh), g, "invalid_grant", false},
		"by code":                   {w, byCode, g, "[https://api.example https://plan.example]", false},
		"by code, for one": {w, with(byCode, "resource", "https://api.example"), g, "[https://api.example]",
			false},
		"by code, for another":          {w, with(byCode, "resource", "https://pay.example"), g, "invalid_target", false},
		"by code, without the verifier": {w, with(byCode, "code_verifier", ""), g, "invalid_grant", true},
		"by code, twice":                {w, byCode, redeemed, "invalid_grant", true},
		"refreshed":                     {w, byRefresh, redeemed, "[https://api.example https://plan.example]", false},
		"refreshed for more":            {w, with(byRefresh, "scope", "openid email"), redeemed, "invalid_scope", false},
		"of a service":                  {service, url.Values{"grant_type": {"client_credentials"}}, g, "[]", false},
		"of a service, for more": {service, url.Values{"grant_type": {"client_credentials"}, "scope": {"write"}}, g,
			"invalid_scope", false},
	} {
		x := &oidcside.Exchange{Gate: &c.of.snap.Gate, App: c.of.app, Form: c.form, ID: "r", Now: now.Add(time.Second)}
		h, err := x.Brings()
		is := oidcside.Issue{Grant: c.k}
		switch {
		case err != nil:
		case h == nil:
			is, _, err = x.Service()
		default:
			k := &crossing.Granted{Grant: c.k}
			var lacks *crossing.Lacks
			if is, lacks, err = x.Next(*h, k, crossing.Facts{}); lacks != nil {
				is, lacks, err = x.Next(*h, k, crossing.With(crossing.Facts{}, oidcside.GoesOn{Session: "lasting"}, true))
			}
			require.Nil(t, lacks, what)
		}
		got := fmt.Sprint(is.Resources)
		if err != nil {
			got = string(oidc.RefusalOf(err).Code)
			require.Equal(t, c.ends, is.Grant.Revision != c.k.Revision, what)
		}
		require.Equal(t, c.want, got, what)
	}
}
