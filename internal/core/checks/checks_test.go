package checks_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"fmt"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/crossing/samlside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/listed"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/core/xmlsec"
)

// now is a little ahead, so that certificates that openssl makes are valid.
var now = time.Now().Add(time.Hour).UTC().Truncate(time.Second)

func at(d time.Duration) string { return now.Add(d).Format(time.RFC3339) }

// certificate makes one from a template; the key is EC unless given.
func certificate(t *testing.T, edit func(*x509.Certificate)) string {
	tmpl := &x509.Certificate{SerialNumber: big.NewInt(7), Subject: pkix.Name{CommonName: "accounts.wrenmoor.example"},
		NotBefore: now.AddDate(-1, 0, 0), NotAfter: now.AddDate(1, 0, 0)}
	if edit != nil {
		edit(tmpl)
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	der, err := x509.CreateCertificate(rand.Reader, tmpl, tmpl, key.Public(), key)
	require.NoError(t, err)
	return base64.StdEncoding.EncodeToString(der)
}

// byOpenssl makes a certificate that Go would not: short keys, SHA-1.
func byOpenssl(t *testing.T, args ...string) string {
	dir := t.TempDir()
	out := filepath.Join(dir, "c.der")
	cmd := exec.Command("openssl", append([]string{"req", "-x509", "-nodes", "-subj", "/CN=accounts.wrenmoor.example",
		"-days", "3650", "-keyout", filepath.Join(dir, "k.pem"), "-outform", "DER", "-out", out}, args...)...)
	text, err := cmd.CombinedOutput()
	require.NoError(t, err, string(text))
	der, err := os.ReadFile(out)
	require.NoError(t, err)
	return base64.StdEncoding.EncodeToString(der)
}

const (
	idpID = "https://accounts.wrenmoor.example/saml"
	spID  = "https://roster.wrenmoor.example/saml"
	sha1  = `<alg:SigningMethod Algorithm="http://www.w3.org/2000/09/xmldsig#rsa-sha1"/>`
)

// world is a provider and an application as documents, for pairs that differ in
// one point.
type world struct {
	idp, sp string
	idpSet  func(*samlside.ProviderSettings)
	spSet   func(*federation.Application, *samlside.ApplicationSettings)
	more    func(*federation.Snapshot) *federation.Snapshot
}

func key(use, cert, more string) string {
	return `<md:KeyDescriptor use="` + use + `"><ds:KeyInfo><ds:X509Data><ds:X509Certificate>` + cert +
		`</ds:X509Certificate></ds:X509Data></ds:KeyInfo>` + more + `</md:KeyDescriptor>`
}

func sound(t *testing.T) world {
	head := `<md:EntityDescriptor xmlns:md="` + saml.NSMetadata +
		`" xmlns:ds="http://www.w3.org/2000/09/xmldsig#" xmlns:alg="urn:oasis:names:tc:SAML:metadata:algsupport" entityID="%s">`
	return world{
		idp: fmt.Sprintf(head, idpID) +
			`<md:Extensions/><md:IDPSSODescriptor protocolSupportEnumeration="urn:oasis:names:tc:SAML:2.0:protocol">` +
			key("signing", certificate(t, nil), "") +
			`<md:NameIDFormat>` + string(saml.FormatPersistent) + `</md:NameIDFormat><md:SingleSignOnService Binding="` +
			saml.BindingRedirect + `" Location="https://accounts.wrenmoor.example/sso"/></md:IDPSSODescriptor></md:EntityDescriptor>`,
		sp: fmt.Sprintf(head, spID) +
			`<md:Extensions/><md:SPSSODescriptor AuthnRequestsSigned="true" protocolSupportEnumeration="urn:oasis:names:tc:SAML:2.0:protocol">` + key("signing", certificate(t, nil), "") + key("encryption", certificate(t, nil), `<md:EncryptionMethod Algorithm="http://www.w3.org/2009/xmlenc11#aes256-gcm"/>`) +
			`<md:NameIDFormat>` + string(saml.FormatPersistent) + `</md:NameIDFormat><md:AssertionConsumerService Binding="` +
			saml.BindingPOST + `" Location="https://roster.wrenmoor.example/acs" index="0"/></md:SPSSODescriptor></md:EntityDescriptor>`,
		idpSet: func(*samlside.ProviderSettings) {},
		spSet:  func(_ *federation.Application, s *samlside.ApplicationSettings) { s.Encrypt = true },
		more:   func(s *federation.Snapshot) *federation.Snapshot { return s },
	}
}

var own = func() *keys.Pair {
	p, err := keys.Generate("gate.wrenmoor.example", now, rand.Reader)
	if err != nil {
		panic(err)
	}
	return p
}()

// found gives the findings on both, as codes with severity.
func (w world) found(t *testing.T) map[finding.Code]*finding.Finding {
	trust := federation.Trusting{Now: now.AddDate(-1, 0, 0), Unfinished: true}
	p, idp := &federation.Provider{}, &samlside.Provider{IDP: &saml.IDP{}}
	taken, in, err := idp.Take([]byte(w.idp), trust)
	require.NoError(t, err)
	idp = taken.(*samlside.Provider)
	p.Side, p.Name, p.Phase, p.Intake = idp, "staff", federation.Live, in
	w.idpSet(&idp.ProviderSettings)
	a, sp := &federation.Application{}, &samlside.Application{SP: &saml.SP{}}
	taken, in, err = sp.Take([]byte(w.sp), trust)
	require.NoError(t, err)
	sp = taken.(*samlside.Application)
	a.Side, a.Name, a.Phase, a.Provider, a.Intake, a.Everyone = sp, "roster", federation.Live, "staff", in,
		federation.EveryoneYes
	w.spSet(a, &sp.ApplicationSettings)
	set := federation.KeySet{Current: own}
	snap := w.more(federation.Load(federation.Gate{Keys: map[string]federation.KeySet{"idp": set, "sp": set, "enc": set},
		Purposes: samlside.Protocol{}.Purposes()}, p, a))
	c := checks.New(snap, now)
	out := map[finding.Code]*finding.Finding{}
	for _, f := range append(c.Record(p), c.Record(a)...) {
		out[f.Code] = f
	}
	return out
}

func swap(old, new string) func(string) string {
	return func(s string) string {
		if !strings.Contains(s, old) {
			panic("nothing to swap: " + old)
		}
		return strings.Replace(s, old, new, 1)
	}
}

// certIn replaces the n-th certificate of a document.
func certIn(n int, cert string) func(string) string {
	return func(s string) string {
		parts := strings.SplitAfter(s, "<ds:X509Certificate>")
		parts[n+1] = cert + parts[n+1][strings.Index(parts[n+1], "<"):]
		return strings.Join(parts, "")
	}
}

func second(id string) func(*federation.Snapshot) *federation.Snapshot {
	return func(s *federation.Snapshot) *federation.Snapshot {
		side := &samlside.Application{SP: &saml.SP{EntityID: saml.EntityID(id)}}
		side.OwnFace = true
		a := &federation.Application{Side: side}
		a.Name = "second"
		return s.With(a)
	}
}

// Each case is a document, or a record, that differs from a sound one in just the
// point that the finding is about.
func TestChecks(t *testing.T) {
	require.Empty(t, sound(t).found(t), "the sound pair has no finding")
	signed := `<ds:Signature><ds:SignedInfo><ds:CanonicalizationMethod Algorithm="http://www.w3.org/2001/10/xml-exc-c14n#"/><ds:SignatureMethod Algorithm="http://www.w3.org/2000/09/xmldsig#rsa-sha1"/><ds:Reference URI=""><ds:DigestMethod Algorithm="http://www.w3.org/2000/09/xmldsig#sha1"/><ds:DigestValue>AA==</ds:DigestValue></ds:Reference></ds:SignedInfo><ds:SignatureValue>AA==</ds:SignatureValue></ds:Signature><md:Extensions/>`
	acs := `Location="https://roster.wrenmoor.example/acs"`
	another := func(address string) func(string) string {
		return swap(`</md:SPSSODescriptor>`, `<md:AssertionConsumerService Binding="`+saml.BindingPOST+`" Location="`+
			address+`" index="1"/></md:SPSSODescriptor>`)
	}
	ends := func(after time.Duration) string {
		return certificate(t, func(c *x509.Certificate) { c.NotAfter = now.Add(after) })
	}
	for _, c := range []struct {
		rule     string
		idp, sp  func(string) string
		idpSet   func(*samlside.ProviderSettings)
		spSet    func(*federation.Application, *samlside.ApplicationSettings)
		more     func(*federation.Snapshot) *federation.Snapshot
		want     finding.Code
		severity finding.Severity
		says     string
	}{
		{rule: "entity ID with a slash more than another record's", more: second(spID + "/"), want: finding.EntityIDNear,
			says: "slash"},
		{rule: "entity ID in another case", more: second(strings.Replace(spID, "roster", "Roster", 1)),
			want: finding.EntityIDNear, says: "case"},
		{rule: "entity ID with another scheme", more: second("http" + strings.TrimPrefix(spID, "https")),
			want: finding.EntityIDNear, says: "scheme"},
		{rule: "entity ID in white space", sp: swap(`entityID="`, "entityID=\"\u00a0"), want: finding.ValueTrimmed,
			says: "⍽https"},
		{rule: "address in white space", sp: swap(`Location="`, `Location=" `), want: finding.ValueTrimmed,
			says: "␠https"},
		{rule: "entity ID on record twice", more: second(spID), want: finding.EntityIDTwice, severity: finding.Note,
			says: "second"},
		{rule: "ACS with a slash more", sp: another("https://roster.wrenmoor.example/acs/"), want: finding.AddressNear,
			says: "slash"},
		{rule: "ACS by http", sp: swap(`https://roster.wrenmoor.example/acs`, `http://roster.wrenmoor.example/acs`),
			want: finding.AddressPlain, says: "https://roster"},
		{rule: "ACS at a foreign host", sp: swap(acs, `Location="https://roster.elsewhere.example/acs"`),
			want: finding.AddressForeign, severity: finding.Warning, says: "elsewhere"},
		{rule: "ACS at a foreign host where the hosts are known",
			sp: swap(acs, `Location="https://roster.elsewhere.example/acs"`),
			spSet: func(s *federation.Application, _ *samlside.ApplicationSettings) {
				s.OwnHosts = listed.ParseWords("roster.oakhollow.example")
			}, want: finding.AddressForeign, severity: finding.Error},
		{rule: "no common binding at the provider", idp: swap(saml.BindingRedirect,
			"urn:oasis:names:tc:SAML:2.0:bindings:SOAP"), want: finding.BindingNoneCommon, says: "SOAP"},
		{rule: "the binding asked for is not there",
			idpSet: func(s *samlside.ProviderSettings) {
				s.RequestBinding = "post"
			}, want: finding.BindingNoneCommon, says: "HTTP-POST"},
		{rule: "artifact asked for, no service", idpSet: func(s *samlside.ProviderSettings) { s.UseArtifact = true },
			want: finding.BindingNoneCommon, says: "ArtifactResolutionService"},
		{rule: "only PAOS at the application", sp: swap(saml.BindingPOST, "urn:oasis:names:tc:SAML:2.0:bindings:PAOS"),
			want: finding.BindingNoneCommon, says: "PAOS"},
		{rule: "only artifact", sp: swap(saml.BindingPOST, saml.BindingArtifact), want: finding.ArtifactOnly,
			severity: finding.Warning},
		{rule: "only artifact, and nobody could resolve it", sp: func(s string) string {
			return swap(saml.BindingPOST, saml.BindingArtifact)(swap(`use="signing"`, `use="encryption"`)(
				swap(`AuthnRequestsSigned="true" `, "")(s)))
		}, want: finding.ArtifactOnly, severity: finding.Error},
		{rule: "no common NameID format", sp: swap(string(saml.FormatPersistent), string(saml.FormatEmail)),
			want: finding.NameIDNoneCommon,
			says: "emailAddress"},
		{rule: "NameID format on the record that nobody has",
			spSet: func(_ *federation.Application, s *samlside.ApplicationSettings) {
				s.NameIDFormat = saml.FormatEmail
			}, want: finding.NameIDNoneCommon},
		{rule: "NameID format asked of a provider that does not offer it",
			idpSet: func(s *samlside.ProviderSettings) { s.AskNameIDFormat = saml.FormatEmail },
			want:   finding.NameIDNoneCommon},
		{rule: "metadata signed with SHA-1", idp: swap(`<md:Extensions/>`, signed), want: finding.MetadataSHA1},
		{rule: "only SHA-1 announced", idp: swap(`<md:Extensions/>`, `<md:Extensions>`+sha1+`</md:Extensions>`),
			want: finding.AlgorithmsSHA1, severity: finding.Error},
		{rule: "only SHA-1 announced, and allowed", idp: swap(`<md:Extensions/>`, `<md:Extensions>`+sha1+`</md:Extensions>`),
			idpSet: func(s *samlside.ProviderSettings) {
				s.AllowSHA1 = true
			}, want: finding.AlgorithmsSHA1, severity: finding.Warning},
		{rule: "ECDSA announced, and signed with RSA", sp: swap(`<md:Extensions/>`, `<md:Extensions><alg:SigningMethod Algorithm="`+
			xmlsec.ECDSASHA256+`"/></md:Extensions>`), want: finding.ECDSAAnnounced, severity: finding.Note, says: "RSA 2048"},
		{rule: "certificate signed with SHA-1, trust by key", idp: certIn(0, byOpenssl(t, "-newkey", "rsa:2048", "-sha1")),
			want: finding.CertificateSHA1, severity: finding.Note, says: "by key"},
		{rule: "RSA below 2048", idp: certIn(0, byOpenssl(t, "-newkey", "rsa:1024", "-sha256")), want: finding.KeyWeak,
			says: "RSA 1024"},
		{rule: "certificate expired", idp: certIn(0, ends(-time.Hour)), want: finding.CertificateExpired,
			severity: finding.Warning},
		{rule: "certificate expired, and dates are strict", idp: certIn(0, ends(-time.Hour)),
			idpSet: func(s *samlside.ProviderSettings) {
				s.StrictCertificates = true
			}, want: finding.CertificatePast, severity: finding.Error},
		{rule: "certificate not yet valid",
			idp: certIn(0, certificate(t, func(c *x509.Certificate) {
				c.NotBefore = now.Add(time.Hour)
			})), want: finding.CertificateNotYet},
		{rule: "certificate ends soon", sp: certIn(0, ends(29*24*time.Hour)), want: finding.CertificateExpiring, says: "29"},
		{rule: "the gate's own certificate", sp: certIn(0, base64.StdEncoding.EncodeToString(own.Certificate.DER)),
			want: finding.CertificateOfGate, severity: finding.Error, says: "the gate itself"},
		{rule: "an encryption key that ended is no signing key", sp: certIn(1, ends(-time.Hour)),
			want: finding.CertificateExpired, says: "For: encryption"},
		{rule: "ACS on loopback", sp: swap(`https://roster.wrenmoor.example/acs`, `http://localhost:8080/acs`),
			want: finding.AddressLoopback, severity: finding.Warning, says: "localhost"},
		{rule: "SHA-1 allowed", idpSet: func(s *samlside.ProviderSettings) { s.AllowSHA1 = true },
			want: finding.ExceptionInForce, severity: finding.Warning, says: "allowSHA1"},
		{rule: "CBC allowed", idpSet: func(s *samlside.ProviderSettings) { s.AllowCBC = true },
			want: finding.ExceptionInForce, severity: finding.Warning, says: "allowCBC"},
		{rule: "SHA-1 allowed to the application",
			spSet: func(_ *federation.Application, s *samlside.ApplicationSettings) { s.AllowSHA1 = true },
			want:  finding.ExceptionInForce},
		{rule: "a paused provider it is tied to", more: paused, want: finding.ProviderDisabled, severity: finding.Error,
			says: "staff"},
		{rule: "no provider that is live", more: paused,
			spSet: func(a *federation.Application, _ *samlside.ApplicationSettings) { a.Provider = "" },
			want:  finding.NoProvider},
		{rule: "certificate of an authority", idp: certIn(0, certificate(t, func(c *x509.Certificate) {
			c.IsCA, c.BasicConstraintsValid, c.KeyUsage = true, true, x509.KeyUsageCertSign|x509.KeyUsageCRLSign
		})), want: finding.CertificateCA},
		{rule: "signed requests without a key", sp: swap(`use="signing"`, `use="encryption"`),
			want: finding.RequestsSignedNoKey},
		{rule: "signed requests demanded of one that does not sign", sp: swap(`AuthnRequestsSigned="true"`, ``),
			spSet: func(_ *federation.Application, s *samlside.ApplicationSettings) {
				s.RequireSignedRequests = true
			}, want: finding.RequestsUnsigned},
		{rule: "assertion wanted signed, Response is", sp: swap(`AuthnRequestsSigned="true"`,
			`AuthnRequestsSigned="true" WantAssertionsSigned="true"`),
			spSet: func(_ *federation.Application, s *samlside.ApplicationSettings) {
				s.Sign = samlside.SignResponse
			}, want: finding.AssertionUnsigned},
		{rule: "encryption without a key", sp: swap(`use="encryption"`, `use="signing"`), want: finding.EncryptionNoKey},
		{rule: "no common encryption method", sp: swap("http://www.w3.org/2009/xmlenc11#aes256-gcm",
			"http://www.w3.org/2001/04/xmlenc#tripledes-cbc"), want: finding.EncryptionNoneCommon},
		{rule: "only RSA 1.5 for the key",
			sp: swap(`<md:EncryptionMethod Algorithm="http://www.w3.org/2009/xmlenc11#aes256-gcm"/>`,
				`<md:EncryptionMethod Algorithm="http://www.w3.org/2001/04/xmlenc#rsa-1_5"/>`),
			want: finding.EncryptionNoneCommon},
		{rule: "validUntil past", idp: swap(`entityID=`, `validUntil="`+at(-time.Hour)+`" entityID=`),
			want: finding.MetadataExpired},
		{rule: "validUntil near", idp: swap(`entityID=`, `validUntil="`+at(71*time.Hour)+`" entityID=`),
			want: finding.MetadataExpiring, says: "2"},
		{rule: "only own starts, and none is known",
			spSet: func(s *federation.Application, _ *samlside.ApplicationSettings) {
				s.OnlyOwnStarts = true
			}, want: finding.OwnStartMissing, severity: finding.Error},
		{rule: "a draft", sp: swap(`md:AssertionConsumerService`, `md:Nothing`), want: finding.DraftIncomplete,
			severity: finding.Note, says: "AssertionConsumerService"},
	} {
		w := sound(t)
		encrypt := w.spSet
		if c.idp != nil {
			w.idp = c.idp(w.idp)
		}
		if c.sp != nil {
			w.sp = c.sp(w.sp)
		}
		if c.idpSet != nil {
			w.idpSet = c.idpSet
		}
		if c.spSet != nil {
			w.spSet = func(a *federation.Application, s *samlside.ApplicationSettings) { encrypt(a, s); c.spSet(a, s) }
		}
		if c.more != nil {
			w.more = c.more
		}
		all := w.found(t)
		f := all[c.want]
		require.NotNil(t, f, "%s: %v", c.rule, all)
		require.NotEqual(t, finding.Sender, f.Side, "%s: the side is known", c.rule)
		require.Contains(t, f.Error(), c.says, c.rule)
		if c.severity != "" {
			require.Equal(t, c.severity, f.Severity, c.rule)
		}
		for code := range all {
			related := code == finding.DraftIncomplete && (c.want == finding.BindingNoneCommon ||
				c.want == finding.ArtifactOnly)
			related = related || code == finding.ExceptionInForce && c.want == finding.AlgorithmsSHA1 ||
				code == finding.BindingNoneCommon && c.want == finding.DraftIncomplete
			require.True(t, code == c.want || related, "%s: no other finding than its own, found %s", c.rule, code)
		}
	}
	w := sound(t)
	cert := strings.SplitN(strings.SplitN(w.idp, "<ds:X509Certificate>", 2)[1], "<", 2)[0]
	w.sp = certIn(0, cert)(w.sp)
	both := w.found(t)[finding.CertificateBothSides]
	require.Contains(t, both.Error(), "the provider staff", "the same certificate at both ends")
	require.Equal(t, finding.Note, both.Severity, "which is no fault by itself")
}

// paused pauses the provider.
func paused(s *federation.Snapshot) *federation.Snapshot {
	p, _ := s.Provider("staff")
	q := *p
	q.Phase = federation.Paused
	return s.With(&q)
}

// What the gate itself has is checked too.
func TestChecksOfTheGate(t *testing.T) {
	aged := func(left time.Duration) *keys.Pair {
		p, err := keys.Generate("gate", now.Add(left-5*365*24*time.Hour), rand.Reader)
		require.NoError(t, err)
		return p
	}
	for rule, c := range map[string]struct {
		base, first string
		pair        *keys.Pair
		want        finding.Code
		severity    finding.Severity
	}{
		"sound":              {"https://gate.example", "https://gate.example", own, "", ""},
		"without encryption": {"http://gate.example", "", own, finding.BasePlain, finding.Error},
		"on loopback":        {"http://127.0.0.1:8400", "", own, "", ""},
		"a base that changed": {"https://new.example", "https://gate.example", own, finding.BaseChanged,
			finding.Error},
		"a key that ends soon": {"https://gate.example", "", aged(24 * time.Hour), finding.OwnKeyEnding,
			finding.Warning},
		"a key whose certificate has": {"https://gate.example", "", aged(-24 * time.Hour), finding.OwnKeyEnding,
			finding.Error},
	} {
		set := federation.KeySet{Current: c.pair}
		g := federation.Gate{Base: c.base, FirstBase: c.first, Keys: map[string]federation.KeySet{"idp": set, "sp": set,
			"enc": set}, Purposes: samlside.Protocol{}.Purposes()}
		found := checks.New(federation.NewSnapshot(g), now).Gate()
		if c.want == "" {
			require.Empty(t, found, rule)
			continue
		}
		require.NotEmpty(t, found, rule)
		for _, f := range found {
			require.Equal(t, c.want, f.Code, rule)
			require.Equal(t, c.severity, f.Severity, rule)
		}
	}
	// A provider was told an address at the former base; people are sent to the
	// present one.
	p := &federation.Provider{Side: &samlside.Provider{IDP: &saml.IDP{}, Address: "https://gate.example/saml/sp/p/acs"}}
	p.Name = "p"
	snap := federation.NewSnapshot(federation.Gate{Base: "https://new.example"}).With(p)
	found := map[finding.Code]string{}
	for _, f := range checks.New(snap, now).Record(p) {
		found[f.Code] = f.Error()
	}
	require.Contains(t, found[finding.BaseChanged], "https://new.example/saml/sp/p/acs")
	require.Equal(t, "https://new.example/saml/sp/p/acs", p.Side.Sheet(snap, p).Values[1].Value)
}

func TestNearness(t *testing.T) {
	for pair, want := range map[[2]string]string{
		{"https://a.example/x", "https://a.example/x"}: "", {"https://a.example/x", "https://a.example/y"}: "",
		{"https://a.example/x", "https://a.example/x/"}: "slash", {"https://a.example/x", "http://a.example/x"}: "scheme",
		{"https://a.example/x", "https://A.example/x"}: "case", {"urn:a", "urn:a "}: "white space",
		{"https://a.example/x", "http://A.example/x/"}: "scheme and slash and case",
	} {
		require.Equal(t, want, checks.Nearness(pair[0], pair[1]), pair)
	}
}

func TestChangesAreToldOf(t *testing.T) {
	p := func(id, sso string) *federation.Provider {
		return &federation.Provider{Side: &samlside.Provider{IDP: &saml.IDP{EntityID: saml.EntityID(id),
			SSO: []saml.Endpoint{{Binding: saml.BindingPOST, Location: sso}}}}}
	}
	codes := func(a, b *federation.Provider) (out []finding.Code) {
		for _, f := range checks.Change(finding.Provider, federation.Differences(a.Describe(),
			b.Describe())) {
			out = append(out, f.Code)
		}
		return out
	}
	was := p("urn:a", "https://a.example/sso")
	require.Empty(t, codes(was, was))
	require.Equal(t, []finding.Code{finding.ChangedEntityID, finding.EntityIDNear},
		codes(was, p("urn:A", "https://a.example/sso")))
	require.Equal(t, []finding.Code{finding.ChangedAddress, finding.AddressNear},
		codes(was, p("urn:a", "https://a.example/sso/")))
	require.Equal(t, []finding.Code{finding.ChangedAddress}, codes(was, p("urn:a", "https://b.example/sso")))
}
