package xmlsec

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"errors"
	"hash"
	"math/big"
	"slices"
	"strings"

	"golang.org/x/crypto/cryptobyte"
	"golang.org/x/crypto/cryptobyte/asn1"

	"innergate.example/innergate/internal/core/finding"
)

// Algorithm identifiers (XML Signature 1.1 §6, RFC 6931).
const (
	RSASHA1     = NSDSig + "rsa-sha1"
	RSASHA256   = "http://www.w3.org/2001/04/xmldsig-more#rsa-sha256"
	RSASHA384   = "http://www.w3.org/2001/04/xmldsig-more#rsa-sha384"
	RSASHA512   = "http://www.w3.org/2001/04/xmldsig-more#rsa-sha512"
	ECDSASHA1   = "http://www.w3.org/2001/04/xmldsig-more#ecdsa-sha1"
	ECDSASHA256 = "http://www.w3.org/2001/04/xmldsig-more#ecdsa-sha256"
	ECDSASHA384 = "http://www.w3.org/2001/04/xmldsig-more#ecdsa-sha384"
	ECDSASHA512 = "http://www.w3.org/2001/04/xmldsig-more#ecdsa-sha512"

	transformEnveloped = NSDSig + "enveloped-signature"
	c14nExclusive      = NSExcl
	c14nExclusiveC     = NSExcl + "WithComments"
	c14nInclusive      = "http://www.w3.org/TR/2001/REC-xml-c14n-20010315"
	c14nInclusiveC     = c14nInclusive + "#WithComments"
)

type signatureMethod struct {
	rsa  bool
	hash crypto.Hash
}

var signatureMethods = map[string]signatureMethod{
	RSASHA1: {true, crypto.SHA1}, RSASHA256: {true, crypto.SHA256}, RSASHA384: {true, crypto.SHA384},
	RSASHA512: {true, crypto.SHA512},
	ECDSASHA1: {false, crypto.SHA1}, ECDSASHA256: {false, crypto.SHA256}, ECDSASHA384: {false, crypto.SHA384},
	ECDSASHA512: {false, crypto.SHA512},
}

var digestMethods = map[string]crypto.Hash{
	NSDSig + "sha1": crypto.SHA1,
	"http://www.w3.org/2001/04/xmlenc#sha256":       crypto.SHA256,
	"http://www.w3.org/2001/04/xmldsig-more#sha384": crypto.SHA384,
	"http://www.w3.org/2001/04/xmlenc#sha512":       crypto.SHA512,
}

// IsSignatureMethod reports whether an identifier is that of a signature method.
func IsSignatureMethod(uri string) bool { _, ok := signatureMethods[uri]; return ok }

// IsDigestMethod reports whether an identifier is that of a digest method.
func IsDigestMethod(uri string) bool { _, ok := digestMethods[uri]; return ok }

// RestsOnSHA1 reports whether a signature or digest method uses SHA-1.
func RestsOnSHA1(uri string) bool {
	return signatureMethods[uri].hash == crypto.SHA1 || digestMethods[uri] == crypto.SHA1
}

func newHash(h crypto.Hash) hash.Hash {
	switch h {
	case crypto.SHA1:
		return sha1.New()
	case crypto.SHA384:
		return sha512.New384()
	case crypto.SHA512:
		return sha512.New()
	}
	return sha256.New()
}

// Policy says what a counterpart is allowed beyond the rule.
type Policy struct {
	AllowSHA1 bool // by explicit exception; leaves a warning
	WholeDoc  bool // a Reference with URI="" is taken for the root (metadata)
	// Own reads the keys out of a KeyInfo, for [Intact] and for streams that nobody
	// vouches for.
	Own func(keyInfo *Element) []crypto.PublicKey
}

// Verified is an element whose signature held. Only Verify makes one, so that
// whoever takes a Verified cannot be handed anything else.
type Verified struct {
	el       *Element
	key      int
	warnings []*finding.Finding
}

// Element is the verified element; everything below it is covered.
func (v Verified) Element() *Element { return v.el }

// Key is the index of the key that verified, in the order they were given.
func (v Verified) Key() int { return v.key }

// Warnings are findings that did not refuse.
func (v Verified) Warnings() []*finding.Finding { return v.warnings }

// Within makes a descendant of a verified element verified as well. It panics
// if the element is not a descendant.
func (v Verified) Within(el *Element) Verified {
	for at := el; at != nil; at = at.Parent {
		if at == v.el {
			return Verified{el: el, key: v.key, warnings: v.warnings}
		}
	}
	panic("xmlsec: element is not within the verified one")
}

