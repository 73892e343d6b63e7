package xmlsec

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// The table of a usual message serves the next one; one that a sender filled does not, by number or by octets.
func TestNamesServeAgain(t *testing.T) {
	many := &strings.Builder{}
	for i := range 150 {
		fmt.Fprintf(many, "<n%d/>", i)
	}
	for name, c := range map[string]struct {
		document string
		small    bool
	}{
		"usual":            {`<a xmlns="urn:x" b="1"><c/><c/></a>`, true},
		"many names":       {"<a>" + many.String() + "</a>", false},
		"a long name":      {"<" + strings.Repeat("n", 5000) + "/>", false},
		"a long namespace": {`<a xmlns="urn:` + strings.Repeat("n", 9000) + `"/>`, false},
	} {
		r := NewReader(bytes.NewReader([]byte(c.document)), MessageLimits)
		_, err := ParseFrom(r)
		require.NoError(t, err, name)
		require.Equal(t, c.small, r.nameTable.small(), name)
	}
	one, err := Parse([]byte(`<a:b xmlns:a="urn:1"/>`), MessageLimits)
	require.NoError(t, err)
	other, err := Parse([]byte(`<a:b xmlns:a="urn:2"/>`), MessageLimits)
	require.NoError(t, err)
	require.Equal(t, "urn:1 urn:2", one.Root.Space+" "+other.Root.Space, "a name is no meaning")
}
