package samlside_test

import (
	"crypto/rand"
	"encoding/base64"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/crossing/samlside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/saml"
)

var now = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

type world struct {
	gate     federation.Gate
	snap     *federation.Snapshot
	provider *federation.Provider
	app      *federation.Application
	idp      *keys.Pair // the provider's
	side     crossing.Protocol
}

func newWorld(t *testing.T) world {
	pair := func() *keys.Pair {
		p, err := keys.Generate("x", now, rand.Reader)
		require.NoError(t, err)
		return p
	}
	w := world{idp: pair(), side: samlside.Protocol()}
	w.gate = federation.Gate{Base: "https://g.example", Skew: time.Minute, IDP: federation.Face{EntityID: "urn:gate-idp", Address: "https://g.example/saml/idp/sso"},
		IDPKeys: federation.KeySet{Current: pair()}, SPKeys: federation.KeySet{Current: pair()}, EncKeys: federation.KeySet{Current: pair()}}
	w.provider = &federation.Provider{Name: "staff", ProviderSettings: federation.ProviderSettings{Enabled: true, OwnEntityID: "urn:gate-sp"}, SAML: &federation.SAMLProvider{Address: "https://g.example/saml/sp/staff/acs",
		IDP: &saml.IDP{EntityID: "urn:idp", Keys: []saml.Key{{Certificate: w.idp.Certificate}}, SSO: []saml.Endpoint{{Binding: saml.BindingRedirect, Location: "https://idp.example/sso"}}}}}
	w.app = &federation.Application{Name: "roster", ApplicationSettings: federation.ApplicationSettings{Enabled: true}, SAML: &federation.SAMLApplication{SP: &saml.SP{EntityID: "urn:roster", ACS: []saml.Endpoint{{Binding: saml.BindingPOST, Location: "https://roster.example/acs"}}}}}
	w.snap = federation.Load(w.gate, []*federation.Provider{w.provider}, []*federation.Application{w.app})
	return w
}

func (w world) answer(t *testing.T, edit func(*saml.Answer)) []byte {
	a := saml.Answer{ResponseID: "_r", AssertionID: "_a", At: now, Lifetime: time.Minute, Issuer: "urn:idp", Destination: w.provider.SAML.Address, InResponseTo: "_q",
		Audience: "urn:gate-sp", NameID: saml.NameID{Format: saml.FormatEmail, Value: "ada@wrenmoor.example"}, AuthnInstant: now, Context: saml.ContextPassword,
		Attributes: []saml.Attribute{{Name: "groups", Values: []string{"drivers"}}}}
	if edit != nil {
		edit(&a)
	}
	octets, err := saml.WriteResponse(a, saml.Protection{Pair: w.idp})
	require.NoError(t, err)
	return octets
}

