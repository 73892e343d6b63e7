package saml

import (
	"crypto"
	"strconv"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/xmlsec"
)

// AuthnRequest asks for a sign-in (SAML core §3.4.1).
type AuthnRequest struct {
	ID              string
	IssueInstant    time.Time
	Issuer          EntityID
	Destination     string
	ACS             string // AssertionConsumerServiceURL
	ACSIndex        int    // AssertionConsumerServiceIndex, -1 if absent
	ProtocolBinding string
	ForceAuthn      bool
	IsPassive       bool
	NameIDFormat    NameIDFormat // of NameIDPolicy
	Contexts        []string     // AuthnContextClassRef asked for
	Comparison      string       // of RequestedAuthnContext, "exact" if absent
	ProxyCount      int          // of Scoping, -1 if absent (SAML core §3.4.1.2)
	Requesters      []EntityID   // RequesterID of Scoping
	Providers       []EntityID   // ProviderID of the IDPList of Scoping (SAML core §3.4.1.3)
	Subject         string       // the person must be the one of this NameID
	ByArtifact      bool         // the answer is wanted by artifact
}

// Request is an AuthnRequest that was read, and nothing of it checked.
type Request struct {
	AuthnRequest
	root *xmlsec.Element
}

// ReadRequest reads an AuthnRequest. Its Issuer tells whose record to check it
// against.
func ReadRequest(octets []byte) (*Request, error) {
	doc, err := xmlsec.Parse(octets, xmlsec.MessageLimits)
	if err != nil {
		return nil, err
	}
	root := doc.Root
	if !root.Is(NSProtocol, "AuthnRequest") {
		return nil, finding.New(finding.MessageOther, finding.Compare("Message", "AuthnRequest", kindOf(root)))
	}
	if v := root.Attr("Version"); v != "2.0" {
		return nil, finding.New(finding.MessageOther, finding.Compare("Version", "2.0", v))
	}
	r := &Request{root: root, AuthnRequest: AuthnRequest{ID: root.Attr("ID"), Destination: root.Attr("Destination"),
		ACS:      root.Attr("AssertionConsumerServiceURL"),
		ACSIndex: -1, ProxyCount: -1, ProtocolBinding: root.Attr("ProtocolBinding"),
		ForceAuthn: parseBool(root.Attr("ForceAuthn")),
		IsPassive:  parseBool(root.Attr("IsPassive")), Issuer: issuerOf(root)}}
	if r.IssueInstant, err = optionalTime(root, "IssueInstant"); err != nil {
		return nil, err
	}
	if s := root.Attr("AssertionConsumerServiceIndex"); s != "" {
		if r.ACSIndex, err = strconv.Atoi(strings.TrimSpace(s)); err != nil || r.ACSIndex < 0 {
			return nil, finding.New(finding.MessageUndecodable, finding.Fact("AssertionConsumerServiceIndex", s))
		}
	}
	if s := root.Child(NSAssertion, "Subject"); s != nil {
		r.Subject = childValue(s, NSAssertion, "NameID")
	}
	if p := root.Child(NSProtocol, "NameIDPolicy"); p != nil {
		r.NameIDFormat = NameIDFormat(p.Attr("Format"))
	}
	if c := root.Child(NSProtocol, "RequestedAuthnContext"); c != nil {
		if r.Comparison = c.Attr("Comparison"); r.Comparison == "" {
			r.Comparison = "exact"
		}
		for _, ref := range c.Elements(NSAssertion, "AuthnContextClassRef") {
			v, _ := ref.Value()
			r.Contexts = append(r.Contexts, v)
		}
	}
	if sc := root.Child(NSProtocol, "Scoping"); sc != nil {
		if s, ok := sc.LookAttr("", "ProxyCount"); ok {
			if r.ProxyCount, err = strconv.Atoi(strings.TrimSpace(s)); err != nil || r.ProxyCount < 0 {
				return nil, finding.New(finding.MessageUndecodable, finding.Fact("ProxyCount", s))
			}
		}
		for _, id := range sc.Elements(NSProtocol, "RequesterID") {
			v, _ := id.Value()
			r.Requesters = append(r.Requesters, EntityID(v))
		}
		if list := sc.Child(NSProtocol, "IDPList"); list != nil {
			for _, e := range list.Elements(NSProtocol, "IDPEntry") {
				if id, ok := e.LookAttr("", "ProviderID"); ok && len(r.Providers) < mostHinted {
					r.Providers = append(r.Providers, EntityID(id))
				}
			}
		}
	}
	if r.ID == "" || r.Issuer == "" {
		return nil, finding.New(finding.IssuerMissing, finding.Fact("ID", r.ID), finding.Fact("Issuer", r.Issuer))
	}
	if err := r.bounded(); err != nil {
		return nil, err
	}
	if !xmlsec.IsID(r.ID) {
		return nil, finding.New(finding.MessageUndecodable, finding.Fact("ID, which is no xs:ID", r.ID))
	}
	return r, nil
}

