// Package profile holds what is known of a person's attributes while they pass
// through the gate, between intake (from the provider) and release (to an
// application).
//
//	p := profile.PassThrough(subject, attributes)
//	released := p.Release()
//
// Today both mappings are the identity: what the provider said is what the
// application hears, in the same order and under the same names.
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

// Attribute is a named list of values.
type Attribute struct {
	Name         string   `json:"name"`
	NameFormat   string   `json:"nameFormat,omitempty"`
	FriendlyName string   `json:"friendlyName,omitempty"`
	Values       []string `json:"values"`
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
	Subject    Subject     `json:"subject"`
	Attributes []Attribute `json:"attributes,omitempty"`
}

// Release hands on everything that is in the profile, unchanged.
func (p Profile) Release() Released {
	return Released{Subject: p.Subject, Attributes: p.Attributes}
}
