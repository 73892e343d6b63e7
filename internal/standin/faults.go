package standin

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/core/xmlsec"
)

// Fault is a way in which a stand-in can misbehave, and the finding that the
// gate should come to.
type Fault struct{ Name, Text, Finding string }

// shot is an answer about to be sent, for faults to spoil.
type shot struct {
	answer  saml.Answer
	protect saml.Protection
	before  func(string) string // edits the XML before it is signed
	after   func(string) string // edits the XML after it was signed
	octets  []byte              // sent instead of all this
	sha1    bool                // signed as nobody should any more
}

type providerFault struct {
	Fault
	spoil func(p *Provider, s *shot)
}

func swap(old, new string) func(string) string {
	return func(s string) string { return strings.Replace(s, old, new, 1) }
}

// evil is a copy of the assertion about somebody else, unsigned.
func evil(s string) (before, assertion, behind, copied string) {
	from, to := strings.Index(s, "<saml:Assertion "), strings.Index(s, "</saml:Assertion>")+len("</saml:Assertion>")
	assertion = s[from:to]
	copied = strings.Replace(assertion, ` ID="_`, ` ID="_evil`, 1)
	if i, j := strings.Index(copied, "<ds:Signature "), strings.Index(copied, "</ds:Signature>"); i >= 0 {
		copied = copied[:i] + copied[j+len("</ds:Signature>"):]
	}
	i := strings.Index(copied, "<saml:NameID")
	open := i + strings.Index(copied[i:], ">") + 1
	end := open + strings.Index(copied[open:], "<")
	copied = copied[:open] + "signal-box@wrenmoor.example" + copied[end:]
	return s[:from], assertion, s[to:], copied
}

