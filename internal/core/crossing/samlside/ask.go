package samlside

import (
	"crypto"
	"encoding/json"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/core/xmlsec"
)

// asked is what is kept of an AuthnRequest until the answer comes.
type asked struct {
	ID string `json:"id"`
}

// heard is how far the judging of an answer is, within one turn.
type heard struct {
	message  *saml.Message // read
	opened   *saml.Opened  // its signatures held
	resolve  string        // ID of the ArtifactResolve under way
	indirect bool          // it came through the back channel
	tried    bool          // it was looked up whether too much could not be decrypted
	fresh    bool          // it was looked up that the assertion was not used before
}

// Step asks the provider, and judges its answer (SAML profiles §4.1.4).
func (p *Provider) Step(in crossing.In) crossing.Out {
	if in.Begins {
		return p.ask(in)
	}
	var h heard
	if in.Held != nil {
		h = in.Held.(heard)
	}
	if h.message == nil && in.Event.Arrival != nil {
		h.message, _ = in.Event.Arrival.Message.(*saml.Message)
		if p.SharedFace != (in.Event.Arrival.Record == "") {
			return refused(in, h, finding.New(finding.ProviderUnknown, in.Event.Arrival.Says...))
		}
	}
	_, replied := crossing.Fact(in.Facts, &crossing.Call{})
	switch {
	case h.message == nil && !replied:
		return p.resolve(in, h)
	case h.message == nil:
		return p.resolved(in, h)
	case h.opened == nil:
		return p.open(in, h)
	}
	return p.judge(in, h)
}

func refused(in crossing.In, h heard, err error) crossing.Out {
	return crossing.Out{Own: in.Own, Held: h, Err: err}
}

// ask plans an AuthnRequest, signed where the provider's metadata wants it.
func (p *Provider) ask(in crossing.In) crossing.Out {
	binding, _ := p.binding()
	to, ok := p.IDP.SSOBy(binding)
	if !ok {
		return crossing.Out{Err: finding.New(finding.MetadataNoEndpoint)}
	}
	id := "_" + in.Facts.New
	w, face := in.Wish, p.face(in.Gate)
	plan := ask{to: to, handle: in.Crossing, signed: p.SignRequests || p.IDP.WantAuthnRequestsSigned,
		request: saml.AuthnRequest{ID: id, IssueInstant: in.Now.UTC(), Issuer: face.EntityID, ACS: face.Address,
			ForceAuthn: w.Force || w.MaxAge > 0, IsPassive: w.Passive, Contexts: w.Contexts, Comparison: w.Comparison,
			ProxyCount: w.Hops,
			Requesters: as[saml.EntityID](w.Requesters), ByArtifact: p.UseArtifact, NameIDFormat: p.AskNameIDFormat}}
	if slices.ContainsFunc(w.Contexts, func(c string) bool { return !xmlsec.IsText(c) }) {
		return crossing.Out{Err: finding.New(finding.ContextImpossible,
			finding.Fact("Context", "has characters that cannot stand in XML"))}
	}
	hint, told := p.hint(w.Hints)
	plan.request.Subject = hint
	own, err := json.Marshal(asked{ID: id})
	out := crossing.Out{Own: own, Handle: id, Next: &crossing.Leave{To: crossing.Provider, Plan: plan}, Err: err}
	if !told {
		out.Unsaid = append(out.Unsaid, "whom to sign in as")
	}
	return out
}

// Inquires is the NameID format that it is asked for.
func (p *Provider) Inquires() string { return "NameIDPolicy Format " + string(p.AskNameIDFormat) }

// mostHint bounds in octets what a request names as its Subject.
const mostHint = 256

// hint is the name that a request can carry as its Subject, and whether nothing
// expected is lost by that. A provider must then answer for that person or not at
// all (SAML core §3.4.1), so it goes only where the record says so.
func (p *Provider) hint(expected []string) (name string, told bool) {
	if len(expected) == 0 {
		return "", true
	}
	name = expected[0]
	bare := strings.IndexFunc(name, func(r rune) bool { return !unicode.IsPrint(r) }) < 0
	if !p.AskSubject || len(expected) > 1 || len(name) > mostHint || !utf8.ValidString(name) || !bare {
		return "", false
	}
	return name, true
}

// ask is the plan of an AuthnRequest.
type ask struct {
	request saml.AuthnRequest
	to      saml.Endpoint
	handle  string
	signed  bool
}

// Render makes it.
func (a ask) Render(g *federation.Gate, _ crossing.Made) (crossing.Rendered, error) {
	var pair *keys.Pair
	if a.signed {
		pair = g.Keys[SignsRequests].Current
	}
	out, err := saml.WriteAuthnRequest(a.request, a.to, a.handle, pair)
	return crossing.Rendered{Departure: departure("AuthnRequest", out)}, err
}

