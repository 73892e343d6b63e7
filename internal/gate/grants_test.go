package gate

import (
	"encoding/json"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/crossing/oidcside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/grant"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/driving"
	"innergate.example/innergate/internal/gate/grants"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/redeeming"
	"innergate.example/innergate/internal/gate/traces"
	"innergate.example/innergate/internal/store"
)

func TestOneRedemptionOfTenWins(t *testing.T) {
	r := newRig(t)
	secret := r.client("planner", nil, nil).Shown
	code, _ := r.code(driving.Browser{}, nil)
	results := make(chan error, 10)
	for range 10 {
		go func() {
			_, err := r.Redeeming.Token(ctx, caller(redemption(code), "planner", secret))
			results <- err
		}()
	}
	won := 0
	for range 10 {
		if err := <-results; err == nil {
			won++
		} else {
			require.Equal(t, oidc.InvalidGrant, oidc.RefusalOf(err).Code)
		}
	}
	require.Equal(t, 1, won)
	_, err := r.Redeeming.Token(ctx, caller(redemption(code), "planner", secret))
	refusedBy(t, err, oidc.InvalidGrant, finding.GrantEnded)
}

func TestTokenRequestsAreRefused(t *testing.T) {
	r := newRig(t)
	secret := r.client("planner", nil, nil).Shown
	other := r.client("other", nil, nil).Shown
	service := r.client("feed", federation.Typed{"kind": "service"}, federation.Settings{"scopes": "read"}).Shown
	for name, c := range map[string]struct {
		edit func(c *redeeming.Caller, f url.Values)
		code oidc.Code
		find finding.Code
		good bool // the code can still be redeemed afterwards
	}{
		"no type": {func(_ *redeeming.Caller, f url.Values) { f.Del("grant_type") }, oidc.InvalidRequest,
			finding.OAuthRequest, true},
		"password": {func(_ *redeeming.Caller, f url.Values) { f.Set("grant_type", "password") }, "unsupported_grant_type",
			finding.OAuthRequest, true},
		"no code": {func(_ *redeeming.Caller, f url.Values) { f.Del("code") }, oidc.InvalidRequest, finding.OAuthRequest,
			true},
		"made up": {func(_ *redeeming.Caller, f url.Values) { f.Set("code", "igc_abc.0.AAAA") }, oidc.InvalidGrant,
			finding.GrantOther, true},
		"twice": {func(_ *redeeming.Caller, f url.Values) { f.Add("code", f.Get("code")) }, oidc.InvalidRequest,
			finding.OAuthRequest, true},
		"as JSON": {func(c *redeeming.Caller, _ url.Values) { c.ContentType = "application/json" }, oidc.InvalidRequest,
			finding.OAuthRequest, true},
		"verifier": {func(_ *redeeming.Caller, f url.Values) { f.Set("code_verifier", verifierOf+"x") }, oidc.InvalidGrant,
			finding.PKCEOther, false},
		"none": {func(_ *redeeming.Caller, f url.Values) { f.Del("code_verifier") }, oidc.InvalidGrant,
			finding.PKCEOther, false},
		"elsewhere": {func(_ *redeeming.Caller, f url.Values) { f.Set("redirect_uri", "https://x.example/") },
			oidc.InvalidGrant, finding.GrantOther, false},
		"secret": {func(c *redeeming.Caller, f url.Values) { *c = caller(f, "planner", "another secret altogether") },
			oidc.InvalidClient, finding.ClientSecretOther, true},
		"by form": {func(c *redeeming.Caller, f url.Values) {
			f.Set("client_id", "planner")
			f.Set("client_secret", secret)
			*c = caller(f)
		}, oidc.InvalidClient, finding.ClientUnproved, true},
		"unknown": {func(c *redeeming.Caller, f url.Values) { *c = caller(f, "plannel", secret) }, oidc.InvalidClient,
			finding.ApplicationUnknown, true},
		"another's": {func(c *redeeming.Caller, f url.Values) { *c = caller(f, "other", other) }, oidc.InvalidGrant,
			finding.GrantOther, true},
		"a service": {func(c *redeeming.Caller, f url.Values) { *c = caller(f, "feed", service) }, "unauthorized_client",
			finding.OAuthRequest, true},
		"in address": {func(c *redeeming.Caller, _ url.Values) { c.Query = "client_secret=" + secret }, oidc.InvalidRequest,
			finding.OAuthRequest, true},
		"as service": {func(_ *redeeming.Caller, f url.Values) { f.Set("grant_type", "client_credentials") },
			"unauthorized_client", finding.OAuthRequest, true},
		"resource": {func(_ *redeeming.Caller, f url.Values) { f.Set("resource", "https://x.example/") },
			oidc.InvalidTarget, finding.OAuthRequest, true},
	} {
		t.Run(name, func(t *testing.T) {
			code, _ := r.code(driving.Browser{}, nil)
			form := redemption(code)
			in := caller(form, "planner", secret)
			c.edit(&in, form)
			in.Form = form.Encode()
			_, err := r.Redeeming.Token(ctx, in)
			refusedBy(t, err, c.code, c.find)
			_, err = r.Redeeming.Token(ctx, caller(redemption(code), "planner", secret))
			require.Equal(t, c.good, err == nil, "%v", err)
		})
	}
	t.Run("late", func(t *testing.T) {
		code, _ := r.code(driving.Browser{}, nil)
		r.clock.set(r.clock.get().Add(61 * time.Second))
		_, err := r.Redeeming.Token(ctx, caller(redemption(code), "planner", secret))
		refusedBy(t, err, oidc.InvalidGrant, finding.GrantExpired)
	})
	t.Run("too many wrong secrets", func(t *testing.T) {
		const brought = "the secret of before it moved"
		_, err := r.Records.AddApplication(ctx, tester, records.NewRecord{Name: "moved", Provider: "staff",
			Source: records.Source{Document: []byte(`{"client_id":"moved","client_secret":"` + brought +
				`","grant_types":["client_credentials"],"scope":"roster:read"}`)}})
		require.NoError(t, err)
		flow := url.Values{"grant_type": {"client_credentials"}}
		wrong := func(client string) {
			assertion := url.Values{"grant_type": {"client_credentials"}, "client_id": {client},
				"client_assertion_type": {"urn:ietf:params:oauth:client-assertion-type:jwt-bearer"},
				"client_assertion":      {"e30.e30.e30"}}
			for range 20 {
				_, _ = r.Redeeming.Token(ctx, caller(assertion))
				_, _ = r.Redeeming.Token(ctx, caller(flow, client, "igs_"+strings.Repeat("A", 43)))
			}
		}
		guess := func(client string) error {
			_, err := r.Redeeming.Token(ctx, caller(flow, client, "wrong, and wrong again"))
			return err
		}
		right := func(client, secret string) error {
			_, err := r.Redeeming.Token(ctx, caller(flow, client, secret))
			return err
		}
		wrong("feed")
		wrong("moved")
		require.NoError(t, right("feed", service))
		require.False(t, finding.Is(right("moved", brought), finding.ClientLocked), "no guess was made")
		for range 40 {
			_, _ = guess("feed"), guess("moved")
		}
		require.NoError(t, right("feed", service), "nobody guesses what was made here")
		require.False(t, finding.Is(right("moved", brought), finding.ClientLocked), "it was right before, from here")
		refusedBy(t, guess("moved"), "temporarily_unavailable", finding.ClientLocked)
		require.InDelta(t, 5*time.Minute, oidc.RefusalOf(guess("moved")).Wait, float64(time.Second))
		elsewhere := caller(flow, "moved", brought)
		elsewhere.Network = "198.51.100.0"
		for range 20 {
			bad := caller(flow, "moved", "wrong, and wrong again")
			bad.Network = elsewhere.Network
			_, _ = r.Redeeming.Token(ctx, bad)
		}
		_, err = r.Redeeming.Token(ctx, elsewhere)
		refusedBy(t, err, "temporarily_unavailable", finding.ClientLocked)
	})
}

