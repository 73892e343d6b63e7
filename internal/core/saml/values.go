package saml

import (
	"strings"
	"time"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/xmlsec"
)

// NameID names a person to one counterpart (SAML core §2.2.3).
type NameID struct {
	Format          string `json:"format,omitempty"`
	NameQualifier   string `json:"nameQualifier,omitempty"`
	SPNameQualifier string `json:"spNameQualifier,omitempty"`
	Value           string `json:"value"`
}

// Attribute is one attribute of a person with all its values (SAML core §2.7.3.1).
type Attribute struct {
	Name         string   `json:"name"`
	NameFormat   string   `json:"nameFormat,omitempty"`
	FriendlyName string   `json:"friendlyName,omitempty"`
	Values       []string `json:"values"`
}

// parseTime reads xs:dateTime; without a zone it is UTC (SAML core §1.3.3).
func parseTime(s string) (time.Time, bool) {
	s = strings.TrimSpace(s)
	for _, layout := range []string{time.RFC3339Nano, "2006-01-02T15:04:05.999999999"} {
		if t, err := time.Parse(layout, s); err == nil {
			return t.UTC(), true
		}
	}
	return time.Time{}, false
}

// formatTime writes xs:dateTime in UTC with Z and milliseconds.
func formatTime(t time.Time) string { return t.UTC().Format("2006-01-02T15:04:05.000Z") }

// optionalTime reads a time attribute: absent is zero, unreadable a finding.
func optionalTime(el *xmlsec.Element, name string) (time.Time, error) {
	s, ok := el.LookAttr("", name)
	if !ok {
		return time.Time{}, nil
	}
	t, ok := parseTime(s)
	if !ok {
		return t, finding.New(finding.MessageUndecodable, finding.Fact(name+" of <"+el.Local+">", s))
	}
	return t, nil
}

// parseBool reads xs:boolean, false if absent.
func parseBool(s string) bool {
	s = strings.TrimSpace(s)
	return s == "true" || s == "1"
}

// childValue is the text of a child element; "" if absent or not plain text.
func childValue(el *xmlsec.Element, space, local string) string {
	c := el.Child(space, local)
	if c == nil {
		return ""
	}
	v, _ := c.Value()
	return v
}

func el(prefix, space, local string) *xmlsec.Element { return xmlsec.New(prefix, space, local) }
func samlp(local string) *xmlsec.Element             { return el("samlp", NSProtocol, local) }
func saml(local string) *xmlsec.Element              { return el("saml", NSAssertion, local) }
func md(local string) *xmlsec.Element                { return el("md", NSMetadata, local) }
