package saml

import (
	"bytes"
	"compress/flate"
	"crypto"
	"encoding/base64"
	"io"
	"net/url"
	"strings"
	"sync"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/xmlsec"
)

// MaxRelayState is the longest RelayState, in octets, that is carried for an
// application. SAML bindings §3.4.3 allows 80; many need more.
const MaxRelayState = 4096

const maxMessage = 1 << 20

// Inbound is a message as it arrived, taken out of its binding.
type Inbound struct {
	Binding    string
	Octets     []byte // the XML
	RelayState string
	Raw        string // what was received: query string, or form value

	// Redirect only: the detached signature and the octets it is over.
	SigAlg    string
	Signature []byte
	signed    []byte
}

// SignedRedirect reports whether a Redirect message carries a signature.
func (in Inbound) SignedRedirect() bool { return in.Signature != nil }

// VerifyRedirect checks the signature over the exact octets received (SAML
// bindings §3.4.4.1).
func (in Inbound) VerifyRedirect(keys []crypto.PublicKey, p xmlsec.Policy) ([]*finding.Finding, error) {
	return xmlsec.VerifyOctets(in.SigAlg, keys, in.signed, in.Signature, p)
}

func undecodable(what, cause string) error {
	return finding.New(finding.MessageUndecodable, finding.Fact(what, cause))
}

// FromRedirect takes a message out of a query string. kind is "SAMLRequest" or
// "SAMLResponse". Each parameter may stand once.
func FromRedirect(query, kind string) (Inbound, error) {
	return FromRedirectWithin(query, kind, func(int) error { return nil })
}

// FromRedirectWithin is FromRedirect where memory is short: room hears how many octets
// the message has before any is kept, and its error is passed on.
func FromRedirectWithin(query, kind string, room func(octets int) error) (Inbound, error) {
	in := Inbound{Binding: BindingRedirect, Raw: query}
	raw := map[string]string{}
	for part := range strings.SplitSeq(query, "&") {
		name, value, _ := strings.Cut(part, "=")
		switch name {
		case kind, "RelayState", "SigAlg", "Signature", "SAMLEncoding":
			if _, twice := raw[name]; twice {
				return in, undecodable(name, "stands twice")
			}
			raw[name] = value
		}
	}
	plain := map[string]string{}
	for name, value := range raw {
		v, err := url.QueryUnescape(value)
		if err != nil {
			return in, undecodable(name, "not URL-encoded")
		}
		plain[name] = v
	}
	if enc := plain["SAMLEncoding"]; enc != "" && enc != "urn:oasis:names:tc:SAML:2.0:bindings:URL-Encoding:DEFLATE" {
		return in, undecodable("SAMLEncoding", enc)
	}
	if plain[kind] == "" {
		return in, undecodable(kind, "the parameter is missing")
	}
	packed, err := xmlsec.Base64(plain[kind])
	if err != nil {
		return in, undecodable(kind, "not base64")
	}
	if in.Octets, err = inflate(packed, room); err != nil {
		return in, err
	}
	in.RelayState = plain["RelayState"]
	if value, ok := plain["Signature"]; ok {
		if in.Signature, err = xmlsec.Base64(value); err != nil || len(in.Signature) == 0 {
			return in, undecodable("Signature", "not base64")
		}
		in.SigAlg = plain["SigAlg"]
		signed := kind + "=" + raw[kind]
		if rs, ok := raw["RelayState"]; ok {
			signed += "&RelayState=" + rs
		}
		in.signed = []byte(signed + "&SigAlg=" + raw["SigAlg"])
	}
	return in, in.checkRelayState()
}

