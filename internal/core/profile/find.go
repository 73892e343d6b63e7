package profile

import (
	"slices"
	"strings"
)

// Claims of standard attributes that more is known of (OpenID Connect Core §5.1).
const (
	ClaimEmail         = "email"
	ClaimEmailVerified = "email_verified"
)

// Names in the profile of what says where somebody belongs (RFC 7643 §4.1.1, §4.1.2, §4.3).
const (
	AttributeGroups       = "groups"
	AttributeUserType     = "userType"
	AttributeOrganization = "organization"
)

// Word gives the one name of an attribute in the profile: that of the core schema where it
// is a standard's name letter by letter, else the name itself. Names that only look alike
// are others: people are found by what this gives.
func Word(name string) string {
	if s := byName[name]; s != nil {
		return s.Word()
	}
	return name
}

// Means reports whether a name is one of those that the standards have for a claim.
func Means(name, claim string) bool {
	s := byName[name]
	return s != nil && s.Claim == claim
}

// Find gives the values of an attribute, by its name or by another one that the standards
// have for the same, without those that say nothing.
func Find(attributes []Attribute, name string) (out []Value) {
	for _, a := range attributes {
		if !a.called(name) {
			continue
		}
		for _, v := range a.Values {
			if strings.TrimSpace(v.text) != "" && !slices.Contains(out, v) {
				out = append(out, v)
			}
		}
	}
	return out
}

// called reports whether an attribute has a name, or another one for the same.
func (a Attribute) called(name string) bool {
	word := Word(name)
	return a.Name == name || Word(a.Name) == word || a.Friendly != "" && Word(a.Friendly) == word
}

// Put gives attributes with values in place of those of the name, without what these are
// called by other names.
func Put(attributes []Attribute, name string, values []Value) []Attribute {
	out := slices.DeleteFunc(slices.Clone(attributes), func(a Attribute) bool { return a.called(name) })
	if len(values) == 0 {
		return out
	}
	return append(out, Attribute{Name: name, Values: values})
}

// Fold gives a text as people search for it: without white space around it, and in small
// letters. It joins letters that only look alike, so nothing is decided by it: see Key.
func Fold(text string) string { return strings.ToLower(strings.TrimSpace(text)) }
