package oidc

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"math/big"
	"slices"
	"strings"

	"github.com/go-jose/go-jose/v4"
	"golang.org/x/crypto/cryptobyte"
	"golang.org/x/crypto/cryptobyte/asn1"

	"innergate.example/innergate/internal/core/finding"
)

// Kind is what a token is for, said in its header (RFC 8725 §3.11). A token of one
// kind is refused where another is wanted.
type Kind string

// Kinds of tokens. An ID token may leave its kind out, and a client assertion too.
const (
	IDToken     Kind = "JWT"
	AccessToken Kind = "at+jwt"       // RFC 9068 §2.1
	LogoutToken Kind = "logout+jwt"   // OpenID Connect Back-Channel Logout §2.4
	EventToken  Kind = "secevent+jwt" // RFC 8417 §2.3
)

// Algorithms that signatures are taken with. None and those of a shared secret are
// not among them: a public key would be one.
var Algorithms = []string{"RS256", "RS384", "RS512", "PS256", "PS384", "PS512", "ES256", "ES384", "ES512", "EdDSA"}

// longestToken is how long a token may be, in octets.
const longestToken = 64 << 10

// AlgorithmOf is the one that we sign with, by the kind of the key; "" if there is
// none.
func AlgorithmOf(public crypto.PublicKey) string {
	switch k := public.(type) {
	case *rsa.PublicKey:
		return "RS256"
	case *ecdsa.PublicKey:
		if bits := k.Curve.Params().BitSize; bits == 256 || bits == 384 {
			return fmt.Sprintf("ES%d", bits)
		}
	case ed25519.PublicKey:
		return "EdDSA"
	}
	return ""
}

// Signer makes tokens with one key.
type Signer struct {
	ID        string // kid
	Algorithm string
	private   crypto.Signer
}

// NewSigner makes the signer of a key.
func NewSigner(private crypto.Signer) (*Signer, error) {
	alg := AlgorithmOf(private.Public())
	if alg == "" {
		return nil, fmt.Errorf("no token can be signed with a key of the kind %T", private.Public())
	}
	id, err := Thumbprint(private.Public())
	return &Signer{ID: id, Algorithm: alg, private: private}, err
}

// Key is its public half.
func (s *Signer) Key() Key { return Key{s.ID, s.Algorithm, "sig", s.private.Public()} }

// Sign makes a token (RFC 7515 §3.1, compact).
func (s *Signer) Sign(kind Kind, claims map[string]any) (string, error) {
	payload, err := json.Marshal(claims)
	if err != nil {
		return "", err
	}
	// Nothing of the header has to be escaped: the algorithms and kinds are ours, and the ID is a thumbprint in base64url.
	header := `{"alg":"` + s.Algorithm + `","kid":"` + s.ID + `","typ":"` + string(kind) + `"}`
	b64 := base64.RawURLEncoding
	token := make([]byte, 0, b64.EncodedLen(len(header))+b64.EncodedLen(len(payload))+512)
	token = append(b64.AppendEncode(token, []byte(header)), '.')
	token = b64.AppendEncode(token, payload)
	signature, err := s.signature(token)
	if err != nil {
		return "", err
	}
	return string(b64.AppendEncode(append(token, '.'), signature)), nil
}

// signature is that of octets, as RFC 7518 §3.3 and §3.4 and RFC 8037 §3.1 have it. ECDSA signatures are deterministic
// (RFC 6979), so no randomness is needed.
func (s *Signer) signature(octets []byte) ([]byte, error) {
	switch key := s.private.Public().(type) {
	case ed25519.PublicKey:
		return s.private.Sign(nil, octets, crypto.Hash(0))
	case *ecdsa.PublicKey:
		hash := crypto.SHA256
		if s.Algorithm == "ES384" {
			hash = crypto.SHA384
		}
		value, err := s.private.Sign(nil, sumOf(hash, octets), hash)
		if err != nil {
			return nil, err
		}
		return raw(value, (key.Curve.Params().N.BitLen()+7)/8)
	default:
		return s.private.Sign(nil, sumOf(crypto.SHA256, octets), crypto.SHA256)
	}
}

func sumOf(hash crypto.Hash, octets []byte) []byte {
	h := hash.New()
	h.Write(octets)
	return h.Sum(nil)
}

// raw makes the two numbers of a signature in DER octets of one length.
func raw(der []byte, n int) ([]byte, error) {
	var r, s big.Int
	in := cryptobyte.String(der)
	var seq cryptobyte.String
	if !in.ReadASN1(&seq, asn1.SEQUENCE) || !seq.ReadASN1Integer(&r) || !seq.ReadASN1Integer(&s) {
		return nil, errors.New("the key gave a signature that is not in DER")
	}
	return append(r.FillBytes(make([]byte, n)), s.FillBytes(make([]byte, n))...), nil
}

