package oidc

import (
	"fmt"
	"net"
	"net/url"
	"slices"
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
	ID            string
	Kind          ClientKind
	RedirectURIs  []string
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

// CheckRedirect says why an address cannot be registered for a kind of client; nil
// if it can (OpenID Connect Registration §2, RFC 8252 §7, RFC 9700 §2.1).
func CheckRedirect(kind ClientKind, address string) error {
	if kind == Service {
		return fmt.Errorf("a service has no redirect URI: nobody is sent anywhere")
	}
	u, err := url.Parse(address)
	switch {
	case len(address) > longestAddress:
		return fmt.Errorf("it has %d characters; at most %d are taken", len(address), longestAddress)
	case strings.ContainsFunc(address, func(r rune) bool { return r > 0x7e }):
		return fmt.Errorf("%q has letters beyond ASCII, which browsers may turn into others; write its host as xn-- and its path percent-encoded", address)
	case err != nil || u.Scheme == "" || strings.ContainsFunc(address, odd):
		return fmt.Errorf("%q is no address; give a whole one, like https://planner.wrenmoor.example/callback", address)
	case strings.Contains(address, "#"):
		return fmt.Errorf("%q has a fragment; take # and what follows off", address)
	case strings.Contains(address, "*"):
		return fmt.Errorf("%q has a wildcard; addresses are compared letter by letter, so give each one", address)
	case u.User != nil:
		return fmt.Errorf("%q holds a user name; take it out", address)
	}
	if err := checkParts(u, address); err != nil {
		return err
	}
	switch web := u.Scheme == "https" && u.Hostname() != ""; {
	case web:
		return nil
	case u.Scheme == "http" && (Loopback(u.Hostname()) || Localhost(u.Hostname())):
		return nil // for native clients, and for whoever develops
	case u.Scheme == "http" || u.Scheme == "https":
		return fmt.Errorf("%q has to be https: the code would be read on the way", address)
	case kind != Native:
		return fmt.Errorf("%q has a scheme of its own, which only native clients may have; use https", address)
	case !strings.Contains(u.Scheme, "."):
		return fmt.Errorf("the scheme %q is no domain name in reverse, like example.wrenmoor.planner: others could claim it",
			u.Scheme) // RFC 8252 §7.1
	}
	return nil
}

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

// Redirects reports whether an address is one that the client has on record:
// letter by letter, of addresses of native clients on the machine itself with any port
// (RFC 9700 §4.1.3, RFC 8252 §7.3, §8.3).
func (c *Client) Redirects(address string) bool {
	if slices.Contains(c.RedirectURIs, address) {
		return true
	}
	if c.Kind != Native {
		return false
	}
	without, ok := withoutPort(address)
	return ok && slices.ContainsFunc(c.RedirectURIs, func(known string) bool {
		k, ok := withoutPort(known)
		return ok && k == without
	})
}

// withoutPort is an address on the machine itself without its port; ok tells whether it is one.
func withoutPort(address string) (string, bool) {
	rest, ok := strings.CutPrefix(address, "http://")
	if !ok {
		return "", false
	}
	for _, host := range []string{"127.0.0.1", "[::1]", "localhost"} {
		after, ok := strings.CutPrefix(rest, host)
		if !ok {
			continue
		}
		if port, ok := strings.CutPrefix(after, ":"); ok {
			digits := len(port) - len(strings.TrimLeft(port, "0123456789"))
			if n, err := strconv.Atoi(port[:digits]); err != nil || n < 1 || n > 65535 {
				return "", false
			}
			after = port[digits:]
		}
		if after != "" && after[0] != '/' && after[0] != '?' {
			return "", false
		}
		return "http://" + host + after, true
	}
	return "", false
}
