package gate

import (
	"crypto/rand"
	"encoding/base64"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing/samlside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/core/xmlsec"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/driving"
	"innergate.example/innergate/internal/gate/keyring"
	"innergate.example/innergate/internal/gate/records"
)

// published reads the signing certificates out of the gate's metadata.
func (r *rig) published(document []byte) (prints []string) {
	m, err := saml.ReadMetadata(document, r.clock.get())
	require.NoError(r.t, err)
	all := []saml.Key{}
	if m.IDP != nil {
		all = m.IDP.Keys
	} else {
		all = m.SP.Keys
	}
	for _, k := range all {
		prints = append(prints, k.Use+" "+k.Certificate.SHA256()[:5])
	}
	return prints
}

// The key for ECDSA can be made, and given out, before anybody is signed for by it.
func TestTheKeyForECDSABeforehand(t *testing.T) {
	r := newRig(t)
	b := r.enter(nil)
	require.NoError(t, r.Rollover.Announce(ctx, tester, "idp-ecdsa", ""))
	require.NoError(t, r.Rollover.Switch(ctx, tester, "idp-ecdsa"))
	made := r.Records.Snapshot().Gate.Keys["idp-ecdsa"].Current.Certificate.SHA256()
	prints := r.published(samlside.IDPMetadata(r.Records.Snapshot()))
	require.Len(t, prints, 2)
	require.Contains(t, prints[1], made[:5])
	r.said(r.request(b, nil))
	require.NoError(t, r.change(func(s federation.Settings) { s["algorithm"] = "ecdsa-sha256" }))
	r.saidBy("idp-ecdsa", r.request(b, nil))
	require.Equal(t, made, r.Records.Snapshot().Gate.Keys["idp-ecdsa"].Current.Certificate.SHA256())
}

// One application is signed for by ECDSA, and the others as before; the key page tells who could be.
func TestOneApplicationByECDSA(t *testing.T) {
	r := newRig(t)
	b := r.enter(nil)
	ecdsa := func(s federation.Settings) { s["algorithm"] = "ecdsa-sha256" }
	require.Len(t, r.published(samlside.IDPMetadata(r.Records.Snapshot())), 1, "nobody needs a second key yet")
	const announced = `<md:Extensions><alg:SigningMethod xmlns:alg="urn:oasis:names:tc:SAML:metadata:algsupport" Algorithm="` +
		xmlsec.ECDSASHA256 + `"/></md:Extensions><md:SPSSODescriptor`
	document := strings.Replace(string(saml.WriteSPMetadata(saml.SPFace{EntityID: "urn:other",
		ACS: "https://other.example/acs"})), "<md:SPSSODescriptor", announced, 1)
	_, err := r.Records.AddApplication(ctx, tester, records.NewRecord{Name: "other",
		Source: records.Source{Document: []byte(document)}})
	require.NoError(t, err)
	require.Equal(t, map[string][]federation.Name{"idp": {"other"}}, r.Rollover.Verifiers())

	require.NoError(t, r.change(ecdsa))
	_, octets := r.saidBy("idp-ecdsa", r.request(b, nil))
	require.Contains(t, octets, xmlsec.ECDSASHA256)
	snap := r.Records.Snapshot()
	prints := r.published(samlside.IDPMetadata(snap))
	require.Len(t, prints, 2)
	one := *snap
	one.Gate = one.Gate.OnlyCurrentKeys()
	require.Equal(t, prints[:1], r.published(samlside.IDPMetadata(&one)), "for programs that take one key")
	app, _ := snap.Application("roster")
	require.Equal(t, prints[1:], r.published(app.Side.Sheet(snap, app).Metadata),
		"its sheet has the key that signs for it")
	other, _ := snap.Application("other")
	require.Equal(t, prints[:1], r.published(other.Side.Sheet(snap, other).Metadata))
	for _, other := range []string{"rsa-2048", "ec-p384"} {
		require.ErrorContains(t, r.Rollover.Announce(ctx, tester, "idp-ecdsa", other), "use ec-p256",
			"it signs by what the setting says")
	}
	before := r.Snapshot().Gate.Keys["idp-ecdsa"].Current.Certificate.SHA256()
	require.NoError(t, r.Rollover.Announce(ctx, tester, "idp-ecdsa", ""))
	require.NoError(t, r.Rollover.Switch(ctx, tester, "idp-ecdsa"))
	require.NotEqual(t, before, r.Snapshot().Gate.Keys["idp-ecdsa"].Current.Certificate.SHA256())
	r.saidBy("idp-ecdsa", r.request(b, nil))
	r.restart()
	r.saidBy("idp-ecdsa", r.request(b, nil))

	require.NoError(t, r.change(func(s federation.Settings) { s["algorithm"] = "" }))
	r.said(r.request(b, nil))
	var fe *change.FieldError
	require.ErrorAs(t, r.change(func(s federation.Settings) { s["algorithm"] = "rsa-sha1" }), &fe)
	require.Equal(t, "algorithm", fe.Field)
	require.NoError(t, r.changeOf(change.KindApplication, "other", func(s federation.Settings) {
		ecdsa(s)
		s["ownFace"] = true
	}))
	other, _ = r.Records.Snapshot().Application("other")
	require.Equal(t, "EC P-256", other.Keys.Current.Certificate.Describe(),
		"the key of a face of its own is made of that kind")
}

