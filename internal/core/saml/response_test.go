package saml_test

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/core/xmlsec"
)

var now = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

const (
	idpID = "https://accounts.wrenmoor.example/saml"
	ourID = "https://gate.wrenmoor.example/saml/sp/wrenmoor-staff"
	acs   = "https://gate.wrenmoor.example/saml/sp/wrenmoor-staff/acs"
)

// answer is a Response as a provider writes it; @…@ is for the signatures.
const answer = `<samlp:Response xmlns:samlp="urn:oasis:names:tc:SAML:2.0:protocol" xmlns:saml="urn:oasis:names:tc:SAML:2.0:assertion" ID="_r1" Version="2.0" IssueInstant="2026-11-23T08:00:00Z" Destination="` + acs + `" InResponseTo="_q1"><saml:Issuer>` + idpID + `</saml:Issuer>@RESPONSE@<samlp:Status><samlp:StatusCode Value="urn:oasis:names:tc:SAML:2.0:status:Success"/></samlp:Status>` + assertion + `</samlp:Response>`

const assertion = `<saml:Assertion ID="_a1" Version="2.0" IssueInstant="2026-11-23T08:00:00Z"><saml:Issuer>` + idpID +
	`</saml:Issuer>@ASSERTION@<saml:Subject><saml:NameID Format="urn:oasis:names:tc:SAML:1.1:nameid-format:emailAddress">ada.fenwick@wrenmoor.example</saml:NameID><saml:SubjectConfirmation Method="urn:oasis:names:tc:SAML:2.0:cm:bearer"><saml:SubjectConfirmationData InResponseTo="_q1" NotOnOrAfter="2026-11-23T08:05:00Z" Recipient="` + acs + `"/></saml:SubjectConfirmation></saml:Subject><saml:Conditions NotBefore="2026-11-23T07:59:00Z" NotOnOrAfter="2026-11-23T08:05:00Z"><saml:AudienceRestriction><saml:Audience>` + ourID + `</saml:Audience></saml:AudienceRestriction></saml:Conditions><saml:AuthnStatement AuthnInstant="2026-11-23T07:59:30Z" SessionIndex="_s1"><saml:AuthnContext><saml:AuthnContextClassRef>urn:oasis:names:tc:SAML:2.0:ac:classes:PasswordProtectedTransport</saml:AuthnContextClassRef></saml:AuthnContext></saml:AuthnStatement><saml:AttributeStatement><saml:Attribute Name="groups"><saml:AttributeValue>drivers</saml:AttributeValue><saml:AttributeValue>controllers</saml:AttributeValue></saml:Attribute></saml:AttributeStatement></saml:Assertion>`

func signature(id string) string {
	return `<ds:Signature xmlns:ds="http://www.w3.org/2000/09/xmldsig#"><ds:SignedInfo><ds:CanonicalizationMethod Algorithm="http://www.w3.org/2001/10/xml-exc-c14n#"/><ds:SignatureMethod Algorithm="` + xmlsec.RSASHA256 + `"/><ds:Reference URI="#` + id + `"><ds:Transforms><ds:Transform Algorithm="http://www.w3.org/2000/09/xmldsig#enveloped-signature"/><ds:Transform Algorithm="http://www.w3.org/2001/10/xml-exc-c14n#"/></ds:Transforms><ds:DigestMethod Algorithm="http://www.w3.org/2001/04/xmlenc#sha256"/><ds:DigestValue/></ds:Reference></ds:SignedInfo><ds:SignatureValue/></ds:Signature>`
}

// signer has the xmlsec1 program sign; nothing of ours is used for it.
type signer struct {
	t    *testing.T
	file string
	key  *rsa.PrivateKey
}

func newSigner(t *testing.T) *signer {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	der, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "key.pem")
	require.NoError(t, os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), 0o600))
	return &signer{t, file, key}
}

