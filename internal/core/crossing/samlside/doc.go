// Package samlside plugs SAML 2.0 into the gate: what records hold of the other
// side, how that comes in, what is checked about it, and what the protocol does
// in a crossing. The messages themselves are in package saml.
//
// provider.go and application.go hold the parts of records; taking.go says how
// they are filled, sheet.go what the other side needs from us, checks.go what can
// be found before a sign-in. arrive.go takes messages in, ask.go is the way to a
// provider and back, answer.go that to an application.
package samlside

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/saml"
)

// Name is what the protocol is called on records.
const Name = "saml"

// Purposes of the gate's keys.
const (
	SignsAnswers  = "idp"
	SignsByECDSA  = "idp-ecdsa" // answers for applications that verify it
	SignsRequests = "sp"
	EncryptedTo   = "enc"
)

// Values of the gate's own that are stored when they are first made.
const (
	ownIDP = "idp-entity-id"
	ownSP  = "sp-entity-id"
)

// Protocol is SAML 2.0.
type Protocol struct{}

// Name is what it is called on records.
func (Protocol) Name() string { return Name }

// Providers says that it has providers.
func (Protocol) Providers() bool { return true }

// Applications says that it has applications.
func (Protocol) Applications() bool { return true }

// Fleeting implements crossing.Protocol.
func (Protocol) Fleeting() crossing.Fleeting {
	return crossing.Fleeting{
		Drawn: []string{"ID", "InResponseTo", "SessionIndex", "RelayState", "URI", "DigestValue", "SignatureValue",
			"CipherValue"},
		Timed: []string{"IssueInstant", "NotBefore", "NotOnOrAfter", "AuthnInstant", "SessionNotOnOrAfter"},
		Names: []string{"NameID"}, Once: string(saml.FormatTransient),
		Technical: []string{"Issuer", "Audience", "AuthnContextClassRef", "AuthenticatingAuthority", "X509Certificate",
			"StatusMessage", "RequesterID", "Artifact", "NameID format", "Entity ID", "Signed with", "Encrypted with"}}
}

// Own are our entity IDs.
func (Protocol) Own(base string) map[string]string {
	return map[string]string{ownIDP: base + "/saml/idp", ownSP: base + "/saml/sp"}
}

// Purposes are the keys it needs.
func (Protocol) Purposes() []federation.Purpose {
	return []federation.Purpose{{Name: SignsAnswers, Does: "signs answers"},
		{Name: SignsByECDSA, Does: "signs answers with ECDSA", Kinds: []string{"ec-p256"}, Later: true},
		{Name: SignsRequests, Does: "signs requests"}, {Name: EncryptedTo, Does: "is encrypted to",
			Kinds: keys.RSAKinds()}}
}

// Reserved keeps the address of the shared consumer.
func (Protocol) Reserved(k federation.Kind, n federation.Name) bool {
	return k == federation.KindProvider && n == "acs"
}

// Recognizes claims nothing: SAML is what a record speaks if no other protocol knows what is handed over.
func (Protocol) Recognizes(federation.Kind, []byte, string, federation.Typed) bool { return false }

// About gives the addresses of the shared face towards applications.
func (Protocol) About(g *federation.Gate) []federation.Value {
	f := idpFace(g)
	return []federation.Value{{Label: "IdP entity ID", Value: string(f.EntityID)}, {Label: "Single sign-on service",
		Value: f.Address}}
}

// Contexts ranks the classes of SAML authentication context §3.4 whose order
// hardly anybody doubts; everything else is for the engineer to say.
func (Protocol) Contexts() federation.Ranking {
	const class = "urn:oasis:names:tc:SAML:2.0:ac:classes:"
	return federation.Ranking{
		{class + "Password"},
		{class + "PasswordProtectedTransport"},
		{class + "MobileTwoFactorUnregistered", class + "TimeSyncToken"},
		{class + "MobileTwoFactorContract", class + "SoftwarePKI", class + "X509"},
		{class + "SmartcardPKI"},
	}
}

// NewProvider gives the side of a new provider.
func (Protocol) NewProvider(g *federation.Gate, n federation.Name) federation.ProviderSide {
	p := &Provider{IDP: &saml.IDP{}}
	return p.named(g, n)
}

// NewApplication gives the side of a new application.
func (Protocol) NewApplication(g *federation.Gate, n federation.Name) federation.ApplicationSide {
	return &Application{SP: &saml.SP{}}
}

// stored is what rows of before there were documents hold beside the settings.
type stored struct {
	Metadata []byte          `json:"metadata"`
	Source   string          `json:"source"`
	Settings json.RawMessage `json:"settings"`
}

// take takes what stands beside the side. Rows of before there were documents hold the metadata itself.
func (old stored) take(added time.Time, settings any) (*saml.Metadata, *federation.Intake, error) {
	if len(old.Settings) > 0 {
		if err := json.Unmarshal(old.Settings, settings); err != nil {
			return nil, nil, err
		}
	}
	if old.Metadata == nil {
		return nil, nil, nil
	}
	m, err := saml.TakeMetadata(old.Metadata, saml.Trusting{Now: added, Kept: true})
	if err != nil {
		return nil, nil, err
	}
	in := takenFrom(m)
	in.Source = old.Source
	return m, &in, nil
}