func TestKeysRollOverWithoutAnOutage(t *testing.T) {
	r := newRig(t)
	b := r.enter(nil)
	before := r.Records.Snapshot().Gate.Keys["idp"].Current
	require.NoError(t, r.Rollover.Announce(ctx, tester, "idp", ""))
	set := r.Records.Snapshot().Gate.Keys["idp"]
	prints := r.published(samlside.IDPMetadata(r.Records.Snapshot()))
	require.Len(t, prints, 2, "the next key is announced")
	require.Contains(t, prints[0], before.Certificate.SHA256()[:5], "the current one first")
	one := *r.Records.Snapshot()
	one.Gate = one.Gate.OnlyCurrentKeys()
	require.Len(t, r.published(samlside.IDPMetadata(&one)), 1, "a variant for programs that take one key")
	r.said(r.request(b, nil)) // still signed with the key of before, which said reads from the snapshot
	var ce *change.ConflictError
	require.True(t, errors.As(r.Rollover.Announce(ctx, tester, "idp", ""), &ce), "one at a time")

	require.NoError(t, r.Rollover.Switch(ctx, tester, "idp"))
	after := r.Records.Snapshot().Gate.Keys["idp"]
	require.Equal(t, set.Next.Certificate.SHA256(), after.Current.Certificate.SHA256())
	r.said(r.request(b, nil))
	require.True(t, errors.As(r.Rollover.Switch(ctx, tester, "idp"), &ce))

	// What was encrypted to the key of before is still read.
	old := saml.Key{Certificate: r.Records.Snapshot().Gate.Keys["enc"].Current.Certificate}
	require.NoError(t, r.Rollover.Announce(ctx, tester, "enc", "rsa-3072"))
	require.NoError(t, r.Rollover.Switch(ctx, tester, "enc"))
	o := r.request(driving.Browser{}, nil)
	octets, err := saml.WriteResponse(saml.Answer{ResponseID: "_r", AssertionID: "_a", At: r.clock.get(),
		Lifetime: time.Minute,
		Issuer:   "urn:idp", Destination: "https://gate.example/saml/sp/staff/acs", InResponseTo: r.asked(o).ID,
		Audience: "https://gate.example/saml/sp/staff", NameID: saml.NameID{Value: "x"}, AuthnInstant: r.clock.get()},
		saml.Protection{Pair: r.idp, EncryptTo: &old, Random: rand.Reader})
	require.NoError(t, err)
	r.said(r.respond(keep(driving.Browser{}, o), "staff", saml.Inbound{Octets: octets}))

	all, err := r.Rollover.Keys(ctx)
	require.NoError(t, err)
	states := map[string]int{}
	for _, k := range all {
		states[k.Purpose+" "+k.State]++
		if k.State == keyring.Current {
			require.True(t, errors.As(r.Rollover.Remove(ctx, tester, k.ID), &ce))
		} else {
			require.NoError(t, r.Rollover.Remove(ctx, tester, k.ID))
		}
	}
	require.Equal(t, map[string]int{"idp current": 1, "idp old": 1, "sp current": 1, "enc current": 1, "enc old": 1},
		states)
	var fe *change.FieldError
	require.ErrorAs(t, r.Rollover.Announce(ctx, tester, "app/roster", ""), &fe)
	require.ErrorAs(t, r.Rollover.Announce(ctx, tester, "enc", "ec-p256"), &fe)
	require.Equal(t, "kind", fe.Field)
	for _, kind := range []string{"ec-p256", "ec-p384"} {
		require.NoError(t, r.Rollover.Announce(ctx, tester, "idp", kind))
		require.NoError(t, r.Rollover.Switch(ctx, tester, "idp"))
		_, octets := r.said(r.request(b, nil))
		require.Contains(t, octets, "ecdsa-sha", kind)
	}
	var nf *change.NotFoundError
	require.True(t, errors.As(r.Rollover.Remove(ctx, tester, 99), &nf))
}

