package saml_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/saml"
)

func TestIdentifiersOfSAML(t *testing.T) {
	for text, fits := range map[string]bool{"": false, "x": true, "urn:wrenmoor:staff": true, "a bare word": true,
		strings.Repeat("ä", 1024): true, strings.Repeat("ä", 1025): false} {
		id, err := saml.ParseEntityID(text)
		require.Equal(t, fits, err == nil, "%.40q: %v", text, err)
		require.Equal(t, fits, string(id) == text && text != "")
	}
	for _, c := range []struct {
		a, b saml.NameIDFormat
		same bool
	}{{"", saml.FormatUnspecified, true}, {saml.FormatEmail, saml.FormatEmail, true}, {"", saml.FormatEmail, false},
		{saml.FormatUnspecified, saml.FormatPersistent, false}} {
		require.Equal(t, c.same, c.a.Same(c.b), "%q and %q", c.a, c.b)
		require.Equal(t, c.same, c.b.Same(c.a))
	}
}
