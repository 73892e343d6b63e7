package federation_test

import (
	"crypto/rand"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing/samlside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/listed"
	"innergate.example/innergate/internal/core/saml"
)

func TestDifferences(t *testing.T) {
	v := func(pairs ...string) (out []federation.Value) {
		for i := 0; i < len(pairs); i += 2 {
			out = append(out, federation.Value{Label: pairs[i], Value: pairs[i+1]})
		}
		return out
	}
	for _, c := range []struct {
		rule          string
		before, after []federation.Value
		want          []federation.Difference
	}{
		{"nothing", v("a", "1"), v("a", "1"), []federation.Difference{}},
		{"a value", v("a", "1", "b", "2"), v("a", "1", "b", "3"),
			[]federation.Difference{{Label: "b", Before: "2", After: "3"}}},
		{"another order of several", v("a", "1", "a", "2"), v("a", "2", "a", "1"), []federation.Difference{}},
		{"one of several", v("a", "1", "a", "2"), v("a", "2", "a", "3"),
			[]federation.Difference{{Label: "a", Before: "1", After: "3"}}},
		{"one more", v("a", "1"), v("a", "1", "a", "2"), []federation.Difference{{Label: "a", After: "2"}}},
		{"one less", v("a", "1", "a", "2"), v("a", "2"), []federation.Difference{{Label: "a", Before: "1"}}},
		{"a label that comes and one that goes", v("a", "1"), v("b", "1"), []federation.Difference{{Label: "a", Before: "1"},
			{Label: "b", After: "1"}}},
		{"empty is no value", v("a", ""), v("b", ""), []federation.Difference{}},
		{"all of a new record", nil, v("a", "1", "b", "2"), []federation.Difference{{Label: "a", After: "1"},
			{Label: "b", After: "2"}}},
	} {
		require.Equal(t, c.want, federation.Differences(c.before, c.after), c.rule)
	}
}

func TestSettingsOfKeepingAndDrafts(t *testing.T) {
	pair, err := keys.Generate("x", time.Now(), rand.Reader)
	require.NoError(t, err)
	k, err := federation.Keeping{TrustKey: string(pair.Certificate.PEM()) + "\n"}.Trust()
	require.NoError(t, err)
	require.Len(t, k, 1)
	k, err = federation.Keeping{TrustKey: " \n"}.Trust()
	require.NoError(t, err)
	require.Nil(t, k)
	s := app("a", "urn:a")
	s.Title, s.Phase = "A", federation.Draft
	require.NoError(t, federation.Check(s), "a draft may be kept")
	for field, value := range map[string]any{"phase": "live", "trustKey": "x", "ownStart": "start", "phas": "live",
		"notes": false} {
		bad := s.Copy()
		err := federation.Apply(bad, federation.Settings{field: value})
		if err == nil {
			err = federation.Check(bad)
		}
		var se *federation.SettingError
		require.ErrorAs(t, err, &se)
		require.Equal(t, field, se.Field)
	}
	require.ErrorContains(t, federation.Apply(s.Copy(), federation.Settings{"phas": "x"}), "did you mean phase")
	require.Error(t, federation.Apply(s.Copy(), federation.Settings{"phase": true}))
	octets, err := federation.Marshal(s)
	require.NoError(t, err)
	back, err := federation.Unmarshal(samlside.Protocol{}, federation.Stored{Kind: federation.KindApplication, Name: "a",
		Revision: 3, Data: octets})
	require.NoError(t, err)
	require.Equal(t, s.Describe(), back.Describe(), "what is stored is what was")
	require.Equal(t, federation.SettingsOf(s), federation.SettingsOf(back))
	require.NotContains(t, string(octets), `"contact"`, "what says nothing is not stored")
	trusted := &federation.Provider{Side: &samlside.Provider{IDP: &saml.IDP{}}}
	trusted.MatchBy = listed.ParseWords("eduPersonUniqueId")
	octets, err = federation.Marshal(trusted)
	require.NoError(t, err)
	again, err := federation.Unmarshal(samlside.Protocol{}, federation.Stored{Kind: federation.KindProvider, Data: octets})
	require.NoError(t, err)
	require.Empty(t, again.(*federation.Provider).TrustedFor, "one that is trusted for nothing is so when it is read")
	for source, want := range map[string][2]string{"https://a.example/m": {"https://a.example/m", ""}, "document": {},
		"typed": {}, "aggregate lines": {"", "lines"}} {
		in := federation.Intake{Source: source}
		require.Equal(t, want, [2]string{in.Address(), in.Aggregate()}, source)
	}
}

func TestAuthoritiesAreRead(t *testing.T) {
	pair, err := keys.Generate("x", time.Now(), rand.Reader)
	require.NoError(t, err)
	for text, says := range map[string]string{"": "", " \n": "", "MIIB": "no certificate in PEM",
		string(pair.Certificate.PEM()):                                   "no certificate of an authority",
		"-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n": "cannot be read"} {
		_, err := federation.Keeping{AddressCA: text}.Authorities()
		if says == "" {
			require.NoError(t, err)
			continue
		}
		require.ErrorContains(t, err, says)
	}
}
