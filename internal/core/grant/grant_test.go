package grant_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/grant"
	"innergate.example/innergate/internal/core/oidc"
)

const (
	verifier = "dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk"
	callback = "https://planner.wrenmoor.example/cb"
)

var began = time.Date(2026, 11, 26, 8, 0, 0, 0, time.UTC)

func given() grant.Grant {
	return grant.Grant{ID: "g", Client: "planner", Scopes: []string{"openid", "profile"}, Refreshes: true, Began: began,
		Code: grant.Code{RedirectURI: callback, Challenge: oidc.Challenge(verifier)}}
}

func redeemed(t *testing.T) grant.Grant {
	g, err := given().Redeem(grant.Redemption{Client: "planner", RedirectURI: callback, Verifier: verifier}, began)
	require.NoError(t, err)
	require.Equal(t, 1, g.Turn)
	return g
}

func TestCodesAreRedeemedOnce(t *testing.T) {
	good := grant.Redemption{Client: "planner", RedirectURI: callback, Verifier: verifier}
	over := given()
	over.Ended = grant.SignedOut
	for name, c := range map[string]struct {
		g      grant.Grant
		change func(*grant.Redemption)
		at     time.Duration
		code   finding.Code
		ended  grant.Ending
	}{
		"another client": {given(), func(r *grant.Redemption) { r.Client = "eve" }, 0, finding.GrantOther, ""},
		"late":           {given(), nil, 2 * time.Minute, finding.GrantExpired, grant.NotRedeemed},
		"another address": {given(), func(r *grant.Redemption) { r.RedirectURI += "/" }, 0, finding.GrantOther,
			grant.CodeMisused},
		"no verifier": {given(), func(r *grant.Redemption) { r.Verifier = "" }, 0, finding.PKCEOther,
			grant.CodeMisused},
		"twice":             {redeemed(t), nil, time.Second, finding.GrantTwice, grant.CodeTwice},
		"twice, by another": {redeemed(t), func(r *grant.Redemption) { r.Client = "eve" }, 0, finding.GrantOther, ""},
		"after the end":     {over, nil, 0, finding.GrantEnded, grant.SignedOut},
	} {
		r := good
		if c.change != nil {
			c.change(&r)
		}
		next, err := c.g.Redeem(r, began.Add(c.at))
		require.True(t, finding.Is(err, c.code), "%s: %v", name, err)
		require.Equal(t, oidc.InvalidGrant, oidc.RefusalOf(err).Code, name)
		require.Equal(t, c.ended, next.Ended, name)
		require.Equal(t, next.Ended != c.g.Ended, next.Revision != c.g.Revision, "%s: a change has another revision", name)
	}
}

func TestRefreshTokensTakeTurns(t *testing.T) {
	g := redeemed(t)
	ask := func(g grant.Grant, turn int, after time.Duration) (grant.Grant, grant.Refreshed, error) {
		return g.Refresh(grant.Refresh{Client: "planner", Turn: turn, Session: true}, began.Add(after))
	}
	second, r, err := ask(g, 1, time.Minute)
	require.NoError(t, err)
	require.Equal(t, grant.Refreshed{Turn: 2, Scopes: g.Scopes}, r)

	// The answer was lost: the same token gives the same one again, and nothing
	// has to be stored.
	again, r, err := ask(second, 1, time.Minute+grant.Grace)
	require.NoError(t, err)
	require.Equal(t, 2, r.Turn)
	require.Equal(t, second, again)
	// Once that one was used, or the time has gone by, two have it.
	third, _, err := ask(second, 2, time.Minute+time.Second)
	require.NoError(t, err)
	for name, c := range map[string]struct {
		g     grant.Grant
		after time.Duration
	}{"its successor was used": {third, time.Minute + 2*time.Second}, "late": {second, 2 * time.Minute}} {
		ended, _, err := ask(c.g, 1, c.after)
		require.True(t, finding.Is(err, finding.GrantTwice), name)
		require.Equal(t, grant.TokenTwice, ended.Ended, name)
		_, _, err = ask(ended, c.g.Turn, c.after)
		require.True(t, finding.Is(err, finding.GrantEnded), "the good one has ended too")
	}
}

