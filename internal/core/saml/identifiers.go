package saml

import "fmt"

// EntityID names a party of SAML (SAML metadata §2.2.1, core §8.3.6). Two are the same if they are so
// letter by letter: nothing is folded or resolved.
type EntityID string

// longestEntityID is in characters (SAML metadata §2.2.1).
const longestEntityID = 1024

// ParseEntityID takes a text for an entity ID. It need not be an address: counterparts use bare words, too.
func ParseEntityID(text string) (EntityID, error) {
	if n := len([]rune(text)); n < 1 || n > longestEntityID {
		return "", fmt.Errorf("the entity ID has %d characters; use 1 to %d", n, longestEntityID)
	}
	return EntityID(text), nil
}

// NameIDFormat says what kind of name a NameID is (SAML core §8.3).
type NameIDFormat string

// Unspecified reports whether the format leaves the kind of name open: none is the same as that which says
// so (SAML core §2.2.2, §8.3.1).
func (f NameIDFormat) Unspecified() bool { return f == "" || f == FormatUnspecified }

// Same reports whether two formats mean the same.
func (f NameIDFormat) Same(other NameIDFormat) bool {
	return f == other || f.Unspecified() && other.Unspecified()
}
