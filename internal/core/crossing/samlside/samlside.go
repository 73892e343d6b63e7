// Package samlside implements the sides of a crossing for SAML 2.0: it turns the
// terms of package crossing into messages of package saml and back.
package samlside

import (
	"crypto"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base32"
	"net/url"
	"slices"
	"strings"
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
	to, ok := p.SAML.IDP.SSOBy(map[string]string{"redirect": saml.BindingRedirect, "post": saml.BindingPOST}[p.RequestBinding])
	if !ok {
		return crossing.Departure{}, finding.New(finding.MetadataNoEndpoint).From(finding.Provider)
	}
	face := g.FaceTo(p)
	var pair *keys.Pair
	if p.SignRequests || p.SAML.IDP.WantAuthnRequestsSigned {
		pair = g.SPKeys.Current
	}
	out, err := saml.WriteAuthnRequest(saml.AuthnRequest{ID: a.ID, IssueInstant: a.At, Issuer: face.EntityID, ACS: face.Address,
		ForceAuthn: a.Force, IsPassive: a.Passive, Contexts: a.Contexts, Comparison: a.Comparison, ProxyCount: a.ProxyCount, Requesters: a.Requesters, ByArtifact: p.UseArtifact, NameIDFormat: p.AskNameIDFormat}, to, handle, pair)
	return departure("AuthnRequest", out), err
}