func TestRefreshing(t *testing.T) {
	r := newRig(t)
	a := r.client("planner", nil, federation.Settings{"refreshIdle": "10d", "refreshAbsolute": "30d"})
	tokens := func(scope string) (string, driving.Browser) {
		code, b := r.code(driving.Browser{}, nil, "scope", scope)
		got, err := r.Redeeming.Token(ctx, caller(redemption(code), "planner", a.Shown))
		require.NoError(t, err)
		require.NotEmpty(t, got.RefreshToken)
		return got.RefreshToken, b
	}
	refresh := func(token string, more ...string) (oidcside.Tokens, error) {
		form := refreshing(token)
		for i := 0; i < len(more); i += 2 {
			form.Set(more[i], more[i+1])
		}
		return r.Redeeming.Token(ctx, caller(form, "planner", a.Shown))
	}
	good := func(token string, more ...string) string {
		t.Helper()
		got, err := refresh(token, more...)
		require.NoError(t, err)
		return got.RefreshToken
	}

	// In turns; a lost answer is given again for a while, reuse ends everything.
	one, _ := tokens("openid profile offline_access")
	two := good(one)
	require.Equal(t, two, good(one), "the answer was lost")
	three := good(two)
	_, err := refresh(one)
	refusedBy(t, err, oidc.InvalidGrant, finding.GrantTwice)
	_, err = refresh(three)
	refusedBy(t, err, oidc.InvalidGrant, finding.GrantEnded)

	// Another application's try changes nothing, and gets nothing.
	other := r.client("other", nil, nil)
	one, _ = tokens("openid offline_access")
	_, err = r.Redeeming.Token(ctx, caller(refreshing(one), "other", other.Shown))
	refusedBy(t, err, oidc.InvalidGrant, finding.GrantOther)
	_, err = refresh("igr_made-up.1.AAAA")
	refusedBy(t, err, oidc.InvalidGrant, finding.GrantOther)
	code, _ := r.code(driving.Browser{}, nil)
	_, err = refresh(code)
	refusedBy(t, err, oidc.InvalidGrant, finding.GrantOther)
	require.NotEmpty(t, good(one))

	// What stands beside a token in a request is not taken for it.
	one, _ = tokens("openid offline_access")
	beside, _ := r.code(driving.Browser{}, nil)
	_, err = refresh(one, "code", beside)
	require.NoError(t, err)
	_, err = r.Redeeming.Token(ctx, caller(redemption(beside), "planner", a.Shown))
	require.NoError(t, err)

	// Scopes can be fewer, and never more.
	one, _ = tokens("openid profile offline_access")
	got, err := refresh(one, "scope", "openid")
	require.NoError(t, err)
	require.Equal(t, "openid", got.Scope)
	_, err = refresh(got.RefreshToken, "scope", "openid phone")
	refusedBy(t, err, oidc.InvalidScope, finding.ScopeGrown)

	// What is paused or unlinked gets nothing, and gets it again when that is over.
	for name, c := range map[string]struct{ kind, who string }{"app": {change.KindApplication, "planner"},
		"provider": {change.KindProvider, "staff"}} {
		set := func(phase string) {
			_, err := r.Records.Configure(ctx, tester, c.kind, c.who, 0, federation.Settings{"phase": phase})
			require.NoError(t, err)
		}
		set("paused")
		_, err = refresh(got.RefreshToken)
		require.Equal(t, oidc.InvalidGrant, oidc.RefusalOf(err).Code, name)
		set("live")
		got.RefreshToken = good(got.RefreshToken)
	}
	var link store.LinkRow
	require.NoError(t, r.st.Read.Take(&link).Error)
	require.NoError(t, r.st.Write(ctx, func(tx *gorm.DB) error { return tx.Delete(&store.LinkRow{Key: link.Key}).Error }))
	_, err = refresh(got.RefreshToken)
	refusedBy(t, err, oidc.InvalidGrant, finding.GrantUnlinked)
	require.NoError(t, r.st.Write(ctx, func(tx *gorm.DB) error { return tx.Create(&link).Error }))

	// What is decided on the record since acts on the next refresh.
	one, _ = tokens("openid profile offline_access")
	set := func(s federation.Settings) {
		_, err := r.Records.Configure(ctx, tester, change.KindApplication, "planner", 0, s)
		require.NoError(t, err)
	}
	set(federation.Settings{"scopes": "offline_access"})
	fewer, err := refresh(one)
	require.NoError(t, err)
	require.Equal(t, "openid offline_access", fewer.Scope)
	set(federation.Settings{"scopes": "", "noRefresh": true})
	_, err = refresh(fewer.RefreshToken)
	refusedBy(t, err, oidc.InvalidGrant, finding.GrantEnded)
	set(federation.Settings{"noRefresh": false})
	require.NotEmpty(t, good(fewer.RefreshToken))

	// They lie idle only so long, and never beyond the sign-in's time.
	r.clock.set(r.clock.get().Add(9 * 24 * time.Hour))
	got.RefreshToken = good(got.RefreshToken)
	r.clock.set(r.clock.get().Add(11 * 24 * time.Hour))
	_, err = refresh(got.RefreshToken)
	refusedBy(t, err, oidc.InvalidGrant, finding.GrantExpired)

	// Without offline_access they end with the session.
	one, b := tokens("openid")
	two = good(one)
	session := r.Leaving.Session(ctx, b.Session)
	_, err = r.Leaving.SignOut(ctx, session)
	require.NoError(t, err)
	_, err = refresh(two)
	refusedBy(t, err, oidc.InvalidGrant, finding.GrantEnded)

	// A name that does not last gives a subject for the session, and no refresh token.
	passing := func(a *saml.Answer) { a.NameID = saml.NameID{Format: saml.FormatTransient, Value: "_once"} }
	code, b = r.code(driving.Browser{}, passing, "scope", "openid offline_access")
	first, err := r.Redeeming.Token(ctx, caller(redemption(code), "planner", a.Shown))
	require.NoError(t, err)
	require.Empty(t, first.RefreshToken)
	code, _ = r.code(b, nil)
	second, err := r.Redeeming.Token(ctx, caller(redemption(code), "planner", a.Shown))
	require.NoError(t, err)
	require.Equal(t, r.claims(first.IDToken, oidc.IDToken)["sub"], r.claims(second.IDToken, oidc.IDToken)["sub"])
}

