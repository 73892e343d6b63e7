package samlside

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/saml"
)

// takenFrom says how metadata came in.
func takenFrom(m *saml.Metadata) federation.Intake {
	in := federation.Intake{ValidUntil: m.ValidUntil, CacheDuration: m.CacheDuration, SignatureMethod: m.SignatureMethod,
		DigestMethod: m.DigestMethod, SignedBy: m.SignedBy, Verified: m.Verified, Written: m.Written,
		OtherRole: m.IDP != nil && m.SP != nil}
	for _, t := range m.Trimmed {
		in.Trimmed = append(in.Trimmed, federation.Trimmed{Label: t.Label, Written: t.Written})
	}
	return in
}

// readRole reads a document for one of the roles of an entity.
func readRole(document []byte, t federation.Trusting, allowSHA1 bool, role string) (*saml.Metadata, error) {
	m, err := saml.TakeMetadata(document, saml.Trusting{Now: t.Now, Keys: t.Keys, AllowSHA1: allowSHA1, Entity: t.Entity,
		Role: role})
	var several *saml.SeveralError
	if errors.As(err, &several) {
		out := &federation.SeveralError{Err: err}
		for _, e := range several.Entities {
			out.Choices = append(out.Choices, federation.Choice{Identity: e.EntityID, Title: e.Title})
		}
		return nil, out
	}
	return m, err
}

// Take reads metadata and takes the provider's role out of it.
func (p *Provider) Take(document []byte, t federation.Trusting) (federation.Side, federation.Intake, error) {
	m, err := readRole(document, t, p.AllowSHA1, "IDPSSODescriptor")
	if err != nil {
		return nil, federation.Intake{}, err
	}
	q := *p
	if q.IDP = m.IDP; !t.Unfinished || m.IDP == nil {
		q.IDP, err = m.AsProvider()
	}
	return &q, takenFrom(m), err
}

// Take reads metadata and takes the application's role out of it.
func (a *Application) Take(document []byte, t federation.Trusting) (federation.Side, federation.Intake, error) {
	m, err := readRole(document, t, a.AllowSHA1, "SPSSODescriptor")
	if err != nil {
		return nil, federation.Intake{}, err
	}
	b := *a
	if b.SP = m.SP; !t.Unfinished || m.SP == nil {
		b.SP, err = m.AsApplication()
	}
	return &b, takenFrom(m), err
}

// Values that can be typed of a provider, of an application, and of both. Certificates are in PEM, or base64 of DER.
var (
	fields = []federation.Setting{
		{Name: "entityId", Label: labelEntityID, Type: federation.OneLine, Identifies: true,
			Text: "entity ID, typed by hand; picks one where the metadata holds several entities"},
		{Name: "certificate", Label: "Signing certificate", Type: federation.Certificate,
			Text: "signing certificate in place of the present one: a file in PEM or DER"},
		{Name: "nextCertificate", Label: "Next signing certificate", Type: federation.Certificate,
			Text: "signing certificate to stand beside the present one, for a roll-over: a file"},
		{Name: "nameIdFormat", Label: "NameID format", Type: federation.OneLine, Option: "nameid-format",
			Text: "NameID format it works with: emailAddress, persistent, transient or unspecified"}}
	providerFields = slices.Insert(slices.Clone(fields), 1, federation.Setting{Name: "ssoRedirect",
		Label: "SingleSignOnService by HTTP-Redirect",
		Type:  federation.Address, Text: "SingleSignOnService by HTTP-Redirect, typed by hand"},
		federation.Setting{Name: "ssoPost", Label: "SingleSignOnService by HTTP-POST", Type: federation.Address,
			Text: "SingleSignOnService by HTTP-POST, typed by hand"})
	applicationFields = slices.Insert(slices.Clone(fields), 1, federation.Setting{Name: "acs",
		Label: "AssertionConsumerService by HTTP-POST",
		Type:  federation.Address, Text: "AssertionConsumerService by HTTP-POST, typed by hand"},
		federation.Setting{Name: "acsArtifact", Label: "AssertionConsumerService by HTTP-Artifact", Type: federation.Address,
			Text: "AssertionConsumerService by HTTP-Artifact, typed by hand"},
		federation.Setting{Name: "encryptionCertificate", Label: "Encryption certificate", Type: federation.Certificate,
			Text: "certificate to encrypt to, in place of the present one: a file"})
)

// Fields are the values of a provider that can be typed.
func (*Provider) Fields() []federation.Setting { return providerFields }

// Fields are the values of an application that can be typed.
func (*Application) Fields() []federation.Setting { return applicationFields }

