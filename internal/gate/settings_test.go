package gate

import (
	"crypto"
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
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/driving"
	"innergate.example/innergate/internal/gate/records"
)

// change edits the settings of the rig's application.
func (r *rig) change(edit func(federation.Settings)) error {
	return r.changeOf(change.KindApplication, "roster", edit)
}

func (r *rig) changeProvider(edit func(federation.Settings)) error {
	return r.changeOf(change.KindProvider, "staff", edit)
}

func (r *rig) changeOf(kind, name string, edit func(federation.Settings)) error {
	o, err := r.Records.Record(kind, name)
	require.NoError(r.t, err)
	s := federation.SettingsOf(o)
	edit(s)
	by := tester
	_, err = r.Records.Configure(ctx, by, kind, name, o.Basic().Revision, s)
	if finding.Is(err, finding.NamesChange) {
		by.Confirms = toConfirm(err)
		_, err = r.Records.Configure(ctx, by, kind, name, o.Basic().Revision, s)
	}
	return err
}

// toConfirm is the digest that an error asks for.
func toConfirm(err error) string {
	for _, e := range finding.Of(err).Evidence {
		if e.Label == "To confirm" {
			return e.Found
		}
	}
	return ""
}

// said reads the Response the application gets, as the application would.
func (r *rig) said(o driving.Outcome, decrypters ...crypto.Decrypter) (*saml.Assertion, string) {
	return r.saidBy("idp", o, decrypters...)
}

// saidBy is the same, signed by the key of a purpose.
func (r *rig) saidBy(purpose string, o driving.Outcome, decrypters ...crypto.Decrypter) (*saml.Assertion, string) {
	require.NotNil(r.t, o.Departure, "%+v", o.Finding)
	octets, err := base64.StdEncoding.DecodeString(o.Departure.Form[0].Value)
	require.NoError(r.t, err)
	var log finding.Checks
	opened, err := saml.OpenResponse(octets, &saml.IDP{EntityID: "https://gate.example/saml/idp",
		Keys: []saml.Key{{Certificate: r.Records.Snapshot().Gate.Keys[purpose].Current.Certificate}}},
		saml.Trust{Decrypters: decrypters, Now: r.clock.get()}, &log)
	require.NoError(r.t, err)
	m, err := saml.ReadResponse(octets)
	require.NoError(r.t, err)
	to := m.InResponseTo
	a, err := opened.Check(saml.Expect{EntityIDs: []saml.EntityID{"urn:roster"}, ACS: "https://roster.example/acs",
		Request: &saml.Sent{ID: to}, Now: r.clock.get()}, &log)
	require.NoError(r.t, err)
	return a, string(octets)
}