// Bounds on what has to be remembered of a request, until it is answered.
const (
	maxRemembered = 1024 // octets of one value
	maxNamed      = 50   // contexts, requesters
)

// bounded refuses what no application sends and nobody wants to keep.
func (r *Request) bounded() error {
	many := append([]string{r.ID, string(r.NameIDFormat), r.Comparison, r.Subject}, r.Contexts...)
	for _, id := range r.Requesters {
		many = append(many, string(id))
	}
	for _, s := range many {
		if len(s) > maxRemembered {
			return finding.New(finding.MessageUndecodable, finding.Fact("A value of more than 1024 octets", s[:100]+"…"))
		}
	}
	if len(r.Contexts) > maxNamed || len(r.Requesters) > maxNamed {
		return finding.New(finding.MessageUndecodable, finding.Fact("AuthnContextClassRef and RequesterID",
			"more than 50 of one"))
	}
	return nil
}

// Demand is what a request must fit.
type Demand struct {
	SSO    string // the address it arrived at
	Signed bool   // it must be signed, even if the metadata allows it not to be
	Policy xmlsec.Policy
	Now    time.Time
	Skew   time.Duration
}

// ReadAuthnRequest reads and checks an AuthnRequest from a known sender.
func ReadAuthnRequest(in Inbound, sp *SP, d Demand, log *finding.Checks) (*AuthnRequest, error) {
	r, err := ReadRequest(in.Octets)
	if err != nil {
		return nil, log.Fail("AuthnRequest", err)
	}
	_, err = r.Check(in, sp, d, log)
	return &r.AuthnRequest, err
}

// Check holds a request against the record of the application it names, and
// finds the address that the answer goes to (SAML profiles §4.1.4.1, core
// §3.4.1). It reports whether the request is signed with a key on record.
func (r *Request) Check(in Inbound, sp *SP, d Demand, log *finding.Checks) (signed bool, err error) {
	if r.Issuer != sp.EntityID {
		return signed, log.Fail("Issuer", finding.New(finding.IssuerOther, finding.Compare("Issuer", sp.EntityID, r.Issuer)))
	}
	log.Pass("Issuer", string(r.Issuer))
	signed, err = verifyRequest(in, r.root, sp, d, log)
	if err != nil {
		return false, err
	}
	switch {
	case r.Destination == "" && signed:
		return signed, log.Fail("Destination", finding.New(finding.DestinationMissing, finding.Fact("Expected", d.SSO)))
	case r.Destination != "" && r.Destination != d.SSO:
		return signed, log.Fail("Destination", finding.New(finding.DestinationOther, finding.Compare("Destination", d.SSO,
			r.Destination)))
	}
	log.Pass("Destination", r.Destination)
	if age := d.Now.Sub(r.IssueInstant); signed && (age > 5*time.Minute+d.Skew || age < -5*time.Minute-d.Skew) {
		return signed, log.Fail("IssueInstant", finding.New(finding.RequestExpired,
			finding.Fact("IssueInstant", formatTime(r.IssueInstant)), finding.Fact("Now", formatTime(d.Now))))
	}
	if r.ProtocolBinding != "" && r.ProtocolBinding != BindingPOST && r.ProtocolBinding != BindingArtifact {
		return signed, log.Fail("ProtocolBinding", finding.New(finding.BindingUnsupported, finding.Compare("ProtocolBinding",
			BindingPOST, r.ProtocolBinding)))
	}
	acs, err := sp.chooseACS(&r.AuthnRequest)
	if err != nil {
		return signed, log.Fail("AssertionConsumerService", err)
	}
	r.ACS, r.ByArtifact = acs.Location, acs.Binding == BindingArtifact
	log.Pass("AssertionConsumerService", acs.Location)
	return signed, nil
}

func verifyRequest(in Inbound, root *xmlsec.Element, sp *SP, d Demand, log *finding.Checks) (bool, error) {
	keys := publicKeys(sp.Keys)
	embedded, demanded := xmlsec.Signed(root), d.Signed || sp.AuthnRequestsSigned
	if !embedded && !in.SignedRedirect() {
		if demanded {
			return false, log.Fail("Signature", finding.New(finding.SignatureMissing,
				finding.Fact("AuthnRequest", "must be signed, says the application's record")).From(finding.Application))
		}
		log.Pass("Signature", "none, none demanded")
		return false, nil
	}
	if len(keys) == 0 && !demanded {
		log.Note("Signature", finding.New(finding.RequestUnverified))
		return false, nil
	}
	if in.SignedRedirect() {
		warnings, err := in.VerifyRedirect(keys, d.Policy)
		if err != nil {
			return false, log.Fail("Signature", err)
		}
		for _, w := range warnings {
			log.Note("Signature", w)
		}
	}
	if embedded {
		v, err := xmlsec.Verify(root, keys, d.Policy)
		if err != nil {
			return false, log.Fail("Signature", err)
		}
		for _, w := range v.Warnings() {
			log.Note("Signature", w)
		}
	}
	log.Pass("Signature", "made with a key on record")
	return true, nil
}

