package profile_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/profile"
)

// What a record says itself goes before what its set says.
func TestOver(t *testing.T) {
	const a, b = `{"to":{"name":"a"},"from":[{"attribute":"x"}]}`, `{"to":{"name":"b"},"from":[{"attribute":"x"}]}`
	for own, want := range map[string]string{
		``: "a: x; b: x",
		`{"to":{"name":"a"},"from":[{"attribute":"y"}]}`:                                     "a: y; b: x",
		`{"to":{"name":"a"},"omit":true}`:                                                    "b: x",
		`{"to":{"name":"c"},"omit":true}`:                                                    "a: x; b: x",
		`{"to":{"name":"a","nameFormat":"f"},"from":[{"attribute":"y"}]}`:                    "a: x; b: x; a: y",
		`{"to":{"subject":true},"from":[{"attribute":"y"}]},{"to":{"name":"b"},"omit":true}`: "a: x; the subject: y",
	} {
		got, err := profile.Over(mapping(t, a+","+b), mapping(t, own))
		require.NoError(t, err, own)
		require.Equal(t, want, strings.Join(lines(got), "; "), own)
	}
	_, err := profile.Over(mapping(t, a+","+b), mapping(t,
		`{"to":{"name":"a"},"omit":true},{"to":{"name":"b"},"omit":true}`))
	require.ErrorContains(t, err, "everything would pass", "what is taken away never comes to more")
	_, err = profile.Over(mapping(t, a), profile.Mapping{Rules: []profile.Rule{{To: profile.Target{Name: "z"}}}})
	require.Error(t, err)
}

// Of values that are not there it is known which rules would look at them otherwise.
func TestReadsOtherwise(t *testing.T) {
	const plain, upper = `{"to":{"name":"a"},"from":[{"attribute":"x"}]}`,
		`{"to":{"name":"a"},"from":[{"attribute":"x"}],"steps":[{"do":"upper"}]}`
	const cond = `{"to":{"name":"a"},"from":[{"constant":"1"}],"when":"has(attributes.x)"}`
	for _, c := range []struct {
		old, now string
		other    bool
	}{
		{plain, plain, false}, {plain, upper, true}, {plain, cond, true}, {"", plain, true}, {plain, "", true},
		{"", "", false},
		{plain, `{"to":{"name":"b"},"from":[{"attribute":"y"}]}`, false},
		{plain, strings.Replace(plain, `}]}`, `}],"note":"why"}`, 1), false},
	} {
		require.Equal(t, c.other, len(mapping(t, c.now).ReadsOtherwise(mapping(t, c.old), []string{"x"})) > 0, "%s, then %s",
			c.old, c.now)
	}
	require.Equal(t, []string{"a"}, mapping(t, plain).Makes([]string{"x", "y"}))
	require.Equal(t, []string{"x", "y"}, mapping(t, "").Makes([]string{"x", "y"}))
}

// What traces keep is said by name, by any name that means the same, or for all.
func TestDetails(t *testing.T) {
	for _, c := range []struct {
		says, name string
		want       profile.Detail
	}{
		{"", "mail", profile.DetailFull}, {"mail=off", "mail", profile.DetailOff}, {"mail=off", "email", profile.DetailOff},
		{"emails=hashed *=off", "urn:oid:0.9.2342.19200300.100.1.3", profile.DetailHashed},
		{"*=off mail=full", "mail", profile.DetailFull},
		{"*=off mail=full", "sn", profile.DetailOff}, {"First%20Name=off", "First Name", profile.DetailOff},
		{"a=b=off", "a=b", profile.DetailOff},
	} {
		by, err := profile.Details(profile.DetailForm.Parse(c.says)).Parse()
		require.NoError(t, err, c.says)
		require.Equal(t, c.want, profile.DetailOf(by, c.name), "%s: %s", c.says, c.name)
	}
	for says, cause := range map[string]string{"mail": "NAME=VALUE", "=off": "NAME=VALUE",
		"mail=none": "full, hashed or off", "a=off a=full": "twice"} {
		_, err := profile.Details(profile.DetailForm.Parse(says)).Parse()
		require.ErrorContains(t, err, cause)
	}
}