// Signed reports whether the element has a signature of its own.
func Signed(el *Element) bool { return el.Child(NSDSig, "Signature") != nil }

// Methods gives the identifiers of the signature and digest methods that the
// signature of an element names, for explanation; empty if there is none.
func Methods(el *Element) (signature, digest string) {
	if sig := el.Child(NSDSig, "Signature"); sig != nil {
		if info := sig.Child(NSDSig, "SignedInfo"); info != nil {
			if m := info.Child(NSDSig, "SignatureMethod"); m != nil {
				signature = m.Attr("Algorithm")
			}
			if ref := info.Child(NSDSig, "Reference"); ref != nil {
				if m := ref.Child(NSDSig, "DigestMethod"); m != nil {
					digest = m.Attr("Algorithm")
				}
			}
		}
	}
	return signature, digest
}

// signature is a parsed ds:Signature.
type signature struct {
	el, info  *Element
	infoC14N  Method
	method    signatureMethod
	methodURI string
	value     []byte
	uri       string
	c14n      Method
	digest    crypto.Hash
	digestURI string
	sum       []byte
	warnings  []*finding.Finding
}

// Verify checks the enveloped signature of el against the given keys: exactly
// one Signature directly below el, one Reference to el's own ID, the allowed
// transforms and methods, the value by one of the keys, and then the digest (XML
// Signature 1.1 §3.2, SAML core §5.4). KeyInfo is not looked at.
func Verify(el *Element, keys []crypto.PublicKey, p Policy) (Verified, error) {
	s, err := parseSignature(el, p)
	if err != nil {
		return Verified{}, err
	}
	if len(keys) == 0 {
		return Verified{}, finding.New(finding.SignatureNoKey)
	}
	key, err := s.whose(keys) // first: what a stranger made costs no digest
	if err != nil {
		return Verified{}, err
	}
	if err := s.digests(el); err != nil {
		return Verified{}, err
	}
	return Verified{el: el, key: key, warnings: s.warnings}, nil
}

// Intact holds the signature of el against itself: the key that its own KeyInfo
// names, if it names one, and the digest. That shows that nothing was altered
// since it was signed; it says nothing about who signed it, and so makes no
// [Verified]. Signatures that cannot be read here are left alone, and not checked.
func Intact(el *Element, p Policy) (checked bool, err error) {
	p.AllowSHA1 = true
	s, err := parseSignature(el, p)
	if err != nil {
		if unreadable(err) {
			return false, nil
		}
		return false, err
	}
	if own := p.own(s.el); len(own) > 0 {
		if _, err := s.whose(own); err != nil {
			return false, err
		}
	}
	return true, s.digests(el)
}

// unreadable reports whether a signature is none that could be checked here: it is
// absent, or rests on a method or transform that is not allowed.
func unreadable(err error) bool {
	for _, code := range []finding.Code{finding.SignatureMissing, finding.SignatureMethod, finding.SignatureTransform} {
		if finding.Is(err, code) {
			return true
		}
	}
	return false
}

// own gives the keys that a signature names itself.
func (p Policy) own(signature *Element) []crypto.PublicKey {
	if info := signature.Child(NSDSig, "KeyInfo"); info != nil && p.Own != nil {
		return p.Own(info)
	}
	return nil
}

// digests holds an element against the digest in its signature.
func (s *signature) digests(el *Element) error {
	h := newHash(s.digest)
	if err := el.Canonical(h, s.c14n, s.el); err != nil {
		return err
	}
	if sum := h.Sum(nil); !bytes.Equal(sum, s.sum) {
		return finding.New(finding.SignatureAltered,
			finding.Compare("Digest of <"+el.Local+">", base64.StdEncoding.EncodeToString(s.sum),
				base64.StdEncoding.EncodeToString(sum)))
	}
	return nil
}

// whose gives the index of the key that made the signature's value, over
// SignedInfo.
func (s *signature) whose(keys []crypto.PublicKey) (int, error) {
	var info bytes.Buffer
	if err := s.info.Canonical(&info, s.infoC14N, nil); err != nil {
		return 0, err
	}
	for i, key := range keys {
		if s.method.verify(key, info.Bytes(), s.value) {
			return i, nil
		}
	}
	return 0, finding.New(finding.SignatureKey, finding.Fact("Method", s.methodURI),
		finding.Fact("Certificate in KeyInfo", certificateHint(s.el)))
}

