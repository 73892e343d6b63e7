package profile

import (
	"slices"
	"strings"
	"time"
)

// Standard is an attribute that the standards have names for: one each, in the
// order in which they are looked for.
type Standard struct {
	Claim string   // OpenID Connect Core §5.1; groups has no standard, and this name everywhere
	Scope string   // that asks for it (§5.4)
	SCIM  string   // path in the core schema (RFC 7643 §4.1)
	Names []string // of attributes, as a name and as urn:oid: X.520, RFC 2798, RFC 4519, eduPerson; claim URIs
	Type  Type
	Many  bool // several values are a list
}

// Scopes of standard attributes.
const (
	ScopeProfile = "profile"
	ScopeEmail   = "email"
	ScopeAddress = "address"
	ScopePhone   = "phone"
	ScopeGroups  = "groups"
)

// claimURI begins the claim types of Identity Metasystem Interoperability 1.0.
const claimURI = "http://schemas.xmlsoap.org/ws/2005/05/identity/claims/"

// standards is the one table, for both directions.
var standards = []Standard{
	{"name", ScopeProfile, "displayName", []string{"displayName", "urn:oid:2.16.840.1.113730.3.1.241", "cn",
		"urn:oid:2.5.4.3"}, Text, false},
	{"given_name", ScopeProfile, "name.givenName", []string{"givenName", "urn:oid:2.5.4.42", claimURI + "givenname"},
		Text, false},
	{"family_name", ScopeProfile, "name.familyName", []string{"sn", "surname", "urn:oid:2.5.4.4",
		claimURI + "surname"}, Text, false},
	{"middle_name", ScopeProfile, "name.middleName", nil, Text, false},
	{"nickname", ScopeProfile, "nickName", []string{"eduPersonNickname", "urn:oid:1.3.6.1.4.1.5923.1.1.1.2"}, Text,
		false},
	{"preferred_username", ScopeProfile, "userName", []string{"uid", "urn:oid:0.9.2342.19200300.100.1.1"}, Text, false},
	{"profile", ScopeProfile, "profileUrl", []string{"labeledURI", "urn:oid:1.3.6.1.4.1.250.1.57"}, Text, false},
	{"picture", ScopeProfile, "photos", nil, Text, false},
	{"website", ScopeProfile, "", []string{claimURI + "webpage"}, Text, false},
	{"gender", ScopeProfile, "", []string{"schacGender", "urn:oid:1.3.6.1.4.1.25178.1.2.2",
		claimURI + "gender"}, Text, false},
	{"birthdate", ScopeProfile, "", []string{"schacDateOfBirth", "urn:oid:1.3.6.1.4.1.25178.1.2.3",
		claimURI + "dateofbirth"}, Text, false},
	{"zoneinfo", ScopeProfile, "timezone", nil, Text, false},
	{"locale", ScopeProfile, "locale", []string{"preferredLanguage", "urn:oid:2.16.840.1.113730.3.1.39"}, Text, false},
	{"updated_at", ScopeProfile, "meta.lastModified", nil, Number, false},
	{"email", ScopeEmail, "emails", []string{"mail", "urn:oid:0.9.2342.19200300.100.1.3",
		claimURI + "emailaddress"}, Text, false},
	{"email_verified", ScopeEmail, "", nil, Boolean, false},
	{"phone_number", ScopePhone, "phoneNumbers", []string{"telephoneNumber", "urn:oid:2.5.4.20"}, Text, false},
	{"phone_number_verified", ScopePhone, "", nil, Boolean, false},
	{"address", ScopeAddress, "addresses", nil, Structure, false},
	{"groups", ScopeGroups, "groups", []string{"isMemberOf", "urn:oid:1.3.6.1.4.1.5923.1.5.1.1"}, Text, true},
}

// Standards are all of them.
func Standards() []Standard { return slices.Clone(standards) }

// IsStandard reports whether a claim is one of them.
func IsStandard(claim string) bool {
	return slices.ContainsFunc(standards, func(s Standard) bool { return s.Claim == claim })
}

// ScopeOf is the scope that asks for a claim, "" if it is none of the standard's.
func ScopeOf(claim string) string {
	for _, s := range standards {
		if s.Claim == claim {
			return s.Scope
		}
	}
	return ""
}

// Scoped are the claims that a scope asks for.
func Scoped(scope string) (out []string) {
	for _, s := range standards {
		if s.Scope == scope {
			out = append(out, s.Claim)
		}
	}
	return out
}

// Claim is what is told under a name.
type Claim struct {
	Name   string
	Values []Value
	List   bool // a list, even of one
}

// Claims finds the standard attributes among those of a person, and those that are
// named so by the provider already. Only what wanted lets through is given. A value
// that is of another type than the standard says, and does not say the same in that
// type, is left out: nothing is made up.
func Claims(attributes []Attribute, wanted func(name string) bool) (out []Claim) {
	seen := map[string]bool{}
	for _, s := range standards {
		seen[s.Claim] = true
		if !wanted(s.Claim) {
			continue
		}
		if values := s.of(attributes); len(values) > 0 {
			out = append(out, Claim{s.Claim, values, s.Many})
		}
	}
	for _, a := range attributes {
		if len(a.Values) == 0 || seen[a.Name] || !wanted(a.Name) {
			continue
		}
		seen[a.Name] = true
		out = append(out, Claim{a.Name, a.Values, len(a.Values) > 1})
	}
	return out
}

// of are its values among a person's attributes.
func (s Standard) of(attributes []Attribute) (out []Value) {
	for _, name := range append([]string{s.Claim, s.SCIM}, s.Names...) {
		for _, a := range attributes {
			if name == "" || a.Name != name && (a.Friendly != name || a.Ruled) || a.Ruled && name != s.Claim {
				continue // a rule that makes a claim says its name
			}
			for _, v := range a.Values {
				if v, ok := v.as(s.Type); ok {
					out = append(out, v)
				}
			}
			if len(out) > 0 && !s.Many {
				return out[:1]
			}
		}
		if len(out) > 0 {
			return out
		}
	}
	return nil
}

// as is the value as one of another type, if it says the same there.
func (v Value) as(t Type) (Value, bool) {
	text := strings.TrimSpace(v.text)
	switch {
	case v.Type() == t:
		return v, text != ""
	case t == Text && v.Type() != Structure:
		return TextOf(v.text), true
	case t == Boolean && v.Type() == Text && (text == "true" || text == "false"):
		return BooleanOf(text == "true"), true
	case t == Number && v.Type() == Text:
		return NumberOf(text)
	case t == Time && v.Type() == Text:
		at, err := time.Parse(time.RFC3339, text)
		return TimeOf(at), err == nil
	case t == Structure && v.Type() == Text:
		s, err := StructureOf([]byte(text))
		return s, err == nil
	}
	return v, false
}
