package oidc

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/finding"
)

// Tenants is an issuer that serves many: in its pattern a name in braces stands where
// each has its own, like https://accounts.oakhollow.example/{tenant}/v2.
type Tenants struct {
	Pattern  Issuer
	parts    *regexp.Regexp
	Allowed  []string // those whose people may come; "*" is any
	Personal string   // the tenant of personal accounts, "" if there is none
	People   bool     // personal accounts may come too
}

// braces are where a tenant stands in a pattern.
var braces = regexp.MustCompile(`\{[a-zA-Z_]*\}`)

// IsPattern reports whether an issuer stands for those of many tenants.
func IsPattern(issuer Issuer) bool { return braces.MatchString(string(issuer)) }

// ReadTenants reads a pattern. There is one place for the tenant, and it is a whole
// step of the path or a label of the host.
func ReadTenants(pattern string) (t Tenants, err error) {
	places := braces.FindAllStringIndex(pattern, -1)
	if len(places) != 1 {
		return t, fmt.Errorf("%q has %d places for a tenant in braces; give one, like https://accounts.oakhollow.example/{tenant}/v2",
			finding.Clip(pattern), len(places))
	}
	at := places[0]
	before, after := pattern[:at[0]], pattern[at[1]:]
	if !strings.HasSuffix(before, "/") || strings.Count(before, "/") < 3 || after != "" &&
		!strings.HasPrefix(after, "/") {
		return t, fmt.Errorf("%q: the tenant has to be a whole step of the path", finding.Clip(pattern))
	}
	if t.Pattern, err = ParseIssuer(pattern); err != nil {
		return t, err
	}
	t.parts, err = regexp.Compile("^" + regexp.QuoteMeta(before) + "([A-Za-z0-9._~-]{1,100})" + regexp.QuoteMeta(after) +
		"$")
	return t, err
}

// Of gives the tenant that an issuer is of, if its people may come.
func (t Tenants) Of(issuer Issuer) (string, error) {
	m := t.parts.FindStringSubmatch(string(issuer))
	if m == nil {
		return "", finding.New(finding.TokenIssuer, finding.Compare("iss", t.Pattern,
			finding.ClipTo(string(issuer), longestShown)))
	}
	personal := t.Personal != "" && m[1] == t.Personal
	switch {
	case personal && t.People:
	case personal:
		return "", finding.New(finding.TenantRefused, finding.Fact("Tenant", m[1]),
			finding.Fact("Kind", "personal accounts"))
	case !slices.Contains(t.Allowed, m[1]) && !slices.Contains(t.Allowed, "*"):
		return "", finding.New(finding.TenantRefused, finding.Compare("Tenant", strings.Join(t.Allowed, " or "), m[1]))
	}
	return m[1], nil
}