func TestRefreshesAreRefused(t *testing.T) {
	g := redeemed(t)
	unused, offline := given(), g
	offline.Offline = true
	for name, c := range map[string]struct {
		g     grant.Grant
		r     grant.Refresh
		after time.Duration
		code  finding.Code // "" if it is given
	}{
		"another client":  {g, grant.Refresh{Client: "eve", Turn: 1, Session: true}, 0, finding.GrantOther},
		"a turn to come":  {g, grant.Refresh{Client: "planner", Turn: 2, Session: true}, 0, finding.GrantOther},
		"no turn":         {g, grant.Refresh{Client: "planner", Session: true}, 0, finding.GrantOther},
		"before the code": {unused, grant.Refresh{Client: "planner", Turn: 1, Session: true}, 0, finding.GrantOther},
		"more scope": {g, grant.Refresh{Client: "planner", Turn: 1, Session: true, Scopes: []string{"email"}}, 0,
			finding.ScopeGrown},
		"signed out":          {g, grant.Refresh{Client: "planner", Turn: 1}, 0, finding.GrantEnded},
		"signed out, offline": {offline, grant.Refresh{Client: "planner", Turn: 1}, 0, ""},
		"idle": {g, grant.Refresh{Client: "planner", Turn: 1, Session: true, Lifetimes: grant.Lifetimes{Idle: time.Hour}},
			2 * time.Hour, finding.GrantExpired},
		"old": {g, grant.Refresh{Client: "planner", Turn: 1, Session: true, Lifetimes: grant.Lifetimes{Absolute: time.Hour}},
			2 * time.Hour, finding.GrantExpired},
		"within both": {g, grant.Refresh{Client: "planner", Turn: 1, Session: true,
			Lifetimes: grant.Lifetimes{Idle: time.Hour, Absolute: time.Hour}}, time.Hour, ""},
	} {
		next, r, err := c.g.Refresh(c.r, began.Add(c.after))
		if c.code == "" {
			require.NoError(t, err, name)
			require.Equal(t, 2, r.Turn, name)
			continue
		}
		require.True(t, finding.Is(err, c.code), "%s: %v", name, err)
		require.Equal(t, c.g, next, "%s changes nothing", name)
	}
	_, r, err := g.Refresh(grant.Refresh{Client: "planner", Turn: 1, Session: true, Scopes: []string{"openid"}}, began)
	require.NoError(t, err)
	require.Equal(t, []string{"openid"}, r.Scopes)
	ended := g.End(grant.Revoked)
	require.Equal(t, ended, ended.End(grant.Withdrawn), "the first reason stays")
}

func TestHandlesAreMadeByTheGateOnly(t *testing.T) {
	key, other := []byte("0123456789abcdef0123456789abcdef"), []byte("another key, as long as the first")
	h := grant.Handle{Kind: grant.RefreshHandle, Grant: "aB3-_x", Number: 7}
	token := h.Token(key)
	got, ok := grant.ReadHandle(key, token)
	require.True(t, ok)
	require.Equal(t, h, got)
	require.Equal(t, token, h.Token(key), "the same turn has the same token")
	next := grant.Handle{Kind: grant.RefreshHandle, Grant: "aB3-_x", Number: 8}.Token(key)
	code := grant.Handle{Kind: grant.CodeHandle, Grant: "aB3-_x", Number: 7}.Token(key)
	require.Equal(t, []int{len("igr_aB3-_x.7.") + 43}, []int{len(token)})
	sum := func(token string) string { return token[strings.LastIndexByte(token, '.'):] }
	require.NotEqual(t, sum(token), sum(next))
	require.NotEqual(t, sum(token), sum(code), "a code is no refresh token")
	for name, bad := range map[string]string{"empty": "", "another key": h.Token(other),
		"another turn": strings.Replace(token, ".7.", ".8.", 1),
		"another kind": strings.Replace(token, "igr_", "igc_", 1), "no kind": strings.Replace(token, "igr_", "igx_", 1),
		"another grant": strings.Replace(token, "aB3", "aB4", 1), "cut": token[:len(token)-1], "more": token + "A",
		"padded": token + "=", "zeros": strings.Replace(token, ".7.", ".07.", 1),
		"sign": strings.Replace(token, ".7.", ".+7.", 1),
		"long": "igr_" + strings.Repeat("a", 5000) + ".7." + sum(token)} {
		_, ok := grant.ReadHandle(key, bad)
		require.False(t, ok, name)
	}
}

// A grant that nobody could use any more is shown as ended, by what its application allows.
func TestGrantsThatAreOver(t *testing.T) {
	lives := grant.Lifetimes{Idle: time.Hour, Absolute: 8 * time.Hour}
	for rule, c := range map[string]struct {
		g     grant.Grant
		after time.Duration
		want  grant.Ending
	}{
		"new":                       {grant.Grant{Began: began}, time.Second, ""},
		"its code was not redeemed": {grant.Grant{Began: began}, grant.CodeLife + time.Second, grant.NotRedeemed},
		"in use": {grant.Grant{Began: began, Used: began.Add(7 * time.Hour),
			Code: grant.Code{Redeemed: true}}, 450 * time.Minute, ""},
		"used too long ago": {grant.Grant{Began: began, Used: began.Add(time.Hour),
			Code: grant.Code{Redeemed: true}}, 3 * time.Hour, grant.Idle},
		"redeemed, and never used": {grant.Grant{Began: began, Code: grant.Code{Redeemed: true}}, 2 * time.Hour,
			grant.Idle},
		"of a sign-in too long ago": {grant.Grant{Began: began, Used: began.Add(8 * time.Hour),
			Code: grant.Code{Redeemed: true}}, 9 * time.Hour, grant.Aged},
		"ended: the first reason stays": {grant.Grant{Began: began, Ended: grant.Revoked}, 9 * time.Hour, grant.Revoked},
	} {
		require.Equal(t, c.want, c.g.Over(lives, began.Add(c.after)), rule)
	}
	require.Empty(t, grant.Grant{Began: began, Code: grant.Code{Redeemed: true}}.Over(grant.Lifetimes{},
		began.AddDate(1, 0, 0)), "no bound")
}
