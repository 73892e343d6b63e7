package gate

import (
	"encoding/base64"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/driving"
	"innergate.example/innergate/internal/gate/people"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/store"
)

// lastingName signs somebody in, and gives by what the application knows them.
func (r *rig) lastingName(name string) string {
	o := r.request(driving.Browser{}, func(q *saml.AuthnRequest) { q.NameIDFormat = saml.FormatPersistent })
	a, _ := r.said(r.answer(keep(driving.Browser{}, o), r.asked(o).ID, called(name, "")))
	return a.NameID.Value
}

func (r *rig) take(in people.Import) (*people.Imported, error) {
	in.Preview = true
	seen, err := r.People.ImportSubjects(ctx, tester, "roster", in)
	if err != nil {
		return nil, err
	}
	in.Preview, in.Digest = false, seen.Digest
	return r.People.ImportSubjects(ctx, tester, "roster", in)
}

const knownBefore = "provider,name,value,format\nstaff,ada,1001," + saml.FormatPersistent + "\nstaff,bram,1002," +
	saml.FormatPersistent + "\n"

// An application that knows people by a value keeps it; for others one is
// derived once, and stays.
func TestSubjectsStay(t *testing.T) {
	r := newRig(t)
	derived := r.lastingName("cleo")
	require.Equal(t, derived, r.lastingName("cleo"))
	in := people.Import{CSV: string(knownBefore)}
	seen, err := r.People.ImportSubjects(ctx, tester, "roster", people.Import{CSV: string(knownBefore), Preview: true})
	require.NoError(t, err)
	require.EqualValues(t, 1, r.count(&store.PersonRow{}), "a preview stores nothing")
	require.Equal(t, []int{2, 0, 0, 2}, []int{seen.Subjects, seen.Replaced, seen.Already, seen.People})
	_, err = r.take(in)
	require.NoError(t, err)
	require.Equal(t, "1001", r.lastingName("ada"), "before their first sign-in")
	require.Equal(t, "1002", r.lastingName("bram"))
	require.EqualValues(t, 3, r.count(&store.PersonRow{}), "and as the person that was made")
	again, err := r.take(in)
	require.NoError(t, err)
	require.Equal(t, []int{0, 2}, []int{again.Subjects, again.Already})

	swapped := "provider,name,value\nstaff,ada,1002\nstaff,bram,1001\nstaff,cleo,1003\n"
	_, err = r.take(people.Import{CSV: swapped})
	require.ErrorContains(t, err, `line 2, value: the application knows person 2 as "1001" already`)
	done, err := r.take(people.Import{CSV: swapped, Replace: true})
	require.NoError(t, err)
	require.Equal(t, 3, done.Replaced)
	require.Equal(t, []string{"1002", "1001", "1003"}, []string{r.lastingName("ada"), r.lastingName("bram"),
		r.lastingName("cleo")})
	list, total, err := r.People.Subjects(ctx, "roster", 1, 1)
	require.NoError(t, err)
	require.EqualValues(t, 3, total)
	require.Equal(t, []any{int64(2), "1002", person.SubjectImported}, []any{list[0].Person, list[0].Value,
		list[0].Source})

	// Another entity ID of the application changes no name.
	require.NoError(t, r.Records.Retake(ctx, tester, change.KindApplication, "roster", 1,
		records.Source{Typed: federation.Typed{"entityId": "urn:roster-2"}}))
	o := r.request(driving.Browser{}, func(q *saml.AuthnRequest) {
		q.Issuer, q.NameIDFormat = "urn:roster-2", saml.FormatPersistent
	})
	done2 := r.answer(keep(driving.Browser{}, o), r.asked(o).ID, called("cleo", ""))
	octets, err := base64.StdEncoding.DecodeString(done2.Departure.Form[0].Value)
	require.NoError(t, err)
	require.Contains(t, string(octets), ">1003</saml:NameID>")
}

