package saml

import (
	"crypto"
	"slices"
	"strconv"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/xmlsec"
)

// Expect is what an answer must fit.
type Expect struct {
	EntityIDs []EntityID // ours; the first is the current one
	ACS       string     // the address it arrived at
	Request   *Sent      // nil if nobody asked
	Artifact  bool       // it came through the back channel, not with the browser
	Unnamed   bool       // a NameID may be missing: an attribute was chosen as identifier
	Now       time.Time
	Skew      time.Duration // at most 5 minutes
}

// Sent is what must be remembered of an AuthnRequest to judge the answer.
type Sent struct {
	ID string `json:"id"`
}

// Assertion is what a checked answer says about a person.
type Assertion struct {
	ID                  string
	Issuer              EntityID
	NameID              NameID
	SessionIndex        string
	AuthnInstant        time.Time
	SessionNotOnOrAfter time.Time // zero if not limited
	Context             string    // AuthnContextClassRef
	Authorities         []string  // AuthenticatingAuthority
	Attributes          []Attribute
	NoProxy             bool     // ProxyRestriction Count="0"
	ProxyAudiences      []string // if any, the only ones it may be passed on to
}

// Trust is how far a provider's signatures and encryption are trusted.
type Trust struct {
	Policy          xmlsec.Policy
	Decrypters      []crypto.Decrypter // keys of ours that it may encrypt to
	AllowCBC        bool               // AES-CBC outside a verified Response signature
	SignedAssertion bool               // a signature on the Response alone is not enough
	Strict          bool               // certificates must be in date
	Now             time.Time
}

// Message is a Response that was read, and nothing of it checked.
type Message struct {
	InResponseTo string   // of the Response
	Issuer       EntityID // of the Response, else of its assertion
	Encrypted    bool     // something in it is
	root         *xmlsec.Element
}

// Opened is an answer whose signatures were checked and nothing else yet.
type Opened struct {
	root      *xmlsec.Element
	signed    bool // the Response itself
	assertion xmlsec.Verified
	status    error
	idp       *IDP
	trust     Trust
	decrypted []byte
}

// Proved reports whether a signature of the provider held: of a status alone
// there may be none.
func (o *Opened) Proved() bool { return o.status == nil || o.signed }

// Decrypted is the assertion as it was found when it had been encrypted, nil
// otherwise.
func (o *Opened) Decrypted() []byte { return o.decrypted }

// ReadResponse reads a Response. InResponseTo and Issuer, unverified, tell which
// crossing it may belong to, and whose record to check it against.
func ReadResponse(octets []byte) (*Message, error) {
	doc, err := xmlsec.Parse(octets, xmlsec.MessageLimits)
	if err != nil {
		return nil, err
	}
	return asResponse(doc.Root)
}

func asResponse(root *xmlsec.Element) (*Message, error) {
	if !root.Is(NSProtocol, "Response") {
		return nil, finding.New(finding.MessageOther, finding.Compare("Message", "Response", kindOf(root)))
	}
	if v := root.Attr("Version"); v != "2.0" {
		return nil, finding.New(finding.MessageOther, finding.Compare("Version", "2.0", v))
	}
	if id, ok := root.LookAttr("", "ID"); ok && !xmlsec.IsID(id) {
		return nil, finding.New(finding.MessageUndecodable, finding.Fact("ID, which is no xs:ID", id))
	}
	m := &Message{root: root, InResponseTo: root.Attr("InResponseTo"), Issuer: issuerOf(root)}
	if a := root.Child(NSAssertion, "Assertion"); a != nil && m.Issuer == "" {
		m.Issuer = issuerOf(a)
	}
	m.Encrypted = slices.ContainsFunc(root.Elements("", ""), holdsEncrypted)
	return m, nil
}

func holdsEncrypted(e *xmlsec.Element) bool {
	return e.Is(xmlsec.NSEnc, "EncryptedData") || slices.ContainsFunc(e.Elements("", ""), holdsEncrypted)
}

// OpenResponse reads a Response and opens it.
func OpenResponse(octets []byte, idp *IDP, trust Trust, log *finding.Checks) (*Opened, error) {
	m, err := ReadResponse(octets)
	if err != nil {
		return nil, log.Fail("Message", err)
	}
	return m.Open(idp, trust, log)
}

