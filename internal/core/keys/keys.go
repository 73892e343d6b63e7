// Package keys holds key pairs with their certificates, and reads certificates
// that other sides made.
//
//	pair, err := keys.Generate("gate.wrenmoor.example", now, rand.Reader)
//	fmt.Println(pair.Certificate.SHA256())
//
// Trust in Inner Gate is by key: a certificate is how a key travels and what
// people compare, nothing more.
package keys

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"math/big"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/cryptobyte"
	"golang.org/x/crypto/cryptobyte/asn1"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/xmlsec"
)

// Certificate is a certificate as it was received, and its public key.
type Certificate struct {
	DER    []byte
	Public crypto.PublicKey
	X509   *x509.Certificate // nil if only the key could be read
}

// Unknown is the public key of a certificate on record that this build cannot use: nothing is
// verified by it, and nothing encrypted to it.
type Unknown struct{}

var errUnknown = errors.New("the certificate holds a key of an algorithm that is not known here; give one with RSA, EC or Ed25519")

// ParseCertificate reads a certificate in DER. One that as a whole does not
// follow RFC 5280 still yields its public key (SubjectPublicKeyInfo); X509 is
// nil then.
func ParseCertificate(der []byte) (Certificate, error) {
	if c, err := x509.ParseCertificate(der); err == nil {
		if c.PublicKey == nil {
			return Certificate{}, errUnknown
		}
		return Certificate{DER: der, Public: c.PublicKey, X509: c}, nil
	}
	// Certificate ::= SEQUENCE { tbsCertificate SEQUENCE { [0] version, serial,
	// signature, issuer, validity, subject, subjectPublicKeyInfo, … } … }
	in := cryptobyte.String(der)
	var cert, tbs, spki cryptobyte.String
	ok := in.ReadASN1(&cert, asn1.SEQUENCE) && cert.ReadASN1(&tbs, asn1.SEQUENCE) &&
		tbs.SkipOptionalASN1(asn1.Tag(0).Constructed().ContextSpecific()) && tbs.SkipASN1(asn1.INTEGER)
	for i := 0; ok && i < 4; i++ {
		ok = tbs.SkipASN1(asn1.SEQUENCE)
	}
	if !ok || !tbs.ReadASN1Element(&spki, asn1.SEQUENCE) {
		return Certificate{}, errors.New("this is not a certificate; give X.509 in DER or PEM")
	}
	public, err := x509.ParsePKIXPublicKey(spki)
	if err != nil {
		return Certificate{}, fmt.Errorf("the certificate holds no key that can be used: %w", err)
	}
	if public == nil {
		return Certificate{}, errUnknown
	}
	return Certificate{DER: der, Public: public}, nil
}

// MarshalText gives base64 of DER; for a bare key, of its SubjectPublicKeyInfo
// after "key:".
func (c Certificate) MarshalText() ([]byte, error) {
	if c.DER != nil {
		return []byte(base64.StdEncoding.EncodeToString(c.DER)), nil
	}
	spki, err := x509.MarshalPKIXPublicKey(c.Public)
	return []byte("key:" + base64.StdEncoding.EncodeToString(spki)), err
}

// lately holds certificates that were read lately, each in the place that its text comes to: most counterparts sign and
// decrypt with one.
var (
	lately [256]atomic.Pointer[readLately]
	seed   = maphash.MakeSeed()
)

type readLately struct {
	text        string
	certificate Certificate
}

// UnmarshalText reads what MarshalText gave.
func (c *Certificate) UnmarshalText(text []byte) error {
	place := &lately[maphash.Bytes(seed, text)%uint64(len(lately))]
	if was := place.Load(); was != nil && was.text == string(text) {
		*c = was.certificate
		return nil
	}
	err := c.read(text)
	if err == nil {
		place.Store(&readLately{string(text), *c})
	}
	return err
}

func (c *Certificate) read(text []byte) error {
	coded, bare := bytes.CutPrefix(text, []byte("key:"))
	der, err := base64.StdEncoding.DecodeString(string(coded))
	if err != nil {
		return err
	}
	if bare {
		c.Public, err = x509.ParsePKIXPublicKey(der)
		return err
	}
	if *c, err = ParseCertificate(der); errors.Is(err, errUnknown) { // earlier builds took it in
		*c, err = Certificate{DER: der, Public: Unknown{}}, nil
		c.X509, _ = x509.ParseCertificate(der)
	}
	return err
}

