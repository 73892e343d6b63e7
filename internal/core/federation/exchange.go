package federation

import (
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/saml"
)

// SheetValue is one value the other side needs from us.
type SheetValue struct {
	Label      string   // the standard's term
	Value      string   //
	AlsoCalled []string // usual other names
	Hint       string   // what to mind when entering it
}

// Sheet is our half of an exchange sheet: what one counterpart needs from the
// gate.
type Sheet struct {
	Values          []SheetValue
	Certificates    []keys.Certificate // current first
	MetadataAddress string
	Metadata        []byte
}

// SheetForProvider is what the administrator of a provider needs: the gate as
// service provider.
func (s *Snapshot) SheetForProvider(p *Provider) Sheet {
	f := s.Gate.FaceTo(p)
	certs := s.Gate.SPKeys.Published()
	address := s.Gate.Base + "/saml/sp/" + string(p.Name)
	if p.SharedFace {
		address = s.Gate.Base + "/saml/sp"
	}
	return Sheet{
		MetadataAddress: address,
		Certificates:    certs,
		Metadata:        saml.WriteSPMetadata(saml.SPFace{EntityID: f.EntityID, ACS: f.Address, Keys: certs, Encryption: s.Gate.EncKeys.Published(), Artifact: p.UseArtifact, Publisher: s.Gate.publisher(s.Gate.SPKeys), SignRequests: p.SignRequests || p.SAML.IDP.WantAuthnRequestsSigned}),
		Values: []SheetValue{
			{"Entity ID", f.EntityID, []string{"SP entity ID", "identifier", "audience"}, "compared letter by letter, also as Audience of the assertion"},
			{"Assertion consumer service", f.Address, []string{"ACS URL", "reply address", "recipient", "destination"}, "binding HTTP-POST"},
			{"Binding", saml.BindingPOST, []string{"HTTP-POST"}, "the answer is taken by POST only"},
			{"NameID format", saml.FormatPersistent, []string{"name identifier format"}, "others are taken as well; transient names are forgotten after the session"},
			{"Signed", "assertion", []string{"sign assertions"}, "RSA-SHA256; signing the Response as well does no harm"},
		},
	}
}

// SheetForApplication is what the administrator of an application needs: the
// gate as identity provider.
func (s *Snapshot) SheetForApplication(a *Application) Sheet {
	face, set := s.Gate.FaceFor(a)
	certs, address := set.Published(), s.Gate.Base+"/saml/idp"
	if a.OwnFace {
		address += "/app/" + string(a.Name)
	}
	open := SheetValue{"Start at the gate", s.Gate.Base + "/open/" + string(a.Name), []string{"IdP-initiated address", "link for a portal"}, "sends an unsolicited Response"}
	if a.OwnStart != "" {
		open.Hint = "sends people to the application's own start address, " + a.OwnStart
	}
	return Sheet{
		MetadataAddress: address,
		Certificates:    certs,
		Metadata:        saml.WriteIDPMetadata(saml.IDPFace{EntityID: face.EntityID, SSO: face.Address, Artifact: ArtifactAddress(face), Keys: certs, Publisher: s.Gate.publisher(set)}),
		Values: []SheetValue{
			{"Entity ID", face.EntityID, []string{"IdP entity ID", "issuer"}, "compared letter by letter with Issuer"},
			{"Single sign-on service", face.Address, []string{"SSO URL", "sign-in address", "login URL"}, "the same address for both bindings"},
			{"Binding", saml.BindingRedirect, []string{"HTTP-Redirect"}, "HTTP-POST is taken as well"},
			{"Signed", signed(a.Sign), []string{"assertion signature", "response signature"}, "RSA-SHA256 with the certificate below"},
			open,
		},
	}
}

// IDPFace is the gate as identity provider, for its metadata.
func (s *Snapshot) IDPFace() saml.IDPFace {
	return saml.IDPFace{EntityID: s.Gate.IDP.EntityID, SSO: s.Gate.IDP.Address, Artifact: ArtifactAddress(s.Gate.IDP), Keys: s.Gate.IDPKeys.Published(), Publisher: s.Gate.publisher(s.Gate.IDPKeys)}
}

func signed(what string) string {
	switch what {
	case SignResponse:
		return "Response"
	case SignBoth:
		return "assertion and Response"
	}
	return "assertion"
}

// SharedSPMetadata is that of the face that several providers share.
func (s *Snapshot) SharedSPMetadata() []byte {
	f := s.Gate.FaceTo(&Provider{ProviderSettings: ProviderSettings{SharedFace: true}})
	artifact := false
	for _, p := range s.providers {
		artifact = artifact || p.SharedFace && p.UseArtifact
	}
	return saml.WriteSPMetadata(saml.SPFace{EntityID: f.EntityID, ACS: f.Address, Artifact: artifact, Keys: s.Gate.SPKeys.Published(), Encryption: s.Gate.EncKeys.Published(), Publisher: s.Gate.publisher(s.Gate.SPKeys)})
}