// Open checks a Response of a provider as far as its signatures: the issuers,
// the number of assertions, and every signature on the Response and its
// assertion (SAML profiles §4.1.4.2, core §5).
func (m *Message) Open(idp *IDP, trust Trust, log *finding.Checks) (*Opened, error) {
	root := m.root
	log.Pass("Message", "Response")
	o := &Opened{root: root, idp: idp, trust: trust, signed: xmlsec.Signed(root)}
	sealed := root.Child(NSAssertion, "EncryptedAssertion") != nil
	if err := issuer(root, idp.EntityID, o.signed || sealed); err != nil {
		return nil, log.Fail("Issuer of the Response", err)
	}
	var proof []xmlsec.Verified
	if o.signed {
		v, err := o.verify(root, "Response", log)
		if err != nil {
			return nil, err
		}
		proof = append(proof, v)
	}
	if o.status = status(root); o.status != nil {
		return o, nil
	}
	log.Pass("Status", "Success")
	assertion, err := o.onlyAssertion(log)
	if err != nil {
		return nil, log.Fail("Assertion", err)
	}
	if err := issuer(assertion, idp.EntityID, true); err != nil {
		return nil, log.Fail("Issuer of the assertion", err)
	}
	log.Pass("Issuer", string(idp.EntityID))
	if !xmlsec.IsID(assertion.Attr("ID")) || assertion.Attr("Version") != "2.0" {
		return nil, log.Fail("Assertion", finding.New(finding.MessageOther,
			finding.Compare("Assertion", "with an xs:ID and Version 2.0",
				"ID “"+assertion.Attr("ID")+"”, Version “"+assertion.Attr("Version")+"”")))
	}
	if o.signed {
		o.assertion = proof[0].Within(assertion)
	}
	if xmlsec.Signed(assertion) {
		v, err := o.verify(assertion, "assertion", log)
		if err != nil {
			return nil, err
		}
		proof = append(proof, v)
		o.assertion = v
	} else if o.signed && trust.SignedAssertion {
		return nil, log.Fail("Signature of the assertion", finding.New(finding.SignatureMissing,
			finding.Fact("Assertion", "must be signed itself, says the provider's record")))
	}
	if proof == nil {
		if holdsSignature(root) {
			return nil, log.Fail("Signature", finding.New(finding.SignatureLayout,
				finding.Fact("Signature", "neither directly in the Response nor in its assertion")))
		}
		return nil, log.Fail("Signature", finding.New(finding.SignatureMissing))
	}
	return o, nil
}

// verify checks one signature with the provider's keys.
func (o *Opened) verify(el *xmlsec.Element, what string, log *finding.Checks) (xmlsec.Verified, error) {
	v, err := xmlsec.Verify(el, publicKeys(o.idp.Keys), o.trust.Policy)
	if err != nil {
		return v, log.Fail("Signature of the "+what, err)
	}
	cert := SigningKeys(o.idp.Keys)[v.Key()].Certificate
	if cert.DER != nil {
		for _, f := range cert.Findings(o.trust.Now) {
			if f.Code == finding.CertificateExpired && o.trust.Strict {
				return v, log.Fail("Certificate", finding.New(finding.CertificatePast, f.Evidence...))
			}
			log.Note("Certificate", f.From(finding.Provider))
		}
	}
	for _, w := range v.Warnings() {
		log.Note("Signature of the "+what, w.From(finding.Provider))
	}
	log.Pass("Signature of the "+what, "made with a key on record")
	return v, nil
}

func holdsSignature(e *xmlsec.Element) bool {
	return xmlsec.Signed(e) || slices.ContainsFunc(e.Elements("", ""), holdsSignature)
}

func issuer(e *xmlsec.Element, want EntityID, required bool) error {
	iss := e.Child(NSAssertion, "Issuer")
	if iss == nil {
		if required {
			return finding.New(finding.IssuerMissing, finding.Fact("Element", e.Local), finding.Fact("Expected", want))
		}
		return nil
	}
	v, ok := iss.Value()
	if f := iss.Attr("Format"); !ok || f != "" && NameIDFormat(f) != FormatEntity {
		return finding.New(finding.IssuerMissing, finding.Fact("Format", f))
	}
	if EntityID(v) != want {
		return finding.New(finding.IssuerOther, finding.Compare("Issuer", want, v))
	}
	return nil
}

