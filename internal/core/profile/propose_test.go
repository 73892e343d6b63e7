package profile_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/profile"
)

// What arrives is known by whatever it is called.
func TestAttributesAreKnownByTheirSynonyms(t *testing.T) {
	for _, c := range []struct{ name, friendly, want string }{
		{"urn:oid:2.5.4.42", "", "name.givenName"}, {"First Name", "", "name.givenName"},
		{"first_name", "", "name.givenName"},
		{"http://schemas.xmlsoap.org/ws/2005/05/identity/claims/givenname", "", "name.givenName"},
		{"Forename", "", "name.givenName"}, {"x", "givenName", "name.givenName"}, {"lastName", "", "name.familyName"},
		{"https://claims.wrenmoor.example/identity/Surname", "", "name.familyName"}, {"mail", "", "emails"},
		{"E-Mail Address", "", "emails"}, {"email_verified", "", "email_verified"}, {"memberOf", "", "groups"},
		{"urn:oid:1.3.6.1.4.1.5923.1.1.1.7", "", "entitlements"}, {"urn:oid:1.2.3.42", "", ""}, {"costCentre", "", ""},
		{"urn:oid:0.9.2342.19200300.100.1.1", "", "userName"}, {"", "", ""},
	} {
		got := ""
		if s := profile.Known(c.name, c.friendly); s != nil {
			got = s.Word()
		}
		require.Equal(t, c.want, got, c.name)
	}
}

func TestProposals(t *testing.T) {
	arrived := []profile.Attribute{{Name: "urn:oid:2.5.4.42", Friendly: "givenName"}, {Name: "firstname"}, {Name: "mail"},
		{Name: "https://a.example/x/cost"}, {Name: "https://b.example/y/cost"}, {Name: "bad\x00"}}
	in := profile.ProposeIntake(arrived)
	require.Len(t, in.Why, 4)
	require.Equal(t, []string{"name.givenName: urn:oid:2.5.4.42 or firstname", "emails: mail",
		"cost: https://a.example/x/cost",
		"https://b.example/y/cost: https://b.example/y/cost"}, lines(in.Mapping))
	_, err := in.Mapping.Compile()
	require.NoError(t, err, "what is proposed can be saved")

	out := profile.ProposeRelease([]profile.Requested{{Name: "urn:oid:0.9.2342.19200300.100.1.3", Format: "uri",
		Friendly: "mail",
		Required: true}, {Name: "First Name"}, {Name: "cosst"}, {Name: "First Name"}},
		append(arrived, profile.Attribute{Name: "name.givenName"}, profile.Attribute{Name: "cost"}))
	require.Equal(t, []string{"urn:oid:0.9.2342.19200300.100.1.3: mail, mandatory",
		"First Name: urn:oid:2.5.4.42 or firstname or name.givenName"}, lines(out.Mapping))
	require.Equal(t, []profile.Without{{Name: "cosst", Near: "cost"}}, out.Without)
	require.Equal(t, []string{"the same name", "both are name.givenName"}, out.Why)
}

func lines(m profile.Mapping) (out []string) {
	for _, r := range m.Rules {
		out = append(out, r.String())
	}
	return out
}