// sign fills in the signature of the element of this kind: "assertion",
// "response", "both" or "none".
func (s *signer) sign(text, what string) string {
	s.t.Helper()
	both := what == "both"
	marks := []struct {
		mark, id, node string
		wanted         bool
	}{
		{"@ASSERTION@", "_a1", "urn:oasis:names:tc:SAML:2.0:assertion:Assertion", what == "assertion" || both},
		{"@RESPONSE@", "_r1", "urn:oasis:names:tc:SAML:2.0:protocol:Response", what == "response" || both},
	}
	for _, m := range marks {
		if !m.wanted {
			text = strings.ReplaceAll(text, m.mark, "")
			continue
		}
		in, out := filepath.Join(s.t.TempDir(), "in.xml"), filepath.Join(s.t.TempDir(), "out.xml")
		require.NoError(s.t, os.WriteFile(in, []byte(strings.Replace(text, m.mark, signature(m.id), 1)), 0o600))
		msg, err := exec.Command("xmlsec1", "--sign", "--privkey-pem", s.file, "--id-attr:ID",
			"urn:oasis:names:tc:SAML:2.0:assertion:Assertion",
			"--id-attr:ID", "urn:oasis:names:tc:SAML:2.0:protocol:Response", "--node-xpath",
			"//*[@ID='"+m.id+"']/*[local-name()='Signature']", "--output", out, in).CombinedOutput()
		require.NoError(s.t, err, string(msg))
		signed, err := os.ReadFile(out)
		require.NoError(s.t, err)
		text = strings.TrimPrefix(string(signed), "<?xml version=\"1.0\"?>\n")
	}
	return text
}

func read(octets string, idp *saml.IDP, x saml.Expect) (*saml.Assertion, finding.Checks, error) {
	var log finding.Checks
	opened, err := saml.OpenResponse([]byte(octets), idp, saml.Trust{Now: now}, &log)
	if err != nil {
		return nil, log, err
	}
	a, err := opened.Check(x, &log)
	return a, log, err
}