func TestConsent(t *testing.T) {
	r := newRig(t)
	r.client("planner", nil, federation.Settings{"askConsent": true, "policy": "https://planner.example/policy"})
	o := r.authorize(driving.Browser{})
	b := keep(driving.Browser{}, o)
	o = r.answer(b, r.asked(o).ID, func(a *saml.Answer) {
		a.Attributes = []saml.Attribute{{Name: "givenName", Values: []saml.AttributeValue{{Text: "Ada"}}},
			{Name: "mail", Values: []saml.AttributeValue{{Text: "ada@wrenmoor.example"}}}}
	})
	require.Equal(t, crossing.PageAgree, o.Page)
	require.Equal(t, []federation.Value{{Label: "Given name", Value: "Ada"}}, o.Agree.Shown,
		"what its scopes ask for, and no more")
	require.Equal(t, "https://planner.example/policy", o.Agree.Policy)
	say := func(b driving.Browser, digest, word string) driving.Outcome {
		return r.Crossings.Submit(ctx, b, o.Crossing, url.Values{"agree": {word}, "digest": {digest}})
	}
	require.Equal(t, finding.CrossingOtherBrowser, say(driving.Browser{}, o.Agree.Digest, "yes").Finding.Code)
	again := say(b, "another digest", "yes")
	require.Equal(t, o.Agree.Digest, again.Agree.Digest, "shown again: what was said was not about this")
	require.Equal(t, o.Agree.Digest, r.Crossings.Continue(ctx, b, o.Crossing).Agree.Digest, "the page was reloaded")
	done := say(b, o.Agree.Digest, "yes")
	require.NotEmpty(t, r.back(done).Get("code"))
	require.Equal(t, crossing.PageFinished, say(b, o.Agree.Digest, "yes").Page)
	b = keep(b, done)

	// Remembered; asked again for more, and when the application wants it.
	require.NotEmpty(t, r.back(r.authorize(b)).Get("code"))
	require.Equal(t, "consent_required", r.back(r.authorize(b, "scope", "openid email", "prompt", "none")).Get("error"))
	for _, changes := range [][]string{{"scope", "openid profile email"}, {"prompt", "consent"},
		{"claims", `{"userinfo":{"phone_number":null}}`}} {
		asked := r.authorize(b, changes...)
		require.Equal(t, crossing.PageAgree, asked.Page, changes)
		require.Equal(t, "access_denied", r.back(r.Crossings.Submit(ctx, keep(b, asked), asked.Crossing,
			url.Values{"agree": {"no"}, "digest": {asked.Agree.Digest}})).Get("error"))
	}

	// Withdrawn by an engineer, what was given ends and the person is asked again.
	list, total, err := r.Grants.Consents(ctx, "planner", grants.Filter{Limit: 10})
	require.NoError(t, err)
	require.EqualValues(t, 1, total)
	require.Equal(t, []string{"openid", "profile"}, list[0].Scopes)
	ended, err := r.Grants.Withdraw(ctx, tester, "planner", list[0].Person)
	require.NoError(t, err)
	require.EqualValues(t, 2, ended)
	require.Equal(t, crossing.PageAgree, r.authorize(b).Page)
	_, err = r.Grants.Withdraw(ctx, tester, "planner", 99)
	var nf *change.NotFoundError
	require.ErrorAs(t, err, &nf)
}

