// Package profile holds what is known of a person's attributes while they pass
// through the gate, between intake (from the provider) and release (to an
// application).
//
//	p := profile.PassThrough(subject, attributes)
//	released := p.Release(name)
//
// Without rules both mappings change nothing: what the provider said is what the
// application hears, in the same order and under the same names. With rules, each
// attribute is made by one of them: see Mapping. The name by which the application is
// told the person is chosen at release: see Wanted.
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
	Ruled    bool    `json:"ruled,omitempty"` // a rule of the release made it: it is told, whatever scopes say
}

// Profile is a person's attributes inside the gate.
type Profile struct {
	Subject    Subject     `json:"subject"`
	Attributes []Attribute `json:"attributes,omitempty"`
	// Verified are the e-mail addresses that the provider itself says are verified, by Key.
	Verified []string    `json:"-"`
	Roles    []string    `json:"-"` // values that are sent for the roles that they enter with
	named    bool        // a rule made the subject
	said     []Attribute // without what the gate knows beside; see Beside
	beside   bool
}

// Beside is a profile with what the gate knows beside what came in at this sign-in.
func (p Profile) Beside(known []Attribute) Profile {
	if !p.beside {
		p.said, p.beside = p.Attributes, true
	}
	p.Attributes = known
	return p
}

// As is a profile of somebody who enters with roles, by the values that are sent for these.
func (p Profile) As(roles []string) Profile {
	p.Roles = roles
	return p
}

// Said are the attributes that came in, without what the gate knows beside.
func (p Profile) Said() []Attribute {
	if p.beside {
		return p.said
	}
	return p.Attributes
}

// PassThrough takes everything the provider said, unchanged.
func PassThrough(s Subject, attributes []Attribute) Profile {
	return Profile{Subject: s, Attributes: attributes, Verified: flagged(attributes)}
}

// flagged are the addresses that a provider itself says are verified: it says so of the only
// one that it gives (OpenID Connect Core §5.1). What rules make says nothing.
func flagged(said []Attribute) []string {
	flag, mails := Find(said, ClaimEmailVerified), Find(said, ClaimEmail)
	if len(mails) != 1 || len(flag) != 1 || !flag[0].True() && (flag[0].Type() != Text || flag[0].String() != "true") {
		return nil
	}
	return []string{Key(ClaimEmail, mails[0].String())}
}

// Released is what one application is told about the person.
type Released struct {
	Name       Name        `json:"name"`
	Attributes []Attribute `json:"attributes,omitempty"`
}

// Renamed is the profile under the name that a rule made, nil for none. Whether it can
// be known again stays as the provider said.
func (p Profile) Renamed(s *Subject) Profile {
	if s != nil {
		p.Subject, p.named = Subject{Format: s.Format, Value: s.Value, Transient: p.Subject.Transient}, true
	}
	return p
}
