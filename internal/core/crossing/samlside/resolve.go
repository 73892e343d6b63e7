package samlside

import (
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/policy"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/core/xmlsec"
)

// Resolution is an application's request for the message behind an artifact.
type Resolution struct {
	App   federation.Name
	Key   string // under which the message is held
	id    string
	face  Face
	pairs federation.KeySet
}

// Resolve reads and checks an ArtifactResolve, which must be signed: whoever
// asks gets an identity (SAML core §3.5.1). own is the application whose own face
// was asked, "" for the shared one.
func Resolve(s *federation.Snapshot, own string, octets []byte, now time.Time) (*Resolution, error) {
	r, err := saml.ReadArtifactResolve(octets)
	if err != nil {
		return nil, err
	}
	unknown := finding.New(finding.ApplicationUnknown, issuerFact(r.Issuer)...)
	app, ok := s.ApplicationBy(Name, string(r.Issuer))
	if own != "" {
		app, ok = s.Application(federation.Name(own))
	}
	if !ok {
		return nil, unknown
	}
	side, ok := app.Side.(*Application)
	if !ok || own != "" && (!side.OwnFace || side.SP.EntityID != r.Issuer) {
		return nil, unknown
	}
	if err := policy.Open(app, now); err != nil {
		return nil, err
	}
	if err := r.Verify(side.SP, xmlsec.Policy{AllowSHA1: side.AllowSHA1}); err != nil {
		return nil, err
	}
	out := &Resolution{App: app.Name, Key: string(r.Artifact.Handle[:]), id: r.ID}
	out.face, out.pairs = side.face(&s.Gate, app, own == "")
	return out, nil
}

// Answer writes an ArtifactResponse with the message, or with none (SAML core
// §3.5.2). id is that of the new message.
func (r *Resolution) Answer(id string, message []byte, at time.Time) ([]byte, error) {
	return saml.WriteArtifactResponse(id, r.id, r.face.EntityID, message, at, r.pairs.Current)
}
