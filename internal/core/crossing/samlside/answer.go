package samlside

import (
	"encoding/hex"
	"encoding/json"
	"io"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/core/xmlsec"
)

// reply is how and where the application wants its answer.
type reply struct {
	InReplyTo string            `json:"inReplyTo,omitempty"`
	Address   string            `json:"address"`
	State     string            `json:"state,omitempty"`
	Format    saml.NameIDFormat `json:"format,omitempty"` // of NameIDPolicy
	Held      bool              `json:"held,omitempty"`   // wanted by artifact
	Shared    bool              `json:"shared,omitempty"` // the face that applications share was asked
}

// Receive checks an AuthnRequest (SAML profiles §4.1.4.1). An application that
// allows no proxy can never get an answer from the gate, which is one; the
// request says so then (SAML core §3.4.1.5.1).
func (a *Application) Receive(g *federation.Gate, r *federation.Application, in *crossing.Arrival,
	now time.Time) (out crossing.Request, log finding.Checks, err error) {
	q, ok := in.Message.(request)
	shared := in.Record == ""
	if !ok || !shared && !a.OwnFace {
		return out, log, finding.New(finding.ApplicationUnknown, in.Says...)
	}
	face, _ := a.face(g, r, shared)
	if out.Verified, err = q.Check(q.in, a.SP, saml.Demand{SSO: face.Address, Signed: a.RequireSignedRequests,
		Policy: xmlsec.Policy{AllowSHA1: a.AllowSHA1}, Now: now, Skew: g.Skew}, &log); err != nil {
		return out, log, err
	}
	out.Moved = !shared && !a.Moved
	out.Wish = crossing.Wish{Force: q.ForceAuthn, Passive: q.IsPassive, Contexts: slices.Clone(q.Contexts),
		Comparison: q.Comparison, Subject: q.Subject}
	out.Wish.Named = texts(q.Providers)
	if q.ProxyCount >= 0 || len(q.Requesters) > 0 {
		out.Wish.Hops, out.Wish.Requesters = max(q.ProxyCount, 0), texts(append(slices.Clone(q.Requesters), q.Issuer))
	}
	if q.ProxyCount == 0 {
		out.Unmet = finding.New(finding.ScopingUnmet, finding.Fact("ProxyCount", "0"))
	}
	out.Values = federation.Labelled("NameIDPolicy Format", string(q.NameIDFormat), "Answer by",
		short(map[bool]string{true: saml.BindingArtifact, false: saml.BindingPOST}[q.ByArtifact]))
	out.Own, err = json.Marshal(reply{InReplyTo: q.ID, Address: q.ACS, State: q.in.RelayState, Format: q.NameIDFormat,
		Held: q.ByArtifact, Shared: shared})
	return out, log, err
}

// Unasked gives the default consumer address, for an unsolicited Response, by
// artifact where nothing else is taken. The
// target goes along as RelayState; it has to lie at the application.
func (a *Application) Unasked(_ *federation.Gate, r *federation.Application, at crossing.Landing) (json.RawMessage,
	error) {
	e, ok := a.SP.DefaultACS()
	if !ok {
		return nil, finding.New(finding.ACSUnregistered)
	}
	target := at.Target
	if target != "" && !at.OnRecord && !a.allows(target) {
		return nil, finding.New(finding.TargetForeign, finding.Fact("RelayState", finding.Clip(target)),
			finding.Fact("Application", e.Location))
	}
	return json.Marshal(reply{Address: e.Location, State: target, Shared: a.byShared(),
		Held: e.Binding == saml.BindingArtifact})
}

// Lands takes any text for the RelayState.
func (a *Application) Lands(string) error { return nil }

// allows reports whether an address to go on to lies at the application: same
// scheme, host and port as one of its consumer addresses.
func (a *Application) allows(target string) bool {
	u, err := url.Parse(target)
	if err != nil || u.User != nil || strings.ContainsAny(target, "\\\r\n\t ") || len(target) > saml.MaxRelayState {
		return false
	}
	return slices.ContainsFunc(a.SP.ACS, func(e saml.Endpoint) bool {
		v, err := url.Parse(e.Location)
		return err == nil && u.Scheme == v.Scheme && federation.SameHost(u.Host, v.Host)
	})
}

// lifetime of assertions for applications.
const lifetime = 5 * time.Minute