// FromPOST takes a message out of a form (SAML bindings §3.5.4).
func FromPOST(value, relayState string) (Inbound, error) {
	in := Inbound{Binding: BindingPOST, Raw: value, RelayState: relayState}
	if value == "" {
		return in, undecodable("Form", "holds no SAML message")
	}
	if len(value) > 2*maxMessage {
		return in, finding.New(finding.XMLTooLarge, finding.Fact("Limit", "1 MiB"))
	}
	var err error
	if in.Octets, err = xmlsec.Base64(value); err != nil {
		return in, undecodable("Form", "not base64")
	}
	return in, in.checkRelayState()
}

func (in Inbound) checkRelayState() error {
	if len(in.RelayState) > MaxRelayState {
		return finding.New(finding.RelayStateTooLong)
	}
	return nil
}

var inflaters = sync.Pool{New: func() any { return flate.NewReader(nil) }}

// inflate unpacks a message twice: once to know its size, and once to keep it.
func inflate(packed []byte, room func(octets int) error) ([]byte, error) {
	r := inflaters.Get().(io.ReadCloser)
	defer inflaters.Put(r)
	var out bytes.Buffer
	for _, to := range []io.Writer{io.Discard, &out} {
		if err := r.(flate.Resetter).Reset(bytes.NewReader(packed), nil); err != nil {
			return nil, err
		}
		n, err := io.Copy(to, io.LimitReader(r, maxMessage+1))
		if err != nil {
			return nil, undecodable("Message", "not deflated (RFC 1951)")
		}
		if n > maxMessage {
			return nil, finding.New(finding.XMLTooLarge, finding.Fact("Limit after inflating", "1 MiB"))
		}
		if to != io.Writer(&out) {
			if err := room(int(n)); err != nil {
				return nil, err
			}
			out.Grow(int(n) + bytes.MinRead)
		}
	}
	return out.Bytes(), nil
}

var deflaters = sync.Pool{New: func() any {
	// Better levels begin with half a megabyte to be cleared, and make a request a tenth shorter. The level is valid.
	w, _ := flate.NewWriter(nil, flate.BestSpeed)
	return w
}}

// Outbound is a message ready to leave: an address to go to, or a form to post.
type Outbound struct {
	Binding  string
	Location string // of Redirect: whole, with query
	Form     []FormField
	Octets   []byte // the XML, for the trace
}

// FormField is one hidden field.
type FormField struct{ Name, Value string }

// ToRedirect puts a message into an address, signed if a key is given (SAML
// bindings §3.4.4).
func ToRedirect(location, kind string, octets []byte, relayState string, key crypto.Signer) (Outbound, error) {
	var packed bytes.Buffer
	w := deflaters.Get().(*flate.Writer)
	defer deflaters.Put(w)
	w.Reset(&packed)
	if _, err := w.Write(octets); err != nil {
		return Outbound{}, err
	}
	if err := w.Close(); err != nil {
		return Outbound{}, err
	}
	query := kind + "=" + url.QueryEscape(base64.StdEncoding.EncodeToString(packed.Bytes()))
	if relayState != "" {
		query += "&RelayState=" + url.QueryEscape(relayState)
	}
	if key != nil {
		method, err := xmlsec.MethodFor(key.Public())
		if err != nil {
			return Outbound{}, err
		}
		query += "&SigAlg=" + url.QueryEscape(method)
		value, err := xmlsec.SignOctets(method, key, []byte(query))
		if err != nil {
			return Outbound{}, err
		}
		query += "&Signature=" + url.QueryEscape(base64.StdEncoding.EncodeToString(value))
	}
	sep := "?"
	if strings.Contains(location, "?") {
		sep = "&"
	}
	return Outbound{Binding: BindingRedirect, Location: location + sep + query, Octets: octets}, nil
}

// ToPOST puts a message into a form (SAML bindings §3.5.4).
func ToPOST(location, kind string, octets []byte, relayState string) Outbound {
	form := []FormField{{kind, base64.StdEncoding.EncodeToString(octets)}}
	if relayState != "" {
		form = append(form, FormField{"RelayState", relayState})
	}
	return Outbound{Binding: BindingPOST, Location: location, Form: form, Octets: octets}
}
