package store

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
)

// What somebody is looked for by: each value as it is matched, and of names each word, with
// and without accents; bounded, whatever is kept of them.
func TestTerms(t *testing.T) {
	value := func(name string, values ...string) person.KeptValue {
		return person.KeptValue{Attribute: profile.Attribute{Name: name, Values: profile.Texts(values...)}}
	}
	for _, c := range []struct {
		rule   string
		values []person.KeptValue
		want   []string
	}{
		{"a name", []person.KeptValue{value("displayName", " Mina  Thorne ")}, []string{":mina", ":thorne",
			"displayName:mina  thorne"}},
		{"an address without its domain", []person.KeptValue{value("mail", "Mina.Thorne@Oakhollow.example")},
			[]string{":mina", ":mina.thorne", ":thorne", "emails:mina.thorne@oakhollow.example"}},
		{"accents", []person.KeptValue{value("cn", "Inés Đorđe")}, []string{":ines", ":inés", ":đorđe",
			"displayName:inés đorđe"}},
		{"one word with accents", []person.KeptValue{value("userName", "Inés")}, []string{":ines", "userName:inés"}},
		{"one word", []person.KeptValue{value("userName", "MINA")}, []string{"userName:mina"}},
		{"a number is one word", []person.KeptValue{value("employeeNumber", "W-10.3 x")},
			[]string{"employeeNumber:w-10.3 x"}},
		{"what two have in common, once", []person.KeptValue{value("name.givenName", "Mina Ann"),
			value("displayName", "Mina T")},
			[]string{":ann", ":mina", "displayName:mina t", "name.givenName:mina ann"}},
		{"letters alone are no words", []person.KeptValue{value("displayName", "J. R. Dunn")},
			[]string{":dunn", "displayName:j. r. dunn"}},
		{"what is too long is not looked for", []person.KeptValue{value("displayName", strings.Repeat("x", 300))}, nil},
		{"nothing", []person.KeptValue{value("displayName", " ")}, nil},
	} {
		var got []string
		for _, row := range terms(7, c.values) {
			require.EqualValues(t, 7, row.Person)
			got = append(got, row.Attribute+":"+row.Term)
		}
		slices.Sort(got)
		require.Equal(t, c.want, got, c.rule)
	}
	many := value("emails")
	for i := range 200 {
		many.Attribute.Values = append(many.Attribute.Values, profile.TextOf(strings.Repeat("a", i%50+1)+".b@x.example"))
	}
	require.LessOrEqual(t, len(terms(1, []person.KeptValue{many})), 2*mostTerms)
	require.Len(t, matches(1, []person.KeptValue{many, value("employeeNumber", "W-1")}), 51,
		"who somebody is has no such bound")
	structure, err := profile.StructureOf([]byte(`{"street":"Fell Line 1"}`))
	require.NoError(t, err)
	require.Empty(t, terms(1, []person.KeptValue{{Attribute: profile.Attribute{Name: "addresses",
		Values: []profile.Value{structure}}}}))

	rows := subjectTerms(3, profile.Subject{Value: "Ada.Fenwick@Wrenmoor.example"})
	require.Equal(t, TermRow{Term: "ada.fenwick@wrenmoor.example", Attribute: TermSubject, Person: 3}, rows[0])
	require.Len(t, rows, 3)
	require.Empty(t, subjectTerms(3, profile.Subject{Value: strings.Repeat("x", 201)}))
}