// Sent says what is asked for.
func (a ask) Sent() []federation.Value {
	r := a.request
	out := federation.Labelled("Issuer", string(r.Issuer), "Destination", a.to.Location, labelACS, r.ACS,
		"NameIDPolicy Format", string(r.NameIDFormat),
		"Subject NameID", r.Subject)
	if r.ForceAuthn {
		out = append(out, federation.Labelled("ForceAuthn", "true")...)
	}
	if r.IsPassive {
		out = append(out, federation.Labelled("IsPassive", "true")...)
	}
	for _, c := range r.Contexts {
		out = append(out, federation.Labelled("AuthnContextClassRef, "+r.Comparison, c)...)
	}
	for _, id := range r.Requesters {
		out = append(out, federation.Labelled("RequesterID", string(id))...)
	}
	return append(out, federation.Labelled("Signed", map[bool]string{true: "yes", false: "no"}[a.signed])...)
}

func departure(message string, out saml.Outbound) crossing.Departure {
	d := crossing.Departure{Message: message, Binding: out.Binding, Location: out.Location, Octets: out.Octets}
	for _, f := range out.Form {
		d.Form = append(d.Form, crossing.Field(f))
	}
	return d
}

// resolve plans to exchange an artifact for the Response behind it (SAML bindings
// §3.6).
func (p *Provider) resolve(in crossing.In, h heard) crossing.Out {
	a, ok := in.Event.Arrival.Message.(artifact)
	if !ok {
		return refused(in, h, finding.New(finding.MessageOther))
	}
	if !p.UseArtifact {
		return refused(in, h, finding.New(finding.ArtifactUnresolved,
			finding.Fact("Artifact", "the provider's record does not ask for artifacts")))
	}
	address, err := p.IDP.Resolver(a.Artifact)
	if err != nil {
		return refused(in, h, err)
	}
	h.resolve = "_" + in.Facts.New
	return crossing.Out{Own: in.Own, Held: h, Next: crossing.Lack(&crossing.Call{Name: "ArtifactResolve",
		Binding: saml.BindingSOAP, Address: address, Limit: 1 << 20,
		Unreached: finding.ArtifactUnresolved, Plan: resolve{id: h.resolve, issuer: string(p.face(in.Gate).EntityID),
			address: address, artifact: a.text, at: in.Now}})}
}

// resolve is the plan of an ArtifactResolve.
type resolve struct {
	id, issuer, address, artifact string
	at                            time.Time
}

// Render makes it.
func (r resolve) Render(g *federation.Gate, _ crossing.Made) (crossing.CallOctets, error) {
	octets, err := saml.WriteArtifactResolve(r.id, r.issuer, r.address, r.artifact, r.at, g.Keys[SignsRequests].Current)
	return crossing.CallOctets{Body: octets, Shown: octets,
		Header: map[string]string{"Content-Type": "text/xml; charset=utf-8",
			"SOAPAction": `"http://www.oasis-open.org/committees/security"`}}, err
}

// resolved takes the Response out of what came back.
func (p *Provider) resolved(in crossing.In, h heard) crossing.Out {
	reply, _ := crossing.Fact(in.Facts, &crossing.Call{})
	if f := reply.Fail; f != nil {
		return refused(in, h, f)
	}
	m, octets, err := saml.ReadArtifactResponse(reply.Octets, p.IDP, h.resolve, xmlsec.Policy{AllowSHA1: p.AllowSHA1})
	st := &crossing.TraceStep{From: crossing.Provider, To: crossing.GateLane, Name: "Response",
		Binding: saml.BindingArtifact, Octets: string(octets)}
	if st.Octets == "" {
		st.Octets = string(reply.Octets)
	}
	if err != nil {
		out := refused(in, h, err)
		out.Replied = st
		return out
	}
	st.Checks.Pass("Artifact", "exchanged for the Response through the back channel")
	h.message, h.indirect = m, true
	return crossing.Out{Own: in.Own, Held: h, Replied: st, Find: []string{m.InResponseTo}}
}

