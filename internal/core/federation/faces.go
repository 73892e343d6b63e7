package federation

import (
	"strings"

	"innergate.example/innergate/internal/core/keys"
)

// KeySet is the key pairs of one of the gate's faces through a roll-over: the
// next one is announced in metadata before it is used, old ones are kept for
// what was encrypted to them.
type KeySet struct {
	Current *keys.Pair
	Next    *keys.Pair // nil if none is announced
	Old     []*keys.Pair
}

// Published are the certificates in metadata, the current one first.
func (k KeySet) Published() []keys.Certificate {
	out := []keys.Certificate{}
	for _, p := range []*keys.Pair{k.Current, k.Next} {
		if p != nil {
			out = append(out, p.Certificate)
		}
	}
	return out
}

// All are all pairs, the current one first.
func (k KeySet) All() []*keys.Pair {
	out := []*keys.Pair{k.Current}
	if k.Next != nil {
		out = append(out, k.Next)
	}
	return append(out, k.Old...)
}

// FaceFor is the gate as identity provider towards an application: the face all
// share, or the application's own.
func (g *Gate) FaceFor(a *Application) (Face, KeySet) {
	if !a.OwnFace {
		return g.IDP, g.IDPKeys
	}
	set := a.Keys
	if g.onlyCurrent {
		set.Next = nil
	}
	return Face{EntityID: a.OwnEntityID, Address: g.Base + "/saml/idp/app/" + string(a.Name) + "/sso"}, set
}

// ArtifactAddress is where an application resolves artifacts of a face.
func ArtifactAddress(face Face) string { return strings.TrimSuffix(face.Address, "/sso") + "/artifact" }

// FaceTo is the gate as service provider towards a provider: a face of its own,
// or the one that several providers share.
func (g *Gate) FaceTo(p *Provider) Face {
	if p.SharedFace {
		return Face{EntityID: g.Base + "/saml/sp", Address: g.Base + "/saml/sp/acs"}
	}
	return Face{EntityID: p.OwnEntityID, Address: p.SAML.Address}
}

// EntityIDsTo are the identities under which answers of a provider are taken:
// the current one, and the former one while moving.
func (g *Gate) EntityIDsTo(p *Provider) []string {
	ids := []string{g.FaceTo(p).EntityID}
	if p.FormerEntityID != "" {
		ids = append(ids, p.FormerEntityID)
	}
	return ids
}
