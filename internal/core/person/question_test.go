package person

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/profile"
)

// What people type is looked at before it is kept; an address has to be one that a message
// can be sent to, and nothing else.
func TestWhatPeopleType(t *testing.T) {
	mail, name := federation.Asked{Name: "emails", Verified: true}, federation.Asked{Name: "displayName"}
	for _, c := range []struct {
		asked federation.Asked
		value string
		say   string
	}{
		{mail, "mira@post.example", ""}, {mail, "mira+rail@sub.post.example", ""}, {mail, "o'hara@post.example", ""},
		{mail, "mira", "not an e-mail address"}, {mail, "mira@post", "not an e-mail address"},
		{mail, "@post.example", "not an e-mail address"},
		{mail, "Mira <mira@post.example>", "not an e-mail address"}, {mail, "a@x.example, b@x.example",
			"not an e-mail address"},
		{mail, "mira@post.example\r\nBcc: x@y.example", "not allowed"}, {mail, "mira@@post.example",
			"not an e-mail address"},
		{mail, strings.Repeat("m", 200) + "@post.example", "too long"},
		{name, "Mira Dunn", ""}, {name, "Míra Đunn, 3rd", ""}, {name, "a\x00b", "not allowed"},
		{name, strings.Repeat("x", 201), "too long"},
	} {
		say := Unfit(c.asked, c.value)
		if c.say == "" {
			require.Empty(t, say, c.value)
			continue
		}
		require.Contains(t, say, c.say, c.value)
	}
	for text, want := range map[string]string{"123 456": "123456", " 1-2.3": "123", "abc": "", "": "", "１２": "",
		strings.Repeat("7", 500): strings.Repeat("7", 100)} {
		require.Equal(t, want, Digits(text))
	}
	require.Equal(t, []string{"E-mail address", "E-mail address", "Your name", "CostCentre"},
		[]string{Label("emails"), Label("mail"), Label("cn"), Label("costCentre")})
	require.NotEqual(t, CodeSum("q", "123456"), CodeSum("p", "123456"))
	require.NotEqual(t, CodeSum("q", "123456"), CodeSum("q", "123457"))
}

// Accounts are told apart by what people know of them.
func TestAccountsAreCalled(t *testing.T) {
	value := func(name, v string) KeptValue {
		return KeptValue{Attribute: profile.Attribute{Name: name, Values: profile.Texts(v)}}
	}
	for want, p := range map[string]Person{
		"Account 7": {ID: 7, Values: []KeptValue{value("title", "Driver")}},
		"Ada · ada": {ID: 1, Values: []KeptValue{value("emails", "ada@x.example"),
			value("userName", "ada"), value("displayName", "Ada")}},
		"ada@x.example": {ID: 1, Values: []KeptValue{value("mail", "ada@x.example")}},
		"Ada Fenwick · ada@x.example": {ID: 1, Values: []KeptValue{value("cn", "Ada Fenwick"),
			value("email", "ada@x.example")}},
	} {
		require.Equal(t, want, Called(p))
		require.Equal(t, strings.Replace(strings.Split(want, " · ")[0], "Account", "Person", 1), NameOf(p, "", ""))
	}
}