// status is nil for Success, else a finding with the nested codes and the
// message (SAML core §3.2.2).
func status(root *xmlsec.Element) error {
	st := root.Child(NSProtocol, "Status")
	var codes []string
	message := ""
	if st != nil {
		message = childValue(st, NSProtocol, "StatusMessage")
		for c := st.Child(NSProtocol, "StatusCode"); c != nil; c = c.Child(NSProtocol, "StatusCode") {
			codes = append(codes, c.Attr("Value"))
		}
	}
	if len(codes) > 0 && codes[0] == StatusSuccess {
		return nil
	}
	code := finding.ResponseStatus
	if slices.Contains(codes, StatusNoPassive) {
		code = finding.PassiveImpossible
	}
	if slices.Contains(codes, StatusNoAuthnContext) {
		code = finding.ContextImpossible
	}
	f := finding.New(code, finding.Fact("Status", strings.Join(codes, " / ")))
	if message != "" {
		f = f.With(finding.Fact("Message", message))
	}
	return f
}

// onlyAssertion gives the one assertion, decrypted if need be.
func (o *Opened) onlyAssertion(log *finding.Checks) (*xmlsec.Element, error) {
	root := o.root
	plain, sealed := root.Elements(NSAssertion, "Assertion"), root.Elements(NSAssertion, "EncryptedAssertion")
	if len(plain)+len(sealed) != 1 {
		return nil, finding.New(finding.ResponseNoAssertion, finding.Compare("Assertions", "1",
			strconv.Itoa(len(plain)+len(sealed))))
	}
	if len(plain) == 1 {
		return plain[0], nil
	}
	if len(o.trust.Decrypters) == 0 {
		return nil, finding.New(finding.ResponseEncrypted)
	}
	a, err := xmlsec.Decrypt(sealed[0], o.trust.Decrypters, o.signed || o.trust.AllowCBC)
	if err != nil {
		return nil, err
	}
	if !a.Is(NSAssertion, "Assertion") {
		return nil, finding.New(finding.ResponseNoAssertion, finding.Compare("Encrypted", "Assertion", kindOf(a)))
	}
	o.decrypted = a.Octets()
	log.Pass("Decryption", "opened with a key of the gate")
	return a, nil
}

// reveal decrypts an encrypted part of the verified assertion. What is in there
// is covered by its signature, so AES-CBC does no harm.
func (o *Opened) reveal(container *xmlsec.Element, local string) (*xmlsec.Element, error) {
	el, err := xmlsec.Decrypt(container, o.trust.Decrypters, true)
	if err == nil && !el.Is(NSAssertion, local) {
		err = finding.New(finding.DecryptionFailed)
	}
	return el, err
}

// AssertionID is the ID to be consumed, and Until the time to remember it; ""
// for a Response without assertion.
func (o *Opened) AssertionID() string {
	if o.status != nil {
		return ""
	}
	return o.assertion.Element().Attr("ID")
}

// Until is the latest time at which the assertion could still be accepted; zero
// if it says none.
func (o *Opened) Until(skew time.Duration) time.Time {
	var until time.Time
	consider := func(e *xmlsec.Element) {
		if e == nil {
			return
		}
		if t, err := optionalTime(e, "NotOnOrAfter"); err == nil && t.Add(skew).After(until) {
			until = t.Add(skew)
		}
	}
	a := o.assertion.Element()
	consider(a.Child(NSAssertion, "Conditions"))
	if s := a.Child(NSAssertion, "Subject"); s != nil {
		for _, c := range s.Elements(NSAssertion, "SubjectConfirmation") {
			consider(c.Child(NSAssertion, "SubjectConfirmationData"))
		}
	}
	return until
}

