package gate

import (
	"context"
	"crypto/rand"
	"errors"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/core/xmlsec"
	"innergate.example/innergate/internal/store"
)

// heldLife is how long a message waits for an application's back channel.
const heldLife = 2 * time.Minute

func newHandle() (h [20]byte) {
	_, _ = rand.Read(h[:]) // never fails (crypto/rand)
	return h
}

// holdIn keeps a message for an application's back channel.
func (g *Gate) holdIn(tx *gorm.DB, app *federation.Application, d crossing.Departure) error {
	if d.Held == "" {
		return nil
	}
	return tx.Create(&store.HeldRow{Hash: store.Hash(d.Held), Application: string(app.Name), Expires: g.now().Add(heldLife).UTC(), Sealed: g.store.Seal("held", d.Octets)}).Error
}

// Artifact takes an artifact that a provider sent with the browser, exchanges it
// through the back channel, and goes on as with a Response by POST.
func (g *Gate) Artifact(ctx context.Context, b Browser, provider, artifact, relayState string) Outcome {
	in := saml.Inbound{Binding: saml.BindingArtifact, Raw: artifact, RelayState: relayState}
	p, ok := g.Snapshot().Provider(federation.Name(provider))
	if a, err := saml.ParseArtifact(artifact); provider == "" && err == nil {
		// At the shared address the artifact itself says who made it.
		for _, q := range g.Snapshot().Providers() {
			if q.SharedFace && q.SAML.IDP.Made(a) {
				p, ok = q, true
			}
		}
	}
	if !ok || !p.Enabled {
		return g.Response(ctx, b, provider, in, finding.New(finding.ArtifactUnresolved, finding.Fact("Artifact", "made by no provider that is on record here")))
	}
	var err error
	in.Octets, err = g.resolve(ctx, p, artifact)
	return g.Response(ctx, b, provider, in, err)
}

func (g *Gate) resolve(ctx context.Context, p *federation.Provider, artifact string) ([]byte, error) {
	a, err := saml.ParseArtifact(artifact)
	if err != nil {
		return nil, err
	}
	if !p.UseArtifact {
		return nil, finding.New(finding.ArtifactUnresolved, finding.Fact("Artifact", "the provider's record does not ask for artifacts"))
	}
	address, err := p.SAML.IDP.Resolver(a)
	if err != nil {
		return nil, err
	}
	snap, id := g.Snapshot(), messageID()
	ask, err := saml.WriteArtifactResolve(id, snap.Gate.FaceTo(p).EntityID, address, artifact, g.now(), snap.Gate.SPKeys.Current)
	if err != nil {
		return nil, err
	}
	answer, err := g.fetch.post(ctx, address, ask, 1<<20)
	if err != nil {
		return nil, err
	}
	return saml.ReadArtifactResponse(answer, p.SAML.IDP, id, xmlsec.Policy{AllowSHA1: p.AllowSHA1})
}

// ErrNotAnswered is given to a back channel that may not ask. The log says why.
var ErrNotAnswered = errors.New("this request is not answered")

// Resolve answers an application's back channel: the message behind an artifact,
// once, to the application it was made for. face names the application whose own
// face was asked.
func (g *Gate) Resolve(ctx context.Context, face string, octets []byte) ([]byte, error) {
	r, err := saml.ReadArtifactResolve(octets)
	if err != nil {
		return nil, g.notAnswered("", err)
	}
	snap := g.Snapshot()
	app, ok := snap.ApplicationByEntityID(r.Issuer)
	if face != "" {
		app, ok = snap.Application(federation.Name(face))
		ok = ok && app.OwnFace && app.EntityID() == r.Issuer
	}
	if !ok || !app.Enabled {
		return nil, g.notAnswered(r.Issuer, finding.New(finding.ApplicationUnknown, finding.Fact("Issuer", r.Issuer)))
	}
	if err := r.Verify(app.SAML.SP, xmlsec.Policy{AllowSHA1: app.AllowSHA1}); err != nil {
		return nil, g.notAnswered(r.Issuer, err)
	}
	var message []byte
	err = g.store.Write(ctx, func(tx *gorm.DB) error {
		var row store.HeldRow
		err := tx.Where("hash = ? AND application = ? AND expires > ?", store.Hash(string(r.Artifact.Handle[:])), string(app.Name), g.now().UTC()).Take(&row).Error
		if errors.Is(err, gorm.ErrRecordNotFound) {
			return nil // an empty answer, SAML core §3.5.2
		}
		if err != nil {
			return err
		}
		if message, err = g.store.Open("held", row.Sealed); err != nil {
			return err
		}
		return tx.Delete(&row).Error
	})
	if err != nil {
		return nil, err
	}
	own, set := snap.Gate.FaceFor(app)
	return saml.WriteArtifactResponse(messageID(), r.ID, own.EntityID, message, g.now(), set.Current)
}

func (g *Gate) notAnswered(issuer string, err error) error {
	g.log.Warn("a back channel was not answered", "issuer", issuer, "error", err)
	return ErrNotAnswered
}