// certificateHint gives the SHA-256 fingerprint of the certificate in KeyInfo,
// for explanation only.
func certificateHint(sig *Element) string {
	at := sig
	for _, local := range []string{"KeyInfo", "X509Data", "X509Certificate"} {
		if at = at.Child(NSDSig, local); at == nil {
			return "none"
		}
	}
	text, _ := at.Value()
	der, err := Base64(text)
	if err != nil {
		return "not readable"
	}
	sum := sha256.Sum256(der)
	return "SHA-256 " + Fingerprint(sum[:])
}

// Fingerprint writes octets as upper-case hexadecimal pairs with colons.
func Fingerprint(sum []byte) string {
	const digits = "0123456789ABCDEF"
	var b strings.Builder
	for i, c := range sum {
		if i > 0 {
			b.WriteByte(':')
		}
		b.WriteByte(digits[c>>4])
		b.WriteByte(digits[c&15])
	}
	return b.String()
}

// shape demands that the child elements of el are the named ones of ds, in
// order; names ending in ? may be missing.
func shape(el *Element, names ...string) ([]*Element, error) {
	kids := el.Elements("", "")
	out := make([]*Element, len(names))
	for i, name := range names {
		local, optional := strings.CutSuffix(name, "?")
		if len(kids) > 0 && kids[0].Is(NSDSig, local) {
			out[i], kids = kids[0], kids[1:]
		} else if !optional {
			return nil, finding.New(finding.SignatureLayout, finding.Fact("Missing in <"+el.Local+">", local))
		}
	}
	if len(kids) > 0 {
		return nil, finding.New(finding.SignatureLayout, finding.Fact("Not expected in <"+el.Local+">", kids[0].Local))
	}
	return out, nil
}

func parseSignature(el *Element, p Policy) (*signature, error) {
	sigs := el.Elements(NSDSig, "Signature")
	switch {
	case len(sigs) == 0:
		return nil, finding.New(finding.SignatureMissing)
	case len(sigs) > 1:
		return nil, finding.New(finding.SignatureLayout, finding.Fact("Signatures in <"+el.Local+">", "more than one"))
	}
	s := &signature{el: sigs[0]}
	parts, err := shape(s.el, "SignedInfo", "SignatureValue", "KeyInfo?")
	if err != nil {
		return nil, err
	}
	s.info = parts[0]
	text, ok := parts[1].Value()
	if s.value, err = Base64(text); err != nil || !ok || len(s.value) == 0 {
		return nil, finding.New(finding.SignatureLayout, finding.Fact("SignatureValue", "not base64"))
	}
	refs := s.info.Elements(NSDSig, "Reference")
	if len(refs) != 1 {
		return nil, finding.New(finding.SignatureReference, finding.Fact("References",
			big.NewInt(int64(len(refs))).String()))
	}
	if parts, err = shape(s.info, "CanonicalizationMethod", "SignatureMethod", "Reference"); err != nil {
		return nil, err
	}
	if s.infoC14N, ok, err = canonicalisation(parts[0]); err != nil {
		return nil, err
	} else if !ok {
		return nil, finding.New(finding.SignatureTransform, finding.Fact("CanonicalizationMethod",
			parts[0].Attr("Algorithm")))
	}
	s.methodURI = parts[1].Attr("Algorithm")
	if s.method, ok = signatureMethods[s.methodURI]; !ok {
		return nil, finding.New(finding.SignatureMethod, finding.Fact("SignatureMethod", s.methodURI))
	}
	if len(parts[1].Elements("", "")) > 0 {
		return nil, finding.New(finding.SignatureMethod, finding.Fact("SignatureMethod", "has parameters"))
	}
	if err := s.reference(parts[2], el, p); err != nil {
		return nil, err
	}
	if s.method.hash == crypto.SHA1 || s.digest == crypto.SHA1 {
		f := finding.New(finding.SignatureSHA1, finding.Fact("SignatureMethod", s.methodURI),
			finding.Fact("DigestMethod", s.digestURI))
		if !p.AllowSHA1 {
			return nil, f
		}
		f.Severity = finding.Warning
		s.warnings = append(s.warnings, f)
	}
	if s.c14n.Inclusive || s.infoC14N.Inclusive {
		s.warnings = append(s.warnings, finding.New(finding.SignatureInclusive))
	}
	return s, nil
}