var providerFaults = []providerFault{
	{Fault{"expired", "the assertion is an hour old", "assertion-expired"}, func(_ *Provider, s *shot) {
		s.answer.At = s.answer.At.Add(-time.Hour)
		s.answer.AuthnInstant = s.answer.At
	}},
	{Fault{"not-yet-valid", "the assertion is from tomorrow", "assertion-not-yet-valid"},
		func(_ *Provider, s *shot) { s.answer.At = s.answer.At.Add(24 * time.Hour) }},
	{Fault{"session-over", "the session at the provider is over", "assertion-expired"}, func(_ *Provider, s *shot) {
		s.answer.SessionNotOnOrAfter = s.answer.At.Add(-time.Hour)
	}},
	{Fault{"wrong-audience", "the assertion is for another audience", "audience-other"},
		func(_ *Provider, s *shot) { s.answer.Audience = "https://somebody-else.example/saml" }},
	{Fault{"no-audience", "the assertion names no audience", "audience-missing"}, func(_ *Provider, s *shot) {
		s.before = func(x string) string {
			return cut(x, "<saml:AudienceRestriction>", "</saml:AudienceRestriction>")
		}
	}},
	{Fault{"wrong-recipient", "the assertion is for another address", "recipient-other"}, func(_ *Provider, s *shot) {
		s.before = swap(`Recipient="`, `Recipient="https://somebody-else.example/`)
	}},
	{Fault{"wrong-destination", "the Response is for another address", "destination-other"}, func(_ *Provider, s *shot) {
		s.before = swap(`Destination="`, `Destination="https://somebody-else.example/`)
	}},
	{Fault{"wrong-issuer", "the entity ID differs by a slash", "issuer-other"},
		func(_ *Provider, s *shot) { s.answer.Issuer += "/" }},
	{Fault{"other-request", "the answer is to a request nobody sent", "in-response-to-other"},
		func(_ *Provider, s *shot) { s.answer.InResponseTo = newID() }},
	{Fault{"no-request", "the answer does not say to which request", "in-response-to-mixed"},
		func(_ *Provider, s *shot) { s.answer.InResponseTo = "" }},
	{Fault{"no-name", "the NameID is empty", "nameid-missing"}, func(_ *Provider,
		s *shot) {
		s.answer.NameID.Value = ""
	}},
	{Fault{"no-statement", "there is no AuthnStatement", "authn-statement-missing"}, func(_ *Provider, s *shot) {
		s.before = func(x string) string { return cut(x, "<saml:AuthnStatement ", "</saml:AuthnStatement>") }
	}},
	{Fault{"unknown-condition", "a condition that nobody knows", "condition-unknown"}, func(_ *Provider, s *shot) {
		s.before = swap("</saml:Conditions>", "<saml:Condition></saml:Condition></saml:Conditions>")
	}},
	{Fault{"no-proxy", "the provider forbids passing the sign-in on", "proxy-forbidden"}, func(_ *Provider, s *shot) {
		s.before = swap("</saml:Conditions>", `<saml:ProxyRestriction Count="0"></saml:ProxyRestriction></saml:Conditions>`)
	}},
	{Fault{"denied", "the provider refuses, with a status", "response-status"}, func(p *Provider, s *shot) {
		s.octets, _ = saml.WriteStatus(s.answer, saml.StatusResponder, saml.StatusAuthnFailed, "This account is locked",
			p.Pair)
	}},
	{Fault{"sha1", "the assertion is signed with SHA-1", "signature-sha1"}, func(_ *Provider, s *shot) { s.sha1 = true }},
	{Fault{"groups-misspelled", "the values of groups lack their last letter", ""}, func(_ *Provider, s *shot) {
		s.answer.Attributes = slices.Clone(s.answer.Attributes)
		for i, a := range s.answer.Attributes {
			if strings.Contains(strings.ToLower(a.Name+a.FriendlyName), "group") || a.FriendlyName == "memberOf" {
				values := []saml.AttributeValue{}
				for _, v := range a.Values {
					values = append(values, saml.Texts(strings.TrimSuffix(v.String(), "s"))...)
				}
				s.answer.Attributes[i].Values = values
			}
		}
	}},
	{Fault{"unsigned", "nothing is signed", "signature-missing"}, func(_ *Provider, s *shot) { s.protect.Pair = nil }},
	{Fault{"wrong-key", "the assertion is signed with a key nobody knows", "signature-key"},
		func(p *Provider, s *shot) { s.protect.Pair = p.stranger }},
	{Fault{"altered", "something on the way changed the name", "signature-altered"}, func(_ *Provider, s *shot) {
		s.after = swap("@wrenmoor.example</saml:NameID>", "@oakhollow.example</saml:NameID>")
	}},
	{Fault{"reindented", "something on the way re-indented the XML", "signature-altered"},
		func(_ *Provider, s *shot) { s.after = swap("<saml:Subject>", "\n  <saml:Subject>") }},
	{Fault{"second-assertion", "another assertion stands beside the signed one", "response-assertions"},
		func(_ *Provider, s *shot) {
			s.after = func(x string) string { before, a, behind, copied := evil(x); return before + copied + a + behind }
		}},
	{Fault{"wrapped", "the signed assertion is moved aside, another takes its place", "signature-layout"},
		func(_ *Provider, s *shot) {
			s.after = func(x string) string {
				before, a, behind, copied := evil(x)
				return strings.Replace(before, "<samlp:Status>", "<samlp:Extensions>"+a+"</samlp:Extensions><samlp:Status>",
					1) + copied + behind
			}
		}},
	{Fault{"same-id", "two elements carry the same ID", "xml-duplicate-id"}, func(_ *Provider, s *shot) {
		s.after = func(x string) string {
			before, a, behind, copied := evil(x)
			return before + a + strings.Replace(copied, ` ID="_evil`, ` ID="_`, 1) + behind
		}
	}},
	{Fault{"doctype", "the XML has a DOCTYPE with an entity", "xml-doctype"}, func(_ *Provider, s *shot) {
		s.after = func(x string) string {
			return `<!DOCTYPE Response [<!ENTITY name SYSTEM "file:///etc/hostname">]>` + x
		}
	}},
	{Fault{"cut-off", "the message is cut off", "xml-malformed"},
		func(_ *Provider, s *shot) { s.after = func(x string) string { return x[:len(x)/2] } }},
	{Fault{"too-deep", "the XML is nested a thousand levels deep", "xml-too-deep"}, func(_ *Provider, s *shot) {
		s.octets = []byte(strings.Repeat("<a>", 1000) + strings.Repeat("</a>", 1000))
	}},
	{Fault{"encrypted-for-another", "the assertion is encrypted for somebody else", "decryption-failed"},
		func(p *Provider, s *shot) {
			s.protect.EncryptTo = &saml.Key{Certificate: p.stranger.Certificate}
		}},
	{Fault{"weak-encryption", "the assertion is encrypted with AES-CBC, and nothing is signed around it",
		"encryption-method"}, func(p *Provider, s *shot) {
		s.protect.EncryptTo = &saml.Key{Certificate: p.stranger.Certificate, Methods: []string{xmlsec.AES256CBC}}
	}},
	{Fault{"replay", "the answer before this one is sent again", "assertion-replayed"}, func(p *Provider, s *shot) {
		p.mu.Lock()
		s.octets = p.last
		p.mu.Unlock()
	}},
}

// cut takes out a part of a text, its ends included.
func cut(s, from, to string) string {
	i, j := strings.Index(s, from), strings.Index(s, to)
	if i < 0 || j < i {
		return s
	}
	return s[:i] + s[j+len(to):]
}

// write makes the message.
func (s shot) write() ([]byte, error) {
	if s.octets != nil {
		return s.octets, nil
	}
	pair := s.protect.Pair
	if s.before != nil || s.sha1 {
		s.protect.Pair = nil
	}
	octets, err := saml.WriteResponse(s.answer, s.protect)
	if err != nil {
		return nil, err
	}
	if s.sha1 {
		text, err := signSHA1(string(octets), pair)
		return []byte(text), err
	}
	if s.before != nil {
		if octets, err = resign(s.before(string(octets)), pair); err != nil {
			return nil, err
		}
	}
	if s.after != nil {
		octets = []byte(s.after(string(octets)))
	}
	return octets, nil
}