// Read finds the certificates in what somebody gave: PEM with one or several,
// DER, or base64 of DER. It gives none if it is something else: what begins with
// markup is markup, whatever stands inside.
func Read(octets []byte) []Certificate {
	if xmlsec.Markup(octets) {
		return nil
	}
	if c, err := ParseCertificate(octets); err == nil {
		return []Certificate{c}
	}
	var out []Certificate
	for rest := octets; ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		if c, err := ParseCertificate(block.Bytes); err == nil && block.Type == "CERTIFICATE" {
			out = append(out, c)
		}
	}
	if out == nil {
		if c, err := ParseText(string(octets)); err == nil {
			out = append(out, c)
		}
	}
	return out
}

var armour = regexp.MustCompile(`-----(BEGIN|END) [A-Z0-9 ]+-----`)

// ParseText reads a certificate from base64 of DER with any white space, or
// from PEM, as both are pasted into metadata.
func ParseText(text string) (Certificate, error) {
	if strings.Contains(text, "-----") {
		text = armour.ReplaceAllString(text, "")
	}
	der, err := xmlsec.Base64(text)
	if err != nil {
		return Certificate{}, fmt.Errorf("the certificate is not base64 of DER: %w", err)
	}
	return ParseCertificate(der)
}

// SHA256 is the fingerprint people compare.
func (c Certificate) SHA256() string {
	sum := sha256.Sum256(c.DER)
	return xmlsec.Fingerprint(sum[:])
}

// Fingerprint is the SHA-256 of the SubjectPublicKeyInfo: that of the key, not of
// the certificate.
func (c Certificate) Fingerprint() string {
	spki, err := x509.MarshalPKIXPublicKey(c.Public)
	if err != nil {
		return "unknown"
	}
	sum := sha256.Sum256(spki)
	return xmlsec.Fingerprint(sum[:])
}

// SHA1 is the older fingerprint that many programs still show.
func (c Certificate) SHA1() string {
	sum := sha1.Sum(c.DER)
	return xmlsec.Fingerprint(sum[:])
}

// PEM gives the certificate in PEM.
func (c Certificate) PEM() []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.DER})
}

// Describe says what kind of key it is, like "RSA 2048".
func (c Certificate) Describe() string { return Describe(c.Public) }

// Describe says what kind a public key is.
func Describe(public crypto.PublicKey) string {
	switch k := public.(type) {
	case *rsa.PublicKey:
		return fmt.Sprintf("RSA %d", k.N.BitLen())
	case *ecdsa.PublicKey:
		return "EC " + k.Curve.Params().Name
	case ed25519.PublicKey:
		return "Ed25519"
	}
	return "unknown"
}

// Findings are what is odd about the certificate at a time; none refuses.
func (c Certificate) Findings(now time.Time) []*finding.Finding {
	if c.DER == nil {
		return nil // a key alone
	}
	if c.X509 == nil {
		return []*finding.Finding{finding.New(finding.CertificateOdd, finding.Fact("SHA-256", c.SHA256()))}
	}
	if now.After(c.X509.NotAfter) {
		return []*finding.Finding{finding.New(finding.CertificateExpired,
			finding.Fact("Not after", c.X509.NotAfter.UTC().Format(time.RFC3339)), finding.Fact("SHA-256", c.SHA256()))}
	}
	return nil
}

// RSABits is the size of an RSA key in bits, 0 of another.
func RSABits(public crypto.PublicKey) int {
	if k, ok := public.(*rsa.PublicKey); ok {
		return k.N.BitLen()
	}
	return 0
}

// Authority reports whether the certificate is for signing certificates and not
// for signing messages (RFC 5280 §4.2.1.3, §4.2.1.9). Many tools mark every
// self-signed certificate as CA; without a key usage that says more, such a one
// counts as what it is used for.
func (c Certificate) Authority() bool {
	x := c.X509
	return x != nil && x.IsCA && x.KeyUsage&x509.KeyUsageCertSign != 0 &&
		x.KeyUsage&(x509.KeyUsageDigitalSignature|x509.KeyUsageContentCommitment) == 0
}

