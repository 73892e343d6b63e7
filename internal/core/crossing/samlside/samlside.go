// Package samlside implements the sides of a crossing for SAML 2.0: it turns the
// terms of package crossing into messages of package saml and back.
package samlside

import (
	"slices"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/core/xmlsec"
)

// Protocol gives both sides.
func Protocol() crossing.Protocol {
	return crossing.Protocol{Provider: provider{}, Application: application{}}
}

type provider struct{}

// Ask builds an AuthnRequest, signed where the provider's metadata wants it.
func (provider) Ask(g *federation.Gate, p *federation.Provider, a crossing.Asked, handle string) (crossing.Departure, error) {
	to, ok := p.SAML.IDP.SSOBy("")
	if !ok {
		return crossing.Departure{}, finding.New(finding.MetadataNoEndpoint).From(finding.Provider)
	}
	var pair *keys.Pair
	if p.SAML.IDP.WantAuthnRequestsSigned {
		pair = g.SPKeys[0]
	}
	out, err := saml.WriteAuthnRequest(saml.AuthnRequest{ID: a.ID, IssueInstant: a.At, Issuer: p.SAML.Face.EntityID, ACS: p.SAML.Face.Address,
		ForceAuthn: a.Force, IsPassive: a.Passive, Contexts: a.Contexts, Comparison: a.Comparison}, to, handle, pair)
	return departure("AuthnRequest", out), err
}

// Verify checks a Response; see saml.OpenResponse and Opened.Check.
func (provider) Verify(g *federation.Gate, p *federation.Provider, octets []byte, asked *crossing.Asked, facts crossing.Facts, now time.Time) (crossing.Verification, error) {
	var v crossing.Verification
	opened, err := saml.OpenResponse(octets, p.SAML.IDP, xmlsec.Policy{}, &v.Reasons)
	if err != nil {
		return v, from(&v, err)
	}
	if id := opened.AssertionID(); id != "" {
		v.Consume = &crossing.Used{ID: id, Until: opened.Until(now, g.Skew)}
		if !facts.UsedKnown {
			return v, &crossing.Need{Used: id}
		}
		if facts.Used {
			return v, v.Reasons.Fail("Replay", finding.New(finding.AssertionReplayed, finding.Fact("Assertion", id)))
		}
		v.Reasons.Pass("Replay", "this assertion was not used before")
	}
	x := saml.Expect{EntityIDs: []string{p.SAML.Face.EntityID}, ACS: p.SAML.Face.Address, Now: now, Skew: g.Skew}
	if asked != nil {
		x.Request = &saml.Sent{ID: asked.ID, At: asked.At, ForceAuthn: asked.Force, Contexts: asked.Contexts, Comparison: asked.Comparison}
	}
	a, err := opened.Check(x, &v.Reasons)
	if err != nil {
		return v, from(&v, err)
	}
	for _, k := range p.SAML.IDP.Keys {
		if k.Certificate.DER == nil {
			continue
		}
		for _, f := range k.Certificate.Findings(now) {
			v.Reasons.Note("Certificate", f.From(finding.Provider))
		}
	}
	v.Answer = &crossing.Answer{Subject: profile.Subject(a.NameID), SessionIndex: a.SessionIndex, AuthnInstant: a.AuthnInstant,
		Context: a.Context, Authorities: a.Authorities, Until: a.SessionNotOnOrAfter}
	v.Answer.NoProxy, v.Answer.ProxyAudiences = a.NoProxy, a.ProxyAudiences
	for _, at := range a.Attributes {
		v.Answer.Attributes = append(v.Answer.Attributes, profile.Attribute(at))
	}
	return v, nil
}

// from says in the last reason and the error that the sender was the provider.
func from(v *crossing.Verification, err error) error {
	f := finding.Of(err)
	if f == nil {
		return err
	}
	f = f.From(finding.Provider)
	if n := len(v.Reasons); n > 0 && v.Reasons[n-1].Finding != nil {
		v.Reasons[n-1].Finding = f
	}
	return f
}

