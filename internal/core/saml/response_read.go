package saml

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/xmlsec"
)

// Expect is what an answer must fit.
type Expect struct {
	EntityIDs []string // ours; the first is the current one
	ACS       string   // the address it arrived at
	Request   *Sent    // nil if nobody asked
	Now       time.Time
	Skew      time.Duration // at most 5 minutes
}

// Sent is what must be remembered of an AuthnRequest to judge the answer.
type Sent struct {
	ID         string    `json:"id"`
	At         time.Time `json:"at"`
	ForceAuthn bool      `json:"forceAuthn,omitempty"`
	Contexts   []string  `json:"contexts,omitempty"`
	Comparison string    `json:"comparison,omitempty"`
}

// Assertion is what a checked answer says about a person.
type Assertion struct {
	ID                  string
	Issuer              string
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

// Opened is an answer whose signatures were checked and nothing else yet.
type Opened struct {
	root      *xmlsec.Element
	signed    bool // the Response itself
	assertion xmlsec.Verified
	status    error
	idp       *IDP
}

// ResponseTo gives the unverified InResponseTo of a Response, to find the
// crossing it may belong to; "" if it cannot be read.
func ResponseTo(octets []byte) string {
	doc, err := xmlsec.Parse(octets, xmlsec.MessageLimits)
	if err != nil {
		return ""
	}
	return doc.Root.Attr("InResponseTo")
}

// OpenResponse reads a Response of a provider as far as its signatures: the
// kind of message, the issuers, the number of assertions, and every signature
// on the Response and its assertion (SAML profiles §4.1.4.2, core §5).
func OpenResponse(octets []byte, idp *IDP, policy xmlsec.Policy, log *finding.Checks) (*Opened, error) {
	doc, err := xmlsec.Parse(octets, xmlsec.MessageLimits)
	if err != nil {
		return nil, log.Fail("XML", err)
	}
	root := doc.Root
	if !root.Is(NSProtocol, "Response") {
		return nil, log.Fail("Message", finding.New(finding.MessageOther, finding.Compare("Message", "Response", kindOf(root))))
	}
	if v := root.Attr("Version"); v != "2.0" {
		return nil, log.Fail("Message", finding.New(finding.MessageOther, finding.Compare("Version", "2.0", v)))
	}
	log.Pass("Message", "Response")
	o := &Opened{root: root, idp: idp, signed: xmlsec.Signed(root)}
	if err := issuer(root, idp.EntityID, o.signed); err != nil {
		return nil, log.Fail("Issuer of the Response", err)
	}
	if o.status = status(root); o.status != nil {
		return o, nil
	}
	log.Pass("Status", "Success")
	assertion, err := onlyAssertion(root)
	if err != nil {
		return nil, log.Fail("Assertion", err)
	}
	if err := issuer(assertion, idp.EntityID, true); err != nil {
		return nil, log.Fail("Issuer of the assertion", err)
	}
	log.Pass("Issuer", idp.EntityID)
	if assertion.Attr("ID") == "" || assertion.Attr("Version") != "2.0" {
		return nil, log.Fail("Assertion", finding.New(finding.MessageOther, finding.Compare("Assertion", "with ID and Version 2.0", "ID “"+assertion.Attr("ID")+"”, Version “"+assertion.Attr("Version")+"”")))
	}
	keys := publicKeys(idp.Keys)
	var proof []xmlsec.Verified
	if o.signed {
		v, err := xmlsec.Verify(root, keys, policy)
		if err != nil {
			return nil, log.Fail("Signature of the Response", err)
		}
		proof = append(proof, v)
		o.assertion = v.Within(assertion)
		log.Pass("Signature of the Response", "made with a key on record")
	}
	if xmlsec.Signed(assertion) {
		v, err := xmlsec.Verify(assertion, keys, policy)
		if err != nil {
			return nil, log.Fail("Signature of the assertion", err)
		}
		proof = append(proof, v)
		o.assertion = v
		log.Pass("Signature of the assertion", "made with a key on record")
	}
	if proof == nil {
		if holdsSignature(root) {
			return nil, log.Fail("Signature", finding.New(finding.SignatureLayout, finding.Fact("Signature", "neither directly in the Response nor in its assertion")))
		}
		return nil, log.Fail("Signature", finding.New(finding.SignatureMissing))
	}
	for _, w := range proof[len(proof)-1].Warnings() {
		log.Note("Signature", w)
	}
	return o, nil
}

func holdsSignature(e *xmlsec.Element) bool {
	return xmlsec.Signed(e) || slices.ContainsFunc(e.Elements("", ""), holdsSignature)
}

func issuer(e *xmlsec.Element, want string, required bool) error {
	iss := e.Child(NSAssertion, "Issuer")
	if iss == nil {
		if required {
			return finding.New(finding.IssuerMissing, finding.Fact("Element", e.Local), finding.Fact("Expected", want))
		}
		return nil
	}
	v, ok := iss.Value()
	if f := iss.Attr("Format"); !ok || f != "" && f != FormatEntity {
		return finding.New(finding.IssuerMissing, finding.Fact("Format", f))
	}
	if v != want {
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
	f := finding.New(code, finding.Fact("Status", strings.Join(codes, " / ")))
	if message != "" {
		f = f.With(finding.Fact("Message", message))
	}
	return f
}

func onlyAssertion(root *xmlsec.Element) (*xmlsec.Element, error) {
	plain, sealed := root.Elements(NSAssertion, "Assertion"), root.Elements(NSAssertion, "EncryptedAssertion")
	if len(plain)+len(sealed) != 1 {
		return nil, finding.New(finding.ResponseNoAssertion, finding.Compare("Assertions", "1", strconv.Itoa(len(plain)+len(sealed))))
	}
	if len(sealed) == 1 {
		return nil, finding.New(finding.ResponseEncrypted)
	}
	return plain[0], nil
}

// AssertionID is the ID to be consumed, and Until the time to remember it; ""
// for a Response without assertion.
func (o *Opened) AssertionID() string {
	if o.status != nil {
		return ""
	}
	return o.assertion.Element().Attr("ID")
}

// Until is the latest time at which the assertion could still be accepted, at
// least an hour from now.
func (o *Opened) Until(now time.Time, skew time.Duration) time.Time {
	until := now.Add(time.Hour)
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
	a := &Assertion{ID: e.Attr("ID"), Issuer: childValue(e, NSAssertion, "Issuer")}
	if t, err := optionalTime(e, "IssueInstant"); err != nil {
		return nil, log.Fail("IssueInstant", err)
	} else if t.After(x.Now.Add(x.Skew)) {
		return nil, log.Fail("IssueInstant", notYet("IssueInstant", t, x))
	}
	for _, step := range []func(*xmlsec.Element, Expect, *finding.Checks) error{a.subject, a.conditions, a.authnStatement} {
		if err := step(e, x, log); err != nil {
			return nil, err
		}
	}
	a.attributes(e)
	return a, nil
}

func (o *Opened) checkResponse(x Expect, log *finding.Checks) error {
	switch d, ok := o.root.LookAttr("", "Destination"); {
	case !ok && o.signed:
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
		return finding.New(finding.InResponseToOther, finding.Fact("InResponseTo", to), finding.Fact("Requests of this browser", "none"))
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
	return finding.New(finding.AssertionNotYetValid, finding.Fact(what, formatTime(t)), finding.Fact("Clock of the gate", formatTime(x.Now)),
		finding.Fact("Ahead by", t.Sub(x.Now).Round(time.Second).String()))
}

func expired(what string, t time.Time, x Expect) error {
	return finding.New(finding.AssertionExpired, finding.Fact(what, formatTime(t)), finding.Fact("Clock of the gate", formatTime(x.Now)),
		finding.Fact("Past by", x.Now.Sub(t).Round(time.Second).String()))
}

func (a *Assertion) subject(e *xmlsec.Element, x Expect, log *finding.Checks) error {
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
	if n == nil {
		return log.Fail("NameID", finding.New(finding.NameIDMissing, finding.Fact("NameID", "absent")))
	}
	v, ok := n.Value()
	if !ok || v == "" {
		return log.Fail("NameID", finding.New(finding.NameIDMissing, finding.Fact("NameID", "empty, or not plain text")))
	}
	a.NameID = NameID{Format: n.Attr("Format"), NameQualifier: n.Attr("NameQualifier"), SPNameQualifier: n.Attr("SPNameQualifier"), Value: v}
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
		return log.Fail("Audience", finding.New(finding.AudienceMissing, finding.Fact("Conditions", "absent"), finding.Fact("Expected", x.EntityIDs[0])))
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
	log.Pass("Audience", x.EntityIDs[0])
	return nil
}

func audience(restriction *xmlsec.Element, x Expect) error {
	var found []string
	for _, el := range restriction.Elements(NSAssertion, "Audience") {
		v, ok := el.Value()
		if ok && slices.Contains(x.EntityIDs, v) {
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
	if r := x.Request; r != nil {
		if r.ForceAuthn && a.AuthnInstant.Before(r.At.Add(-x.Skew)) {
			return log.Fail("ForceAuthn", finding.New(finding.AuthnTooOld, finding.Fact("AuthnInstant", formatTime(a.AuthnInstant)), finding.Fact("Asked for at", formatTime(r.At))))
		}
		asked := AuthnRequest{Contexts: r.Contexts, Comparison: r.Comparison}
		if !asked.Satisfies(a.Context) {
			return log.Fail("AuthnContext", finding.New(finding.ContextOther, finding.Compare("AuthnContextClassRef", strings.Join(r.Contexts, " or "), a.Context)))
		}
	}
	log.Pass("AuthnStatement", a.Context)
	return nil
}

func (a *Assertion) attributes(e *xmlsec.Element) {
	for _, st := range e.Elements(NSAssertion, "AttributeStatement") {
		for _, at := range st.Elements(NSAssertion, "Attribute") {
			attr := Attribute{Name: at.Attr("Name"), NameFormat: at.Attr("NameFormat"), FriendlyName: at.Attr("FriendlyName"), Values: []string{}}
			for _, v := range at.Elements(NSAssertion, "AttributeValue") {
				if null, _ := v.LookAttr(xmlsec.NSXSI, "nil"); parseBool(null) {
					continue
				}
				attr.Values = append(attr.Values, deepText(v))
			}
			a.Attributes = append(a.Attributes, attr)
		}
	}
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