func TestEntityIDOfOurOwnMoves(t *testing.T) {
	r := newRig(t)
	audience := func(id string) driving.Outcome {
		o := r.request(driving.Browser{}, nil)
		require.NotNil(t, o.Departure)
		q := string(o.Departure.Octets)
		asked := q[strings.Index(q, ` ID="`)+5:]
		asked = asked[:strings.Index(asked, `"`)]
		return r.answer(keep(driving.Browser{}, o), asked, func(a *saml.Answer) { a.Audience = saml.EntityID(id) })
	}
	const before, bare = "https://gate.example/saml/sp/staff", "GATE WRENMOOR 7"
	require.NotNil(t, audience(before).Departure)
	require.NoError(t, r.changeProvider(func(s federation.Settings) {
		s["ownEntityId"], s["formerEntityId"] = bare, before
	}))
	require.Contains(t, string(r.request(driving.Browser{}, nil).Departure.Octets), ">"+bare+"<",
		"the request comes from the new one")
	require.NotNil(t, audience(bare).Departure)
	require.NotNil(t, audience(before).Departure, "the old one is accepted beside the new")
	require.NoError(t, r.changeProvider(func(s federation.Settings) { s["formerEntityId"] = "" }))
	require.Equal(t, finding.AudienceOther, audience(before).Finding.Code)
	var fe *change.FieldError
	require.ErrorAs(t, r.changeProvider(func(s federation.Settings) { s["ownEntityId"] = strings.Repeat("x", 1025) }),
		&fe)
	require.Equal(t, "ownEntityId", fe.Field)
}

func TestProvidersShareAFace(t *testing.T) {
	r := newRig(t)
	second, err := keys.Generate("second", r.clock.get(), rand.Reader)
	require.NoError(t, err)
	_, err = r.Records.AddProvider(ctx, tester, records.NewRecord{Name: "second",
		Source: records.Source{Document: saml.WriteIDPMetadata(saml.IDPFace{EntityID: "urn:second",
			SSO: "https://second.example/sso", Keys: []keys.Certificate{second.Certificate}})}})
	require.NoError(t, err)
	for _, name := range []string{"staff", "second"} {
		require.NoError(t, r.changeOf(change.KindProvider, name, func(s federation.Settings) { s["sharedFace"] = true }))
	}
	m, err := saml.ReadMetadata(samlside.SPMetadata(r.Records.Snapshot()), r.clock.get())
	require.NoError(t, err)
	require.EqualValues(t, "https://gate.example/saml/sp", m.EntityID)
	answer := func(via, issuer string, pair *keys.Pair, at string) driving.Outcome {
		o := r.Crossings.Open(ctx, driving.Browser{}, driving.Start{App: "roster", Via: via})
		q := string(o.Departure.Octets)
		require.Contains(t, q, ">https://gate.example/saml/sp<")
		asked := q[strings.Index(q, ` ID="`)+5:]
		octets, err := saml.WriteResponse(saml.Answer{ResponseID: messageID(), AssertionID: messageID(), At: r.clock.get(),
			Lifetime: time.Minute, Issuer: saml.EntityID(issuer), Destination: "https://gate.example/saml/sp/acs",
			InResponseTo: asked[:strings.Index(asked, `"`)], Audience: "https://gate.example/saml/sp",
			NameID: saml.NameID{Value: "x"}, AuthnInstant: r.clock.get()}, saml.Protection{Pair: pair})
		require.NoError(t, err)
		return r.respond(keep(driving.Browser{}, o), at, saml.Inbound{Octets: octets})
	}
	require.NotNil(t, answer("staff", "urn:idp", r.idp, "").Departure)
	require.NotNil(t, answer("second", "urn:second", second, "").Departure)
	require.NotNil(t, answer("second", "urn:idp", r.idp, "").Finding,
		"another provider than the one asked may not answer")
	require.Equal(t, finding.ProviderUnknown, answer("staff", "urn:idp", r.idp, "staff").Finding.Code,
		"its own address is closed")
	require.Equal(t, finding.ProviderUnknown, answer("staff", "urn:nobody", r.idp, "").Finding.Code)
}