// answer is the plan of a Response.
type answer struct {
	side  *Application
	app   *federation.Application
	reply reply
	msg   saml.Answer // without IDs
	name  profile.Name
	// attributes are those of msg, inside the gate.
	attributes []profile.Attribute
	pair       bool // of the shared face
	notes      finding.Checks
	encKey     *saml.Key
}

// Naming is the NameID that the application wants: in the format its request asks
// for, else its record, else as the provider gave it (SAML core §3.4.1.1, §8.3).
func (a *Application) Naming(_ *federation.Application, own json.RawMessage) (profile.Wanted, error) {
	var r reply
	if err := json.Unmarshal(own, &r); err != nil {
		return profile.Wanted{}, err
	}
	format := r.Format
	if format.Unspecified() {
		format = a.NameIDFormat
	}
	w := profile.Wanted{Kind: profile.Unoffered, Word: string(format)}
	switch format {
	case "":
		w.Kind = profile.Given
	case saml.FormatUnspecified:
		w.Kind = profile.Bare
	case saml.FormatTransient:
		w.Kind = profile.Passing
	case saml.FormatPersistent:
		w.Kind, w.For = profile.Lasting, string(a.SP.EntityID)
	case saml.FormatEmail:
		w.Kind, w.As = profile.Mail, string(format)
	}
	return w, nil
}

// nameIDOf is the NameID for a name. A name that is the gate's own says whose it
// is (SAML core §8.3.7, §8.3.8).
func (a *Application) nameIDOf(n profile.Name, issuer saml.EntityID) saml.NameID {
	own := saml.NameID{NameQualifier: string(issuer), SPNameQualifier: string(a.SP.EntityID), Value: n.Value}
	switch n.Kind {
	case profile.Bare:
		return saml.NameID{Format: saml.FormatUnspecified, Value: n.Value}
	case profile.Passing:
		own.Format = saml.FormatTransient
		return own
	case profile.Lasting:
		own.Format = saml.FormatPersistent
		return own
	case profile.Mail:
		if n.Format == "" {
			return saml.NameID{Format: saml.FormatEmail, Value: n.Value}
		}
	}
	return nameID(n.Subject)
}

// Answer plans a Response with an assertion.
func (a *Application) Answer(in crossing.AnswerIn) (crossing.Plan, error) {
	var r reply
	if err := json.Unmarshal(in.Own, &r); err != nil {
		return nil, err
	}
	face, _ := a.face(in.Gate, in.App, r.Shared)
	ans := in.Answer
	p := answer{side: a, app: in.App, reply: r, name: in.Released.Name, msg: saml.Answer{At: in.Now, Lifetime: lifetime,
		Issuer:      face.EntityID,
		Destination: r.Address, InResponseTo: r.InReplyTo, Audience: a.SP.EntityID,
		NameID: a.nameIDOf(in.Released.Name, face.EntityID), AuthnInstant: ans.When(), SessionNotOnOrAfter: ans.Until,
		Context: ans.Context, Authorities: ans.Authorities}}
	p.msg.SessionIndex = madeFor("session index", in)
	switch n := in.Released.Name; {
	case n.Kind == profile.Passing:
		p.msg.NameID.Value = madeFor("passing name", in)
	case n.Derived():
		p.msg.NameID.Value = crossing.Derive(in.Gate.Pairwise, in.Person.Identifier, n.For)
	}
	if err := p.writable(in); err != nil {
		return nil, err
	}
	for _, at := range p.attributes {
		p.msg.Attributes = append(p.msg.Attributes, sent(at))
	}
	if a.Encrypt {
		k := a.SP.EncryptionKeys()
		if len(k) == 0 {
			return nil, finding.New(finding.EncryptionMethod, finding.Fact("Key for encryption",
				"none in the application's metadata")).From(finding.Application)
		}
		p.encKey = &k[0]
	}
	return p, nil
}

// madeFor is a name that is made for one answer, and that tells nothing to anybody else (SAML core §8.3.8, §2.7.2).
func madeFor(what string, in crossing.AnswerIn) string {
	return "_" + crossing.Derive(in.Gate.Pairwise, what+"\x1f"+in.New, string(in.App.ID))
}

// Issues is by what the application is told the person and the session.
func (p answer) Issues() crossing.Issue {
	out := crossing.Issue{Session: p.msg.SessionIndex, Name: subject(p.msg.NameID),
		As: p.msg.NameID.Value, Format: string(p.msg.NameID.Format)}
	if p.name.Derived() {
		out.Subject = p.msg.NameID.Value
	}
	return out
}

