package saml

import (
	"encoding/base64"

	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/xmlsec"
)

// SPFace is what the gate tells a provider about itself.
type SPFace struct {
	EntityID     string
	ACS          string
	Keys         []keys.Certificate // current first
	Encryption   []keys.Certificate // keys to encrypt to, current first
	SignRequests bool
	Artifact     bool // answers by artifact are taken too, at the same address
}

// WriteSPMetadata writes the metadata of the gate as service provider (SAML
// metadata §2.4.4). It has no validUntil: copies get uploaded and kept.
func WriteSPMetadata(f SPFace) []byte {
	role := md("SPSSODescriptor").Set("AuthnRequestsSigned", boolText(f.SignRequests)).
		Set("WantAssertionsSigned", "true").Set("protocolSupportEnumeration", NSProtocol)
	addKeys(role, "signing", f.Keys)
	addKeys(role, "encryption", f.Encryption, xmlsec.EncryptionMethods()...)
	for _, format := range []string{FormatPersistent, FormatEmail, FormatUnspecified, FormatTransient} {
		role.Add(md("NameIDFormat").AddText(format))
	}
	role.Add(md("AssertionConsumerService").Set("Binding", BindingPOST).Set("Location", f.ACS).Set("index", "0").Set("isDefault", "true"))
	if f.Artifact {
		role.Add(md("AssertionConsumerService").Set("Binding", BindingArtifact).Set("Location", f.ACS).Set("index", "1"))
	}
	return document(md("EntityDescriptor").Set("entityID", f.EntityID).Add(role))
}

// IDPFace is what the gate tells an application about itself.
type IDPFace struct {
	EntityID string
	SSO      string
	Artifact string             // ArtifactResolutionService, "" for none
	Keys     []keys.Certificate // current first
}

// WriteIDPMetadata writes the metadata of the gate as identity provider (SAML
// metadata §2.4.3).
func WriteIDPMetadata(f IDPFace) []byte {
	role := md("IDPSSODescriptor").Set("WantAuthnRequestsSigned", "false").Set("protocolSupportEnumeration", NSProtocol)
	addKeys(role, "signing", f.Keys)
	if f.Artifact != "" {
		role.Add(md("ArtifactResolutionService").Set("Binding", BindingSOAP).Set("Location", f.Artifact).Set("index", "0"))
	}
	for _, format := range []string{FormatEmail, FormatPersistent, FormatTransient, FormatUnspecified} {
		role.Add(md("NameIDFormat").AddText(format))
	}
	for _, b := range []string{BindingRedirect, BindingPOST} {
		role.Add(md("SingleSignOnService").Set("Binding", b).Set("Location", f.SSO))
	}
	return document(md("EntityDescriptor").Set("entityID", f.EntityID).Add(role))
}

func boolText(b bool) string {
	if b {
		return "true"
	}
	return "false"
}

func addKeys(role *xmlsec.Element, use string, certs []keys.Certificate, methods ...string) {
	ds := func(local string) *xmlsec.Element { return el("ds", xmlsec.NSDSig, local) }
	for _, c := range certs {
		kd := md("KeyDescriptor").Set("use", use).Add(ds("KeyInfo").Add(ds("X509Data").Add(
			ds("X509Certificate").AddText(base64.StdEncoding.EncodeToString(c.DER)))))
		for _, m := range methods {
			kd.Add(md("EncryptionMethod").Set("Algorithm", m))
		}
		role.Add(kd)
	}
}

func document(root *xmlsec.Element) []byte {
	root.Declare("md", NSMetadata).Declare("ds", xmlsec.NSDSig)
	return append([]byte("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n"), append(root.Indented(), '\n')...)
}