// One crossing, step by step, without anything around it.
func TestCrossingInPureSteps(t *testing.T) {
	w := newWorld(t)
	p, reasons, err := crossing.Select(w.snap, w.app, "")
	require.NoError(t, err)
	require.Same(t, w.provider, p)
	require.Contains(t, reasons[0].Found, "the only one")

	asked := crossing.Asked{ID: "_q", At: now}
	d, err := w.side.Provider.Ask(&w.gate, p, asked, "handle")
	require.NoError(t, err)
	require.Contains(t, d.Location, "https://idp.example/sso?SAMLRequest=")
	require.Contains(t, d.Location, "RelayState=handle")
	require.Contains(t, string(d.Octets), `ID="_q"`)

	octets := w.answer(t, func(a *saml.Answer) { a.Authorities = []string{"urn:behind"} })
	v, err := w.side.Provider.Verify(&w.gate, p, octets, &asked, crossing.Facts{}, now)
	need := crossing.NeedOf(err)
	require.NotNil(t, need, "it asks whether the assertion was used")
	require.Equal(t, "_a", need.Used)
	require.Equal(t, "_a", v.Consume.ID, "to be consumed as soon as the signature held")
	v, err = w.side.Provider.Verify(&w.gate, p, octets, &asked, crossing.Facts{UsedKnown: true, Used: true}, now)
	require.True(t, finding.Is(err, finding.AssertionReplayed))
	v, err = w.side.Provider.Verify(&w.gate, p, octets, &asked, crossing.Facts{UsedKnown: true}, now)
	require.NoError(t, err)

	who, _ := crossing.Intake(p, v.Answer)
	_, _, err = crossing.Match(p, who, nil)
	require.Equal(t, crossing.LinkKey(p, who.Subject), crossing.NeedOf(err).Person)
	person, reasons, err := crossing.Match(p, who, &crossing.Person{})
	require.NoError(t, err)
	require.Zero(t, person.ID)
	require.Contains(t, reasons[0].Found, "new")
	person, _, err = crossing.Match(p, who, &crossing.Person{ID: 7})
	require.NoError(t, err)
	require.EqualValues(t, 7, person.ID)

	_, err = crossing.Access(w.app, v.Answer)
	require.NoError(t, err)
	out, _ := crossing.Release(w.app, who)
	reply, err := w.side.Application.Unasked(w.app)
	require.NoError(t, err)
	d, err = w.side.Application.Build(&w.gate, w.app, reply, out, person, v.Answer, crossing.Fresh{Message: "_m", Assertion: "_n", Session: "_s"}, now)
	require.NoError(t, err)
	require.Equal(t, "https://roster.example/acs", d.Location)
	require.NotContains(t, string(d.Octets), "InResponseTo", "nobody asked")

	var log finding.Checks
	opened, err := saml.OpenResponse(d.Octets, &saml.IDP{EntityID: "urn:gate-idp", Keys: []saml.Key{{Certificate: w.gate.IDPKeys.Current.Certificate}}}, saml.Trust{}, &log)
	require.NoError(t, err)
	a, err := opened.Check(saml.Expect{EntityIDs: []string{"urn:roster"}, ACS: "https://roster.example/acs", Now: now}, &log)
	require.NoError(t, err)
	require.Equal(t, "ada@wrenmoor.example", a.NameID.Value)
	require.Equal(t, []string{"drivers"}, a.Attributes[0].Values)
	require.Equal(t, saml.ContextPassword, a.Context, "the context is carried over")
	require.Equal(t, []string{"urn:behind", "urn:idp"}, a.Authorities, "the provider is named after those it named")
}

func TestVerifyConsumesEvenWhatItRefuses(t *testing.T) {
	w := newWorld(t)
	for rule, c := range map[string]struct {
		edit    func(*saml.Answer)
		consume bool
		want    finding.Code
	}{
		"another audience": {func(a *saml.Answer) { a.Audience = "urn:x" }, true, finding.AudienceOther},
		"expired":          {func(a *saml.Answer) { a.At = now.Add(-time.Hour) }, true, finding.AssertionExpired},
		"another issuer":   {func(a *saml.Answer) { a.Issuer = "urn:x" }, false, finding.IssuerOther},
	} {
		v, err := w.side.Provider.Verify(&w.gate, w.provider, w.answer(t, c.edit), &crossing.Asked{ID: "_q", At: now}, crossing.Facts{UsedKnown: true}, now)
		require.True(t, finding.Is(err, c.want), "%s: %v", rule, err)
		require.Equal(t, c.consume, v.Consume != nil, rule)
		require.Nil(t, v.Answer, rule)
		require.Equal(t, finding.Provider, finding.Of(err).Side, rule)
	}
}

