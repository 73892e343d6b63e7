package saml

import (
	"strconv"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/xmlsec"
)

// NameID names a person to one counterpart (SAML core §2.2.3).
type NameID struct {
	Format          NameIDFormat `json:"format,omitempty"`
	NameQualifier   string       `json:"nameQualifier,omitempty"`
	SPNameQualifier string       `json:"spNameQualifier,omitempty"`
	Value           string       `json:"value"`
}

// Attribute is one attribute of a person with all its values (SAML core §2.7.3.1).
type Attribute struct {
	Name         string
	NameFormat   string
	FriendlyName string
	Values       []AttributeValue
}

// AttributeValue is one value: its text, and the built-in type of XML Schema that
// xsi:type says it is of (XML Schema part 2 §3), "" if it says none or another.
type AttributeValue struct{ Text, Type string }

// String is the text.
func (v AttributeValue) String() string { return v.Text }

// Texts are values that are strings.
func Texts(ss ...string) []AttributeValue {
	out := make([]AttributeValue, len(ss))
	for i, s := range ss {
		out[i].Text = s
	}
	return out
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

// parseDuration reads xs:duration; years count 365 days and months 30, which is
// near enough for how long to keep a copy. Longer ones than a century count as
// one.
func parseDuration(s string) (time.Duration, bool) {
	s = strings.TrimSpace(s)
	rest, ok := strings.CutPrefix(s, "P")
	if !ok || rest == "" || strings.HasSuffix(rest, "T") {
		return 0, false
	}
	const day, century = 24 * time.Hour, 36500 * 24 * time.Hour
	units := []struct {
		letter string
		of     time.Duration
	}{{"Y", 365 * day}, {"M", 30 * day}, {"D", day}}
	total := 0.0
	for _, part := range strings.SplitN(rest, "T", 2) {
		for _, u := range units {
			number, after, found := strings.Cut(part, u.letter)
			if !found {
				continue
			}
			n, err := strconv.ParseFloat(number, 64)
			if err != nil || n < 0 {
				return 0, false
			}
			total, part = total+n*float64(u.of), after
		}
		if part != "" {
			return 0, false
		}
		units = []struct {
			letter string
			of     time.Duration
		}{{"H", time.Hour}, {"M", time.Minute}, {"S", time.Second}}
	}
	return time.Duration(min(total, float64(century))), true
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

// issuerOf is who made a message, or an assertion, as it says (SAML core §2.2.5).
func issuerOf(el *xmlsec.Element) EntityID { return EntityID(childValue(el, NSAssertion, "Issuer")) }

// issuedBy says who made it.
func issuedBy(id EntityID) *xmlsec.Element { return saml("Issuer").AddText(string(id)) }

func el(prefix, space, local string) *xmlsec.Element { return xmlsec.New(prefix, space, local) }
func samlp(local string) *xmlsec.Element             { return el("samlp", NSProtocol, local) }
func saml(local string) *xmlsec.Element              { return el("saml", NSAssertion, local) }
func md(local string) *xmlsec.Element                { return el("md", NSMetadata, local) }
