// Package profile holds what is known of a person's attributes while they pass
// through the gate, between intake (from the provider) and release (to an
// application).
//
//	p := profile.PassThrough(subject, attributes)
//	released := p.Release(name)
//
// Today both mappings are the identity: what the provider said is what the
// application hears, in the same order and under the same names. The name by
// which it is told the person is chosen at release: see Wanted.
package profile

// Subject is the name by which a provider or application calls the person:
// NameID in SAML.
type Subject struct {
	Format          string `json:"format,omitempty"`
	NameQualifier   string `json:"nameQualifier,omitempty"`
	SPNameQualifier string `json:"spNameQualifier,omitempty"`
	Value           string `json:"value"`
	Transient       bool   `json:"transient,omitempty"` // another one at each sign-in
}

// Attribute is a named list of values. Where a protocol says more about the name
// (SAML core §2.7.3.1: NameFormat, FriendlyName), Format and Friendly have it.
type Attribute struct {
	Name     string  `json:"name"`
	Format   string  `json:"nameFormat,omitempty"`
	Friendly string  `json:"friendlyName,omitempty"`
	Values   []Value `json:"values"`
}

// Profile is a person's attributes inside the gate.
type Profile struct {
	Subject    Subject     `json:"subject"`
	Attributes []Attribute `json:"attributes,omitempty"`
}

// PassThrough takes everything the provider said, unchanged.
func PassThrough(s Subject, attributes []Attribute) Profile {
	return Profile{Subject: s, Attributes: attributes}
}

// Released is what one application is told about the person.
type Released struct {
	Name       Name        `json:"name"`
	Attributes []Attribute `json:"attributes,omitempty"`
}

// Release hands on all attributes, unchanged, under a name.
func (p Profile) Release(n Name) Released { return Released{Name: n, Attributes: p.Attributes} }