func TestNeedsAndRefusalsOfSteps(t *testing.T) {
	w := newWorld(t)
	second := &federation.Provider{Name: "other", ProviderSettings: federation.ProviderSettings{Enabled: true}, SAML: &federation.SAMLProvider{IDP: &saml.IDP{EntityID: "urn:other"}}}
	two := w.snap.WithProvider(second)
	_, _, err := crossing.Select(two, w.app, "")
	require.Equal(t, []federation.Name{"other", "staff"}, crossing.NeedOf(err).Choose)
	_, _, err = crossing.Select(two, w.app, "made-up")
	require.NotNil(t, crossing.NeedOf(err), "a choice that is none is no choice")
	p, _, err := crossing.Select(two, w.app, "other")
	require.NoError(t, err)
	require.Same(t, second, p)
	tied := *w.app
	tied.Provider = "staff"
	p, _, err = crossing.Select(two, &tied, "other")
	require.NoError(t, err)
	require.Same(t, w.provider, p, "the record decides, not the person")
	_, _, err = crossing.Select(w.snap.WithoutProvider("staff"), w.app, "")
	require.True(t, finding.Is(err, finding.NoProvider))
	_, _, err = crossing.Select(w.snap.WithoutProvider("staff"), &tied, "")
	require.True(t, finding.Is(err, finding.NoProvider))

	transient := profile.Profile{Subject: profile.Subject{Format: saml.FormatTransient, Value: "x"}}
	person, _, err := crossing.Match(w.provider, transient, nil)
	require.NoError(t, err, "a transient name needs no look-up")
	require.Empty(t, person.Key)

	ans := &crossing.Answer{}
	ans.NoProxy = true
	_, err = crossing.Access(w.app, ans)
	require.True(t, finding.Is(err, finding.ProxyForbidden))
	ans.NoProxy, ans.ProxyAudiences = false, []string{"urn:somebody"}
	_, err = crossing.Access(w.app, ans)
	require.True(t, finding.Is(err, finding.ProxyForbidden))
	ans.ProxyAudiences = []string{"urn:somebody", "urn:roster"}
	_, err = crossing.Access(w.app, ans)
	require.NoError(t, err)
}

func TestLinkKeyTellsNamesApart(t *testing.T) {
	w := newWorld(t)
	other := *w.provider
	other.Name = "other"
	seen := map[string]bool{}
	for _, s := range []profile.Subject{{Value: "a"}, {Value: "b"}, {Format: "f", Value: "a"}, {NameQualifier: "f", Value: "a"}, {SPNameQualifier: "f", Value: "a"}} {
		for _, p := range []*federation.Provider{w.provider, &other} {
			key := crossing.LinkKey(p, s)
			require.False(t, seen[key])
			seen[key] = true
		}
	}
}

func TestApplicationHears(t *testing.T) {
	w := newWorld(t)
	reply := crossing.Reply{InReplyTo: "_x", Address: "https://roster.example/acs", State: "state", Format: saml.FormatPersistent}
	out := profile.Released{Subject: profile.Subject{Format: saml.FormatEmail, Value: "ada@wrenmoor.example"}}
	_, err := w.side.Application.Build(&w.gate, w.app, reply, out, crossing.Person{}, &crossing.Answer{}, crossing.Fresh{}, now)
	require.True(t, finding.Is(err, finding.NameIDPolicyUnmet))
	for code, status := range map[finding.Code]string{
		finding.NameIDPolicyUnmet: saml.StatusInvalidNameIDPolicy, finding.PassiveImpossible: saml.StatusNoPassive,
		finding.ScopingUnmet: saml.StatusProxyCountExceeded, finding.ResponseStatus: saml.StatusAuthnFailed, finding.ProxyForbidden: saml.StatusRequestDenied,
	} {
		d, tell, err := w.side.Application.Refuse(&w.gate, w.app, reply, finding.New(code), crossing.Fresh{Message: "_m"}, now)
		require.NoError(t, err)
		require.True(t, tell)
		octets, err := base64.StdEncoding.DecodeString(d.Form[0].Value)
		require.NoError(t, err)
		for _, want := range []string{status, `InResponseTo="_x"`, "SignatureValue"} {
			require.Contains(t, string(octets), want)
		}
		require.Equal(t, "state", d.Form[1].Value, "RelayState comes back")
		require.Less(t, strings.Index(string(octets), "Issuer"), strings.Index(string(octets), "Status"), "in the order of the schema")
	}
	_, tell, err := w.side.Application.Refuse(&w.gate, w.app, reply, finding.New(finding.SignatureMissing), crossing.Fresh{}, now)
	require.NoError(t, err)
	require.False(t, tell, "an attack is not passed on")
	_, tell, _ = w.side.Application.Refuse(&w.gate, w.app, crossing.Reply{Address: "x"}, finding.New(finding.ResponseStatus), crossing.Fresh{}, now)
	require.False(t, tell, "who did not ask hears nothing")
}