type application struct{}

// Unasked gives the default consumer address, for an unsolicited Response.
func (application) Unasked(a *federation.Application) (crossing.Reply, error) {
	e, ok := a.SAML.SP.DefaultACS()
	if !ok {
		return crossing.Reply{}, finding.New(finding.ACSUnregistered)
	}
	return crossing.Reply{Address: e.Location}, nil
}

// lifetime of assertions for applications.
const lifetime = 5 * time.Minute

// Build builds a Response by POST with a signed assertion.
func (application) Build(g *federation.Gate, a *federation.Application, r crossing.Reply, out profile.Released, ans *crossing.Answer, f crossing.Fresh, now time.Time) (crossing.Departure, error) {
	if r.Format != "" && r.Format != saml.FormatUnspecified && r.Format != out.Subject.Format {
		return crossing.Departure{}, finding.New(finding.NameIDPolicyUnmet, finding.Compare("Format", r.Format, out.Subject.Format))
	}
	msg := saml.Answer{ResponseID: f.Message, AssertionID: f.Assertion, At: now, Lifetime: lifetime, Issuer: g.IDP.EntityID,
		Destination: r.Address, InResponseTo: r.InReplyTo, Audience: a.EntityID(), NameID: saml.NameID(out.Subject),
		AuthnInstant: ans.AuthnInstant, SessionIndex: f.Session, SessionNotOnOrAfter: ans.Until, Context: ans.Context,
		Authorities: ans.Authorities}
	for _, at := range out.Attributes {
		msg.Attributes = append(msg.Attributes, saml.Attribute(at))
	}
	octets, err := saml.WriteResponse(msg, g.IDPKeys[0])
	if err != nil {
		return crossing.Departure{}, err
	}
	return departure("Response", saml.ToPOST(r.Address, "SAMLResponse", octets, r.State)), nil
}

// statuses are the second-level status codes of what an application should hear
// (SAML core §3.2.2.2).
var statuses = map[finding.Code][2]string{
	finding.PassiveImpossible: {saml.StatusResponder, saml.StatusNoPassive},
	finding.NameIDPolicyUnmet: {saml.StatusRequester, saml.StatusInvalidNameIDPolicy},
	finding.ResponseStatus:    {saml.StatusResponder, saml.StatusAuthnFailed},
	finding.ProxyForbidden:    {saml.StatusResponder, saml.StatusRequestDenied},
}

// Refuse builds a Response with a status, where the standard has one for it and
// the application asked.
func (application) Refuse(g *federation.Gate, a *federation.Application, r crossing.Reply, why *finding.Finding, f crossing.Fresh, now time.Time) (crossing.Departure, bool, error) {
	status, ok := statuses[why.Code]
	if !ok || r.InReplyTo == "" {
		return crossing.Departure{}, false, nil
	}
	octets, err := saml.WriteStatus(saml.Answer{ResponseID: f.Message, At: now, Issuer: g.IDP.EntityID, Destination: r.Address, InResponseTo: r.InReplyTo},
		status[0], status[1], why.Title, g.IDPKeys[0])
	if err != nil {
		return crossing.Departure{}, false, err
	}
	return departure("Response", saml.ToPOST(r.Address, "SAMLResponse", octets, r.State)), true, nil
}

func departure(message string, out saml.Outbound) crossing.Departure {
	d := crossing.Departure{Message: message, Binding: out.Binding, Location: out.Location, Octets: out.Octets}
	for _, f := range out.Form {
		d.Form = append(d.Form, crossing.Field(f))
	}
	return d
}

// Request turns a checked AuthnRequest into the terms of a crossing.
func Request(r *saml.AuthnRequest, relayState string) (crossing.Reply, crossing.Wish) {
	return crossing.Reply{InReplyTo: r.ID, Address: r.ACS, State: relayState, Format: r.NameIDFormat},
		crossing.Wish{Force: r.ForceAuthn, Passive: r.IsPassive, Contexts: slices.Clone(r.Contexts), Comparison: r.Comparison}
}