// resign signs the assertion of an edited Response.
func resign(text string, pair *keys.Pair) ([]byte, error) {
	doc, err := xmlsec.Parse([]byte(text), xmlsec.MessageLimits)
	if err != nil {
		return nil, err
	}
	if err := xmlsec.Sign(doc.Root.Child(saml.NSAssertion, "Assertion"), 1, pair.Signer(), pair.Certificate.DER,
		"xs"); err != nil {
		return nil, err
	}
	return doc.Root.Octets(), nil
}

// ProviderFaults are the faults of a stand-in provider.
func ProviderFaults() (out []Fault) {
	for _, f := range providerFaults {
		out = append(out, f.Fault)
	}
	return out
}

// ask is a request about to be sent, for faults to spoil.
type ask struct {
	request saml.AuthnRequest
	pair    *keys.Pair
	after   func(string) string // edits the XML after it was made; it is sent unsigned then, unless keep
	keep    bool
}

type applicationFault struct {
	Fault
	spoil func(a *Application, q *ask)
}

var applicationFaults = []applicationFault{
	{Fault{"unregistered-address", "the answer is wanted at an address that is not registered", "acs-unregistered"},
		func(a *Application, q *ask) { q.request.ACS = "https://somebody-else.example/acs" }},
	{Fault{"address-slash", "the address differs by a slash", "acs-unregistered"},
		func(a *Application, q *ask) { q.request.ACS += "/" }},
	{Fault{"unknown-index", "the address is given by an index nobody knows", "acs-unregistered"},
		func(a *Application, q *ask) {
			q.after = func(x string) string {
				return strings.Replace(x, `AssertionConsumerServiceURL="`+q.request.ACS+`"`, `AssertionConsumerServiceIndex="9"`,
					1)
			}
		}},
	{Fault{"artifact-binding", "the answer is wanted by another binding", "binding-unsupported"},
		func(a *Application, q *ask) { q.after = swap("bindings:HTTP-POST", "bindings:PAOS") }},
	{Fault{"unknown-issuer", "the entity ID differs by a letter", "application-unknown"},
		func(a *Application, q *ask) { q.request.Issuer += "l" }},
	{Fault{"wrong-key", "the request is signed with a key nobody knows", "signature-key"},
		func(a *Application, q *ask) { q.pair = a.stranger }},
	{Fault{"altered", "something on the way changed the request", "signature-altered"}, func(a *Application, q *ask) {
		q.after, q.keep = swap(`Version="2.0"`, `Version="2.0" ForceAuthn="true"`), true
	}},
	{Fault{"name-format", "a NameID format is wanted that the gate does not give", "nameid-policy-unmet"},
		func(a *Application, q *ask) {
			q.request.NameIDFormat = "urn:oasis:names:tc:SAML:2.0:nameid-format:kerberos"
		}},
	{Fault{"too-old", "the signed request is ten minutes old", "request-expired"}, func(a *Application, q *ask) {
		q.request.IssueInstant = q.request.IssueInstant.Add(-10 * time.Minute)
	}},
	{Fault{"wrong-destination", "the request is for another address", "destination-other"}, func(a *Application, q *ask) {
		q.after = swap(`Destination="`, `Destination="https://somebody-else.example/`)
	}},
	{Fault{"other-version", "the request speaks SAML 1.1", "message-other"},
		func(a *Application, q *ask) { q.after = swap(`Version="2.0"`, `Version="1.1"`) }},
	{Fault{"doctype", "the XML has a DOCTYPE", "xml-doctype"}, func(a *Application, q *ask) {
		q.after = func(x string) string { return "<!DOCTYPE a>" + x }
	}},
	{Fault{"not-xml", "the message is no XML", "xml-malformed"},
		func(a *Application, q *ask) { q.after = func(string) string { return "AuthnRequest" } }},
}

// ApplicationFaults are the faults of a stand-in application.
func ApplicationFaults() (out []Fault) {
	for _, f := range applicationFaults {
		out = append(out, f.Fault)
	}
	return out
}

// write makes the message. Spoiled ones go by POST, where a signature can stay
// in them or be left out.
func (q ask) write(to saml.Endpoint, relayState string) (saml.Outbound, error) {
	if q.after == nil {
		return saml.WriteAuthnRequest(q.request, to, relayState, q.pair)
	}
	to.Binding = saml.BindingPOST
	pair := q.pair
	if !q.keep {
		pair = nil
	}
	out, err := saml.WriteAuthnRequest(q.request, to, relayState, pair)
	if err != nil {
		return out, err
	}
	return saml.ToPOST(to.Location, "SAMLRequest", []byte(q.after(string(out.Octets))), relayState), nil
}

// known demands that a fault is one of the list, or empty.
func known(name string, list []Fault) error {
	names := make([]string, len(list))
	for i, f := range list {
		if names[i] = f.Name; f.Name == name {
			return nil
		}
	}
	if name == "" {
		return nil
	}
	return fmt.Errorf("there is no fault %q; the faults are %s", name, strings.Join(names, ", "))
}