// A provider that is removed, or an application, while the person thinks.
func TestConfigurationChangesDuringConsent(t *testing.T) {
	r := newRig(t)
	r.client("planner", nil, federation.Settings{"askConsent": true})
	o := r.authorize(driving.Browser{})
	b := keep(driving.Browser{}, o)
	o = r.answer(b, r.asked(o).ID, nil)
	_, err := r.Records.Configure(ctx, tester, change.KindApplication, "planner", 0,
		federation.Settings{"title": "Another title"})
	require.NoError(t, err)
	say := func() driving.Outcome {
		return r.Crossings.Submit(ctx, b, o.Crossing, url.Values{"agree": {"yes"}, "digest": {o.Agree.Digest}})
	}
	again := say()
	require.NotEqual(t, o.Agree.Digest, again.Agree.Digest, "another title is shown now, so the word does not count")
	_, err = r.Records.Configure(ctx, tester, change.KindProvider, "staff", 0, federation.Settings{"phase": "paused"})
	require.NoError(t, err)
	require.Equal(t, finding.ProviderDisabled, say().Finding.Code)
}

func TestUserInfoIntrospectionRevocation(t *testing.T) {
	r := newRig(t)
	const api = "https://rota.example/api"
	a := r.client("planner", nil, federation.Settings{"resources": api})
	opaque := r.client("opaque", nil, federation.Settings{"accessToken": "opaque", "resources": api,
		"subject": "pairwise"})
	rota := r.client("rota", federation.Typed{"kind": "service"}, federation.Settings{"serves": api, "scopes": "read"})
	stranger := r.client("stranger", federation.Typed{"kind": "service"}, nil)
	introspect := func(token string, who *federation.Application) bool {
		t.Helper()
		out, err := r.Redeeming.Introspect(ctx, caller(url.Values{"token": {token}}, who.Identity(), who.Shown))
		require.NoError(t, err)
		if out["active"] != true {
			require.Len(t, out, 1, "nothing else is said")
		}
		return out["active"] == true
	}
	for _, app := range []*federation.Application{a, opaque} {
		who := app.Identity()
		code, b := r.code(driving.Browser{}, nil, "client_id", who, "resource", api, "scope", "openid email")
		got, err := r.Redeeming.Token(ctx, caller(redemption(code), who, app.Shown))
		require.NoError(t, err)
		info, err := r.Redeeming.UserInfo(ctx, redeeming.Caller{}, got.AccessToken)
		require.NoError(t, err)
		require.Equal(t, r.claims(got.IDToken, oidc.IDToken)["sub"], info["sub"])
		require.True(t, introspect(got.AccessToken, app), who)
		require.True(t, introspect(got.AccessToken, rota), "its audience")
		require.False(t, introspect(got.AccessToken, stranger), "none of its business")
		require.True(t, introspect(got.RefreshToken, app))
		require.False(t, introspect(got.RefreshToken, rota))
		_, err = r.Redeeming.UserInfo(ctx, redeeming.Caller{}, got.IDToken)
		refusedBy(t, err, "invalid_token", finding.TokenKind)
		_, err = r.Redeeming.UserInfo(ctx, redeeming.Caller{}, got.RefreshToken)
		require.Equal(t, oidc.Code("invalid_token"), oidc.RefusalOf(err).Code)

		// An access token alone, by its own application.
		revoke := func(token string, by *federation.Application) error {
			return r.Redeeming.Revoke(ctx, caller(url.Values{"token": {token}}, by.Identity(), by.Shown))
		}
		refusedBy(t, revoke(got.AccessToken, stranger), "unauthorized_client", finding.GrantOther)
		refusedBy(t, revoke(got.RefreshToken, stranger), "unauthorized_client", finding.GrantOther)
		require.NoError(t, revoke(got.AccessToken, app))
		require.NoError(t, revoke(got.AccessToken, app))
		require.NoError(t, revoke("nobody knows this", app))
		require.False(t, introspect(got.AccessToken, app))
		next, err := r.Redeeming.Token(ctx, caller(refreshing(got.RefreshToken), who, app.Shown))
		require.NoError(t, err, "the rest is still good")
		require.NoError(t, revoke(next.RefreshToken, app))
		require.False(t, introspect(next.AccessToken, app))

		// What ends with the session.
		code, _ = r.code(b, nil, "client_id", who)
		got, err = r.Redeeming.Token(ctx, caller(redemption(code), who, app.Shown))
		require.NoError(t, err)
		session := r.Leaving.Session(ctx, b.Session)
		_, err = r.Leaving.SignOut(ctx, session)
		require.NoError(t, err)
		_, err = r.Redeeming.UserInfo(ctx, redeeming.Caller{}, got.AccessToken)
		refusedBy(t, err, "invalid_token", finding.GrantEnded)
	}

	// Asking writes nothing: the one writer may be busy.
	code, _ := r.code(driving.Browser{}, nil)
	busy, err := r.Redeeming.Token(ctx, caller(redemption(code), "planner", a.Shown))
	require.NoError(t, err)
	begun, release := make(chan struct{}, 1), make(chan struct{})
	written := make(chan error, 1)
	go func() {
		written <- r.st.Write(ctx, func(*gorm.DB) error { begun <- struct{}{}; <-release; return nil })
	}()
	<-begun
	_, err = r.Redeeming.UserInfo(ctx, redeeming.Caller{}, busy.AccessToken)
	require.NoError(t, err)
	require.True(t, introspect(busy.AccessToken, a))
	close(release)
	require.NoError(t, <-written)

	// A service's token is about nobody.
	got, err := r.Redeeming.Token(ctx, caller(url.Values{"grant_type": {"client_credentials"}}, "rota", rota.Shown))
	require.NoError(t, err)
	require.True(t, introspect(got.AccessToken, rota))
	_, err = r.Redeeming.UserInfo(ctx, redeeming.Caller{}, got.AccessToken)
	refusedBy(t, err, "insufficient_scope", finding.OAuthRequest)
	_, err = r.Redeeming.Token(ctx, caller(url.Values{"grant_type": {"client_credentials"}, "scope": {"write"}}, "rota",
		rota.Shown))
	refusedBy(t, err, oidc.InvalidScope, finding.ScopeGrown)
	r.clock.set(r.clock.get().Add(11 * time.Minute))
	require.False(t, introspect(got.AccessToken, rota))
	_, err = r.Redeeming.Introspect(ctx, caller(url.Values{"token": {"x"}, "client_id": {"planner"}}))
	refusedBy(t, err, oidc.InvalidClient, finding.ClientUnproved)
}

