package oidcside_test

import (
	"fmt"
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

// What is said of a token is decided by what is known, one after another: was it taken back, what was it given for, does
// the session go on, may the person still enter.
func TestTokensThatComeBack(t *testing.T) {
	w := newWorld(t, side(t, web, ""))
	p := &federation.Provider{Side: plainProvider{}}
	p.ID, p.Name, p.Phase, p.Title = "id-staff", "staff", federation.Live, "Staff"
	other := record(side(t, federation.Typed{"kind": "web", "clientId": "roster", "redirectUris": "https://roster.example/"}, ""))
	other.ID, other.Name = "id-roster", "roster"
	snap := w.snap.With(p).With(other)
	a := word()
	a.Provider, a.ProviderID = "staff", "id-staff"
	link := person.LinkKey("id-staff", a.Subject)

	g := grant.Grant{ID: "g", Client: w.app.ID, Person: 1, Subject: "s-1", Scopes: []string{"openid", "profile"}, Session: "lasting",
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
		"good":                      {of: all, access: true, refresh: true, takesAccess: "token", takesTurn: "grant"},
		"taken back":                {of: facts{revoked: true, given: given, person: 1}, refresh: true, info: "grant-ended", takesTurn: "grant"},
		"of a session that is over": {of: facts{over: true, given: given, person: 1}, info: "grant-ended", takesTurn: "grant"},
		"of nothing known":          {of: facts{person: 1}, info: "grant-expired"},
		"of a grant that ended":     {of: facts{given: &ended, person: 1}, info: "grant-ended", takesTurn: "grant"},
		"of an earlier turn":        {of: facts{given: &turned, person: 1}, access: true, takesAccess: "token", takesTurn: "grant"},
		"of somebody else by now":   {of: facts{given: given, person: 2}, info: "grant-unlinked", takesAccess: "token", takesTurn: "grant"},
		"of another application":    {of: all, by: other, takesAccess: "unauthorized_client", takesTurn: "unauthorized_client"},
		"too late":                  {of: all, at: now.Add(time.Hour), refresh: true, info: "grant-expired", takesTurn: "grant"},
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
		for token, want := range map[string]string{tokens.AccessToken: c.takesAccess, tokens.RefreshToken: c.takesTurn, "none": ""} {
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