func (s *signature) reference(ref, el *Element, p Policy) error {
	parts, err := shape(ref, "Transforms?", "DigestMethod", "DigestValue")
	if err != nil {
		return err
	}
	uri, present := ref.LookAttr("", "URI")
	id := el.Attr("ID")
	switch {
	case present && uri == "" && p.WholeDoc && el.Parent == nil:
	case id == "" || uri != "#"+id:
		return finding.New(finding.SignatureReference, finding.Compare("Reference", "#"+id, uri))
	}
	enveloped, canonical := false, false
	s.c14n = Method{Inclusive: true} // XML Signature §4.4.3.2: implied
	if parts[0] != nil {
		for _, t := range parts[0].Elements("", "") {
			if !t.Is(NSDSig, "Transform") {
				return finding.New(finding.SignatureTransform, finding.Fact("In Transforms", t.Local))
			}
			alg := t.Attr("Algorithm")
			if alg == transformEnveloped && !enveloped && !canonical && len(t.Elements("", "")) == 0 {
				enveloped = true
				continue
			}
			m, ok, err := canonicalisation(t)
			if err != nil {
				return err
			}
			if !ok || canonical {
				return finding.New(finding.SignatureTransform, finding.Fact("Transform", alg))
			}
			s.c14n, canonical = m, true
		}
	}
	if !enveloped {
		return finding.New(finding.SignatureTransform, finding.Fact("Missing transform", transformEnveloped))
	}
	s.digestURI = parts[1].Attr("Algorithm")
	var ok bool
	if s.digest, ok = digestMethods[s.digestURI]; !ok {
		return finding.New(finding.SignatureMethod, finding.Fact("DigestMethod", s.digestURI))
	}
	text, _ := parts[2].Value()
	if s.sum, err = Base64(text); err != nil {
		return finding.New(finding.SignatureLayout, finding.Fact("DigestValue", "not base64"))
	}
	return nil
}

// canonicalisation reads the algorithm of a transform or of SignedInfo; false if
// it is none.
func canonicalisation(el *Element) (Method, bool, error) {
	var m Method
	switch el.Attr("Algorithm") {
	case c14nExclusive:
	case c14nExclusiveC:
		m.Comments = true
	case c14nInclusive:
		m.Inclusive = true
	case c14nInclusiveC:
		m.Inclusive, m.Comments = true, true
	default:
		return m, false, nil
	}
	kids := el.Elements("", "")
	if len(kids) == 0 {
		return m, true, nil
	}
	if m.Inclusive || len(kids) > 1 || !kids[0].Is(NSExcl, "InclusiveNamespaces") {
		return m, false, finding.New(finding.SignatureTransform, finding.Fact("Parameter of canonicalisation",
			kids[0].Local))
	}
	for _, p := range strings.Fields(kids[0].Attr("PrefixList")) {
		if p == "#default" {
			p = ""
		}
		m.Prefixes = append(m.Prefixes, p)
	}
	if len(m.Prefixes) > 64 {
		return m, false, finding.New(finding.SignatureTransform, finding.Fact("PrefixList", "more than 64 prefixes"))
	}
	return m, true, nil
}

func (m signatureMethod) verify(key crypto.PublicKey, octets, value []byte) bool {
	h := newHash(m.hash)
	h.Write(octets)
	sum := h.Sum(nil)
	switch k := key.(type) {
	case *rsa.PublicKey:
		return m.rsa && rsa.VerifyPKCS1v15(k, m.hash, sum, value) == nil
	case *ecdsa.PublicKey:
		n := (k.Curve.Params().N.BitLen() + 7) / 8
		if m.rsa || len(value) != 2*n {
			return false
		}
		return ecdsa.Verify(k, sum, new(big.Int).SetBytes(value[:n]), new(big.Int).SetBytes(value[n:]))
	}
	return false
}

// VerifyOctets checks a detached signature by a method named by its identifier,
// as the Redirect binding uses it (SAML bindings §3.4.4.1).
func VerifyOctets(methodURI string, keys []crypto.PublicKey, octets, value []byte, p Policy) ([]*finding.Finding,
	error) {
	m, ok := signatureMethods[methodURI]
	if !ok {
		return nil, finding.New(finding.SignatureMethod, finding.Fact("SigAlg", methodURI))
	}
	var warnings []*finding.Finding
	if m.hash == crypto.SHA1 {
		f := finding.New(finding.SignatureSHA1, finding.Fact("SigAlg", methodURI))
		if !p.AllowSHA1 {
			return nil, f
		}
		f.Severity = finding.Warning
		warnings = append(warnings, f)
	}
	if len(keys) == 0 {
		return nil, finding.New(finding.SignatureNoKey)
	}
	for _, key := range keys {
		if m.verify(key, octets, value) {
			return warnings, nil
		}
	}
	return nil, finding.New(finding.SignatureKey, finding.Fact("SigAlg", methodURI))
}