// open checks the signatures. A flood of messages that cannot be decrypted may be
// somebody asking an oracle: after a few, none from that network is tried for a
// while. Others are not held up, or anybody could close a provider's way in.
func (p *Provider) open(in crossing.In, h heard) crossing.Out {
	key := "decrypt " + string(in.Provider.Name)
	if h.message.Encrypted && !h.tried {
		many, known := crossing.Fact(in.Facts, crossing.TooOften{})
		if !known {
			return crossing.Out{Own: in.Own, Held: h, Next: crossing.Lack(crossing.TooOften{What: key})}
		}
		h.tried = true
		if many {
			return refused(in, h, finding.New(finding.DecryptionFailed))
		}
	}
	trust := saml.Trust{Policy: xmlsec.Policy{AllowSHA1: p.AllowSHA1}, AllowCBC: p.AllowCBC,
		SignedAssertion: p.RequireSignedAssertion, Strict: p.StrictCertificates, Now: in.Now}
	for _, k := range in.Gate.Keys[EncryptedTo].All() {
		if d, ok := k.Signer().(crypto.Decrypter); ok {
			trust.Decrypters = append(trust.Decrypters, d)
		}
	}
	out := crossing.Out{Own: in.Own}
	opened, err := h.message.Open(p.IDP, trust, &out.Checks)
	if err != nil {
		out.Held, out.Err = h, err
		if finding.Is(err, finding.DecryptionFailed) {
			out.Effects = append(out.Effects, crossing.Tried{Key: key})
		}
		return out
	}
	h.opened = opened
	out.Held, out.Opened, out.Verified = h, opened.Decrypted(), opened.Proved()
	if id := opened.AssertionID(); id != "" {
		out.Until = opened.Until(in.Gate.Skew)
		// It counts only once, whatever the rest comes to.
		once := crossing.Once{Provider: in.Provider.Name, ID: id, Until: out.Until}
		if least := in.Now.Add(time.Hour); once.Until.Before(least) {
			once.Until = least
		}
		out.Effects = append(out.Effects, once)
		out.Next = crossing.Lack(crossing.WasUsed{Once: once})
		return out
	}
	next := p.judge(in, h)
	next.Checks, next.Verified = append(out.Checks, next.Checks...), out.Verified
	return next
}

// judge holds the answer against what was asked.
func (p *Provider) judge(in crossing.In, h heard) crossing.Out {
	out := crossing.Out{Own: in.Own, Held: h, Verified: h.opened.Proved()}
	fail := func(err error) crossing.Out {
		out.Err = err
		if finding.Is(err, finding.DecryptionFailed) {
			out.Effects = append(out.Effects, crossing.Tried{Key: "decrypt " + string(in.Provider.Name)})
		}
		return out
	}
	if id := h.opened.AssertionID(); id != "" {
		if used, _ := crossing.Fact(in.Facts, crossing.WasUsed{}); used {
			return fail(out.Checks.Fail("Replay", finding.New(finding.AssertionReplayed, finding.Fact("Assertion", id))))
		}
		out.Checks.Pass("Replay", "this assertion was not used before")
	}
	x := saml.Expect{EntityIDs: p.entityIDs(in.Gate), ACS: p.face(in.Gate).Address, Artifact: h.indirect, Now: in.Now,
		Skew: in.Gate.Skew, Unnamed: in.Provider.Mapping().Names()}
	if in.Own != nil {
		var a asked
		if err := json.Unmarshal(in.Own, &a); err != nil {
			return fail(err)
		}
		x.Request = &saml.Sent{ID: a.ID}
	}
	a, err := h.opened.Check(x, &out.Checks)
	if err != nil {
		return fail(err)
	}
	out.Answer = &crossing.Answer{SessionIndex: a.SessionIndex, Subject: subject(a.NameID),
		// Whoever proxies names the provider behind whoever it named (SAML core
		// §3.4.1.5.2).
		Authorities: append(a.Authorities, string(p.IDP.EntityID))}
	out.Answer.At, out.Answer.Context, out.Answer.Until = a.AuthnInstant, a.Context, a.SessionNotOnOrAfter
	out.Answer.NoProxy, out.Answer.ProxyAudiences = a.NoProxy, a.ProxyAudiences
	for _, at := range a.Attributes {
		out.Answer.Attributes = append(out.Answer.Attributes, received(at))
	}
	return out
}

// Unproved reads a pasted Response or assertion.
func (p *Provider) Unproved(text string) (*crossing.Answer, error) {
	a, err := saml.Unproved(text)
	if err != nil {
		return nil, err
	}
	out := &crossing.Answer{Subject: subject(a.NameID)}
	for _, at := range a.Attributes {
		out.Attributes = append(out.Attributes, received(at))
	}
	return out, nil
}

// subject is the name that a provider gave, inside the gate.
func subject(n saml.NameID) profile.Subject {
	return profile.Subject{Format: string(n.Format), NameQualifier: n.NameQualifier, SPNameQualifier: n.SPNameQualifier,
		Value:     n.Value,
		Transient: n.Format == saml.FormatTransient}
}

func nameID(s profile.Subject) saml.NameID {
	return saml.NameID{Format: saml.NameIDFormat(s.Format), NameQualifier: s.NameQualifier,
		SPNameQualifier: s.SPNameQualifier,
		Value:           s.Value}
}