// Check holds the answer against what was asked for, in the order of SAML
// profiles §4.1.4.2 and §4.1.4.3. Everything is read from the verified assertion.
func (o *Opened) Check(x Expect, log *finding.Checks) (*Assertion, error) {
	if err := o.checkResponse(x, log); err != nil {
		return nil, err
	}
	if o.status != nil {
		return nil, log.Fail("Status", o.status)
	}
	e := o.assertion.Element()
	a := &Assertion{ID: e.Attr("ID"), Issuer: issuerOf(e)}
	if t, err := optionalTime(e, "IssueInstant"); err != nil {
		return nil, log.Fail("IssueInstant", err)
	} else if t.After(x.Now.Add(x.Skew)) {
		return nil, log.Fail("IssueInstant", notYet("IssueInstant", t, x))
	}
	if err := a.subject(e, x, o, log); err != nil {
		return nil, err
	}
	if err := a.conditions(e, x, log); err != nil {
		return nil, err
	}
	if err := a.authnStatement(e, x, log); err != nil {
		return nil, err
	}
	if err := a.attributes(e, o); err != nil {
		return nil, log.Fail("Attributes", err)
	}
	return a, nil
}

func (o *Opened) checkResponse(x Expect, log *finding.Checks) error {
	switch d, ok := o.root.LookAttr("", "Destination"); {
	case !ok && o.signed && !x.Artifact:
		return log.Fail("Destination", finding.New(finding.DestinationMissing, finding.Fact("Expected", x.ACS)))
	case ok && d != x.ACS:
		return log.Fail("Destination", finding.New(finding.DestinationOther, finding.Compare("Destination", x.ACS, d)))
	default:
		log.Pass("Destination", d)
	}
	to, ok := o.root.LookAttr("", "InResponseTo")
	return log.Fail("InResponseTo of the Response", x.inResponseTo(to, ok, o.status == nil))
}

// inResponseTo compares one InResponseTo with the request. Where the request is
// known, it must be named in every place.
func (x Expect) inResponseTo(to string, present, required bool) error {
	switch {
	case x.Request == nil && present:
		return finding.New(finding.InResponseToOther, finding.Fact("InResponseTo", to),
			finding.Fact("Requests of this browser", "none"))
	case x.Request == nil:
		return nil
	case !present && !required:
		return nil
	case !present:
		return finding.New(finding.InResponseToMixed, finding.Compare("InResponseTo", x.Request.ID, ""))
	case to != x.Request.ID:
		return finding.New(finding.InResponseToOther, finding.Compare("InResponseTo", x.Request.ID, to))
	}
	return nil
}

func notYet(what string, t time.Time, x Expect) error {
	return finding.New(finding.AssertionNotYetValid, finding.Fact(what, formatTime(t)), finding.Fact("Clock of the gate",
		formatTime(x.Now)),
		finding.Fact("Ahead by", t.Sub(x.Now).Round(time.Second).String()))
}

func expired(what string, t time.Time, x Expect) error {
	return finding.New(finding.AssertionExpired, finding.Fact(what, formatTime(t)), finding.Fact("Clock of the gate",
		formatTime(x.Now)),
		finding.Fact("Past by", x.Now.Sub(t).Round(time.Second).String()))
}