// Holds reports whether the application fetches the message by an artifact.
func (p answer) Holds() bool { return p.reply.Held }

// Holds likewise.
func (p refusal) Holds() bool { return p.reply.Held }

// writable takes what can stand in XML: a name that cannot is refused, and so is a mandatory
// attribute of which nothing is left; other values are left out.
func (p *answer) writable(in crossing.AnswerIn) error {
	n := p.msg.NameID
	for _, text := range []string{n.Value, string(n.Format), n.NameQualifier, n.SPNameQualifier} {
		if !xmlsec.IsText(text) {
			return finding.New(finding.ValueNotXML, finding.Fact("NameID", visible(text)))
		}
	}
	if !xmlsec.IsText(p.msg.Context) {
		p.notes.Note("AuthnContextClassRef", finding.New(finding.ValueNotXML,
			finding.Fact("acr", visible(p.msg.Context))))
		p.msg.Context = ""
	}
	p.msg.Authorities = slices.DeleteFunc(slices.Clone(p.msg.Authorities),
		func(s string) bool { return !xmlsec.IsText(s) })
	for _, a := range in.Released.Attributes {
		values := slices.DeleteFunc(slices.Clone(a.Values),
			func(v profile.Value) bool { return !xmlsec.IsText(v.String()) })
		named := xmlsec.IsText(a.Name) && xmlsec.IsText(a.Format) && xmlsec.IsText(a.Friendly)
		if named && len(values) == len(a.Values) {
			p.attributes = append(p.attributes, a)
			continue
		}
		f := finding.New(finding.ValueNotXML, finding.Fact("Attribute", visible(a.Name)))
		gone := !named || len(values) == 0
		if gone && slices.ContainsFunc(in.App.Mapping().Rules, func(r profile.Rule) bool {
			return r.Mandatory &&
				r.To.Name == a.Name
		}) {
			return f
		}
		p.notes.Note("Attribute "+visible(a.Name), f)
		if a.Values = values; !gone {
			p.attributes = append(p.attributes, a)
		}
	}
	return nil
}

// visible is a text with what cannot be written shown by its number.
func visible(s string) string {
	s = strconv.QuoteToASCII(finding.Clip(s))
	return s[1 : len(s)-1]
}

// Notes are values that were left out.
func (p answer) Notes() finding.Checks { return p.notes }

// Render makes it: identifiers first, then the assertion, signed and encrypted as the
// record says.
func (p answer) Render(g *federation.Gate, m crossing.Made) (crossing.Rendered, error) {
	_, set := p.side.face(g, p.app, p.reply.Shared)
	msg := p.msg
	var err error
	for _, id := range []*string{&msg.ResponseID, &msg.AssertionID} {
		if *id, err = newID(m.Random); err != nil {
			return crossing.Rendered{}, err
		}
	}
	s := p.side
	octets, err := saml.WriteResponse(msg, saml.Protection{Pair: set.Current, SignResponse: s.Sign == SignBoth,
		OnlyResponse: s.Sign == SignResponse,
		Random:       m.Random, EncryptTo: p.encKey, EncryptName: s.EncryptNames})
	if err != nil {
		return crossing.Rendered{}, err
	}
	out, err := deliver(p.msg.Issuer, p.reply, octets, m)
	out.Until = p.msg.At.Add(lifetime)
	return out, err
}

// Told are the attributes of the assertion.
func (p answer) Told() (out []crossing.Delivered, withheld []string) {
	for _, a := range p.attributes {
		out = append(out, crossing.Delivered{Place: "assertion", Name: a.Name, Format: a.Format, Friendly: a.Friendly,
			Values: a.Values})
	}
	return out, nil
}

// Usual is a request that asks for nothing in particular.
func (a *Application) Usual(*federation.Application) json.RawMessage { return json.RawMessage(`{}`) }

// Sent says what the application is told.
func (p answer) Sent() []federation.Value {
	out := federation.Labelled("Audience", string(p.msg.Audience), "InResponseTo", p.msg.InResponseTo, "NameID",
		p.name.String(),
		"NameID Format", string(p.msg.NameID.Format), "AuthnContextClassRef", p.msg.Context)
	for _, a := range p.attributes {
		out = append(out, federation.Value{Label: "Attribute " + a.Name, Value: profile.Joined(a.Values)})
	}
	encrypted := "no"
	if p.encKey != nil {
		encrypted = map[bool]string{true: "NameID and attributes", false: "assertion"}[p.side.EncryptNames]
	}
	return append(out, federation.Labelled("Signed", p.side.signed(), "Encrypted", encrypted)...)
}

