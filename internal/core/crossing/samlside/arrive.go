package samlside

import (
	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/saml"
)

// request is an AuthnRequest that arrived, read once.
type request struct {
	*saml.Request
	in saml.Inbound
}

// artifact is one that a provider sent with the browser.
type artifact struct {
	saml.Artifact
	text string
}

// Request takes an AuthnRequest in. own is the application at whose own face it
// arrived, "" for the shared one; broken says why it could not be taken out of
// its binding.
func Request(in saml.Inbound, own string, broken error) *crossing.Arrival {
	a := &crossing.Arrival{Protocol: Name, From: crossing.Application, Record: federation.Name(own), Broken: broken,
		Indirect: in.Binding == saml.BindingPOST,
		Name:     "AuthnRequest", Binding: in.Binding, State: in.RelayState, Raw: crossing.Masked(in.Raw), Octets: in.Octets}
	if broken != nil {
		return a
	}
	r, err := saml.ReadRequest(in.Octets)
	if err != nil {
		a.Broken = err
		return a
	}
	a.Message, a.Says = request{r, in}, issuerFact(r.Issuer)
	a.Whose = func(s *federation.Snapshot) (federation.Name, bool) {
		if app, ok := s.ApplicationBy(Name, string(r.Issuer)); ok {
			return app.Name, true
		}
		return "", false
	}
	return a
}

// Response takes a Response in. own is the provider at whose own face it arrived,
// "" for the shared one.
func Response(in saml.Inbound, own string, broken error) *crossing.Arrival {
	a := &crossing.Arrival{Protocol: Name, From: crossing.Provider, Record: federation.Name(own), Broken: broken,
		Handles: []string{in.RelayState},
		Name:    "Response", Binding: in.Binding, State: in.RelayState, Raw: crossing.Masked(in.Raw), Octets: in.Octets,
		Says: []finding.Evidence{finding.Fact("Name", finding.Clip(own))}}
	if in.Binding == saml.BindingRedirect && broken == nil {
		a.Broken = finding.New(finding.ResponseRedirect)
	}
	if a.Broken != nil {
		return a
	}
	m, err := saml.ReadResponse(in.Octets)
	if err != nil {
		a.Broken = err
		return a
	}
	a.Message, a.Says = m, append(a.Says, issuerFact(m.Issuer)...)
	if m.InResponseTo != "" {
		a.Handles = []string{m.InResponseTo, in.RelayState}
	}
	a.Whose = func(s *federation.Snapshot) (federation.Name, bool) {
		if p, ok := s.ProviderBy(Name, string(m.Issuer)); ok {
			return p.Name, true
		}
		return "", false
	}
	return a
}

// Artifact takes an artifact in. At the shared address it says itself who made
// it.
func Artifact(text, relayState, own string) *crossing.Arrival {
	a := &crossing.Arrival{Protocol: Name, From: crossing.Provider, Record: federation.Name(own),
		Handles: []string{relayState},
		Name:    "Artifact", Binding: saml.BindingArtifact, State: relayState, Raw: text,
		Says: []finding.Evidence{finding.Fact("Name", finding.Clip(own))}}
	art, err := saml.ParseArtifact(text)
	if err != nil {
		a.Broken = err
		return a
	}
	a.Message = artifact{art, text}
	a.Says = append(a.Says, finding.Fact("Artifact", "made by no provider that is on record here"))
	a.Whose = func(s *federation.Snapshot) (federation.Name, bool) {
		for _, p := range s.Providers() {
			if side, ok := p.Side.(*Provider); ok && side.SharedFace && side.IDP.Made(art) {
				return p.Name, true
			}
		}
		return "", false
	}
	return a
}
