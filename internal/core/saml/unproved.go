package saml

import (
	"encoding/base64"
	"net/url"
	"strings"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/xmlsec"
)

// Unproved reads whom a pasted message speaks of, and what it says of them, without
// verifying anything: it is for trying mappings, and never for letting anybody in. It
// takes a Response or an assertion (SAML core §2.3.3, §3.3.3), as XML, in base64, or as
// the form field SAMLResponse that a browser posts. What is encrypted cannot be read.
func Unproved(text string) (*Assertion, error) {
	octets := []byte(strings.TrimSpace(text))
	if value, ok := strings.CutPrefix(string(octets), "SAMLResponse="); ok {
		value, _, _ = strings.Cut(value, "&")
		if plain, err := url.QueryUnescape(value); err == nil {
			octets = []byte(plain)
		}
	}
	if len(octets) > 0 && octets[0] != '<' {
		plain, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(string(octets)), ""))
		if err != nil {
			return nil, finding.New(finding.MessageUndecodable, finding.Fact("Given", "neither XML nor base64"))
		}
		octets = plain
	}
	doc, err := xmlsec.Parse(octets, xmlsec.MessageLimits)
	if err != nil {
		return nil, err
	}
	e := doc.Root
	if e.Is(NSProtocol, "Response") {
		if err := status(e); err != nil {
			return nil, err
		}
		if e = e.Child(NSAssertion, "Assertion"); e == nil {
			return nil, finding.New(finding.MessageUndecodable, finding.Fact("Assertion",
				"absent, or encrypted; the decrypted one stands in the trace of the sign-in"))
		}
	}
	if !e.Is(NSAssertion, "Assertion") {
		return nil, finding.New(finding.MessageUndecodable, finding.Compare("Outermost element", "Response or Assertion",
			e.Local))
	}
	a := &Assertion{}
	if s := e.Child(NSAssertion, "Subject"); s != nil {
		if n := s.Child(NSAssertion, "NameID"); n != nil {
			v, _ := n.Value()
			a.NameID = NameID{Format: NameIDFormat(n.Attr("Format")), NameQualifier: n.Attr("NameQualifier"),
				SPNameQualifier: n.Attr("SPNameQualifier"), Value: v}
		}
	}
	return a, a.attributes(e, &Opened{})
}
