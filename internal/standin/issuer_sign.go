package standin

import (
	"context"
	"crypto"
	"crypto/hmac"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net/http"
	"strings"

	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/saml"
)

// Tokens are made here by the standards alone (RFC 7515, RFC 7517), without the code of
// the gate, so that both can be held against each other.

var b64 = base64.RawURLEncoding

func formField(name, value string) saml.FormField { return saml.FormField{Name: name, Value: value} }

func writeJSON(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v) // whoever asked has gone
}

// kid names a key.
func kid(pair *keys.Pair) string {
	return "k-" + strings.ToLower(strings.ReplaceAll(pair.Certificate.Fingerprint()[:11], ":", ""))
}

func publicOf(pair *keys.Pair) *rsa.PublicKey { return pair.Certificate.Public.(*rsa.PublicKey) }

func jwk(pair *keys.Pair) map[string]any {
	k := publicOf(pair)
	return map[string]any{"kty": "RSA", "use": "sig", "alg": "RS256", "kid": kid(pair),
		"n": b64.EncodeToString(k.N.Bytes()),
		"e": b64.EncodeToString(big.NewInt(int64(k.E)).Bytes())}
}

// minted is an ID token before it is signed.
type minted struct {
	header, claims map[string]any
	pair           *keys.Pair
	raw            func(header, payload string) string // instead of signing
	payload        []byte                              // instead of claims
}

// mint makes the ID token of a sign-in.
func (i *Issuer) mint(g granted) *minted {
	claims := map[string]any{"iss": i.issuer(i.tenant(g.person)), "aud": i.ClientID, "sub": subjectOf(g.person),
		"iat": i.Now().Unix(), "exp": i.Now().Unix() + 300, "auth_time": g.at.Unix(), "sid": g.index, "amr": []string{"pwd"}}
	if g.nonce != "" {
		claims["nonce"] = g.nonce
	}
	if g.context != "" {
		claims["acr"] = g.context
	}
	return &minted{header: map[string]any{"alg": "RS256", "typ": "JWT", "kid": kid(i.Pair)}, claims: claims, pair: i.Pair}
}

// signed signs a token as the fault of the sign-in would have it.
func (i *Issuer) signed(g granted, m *minted) string {
	if f := issuerFaultOf(g.fault); f.token != nil {
		f.token(i, m)
	}
	if m.raw == nil && m.payload == nil {
		return compact(m.header, m.claims, m.pair)
	}
	payload := m.payload
	if payload == nil {
		payload = encode(m.claims)
	}
	header, body := b64.EncodeToString(encode(m.header)), b64.EncodeToString(payload)
	if m.raw != nil {
		return m.raw(header, body)
	}
	return header + "." + body + "." + sign(m.pair, header+"."+body)
}

func encode(v any) []byte {
	octets, err := json.Marshal(v)
	if err != nil {
		return nil // maps of plain values can be written
	}
	return octets
}

// compact signs a JWT with RS256.
func compact(header, claims map[string]any, pair *keys.Pair) string {
	text := b64.EncodeToString(encode(header)) + "." + b64.EncodeToString(encode(claims))
	return text + "." + sign(pair, text)
}

func sign(pair *keys.Pair, text string) string {
	sum := sha256.Sum256([]byte(text))
	octets, err := pair.Signer().Sign(rand.Reader, sum[:], crypto.SHA256)
	if err != nil {
		return ""
	}
	return b64.EncodeToString(octets)
}

// hmacOf signs as if the public key were a secret, which a careless reader takes.
func hmacOf(pair *keys.Pair, text string) string {
	der, err := x509.MarshalPKIXPublicKey(publicOf(pair))
	if err != nil {
		return ""
	}
	mac := hmac.New(sha256.New, der)
	mac.Write([]byte(text))
	return b64.EncodeToString(mac.Sum(nil))
}

// half is the left half of a sum, for at_hash and c_hash.
func half(text string) string {
	sum := sha256.Sum256([]byte(text))
	return b64.EncodeToString(sum[:16])
}

// provedByKey verifies a client assertion by the keys that the gate publishes.
func (i *Issuer) provedByKey(ctx context.Context, assertion string) error {
	parts := strings.Split(assertion, ".")
	if len(parts) != 3 {
		return errors.New("the client assertion is no JWT")
	}
	var header struct{ Kid, Alg string }
	var claims struct {
		Iss, Sub, Aud string
		Exp           int64
	}
	for n, into := range []any{&header, &claims} {
		octets, err := b64.DecodeString(parts[n])
		if err == nil {
			err = json.Unmarshal(octets, into)
		}
		if err != nil {
			return fmt.Errorf("the client assertion cannot be read: %w", err)
		}
	}
	if claims.Iss != i.ClientID || claims.Sub != i.ClientID || claims.Aud != i.Base && claims.Aud != i.Base+"/token" ||
		claims.Exp < i.Now().Unix() {
		return fmt.Errorf("the client assertion says %+v", claims)
	}
	key, err := i.keyOfGate(ctx, header.Kid)
	if err != nil {
		return err
	}
	signature, err := b64.DecodeString(parts[2])
	if err != nil {
		return err
	}
	sum := sha256.Sum256([]byte(parts[0] + "." + parts[1]))
	return rsa.VerifyPKCS1v15(key, crypto.SHA256, sum[:], signature)
}

func (i *Issuer) keyOfGate(ctx context.Context, kid string) (*rsa.PublicKey, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, i.Gate+"/oidc/rp/"+i.Record+"/jwks", nil)
	if err != nil {
		return nil, err
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	var set struct {
		Keys []struct{ Kid, Kty, N, E string }
	}
	if err := json.NewDecoder(io.LimitReader(res.Body, 1<<20)).Decode(&set); err != nil {
		return nil, err
	}
	for _, k := range set.Keys {
		if k.Kid != kid || k.Kty != "RSA" {
			continue
		}
		n, err := b64.DecodeString(k.N)
		e, err2 := b64.DecodeString(k.E)
		return &rsa.PublicKey{N: new(big.Int).SetBytes(n), E: int(new(big.Int).SetBytes(e).Int64())}, errors.Join(err, err2)
	}
	return nil, fmt.Errorf("the gate publishes no RSA key with the kid %q", kid)
}
