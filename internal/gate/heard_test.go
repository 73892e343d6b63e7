package gate

import (
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/driving"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/store"
)

// A refusal of a provider reaches the application in the words of its protocol, and a person
// who is shown a page reads that the provider said no.
func TestRefusalsOfProvidersAreHeard(t *testing.T) {
	r := newRig(t)
	p := r.provides("oakhollow", nil).add(nil)
	r.client("planner", nil, nil)
	for _, app := range []string{"planner", "roster"} {
		require.NoError(t, r.changeOf(change.KindApplication, app,
			func(s federation.Settings) { s["provider"] = "oakhollow" }))
	}
	for said, c := range map[string]struct {
		code          finding.Code
		error, status string
		title         string
	}{
		"access_denied": {finding.ProviderDenied, "access_denied", saml.StatusRequestDenied, "said no"},
		"temporarily_unavailable": {finding.ProviderBusy, "temporarily_unavailable", saml.StatusAuthnFailed,
			"does not work at the moment"},
		"server_error": {finding.ProviderFailed, "server_error", saml.StatusAuthnFailed,
			"does not work at the moment"},
		"login_required": {finding.PassiveImpossible, "login_required", saml.StatusNoPassive, ""},
		"invalid_scope":  {finding.ProviderRequest, "access_denied", saml.StatusAuthnFailed, ""},
	} {
		answered := func(o driving.Outcome) driving.Outcome {
			u, err := url.Parse(o.Departure.Location)
			require.NoError(t, err)
			return p.arrives(keep(driving.Browser{}, o), url.Values{"error": {said}, "state": {u.Query().Get("state")},
				"iss": {p.Base}}.Encode(), false)
		}
		o := answered(r.authorize(driving.Browser{}))
		require.Equal(t, c.code, o.Finding.Code)
		require.Equal(t, c.error, r.back(o).Get("error"), said)
		o = answered(r.request(driving.Browser{}, nil))
		require.NotNil(t, o.Departure, said)
		require.Contains(t, string(o.Departure.Octets), c.status, said)
		if c.title != "" {
			require.Contains(t, crossing.ForPerson(o.Finding).Title, c.title)
			o = answered(r.Crossings.Open(ctx, driving.Browser{}, driving.Start{App: "roster"}))
			require.Equal(t, crossing.PageRefused, o.Page, "nobody asked, so the person reads it")
		}
	}
}

// A refresh goes by the provider on record today: what a sign-in by another one gave ends at
// its next use, or on a day that the record names.
func TestARefreshFollowsTheRecord(t *testing.T) {
	r := newRig(t)
	_, err := r.Records.AddProvider(ctx, tester, records.NewRecord{Name: "card",
		Source: records.Source{Document: saml.WriteIDPMetadata(saml.IDPFace{EntityID: "urn:card",
			SSO: "https://card.example/sso", Keys: []keys.Certificate{r.idp.Certificate}})}})
	require.NoError(t, err)
	a := r.client("planner", nil, nil)
	sign := func() string {
		code, _ := r.code(driving.Browser{}, nil, "scope", "openid profile offline_access")
		got, err := r.Redeeming.Token(ctx, caller(redemption(code), "planner", a.Shown))
		require.NoError(t, err)
		return got.RefreshToken
	}
	refresh := func(token string) (string, error) {
		got, err := r.Redeeming.Token(ctx, caller(refreshing(token), "planner", a.Shown))
		return got.RefreshToken, err
	}
	set := func(s federation.Settings) error {
		return r.changeOf(change.KindApplication, "planner", func(all federation.Settings) {
			for k, v := range s {
				all[k] = v
			}
		})
	}
	one, two := sign(), sign()
	require.NoError(t, set(federation.Settings{"provider": "card"}))
	_, err = refresh(one)
	refusedBy(t, err, oidc.InvalidGrant, finding.GrantProvider)
	require.NoError(t, set(federation.Settings{"provider": "staff"}))
	_, err = refresh(one)
	refusedBy(t, err, oidc.InvalidGrant, finding.GrantEnded)

	require.ErrorContains(t, set(federation.Settings{"oldGrantsUntil": "soon"}), "write it like 2026-12-31")
	require.NoError(t, set(federation.Settings{"provider": "card",
		"oldGrantsUntil": r.clock.get().UTC().Format(time.DateOnly)}))
	two, err = refresh(two)
	require.NoError(t, err, "until the end of that day")
	r.clock.set(r.clock.get().Add(25 * time.Hour))
	_, err = refresh(two)
	refusedBy(t, err, oidc.InvalidGrant, finding.GrantProvider)
	var ended []string
	require.NoError(t, r.st.Read.Model(&store.GrantRow{}).Order("began").Pluck("ended", &ended).Error)
	require.Equal(t, []string{"provider", "provider"}, ended)
}

// How old a sign-in may be is exact at the gate: a session a second too old is no session,
// and a provider whose clock is behind is asked once.
func TestAgesAreExact(t *testing.T) {
	r := newRig(t)
	r.clock.set(r.clock.get().Truncate(time.Second))
	r.client("planner", nil, nil)
	behind := func(a *saml.Answer) { a.AuthnInstant = r.clock.get().Add(-50 * time.Second) }
	_, b := r.code(driving.Browser{}, behind, "max_age", "5", "scope", "openid")
	r.clock.set(r.clock.get().Add(70 * time.Second))
	o := r.authorize(b, "max_age", "120", "scope", "openid")
	require.NotEmpty(t, r.back(o).Get("code"), "signed in 120 s ago")
	r.clock.set(r.clock.get().Add(time.Second))
	r.asked(r.authorize(b, "max_age", "120", "scope", "openid"))
	o = r.authorize(b, "scope", "openid", "claims", `{"id_token":{"auth_time":{"essential":true}}}`)
	require.NotEmpty(t, r.back(o).Get("code"))
}
