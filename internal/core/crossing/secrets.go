package crossing

import (
	"net/url"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/finding"
)

// CallSecrets are parameters that say who a caller is, or what it may: they never stand in
// an address, which is written to logs (RFC 6749 §2.3.1, RFC 6750 §5.3, RFC 9700 §4.3.2).
var CallSecrets = []string{"client_secret", "client_assertion", "password", "access_token"}

// hidden are parameters that no trace shows, however they came.
var hidden = append([]string{"code_verifier", "refresh_token", "token"}, CallSecrets...)

// Hides reports whether a parameter is one of those.
func Hides(name string) bool { return slices.Contains(hidden, name) }

// SecretIn tells of the first parameter in the query of an address that must not stand there,
// nil if there is none. One that is empty counts too: its log was meant for more.
func SecretIn(query string, names []string) *finding.Finding {
	for part := range strings.SplitSeq(query, "&") {
		if name := ParameterOf(part); slices.Contains(names, name) {
			return finding.New(finding.OAuthRequest, finding.Fact(name,
				"stands in the address, which is written to logs; put it into the body of a call"))
		}
	}
	return nil
}

// Masked is a query or form without the secrets in it.
func Masked(form string) string {
	parts := strings.Split(form, "&")
	for i, part := range parts {
		if name, _, given := strings.Cut(part, "="); given && Hides(ParameterOf(part)) {
			parts[i] = name + "=(secret)"
		}
	}
	return strings.Join(parts, "&")
}

// longestParameter is that of any secret, with each letter escaped: what is longer is no name, but a message.
const longestParameter = 100

// ParameterOf is the name of the parameter that a part of a query or form is, however it is escaped.
func ParameterOf(part string) string {
	name, _, _ := strings.Cut(part, "=")
	if len(name) > longestParameter {
		return name
	}
	if plain, err := url.QueryUnescape(name); err == nil {
		return plain
	}
	return name
}