// MethodFor gives the identifier of the SHA-256 method for a key, or of the
// stronger one that belongs to its curve.
func MethodFor(key crypto.PublicKey) (string, error) {
	switch k := key.(type) {
	case *rsa.PublicKey:
		return RSASHA256, nil
	case *ecdsa.PublicKey:
		switch k.Curve.Params().BitSize {
		case 384:
			return ECDSASHA384, nil
		case 521:
			return ECDSASHA512, nil
		}
		return ECDSASHA256, nil
	}
	return "", errors.New("only RSA and ECDSA keys can sign XML; use one of them")
}

// SignOctets makes a detached signature. ECDSA signatures are deterministic
// (RFC 6979), so no randomness is needed.
func SignOctets(methodURI string, key crypto.Signer, octets []byte) ([]byte, error) {
	m, ok := signatureMethods[methodURI]
	if !ok || m.hash == crypto.SHA1 {
		return nil, errors.New("signature method " + methodURI +
			" is not offered; use an RSA or ECDSA method with SHA-256 or stronger")
	}
	h := newHash(m.hash)
	h.Write(octets)
	value, err := key.Sign(nil, h.Sum(nil), m.hash)
	if err != nil || m.rsa {
		return value, err
	}
	pub, ok := key.Public().(*ecdsa.PublicKey)
	if !ok {
		return nil, errors.New("the key does not fit the method " + methodURI)
	}
	var r, s big.Int
	in := cryptobyte.String(value)
	var seq cryptobyte.String
	if !in.ReadASN1(&seq, asn1.SEQUENCE) || !seq.ReadASN1Integer(&r) || !seq.ReadASN1Integer(&s) {
		return nil, errors.New("the key gave a signature that is not in DER")
	}
	n := (pub.Curve.Params().N.BitLen() + 7) / 8
	return append(r.FillBytes(make([]byte, n)), s.FillBytes(make([]byte, n))...), nil
}

// Sign puts an enveloped signature into el, as the child with index at: after
// Issuer in SAML, first in metadata. Prefixes that occur in values only are
// named in prefixes, so that the signature covers their declarations.
func Sign(el *Element, at int, key crypto.Signer, certificate []byte, prefixes ...string) error {
	el.complete()
	methodURI, err := MethodFor(key.Public())
	if err != nil {
		return err
	}
	hashURI := "http://www.w3.org/2001/04/xmlenc#sha256"
	h := sha256.New()
	if err := el.Canonical(h, Method{Prefixes: prefixes}, nil); err != nil {
		return err
	}
	ds := func(local string) *Element { return New("ds", NSDSig, local) }
	text := func(local, s string) *Element { return ds(local).AddText(s) }
	alg := func(local, uri string) *Element { return ds(local).Set("Algorithm", uri) }
	c14n := alg("Transform", c14nExclusive)
	if len(prefixes) > 0 {
		list := slices.Clone(prefixes)
		c14n.Add(New("ec", NSExcl, "InclusiveNamespaces").Set("PrefixList", strings.Join(list, " ")))
	}
	info := ds("SignedInfo").Add(
		alg("CanonicalizationMethod", c14nExclusive),
		alg("SignatureMethod", methodURI),
		ds("Reference").Set("URI", "#"+el.Attr("ID")).Add(
			ds("Transforms").Add(alg("Transform", transformEnveloped), c14n),
			alg("DigestMethod", hashURI),
			text("DigestValue", base64.StdEncoding.EncodeToString(h.Sum(nil)))))
	sig := ds("Signature").Declare("ds", NSDSig).Add(info)
	sig.complete()
	var octets bytes.Buffer
	if err := info.Canonical(&octets, Exclusive, nil); err != nil {
		return err
	}
	value, err := SignOctets(methodURI, key, octets.Bytes())
	if err != nil {
		return err
	}
	sig.Add(text("SignatureValue", base64.StdEncoding.EncodeToString(value)))
	if certificate != nil {
		sig.Add(ds("KeyInfo").Add(ds("X509Data").Add(text("X509Certificate",
			base64.StdEncoding.EncodeToString(certificate)))))
	}
	el.insert(at, sig)
	return nil
}