// Wanted is what a token is held against.
type Wanted struct {
	Kind       Kind
	Algorithms []string // those of the record; none are Algorithms
	Keys       []Key
	Lax        bool // the kind need not be told by the header: by what the token is about it is
}

// Verified is a token whose signature held.
type Verified struct {
	Claims    map[string]any
	Algorithm string
	Key       Key
}

// Verify takes a token apart whose signature holds, and gives its claims. Keys come
// from Wanted alone: what the header points to or carries is not looked at. Errors
// are findings.
func (w Wanted) Verify(token string) (map[string]any, error) {
	v, err := w.Open(token)
	return v.Claims, err
}

// Open is Verify that also tells how it was signed.
func (w Wanted) Open(token string) (v Verified, err error) {
	h, err := w.header(token)
	if err != nil {
		return v, err
	}
	parsed, err := jose.ParseSignedCompact(token, []jose.SignatureAlgorithm{jose.SignatureAlgorithm(h.alg)})
	if err != nil {
		return v, malformed(err.Error())
	}
	fits := w.fitting(h)
	if len(fits) == 0 {
		return v, finding.New(finding.TokenKey, finding.Fact("kid", h.kid), finding.Fact("alg", h.alg),
			finding.Fact("Keys on record", ids(w.Keys)))
	}
	for _, k := range fits {
		if payload, err := parsed.Verify(k.Public); err == nil {
			claims, err := object(payload)
			if err != nil {
				return v, malformed(err.Error())
			}
			return Verified{claims, h.alg, k}, nil
		}
	}
	return v, finding.New(finding.TokenAltered, finding.Fact("kid", h.kid), finding.Fact("alg", h.alg),
		finding.Fact("Keys tried", ids(fits)))
}

// header is what is read of the token's header.
type header struct{ alg, kid string }

// header refuses by the header alone, before anything is summed up.
func (w Wanted) header(token string) (h header, err error) {
	if len(token) > longestToken {
		return h, malformed(fmt.Sprintf("it has %d octets; at most %d are taken", len(token), longestToken))
	}
	parts := strings.Split(token, ".")
	if len(parts) == 5 {
		return h, finding.New(finding.TokenEncrypted)
	}
	if len(parts) != 3 {
		return h, malformed(fmt.Sprintf("it has %d parts instead of 3", len(parts)))
	}
	octets, err := base64.RawURLEncoding.DecodeString(parts[0])
	if err != nil {
		return h, malformed("its header is not base64url")
	}
	o, err := object(octets)
	if err != nil {
		return h, malformed("header: " + err.Error())
	}
	if crit, ok := o["crit"]; ok {
		return h, malformed(fmt.Sprintf("its header demands what is not known: crit %v", crit))
	}
	h = header{alg: text(o, "alg"), kid: text(o, "kid")}
	allowed := w.Algorithms
	if len(allowed) == 0 {
		allowed = Algorithms
	}
	if !slices.Contains(allowed, h.alg) || !slices.Contains(Algorithms, h.alg) {
		return h, finding.New(finding.TokenAlgorithm, finding.Compare("alg", strings.Join(allowed, " "), h.alg))
	}
	typ := strings.TrimPrefix(strings.ToLower(text(o, "typ")), "application/")
	plain := typ == "" || typ == "jwt"
	if typ != strings.ToLower(string(w.Kind)) && !(plain && w.Lax) && !(typ == "" && w.Kind == IDToken) {
		return h, finding.New(finding.TokenKind, finding.Compare("typ", string(w.Kind), text(o, "typ")))
	}
	return h, nil
}

// fitting are the keys that may have signed: that of the ID, or, if the token
// names none or the keys have none, those of the algorithm.
func (w Wanted) fitting(h header) (out []Key) {
	for _, k := range w.Keys {
		if (h.kid == "" || k.ID == "" || k.ID == h.kid) && (k.Algorithm == "" || k.Algorithm == h.alg) &&
			family(h.alg, k.Public) {
			out = append(out, k)
		}
	}
	return out
}

// family reports whether an algorithm is one of a kind of key (RFC 7518 §3.4: each
// curve has its own).
func family(alg string, public crypto.PublicKey) bool {
	switch k := public.(type) {
	case *rsa.PublicKey:
		return strings.HasPrefix(alg, "RS") || strings.HasPrefix(alg, "PS")
	case *ecdsa.PublicKey:
		return map[int]string{256: "ES256", 384: "ES384", 521: "ES512"}[k.Curve.Params().BitSize] == alg
	case ed25519.PublicKey:
		return alg == "EdDSA"
	}
	return false
}

func malformed(cause string) *finding.Finding {
	return finding.New(finding.TokenMalformed, finding.Fact("Cause", cause))
}

func ids(list []Key) string {
	var out []string
	for _, k := range list {
		id := k.ID
		if id == "" {
			id = "without kid"
		}
		out = append(out, id)
	}
	return strings.Join(out, " ")
}