func TestNameIDFormats(t *testing.T) {
	r := newRig(t)
	b := r.enter(nil)
	ask := func(format string) saml.NameID {
		a, _ := r.said(r.request(b, func(q *saml.AuthnRequest) { q.NameIDFormat = saml.NameIDFormat(format) }))
		return a.NameID
	}
	require.Equal(t, "ada@wrenmoor.example", ask("").Value, "passed on")
	require.Equal(t, saml.NameID{Format: saml.FormatEmail, Value: "ada@wrenmoor.example"}, ask(string(saml.FormatEmail)))
	persistent := ask(string(saml.FormatPersistent))
	require.Equal(t, persistent, ask(string(saml.FormatPersistent)), "stable")
	require.NotContains(t, persistent.Value, "ada", "opaque")
	require.Equal(t, "urn:roster", persistent.SPNameQualifier)
	require.NotEqual(t, ask(string(saml.FormatTransient)), ask(string(saml.FormatTransient)))
	require.EqualValues(t, saml.FormatUnspecified, func() string {
		require.NoError(t, r.change(func(s federation.Settings) { s["nameIdFormat"] = string(saml.FormatUnspecified) }))
		return string(ask("").Format)
	}())
	require.NoError(t, r.change(func(s federation.Settings) { s["nameIdFormat"] = string(saml.FormatPersistent) }))
	require.Equal(t, persistent, ask(string(saml.FormatUnspecified)),
		"the record decides where the request leaves it open")
	require.Equal(t, "ada@wrenmoor.example", ask(string(saml.FormatEmail)).Value, "the request goes first")

	again := r.enter(nil)
	a, _ := r.said(r.request(again, nil))
	require.Equal(t, persistent, a.NameID, "the same person in another browser")
	_, err := r.Records.AddApplication(ctx, tester, records.NewRecord{Name: "second",
		Source: records.Source{Document: saml.WriteSPMetadata(saml.SPFace{EntityID: "urn:second",
			ACS: "https://second.example/acs"})}})
	require.NoError(t, err)
	o := r.request(b, func(q *saml.AuthnRequest) {
		q.Issuer, q.ACS, q.NameIDFormat = "urn:second", "https://second.example/acs", saml.FormatPersistent
	})
	octets, err := base64.StdEncoding.DecodeString(o.Departure.Form[0].Value)
	require.NoError(t, err)
	require.NotContains(t, string(octets), persistent.Value, "another name for another application")

	mail := r.enter(func(a *saml.Answer) {
		a.NameID = saml.NameID{Format: saml.FormatTransient, Value: "_t"}
		a.Attributes = []saml.Attribute{{Name: "mail", Values: saml.Texts("bram@wrenmoor.example")}}
		require.NoError(t, r.change(func(s federation.Settings) { s["nameIdFormat"] = string(saml.FormatEmail) }))
	})
	a, _ = r.said(r.request(mail, nil))
	require.Equal(t, "bram@wrenmoor.example", a.NameID.Value, "from the attribute")
	o = r.request(mail, func(q *saml.AuthnRequest) { q.NameIDFormat = saml.FormatPersistent })
	require.Contains(t, string(o.Departure.Octets), saml.StatusInvalidNameIDPolicy,
		"a transient name gives no persistent one")
}

func TestSigningAndEncryptionForAnApplication(t *testing.T) {
	r := newRig(t)
	b := r.enter(nil)
	for sign, want := range map[string]int{"": 1, samlside.SignAssertion: 1, samlside.SignResponse: 1,
		samlside.SignBoth: 2} {
		require.NoError(t, r.change(func(s federation.Settings) { s["sign"] = sign }))
		_, octets := r.said(r.request(b, nil))
		require.Equal(t, want, strings.Count(octets, "<ds:SignatureValue>"), sign)
		require.Equal(t, sign == samlside.SignResponse || sign == samlside.SignBoth,
			strings.Index(octets, "<ds:Signature") < strings.Index(octets, "Status"), sign)
	}
	var fe *change.FieldError
	require.ErrorAs(t, r.change(func(s federation.Settings) { s["encrypt"] = true }), &fe)
	require.Equal(t, "encrypt", fe.Field, "refused without a key")

	r.clock.set(r.clock.get().Add(time.Second)) // it is another one of the name
	require.NoError(t, r.Records.RemoveApplication(ctx, tester, "roster"))
	_, err := r.Records.AddApplication(ctx, tester, records.NewRecord{Name: "roster",
		Source: records.Source{Document: saml.WriteSPMetadata(saml.SPFace{EntityID: "urn:roster",
			ACS:  "https://roster.example/acs",
			Keys: []keys.Certificate{r.app.Certificate}, Encryption: []keys.Certificate{r.app.Certificate}})}})
	require.NoError(t, err)
	for _, sign := range []string{"", samlside.SignResponse, samlside.SignBoth} {
		require.NoError(t, r.change(func(s federation.Settings) { s["encrypt"], s["sign"] = true, sign }))
		a, octets := r.said(r.request(b, nil), r.app.Signer().(crypto.Decrypter))
		require.Equal(t, "ada@wrenmoor.example", a.NameID.Value)
		require.NotContains(t, octets, "ada@wrenmoor.example")
	}
	require.NoError(t, r.change(func(s federation.Settings) { s["encryptNames"], s["sign"] = true, "" }))
	a, octets := r.said(r.request(b, nil), r.app.Signer().(crypto.Decrypter))
	require.Equal(t, "ada@wrenmoor.example", a.NameID.Value)
	require.Contains(t, octets, "EncryptedID")
	require.NotContains(t, octets, "EncryptedAssertion")
	require.NotContains(t, octets, "ada@wrenmoor.example")
}

