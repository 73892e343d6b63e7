package saml

import (
	"bytes"
	"crypto/sha1"
	"encoding/base64"
	"encoding/binary"
	"time"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/xmlsec"
)

// NSSOAP is the namespace of SOAP 1.1 envelopes (SAML bindings §3.2).
const NSSOAP = "http://schemas.xmlsoap.org/soap/envelope/"

// BindingSOAP is that of the back channel.
const BindingSOAP = "urn:oasis:names:tc:SAML:2.0:bindings:SOAP"

// Artifact is an artifact of type 0x0004 (SAML bindings §3.6.4.2).
type Artifact struct {
	Index  int      // of the ArtifactResolutionService to ask
	Source [20]byte // SHA-1 of the issuer's entity ID
	Handle [20]byte // random
}

// NewArtifact makes an artifact of an issuer.
func NewArtifact(issuer EntityID, index int, handle [20]byte) Artifact {
	return Artifact{Index: index, Source: sha1.Sum([]byte(issuer)), Handle: handle}
}

// String is the artifact as it travels.
func (a Artifact) String() string {
	b := binary.BigEndian.AppendUint16([]byte{0, 4}, uint16(a.Index))
	return base64.StdEncoding.EncodeToString(append(append(b, a.Source[:]...), a.Handle[:]...))
}

// ParseArtifact reads an artifact as it travels.
func ParseArtifact(s string) (a Artifact, err error) {
	b, err := xmlsec.Base64(s)
	if err != nil || len(b) != 44 || b[0] != 0 || b[1] != 4 {
		return a, undecodable("SAMLart", "not an artifact of type 4")
	}
	a.Index = int(binary.BigEndian.Uint16(b[2:]))
	copy(a.Source[:], b[4:])
	copy(a.Handle[:], b[24:])
	return a, nil
}

// Made reports whether the provider made an artifact, as far as it says itself.
func (p *IDP) Made(a Artifact) bool { return a.Source == sha1.Sum([]byte(p.EntityID)) }

// Resolver gives the address where artifacts of a provider are resolved. It
// refuses artifacts that somebody else made.
func (p *IDP) Resolver(a Artifact) (string, error) {
	if !p.Made(a) {
		return "", finding.New(finding.ArtifactUnresolved,
			finding.Fact("Artifact", "made by another issuer than the provider"))
	}
	for _, e := range p.Artifact {
		if e.Binding == BindingSOAP && e.Index == a.Index {
			return e.Location, nil
		}
	}
	return "", finding.New(finding.ArtifactUnresolved, finding.Fact("ArtifactResolutionService",
		"none with this index in the provider's metadata"))
}

func envelope(message *xmlsec.Element) []byte {
	return el("soap", NSSOAP, "Envelope").Add(el("soap", NSSOAP, "Body").Add(message)).Octets()
}

// opened gives the one message in an envelope.
func openEnvelope(octets []byte) (*xmlsec.Element, error) {
	doc, err := xmlsec.Parse(octets, xmlsec.MessageLimits)
	if err != nil {
		return nil, err
	}
	if !doc.Root.Is(NSSOAP, "Envelope") {
		return nil, finding.New(finding.MessageOther, finding.Compare("Message", "SOAP Envelope", kindOf(doc.Root)))
	}
	body := doc.Root.Child(NSSOAP, "Body")
	if body == nil || len(body.Elements("", "")) != 1 {
		return nil, finding.New(finding.MessageOther, finding.Fact("SOAP Body", "must hold one message"))
	}
	return body.Elements("", "")[0], nil
}

// WriteArtifactResolve asks for the message behind an artifact (SAML core
// §3.5.1), signed.
func WriteArtifactResolve(id, issuer, destination, artifact string, at time.Time, pair *keys.Pair) ([]byte, error) {
	root := samlp("ArtifactResolve").Declare("samlp", NSProtocol).Declare("saml", NSAssertion).Set("ID",
		id).Set("Version", "2.0").
		Set("IssueInstant", formatTime(at)).Set("Destination", destination).Add(saml("Issuer").AddText(issuer),
		samlp("Artifact").AddText(artifact))
	if err := xmlsec.Sign(root, 1, pair.Signer(), pair.Certificate.DER); err != nil {
		return nil, err
	}
	return envelope(root), nil
}