func (a *Assertion) subject(e *xmlsec.Element, x Expect, o *Opened, log *finding.Checks) error {
	s := e.Child(NSAssertion, "Subject")
	if s == nil {
		return log.Fail("Subject", finding.New(finding.NameIDMissing, finding.Fact("Subject", "absent")))
	}
	var refused error = finding.New(finding.ConfirmationMissing)
	for _, c := range s.Elements(NSAssertion, "SubjectConfirmation") {
		if c.Attr("Method") != methodBearer {
			continue
		}
		data := c.Child(NSAssertion, "SubjectConfirmationData")
		if data == nil {
			continue
		}
		// PROTOCOLS: InResponseTo must fit in every SubjectConfirmationData, not
		// only in the one that is used.
		to, present := data.LookAttr("", "InResponseTo")
		if err := x.inResponseTo(to, present, true); err != nil {
			return log.Fail("InResponseTo of the SubjectConfirmationData", err)
		}
		if err := bearer(data, x); err != nil {
			if finding.Is(refused, finding.ConfirmationMissing) {
				refused = err
			}
			continue
		}
		refused = nil
	}
	if refused != nil {
		return log.Fail("SubjectConfirmation", refused)
	}
	if x.Request != nil {
		log.Pass("InResponseTo", x.Request.ID)
	} else {
		log.Pass("InResponseTo", "absent everywhere: unsolicited")
	}
	log.Pass("SubjectConfirmation", "bearer for "+x.ACS)
	n := s.Child(NSAssertion, "NameID")
	if sealed := s.Child(NSAssertion, "EncryptedID"); n == nil && sealed != nil {
		var err error
		if n, err = o.reveal(sealed, "NameID"); err != nil {
			return log.Fail("EncryptedID", err)
		}
		log.Pass("EncryptedID", "opened with a key of the gate")
	}
	if n == nil && x.Unnamed {
		log.Pass("NameID", "absent; an attribute is chosen as identifier")
		return nil
	}
	if n == nil {
		return log.Fail("NameID", finding.New(finding.NameIDMissing, finding.Fact("NameID", "absent")))
	}
	v, ok := n.Value()
	if !ok || v == "" {
		return log.Fail("NameID", finding.New(finding.NameIDMissing, finding.Fact("NameID", "empty, or not plain text")))
	}
	a.NameID = NameID{Format: NameIDFormat(n.Attr("Format")), NameQualifier: n.Attr("NameQualifier"),
		SPNameQualifier: n.Attr("SPNameQualifier"), Value: v}
	if a.NameID.Format == formatMistyped {
		log.Note("NameID", finding.New(finding.NameIDMistyped, finding.Compare("Format", FormatEmail, formatMistyped)))
		a.NameID.Format = FormatEmail
	}
	log.Pass("NameID", v)
	return nil
}

// bearer checks one SubjectConfirmationData (SAML profiles §4.1.4.2).
func bearer(data *xmlsec.Element, x Expect) error {
	if _, ok := data.LookAttr("", "NotBefore"); ok {
		return finding.New(finding.ConfirmationMissing, finding.Fact("NotBefore", "present, must be absent"))
	}
	if r := data.Attr("Recipient"); r != x.ACS {
		return finding.New(finding.RecipientOther, finding.Compare("Recipient", x.ACS, r))
	}
	until, err := optionalTime(data, "NotOnOrAfter")
	switch {
	case err != nil:
		return err
	case until.IsZero():
		return finding.New(finding.ConfirmationMissing, finding.Fact("NotOnOrAfter", "absent, must be present"))
	case !x.Now.Before(until.Add(x.Skew)):
		return expired("NotOnOrAfter of SubjectConfirmationData", until, x)
	}
	return nil
}

func (a *Assertion) conditions(e *xmlsec.Element, x Expect, log *finding.Checks) error {
	c := e.Child(NSAssertion, "Conditions")
	if c == nil {
		return log.Fail("Audience", finding.New(finding.AudienceMissing, finding.Fact("Conditions", "absent"),
			finding.Fact("Expected", x.EntityIDs[0])))
	}
	from, err := optionalTime(c, "NotBefore")
	if err != nil {
		return log.Fail("Conditions", err)
	}
	until, err := optionalTime(c, "NotOnOrAfter")
	if err != nil {
		return log.Fail("Conditions", err)
	}
	if !from.IsZero() && from.After(x.Now.Add(x.Skew)) {
		return log.Fail("Conditions", notYet("NotBefore of Conditions", from, x))
	}
	if !until.IsZero() && !x.Now.Before(until.Add(x.Skew)) {
		return log.Fail("Conditions", expired("NotOnOrAfter of Conditions", until, x))
	}
	log.Pass("Conditions", "in time")
	audiences := 0
	for _, cond := range c.Elements("", "") {
		switch {
		case cond.Is(NSAssertion, "AudienceRestriction"):
			audiences++
			if err := audience(cond, x); err != nil {
				return log.Fail("Audience", err)
			}
		case cond.Is(NSAssertion, "OneTimeUse"):
		case cond.Is(NSAssertion, "ProxyRestriction"):
			a.NoProxy = a.NoProxy || strings.TrimSpace(cond.Attr("Count")) == "0"
			for _, el := range cond.Elements(NSAssertion, "Audience") {
				v, _ := el.Value()
				a.ProxyAudiences = append(a.ProxyAudiences, v)
			}
		default:
			name := cond.Local
			if t, ok := cond.LookAttr(xmlsec.NSXSI, "type"); ok {
				name += " of type " + t
			}
			return log.Fail("Conditions", finding.New(finding.ConditionUnknown, finding.Fact("Condition", name)))
		}
	}
	if audiences == 0 {
		return log.Fail("Audience", finding.New(finding.AudienceMissing, finding.Fact("Expected", x.EntityIDs[0])))
	}
	log.Pass("Audience", string(x.EntityIDs[0]))
	return nil
}

