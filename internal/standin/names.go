package standin

import (
	"fmt"
	"strings"

	"innergate.example/innergate/internal/core/saml"
)

// Naming is how a stand-in provider calls its attributes.
type Naming string

// Namings are those that providers are met with.
const (
	NamesOID   Naming = "oid"   // URN with friendly names
	NamesURI   Naming = "uri"   // claim URIs
	NamesShort Naming = "short" // names alone
)

// Namings are all of them.
var Namings = []Naming{NamesOID, NamesURI, NamesShort}

// ParseNaming reads one; "" is NamesOID.
func ParseNaming(s string) (Naming, error) {
	if s == "" {
		return NamesOID, nil
	}
	for _, n := range Namings {
		if s == string(n) {
			return n, nil
		}
	}
	return "", fmt.Errorf("there are no names %q; they are oid, uri or short", s)
}

const (
	formatURI   = saml.NameFormatURI
	formatBasic = "urn:oasis:names:tc:SAML:2.0:attrname-format:basic"
	claims      = "http://schemas.xmlsoap.org/ws/2005/05/identity/claims/"
)

// called are the names of what a provider says, in each naming.
var called = []struct{ short, oid, uri string }{
	{"mail", "urn:oid:0.9.2342.19200300.100.1.3", claims + "emailaddress"},
	{"givenName", "urn:oid:2.5.4.42", claims + "givenname"},
	{"sn", "urn:oid:2.5.4.4", claims + "surname"},
	{"displayName", "urn:oid:2.16.840.1.113730.3.1.241", claims + "name"},
	{"title", "urn:oid:2.5.4.12", "http://schemas.wrenmoor.example/claims/job"},
	{"eduPersonEntitlement", "urn:oid:1.3.6.1.4.1.5923.1.1.1.7", "http://schemas.wrenmoor.example/claims/entitlement"},
}

// of names one attribute.
func (n Naming) of(short string, values ...string) saml.Attribute {
	a := saml.Attribute{Name: short, Values: saml.Texts(values...)}
	for _, c := range called {
		switch {
		case c.short != short:
		case n == NamesURI:
			a.Name, a.NameFormat = c.uri, formatURI
		case n == NamesShort:
			a.NameFormat = formatBasic
		default:
			a.Name, a.NameFormat, a.FriendlyName = c.oid, formatURI, short
		}
	}
	return a
}

// attributes are what the provider says of a person; what they do not have is not said.
func (n Naming) attributes(p Person) (out []saml.Attribute) {
	for _, a := range []saml.Attribute{n.of("mail", p.addresses(mailDomain)...), n.of("givenName", p.Given),
		n.of("sn", p.Family), n.of("displayName", strings.TrimSpace(p.Given+" "+p.Family)), n.of("title", p.Job),
		n.of("groups", p.Groups...), n.of("eduPersonEntitlement", p.Entitlements...)} {
		if len(a.Values) > 0 {
			out = append(out, a)
		}
	}
	return out
}