func TestEncryptedAnswers(t *testing.T) {
	r := newRig(t)
	gateKey := saml.Key{Certificate: r.Records.Snapshot().Gate.Keys["enc"].Current.Certificate}
	stranger := saml.Key{Certificate: r.app.Certificate}
	from := ""
	answer := func(edit func(*saml.Answer), protect saml.Protection) driving.Outcome {
		o := r.request(driving.Browser{}, nil)
		a := saml.Answer{ResponseID: messageID(), AssertionID: messageID(), At: r.clock.get(), Lifetime: time.Minute,
			Issuer: "urn:idp", Destination: "https://gate.example/saml/sp/staff/acs", InResponseTo: r.asked(o).ID,
			Audience: "https://gate.example/saml/sp/staff", NameID: saml.NameID{Format: saml.FormatEmail,
				Value: "ada@wrenmoor.example"}, AuthnInstant: r.clock.get(),
			Attributes: []saml.Attribute{{Name: "groups", Values: saml.Texts("drivers")}}}
		if edit != nil {
			edit(&a)
		}
		protect.Random = rand.Reader
		octets, err := saml.WriteResponse(a, protect)
		require.NoError(t, err)
		return r.respond(keep(driving.Browser{Address: from}, o), "staff", saml.Inbound{Octets: octets})
	}
	cbc, name := gateKey, gateKey
	cbc.Methods = []string{"http://www.w3.org/2001/04/xmlenc#aes256-cbc"}
	for _, c := range []struct {
		rule    string
		protect saml.Protection
		want    finding.Code
	}{
		{"an encrypted assertion", saml.Protection{Pair: r.idp, EncryptTo: &gateKey}, ""},
		{"an encrypted assertion in a signed Response", saml.Protection{Pair: r.idp, EncryptTo: &gateKey,
			OnlyResponse: true}, ""},
		{"AES-CBC inside a signed Response", saml.Protection{Pair: r.idp, EncryptTo: &cbc, SignResponse: true}, ""},
		{"an encrypted name and attributes", saml.Protection{Pair: r.idp, EncryptTo: &name, EncryptName: true}, ""},
		{"AES-CBC without a signed Response", saml.Protection{Pair: r.idp, EncryptTo: &cbc}, finding.EncryptionMethod},
		{"encryption to a stranger", saml.Protection{Pair: r.idp, EncryptTo: &stranger}, finding.DecryptionFailed},
		{"a name encrypted to a stranger", saml.Protection{Pair: r.idp, EncryptTo: &stranger, EncryptName: true},
			finding.DecryptionFailed},
		{"an encrypted assertion that is not signed", saml.Protection{EncryptTo: &gateKey}, finding.SignatureMissing},
		{"an encrypted assertion with a foreign signature", saml.Protection{Pair: r.app, EncryptTo: &gateKey},
			finding.SignatureKey},
	} {
		t.Run(c.rule, func(t *testing.T) {
			o := answer(nil, c.protect)
			if c.want != "" {
				require.NotNil(t, o.Finding)
				require.Equal(t, c.want, o.Finding.Code)
				return
			}
			a, _ := r.said(o)
			require.Equal(t, "ada@wrenmoor.example", a.NameID.Value)
			require.Equal(t, "drivers", a.Attributes[0].Values[0].Text)
		})
	}
	for range 10 {
		answer(nil, saml.Protection{Pair: r.idp, EncryptTo: &stranger})
	}
	require.Equal(t, finding.DecryptionFailed,
		answer(nil, saml.Protection{Pair: r.idp, EncryptTo: &gateKey}).Finding.Code,
		"after a flood nothing is tried for a while")
	from = "192.0.2.99"
	require.NotNil(t, answer(nil, saml.Protection{Pair: r.idp, EncryptTo: &gateKey}).Departure,
		"people elsewhere are not held up")
	from = ""
	r.clock.set(r.clock.get().Add(5*time.Minute + time.Second))
	require.NoError(t, r.changeProvider(func(s federation.Settings) { s["allowCBC"] = true }))
	r.said(answer(nil, saml.Protection{Pair: r.idp, EncryptTo: &cbc}))
	m, err := saml.ReadMetadata(mustProvider(r).Side.Sheet(r.Records.Snapshot(), mustProvider(r)).Metadata, r.clock.get())
	require.NoError(t, err)
	require.Equal(t, gateKey.Certificate.SHA256(), m.SP.EncryptionKeys()[0].Certificate.SHA256(),
		"the key is in our metadata")
	require.NotEmpty(t, m.SP.EncryptionKeys()[0].Methods)
}