func TestApplicationWithAFaceOfItsOwn(t *testing.T) {
	r := newRig(t)
	document := saml.WriteSPMetadata(saml.SPFace{EntityID: "urn:roster", ACS: "https://roster.example/acs"})
	_, err := r.Records.AddApplication(ctx, tester, records.NewRecord{Name: "tenant",
		Source: records.Source{Document: document}})
	require.True(t, finding.Is(err, finding.MetadataKnown))
	tenant, err := r.Records.AddApplication(ctx, tester, records.NewRecord{Name: "tenant",
		Source: records.Source{Document: document}, Settings: federation.Settings{"ownFace": true}})
	require.NoError(t, err, "the same entity ID once for each face")
	require.NotEqual(t, r.Records.Snapshot().Gate.Keys["idp"].Current.Certificate.SHA256(),
		tenant.Keys.Current.Certificate.SHA256(), "its own key")

	b := r.enter(nil)
	ask := func(face, sso string) driving.Outcome {
		out, err := saml.WriteAuthnRequest(saml.AuthnRequest{ID: messageID(), IssueInstant: r.clock.get(),
			Issuer: "urn:roster",
			ACS:    "https://roster.example/acs"}, saml.Endpoint{Binding: saml.BindingRedirect, Location: sso}, "", nil)
		require.NoError(t, err)
		in, err := saml.FromRedirect(out.Location[strings.Index(out.Location, "?")+1:], "SAMLRequest")
		require.NoError(t, err)
		return r.Crossings.Arrive(ctx, b, samlside.Request(in, face, nil))
	}
	o := ask("tenant", "https://gate.example/saml/idp/app/tenant/sso")
	octets, err := base64.StdEncoding.DecodeString(o.Departure.Form[0].Value)
	require.NoError(t, err)
	require.Contains(t, string(octets), ">https://gate.example/saml/idp/app/tenant<")
	var log finding.Checks
	_, err = saml.OpenResponse(octets, &saml.IDP{EntityID: "https://gate.example/saml/idp/app/tenant",
		Keys: []saml.Key{{Certificate: tenant.Keys.Current.Certificate}}}, saml.Trust{Now: r.clock.get()}, &log)
	require.NoError(t, err, "signed with its own key")
	require.Equal(t, finding.DestinationOther, ask("tenant", "https://gate.example/saml/idp/sso").Finding.Code)
	require.Equal(t, finding.ApplicationUnknown,
		ask("roster", "https://gate.example/saml/idp/app/roster/sso").Finding.Code,
		"an application without a face of its own has no address there")

	require.NoError(t, r.Rollover.Announce(ctx, tester, "app/tenant", ""))
	tenant, err = r.Records.Application("tenant")
	require.NoError(t, err)
	require.Len(t, r.published(tenant.Side.Sheet(r.Records.Snapshot(), tenant).Metadata), 2)
	require.NoError(t, r.Rollover.Switch(ctx, tester, "app/tenant"))
	var fe *change.FieldError
	err = r.changeOf(change.KindApplication, "tenant", func(s federation.Settings) { s["ownFace"] = false })
	require.ErrorAs(t, err, &fe)
	require.Equal(t, "ownFace", fe.Field, "back on the shared face there would be two of one entity ID")
}