func TestResponse(t *testing.T) {
	s := newSigner(t)
	idp := &saml.IDP{EntityID: idpID,
		Keys: []saml.Key{{Use: "signing", Certificate: keys.Certificate{Public: &s.key.PublicKey}}}}
	asked := saml.Expect{EntityIDs: []saml.EntityID{ourID}, ACS: acs, Request: &saml.Sent{ID: "_q1"},
		Now:  now.Add(time.Second),
		Skew: time.Minute}
	unasked := asked
	unasked.Request = nil
	const none finding.Code = ""

	for _, c := range []struct {
		rule   string
		sign   string
		before []string // edits before signing: a valid signature over bad content
		after  []string // edits after signing
		x      saml.Expect
		want   finding.Code
	}{
		{"accepts a signed assertion", "assertion", nil, nil, asked, none},
		{"accepts a signed Response", "response", nil, nil, asked, none},
		{"accepts both signed", "both", nil, nil, asked, none},
		{"accepts other prefixes and a default namespace", "assertion", []string{"xmlns:samlp", "xmlns", "xmlns:saml",
			"xmlns:x", "samlp:", "", "saml:", "x:"}, nil, asked, none},
		{"accepts CDATA and comments in a value", "assertion",
			[]string{"ada.fenwick@", "<![CDATA[ada]]><!-- x -->.fenwick@"}, nil, asked, none},
		{"accepts times with milliseconds and offset", "assertion", []string{"2026-11-23T08:05:00Z",
			"2026-11-23T09:05:00.123+01:00"}, nil, asked, none},
		{"accepts unknown extensions and foreign attributes", "assertion",
			[]string{"<samlp:Status>",
				`<samlp:Extensions><x:any xmlns:x="urn:x" x:y="z"><x:deep/></x:any></samlp:Extensions><samlp:Status>`,
				"<saml:AuthnStatement ", `<saml:AuthnStatement xmlns:x="urn:x" x:y="z" `}, nil, asked, none},
		{"accepts typed and empty values", "assertion", []string{"<saml:AttributeValue>drivers",
			`<saml:AttributeValue xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" xmlns:xs="http://www.w3.org/2001/XMLSchema" xsi:type="xs:string">drivers`, "</saml:Attribute>", `<saml:AttributeValue xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" xsi:nil="true"/></saml:Attribute>`}, nil, asked, none},
		{"accepts white space between elements", "assertion", []string{"><saml:", ">\n  <saml:"}, nil, asked, none},
		{"accepts a second confirmation of another method", "assertion", []string{"<saml:SubjectConfirmation ",
			`<saml:SubjectConfirmation Method="urn:oasis:names:tc:SAML:2.0:cm:sender-vouches"/><saml:SubjectConfirmation `},
			nil, asked, none},
		{"accepts one of several audiences", "assertion",
			[]string{"<saml:Audience>", "<saml:Audience>https://other.example</saml:Audience><saml:Audience>"}, nil, asked,
			none},
		{"accepts an unsolicited answer where nobody asked", "assertion", []string{` InResponseTo="_q1"`, ""}, nil, unasked,
			none},
		{"notes the mistyped e-mail format", "assertion", []string{"SAML:1.1:nameid-format:emailAddress",
			"SAML:2.0:nameid-format:emailAddress"}, nil, asked, none},

		{"refuses a DOCTYPE", "assertion", nil, []string{"<samlp:Response ", "<!DOCTYPE samlp:Response><samlp:Response "},
			asked, finding.XMLDoctype},
		{"refuses no signature", "none", nil, nil, asked, finding.SignatureMissing},
		{"refuses an altered name", "assertion", nil, []string{"ada.fenwick@", "eve@"}, asked, finding.SignatureAltered},
		{"refuses an altered status in a signed Response", "response", nil,
			[]string{"<samlp:Status>", "<samlp:Status><!-- --><samlp:X/>"}, asked, finding.SignatureAltered},
		{"refuses a good Response signature with a bad assertion signature", "both", nil,
			[]string{"@x", "@x", "<saml:Audience>" + ourID, "<saml:Audience>" + ourID + "/"}, asked, finding.SignatureAltered},
		{"refuses a second assertion beside the signed one", "assertion", nil,
			[]string{"</samlp:Status>", "</samlp:Status>" + strings.NewReplacer("@ASSERTION@", "", "_a1", "_evil", "ada.",
				"eve.").Replace(assertion)}, asked, finding.ResponseNoAssertion},
		{"refuses the signed assertion moved into Extensions", "assertion", nil, []string{"<saml:Assertion ", "@CUT@"},
			asked, finding.SignatureLayout},
		{"refuses another issuer of the Response", "assertion", []string{"_q1\"><saml:Issuer>" + idpID,
			"_q1\"><saml:Issuer>https://evil.example"}, nil, asked, finding.IssuerOther},
		{"refuses another issuer of the assertion", "assertion", []string{"00Z\"><saml:Issuer>" + idpID,
			"00Z\"><saml:Issuer>https://evil.example"}, nil, asked, finding.IssuerOther},
		{"refuses an issuer cut off by an element", "assertion", []string{"<saml:Issuer>" + idpID + "</saml:Issuer>@ASS",
			"<saml:Issuer>" + idpID + "<saml:X/></saml:Issuer>@ASS"}, nil, asked, finding.IssuerMissing},
		{"refuses a signed Response without issuer", "response",
			[]string{"<saml:Issuer>" + idpID + "</saml:Issuer>@RESPONSE@", "@RESPONSE@"}, nil, asked, finding.IssuerMissing},
		{"refuses another destination", "assertion", []string{`Destination="` + acs, `Destination="` + acs + "/"}, nil,
			asked, finding.DestinationOther},
		{"refuses a signed Response without destination", "response", []string{` Destination="` + acs + `"`, ""}, nil, asked,
			finding.DestinationMissing},
		{"refuses another audience", "assertion", []string{"<saml:Audience>" + ourID, "<saml:Audience>" + ourID + "/"}, nil,
			asked, finding.AudienceOther},
		{"refuses when one of two restrictions leaves us out", "assertion", []string{"</saml:Conditions>",
			"<saml:AudienceRestriction><saml:Audience>https://x.example</saml:Audience></saml:AudienceRestriction></saml:Conditions>"}, nil, asked, finding.AudienceOther},
		{"refuses no audience", "assertion",
			[]string{"<saml:AudienceRestriction><saml:Audience>" + ourID + "</saml:Audience></saml:AudienceRestriction>", ""},
			nil, asked, finding.AudienceMissing},
		{"refuses another recipient", "assertion", []string{`Recipient="` + acs, `Recipient="https://other.example/acs`},
			nil, asked, finding.RecipientOther},
		{"refuses a confirmation with NotBefore", "assertion", []string{"<saml:SubjectConfirmationData ",
			`<saml:SubjectConfirmationData NotBefore="2026-11-23T07:00:00Z" `}, nil, asked, finding.ConfirmationMissing},
		{"refuses a confirmation without end", "assertion", []string{`_q1" NotOnOrAfter="2026-11-23T08:05:00Z"`, `_q1"`},
			nil, asked, finding.ConfirmationMissing},
		{"refuses holder-of-key alone", "assertion", []string{"cm:bearer", "cm:holder-of-key"}, nil, asked,
			finding.ConfirmationMissing},
		{"refuses an expired confirmation", "assertion", []string{`_q1" NotOnOrAfter="2026-11-23T08:05:00Z"`,
			`_q1" NotOnOrAfter="2026-11-23T07:58:00Z"`}, nil, asked, finding.AssertionExpired},
		{"refuses expired conditions", "assertion", []string{`07:59:00Z" NotOnOrAfter="2026-11-23T08:05:00Z"`,
			`07:50:00Z" NotOnOrAfter="2026-11-23T07:58:59Z"`}, nil, asked, finding.AssertionExpired},
		{"refuses conditions not yet valid", "assertion", []string{`NotBefore="2026-11-23T07:59:00Z"`,
			`NotBefore="2026-11-23T08:02:00Z"`}, nil, asked, finding.AssertionNotYetValid},
		{"refuses a session that is over", "assertion", []string{"<saml:AuthnStatement ",
			`<saml:AuthnStatement SessionNotOnOrAfter="2026-11-23T07:00:00Z" `}, nil, asked, finding.AssertionExpired},
		{"refuses an unknown condition", "assertion", []string{"</saml:Conditions>", "<saml:Condition/></saml:Conditions>"},
			nil, asked, finding.ConditionUnknown},
		{"refuses no AuthnStatement", "assertion", []string{"saml:AuthnStatement", "saml:Statement"}, nil, asked,
			finding.AuthnStatementMissing},
		{"refuses an empty name", "assertion", []string{"ada.fenwick@wrenmoor.example</", " </"}, nil, asked,
			finding.NameIDMissing},
		{"refuses elements in a name", "assertion", []string{"ada.fenwick@", "ada.fenwick<saml:X/>@"}, nil, asked,
			finding.NameIDMissing},
		{"refuses an answer to another request", "assertion", []string{"_q1", "_q2"}, nil, asked, finding.InResponseToOther},
		{"refuses another request in the confirmation", "assertion", []string{`Data InResponseTo="_q1"`,
			`Data InResponseTo="_q2"`}, nil, asked, finding.InResponseToOther},
		{"refuses an assertion that names no request", "assertion", []string{`Data InResponseTo="_q1"`, `Data`}, nil, asked,
			finding.InResponseToMixed},
		{"refuses a Response that names no request", "assertion", []string{`" InResponseTo="_q1"><saml:Issuer`,
			`"><saml:Issuer`}, nil, asked, finding.InResponseToMixed},
		{"refuses an answer to a request nobody sent", "assertion", nil, nil, unasked, finding.InResponseToOther},
		{"refuses a confirmation for a request in an unsolicited answer", "assertion",
			[]string{`" InResponseTo="_q1"><saml:Issuer`, `"><saml:Issuer`}, nil, unasked, finding.InResponseToOther},
		{"refuses an encrypted assertion", "none", []string{assertion, "<saml:EncryptedAssertion/>"}, nil, asked,
			finding.ResponseEncrypted},
		{"reports a refusal of the provider", "none", []string{"status:Success", "status:Responder"}, nil, asked,
			finding.ResponseStatus},
		{"reports a signed refusal of the provider", "response", []string{"status:Success", "status:Responder"}, nil, asked,
			finding.ResponseStatus},
		{"refuses a signed refusal that was altered", "response", []string{"status:Success", "status:Responder"},
			[]string{"status:Responder", "status:Requester"}, asked, finding.SignatureAltered},
		{"refuses a request in place of an answer", "none", []string{"samlp:Response", "samlp:AuthnRequest"}, nil, asked,
			finding.MessageOther},
		{"refuses another version", "none", []string{`_r1" Version="2.0"`, `_r1" Version="1.1"`}, nil, asked,
			finding.MessageOther},
	} {
		t.Run(c.rule, func(t *testing.T) {
			s := &signer{t, s.file, s.key}
			text := s.sign(strings.NewReplacer(c.before...).Replace(answer), c.sign)
			for i := 0; i < len(c.after); i += 2 {
				text = strings.Replace(text, c.after[i], c.after[i+1], 1)
			}
			if i := strings.Index(text, "@CUT@"); i >= 0 {
				end := strings.Index(text, "</saml:Assertion>") + len("</saml:Assertion>")
				moved := "<saml:Assertion " + text[i+5:end]
				text = text[:i] + strings.NewReplacer("@ASSERTION@", "", "_a1", "_evil", "ada.", "eve.").Replace(assertion) +
					text[end:]
				text = strings.Replace(text, "<samlp:Status>", "<samlp:Extensions>"+moved+"</samlp:Extensions><samlp:Status>", 1)
			}
			a, log, err := read(text, idp, c.x)
			if c.want != none {
				require.Error(t, err)
				require.True(t, finding.Is(err, c.want), "%v", err)
				require.NotEmpty(t, log, "the refusal is recorded")
				require.NotNil(t, log[len(log)-1].Finding)
				return
			}
			require.NoError(t, err)
			require.Equal(t, "ada.fenwick@wrenmoor.example", a.NameID.Value)
			require.Equal(t, saml.FormatEmail, a.NameID.Format)
			noted := slices.ContainsFunc(log, func(c finding.Check) bool {
				return c.Finding != nil && c.Finding.Code == finding.NameIDMistyped
			})
			require.Equal(t, strings.Contains(c.rule, "mistyped"), noted)
			require.Equal(t, "[drivers controllers]", fmt.Sprint(a.Attributes[0].Values))
			require.Equal(t, "_s1", a.SessionIndex)
		})
	}

	t.Run("SHA-1 by exception leaves a warning", func(t *testing.T) {
		old := &signer{t, s.file, s.key}
		weak := strings.Replace(answer, "@ASSERTION@", strings.Replace(signature("_a1"), xmlsec.RSASHA256, xmlsec.RSASHA1,
			1), 1)
		text := old.sign(strings.Replace(weak, "@RESPONSE@", "@ASSERTION@", 1), "none")
		in, out := filepath.Join(t.TempDir(), "in.xml"), filepath.Join(t.TempDir(), "out.xml")
		require.NoError(t, os.WriteFile(in, []byte(text), 0o600))
		msg, err := exec.Command("xmlsec1", "--sign", "--privkey-pem", s.file, "--id-attr:ID",
			"urn:oasis:names:tc:SAML:2.0:assertion:Assertion", "--output", out, in).CombinedOutput()
		require.NoError(t, err, string(msg))
		signed, err := os.ReadFile(out)
		require.NoError(t, err)
		_, _, err = read(string(signed), idp, asked)
		require.True(t, finding.Is(err, finding.SignatureSHA1), "%v", err)
		var log finding.Checks
		opened, err := saml.OpenResponse(signed, idp, saml.Trust{Now: now, Policy: xmlsec.Policy{AllowSHA1: true}}, &log)
		require.NoError(t, err)
		_, err = opened.Check(asked, &log)
		require.NoError(t, err)
		require.True(t, slices.ContainsFunc(log, func(c finding.Check) bool {
			return c.Finding != nil && c.Finding.Code == finding.SignatureSHA1 && c.Finding.Severity == finding.Warning
		}))
	})
	t.Run("a key for encryption never verifies", func(t *testing.T) {
		sealed := &saml.IDP{EntityID: idpID,
			Keys: []saml.Key{{Use: "encryption", Certificate: keys.Certificate{Public: &s.key.PublicKey}}}}
		_, _, err := read(s.sign(answer, "assertion"), sealed, asked)
		require.True(t, finding.Is(err, finding.SignatureNoKey), "%v", err)
	})
	t.Run("proxy restrictions are handed on", func(t *testing.T) {
		a, _, err := read(s.sign(strings.Replace(answer, "</saml:Conditions>",
			`<saml:ProxyRestriction Count="0"><saml:Audience>https://x.example</saml:Audience></saml:ProxyRestriction></saml:Conditions>`, 1), "assertion"), idp, asked)
		require.NoError(t, err)
		require.True(t, a.NoProxy)
		require.Equal(t, []string{"https://x.example"}, a.ProxyAudiences)
	})
}