func mustProvider(r *rig) *federation.Provider {
	p, err := r.Records.Provider("staff")
	require.NoError(r.t, err)
	return p
}

func TestProviderSettings(t *testing.T) {
	r := newRig(t)
	require.NoError(t, r.changeProvider(func(s federation.Settings) { s["signRequests"] = true }))
	require.Contains(t, r.request(driving.Browser{}, nil).Departure.Location, "&Signature=")
	require.NoError(t, r.changeProvider(func(s federation.Settings) { s["requestBinding"] = "post" }))
	o := r.request(driving.Browser{}, nil)
	require.Len(t, o.Departure.Form, 2)
	require.Contains(t, string(o.Departure.Octets), "SignatureValue")
	require.NoError(t, r.changeProvider(func(s federation.Settings) { s["requestBinding"] = "" }))

	require.NoError(t, r.changeProvider(func(s federation.Settings) {
		s["askNameIdFormat"], s["askContext"] = string(saml.FormatPersistent), "urn:two-factors"
	}))
	o = r.request(driving.Browser{}, nil)
	require.Equal(t, saml.FormatPersistent, r.asked(o).NameIDFormat)
	require.Equal(t, finding.ContextOther, r.answer(keep(driving.Browser{}, o), r.asked(o).ID, nil).Finding.Code)
	o = r.request(driving.Browser{}, nil)
	require.NotNil(t, r.answer(keep(driving.Browser{}, o), r.asked(o).ID,
		func(a *saml.Answer) { a.Context = "urn:two-factors" }).Departure)
	require.NoError(t, r.changeProvider(func(s federation.Settings) { s["askNameIdFormat"], s["askContext"] = "", "" }))

	require.NoError(t, r.changeProvider(func(s federation.Settings) { s["requireSignedAssertion"] = true }))
	o = r.request(driving.Browser{}, nil)
	octets, err := saml.WriteResponse(saml.Answer{ResponseID: "_r", AssertionID: "_a", At: r.clock.get(),
		Lifetime: time.Minute,
		Issuer:   "urn:idp", Destination: "https://gate.example/saml/sp/staff/acs",
		InResponseTo: r.asked(o).ID, Audience: "https://gate.example/saml/sp/staff", NameID: saml.NameID{Value: "x"},
		AuthnInstant: r.clock.get()}, saml.Protection{Pair: r.idp, OnlyResponse: true})
	require.NoError(t, err)
	require.Equal(t, finding.SignatureMissing, r.respond(keep(driving.Browser{}, o), "staff",
		saml.Inbound{Octets: octets}).Finding.Code)

	r.clock.set(r.clock.get().AddDate(6, 0, 0))
	r.enter(nil) // an expired certificate only warns
	require.NoError(t, r.changeProvider(func(s federation.Settings) { s["strictCertificates"] = true }))
	o = r.request(driving.Browser{}, nil)
	require.Equal(t, finding.CertificatePast, r.answer(keep(driving.Browser{}, o), r.asked(o).ID, nil).Finding.Code)

	o = r.request(driving.Browser{}, nil)
	b, id := keep(driving.Browser{}, o), r.asked(o).ID
	require.NoError(t, r.changeProvider(func(s federation.Settings) { s["phase"] = "paused" }))
	require.Equal(t, finding.ProviderDisabled, r.answer(b, id, nil).Finding.Code, "acts on the next request")
	require.Equal(t, finding.NoProvider, r.request(driving.Browser{}, nil).Finding.Code)
	require.NoError(t, r.change(func(s federation.Settings) { s["provider"] = "staff" }))
	require.Equal(t, finding.ProviderDisabled, r.request(driving.Browser{}, nil).Finding.Code)

	for field, edit := range map[string]func(federation.Settings){
		"title": func(s federation.Settings) {
			s["title"] = ""
		}, "requestBinding": func(s federation.Settings) { s["requestBinding"] = "fax" },
	} {
		var fe *change.FieldError
		require.ErrorAs(t, r.changeProvider(edit), &fe)
		require.Equal(t, field, fe.Field)
	}
}

