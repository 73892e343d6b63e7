package saml

import (
	"cmp"
	"crypto/rsa"
	"errors"
	"io"
	"time"

	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/xmlsec"
)

// Answer is a Response to be written for an application (SAML core §3.3.3,
// profiles §4.1.4.2). IDs are given by the caller: at least 128 random bits,
// beginning with a letter or underscore.
type Answer struct {
	ResponseID, AssertionID string
	At                      time.Time
	Lifetime                time.Duration // of the assertion
	Issuer                  EntityID
	Destination             string // the consumer address
	InResponseTo            string // "" for an unsolicited answer
	Audience                EntityID
	NameID                  NameID
	AuthnInstant            time.Time
	SessionIndex            string
	SessionNotOnOrAfter     time.Time // zero for no limit
	Context                 string
	Authorities             []string
	Attributes              []Attribute
}

// backdate allows for receivers whose clocks are a little behind.
const backdate = 30 * time.Second

// Protection is how an answer is signed and encrypted.
type Protection struct {
	Pair         *keys.Pair // nil signs nothing (the stand-ins have such a fault)
	SignResponse bool       // the Response is signed
	OnlyResponse bool       // and the assertion is not
	EncryptTo    *Key       // nil encrypts nothing
	EncryptName  bool       // encrypt NameID and attributes instead of the assertion
	Random       io.Reader  // for encryption
}

// WriteResponse writes a Response: the assertion is signed, then encrypted, then
// the Response is signed, as far as each is wanted.
func WriteResponse(a Answer, p Protection) ([]byte, error) {
	until := formatTime(a.At.Add(a.Lifetime))
	name := saml("NameID").Set("Format", string(a.NameID.Format)).Set("NameQualifier", a.NameID.NameQualifier).
		Set("SPNameQualifier", a.NameID.SPNameQualifier).AddText(a.NameID.Value)
	attributes := attributeStatement(a.Attributes)
	sealedName := name
	if p.EncryptTo != nil && p.EncryptName {
		var err error
		if sealedName, err = p.seal(name, "EncryptedID"); err != nil {
			return nil, err
		}
		if attributes != nil {
			plain := attributes.Elements(NSAssertion, "Attribute")
			attributes = saml("AttributeStatement")
			for _, at := range plain {
				sealed, err := p.seal(at, "EncryptedAttribute")
				if err != nil {
					return nil, err
				}
				attributes.Add(sealed)
			}
		}
	}
	context := a.Context
	if context == "" {
		context = ContextUnspecified
	}
	authn := saml("AuthnContext").Add(saml("AuthnContextClassRef").AddText(context))
	for _, authority := range a.Authorities {
		authn.Add(saml("AuthenticatingAuthority").AddText(authority))
	}
	statement := saml("AuthnStatement").Set("AuthnInstant", formatTime(a.AuthnInstant)).Set("SessionIndex",
		a.SessionIndex)
	if !a.SessionNotOnOrAfter.IsZero() {
		statement.Set("SessionNotOnOrAfter", formatTime(a.SessionNotOnOrAfter))
	}
	assertion := saml("Assertion").Declare("saml", NSAssertion).Declare("xs", xmlsec.NSXS).
		Set("ID", a.AssertionID).Set("Version", "2.0").Set("IssueInstant", formatTime(a.At)).Add(
		issuedBy(a.Issuer),
		saml("Subject").Add(sealedName, saml("SubjectConfirmation").Set("Method", methodBearer).Add(
			saml("SubjectConfirmationData").Set("InResponseTo", a.InResponseTo).Set("NotOnOrAfter", until).Set("Recipient",
				a.Destination))),
		saml("Conditions").Set("NotBefore", formatTime(a.At.Add(-backdate))).Set("NotOnOrAfter", until).Add(
			saml("AudienceRestriction").Add(saml("Audience").AddText(string(a.Audience)))),
		statement.Add(authn),
		attributes)
	if p.Pair != nil && !p.OnlyResponse {
		if err := xmlsec.Sign(assertion, 1, p.Pair.Signer(), p.Pair.Certificate.DER, "xs"); err != nil {
			return nil, err
		}
	}
	if p.EncryptTo != nil && !p.EncryptName {
		var err error
		if assertion, err = p.seal(assertion, "EncryptedAssertion"); err != nil {
			return nil, err
		}
	}
	root := response(a, StatusSuccess, "", "").Add(assertion)
	if p.Pair != nil && (p.SignResponse || p.OnlyResponse) {
		if err := xmlsec.Sign(root, 1, p.Pair.Signer(), p.Pair.Certificate.DER, "xs"); err != nil {
			return nil, err
		}
	}
	return root.Octets(), nil
}

// seal encrypts an element and puts it into its container.
func (p Protection) seal(el *xmlsec.Element, container string) (*xmlsec.Element, error) {
	to, ok := p.EncryptTo.Certificate.Public.(*rsa.PublicKey)
	if !ok {
		return nil, errors.New("the key for encryption is not RSA; take in metadata with an RSA key for encryption")
	}
	data, err := xmlsec.Encrypt(el, to, p.EncryptTo.Methods, p.Random)
	if err != nil {
		return nil, err
	}
	return saml(container).Add(data), nil
}

func attributeStatement(attributes []Attribute) *xmlsec.Element {
	if len(attributes) == 0 {
		return nil
	}
	st := saml("AttributeStatement")
	for _, a := range attributes {
		format := a.NameFormat
		if format == "" {
			format = formatBasic
		}
		at := saml("Attribute").Set("FriendlyName", a.FriendlyName).Set("Name", a.Name).Set("NameFormat", format)
		for _, v := range a.Values {
			at.Add(saml("AttributeValue").SetNS("xsi", xmlsec.NSXSI, "type", "xs:"+cmp.Or(v.Type, "string")).AddText(v.Text))
		}
		st.Add(at)
	}
	return st
}

func response(a Answer, code, nested, message string) *xmlsec.Element {
	status := samlp("StatusCode").Set("Value", code)
	if nested != "" {
		status.Add(samlp("StatusCode").Set("Value", nested))
	}
	st := samlp("Status").Add(status)
	if message != "" {
		st.Add(samlp("StatusMessage").AddText(message))
	}
	return samlp("Response").Declare("samlp", NSProtocol).Declare("saml", NSAssertion).
		Set("ID", a.ResponseID).Set("Version", "2.0").Set("IssueInstant", formatTime(a.At)).
		Set("Destination", a.Destination).Set("InResponseTo", a.InResponseTo).Add(issuedBy(a.Issuer), st)
}

// WriteStatus writes a Response without assertion: what an application should
// hear when there is no sign-in. It is signed as a whole.
func WriteStatus(a Answer, code, nested, message string, pair *keys.Pair) ([]byte, error) {
	root := response(a, code, nested, message)
	if err := xmlsec.Sign(root, 1, pair.Signer(), pair.Certificate.DER); err != nil {
		return nil, err
	}
	return root.Octets(), nil
}