// What nobody redeems is gone soon; of what one person has at one application the oldest that
// is not used makes room, and who holds it is told.
func TestGrantsThatNobodyUses(t *testing.T) {
	r := newRig(t)
	a := r.client("planner", nil, nil)
	count := func() (n int64) {
		require.NoError(t, r.st.Read.Model(&store.GrantRow{}).Where("ended = ''").Count(&n).Error)
		return n
	}
	code, b := r.code(driving.Browser{}, nil)
	used, err := r.Redeeming.Token(ctx, caller(redemption(code), "planner", a.Shown))
	require.NoError(t, err)
	first, b := r.code(b, nil)
	for range 110 {
		r.clock.set(r.clock.get().Add(10 * time.Millisecond))
		_, b = r.code(b, nil)
	}
	require.EqualValues(t, 100, count())
	_, err = r.Redeeming.Token(ctx, caller(redemption(first), "planner", a.Shown))
	refusedBy(t, err, oidc.InvalidGrant, finding.GrantEnded)
	require.Contains(t, finding.Of(err).Evidence, finding.Fact("Ended", "crowded"))
	_, err = r.Redeeming.UserInfo(ctx, caller(url.Values{}), used.AccessToken)
	require.NoError(t, err, "one that was redeemed goes last")
	r.clock.set(r.clock.get().Add(11 * time.Minute))
	require.NoError(t, r.st.Sweep(ctx, r.clock.get()))
	require.EqualValues(t, 1, count())
}