// ReadProvider reads a provider's side.
func (Protocol) ReadProvider(data []byte, added time.Time) (federation.ProviderSide, *federation.Intake, error) {
	p := &Provider{}
	row := struct {
		*Provider
		stored
	}{Provider: p}
	if err := json.Unmarshal(data, &row); err != nil {
		return p, nil, err
	}
	m, in, err := row.take(added, &p.ProviderSettings)
	if err == nil && m != nil {
		p.IDP, err = m.AsProvider()
	}
	if p.IDP == nil && err == nil {
		p.IDP = &saml.IDP{}
	}
	return p, in, err
}

// ReadApplication reads an application's side.
func (Protocol) ReadApplication(data []byte, added time.Time) (federation.ApplicationSide, *federation.Intake, error) {
	a := &Application{}
	row := struct {
		*Application
		stored
	}{Application: a}
	if err := json.Unmarshal(data, &row); err != nil {
		return a, nil, err
	}
	m, in, err := row.take(added, &a.ApplicationSettings)
	if err == nil && m != nil {
		a.SP, err = m.AsApplication()
	}
	if a.SP == nil && err == nil {
		a.SP = &saml.SP{}
	}
	return a, in, err
}

// lacking pairs what is missing with the fields it would be typed in.
func lacking(what []string) []federation.Lack {
	fields := map[byte]string{'e': "entityId", 'S': "ssoRedirect", 'A': "acs", 's': "certificate"}
	var out []federation.Lack
	for _, w := range what {
		out = append(out, federation.Lack{What: w, Field: fields[w[0]]})
	}
	return out
}

func isFormat(s saml.NameIDFormat) bool {
	for _, f := range NameIDFormats {
		if s == f {
			return true
		}
	}
	return s == ""
}

// longFormat gives the identifier of a NameID format that is named by its last part
// (SAML core §8.3).
func longFormat(s string) saml.NameIDFormat {
	for _, f := range NameIDFormats {
		if strings.EqualFold(s, short(string(f))) {
			return f
		}
	}
	return saml.NameIDFormat(s)
}

// FormatOf reads a NameID format by its last part or its whole identifier (SAML core §8.3).
func (p *Provider) FormatOf(text string) (string, error) {
	format := string(longFormat(strings.TrimSpace(text)))
	if !strings.Contains(format, ":") && format != "" {
		return "", fmt.Errorf("there is no NameID format %q; write emailAddress, persistent or unspecified, or its whole identifier", text)
	}
	return format, nil
}

// Expected is the NameID format that is asked for, else the only lasting one that the provider's
// metadata lists.
func (p *Provider) Expected() string {
	if p.AskNameIDFormat != "" && p.AskNameIDFormat != saml.FormatTransient {
		return string(p.AskNameIDFormat)
	}
	lasting := slices.DeleteFunc(slices.Clone(p.IDP.NameIDFormats),
		func(f saml.NameIDFormat) bool { return f == saml.FormatTransient })
	if len(lasting) == 1 {
		return string(lasting[0])
	}
	return ""
}

// Nearby are the other formats. A name without format is unspecified (SAML core §2.2.2, §8.3.1).
func (p *Provider) Nearby(format string) (formats []string, same int) {
	given, all := saml.NameIDFormat(format), append([]saml.NameIDFormat{""}, NameIDFormats...)
	for _, alike := range []bool{true, false} {
		for _, f := range all {
			if f != given && f != saml.FormatTransient && f.Same(given) == alike {
				formats = append(formats, string(f))
			}
		}
		if alike {
			same = len(formats)
		}
	}
	return formats, same
}

// NameIDFormats are those that can be asked for or set.
var NameIDFormats = []saml.NameIDFormat{saml.FormatEmail, saml.FormatPersistent, saml.FormatTransient,
	saml.FormatUnspecified}

func issuerFact(s saml.EntityID) []finding.Evidence {
	return []finding.Evidence{finding.Fact("Issuer", finding.Clip(s))}
}

// Can says what it can do beside what every side does.
func (p *Provider) Can() federation.Abilities {
	return federation.Abilities{Formatting: p, Verifying: p}
}

// InCrossing says what it can do in a crossing.
func (p *Provider) InCrossing() crossing.Abilities {
	return crossing.Abilities{Unproved: p, Inquiring: p, Covering: p}
}

// Can says what it can do beside what every side does.
func (a *Application) Can() federation.Abilities {
	return federation.Abilities{Requesting: a, Landing: a, Needing: a, Verifying: a}
}

// InCrossing says what it can do in a crossing.
func (a *Application) InCrossing() crossing.Abilities { return crossing.Abilities{Covering: a} }