// SignedWithSHA1 reports whether the certificate's own signature rests on SHA-1
// or weaker.
func (c Certificate) SignedWithSHA1() bool {
	if c.X509 == nil {
		return false
	}
	switch c.X509.SignatureAlgorithm {
	case x509.SHA1WithRSA, x509.ECDSAWithSHA1, x509.DSAWithSHA1, x509.MD5WithRSA, x509.MD2WithRSA:
		return true
	}
	return false
}

// Pair is a private key with its certificate. It never prints its private half.
type Pair struct {
	private     crypto.Signer
	Certificate Certificate
}

// Signer is the private half.
func (p *Pair) Signer() crypto.Signer { return p.private }

// String hides the private half.
func (p *Pair) String() string { return "key pair " + p.Certificate.SHA256() }

// validity of the certificates the gate makes for itself.
const validity = 5 * 365 * 24 * time.Hour

// Kinds are the kinds of keys that can be made for any purpose, the usual one
// first.
var Kinds = []string{"rsa-2048", "rsa-3072", "rsa-4096", "ec-p256", "ec-p384"}

// RSAKinds are those of them that are RSA.
func RSAKinds() []string { return slices.Clone(Kinds[:3]) }

// Ed25519 is a kind that only purposes which ask for it have (RFC 8032).
const Ed25519 = "ed25519"

func generate(kind string, random io.Reader) (crypto.Signer, error) {
	switch kind {
	case "rsa-2048":
		return rsa.GenerateKey(random, 2048)
	case "rsa-3072":
		return rsa.GenerateKey(random, 3072)
	case "rsa-4096":
		return rsa.GenerateKey(random, 4096)
	case "ec-p256":
		return ecdsa.GenerateKey(elliptic.P256(), random)
	case "ec-p384":
		return ecdsa.GenerateKey(elliptic.P384(), random)
	case Ed25519:
		_, private, err := ed25519.GenerateKey(random)
		return private, err
	}
	return nil, fmt.Errorf("there is no kind of key %q; use one of %s", kind, strings.Join(Kinds, ", "))
}

// Generate makes an RSA-2048 pair with a self-signed certificate for a common
// name, valid for five years from now.
func Generate(commonName string, now time.Time, random io.Reader) (*Pair, error) {
	return GenerateKind(Kinds[0], commonName, now, random)
}

// GenerateKind makes a pair of one of the Kinds.
func GenerateKind(kind, commonName string, now time.Time, random io.Reader) (*Pair, error) {
	key, err := generate(kind, random)
	if err != nil {
		return nil, err
	}
	serial := make([]byte, 16)
	if _, err := io.ReadFull(random, serial); err != nil {
		return nil, err
	}
	serial[0] = serial[0]&0x7F | 0x40 // positive, RFC 5280 §4.1.2.2
	tmpl := &x509.Certificate{
		SerialNumber: new(big.Int).SetBytes(serial), Subject: pkix.Name{CommonName: commonName},
		NotBefore: now.Add(-time.Hour).UTC(), NotAfter: now.Add(validity).UTC(),
		KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageKeyEncipherment, BasicConstraintsValid: true,
	}
	der, err := x509.CreateCertificate(random, tmpl, tmpl, key.Public(), key)
	if err != nil {
		return nil, err
	}
	cert, err := ParseCertificate(der)
	return &Pair{private: key, Certificate: cert}, err
}

// Marshal gives the pair in PEM, private key first. Whoever calls it seals it.
func (p *Pair) Marshal() ([]byte, error) {
	der, err := x509.MarshalPKCS8PrivateKey(p.private)
	if err != nil {
		return nil, err
	}
	return append(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), p.Certificate.PEM()...), nil
}

// Unmarshal reads what Marshal gave.
func Unmarshal(text []byte) (*Pair, error) {
	p := &Pair{}
	for {
		block, rest := pem.Decode(bytes.TrimSpace(text))
		if block == nil {
			break
		}
		text = rest
		switch block.Type {
		case "PRIVATE KEY":
			key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
			if err != nil {
				return nil, err
			}
			signer, ok := key.(crypto.Signer)
			if !ok {
				return nil, errors.New("the private key cannot sign; use RSA or ECDSA")
			}
			p.private = signer
		case "CERTIFICATE":
			var err error
			if p.Certificate, err = ParseCertificate(block.Bytes); err != nil {
				return nil, err
			}
		}
	}
	if p.private == nil || p.Certificate.DER == nil {
		return nil, errors.New("the PEM text must hold a PRIVATE KEY and a CERTIFICATE")
	}
	return p, nil
}
