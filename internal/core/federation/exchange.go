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

func certificates(pairs []*keys.Pair) []keys.Certificate {
	out := make([]keys.Certificate, len(pairs))
	for i, p := range pairs {
		out[i] = p.Certificate
	}
	return out
}

// SheetForProvider is what the administrator of a provider needs: the gate as
// service provider.
func (s *Snapshot) SheetForProvider(p *Provider) Sheet {
	f := p.SAML.Face
	certs := certificates(s.Gate.SPKeys)
	return Sheet{
		MetadataAddress: s.Gate.Base + "/saml/sp/" + string(p.Name),
		Certificates:    certs,
		Metadata:        saml.WriteSPMetadata(saml.SPFace{EntityID: f.EntityID, ACS: f.Address, Keys: certs, Encryption: certificates(s.Gate.EncKeys), SignRequests: p.SignRequests || p.SAML.IDP.WantAuthnRequestsSigned}),
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
	certs := certificates(s.Gate.IDPKeys)
	open := SheetValue{"Start at the gate", s.Gate.Base + "/open/" + string(a.Name), []string{"IdP-initiated address", "link for a portal"}, "sends an unsolicited Response"}
	if a.OwnStart != "" {
		open.Hint = "sends people to the application's own start address, " + a.OwnStart
	}
	return Sheet{
		MetadataAddress: s.Gate.IDP.EntityID,
		Certificates:    certs,
		Metadata:        saml.WriteIDPMetadata(s.IDPFace()),
		Values: []SheetValue{
			{"Entity ID", s.Gate.IDP.EntityID, []string{"IdP entity ID", "issuer"}, "compared letter by letter with Issuer"},
			{"Single sign-on service", s.Gate.IDP.Address, []string{"SSO URL", "sign-in address", "login URL"}, "the same address for both bindings"},
			{"Binding", saml.BindingRedirect, []string{"HTTP-Redirect"}, "HTTP-POST is taken as well"},
			{"Signed", signed(a.Sign), []string{"assertion signature", "response signature"}, "RSA-SHA256 with the certificate below"},
			open,
		},
	}
}

// IDPFace is the gate as identity provider, for its metadata.
func (s *Snapshot) IDPFace() saml.IDPFace {
	return saml.IDPFace{EntityID: s.Gate.IDP.EntityID, SSO: s.Gate.IDP.Address, Keys: certificates(s.Gate.IDPKeys)}
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
