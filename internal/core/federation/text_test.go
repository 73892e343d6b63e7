package federation

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// Hosts are the same in any case of ASCII, and by no letter that looks alike.
func TestSameHost(t *testing.T) {
	for _, c := range []struct {
		a, b string
		same bool
	}{{"Desk.Example:8443", "desk.example:8443", true}, {"des\u212a.example", "desk.example", false},
		{"de\u017fk.example", "desk.example", false},
		{"desk.example", "desk.example:443", false}, {"", "", true}} {
		require.Equal(t, c.same, SameHost(c.a, c.b), "%q %q", c.a, c.b)
	}
}
