package profile

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"
)

// What means the same by the standards is one attribute; what only looks so is another.
func TestFind(t *testing.T) {
	attributes := []Attribute{{Name: "urn:oid:0.9.2342.19200300.100.1.3", Friendly: "mail",
		Values: Texts("a@x.example", " ")},
		{Name: "email", Values: Texts("b@x.example", "a@x.example")}, {Name: "https://x.example/mail",
			Values: Texts("c@x.example")},
		{Name: "Emails", Values: Texts("d@x.example")}, {Name: "employeeNumber", Values: Texts("7")},
		{Name: "cn", Values: Texts("Ada")},
		{Name: "urn:x:name", Friendly: "displayName", Values: Texts("Ada F.")}}
	for name, want := range map[string][]string{"emails": {"a@x.example", "b@x.example"},
		"mail":                   {"a@x.example", "b@x.example"},
		"https://x.example/mail": {"c@x.example"}, "Emails": {"d@x.example"}, "employeeNumber": {"7"},
		"displayName": {"Ada", "Ada F."}, "other": nil, "": nil} {
		got := []string(nil)
		for _, v := range Find(attributes, name) {
			got = append(got, v.String())
		}
		require.Equal(t, want, got, name)
	}
	put := Put(attributes, "emails", Texts("n@x.example"))
	require.Equal(t, Texts("n@x.example"), Find(put, "mail"), "by whatever name it was there")
	require.Equal(t, Texts("c@x.example"), Find(put, "https://x.example/mail"))
	require.Len(t, attributes, 7, "the old ones stay as they are")
	require.Empty(t, Find(Put(attributes, "cn", nil), "name"))

	require.Equal(t, []string{"emails", "displayName", "userName", "employeeNumber", "x"},
		[]string{Word("mail"), Word("cn"), Word("uid"), Word("employeeNumber"), Word("x")})
	for _, c := range []struct {
		name, a, b string
		same       bool
	}{{"emails", "Ada@X.example", "ada@x.example ", true}, {"uid", "ADA", "ada", true},
		{"employeeNumber", "a7", "A7", false},
		{"employeeNumber", "7 ", "7", true}, {"employeeNumber", "07", "7", false},
		{"emails", "a@x.example", "a@y.example", false}} {
		require.Equal(t, c.same, Same(c.name, c.a, c.b), "%s %s %s", c.name, c.a, c.b)
	}
	require.True(t, Means("email_verified", ClaimEmailVerified))
	require.False(t, Means("emailVerified", ClaimEmailVerified))

	p := PassThrough(Subject{Value: "x"}, attributes[:1])
	whole := p.Beside(attributes).Beside(append(attributes, Attribute{Name: "more"}))
	require.Equal(t, attributes[:1], whole.Said(), "however often it is completed")
	require.Len(t, whole.Attributes, 8)
	require.Equal(t, attributes[:1], p.Said())
}

// A text is read the same by the short way as by the long one.
func FuzzValueText(f *testing.F) {
	for _, s := range []string{"", "a", "é", "\\u0041", "\\\"", "\x80", "a\\", "\t", "\u2028"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		data := []byte(`"` + s + `"`)
		var want string
		if json.Unmarshal(data, &want) != nil {
			return // a decoder gives only what is JSON
		}
		var v Value
		require.NoError(t, json.Unmarshal(data, &v))
		require.Equal(t, want, v.String())
	})
}