// Resolve is an ArtifactResolve that was read.
type Resolve struct {
	ID       string
	Issuer   EntityID
	Artifact Artifact
	root     *xmlsec.Element
}

// ReadArtifactResolve reads a request for the message behind an artifact,
// unverified.
func ReadArtifactResolve(octets []byte) (*Resolve, error) {
	root, err := openEnvelope(octets)
	if err != nil {
		return nil, err
	}
	if !root.Is(NSProtocol, "ArtifactResolve") || root.Attr("Version") != "2.0" {
		return nil, finding.New(finding.MessageOther, finding.Compare("Message", "ArtifactResolve", kindOf(root)))
	}
	r := &Resolve{ID: root.Attr("ID"), Issuer: issuerOf(root), root: root}
	if !xmlsec.IsID(r.ID) {
		return nil, finding.New(finding.MessageUndecodable, finding.Fact("ID, which is no xs:ID", r.ID))
	}
	r.Artifact, err = ParseArtifact(childValue(root, NSProtocol, "Artifact"))
	return r, err
}

// Verify demands that the application signed the request: whoever asks gets an
// identity.
func (r *Resolve) Verify(sp *SP, p xmlsec.Policy) error {
	if !xmlsec.Signed(r.root) {
		return finding.New(finding.SignatureMissing, finding.Fact("ArtifactResolve", "must be signed"))
	}
	_, err := xmlsec.Verify(r.root, publicKeys(sp.Keys), p)
	return err
}

// WriteArtifactResponse answers an ArtifactResolve with a message, or with none
// (SAML core §3.5.2), signed.
func WriteArtifactResponse(id, inResponseTo string, issuer EntityID, message []byte, at time.Time,
	pair *keys.Pair) ([]byte,
	error) {
	root := samlp("ArtifactResponse").Declare("samlp", NSProtocol).Declare("saml", NSAssertion).Set("ID",
		id).Set("Version", "2.0").
		Set("IssueInstant", formatTime(at)).Set("InResponseTo", inResponseTo).Add(issuedBy(issuer),
		samlp("Status").Add(samlp("StatusCode").Set("Value", StatusSuccess)))
	if message != nil {
		doc, err := xmlsec.Parse(message, xmlsec.MessageLimits)
		if err != nil {
			return nil, err
		}
		root.Add(doc.Root)
	}
	if err := xmlsec.Sign(root, 1, pair.Signer(), pair.Certificate.DER, "xs"); err != nil {
		return nil, err
	}
	return envelope(root), nil
}

// ReadArtifactResponse takes the Response out of the answer of a provider's
// back channel. A signature on the envelope's message must verify if there is
// one; the Response is judged afterwards like one that came by POST. Its octets
// are for people to read.
func ReadArtifactResponse(octets []byte, idp *IDP, inResponseTo string, p xmlsec.Policy) (*Message, []byte, error) {
	root, err := openEnvelope(octets)
	if err != nil {
		return nil, nil, err
	}
	if !root.Is(NSProtocol, "ArtifactResponse") {
		return nil, nil, finding.New(finding.MessageOther, finding.Compare("Message", "ArtifactResponse", kindOf(root)))
	}
	if err := issuer(root, idp.EntityID, false); err != nil {
		return nil, nil, err
	}
	if to := root.Attr("InResponseTo"); to != inResponseTo {
		return nil, nil, finding.New(finding.InResponseToOther, finding.Compare("InResponseTo", inResponseTo, to))
	}
	if xmlsec.Signed(root) {
		if _, err := xmlsec.Verify(root, publicKeys(idp.Keys), p); err != nil {
			return nil, nil, err
		}
	}
	if err := status(root); err != nil {
		return nil, nil, err
	}
	inner := root.Child(NSProtocol, "Response")
	if inner == nil {
		return nil, nil, finding.New(finding.ArtifactUnresolved, finding.Fact("ArtifactResponse",
			"holds no Response: the artifact is unknown there, or was used before"))
	}
	var b bytes.Buffer
	if err := inner.Canonical(&b, xmlsec.Method{Inclusive: true}, nil); err != nil {
		return nil, nil, err
	}
	m, err := asResponse(inner)
	return m, b.Bytes(), err
}