func TestOurResponseIsAcceptedByXmlsec1AndByUs(t *testing.T) {
	pair, err := keys.Generate("test", now, rand.Reader)
	require.NoError(t, err)
	attributes := []saml.Attribute{{Name: "urn:oid:2.5.4.4", FriendlyName: "sn", Values: saml.Texts("Petrák & <Söhne>")},
		{Name: "groups", Values: saml.Texts()}, {Name: "grade", Values: []saml.AttributeValue{{Text: "7", Type: "integer"}}}}
	octets, err := saml.WriteResponse(saml.Answer{ResponseID: "_r", AssertionID: "_a", At: now, Lifetime: time.Minute,
		Issuer: idpID, Destination: acs, InResponseTo: "_q1", Audience: ourID,
		NameID: saml.NameID{Format: saml.FormatEmail, Value: "dov.petrak@wrenmoor.example"}, AuthnInstant: now,
		SessionIndex: "_s", Attributes: attributes}, saml.Protection{Pair: pair})
	require.NoError(t, err)
	file, cert := filepath.Join(t.TempDir(), "r.xml"), filepath.Join(t.TempDir(), "c.pem")
	require.NoError(t, os.WriteFile(file, octets, 0o600))
	require.NoError(t, os.WriteFile(cert, pair.Certificate.PEM(), 0o600))
	out, err := exec.Command("xmlsec1", "--verify", "--pubkey-cert-pem", cert, "--id-attr:ID",
		"urn:oasis:names:tc:SAML:2.0:assertion:Assertion", file).CombinedOutput()
	require.NoError(t, err, string(out))
	idp := &saml.IDP{EntityID: idpID, Keys: []saml.Key{{Certificate: pair.Certificate}}}
	a, _, err := read(string(octets), idp, saml.Expect{EntityIDs: []saml.EntityID{ourID}, ACS: acs,
		Request: &saml.Sent{ID: "_q1"}, Now: now})
	require.NoError(t, err)
	require.Equal(t, saml.AttributeValue{Text: "Petrák & <Söhne>", Type: "string"}, a.Attributes[0].Values[0])
	require.Equal(t, attributes[2].Values, a.Attributes[2].Values)
	require.Equal(t, "sn", a.Attributes[0].FriendlyName)
}