// What an application did with a code or a token is the result of the sign-in that gave it.
func TestResultsFollowTheBackChannel(t *testing.T) {
	r := newRig(t)
	a := r.client("planner", nil, nil)
	result := func() string {
		heads, _, err := r.Traces.List(ctx, traces.Filter{Limit: 1})
		require.NoError(t, err)
		return heads[0].Result + " " + heads[0].Finding
	}
	call := func(form url.Values, secret string) oidcside.Tokens {
		got, _ := r.Redeeming.Token(ctx, caller(form, "planner", secret))
		return got
	}
	code, b := r.code(driving.Browser{}, nil)
	require.Equal(t, "entered ", result())
	call(redemption(code), "another secret")
	require.Equal(t, "refused client-secret-other", result())
	require.NotEmpty(t, call(redemption(code), a.Shown).AccessToken)
	require.Equal(t, "entered ", result(), "the second way was right: a success")
	_, steps, err := r.Traces.Get(ctx, lastTrace(t, r))
	require.NoError(t, err)
	said, err := json.Marshal(steps)
	require.NoError(t, err)
	require.Contains(t, string(said), "client-secret-other", "and what went before is told")
	call(redemption(code), a.Shown)
	require.Equal(t, "refused grant-twice", result())

	r.clock.set(r.clock.get().Add(time.Second))
	code, _ = r.code(b, nil, "scope", "openid offline_access")
	tokens := call(redemption(code), a.Shown)
	form := refreshing(tokens.RefreshToken)
	form.Set("scope", "openid phone")
	call(form, a.Shown)
	require.Equal(t, "refused scope-grown", result())

	r.clock.set(r.clock.get().Add(time.Second))
	code, _ = r.code(driving.Browser{}, nil)
	wrong := redemption(code)
	wrong.Set("code_verifier", strings.Repeat("x", 43))
	call(wrong, a.Shown)
	require.Equal(t, "refused pkce-other", result())

	// A code that nobody redeems is no grant any more, before anybody sweeps.
	r.clock.set(r.clock.get().Add(time.Second))
	r.code(driving.Browser{}, nil)
	r.clock.set(r.clock.get().Add(grant.CodeLife + time.Second))
	list, _, err := r.Grants.List(ctx, "planner", grants.Filter{Limit: 1})
	require.NoError(t, err)
	require.Equal(t, string(grant.NotRedeemed), list[0].Ended)
}

func lastTrace(t *testing.T, r *rig) string {
	heads, _, err := r.Traces.List(ctx, traces.Filter{Limit: 1})
	require.NoError(t, err)
	return heads[0].ID
}
