package saml

import (
	"cmp"
	"encoding/base64"

	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/xmlsec"
)

// Publisher is who runs the gate, for metadata (SAML metadata §2.3.2.1,
// §2.3.2.2), and how the document is signed.
type Publisher struct {
	Organisation, URL string // both or neither
	Contact, Mail     string
	Sign              *keys.Pair // nil leaves it unsigned
	ID                string     // of the document, when it is signed
}

// publish completes the metadata of one entity.
func (p Publisher) publish(entityID EntityID, role *xmlsec.Element) []byte {
	root := md("EntityDescriptor").Set("entityID", string(entityID)).Add(role)
	if p.Organisation != "" {
		lang := func(local, s string) *xmlsec.Element {
			return md(local).SetNS("xml", xmlsec.NSXML, "lang", "en").AddText(s)
		}
		root.Add(md("Organization").Add(lang("OrganizationName", p.Organisation), lang("OrganizationDisplayName",
			p.Organisation), lang("OrganizationURL", p.URL)))
	}
	if p.Contact != "" || p.Mail != "" {
		c := md("ContactPerson").Set("contactType", "technical")
		if p.Contact != "" {
			c.Add(md("GivenName").AddText(p.Contact))
		}
		if p.Mail != "" {
			c.Add(md("EmailAddress").AddText("mailto:" + p.Mail))
		}
		root.Add(c)
	}
	root.Declare("md", NSMetadata).Declare("ds", xmlsec.NSDSig)
	if p.Sign == nil {
		return append(xmlHead(), append(root.Indented(), '\n')...)
	}
	root.Set("ID", p.ID)
	if err := xmlsec.Sign(root, 0, p.Sign.Signer(), p.Sign.Certificate.DER); err != nil {
		return append(xmlHead(), append(root.Indented(), '\n')...) // a key that cannot sign was never made
	}
	return append(xmlHead(), append(root.Octets(), '\n')...)
}

func xmlHead() []byte { return []byte("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n") }

// SPFace is what the gate tells a provider about itself.
type SPFace struct {
	EntityID     EntityID
	ACS          string
	Keys         []keys.Certificate // current first
	Encryption   []keys.Certificate // keys to encrypt to, current first
	SignRequests bool
	Artifact     bool // answers by artifact are taken too, at the same address
	// Requested are the attributes that are asked for; none leaves it to the provider.
	Requested []RequestedAttribute
	Publisher
}

// WriteSPMetadata writes the metadata of the gate as service provider (SAML
// metadata §2.4.4). It has no validUntil: copies get uploaded and kept.
func WriteSPMetadata(f SPFace) []byte {
	role := md("SPSSODescriptor").Set("AuthnRequestsSigned", boolText(f.SignRequests)).
		Set("WantAssertionsSigned", "true").Set("protocolSupportEnumeration", NSProtocol)
	addKeys(role, "signing", f.Keys)
	addKeys(role, "encryption", f.Encryption, xmlsec.EncryptionMethods()...)
	for _, format := range []NameIDFormat{FormatPersistent, FormatEmail, FormatUnspecified, FormatTransient} {
		role.Add(md("NameIDFormat").AddText(string(format)))
	}
	role.Add(md("AssertionConsumerService").Set("Binding", BindingPOST).Set("Location", f.ACS).Set("index",
		"0").Set("isDefault", "true"))
	if f.Artifact {
		role.Add(md("AssertionConsumerService").Set("Binding", BindingArtifact).Set("Location", f.ACS).Set("index", "1"))
	}
	if len(f.Requested) > 0 {
		service := md("AttributeConsumingService").Set("index", "0").Set("isDefault", "true").Add(md("ServiceName").
			SetNS("xml", xmlsec.NSXML, "lang", "en").AddText(cmp.Or(f.Organisation, "Inner Gate")))
		for _, r := range f.Requested {
			a := md("RequestedAttribute").Set("Name", r.Name)
			for name, v := range map[string]string{"NameFormat": r.NameFormat, "FriendlyName": r.FriendlyName} {
				if v != "" {
					a.Set(name, v)
				}
			}
			service.Add(a.Set("isRequired", boolText(r.Required)))
		}
		role.Add(service)
	}
	return f.publish(f.EntityID, role)
}

// IDPFace is what the gate tells an application about itself.
type IDPFace struct {
	EntityID EntityID
	SSO      string
	Artifact string             // ArtifactResolutionService, "" for none
	Keys     []keys.Certificate // current first
	Publisher
}

// WriteIDPMetadata writes the metadata of the gate as identity provider (SAML
// metadata §2.4.3).
func WriteIDPMetadata(f IDPFace) []byte {
	role := md("IDPSSODescriptor").Set("WantAuthnRequestsSigned", "false").Set("protocolSupportEnumeration", NSProtocol)
	addKeys(role, "signing", f.Keys)
	if f.Artifact != "" {
		role.Add(md("ArtifactResolutionService").Set("Binding", BindingSOAP).Set("Location", f.Artifact).Set("index", "0"))
	}
	for _, format := range []NameIDFormat{FormatEmail, FormatPersistent, FormatTransient, FormatUnspecified} {
		role.Add(md("NameIDFormat").AddText(string(format)))
	}
	for _, b := range []string{BindingRedirect, BindingPOST} {
		role.Add(md("SingleSignOnService").Set("Binding", b).Set("Location", f.SSO))
	}
	return f.publish(f.EntityID, role)
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
