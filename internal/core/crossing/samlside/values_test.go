package samlside

import (
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/saml"
)

// A value has the type that the provider says, if it is of it; what goes out says
// it again.
func TestValuesHaveTypes(t *testing.T) {
	for _, c := range []struct {
		in   saml.AttributeValue
		kind profile.Type
		out  saml.AttributeValue
	}{
		{saml.AttributeValue{Text: " x "}, profile.Text, saml.AttributeValue{Text: " x ", Type: "string"}},
		{saml.AttributeValue{Text: "007"}, profile.Text, saml.AttributeValue{Text: "007", Type: "string"}},
		{saml.AttributeValue{Text: "007", Type: "integer"}, profile.Text, saml.AttributeValue{Text: "007", Type: "string"}},
		{saml.AttributeValue{Text: "90071992547409931", Type: "unsignedLong"}, profile.Number,
			saml.AttributeValue{Text: "90071992547409931", Type: "integer"}},
		{saml.AttributeValue{Text: "\n 1.50", Type: "decimal"}, profile.Number, saml.AttributeValue{Text: "1.50",
			Type: "decimal"}},
		{saml.AttributeValue{Text: "1E-5", Type: "double"}, profile.Number, saml.AttributeValue{Text: "1E-5",
			Type: "double"}},
		{saml.AttributeValue{Text: "INF", Type: "double"}, profile.Text, saml.AttributeValue{Text: "INF", Type: "string"}},
		{saml.AttributeValue{Text: "1", Type: "boolean"}, profile.Boolean, saml.AttributeValue{Text: "true",
			Type: "boolean"}},
		{saml.AttributeValue{Text: "false", Type: "boolean"}, profile.Boolean, saml.AttributeValue{Text: "false",
			Type: "boolean"}},
		{saml.AttributeValue{Text: "yes", Type: "boolean"}, profile.Text, saml.AttributeValue{Text: "yes", Type: "string"}},
		{saml.AttributeValue{Text: "2026-11-26T09:00:00+01:00", Type: "dateTime"}, profile.Time,
			saml.AttributeValue{Text: "2026-11-26T08:00:00Z", Type: "dateTime"}},
		{saml.AttributeValue{Text: "2026-11-26", Type: "dateTime"}, profile.Text, saml.AttributeValue{Text: "2026-11-26",
			Type: "string"}},
		{saml.AttributeValue{Text: "x", Type: "anyURI"}, profile.Text, saml.AttributeValue{Text: "x", Type: "string"}},
	} {
		a := received(saml.Attribute{Name: "a", NameFormat: "b", FriendlyName: "c", Values: []saml.AttributeValue{c.in}})
		require.Equal(t, c.kind, a.Values[0].Type(), "%+v", c.in)
		require.Equal(t, saml.Attribute{Name: "a", NameFormat: "b", FriendlyName: "c", Values: []saml.AttributeValue{c.out}},
			sent(a))
	}
	card, err := profile.StructureOf([]byte(`{"n":1.0}`))
	require.NoError(t, err)
	require.Equal(t, []saml.AttributeValue{{Text: `{"n":1.0}`, Type: "string"}},
		sent(profile.Attribute{Values: []profile.Value{card}}).Values)
}
