package profile

import (
	"slices"
	"strings"
)

// Kind is that of a name which an application is told.
type Kind string

// Kinds of names.
const (
	// Given is the provider's name for the person, as it is.
	Given Kind = "given"
	// Bare is the value of it alone.
	Bare Kind = "bare"
	// Mail is an e-mail address.
	Mail Kind = "mail"
	// Lasting is one of its own for each application: stable and opaque, and of no
	// use to compare people across applications (SAML core §8.3.7, OpenID Connect
	// Core §8.1).
	Lasting Kind = "lasting"
	// Passing is another one for each answer.
	Passing Kind = "passing"
	// Unoffered is none that the gate offers.
	Unoffered Kind = "unoffered"
)

// Wanted is the name that an application wants to be told.
type Wanted struct {
	Kind Kind
	Word string // the protocol's word for it, for people
	As   string // format of a provider's name that serves as it is
	For  string // whom a lasting one is derived for
	// OrPassing says that somebody who cannot be known again gets a passing name
	// instead of a lasting one.
	OrPassing bool
}

// Name is what an application is told as the person's name. The value of a
// lasting one is empty until it is derived, that of a passing one until it is
// made.
type Name struct {
	Kind Kind `json:"kind"`
	Subject
	For string `json:"for,omitempty"` // whom it is to be derived for
}

// Derived says that the name is still to be derived, for the person and the
// application.
func (n Name) Derived() bool { return n.Kind == Lasting && n.Value == "" }

// String says it for people.
func (n Name) String() string {
	switch {
	case n.Kind == Passing:
		return "made for this answer"
	case n.Derived():
		return "derived for this person and application"
	}
	return n.Value
}

// Name chooses the name of somebody. known is the lasting one that the
// application knows the person by already, "" for none. If there is none of the
// kind wanted, cause says why.
func (p Profile) Name(w Wanted, known string) (n Name, cause string) {
	n.Kind = w.Kind
	switch w.Kind {
	case Given:
		n.Subject = p.Subject
	case Bare:
		n.Value = p.Subject.Value
	case Passing:
	case Lasting:
		if p.Subject.Transient && w.OrPassing {
			n.Kind = Passing
			return n, ""
		}
		if p.Subject.Transient {
			return n, "the provider gave a transient name, so the person cannot be known again"
		}
		if n.Value = known; known == "" {
			n.For = w.For
		}
	case Mail:
		if n.Subject = p.Subject; p.named && strings.Contains(p.Subject.Value, "@") {
			n.Subject = Subject{Value: p.Subject.Value}
		} else if w.As == "" || p.Subject.Format != w.As {
			n.Subject = Subject{Value: p.mail()}
		}
		if n.Value == "" {
			return n, "the provider gave no e-mail address"
		}
	default:
		return n, "the gate does not offer it"
	}
	return n, ""
}

// mailNames are the usual names of the attribute that holds an e-mail address.
var mailNames = []string{"urn:oid:0.9.2342.19200300.100.1.3", "mail", "email",
	claimURI + "emailaddress"}

// mail is the one e-mail address among the attributes, "" if there is none or it
// is not clear which.
func (p Profile) mail() string {
	for _, a := range p.Attributes {
		if len(a.Values) == 1 && a.Values[0].Type() == Text && strings.Contains(a.Values[0].String(), "@") &&
			slices.Contains(mailNames, a.Name) {
			return a.Values[0].String()
		}
	}
	return ""
}
