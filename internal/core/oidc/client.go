package oidc

import (
	"fmt"
	"net"
	"net/url"
	"strconv"
	"strings"
)

// ClientKind is what kind of program a client is; it says what can be asked of it.
type ClientKind string

// Kinds of clients (RFC 6749 §2.1, RFC 8252, RFC 9700 §2.1).
const (
	Web     ClientKind = "web"     // runs on a server, and keeps a secret
	Browser ClientKind = "browser" // runs in the browser: public
	Native  ClientKind = "native"  // runs on the person's machine: public
	Service ClientKind = "service" // acts for itself, no person is there
)

// ClientKinds are all of them.
var ClientKinds = []ClientKind{Web, Browser, Native, Service}

// Public reports whether a client of this kind can keep no secret.
func (k ClientKind) Public() bool { return k == Browser || k == Native }

// Method is how a client proves who it is (OpenID Connect Core §9).
type Method string

// Methods. None is for public clients, which show a verifier (RFC 7636) instead.
const (
	SecretBasic Method = "client_secret_basic"
	SecretPost  Method = "client_secret_post"
	SignedJWT   Method = "private_key_jwt"
	NoMethod    Method = "none"
)

// Methods are all of them.
var Methods = []Method{SecretBasic, SecretPost, SignedJWT, NoMethod}

// Client is an application as OpenID Connect sees it.
type Client struct {
	ID            ClientID
	Kind          ClientKind
	RedirectURIs  []RedirectURI
	Method        Method
	WithoutPKCE   bool // by exception, of a confidential client
	Resources     []string
	Keys          []Key
	SecretHashes  []SecretHash
	SecretID      string // as the engineer noted it, to tell it from the secret
	OfflineAccess bool   // may ask for refresh tokens
}

// longestAddress is how long an address on record may be, in octets.
const longestAddress = 2048

// ours are parameters of an answer, which no registered query may have (RFC 6749 §4.1.2,
// RFC 9207 §2).
var ours = []string{"code", "state", "error", "iss"}

// checkParts refuses what browsers read otherwise than it is compared, and what answers bring.
func checkParts(u *url.URL, address string) error {
	if port := u.Port(); port != "" {
		if n, err := strconv.Atoi(port); err != nil || n < 1 || n > 65535 {
			return fmt.Errorf("%q has the port %s; ports are 1 to 65535", address, port)
		}
	}
	host := strings.TrimSuffix(strings.TrimPrefix(u.Hostname(), "["), "]")
	if strings.Trim(strings.ToLower(host), "abcdefghijklmnopqrstuvwxyz0123456789-_.:") != "" {
		return fmt.Errorf("%q has a host with letters that hosts do not have", address)
	}
	for segment := range strings.SplitSeq(u.EscapedPath(), "/") {
		if plain, err := url.PathUnescape(segment); err == nil && (plain == "." || plain == "..") {
			return fmt.Errorf("%q has the segment %s, which browsers take out; give the address as it is afterwards",
				address, segment)
		}
	}
	query, err := url.ParseQuery(u.RawQuery)
	if err != nil {
		return fmt.Errorf("%q has a query that cannot be read; escape it", address)
	}
	for _, name := range ours {
		if query.Has(name) {
			return fmt.Errorf("%q has %s in its query, which an answer brings; take it out", address, name)
		}
	}
	return nil
}

// Localhost reports whether a host is the machine itself by its name, which the machine
// resolves and which may be another (RFC 8252 §8.3).
func Localhost(host string) bool {
	return len(host) == len("localhost") && strings.EqualFold(host, "localhost")
}

// WithQuery adds a parameter to an address whose own query stays as it is.
func WithQuery(address, name, value string) string {
	sep := "?"
	if strings.Contains(address, "?") {
		sep = "&"
		if strings.HasSuffix(address, "?") || strings.HasSuffix(address, "&") {
			sep = ""
		}
	}
	return address + sep + url.QueryEscape(name) + "=" + url.QueryEscape(value)
}

// odd are letters that no address holds as they are.
func odd(r rune) bool { return r <= ' ' || r == 0x7f || r == '\\' || r == '"' || r == '<' || r == '>' }

// Loopback reports whether a host is the machine itself, by its address. The name
// localhost is resolved by the machine, and may be another (RFC 8252 §8.3).
func Loopback(host string) bool {
	ip := net.ParseIP(host)
	return ip != nil && ip.IsLoopback()
}