func TestApplicationSettings(t *testing.T) {
	r := newRig(t)
	require.NoError(t, r.change(func(s federation.Settings) { s["phase"] = "paused"; s["notes"] = "until Monday" }))
	require.Equal(t, finding.ApplicationDisabled, r.request(driving.Browser{}, nil).Finding.Code)
	require.Equal(t, finding.ApplicationDisabled, r.Crossings.Open(ctx, driving.Browser{},
		driving.Start{App: "roster"}).Finding.Code)
	require.NoError(t, r.change(func(s federation.Settings) { s["phase"] = "live" }))

	a, err := r.Records.Application("roster")
	require.NoError(t, err)
	require.Equal(t, 3, a.Revision)
	_, err = r.Records.Configure(ctx, tester, change.KindApplication, "roster", 2, federation.Settings{"notes": "x"})
	var ce *change.ConflictError
	require.True(t, errors.As(err, &ce), "a change made from an old revision is refused")
	for field, edit := range map[string]func(federation.Settings){
		"title": func(s federation.Settings) {
			s["title"] = ""
		}, "ownStart": func(s federation.Settings) { s["ownStart"] = "start" },
		"sign": func(s federation.Settings) {
			s["sign"] = "nothing"
		}, "nameIdFormat": func(s federation.Settings) { s["nameIdFormat"] = "urn:x" },
		"requireSignedRequests": func(s federation.Settings) { s["requireSignedRequests"] = true },
		"provider":              func(s federation.Settings) { s["provider"] = "stff" },
	} {
		var fe *change.FieldError
		require.ErrorAs(t, r.change(edit), &fe, field)
		require.Equal(t, field, fe.Field)
	}
	now, err := r.Records.Application("roster")
	require.NoError(t, err)
	require.Equal(t, a, now, "nothing was changed by what was refused")

	// Scoping: an application that forbids a proxy hears so; its requesters are
	// handed on.
	o := r.request(driving.Browser{}, func(q *saml.AuthnRequest) {
		q.ProxyCount, q.Requesters = 3,
			[]saml.EntityID{"urn:first"}
	})
	q := r.asked(o)
	require.Equal(t, 1, q.ProxyCount, "one hop from the application to us, one from us to the provider")
	require.Equal(t, []saml.EntityID{"urn:first", "urn:roster"}, q.Requesters)
	o = r.request(driving.Browser{}, func(q *saml.AuthnRequest) { q.ProxyCount = 1 })
	require.Contains(t, string(o.Departure.Octets), saml.StatusProxyCountExceeded)
}