func TestBadImports(t *testing.T) {
	r := newRig(t)
	r.lastingName("ada")
	for bad, want := range map[string]string{
		"":                                    "0 lines",
		"provider,name\n":                     `the column "value" is missing`,
		"provider,nam,value\n":                `there is no column "nam"`,
		"provider,name,value\n":               "0 lines",
		"provider,name,value\nstaff,b\n":      "line 2, value: it is empty",
		`[{"provider": "staff", "nam": "b"}]`: "array of objects with provider, name, value",
		`[{"provider": "staff", "provider": "x"}]`:                       "array of objects",
		`[{"provider": "staff", "name": "b"}]`:                           "it is empty",
		`[]`:                                                             "0 lines",
		"provider,name,value\nstaf,b,1\n":                                `line 2, provider: there is no provider "staf"`,
		"provider,name,value\nstaff,,1\n":                                "line 2, name: it is empty",
		"provider,name,value\nstaff,b, 1\n":                              "spaces around it",
		"provider,name,value\nstaff,b,\"1\x07\"\n":                       "control characters",
		"provider,name,value\nstaff,b," + strings.Repeat("x", 257):       "longer than 256",
		"provider,name,value\nstaff,b,1\nstaff,b,2\n":                    "line 3, name: it stands in line 2 already",
		"provider,name,value\nstaff,b,1\nstaff,c,1\n":                    "line 3, value: it stands in line 2 already",
		"provider,name,value\n" + strings.Repeat("staff,b,1\n", 10000+1): "more than 10000 rows",
	} {
		_, err := r.take(people.Import{CSV: bad})
		require.ErrorContains(t, err, want, bad[:min(len(bad), 60)])
	}
	_, err := r.take(people.Import{CSV: "\ufeffvalue;provider;name\r\n1;staff;b\r\n2;staff;c\r\n"})
	require.NoError(t, err)
	_, err = r.take(people.Import{CSV: `[{"provider": "staff", "name": "j", "value": "17"}]`})
	require.NoError(t, err)
	_, err = r.take(people.Import{Known: []people.Known{{Provider: "staff", Name: "d", Value: "3"},
		{Provider: "staff", Name: "e", Value: "2"}}})
	require.ErrorContains(t, err, "knows somebody else by it")
	var at *change.FieldError
	require.ErrorAs(t, err, &at)
	require.Equal(t, "known[1].value", at.Field)
	require.EqualValues(t, 4, r.count(&store.SubjectRow{}), "all lines or none")
	require.EqualValues(t, 4, r.count(&store.PersonRow{}))
	require.NoError(t, r.Records.RemoveProvider(ctx, tester, "staff"))
	_, err = r.Records.AddProvider(ctx, tester, records.NewRecord{Name: "new", Draft: true})
	require.NoError(t, err)
	_, err = r.take(people.Import{CSV: "provider,name,value\nnew,b,1\n"})
	require.ErrorContains(t, err, "it is not known which format its names have")
	_, err = r.People.ImportSubjects(ctx, tester, "rooster", people.Import{CSV: string(knownBefore)})
	require.ErrorContains(t, err, `did you mean "roster"?`)
}

// Whenever a value is imported during a sign-in that derives one, the application
// is told the one that stays.
func TestImportDuringASignIn(t *testing.T) {
	r := newRig(t)
	for look, came := 1, true; came; look++ {
		name := fmt.Sprint("ada-", look)
		r.enter(called(name, "")) // known, and told nothing lasting yet
		imported := r.at(look, func() {
			_, _ = r.take(people.Import{CSV: "provider,name,value\nstaff," + name + ",known-" + name + "\n"})
		})
		told := r.lastingName(name)
		came = imported()
		subjects, _, err := r.People.Subjects(ctx, "roster", int64(look)-1, 1)
		require.NoError(t, err)
		require.Equal(t, subjects[0].Value, told, "imported at look %d at the clock", look)
		require.Less(t, look, 100)
	}
}
