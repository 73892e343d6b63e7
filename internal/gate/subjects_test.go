package gate

import (
	"encoding/base64"
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/store"
)

// lastingName signs somebody in, and gives by what the application knows them.
func (r *rig) lastingName(name string) string {
	o := r.request(Browser{}, func(q *saml.AuthnRequest) { q.NameIDFormat = saml.FormatPersistent })
	a, _ := r.said(r.answer(keep(Browser{}, o), r.asked(o).ID, called(name, "")))
	return a.NameID.Value
}

func (r *rig) take(in Import) (*Imported, error) {
	in.Preview = true
	seen, err := r.ImportSubjects(ctx, tester, "roster", in)
	if err != nil {
		return nil, err
	}
	in.Preview, in.Digest = false, seen.Digest
	return r.ImportSubjects(ctx, tester, "roster", in)
}

const knownBefore = "provider,name,value,format\nstaff,ada,1001," + saml.FormatPersistent + "\nstaff,bram,1002," + saml.FormatPersistent + "\n"

// An application that knows people by a value keeps it; for others one is
// derived once, and stays.
func TestSubjectsStay(t *testing.T) {
	r := newRig(t)
	derived := r.lastingName("cleo")
	require.Equal(t, derived, r.lastingName("cleo"))
	in := Import{CSV: knownBefore}
	seen, err := r.ImportSubjects(ctx, tester, "roster", Import{CSV: knownBefore, Preview: true})
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
	_, err = r.take(Import{CSV: swapped})
	require.ErrorContains(t, err, `line 2, value: the application knows person 2 as "1001" already`)
	done, err := r.take(Import{CSV: swapped, Replace: true})
	require.NoError(t, err)
	require.Equal(t, 3, done.Replaced)
	require.Equal(t, []string{"1002", "1001", "1003"}, []string{r.lastingName("ada"), r.lastingName("bram"), r.lastingName("cleo")})
	list, total, err := r.Subjects(ctx, "roster", 1, 1)
	require.NoError(t, err)
	require.EqualValues(t, 3, total)
	require.Equal(t, []any{int64(2), "1002", SubjectImported}, []any{list[0].Person, list[0].Value, list[0].Source})

	// Another entity ID of the application changes no name.
	require.NoError(t, r.Retake(ctx, tester, KindApplication, "roster", 1, Source{Typed: federation.Typed{"entityId": "urn:roster-2"}}))
	o := r.request(Browser{}, func(q *saml.AuthnRequest) { q.Issuer, q.NameIDFormat = "urn:roster-2", saml.FormatPersistent })
	done2 := r.answer(keep(Browser{}, o), r.asked(o).ID, called("cleo", ""))
	octets, err := base64.StdEncoding.DecodeString(done2.Departure.Form[0].Value)
	require.NoError(t, err)
	require.Contains(t, string(octets), ">1003</saml:NameID>")
}

func TestBadImports(t *testing.T) {
	r := newRig(t)
	r.lastingName("ada")
	for bad, want := range map[string]string{
		"":                                         "0 lines",
		"provider,name\n":                          `the column "value" is missing`,
		"provider,nam,value\n":                     `there is no column "nam"`,
		"provider,name,value\n":                    "0 lines",
		"provider,name,value\nstaff,b\n":           "wrong number of fields",
		"provider,name,value\nstaf,b,1\n":          `line 2, provider: there is no provider "staf"`,
		"provider,name,value\nstaff,,1\n":          "line 2, name: it is empty",
		"provider,name,value\nstaff,b, 1\n":        "spaces around it",
		"provider,name,value\nstaff,b,\"1\x07\"\n": "control characters",
		"provider,name,value\nstaff,b," + strings.Repeat("x", 257):           "longer than 256",
		"provider,name,value\nstaff,b,1\nstaff,b,2\n":                        "line 3, name: it stands in line 2 already",
		"provider,name,value\nstaff,b,1\nstaff,c,1\n":                        "line 3, value: it stands in line 2 already",
		"provider,name,value\n" + strings.Repeat("staff,b,1\n", maxImport+1): "more than 10000 lines",
	} {
		_, err := r.take(Import{CSV: bad})
		require.ErrorContains(t, err, want, bad[:min(len(bad), 60)])
	}
	_, err := r.take(Import{CSV: "provider,name,value\nstaff,b,1\nstaff,c,2\n"})
	require.NoError(t, err)
	_, err = r.take(Import{Known: []Known{{Provider: "staff", Name: "d", Value: "3"}, {Provider: "staff", Name: "e", Value: "2"}}})
	require.ErrorContains(t, err, "knows somebody else by it")
	var at *FieldError
	require.ErrorAs(t, err, &at)
	require.Equal(t, "known[1].value", at.Field)
	require.EqualValues(t, 3, r.count(&store.SubjectRow{}), "all lines or none")
	require.EqualValues(t, 3, r.count(&store.PersonRow{}))
	require.NoError(t, r.RemoveProvider(ctx, tester, "staff"))
	_, err = r.AddProvider(ctx, tester, NewProvider{Name: "new", Draft: true})
	require.NoError(t, err)
	_, err = r.take(Import{CSV: "provider,name,value\nnew,b,1\n"})
	require.ErrorContains(t, err, "it is not known which format its names have")
	_, err = r.ImportSubjects(ctx, tester, "rooster", Import{CSV: knownBefore})
	require.ErrorContains(t, err, `did you mean "roster"?`)
}

// A value that is imported while a sign-in derives one wins.
func TestImportDuringASignIn(t *testing.T) {
	r := newRig(t)
	r.enter(called("ada", "")) // known, and told nothing lasting yet
	app, err := r.Application("roster")
	require.NoError(t, err)
	require.NoError(t, r.st.Write(ctx, func(tx *gorm.DB) error { return tx.Create(r.subjectRow(app.ID, 1, "1001", SubjectImported)).Error }))
	for derived, lost := range map[string]bool{"other": true, "1001": false, "": false} {
		w := &writing{turn: &turn{g: r.Gate}, rendered: crossing.Rendered{Subject: derived}, made: &stored{person: crossing.Person{ID: 1}}}
		err := r.st.Write(ctx, func(tx *gorm.DB) error { return w.write(tx, crossing.Settle{App: app.ID}) })
		var guard *lostError
		require.Equal(t, lost, errors.As(err, &guard), derived)
	}
}
