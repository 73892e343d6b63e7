package samlside

import (
	"strings"
	"time"

	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/saml"
)

// received is an attribute as a provider sent it, inside the gate. Values that
// say a type of XML Schema and are of it have that type; others are texts.
func received(a saml.Attribute) profile.Attribute {
	out := profile.Attribute{Name: a.Name, Format: a.NameFormat, Friendly: a.FriendlyName, Values: []profile.Value{}}
	for _, v := range a.Values {
		out.Values = append(out.Values, valueOf(v))
	}
	return out
}

// numbers are the types of XML Schema that are numbers (part 2 §3.2.3, §3.2.4,
// §3.2.5, §3.3.13 and what is derived of it).
var numbers = map[string]bool{"decimal": true, "integer": true, "nonPositiveInteger": true, "negativeInteger": true,
	"long": true,
	"int":  true, "short": true, "byte": true, "nonNegativeInteger": true, "unsignedLong": true, "unsignedInt": true,
	"unsignedShort": true, "unsignedByte": true, "positiveInteger": true, "float": true, "double": true}

func valueOf(v saml.AttributeValue) profile.Value {
	text := strings.TrimSpace(v.Text)
	switch {
	case v.Type == "boolean" && (text == "true" || text == "1"):
		return profile.BooleanOf(true)
	case v.Type == "boolean" && (text == "false" || text == "0"):
		return profile.BooleanOf(false)
	case v.Type == "dateTime":
		if t, err := time.Parse(time.RFC3339Nano, text); err == nil {
			return profile.TimeOf(t)
		}
	case numbers[v.Type]:
		if n, ok := profile.NumberOf(text); ok {
			return n
		}
	}
	return profile.TextOf(v.Text)
}

// sent is an attribute as an application gets it. SAML has no structures: they
// are JSON in a string.
func sent(a profile.Attribute) saml.Attribute {
	out := saml.Attribute{Name: a.Name, NameFormat: a.Format, FriendlyName: a.Friendly}
	for _, v := range a.Values {
		out.Values = append(out.Values, saml.AttributeValue{Text: v.String(), Type: schemaType(v)})
	}
	return out
}

func schemaType(v profile.Value) string {
	switch v.Type() {
	case profile.Boolean:
		return "boolean"
	case profile.Time:
		return "dateTime"
	case profile.Number:
		switch {
		case strings.ContainsAny(v.String(), "eE"):
			return "double"
		case strings.Contains(v.String(), "."):
			return "decimal"
		}
		return "integer"
	}
	return "string"
}
