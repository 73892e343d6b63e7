package standin

import (
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1" //nolint:gosec // what is shown is that it is refused
	"encoding/base64"
	"errors"
	"strings"

	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/core/xmlsec"
)

// signSHA1 signs the assertion of a Response as programs did before 2014: with SHA-1, and well.
func signSHA1(text string, pair *keys.Pair) (string, error) {
	key, is := pair.Signer().(*rsa.PrivateKey)
	if !is {
		return "", errors.New("SHA-1 is shown with an RSA key")
	}
	doc, err := xmlsec.Parse([]byte(text), xmlsec.MessageLimits)
	if err != nil {
		return "", err
	}
	digest := sha1.New()
	assertion := doc.Root.Child(saml.NSAssertion, "Assertion")
	if err := assertion.Canonical(digest, xmlsec.Method{Prefixes: []string{"xs"}}, nil); err != nil {
		return "", err
	}
	octets, err := resign(text, pair)
	if err != nil {
		return "", err
	}
	out := strings.Replace(string(octets), "http://www.w3.org/2001/04/xmldsig-more#rsa-sha256",
		"http://www.w3.org/2000/09/xmldsig#rsa-sha1", 1)
	out = strings.Replace(out, "http://www.w3.org/2001/04/xmlenc#sha256", "http://www.w3.org/2000/09/xmldsig#sha1", 1)
	out = filled(out, "ds:DigestValue", base64.StdEncoding.EncodeToString(digest.Sum(nil)))
	if doc, err = xmlsec.Parse([]byte(out), xmlsec.MessageLimits); err != nil {
		return "", err
	}
	info := sha1.New()
	signed := doc.Root.Child(saml.NSAssertion, "Assertion").Child(xmlsec.NSDSig, "Signature").Child(xmlsec.NSDSig,
		"SignedInfo")
	if err := signed.Canonical(info, xmlsec.Exclusive, nil); err != nil {
		return "", err
	}
	value, err := rsa.SignPKCS1v15(rand.Reader, key, crypto.SHA1, info.Sum(nil))
	return filled(out, "ds:SignatureValue", base64.StdEncoding.EncodeToString(value)), err
}

// filled puts a text into the first element of a name.
func filled(text, element, value string) string {
	i, j := strings.Index(text, "<"+element+">"), strings.Index(text, "</"+element+">")
	if i < 0 || j < i {
		return text
	}
	return text[:i+len(element)+2] + value + text[j:]
}