func audience(restriction *xmlsec.Element, x Expect) error {
	var found []string
	for _, el := range restriction.Elements(NSAssertion, "Audience") {
		v, ok := el.Value()
		if ok && slices.Contains(x.EntityIDs, EntityID(v)) {
			return nil
		}
		found = append(found, v)
	}
	return finding.New(finding.AudienceOther, finding.Compare("Audience", x.EntityIDs[0], strings.Join(found, ", ")))
}

func (a *Assertion) authnStatement(e *xmlsec.Element, x Expect, log *finding.Checks) error {
	st := e.Child(NSAssertion, "AuthnStatement")
	if st == nil {
		return log.Fail("AuthnStatement", finding.New(finding.AuthnStatementMissing))
	}
	var err error
	if a.AuthnInstant, err = optionalTime(st, "AuthnInstant"); err == nil {
		a.SessionNotOnOrAfter, err = optionalTime(st, "SessionNotOnOrAfter")
	}
	if err != nil {
		return log.Fail("AuthnStatement", err)
	}
	a.SessionIndex = st.Attr("SessionIndex")
	if c := st.Child(NSAssertion, "AuthnContext"); c != nil {
		a.Context = childValue(c, NSAssertion, "AuthnContextClassRef")
		for _, el := range c.Elements(NSAssertion, "AuthenticatingAuthority") {
			v, _ := el.Value()
			a.Authorities = append(a.Authorities, v)
		}
	}
	switch {
	case a.AuthnInstant.After(x.Now.Add(x.Skew)):
		return log.Fail("AuthnInstant", notYet("AuthnInstant", a.AuthnInstant, x))
	case !a.SessionNotOnOrAfter.IsZero() && !x.Now.Before(a.SessionNotOnOrAfter.Add(x.Skew)):
		return log.Fail("SessionNotOnOrAfter", expired("SessionNotOnOrAfter", a.SessionNotOnOrAfter, x))
	}
	log.Pass("AuthnStatement", a.Context)
	return nil
}

func (a *Assertion) attributes(e *xmlsec.Element, o *Opened) error {
	for _, st := range e.Elements(NSAssertion, "AttributeStatement") {
		for _, at := range st.Elements(NSAssertion, "") {
			if at.Is(NSAssertion, "EncryptedAttribute") {
				var err error
				if at, err = o.reveal(at, "Attribute"); err != nil {
					return err
				}
			}
			if !at.Is(NSAssertion, "Attribute") {
				continue
			}
			attr := Attribute{Name: at.Attr("Name"), NameFormat: at.Attr("NameFormat"), FriendlyName: at.Attr("FriendlyName"),
				Values: []AttributeValue{}}
			for _, v := range at.Elements(NSAssertion, "AttributeValue") {
				if null, _ := v.LookAttr(xmlsec.NSXSI, "nil"); parseBool(null) {
					continue
				}
				attr.Values = append(attr.Values, AttributeValue{Text: deepText(v), Type: schemaType(v)})
			}
			a.Attributes = append(a.Attributes, attr)
		}
	}
	return nil
}

// schemaType is the built-in type of XML Schema that xsi:type names.
func schemaType(e *xmlsec.Element) string {
	name, _ := e.LookAttr(xmlsec.NSXSI, "type")
	prefix, local, ok := strings.Cut(strings.TrimSpace(name), ":")
	if !ok {
		prefix, local = "", prefix
	}
	if ns, _ := e.Lookup(prefix); ns != xmlsec.NSXS {
		return ""
	}
	return local
}

// deepText is the text of a value; of one that holds a single element, such as
// a NameID, the text of that.
func deepText(e *xmlsec.Element) string {
	if v, ok := e.Value(); ok {
		return v
	}
	if kids := e.Elements("", ""); len(kids) == 1 {
		return deepText(kids[0])
	}
	return ""
}
