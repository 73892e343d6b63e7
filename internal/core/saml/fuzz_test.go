package saml_test

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"encoding/base64"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/core/xmlsec"
)

// FuzzSigned signs whatever comes as the provider would, encrypted or not, so that
// all that stands behind digests and decryption is reached. What is accepted says
// what was demanded.
func FuzzSigned(f *testing.F) {
	signing, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(f, err)
	ours, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(f, err)
	plain := strings.NewReplacer("@ASSERTION@", "", "@RESPONSE@", "").Replace(answer)
	for _, encrypt := range []bool{false, true} {
		f.Add([]byte(plain), encrypt)
		f.Add([]byte(strings.Replace(plain, "drivers", `<x xmlns="urn:x">drivers</x>`, 1)), encrypt)
	}
	idp := &saml.IDP{EntityID: idpID, Keys: []saml.Key{{Certificate: keys.Certificate{Public: signing.Public()}}}}
	f.Fuzz(func(t *testing.T, octets []byte, encrypt bool) {
		doc, err := xmlsec.Parse(octets, xmlsec.MessageLimits)
		if err != nil {
			return
		}
		assertion := doc.Root.Child(saml.NSAssertion, "Assertion")
		if assertion == nil || xmlsec.Signed(assertion) || assertion.Attr("ID") == "" || len(assertion.Children) == 0 {
			return
		}
		if xmlsec.Sign(assertion, 1, signing, nil) != nil {
			return
		}
		message := doc.Root.Octets()
		if encrypt {
			sealed, err := xmlsec.Encrypt(assertion, &ours.PublicKey, nil, rand.Reader)
			require.NoError(t, err)
			whole := string(message)
			message = []byte(strings.Replace(whole, string(assertion.Octets()), `<saml:EncryptedAssertion xmlns:saml="`+
				saml.NSAssertion+`">`+string(sealed.Octets())+`</saml:EncryptedAssertion>`, 1))
		}
		var log finding.Checks
		opened, err := saml.OpenResponse(message, idp, saml.Trust{Now: now, Decrypters: []crypto.Decrypter{ours}}, &log)
		if err != nil {
			return
		}
		a, err := opened.Check(saml.Expect{EntityIDs: []saml.EntityID{ourID}, ACS: acs, Request: &saml.Sent{ID: "_q1"},
			Now: now.Add(time.Second), Skew: time.Minute}, &log)
		if err != nil {
			return
		}
		require.NotEmpty(t, a.NameID.Value)
		for _, demanded := range []string{ourID, acs, "_q1", idpID} {
			require.Contains(t, string(assertion.Octets()), demanded)
		}
	})
}

// FuzzPosted reads what browsers post.
func FuzzPosted(f *testing.F) {
	f.Add(base64.StdEncoding.EncodeToString([]byte(`<samlp:AuthnRequest xmlns:samlp="urn:oasis:names:tc:SAML:2.0:protocol" ID="_a" Version="2.0"/>`)), "state")
	f.Add(base64.StdEncoding.EncodeToString([]byte(answer)), "")
	f.Fuzz(func(t *testing.T, value, state string) {
		in, err := saml.FromPOST(value, state)
		if err != nil {
			return
		}
		_, _ = saml.ReadRequest(in.Octets)
		_, _ = saml.ReadResponse(in.Octets)
		_, _ = saml.ReadArtifactResolve(in.Octets)
	})
}
