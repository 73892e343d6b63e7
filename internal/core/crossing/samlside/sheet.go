package samlside

import (
	"strings"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/saml"
)

func publisher(g *federation.Gate, set federation.KeySet) saml.Publisher {
	p := saml.Publisher{Organisation: g.Publisher.Organisation, URL: g.Publisher.URL, Contact: g.Publisher.Contact,
		Mail: g.Publisher.Mail}
	if id := g.SignAs(); id != "" {
		p.Sign, p.ID = set.Current, id
	}
	return p
}

// spMetadata is that of a face as service provider.
func spMetadata(g *federation.Gate, f federation.Face, artifact, signed bool) []byte {
	set := g.Keys[SignsRequests]
	return saml.WriteSPMetadata(saml.SPFace{EntityID: f.EntityID, ACS: f.Address, Keys: set.Published(),
		Encryption: g.Keys[EncryptedTo].Published(),
		Artifact:   artifact, Publisher: publisher(g, set), SignRequests: signed})
}

func idpMetadata(g *federation.Gate, f federation.Face, set federation.KeySet) []byte {
	return saml.WriteIDPMetadata(saml.IDPFace{EntityID: f.EntityID, SSO: f.Address, Artifact: artifactAddress(f),
		Keys: set.Published(), Publisher: publisher(g, set)})
}

// IDPMetadata is that of the face which applications share.
func IDPMetadata(s *federation.Snapshot) []byte {
	return idpMetadata(&s.Gate, idpFace(&s.Gate), s.Gate.Keys[SignsAnswers])
}

// SPMetadata is that of the face which several providers share.
func SPMetadata(s *federation.Snapshot) []byte {
	artifact := false
	for _, p := range s.Providers() {
		if side, ok := p.Side.(*Provider); ok {
			artifact = artifact || side.SharedFace && side.UseArtifact
		}
	}
	return spMetadata(&s.Gate, spFace(&s.Gate), artifact, false)
}

// OwnMetadata is that of the face of one record: towards a provider, or, if it
// has one of its own, towards an application. False if there is none.
func OwnMetadata(s *federation.Snapshot, r federation.Record) ([]byte, bool) {
	switch side := r.Part().(type) {
	case *Provider:
		return side.Sheet(s, r.(*federation.Provider)).Metadata, true
	case *Application:
		return side.Sheet(s, r.(*federation.Application)).Metadata, side.OwnFace
	}
	return nil, false
}

// Sheet is what the administrator of a provider needs: the gate as service
// provider.
func (p *Provider) Sheet(s *federation.Snapshot, r *federation.Provider) federation.Sheet {
	f := p.face(&s.Gate)
	address := s.Gate.Base + "/saml/sp/" + string(r.Name)
	if p.SharedFace {
		address = s.Gate.Base + "/saml/sp"
	}
	return federation.Sheet{
		MetadataAddress: address,
		Certificates:    s.Gate.Keys[SignsRequests].Published(),
		Metadata:        spMetadata(&s.Gate, f, p.UseArtifact, p.SignRequests || p.IDP.WantAuthnRequestsSigned),
		Values: []federation.SheetValue{
			{Label: "Entity ID", Value: f.EntityID, AlsoCalled: []string{"SP entity ID", "identifier", "audience"},
				Hint: "compared letter by letter, also as Audience of the assertion"},
			{Label: "Assertion consumer service", Value: f.Address, AlsoCalled: []string{"ACS URL", "reply address",
				"recipient", "destination"}, Hint: "binding HTTP-POST"},
			{Label: "Binding", Value: saml.BindingPOST, AlsoCalled: []string{"HTTP-POST"},
				Hint: "the answer is taken by POST only"},
			{Label: "NameID format", Value: saml.FormatPersistent, AlsoCalled: []string{"name identifier format"},
				Hint: "others are taken as well; transient names are forgotten after the session"},
			{Label: "Signed", Value: "assertion", AlsoCalled: []string{"sign assertions"},
				Hint: "RSA-SHA256; signing the Response as well does no harm"},
		},
	}
}

// Sheet is what the administrator of an application needs: the gate as identity
// provider.
func (a *Application) Sheet(s *federation.Snapshot, r *federation.Application) federation.Sheet {
	face, set := a.face(&s.Gate, r, false)
	open := federation.SheetValue{Label: "Start at the gate", Value: s.Gate.Base + "/open/" + string(r.Name),
		AlsoCalled: []string{"IdP-initiated address", "link for a portal"}, Hint: "sends an unsolicited Response"}
	if r.OwnStart != "" {
		open.Hint = "sends people to the application's own start address, " + r.OwnStart
	}
	return federation.Sheet{
		MetadataAddress: strings.TrimSuffix(face.Address, "/sso"),
		Certificates:    set.Published(),
		Metadata:        idpMetadata(&s.Gate, face, set),
		Values: []federation.SheetValue{
			{Label: "Entity ID", Value: face.EntityID, AlsoCalled: []string{"IdP entity ID", "issuer"},
				Hint: "compared letter by letter with Issuer"},
			{Label: "Single sign-on service", Value: face.Address, AlsoCalled: []string{"SSO URL", "sign-in address",
				"login URL"}, Hint: "the same address for both bindings"},
			{Label: "Binding", Value: saml.BindingRedirect, AlsoCalled: []string{"HTTP-Redirect"},
				Hint: "HTTP-POST is taken as well"},
			{Label: "Signed", Value: a.signed(), AlsoCalled: []string{"assertion signature", "response signature"},
				Hint: "RSA-SHA256 with the certificate below"},
			open,
		},
	}
}

// signed says in words what is signed.
func (a *Application) signed() string {
	switch a.Sign {
	case SignResponse:
		return "Response"
	case SignBoth:
		return "assertion and Response"
	}
	return "assertion"
}
