package federation_test

import (
	"crypto/rand"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
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
		{"a value", v("a", "1", "b", "2"), v("a", "1", "b", "3"), []federation.Difference{{Label: "b", Before: "2", After: "3"}}},
		{"another order of several", v("a", "1", "a", "2"), v("a", "2", "a", "1"), []federation.Difference{}},
		{"one of several", v("a", "1", "a", "2"), v("a", "2", "a", "3"), []federation.Difference{{Label: "a", Before: "1", After: "3"}}},
		{"one more", v("a", "1"), v("a", "1", "a", "2"), []federation.Difference{{Label: "a", After: "2"}}},
		{"one less", v("a", "1", "a", "2"), v("a", "2"), []federation.Difference{{Label: "a", Before: "1"}}},
		{"a label that comes and one that goes", v("a", "1"), v("b", "1"), []federation.Difference{{Label: "a", Before: "1"}, {Label: "b", After: "1"}}},
		{"empty is no value", v("a", ""), v("b", ""), []federation.Difference{}},
		{"all of a new record", nil, v("a", "1", "b", "2"), []federation.Difference{{Label: "a", After: "1"}, {Label: "b", After: "2"}}},
	} {
		require.Equal(t, c.want, federation.Differences(c.before, c.after), c.rule)
	}
}

func TestDescriptionTellsWhatComparesAndHidesNothing(t *testing.T) {
	pair, err := keys.Generate("x", time.Now(), rand.Reader)
	require.NoError(t, err)
	yes := true
	a := &federation.Application{SAML: &federation.SAMLApplication{SP: &saml.SP{EntityID: "urn:a", Start: "https://a.example/start", NameIDFormats: []string{saml.FormatEmail}, Algorithms: []string{"urn:x"},
		ACS:  []saml.Endpoint{{Binding: saml.BindingPOST, Location: "https://a.example/acs", Index: 3, Default: &yes}},
		Keys: []saml.Key{{Certificate: pair.Certificate, Methods: []string{"urn:m"}}, {Use: "signing", Certificate: keys.Certificate{Public: pair.Certificate.Public}}}},
		Intake: federation.Intake{Source: "document", ValidUntil: time.Date(2030, 1, 2, 3, 4, 5, 0, time.UTC)}}}
	a.Owner, a.Encrypt = "roster office", true
	said := map[string]string{}
	for _, v := range a.Describe() {
		said[v.Label] = v.Value
	}
	for label, want := range map[string]string{
		"Entity ID": "urn:a", "AssertionConsumerService": "https://a.example/acs  HTTP-POST, default, index 3", "RequestInitiator": "https://a.example/start",
		"NameIDFormat": saml.FormatEmail, "Algorithm": "urn:x", "EncryptionMethod": "urn:m", "Metadata from": "document", "validUntil": "2030-01-02 03:04:05Z",
		"owner": "roster office", "encrypt": "true", "approveChanges": "false", "AuthnRequestsSigned": "false",
	} {
		require.Equal(t, want, said[label], label)
	}
	require.Contains(t, said["Key for signing and encryption"], pair.Certificate.SHA256())
	require.Contains(t, said["Key for signing"], "bare key "+pair.Certificate.Fingerprint())

	key := federation.Difference{Label: "Key for signing", Before: "one", After: "other"}
	for _, c := range []struct {
		ds   []federation.Difference
		want []finding.Code
	}{
		{[]federation.Difference{{Label: "owner", After: "x"}, {Label: "NameIDFormat", Before: "y"}, {Label: "EncryptionMethod", After: "z"}}, nil},
		{[]federation.Difference{key, key}, []finding.Code{finding.ChangedKey}},
		{[]federation.Difference{{Label: "ArtifactResolutionService", After: "x"}, key, {Label: "Entity ID", Before: "a", After: "b"}}, []finding.Code{finding.ChangedEntityID, finding.ChangedKey, finding.ChangedAddress}},
	} {
		var got []finding.Code
		for _, f := range federation.Changed(c.ds) {
			got = append(got, f.Code)
		}
		require.Equal(t, c.want, got)
	}
}

func TestTypedValuesAreLaidOver(t *testing.T) {
	pair, err := keys.Generate("x", time.Now(), rand.Reader)
	require.NoError(t, err)
	other, err := keys.Generate("x", time.Now(), rand.Reader)
	require.NoError(t, err)
	was := saml.SP{EntityID: "urn:was", ACS: []saml.Endpoint{{Binding: saml.BindingPOST, Location: "https://was.example"}, {Binding: saml.BindingArtifact, Location: "https://was.example/artifact"}},
		Keys: []saml.Key{{Use: "signing", Certificate: pair.Certificate}, {Use: "encryption", Certificate: pair.Certificate}}}
	now, err := federation.Typed{ACS: "  https://now.example/acs ", Certificate: string(other.Certificate.PEM())}.Application(was)
	require.NoError(t, err)
	require.Equal(t, "urn:was", now.EntityID, "what was not typed stays")
	require.Equal(t, []string{saml.BindingArtifact, saml.BindingPOST}, []string{now.ACS[0].Binding, now.ACS[1].Binding})
	require.Equal(t, "https://now.example/acs", now.ACS[1].Location)
	require.Len(t, now.Keys, 2)
	require.Equal(t, "encryption", now.Keys[0].Use, "a signing certificate replaces signing keys only")
	require.Equal(t, other.Certificate.SHA256(), now.Keys[1].Certificate.SHA256())
	require.Equal(t, "https://was.example", was.ACS[0].Location, "what is on record is not touched")
	_, err = federation.Typed{SSOPost: "https://x.example"}.Application(was)
	require.ErrorContains(t, err, "belongs to a provider")

	require.True(t, federation.Typed{}.Empty())
	for missing, want := range map[string]string{"entity ID": "entityId", "SingleSignOnService by HTTP-Redirect or HTTP-POST": "ssoRedirect", "AssertionConsumerService by HTTP-POST": "acs", "signing certificate": "certificate"} {
		require.Equal(t, want, federation.Typed{NameIDFormat: "x"}.Lacks([]string{missing}))
		require.Equal(t, "metadata", federation.Typed{}.Lacks([]string{missing}))
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
	sp := &saml.SP{EntityID: "urn:a"}
	s := federation.ApplicationSettings{About: federation.About{Title: "A"}}
	require.NoError(t, s.Check(sp), "a draft may be kept")
	for field, edit := range map[string]func(*federation.ApplicationSettings){
		"enabled": func(s *federation.ApplicationSettings) { s.Enabled = true }, "trustKey": func(s *federation.ApplicationSettings) { s.TrustKey = "x" },
	} {
		bad := s
		edit(&bad)
		var se *federation.SettingError
		require.ErrorAs(t, bad.Check(sp), &se)
		require.Equal(t, field, se.Field)
	}
	for source, want := range map[string][2]string{"https://a.example/m": {"https://a.example/m", ""}, "document": {}, "typed": {}, "aggregate lines": {"", "lines"}} {
		in := federation.Intake{Source: source}
		require.Equal(t, want, [2]string{in.Address(), in.Aggregate()}, source)
	}
}
