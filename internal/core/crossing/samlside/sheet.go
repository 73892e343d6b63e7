package samlside

import (
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/core/xmlsec"
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
func spMetadata(g *federation.Gate, f Face, artifact, signed bool, asks ...profile.Requested) []byte {
	set := g.Keys[SignsRequests]
	return saml.WriteSPMetadata(saml.SPFace{EntityID: f.EntityID, ACS: f.Address, Keys: set.Published(),
		Encryption: g.Keys[EncryptedTo].Published(),
		Artifact:   artifact, Publisher: publisher(g, set), SignRequests: signed, Requested: requestedOf(asks)})
}

// requestedOf are the attributes that a mapping reads, in the words of metadata. A URI is
// named as one.
func requestedOf(asks []profile.Requested) (out []saml.RequestedAttribute) {
	for _, r := range asks {
		a := saml.RequestedAttribute{Name: r.Name, NameFormat: r.Format, FriendlyName: r.Friendly, Required: r.Required}
		if a.NameFormat == "" && (strings.HasPrefix(a.Name, "urn:") || strings.HasPrefix(a.Name, "http")) {
			a.NameFormat = saml.NameFormatURI
		}
		out = append(out, a)
	}
	return out
}

// released names on the sheet what a provider should release.
func released(m profile.Mapping) []federation.SheetValue {
	names := []string{}
	for _, r := range m.Requests() {
		names = append(names, r.Name)
	}
	if len(names) == 0 {
		return nil
	}
	return []federation.SheetValue{{Label: "Attributes", Value: strings.Join(names, ", "),
		AlsoCalled: []string{"claims", "attribute release"}, Hint: "the gate reads these, and forgets others"}}
}

func idpMetadata(g *federation.Gate, f Face, set federation.KeySet, beside ...keys.Certificate) []byte {
	return saml.WriteIDPMetadata(saml.IDPFace{EntityID: f.EntityID, SSO: f.Address, Artifact: artifactAddress(f),
		Keys: append(set.Published(), beside...), Publisher: publisher(g, set)})
}

// IDPMetadata is that of the face which applications share, with all keys that it signs by for one of them, or the
// usual one alone.
func IDPMetadata(s *federation.Snapshot) []byte {
	if s.Gate.OneKey() {
		return idpMetadata(&s.Gate, idpFace(&s.Gate), s.Gate.Keys[SignsAnswers])
	}
	return idpMetadata(&s.Gate, idpFace(&s.Gate), s.Gate.Keys[SignsAnswers], s.Gate.Keys[SignsByECDSA].Published()...)
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
	set := s.Gate.Keys[SignsRequests]
	return federation.Sheet{
		MetadataAddress: address,
		Keys: append(federation.SheetKeys("signing", set), federation.SheetKeys("encryption",
			s.Gate.Keys[EncryptedTo])...),
		Metadata: spMetadata(&s.Gate, f, p.UseArtifact, p.signs(), r.Mapping().Requests()...),
		Values: append([]federation.SheetValue{
			{Label: "Entity ID", Value: string(f.EntityID), AlsoCalled: []string{"SP entity ID", "identifier", "audience"},
				Hint: p.former("compared letter by letter, also as Audience of the assertion")},
			{Label: "Assertion consumer service", Value: f.Address, AlsoCalled: []string{"ACS URL", "reply address",
				"recipient", "destination"}, Hint: "binding " + short(p.answersBy())},
			{Label: "Binding", Value: p.answersBy(), AlsoCalled: []string{short(p.answersBy()), "response binding"},
				Hint: p.bindingHint()},
			p.format(),
			{Label: "Signed", Value: p.wantsSigned(), AlsoCalled: []string{"sign assertions"},
				Hint: "by RSA or ECDSA with SHA-256 or better; signing both does no harm"},
		}, append(p.requests(set), released(r.Mapping())...)...),
	}
}

// answersBy is the binding that answers are asked for by.
func (p *Provider) answersBy() string {
	if p.UseArtifact {
		return saml.BindingArtifact
	}
	return saml.BindingPOST
}

func (p *Provider) bindingHint() string {
	if p.UseArtifact {
		return "answers are asked for by artifact, and resolved at the provider's ArtifactResolutionService"
	}
	return "the answer is taken by POST only"
}

// former adds to a hint which entity ID is still accepted.
func (p *Provider) former(hint string) string {
	if p.FormerEntityID == "" {
		return hint
	}
	return hint + "; until the provider has changed it, " + string(p.FormerEntityID) + " is accepted too"
}

// format is the NameID format that is asked for.
func (p *Provider) format() federation.SheetValue {
	v := federation.SheetValue{Label: "NameID format", Value: string(p.AskNameIDFormat),
		AlsoCalled: []string{"name identifier format"},
		Hint:       "requests ask for this one"}
	if v.Value == "" {
		v.Value, v.Hint = string(saml.FormatPersistent),
			"recommended; requests ask for none, and others are taken as well. Transient names are forgotten after the session"
	}
	return v
}

func (p *Provider) wantsSigned() string {
	if p.RequireSignedAssertion {
		return "assertion"
	}
	return "assertion, or Response"
}

// VerifiesEC implements federation.Verifying: requests are signed by one key for all providers.
func (p *Provider) VerifiesEC() (string, bool) {
	if !p.signs() {
		return "", false
	}
	return SignsRequests, slices.Contains(p.IDP.Algorithms, xmlsec.ECDSASHA256)
}

// signs reports whether requests are signed.
func (p *Provider) signs() bool { return p.SignRequests || p.IDP.WantAuthnRequestsSigned }

// requests tells how requests are signed, if they are.
func (p *Provider) requests(set federation.KeySet) []federation.SheetValue {
	if !p.signs() || set.Current == nil {
		return []federation.SheetValue{{Label: "Requests signed", Value: "no", AlsoCalled: []string{"AuthnRequestsSigned"},
			Hint: "set signRequests if the provider wants them signed"}}
	}
	return []federation.SheetValue{{Label: "Requests signed", Value: "yes", AlsoCalled: []string{"AuthnRequestsSigned"},
		Hint: "with the certificate for signing below"}, algorithm(set)}
}

// algorithm is the signature method that the current key of a set signs with.
func algorithm(set federation.KeySet) federation.SheetValue {
	v := federation.SheetValue{Label: "Signature algorithm", AlsoCalled: []string{"signing method", "SignatureMethod"},
		Hint: "by " + set.Current.Certificate.Describe()}
	method, err := xmlsec.MethodFor(set.Current.Certificate.Public)
	if err != nil {
		v.Value, v.Hint = "none", err.Error()
		return v
	}
	v.Value = method
	if set.Next != nil {
		if next, err := xmlsec.MethodFor(set.Next.Certificate.Public); err == nil && next != method {
			v.Hint += "; after the roll-over " + next
		}
	}
	return v
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
	values := []federation.SheetValue{
		{Label: "Entity ID", Value: string(face.EntityID), AlsoCalled: []string{"IdP entity ID", "issuer"},
			Hint: "compared letter by letter with Issuer"},
		{Label: "Single sign-on service", Value: face.Address, AlsoCalled: []string{"SSO URL", "sign-in address",
			"login URL"}, Hint: "the same address for both bindings"},
		{Label: "Binding", Value: saml.BindingRedirect, AlsoCalled: []string{"HTTP-Redirect"},
			Hint: "HTTP-POST is taken as well"},
		{Label: "Signed", Value: a.signed(), AlsoCalled: []string{"assertion signature", "response signature"},
			Hint: "with the certificate below"},
	}
	if set.Current != nil {
		values = append(values, algorithm(set))
	}
	values = append(values, a.nameID())
	if a.Encrypt {
		values = append(values, a.encrypted())
	}
	if slices.ContainsFunc(a.SP.ACS, func(e saml.Endpoint) bool { return e.Binding == saml.BindingArtifact }) {
		values = append(values, federation.SheetValue{Label: "Artifact resolution service", Value: artifactAddress(face),
			AlsoCalled: []string{"artifact resolution address", "back channel"},
			Hint:       "SOAP; ArtifactResolve must be signed with a key on record"})
	}
	return federation.Sheet{
		MetadataAddress: strings.TrimSuffix(face.Address, "/sso"),
		Keys:            federation.SheetKeys("signing", set),
		Metadata:        idpMetadata(&s.Gate, face, set),
		Values:          append(values, open),
	}
}

// nameID tells which NameID is sent.
func (a *Application) nameID() federation.SheetValue {
	v := federation.SheetValue{Label: "NameID format", Value: string(a.NameIDFormat),
		AlsoCalled: []string{"name identifier format",
			"user identifier"}}
	switch a.NameIDFormat {
	case "":
		v.Value, v.Hint = "as the provider names the person",
			"unless the request asks for a format; set nameIdFormat to always send one"
	case saml.FormatPersistent:
		v.Hint = "lasting, and for this application alone; unless the request asks for another one"
	case saml.FormatTransient:
		v.Hint = "another one at each sign-in; unless the request asks for another format"
	case saml.FormatEmail:
		v.Hint = "the person's e-mail address; unless the request asks for another one"
	default:
		v.Hint = "the provider's name for the person as it is; unless the request asks for another one"
	}
	return v
}

// encrypted tells what is encrypted, and how.
func (a *Application) encrypted() federation.SheetValue {
	v := federation.SheetValue{Label: "Encrypted", Value: "assertion", AlsoCalled: []string{"assertion encryption"},
		Hint: "with the application's own certificate for encryption"}
	if a.EncryptNames {
		v.Value = "NameID and attributes"
	}
	if ks := a.SP.EncryptionKeys(); len(ks) > 0 {
		v.Hint = "to the application's key " + ks[0].Certificate.Describe() + ", SHA-256 " + ks[0].Certificate.SHA256()
	}
	return v
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