// Overlay lays typed values over what is known of a provider.
func (p *Provider) Overlay(t federation.Typed) (federation.Side, error) {
	if t["acs"] != "" {
		return nil, &federation.SettingError{Field: "acs",
			Err: errors.New("a provider has no AssertionConsumerService; that address belongs to an application")}
	}
	if err := t.Only(p.Fields()); err != nil {
		return nil, err
	}
	q, idp := *p, *p.IDP
	q.IDP = &idp
	err := overlay(t, &idp.EntityID, &idp.Keys, &idp.NameIDFormats)
	if err == nil {
		idp.SSO, err = put(idp.SSO, saml.BindingRedirect, t["ssoRedirect"], "ssoRedirect")
	}
	if err == nil {
		idp.SSO, err = put(idp.SSO, saml.BindingPOST, t["ssoPost"], "ssoPost")
	}
	return &q, err
}

// Overlay lays typed values over what is known of an application.
func (a *Application) Overlay(t federation.Typed) (federation.Side, error) {
	if t["ssoRedirect"] != "" || t["ssoPost"] != "" {
		return nil, &federation.SettingError{Field: "ssoRedirect",
			Err: errors.New("an application has no SingleSignOnService; that address belongs to a provider")}
	}
	if err := t.Only(a.Fields()); err != nil {
		return nil, err
	}
	b, sp := *a, *a.SP
	b.SP = &sp
	err := overlay(t, &sp.EntityID, &sp.Keys, &sp.NameIDFormats)
	if err == nil {
		sp.ACS, err = put(sp.ACS, saml.BindingPOST, t["acs"], "acs")
	}
	if err == nil {
		sp.ACS, err = put(sp.ACS, saml.BindingArtifact, t["acsArtifact"], "acsArtifact")
	}
	return &b, err
}

func overlay(t federation.Typed, entityID *saml.EntityID, ks *[]saml.Key, formats *[]saml.NameIDFormat) error {
	if id := strings.TrimSpace(t["entityId"]); id != "" {
		parsed, err := saml.ParseEntityID(id)
		if err != nil {
			return &federation.SettingError{Field: "entityId", Err: err}
		}
		*entityID = parsed
	}
	if err := overlayKeys(t, ks); err != nil {
		return err
	}
	if t["nameIdFormat"] != "" {
		*formats = []saml.NameIDFormat{longFormat(strings.TrimSpace(t["nameIdFormat"]))}
	}
	return nil
}

// put sets the endpoint of a binding.
func put(es []saml.Endpoint, binding, address, field string) ([]saml.Endpoint, error) {
	if address = strings.TrimSpace(address); address == "" {
		return es, nil
	}
	if !federation.IsAddress(address) {
		return nil, &federation.SettingError{Field: field,
			Err: fmt.Errorf("%q is no address; give a whole one, like https://accounts.wrenmoor.example/sso", address)}
	}
	es = slices.DeleteFunc(slices.Clone(es), func(e saml.Endpoint) bool { return e.Binding == binding })
	return append(es, saml.Endpoint{Binding: binding, Location: address}), nil
}

// overlayKeys lays typed certificates over keys: certificate takes the place of
// the signing ones, nextCertificate stands beside them, encryptionCertificate takes
// the place of those that are encrypted to. A key that stands for both uses keeps
// the other.
func overlayKeys(t federation.Typed, ks *[]saml.Key) error {
	for _, typed := range []struct{ field, use, other string }{
		{"certificate", "signing", "encryption"}, {"encryptionCertificate", "encryption", "signing"},
		{"nextCertificate", "signing", ""},
	} {
		if t[typed.field] == "" {
			continue
		}
		certs := keys.Read([]byte(t[typed.field]))
		if len(certs) == 0 {
			return &federation.SettingError{Field: typed.field,
				Err: errors.New("this is no certificate; give X.509 in PEM, or base64 of DER")}
		}
		var kept []saml.Key
		for _, k := range *ks {
			if typed.other != "" && k.Use == "" {
				k.Use = typed.other
			}
			if typed.other == "" || k.Use != typed.use {
				kept = append(kept, k)
			}
		}
		for _, c := range certs {
			if !slices.ContainsFunc(kept, func(k saml.Key) bool {
				return (k.Use == typed.use || k.Use == "") && k.Certificate.Fingerprint() == c.Fingerprint()
			}) {
				kept = append(kept, saml.Key{Use: typed.use, Certificate: c})
			}
		}
		*ks = kept
	}
	return nil
}