// Verify checks a Response; see saml.OpenResponse and Opened.Check.
func (provider) Verify(g *federation.Gate, p *federation.Provider, octets []byte, asked *crossing.Asked, facts crossing.Facts, now time.Time) (crossing.Verification, error) {
	var v crossing.Verification
	trust := saml.Trust{Policy: xmlsec.Policy{AllowSHA1: p.AllowSHA1}, AllowCBC: p.AllowCBC, SignedAssertion: p.RequireSignedAssertion, Strict: p.StrictCertificates, Now: now}
	for _, k := range g.EncKeys.All() {
		if d, ok := k.Signer().(crypto.Decrypter); ok {
			trust.Decrypters = append(trust.Decrypters, d)
		}
	}
	opened, err := saml.OpenResponse(octets, p.SAML.IDP, trust, &v.Reasons)
	if err != nil {
		return v, from(&v, err)
	}
	v.Opened = opened.Decrypted()
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
	x := saml.Expect{EntityIDs: g.EntityIDsTo(p), ACS: g.FaceTo(p).Address, Artifact: facts.BackChannel, Now: now, Skew: g.Skew}
	if asked != nil {
		x.Request = &saml.Sent{ID: asked.ID, At: asked.At, ForceAuthn: asked.Force, Contexts: asked.Contexts, Comparison: asked.Comparison}
	}
	a, err := opened.Check(x, &v.Reasons)
	if err != nil {
		return v, from(&v, err)
	}
	v.Answer = &crossing.Answer{Subject: profile.Subject(a.NameID), SessionIndex: a.SessionIndex, AuthnInstant: a.AuthnInstant,
		Context: a.Context, Until: a.SessionNotOnOrAfter}
	// Whoever proxies names the provider behind whoever it named (SAML core
	// §3.4.1.5.2).
	v.Answer.Authorities = append(a.Authorities, p.EntityID())
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
func (application) Build(g *federation.Gate, a *federation.Application, r crossing.Reply, out profile.Released, who crossing.Person, ans *crossing.Answer, f crossing.Fresh, now time.Time) (crossing.Departure, error) {
	face, set := g.FaceFor(a)
	name, err := nameFor(g, face.EntityID, a, r, out, who, f)
	if err != nil {
		return crossing.Departure{}, err
	}
	msg := saml.Answer{ResponseID: f.Message, AssertionID: f.Assertion, At: now, Lifetime: lifetime, Issuer: face.EntityID,
		Destination: r.Address, InResponseTo: r.InReplyTo, Audience: a.EntityID(), NameID: name,
		AuthnInstant: ans.AuthnInstant, SessionIndex: f.Session, SessionNotOnOrAfter: ans.Until, Context: ans.Context,
		Authorities: ans.Authorities}
	for _, at := range out.Attributes {
		msg.Attributes = append(msg.Attributes, saml.Attribute(at))
	}
	protect := saml.Protection{Pair: set.Current, SignResponse: a.Sign == federation.SignBoth, OnlyResponse: a.Sign == federation.SignResponse, Random: f.Random}
	if a.Encrypt {
		k := a.SAML.SP.EncryptionKeys()
		if len(k) == 0 {
			return crossing.Departure{}, finding.New(finding.EncryptionMethod, finding.Fact("Key for encryption", "none in the application's metadata")).From(finding.Application)
		}
		protect.EncryptTo, protect.EncryptName = &k[0], a.EncryptNames
	}
	octets, err := saml.WriteResponse(msg, protect)
	if err != nil {
		return crossing.Departure{}, err
	}
	return deliver(face, r, octets, f), nil
}

// statuses are the second-level status codes of what an application should hear
// (SAML core §3.2.2.2).
var statuses = map[finding.Code][2]string{
	finding.PassiveImpossible: {saml.StatusResponder, saml.StatusNoPassive},
	finding.NameIDPolicyUnmet: {saml.StatusRequester, saml.StatusInvalidNameIDPolicy},
	finding.ScopingUnmet:      {saml.StatusResponder, saml.StatusProxyCountExceeded},
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
	face, set := g.FaceFor(a)
	octets, err := saml.WriteStatus(saml.Answer{ResponseID: f.Message, At: now, Issuer: face.EntityID, Destination: r.Address, InResponseTo: r.InReplyTo},
		status[0], status[1], why.Title, set.Current)
	if err != nil {
		return crossing.Departure{}, false, err
	}
	return deliver(face, r, octets, f), true, nil
}

// deliver hands a Response to the browser, or, where the application wants it
// so, only an artifact for it (SAML bindings §3.6).
func deliver(face federation.Face, r crossing.Reply, octets []byte, f crossing.Fresh) crossing.Departure {
	if !r.Held {
		return departure("Response", saml.ToPOST(r.Address, "SAMLResponse", octets, r.State))
	}
	artifact := saml.NewArtifact(face.EntityID, 0, f.Handle)
	query := url.Values{"SAMLart": {artifact.String()}}
	if r.State != "" {
		query.Set("RelayState", r.State)
	}
	sep := "?"
	if strings.Contains(r.Address, "?") {
		sep = "&"
	}
	return crossing.Departure{Message: "Response", Binding: saml.BindingArtifact, Location: r.Address + sep + query.Encode(), Octets: octets, Held: string(artifact.Handle[:])}
}

func departure(message string, out saml.Outbound) crossing.Departure {
	d := crossing.Departure{Message: message, Binding: out.Binding, Location: out.Location, Octets: out.Octets}
	for _, f := range out.Form {
		d.Form = append(d.Form, crossing.Field(f))
	}
	return d
}

// Request turns a checked AuthnRequest into the terms of a crossing.
//
// An application that allows no proxy (ProxyCount 0) can never get an answer
// from the gate, which is one; the error says so (SAML core §3.4.1.5.1).
func Request(r *saml.AuthnRequest, relayState string) (crossing.Reply, crossing.Wish, error) {
	w := crossing.Wish{Force: r.ForceAuthn, Passive: r.IsPassive, Contexts: slices.Clone(r.Contexts), Comparison: r.Comparison}
	if r.ProxyCount >= 0 || len(r.Requesters) > 0 {
		w.ProxyCount, w.Requesters = max(r.ProxyCount, 0), append(slices.Clone(r.Requesters), r.Issuer)
	}
	var err error
	if r.ProxyCount == 0 {
		err = finding.New(finding.ScopingUnmet, finding.Fact("ProxyCount", "0"))
	}
	return crossing.Reply{InReplyTo: r.ID, Address: r.ACS, State: relayState, Format: r.NameIDFormat, Held: r.ByArtifact}, w, err
}

// nameFor gives the NameID for an application: in the format its request asks
// for, else its record, else as the provider gave it (SAML core §3.4.1.1, §8.3).
func nameFor(g *federation.Gate, issuer string, a *federation.Application, r crossing.Reply, out profile.Released, who crossing.Person, f crossing.Fresh) (saml.NameID, error) {
	format := r.Format
	if format == "" || format == saml.FormatUnspecified {
		format = a.NameIDFormat
	}
	given := saml.NameID(out.Subject)
	unmet := func(why string) error {
		return finding.New(finding.NameIDPolicyUnmet, finding.Fact("Format", format), finding.Fact("Cause", why))
	}
	switch format {
	case "":
		return given, nil
	case saml.FormatUnspecified:
		return saml.NameID{Format: format, Value: given.Value}, nil
	case saml.FormatTransient:
		return saml.NameID{Format: format, NameQualifier: issuer, SPNameQualifier: a.EntityID(), Value: f.Name}, nil
	case saml.FormatPersistent:
		if who.Identifier == "" {
			return given, unmet("the provider gave a transient name, so the person cannot be known again")
		}
		return saml.NameID{Format: format, NameQualifier: issuer, SPNameQualifier: a.EntityID(), Value: pairwise(g.Pairwise, who.Identifier, a.EntityID())}, nil
	case saml.FormatEmail:
		if given.Format == saml.FormatEmail {
			return given, nil
		}
		for _, at := range out.Attributes {
			if len(at.Values) == 1 && strings.Contains(at.Values[0], "@") && slices.Contains(mailNames, at.Name) {
				return saml.NameID{Format: format, Value: at.Values[0]}, nil
			}
		}
		return given, unmet("the provider gave no e-mail address")
	}
	return given, unmet("the gate does not offer it")
}

// mailNames are the usual names of the e-mail attribute.
var mailNames = []string{"urn:oid:0.9.2342.19200300.100.1.3", "mail", "email", "http://schemas.xmlsoap.org/ws/2005/05/identity/claims/emailaddress"}

// pairwise derives the persistent name of a person for one application: stable,
// opaque, and of no use to compare people across applications (SAML core §8.3.7).
func pairwise(secret []byte, person, application string) string {
	mac := hmac.New(sha256.New, secret)
	mac.Write([]byte(person + "\x1f" + application))
	return strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(mac.Sum(nil)[:20]))
}