// chooseACS gives the registered address that the request means: by exact
// address, by index, else the default (SAML profiles §4.1.4.1).
func (s *SP) chooseACS(r *AuthnRequest) (Endpoint, error) {
	var known []string
	for _, binding := range []string{BindingPOST, BindingArtifact} {
		if r.ProtocolBinding != "" && r.ProtocolBinding != binding {
			continue
		}
		for _, e := range s.ACS {
			if e.Binding != binding {
				continue
			}
			if r.ACS != "" && e.Location == r.ACS || r.ACS == "" && (r.ACSIndex >= 0 && e.Index == r.ACSIndex ||
				r.ACSIndex < 0 && binding == BindingArtifact && r.ProtocolBinding == binding) {
				return e, nil
			}
			known = append(known, e.Location)
		}
	}
	switch {
	case r.ACS != "":
		return Endpoint{}, finding.New(finding.ACSUnregistered, finding.Compare("AssertionConsumerServiceURL",
			strings.Join(known, " or "), r.ACS))
	case r.ACSIndex >= 0:
		return Endpoint{}, finding.New(finding.ACSUnregistered, finding.Compare("AssertionConsumerServiceIndex",
			strings.Join(known, " or "), strconv.Itoa(r.ACSIndex)))
	}
	if e, ok := s.DefaultACS(); ok && (r.ProtocolBinding == "" || r.ProtocolBinding == e.Binding) {
		return e, nil
	}
	return Endpoint{}, finding.New(finding.ACSUnregistered, finding.Fact("ProtocolBinding", r.ProtocolBinding))
}

// WriteAuthnRequest writes a request and puts it into its binding: to the
// Redirect address of the provider if it has one, else by POST. With a key the
// request is signed: in the address, or enveloped.
func WriteAuthnRequest(r AuthnRequest, to Endpoint, relayState string, pair *keys.Pair) (Outbound, error) {
	root := samlp("AuthnRequest").Declare("samlp", NSProtocol).Declare("saml", NSAssertion).
		Set("ID", r.ID).Set("Version", "2.0").Set("IssueInstant", formatTime(r.IssueInstant)).Set("Destination",
		to.Location).
		Set("AssertionConsumerServiceURL", r.ACS).Set("ProtocolBinding", map[bool]string{false: BindingPOST,
		true: BindingArtifact}[r.ByArtifact])
	if r.ForceAuthn {
		root.Set("ForceAuthn", "true")
	}
	if r.IsPassive {
		root.Set("IsPassive", "true")
	}
	root.Add(issuedBy(r.Issuer))
	if r.Subject != "" {
		root.Add(saml("Subject").Add(saml("NameID").AddText(r.Subject)))
	}
	policy := samlp("NameIDPolicy").Set("Format", string(r.NameIDFormat)).Set("AllowCreate", "true")
	root.Add(policy)
	if len(r.Contexts) > 0 {
		c := samlp("RequestedAuthnContext").Set("Comparison", r.Comparison)
		for _, class := range r.Contexts {
			c.Add(saml("AuthnContextClassRef").AddText(class))
		}
		root.Add(c)
	}
	if r.ProxyCount > 0 || len(r.Requesters)+len(r.Providers) > 0 {
		sc := samlp("Scoping")
		if r.ProxyCount > 0 {
			sc.Set("ProxyCount", strconv.Itoa(r.ProxyCount-1))
		}
		if len(r.Providers) > 0 {
			list := samlp("IDPList")
			for _, id := range r.Providers {
				list.Add(samlp("IDPEntry").Set("ProviderID", string(id)))
			}
			sc.Add(list)
		}
		for _, id := range r.Requesters {
			sc.Add(samlp("RequesterID").AddText(string(id)))
		}
		root.Add(sc)
	}
	if to.Binding == BindingRedirect {
		var key crypto.Signer
		if pair != nil {
			key = pair.Signer()
		}
		return ToRedirect(to.Location, "SAMLRequest", root.Octets(), relayState, key)
	}
	if pair != nil {
		if err := xmlsec.Sign(root, 1, pair.Signer(), pair.Certificate.DER); err != nil {
			return Outbound{}, err
		}
	}
	return ToPOST(to.Location, "SAMLRequest", root.Octets(), relayState), nil
}

// mostHinted is how many providers of an IDPList are looked at.
const mostHinted = 100
