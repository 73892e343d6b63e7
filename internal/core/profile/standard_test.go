package profile_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/profile"
)

func TestStandardNamesAreOne(t *testing.T) {
	seen := map[string]string{}
	for _, s := range profile.Standards() {
		for _, n := range append([]string{s.Claim, s.SCIM}, s.Names...) {
			if n != "" && n != s.Claim || seen[n] == "" {
				require.True(t, n == "" || seen[n] == "" || seen[n] == s.Claim, "%s is %s and %s", n, seen[n], s.Claim)
				seen[n] = s.Claim
			}
		}
		require.Contains(t, profile.Scoped(s.Scope), s.Claim)
	}
	require.Equal(t, []string{"email", "email_verified"}, profile.Scoped(profile.ScopeEmail))
	require.Empty(t, profile.Scoped("openid"))
}

func TestClaimsAreFound(t *testing.T) {
	number, _ := profile.NumberOf("12345678901234567890")
	address, err := profile.StructureOf([]byte(`{"locality":"Wrenmoor"}`))
	require.NoError(t, err)
	attributes := []profile.Attribute{
		{Name: "urn:oid:2.5.4.42", Friendly: "givenName", Values: profile.Texts("Ada", "Augusta")},
		{Name: "urn:oid:2.5.4.3", Values: profile.Texts("Fenwick Ada")},
		{Name: "x", Friendly: "displayName", Values: profile.Texts("Ada Fenwick")},
		{Name: "mail", Values: profile.Texts(" ", "ada.fenwick@wrenmoor.example")},
		{Name: "email_verified", Values: profile.Texts("yes")},
		{Name: "phone_number_verified", Values: profile.Texts("true")},
		{Name: "isMemberOf", Values: profile.Texts("drivers")},
		{Name: "address", Values: []profile.Value{address}},
		{Name: "staffNumber", Values: []profile.Value{number}},
		{Name: "depots", Values: profile.Texts("a", "b")},
		{Name: "empty"},
		{Name: "http://schemas.xmlsoap.org/ws/2005/05/identity/claims/webpage",
			Values: profile.Texts("https://ada.example")},
		{Name: "preferredLanguage", Values: profile.Texts("en"), Ruled: true},
		{Name: "middle_name", Values: profile.Texts("Maria"), Ruled: true},
	}
	found := func(wanted func(string) bool) map[string]string {
		out := map[string]string{}
		for _, c := range profile.Claims(attributes, wanted) {
			var v any = c.Values
			if !c.List {
				require.Len(t, c.Values, 1, c.Name)
				v = c.Values[0]
			}
			coded, err := json.Marshal(v)
			require.NoError(t, err)
			out[c.Name] = string(coded)
		}
		return out
	}
	got := found(func(string) bool { return true })
	for name, want := range map[string]string{"given_name": `"Ada"`, "name": `"Ada Fenwick"`,
		"email": `"ada.fenwick@wrenmoor.example"`, "email_verified": "", "phone_number_verified": "true",
		"groups": `["drivers"]`, "staffNumber": "12345678901234567890", "depots": `["a","b"]`, "empty": "",
		"family_name": "",
		"website":     `"https://ada.example"`, "updated_at": "", "locale": "", "middle_name": `"Maria"`} {
		require.Equal(t, want, got[name], name)
	}
	require.Contains(t, got["address"], "Wrenmoor")
	require.Equal(t, map[string]string{"email": `"ada.fenwick@wrenmoor.example"`},
		found(func(name string) bool { return name == "email" }), "only what is wanted")
}
