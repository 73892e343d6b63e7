package federation

import (
	"maps"
	"slices"
	"strings"
	"time"
)

// Intake is how the other side's values came in.
type Intake struct {
	// Document is the SHA-256 of the document as it was taken in, in hexadecimal;
	// empty if the values were typed by hand.
	Document      string        `json:"document,omitempty"`
	Source        string        `json:"source"` // an address, SourceDocument, SourceTyped, or SourceAggregate and a name
	ValidUntil    time.Time     `json:"validUntil,omitzero"`
	CacheDuration time.Duration `json:"cacheDuration,omitempty"` // nanoseconds
	// SignatureMethod and DigestMethod are those the document was signed with.
	SignatureMethod string `json:"signatureMethod,omitempty"`
	DigestMethod    string `json:"digestMethod,omitempty"`
	SignedBy        string `json:"signedBy,omitempty"` // whose key the signature names, in words
	Verified        bool   `json:"verified,omitempty"` // against the trust key
	Written         string `json:"written,omitempty"`  // the entity ID as written, if white space stands around it
	// Trimmed are other values as written, if white space stands around them.
	Trimmed   []Trimmed `json:"trimmed,omitempty"`
	OtherRole bool      `json:"otherRole,omitempty"` // the document also holds the entity's other role
}

// Trimmed is a value as it was written, with white space around it.
type Trimmed struct {
	Label   string `json:"label"`
	Written string `json:"written"`
	Typed   bool   `json:"typed,omitempty"` // by hand, here
}

// Sources that are no address.
const (
	SourceDocument  = "document"
	SourceTyped     = "typed"
	SourceAggregate = "aggregate "
)

// Address is where the metadata is fetched from, "" if it is not.
func (i Intake) Address() string {
	if i.Source == SourceDocument || i.Source == SourceTyped || strings.HasPrefix(i.Source, SourceAggregate) {
		return ""
	}
	return i.Source
}

// Aggregate is the name of the aggregate it was taken from, "" if from none.
func (i Intake) Aggregate() string {
	name, ok := strings.CutPrefix(i.Source, SourceAggregate)
	if !ok {
		return ""
	}
	return name
}

// Typing notes which typed values had white space around them.
func (i *Intake) Typing(t Typed, fields []Setting) {
	kept := slices.DeleteFunc(slices.Clone(i.Trimmed), func(w Trimmed) bool { return t[w.Label] != "" })
	for _, field := range slices.Sorted(maps.Keys(t)) {
		v := t[field]
		if f := Field(fields, field); v != strings.TrimSpace(v) && f.Type != Secret &&
			(f.Type == List || !f.SeveralLines()) {
			kept = append(kept, Trimmed{Label: field, Written: v, Typed: true})
		}
	}
	i.Trimmed = kept
	if slices.ContainsFunc(fields, func(f Setting) bool { return f.Identifies && t[f.Name] != "" }) {
		i.Written = ""
	}
}