// statuses are the status codes of what an application can hear (SAML core
// §3.2.2.2).
var statuses = map[crossing.Refusal][2]string{
	crossing.RefusedPassive: {saml.StatusResponder, saml.StatusNoPassive},
	crossing.RefusedAsking:  {saml.StatusResponder, saml.StatusNoPassive},
	crossing.RefusedContext: {saml.StatusResponder, saml.StatusNoAuthnContext},
	crossing.RefusedName:    {saml.StatusRequester, saml.StatusInvalidNameIDPolicy},
	crossing.RefusedHops:    {saml.StatusResponder, saml.StatusProxyCountExceeded},
	crossing.RefusedFailed:  {saml.StatusResponder, saml.StatusAuthnFailed},
	crossing.RefusedBusy:    {saml.StatusResponder, saml.StatusAuthnFailed},
	crossing.RefusedBroken:  {saml.StatusResponder, saml.StatusAuthnFailed},
	crossing.RefusedDenied:  {saml.StatusResponder, saml.StatusRequestDenied},
	crossing.RefusedPerson:  {saml.StatusResponder, saml.StatusUnknownPrincipal},
}

// refusal is the plan of a Response without assertion.
type refusal struct {
	side    *Application
	app     *federation.Application
	reply   reply
	status  [2]string
	message string
}

// Refuse plans a Response with a status, where the application asked.
func (a *Application) Refuse(_ *federation.Gate, r *federation.Application, own json.RawMessage, why crossing.Refusal,
	f *finding.Finding) crossing.Plan {
	var to reply
	status, ok := statuses[why]
	if err := json.Unmarshal(own, &to); err != nil || !ok || to.InReplyTo == "" {
		return nil
	}
	return refusal{side: a, app: r, reply: to, status: status, message: f.Title}
}

// Render makes it, signed as a whole.
func (p refusal) Render(g *federation.Gate, m crossing.Made) (crossing.Rendered, error) {
	face, set := p.side.face(g, p.app, p.reply.Shared)
	id, err := newID(m.Random)
	if err != nil {
		return crossing.Rendered{}, err
	}
	octets, err := saml.WriteStatus(saml.Answer{ResponseID: id, At: m.Now, Issuer: face.EntityID,
		Destination: p.reply.Address, InResponseTo: p.reply.InReplyTo},
		p.status[0], p.status[1], p.message, set.Current)
	if err != nil {
		return crossing.Rendered{}, err
	}
	return deliver(face.EntityID, p.reply, octets, m)
}

// Sent says what the application is told.
func (p refusal) Sent() []federation.Value {
	return federation.Labelled("InResponseTo", p.reply.InReplyTo, "StatusCode", p.status[0], "nested StatusCode",
		p.status[1],
		"StatusMessage", p.message)
}

// deliver hands a Response to the browser, or, where the application wants it
// so, only an artifact for it (SAML bindings §3.6).
func deliver(issuer saml.EntityID, r reply, octets []byte, m crossing.Made) (crossing.Rendered, error) {
	if !r.Held {
		return crossing.Rendered{Departure: departure("Response", saml.ToPOST(r.Address, "SAMLResponse", octets, r.State))},
			nil
	}
	var handle [20]byte
	if _, err := io.ReadFull(m.Random, handle[:]); err != nil {
		return crossing.Rendered{}, err
	}
	a := saml.NewArtifact(issuer, 0, handle)
	query := url.Values{"SAMLart": {a.String()}}
	if r.State != "" {
		query.Set("RelayState", r.State)
	}
	sep := "?"
	if strings.Contains(r.Address, "?") {
		sep = "&"
	}
	return crossing.Rendered{Departure: crossing.Departure{Message: "Response", Binding: saml.BindingArtifact,
		Location: r.Address + sep + query.Encode(), Octets: octets},
		Hold: &crossing.Hold{Key: string(handle[:]), Octets: octets, Until: m.Now.Add(heldLife)}}, nil
}

// heldLife is how long a message waits for an application's back channel.
const heldLife = 2 * time.Minute

// newID is an ID for a SAML message: 128 random bits after an underscore.
func newID(random io.Reader) (string, error) {
	var b [16]byte
	_, err := io.ReadFull(random, b[:])
	return "_" + hex.EncodeToString(b[:]), err
}
