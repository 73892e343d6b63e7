package profile_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/profile"
)

// Values mean the same as their standard says, and never because letters look alike.
func TestWhatMeansTheSame(t *testing.T) {
	for _, c := range []struct {
		name, a, b string
		same       bool
	}{
		{"emails", "Ada@Wrenmoor.Example", "ada@wrenmoor.example", true},
		{"mail", " ada@wrenmoor.example\r\n", "ada@wrenmoor.example", true},
		{"emails", "a@bücher.example", "a@xn--bcher-kva.example", true},
		{"emails", "a@BÜCHER.example", "A@bücher.example", true},
		{"emails", "ceo@m\u0130ni.example", "ceo@mini.example", false},     // İ
		{"emails", "ceo@\u212aite.example", "ceo@kite.example", false},     // Kelvin
		{"emails", "\u212aate@kite.example", "kate@kite.example", false},   // Kelvin
		{"emails", "ceo@\ufb01rm.example", "ceo@firm.example", false},      // ligature
		{"emails", "ceo@\uff46irm.example", "ceo@firm.example", false},     // full width
		{"emails", "ceo@firm\u3002example", "ceo@firm.example", false},     // ideographic stop
		{"emails", "ceo@fi\u00adrm.example", "ceo@firm.example", false},    // soft hyphen
		{"emails", "ceo@f\u0131rm.example", "ceo@firm.example", false},     // dotless i
		{"emails", "c\u200beo@firm.example", "ceo@firm.example", false},    // zero width
		{"emails", "ceo@firm.example\u00a0", "ceo@firm.example", false},    // no-break space
		{"emails", "ceo@firm.example.", "ceo@firm.example", false},         // another spelling
		{"emails", "x@evil.example@firm.example", "x@firm.example", false}, // two
		{"emails", "\u00c4nne@firm.example", "\u00e4nne@firm.example", false},
		{"userName", "Ada", "aDA", true},
		{"userName", "\u212aate", "kate", false},
		{"userName", "\u0130na", "ina", false},
		{"employeeNumber", "W-1", "w-1", false},
		{"employeeNumber", " W-1", "W-1", true},
	} {
		require.Equal(t, c.same, profile.Same(c.name, c.a, c.b), "%s: %q, %q", c.name, c.a, c.b)
	}
	require.Equal(t, "kelvin \u212a, \u0130, äö, straße, ω", profile.Small("KELVIN \u212a, \u0130, ÄÖ, STRAßE, Ω"))
	for _, no := range []string{"", "a@", "@b.example", "a@b", "a b@c.example", "a@-b.example", "a@b..example",
		"a@xn--\u00fc.example",
		"\"a@b\"@c.example", "a@[127.0.0.1]", "a\x00@b.example"} {
		_, ok := profile.Address(no)
		require.False(t, ok, "%q", no)
	}
	address, ok := profile.Address("Ada@BÜCHER.example")
	require.True(t, ok)
	require.Equal(t, "Ada@xn--bcher-kva.example", address)
	require.Equal(t, "wrenmoor.example", profile.DomainOf(" x@Wrenmoor.Example"))
	require.Empty(t, profile.DomainOf("wrenmoor.example"))
}

// FuzzKey: two values with one key have keys of one key, and a key that is an address is
// what is mailed to.
func FuzzKey(f *testing.F) {
	f.Add("Ada@BÜCHER.example")
	f.Add("ceo@m\u0130ni.example")
	f.Fuzz(func(t *testing.T, v string) {
		key := profile.Key("emails", v)
		require.Equal(t, key, profile.Key("emails", key), "%q", v)
		if address, ok := profile.Address(v); ok {
			again, ok := profile.Address(address)
			require.True(t, ok, "%q", address)
			require.Equal(t, address, again)
		}
	})
}
