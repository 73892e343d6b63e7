package saml_test

import (
	"crypto/rand"
	"encoding/base64"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/core/xmlsec"
)

// order is the order of child elements that the schemas of SAML 2.0, XML
// Signature and XML Encryption demand, written down from the standards. Children
// must be a subsequence; those of the same name may repeat.
var order = map[string][]string{
	"EntityDescriptor": {"Signature", "Extensions", "IDPSSODescriptor", "SPSSODescriptor", "Organization",
		"ContactPerson"},
	"IDPSSODescriptor": {"Signature", "Extensions", "KeyDescriptor", "Organization", "ContactPerson",
		"ArtifactResolutionService", "SingleLogoutService", "ManageNameIDService", "NameIDFormat", "SingleSignOnService",
		"NameIDMappingService"},
	"SPSSODescriptor": {"Signature", "Extensions", "KeyDescriptor", "Organization", "ContactPerson",
		"ArtifactResolutionService", "SingleLogoutService", "ManageNameIDService", "NameIDFormat",
		"AssertionConsumerService", "AttributeConsumingService"},
	"KeyDescriptor": {"KeyInfo", "EncryptionMethod"},
	"Organization":  {"Extensions", "OrganizationName", "OrganizationDisplayName", "OrganizationURL"},
	"ContactPerson": {"Extensions", "Company", "GivenName", "SurName", "EmailAddress", "TelephoneNumber"},
	"AuthnRequest": {"Issuer", "Signature", "Extensions", "Subject", "NameIDPolicy", "Conditions",
		"RequestedAuthnContext", "Scoping"},
	"Response":         {"Issuer", "Signature", "Extensions", "Status", "Assertion", "EncryptedAssertion"},
	"ArtifactResponse": {"Issuer", "Signature", "Extensions", "Status", "Response"},
	"ArtifactResolve":  {"Issuer", "Signature", "Extensions", "Artifact"},
	"Status":           {"StatusCode", "StatusMessage", "StatusDetail"},
	"Assertion": {"Issuer", "Signature", "Subject", "Conditions", "Advice", "AuthnStatement",
		"AttributeStatement"},
	"Subject":        {"NameID", "EncryptedID", "SubjectConfirmation"},
	"AuthnStatement": {"SubjectLocality", "AuthnContext"},
	"AuthnContext":   {"AuthnContextClassRef", "AuthnContextDecl", "AuthenticatingAuthority"},
	"Scoping":        {"IDPList", "RequesterID"},
	"Signature":      {"SignedInfo", "SignatureValue", "KeyInfo", "Object"},
	"SignedInfo":     {"CanonicalizationMethod", "SignatureMethod", "Reference"},
	"Reference":      {"Transforms", "DigestMethod", "DigestValue"},
	"EncryptedData":  {"EncryptionMethod", "KeyInfo", "CipherData"},
	"EncryptedKey":   {"EncryptionMethod", "KeyInfo", "CipherData"},
}

func checkOrder(t *testing.T, e *xmlsec.Element) (checked int) {
	if want, ok := order[e.Local]; ok {
		checked++
		at := 0
		for _, kid := range e.Elements("", "") {
			for at < len(want) && want[at] != kid.Local {
				at++
			}
			require.Less(t, at, len(want), "%s stands where it must not in %s", kid.Local, e.Local)
		}
	}
	for _, kid := range e.Elements("", "") {
		checked += checkOrder(t, kid)
	}
	return checked
}

func TestWhatWeWriteIsInTheOrderOfTheSchemas(t *testing.T) {
	pair, err := keys.Generate("x", now, rand.Reader)
	require.NoError(t, err)
	certs := []keys.Certificate{pair.Certificate, pair.Certificate}
	full := saml.Answer{ResponseID: "_r", AssertionID: "_a", At: now, Lifetime: time.Minute, Issuer: "urn:i",
		Destination: acs, InResponseTo: "_q", Audience: "urn:a", NameID: saml.NameID{Format: saml.FormatPersistent,
			Value: "x"},
		AuthnInstant: now, SessionIndex: "_s", SessionNotOnOrAfter: now, Authorities: []string{"urn:b"},
		Attributes: []saml.Attribute{{Name: "a", FriendlyName: "b", Values: saml.Texts("c", "d")}}}
	to := &saml.Key{Certificate: pair.Certificate}
	documents := map[string][]byte{
		"metadata as SP": saml.WriteSPMetadata(saml.SPFace{EntityID: "urn:e", ACS: acs, Keys: certs, Encryption: certs,
			Artifact: true}),
		"signed metadata": saml.WriteSPMetadata(saml.SPFace{EntityID: "urn:e", ACS: acs, Keys: certs,
			Publisher: saml.Publisher{Organisation: "o", URL: "https://o.example", Contact: "c", Mail: "c@o.example",
				Sign: pair, ID: "_m"}}),
		"metadata as IdP": saml.WriteIDPMetadata(saml.IDPFace{EntityID: "urn:e", SSO: acs, Artifact: acs, Keys: certs}),
	}
	for name, p := range map[string]saml.Protection{"Response": {Pair: pair, SignResponse: true},
		"encrypted Response":              {Pair: pair, EncryptTo: to, Random: rand.Reader, OnlyResponse: true},
		"Response with an encrypted name": {Pair: pair, EncryptTo: to, EncryptName: true, Random: rand.Reader}} {
		documents[name], err = saml.WriteResponse(full, p)
		require.NoError(t, err)
	}
	documents["status"], err = saml.WriteStatus(full, saml.StatusResponder, saml.StatusNoPassive, "why", pair)
	require.NoError(t, err)
	documents["ArtifactResponse"], err = saml.WriteArtifactResponse("_p", "_q", "urn:i", documents["Response"], now, pair)
	require.NoError(t, err)
	documents["ArtifactResolve"], err = saml.WriteArtifactResolve("_p", "urn:i", acs, "x", now, pair)
	require.NoError(t, err)
	out, err := saml.WriteAuthnRequest(saml.AuthnRequest{ID: "_q", IssueInstant: now, Issuer: "urn:i", ACS: acs,
		NameIDFormat: saml.FormatEmail, Contexts: []string{"urn:c"}, Comparison: "exact", ProxyCount: 2,
		Requesters: []saml.EntityID{"urn:r"}},
		saml.Endpoint{Binding: saml.BindingPOST, Location: acs}, "", pair)
	require.NoError(t, err)
	documents["AuthnRequest"], err = base64.StdEncoding.DecodeString(out.Form[0].Value)
	require.NoError(t, err)
	for name, octets := range documents {
		doc, err := xmlsec.Parse(octets, xmlsec.MessageLimits)
		require.NoError(t, err, name)
		require.Greater(t, checkOrder(t, doc.Root), 1, name)
	}
}
