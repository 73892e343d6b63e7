package oidc

import (
	"bytes"
	"cmp"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"slices"
	"strings"

	"github.com/go-jose/go-jose/v4"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
)

// Key is a public key for signatures (RFC 7517).
type Key struct {
	ID        string // kid, "" if it has none
	Algorithm string // the only one it is for, "" if it does not say
	Use       string // "sig", or "" if it does not say
	Public    crypto.PublicKey
}

// mostKeys is how many keys of one document are looked at.
const mostKeys = 100

// smallest RSA key, in bits (RFC 7518 §3.3).
const smallestRSA = 2048

// ReadKeys reads the public keys somebody handed over: a JWK Set, one JWK, or
// keys and certificates in PEM. Keys that are not for signatures are left out.
// Errors are findings: a private key was handed over, or no key can be used.
func ReadKeys(octets []byte) ([]Key, error) {
	if octets = bytes.TrimPrefix(octets, []byte("\xef\xbb\xbf")); bytes.HasPrefix(bytes.TrimSpace(octets), []byte("{")) {
		return readSet(octets)
	}
	if bytes.Contains(octets, []byte("PRIVATE KEY-----")) {
		return nil, finding.New(finding.MetadataPrivateKey)
	}
	var out []Key
	for _, c := range keys.Read(octets) {
		if usable(c.Public) == "" {
			out = append(out, Key{Public: c.Public})
		}
	}
	for rest := octets; ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		if public, err := x509.ParsePKIXPublicKey(block.Bytes); err == nil && usable(public) == "" {
			out = append(out, Key{Public: public})
		}
	}
	if len(out) == 0 {
		return nil, finding.New(finding.JWKSUnusable, finding.Fact("Cause", "neither a JWK Set nor keys in PEM"))
	}
	return out, nil
}

func readSet(octets []byte) ([]Key, error) {
	unusable := func(cause string) error {
		return finding.New(finding.JWKSUnusable, finding.Fact("Cause", cause))
	}
	o, err := object(octets)
	if err != nil {
		return nil, unusable(err.Error())
	}
	list := []any{o}
	if set, ok := o["keys"]; ok {
		if list, ok = set.([]any); !ok || len(list) > mostKeys {
			return nil, unusable(fmt.Sprintf("keys is no list of at most %d keys", mostKeys))
		}
	}
	var out []Key
	cause := "it holds no key"
	for _, x := range list {
		k, why, err := readKey(x)
		if err != nil {
			return nil, err
		}
		if why != "" {
			cause = why
			continue
		}
		out = append(out, k)
	}
	if len(out) == 0 {
		return nil, unusable(cause)
	}
	return out, nil
}

// readKey reads one JWK; why says why it is left out.
func readKey(x any) (k Key, why string, err error) {
	o, ok := x.(map[string]any)
	if !ok {
		return k, "a key is no object", nil
	}
	if _, private := o["d"]; private || text(o, "kty") == "oct" {
		return k, "", finding.New(finding.MetadataPrivateKey, finding.Fact("Key", text(o, "kid")))
	}
	if text(o, "kty") == "" {
		return k, "a key does not say of what kind it is (kty)", nil
	}
	if use := text(o, "use"); use != "" && use != "sig" {
		return k, "its keys are for encryption", nil
	}
	if ops, _ := texts(o, "key_ops"); len(ops) > 0 && !slices.Contains(ops, "verify") {
		return k, "its keys are not for verifying", nil
	}
	// Certificates beside a key say nothing that is believed, and may be odd.
	for name := range o {
		if strings.HasPrefix(name, "x5") {
			delete(o, name)
		}
	}
	coded, err := json.Marshal(o)
	if err != nil {
		return k, "", err
	}
	var jwk jose.JSONWebKey
	if err := jwk.UnmarshalJSON(coded); err != nil {
		return k, cmp.Or(strings.TrimPrefix(err.Error(), "go-jose/go-jose: "), "a key cannot be read"), nil
	}
	k = Key{ID: jwk.KeyID, Algorithm: jwk.Algorithm, Use: jwk.Use, Public: jwk.Key}
	if ops, _ := texts(o, "key_ops"); len(ops) > 0 {
		k.Use = "sig" // verify is among them
	}
	return k, usable(k.Public), nil
}

// usable says why a key cannot be used, "" if it can.
func usable(public crypto.PublicKey) string {
	switch k := public.(type) {
	case *rsa.PublicKey:
		if k.N.BitLen() < smallestRSA {
			return fmt.Sprintf("an RSA key has %d bits; %d are the least", k.N.BitLen(), smallestRSA)
		}
		return ""
	case *ecdsa.PublicKey, ed25519.PublicKey:
		return ""
	}
	return "a key is of a kind that is not known"
}

// Thumbprint is the SHA-256 of the key alone (RFC 7638), which our keys have for
// an ID.
func Thumbprint(public crypto.PublicKey) (string, error) {
	k := jose.JSONWebKey{Key: public}
	sum, err := k.Thumbprint(crypto.SHA256)
	return base64.RawURLEncoding.EncodeToString(sum), err
}

// WriteKeys makes the JWK Set of our own keys: each with its ID, use and
// algorithm.
func WriteKeys(list []Key) ([]byte, error) {
	set := jose.JSONWebKeySet{Keys: []jose.JSONWebKey{}}
	for _, k := range list {
		set.Keys = append(set.Keys, jose.JSONWebKey{Key: k.Public, KeyID: k.ID, Algorithm: k.Algorithm, Use: "sig"})
	}
	return json.Marshal(set)
}
