package oidc

import (
	"errors"
	"fmt"
	"innergate.example/innergate/internal/core/finding"
	"net/url"
	"slices"
	"strconv"
	"strings"
)

// Issuer names a provider of OpenID Connect, or an authorization server (OpenID Connect Core §2, RFC 8414
// §2). Two are the same if they are so letter by letter (RFC 8414 §3.3): a slash at the end counts.
type Issuer string

// ParseIssuer takes a text for an issuer: https, no query and no fragment. In place of a tenant a name in
// braces may stand.
func ParseIssuer(text string) (Issuer, error) {
	if strings.ContainsAny(text, "?#") {
		return "", fmt.Errorf("%q has a query or a fragment, which an issuer never has", finding.Clip(text))
	}
	return Issuer(text), CheckEndpoint(strings.NewReplacer("{", "", "}", "").Replace(text))
}

// ClientID names a client to one authorization server (RFC 6749 §2.2). It is compared letter by letter.
type ClientID string

// ParseClientID takes a text for a client ID: printable ASCII, of which a space is (RFC 6749 appendix A.1).
func ParseClientID(text string) (ClientID, error) {
	if text == "" || strings.ContainsFunc(text, func(r rune) bool { return r < 0x20 || r > 0x7e }) {
		return "", errors.New("the client ID has letters other than printable ASCII (RFC 6749 appendix A.1)")
	}
	return ClientID(text), nil
}

// RedirectURI is where an application hears answers (RFC 6749 §3.1.2), or where a browser goes after
// signing out. It is compared letter by letter (RFC 9700 §4.1.3), at the machine itself with any port where
// the client is native (RFC 8252 §7.3).
type RedirectURI string

// ParseRedirectURI takes an address for one that a kind of client may register (OpenID Connect Registration
// §2, RFC 8252 §7, RFC 9700 §2.1).
func ParseRedirectURI(kind ClientKind, address string) (RedirectURI, error) {
	return RedirectURI(address), checkRedirect(kind, address)
}

func checkRedirect(kind ClientKind, address string) error {
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

// Redirects reports whether an address is one that the client has on record:
// letter by letter, of addresses of native clients on the machine itself with any port
// (RFC 9700 §4.1.3, RFC 8252 §7.3, §8.3).
func (c *Client) Redirects(address RedirectURI) bool {
	if slices.Contains(c.RedirectURIs, address) {
		return true
	}
	if c.Kind != Native {
		return false
	}
	without, ok := withoutPort(address)
	return ok && slices.ContainsFunc(c.RedirectURIs, func(known RedirectURI) bool {
		k, ok := withoutPort(RedirectURI(known))
		return ok && k == without
	})
}

// withoutPort is an address on the machine itself without its port; ok tells whether it is one.
func withoutPort(address RedirectURI) (string, bool) {
	rest, ok := strings.CutPrefix(string(address), "http://")
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
