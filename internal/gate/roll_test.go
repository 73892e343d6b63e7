package gate

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/compare"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/gate/comparing"
	"innergate.example/innergate/internal/gate/people"
	"innergate.example/innergate/internal/gate/people/roll"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/store"
)

// heard hears of progress.
type heard struct{ done, total int64 }

func (h *heard) Set(n int64)   { h.done = n }
func (h *heard) Total(n int64) { h.total = n }

// takes takes a list in as it was looked at.
func (r *rig) takes(in roll.Import) (*roll.Imported, error) {
	seen, err := r.Roll.Import(ctx, tester, in, &heard{})
	if err != nil {
		return nil, err
	}
	in.Digest = seen.Digest
	return r.Roll.Import(ctx, tester, in, &heard{})
}

// A list is looked at, taken in as it was looked at, and comes out as it can be taken in
// again; what cannot be used is told by its line, and then nothing is stored.
func TestListsOfPeople(t *testing.T) {
	r := newRig(t)
	for _, x := range []federation.Unit{{Kind: federation.KindGroup, Name: "drivers", Title: "D"},
		{Kind: federation.KindOrganisation, Name: "wrenmoor", Title: "W"}} {
		_, err := r.Records.PutUnit(ctx, tester, x)
		require.NoError(t, err)
	}
	head := "userName;displayName;emails;state;groups;organisations;link:staff\n"
	good := head + "ada;Ada Fenwick;ada@w.example|a@w.example;;drivers;wrenmoor;urn:oasis:names:tc:SAML:2.0:nameid-format:persistent n-1\n" +
		"tom;Tom\xe1s Wick;;disabled;;wrenmoor;\n"
	out, err := r.takes(roll.Import{Document: []byte("\xef\xbb\xbf" + strings.ReplaceAll(good, "\xe1", "á"))})
	require.NoError(t, err)
	require.Equal(t, []any{2, 0, 1, "userName", ";", true}, []any{out.New, out.Same, out.Disabled, out.By, out.Separator,
		out.Stored})
	require.False(t, r.person(2).Disabled.IsZero())
	require.Equal(t, []string{"drivers", "wrenmoor"}, memberNames(r.person(1)))
	r.said(first(r.brings("n-1")))
	require.EqualValues(t, 2, r.count(&store.PersonRow{}), "who was linked by the list comes as themselves")

	again, err := r.Roll.Import(ctx, tester, roll.Import{Document: []byte(good)}, &heard{})
	require.NoError(t, err)
	require.Equal(t, []int{0, 0, 2}, []int{again.New, again.Changed, again.Same}, "Latin-1, and the same")
	for _, form := range []string{roll.CSV, roll.JSON} {
		var b bytes.Buffer
		require.NoError(t, r.Roll.Export(ctx, people.Filter{}, form, &b))
		out, err := r.Roll.Import(ctx, tester, roll.Import{Document: b.Bytes(), Empties: true}, &heard{})
		require.NoError(t, err, form)
		require.Equal(t, []int{2, 2, 0}, []int{out.Rows, out.Same, out.BadRows}, "%s: %s %v", form, b.String(), out.Listed)
	}

	bad := head + "ada;;;;;;\nbea;;;gone;;;\ncy;;;;drivrs;;\nada;;;;;;\n;Nobody;;;;;\nzed;;;;;;urn:oasis:names:tc:SAML:2.0:nameid-format:persistent n-1\n" +
		"dee;;;;;;x\neve;;;;;;x\nfay;Fay;;;;;\n"
	seen, err := r.Roll.Import(ctx, tester, roll.Import{Document: []byte(bad)}, &heard{})
	require.NoError(t, err)
	says := []string{}
	for _, b := range seen.Bad {
		says = append(says, b.Error())
	}
	require.Equal(t, []string{`line 3, state: "gone" is no state; use enabled or disabled`,
		`line 4, groups: there is no group "drivrs"; did you mean "drivers"?`,
		"line 5, userName: this person stands in line 2 already",
		"line 6, userName: people are found by it, and it is empty",
		"line 7, userName: this person stands in line 2 already",
		"line 9, link:staff: this link stands in line 8 already; it is one person's"}, says)
	_, err = r.takes(roll.Import{Document: []byte(bad)})
	require.ErrorContains(t, err, "rows cannot be used, the first: line 3")
	require.EqualValues(t, 2, r.count(&store.PersonRow{}))
	out, err = r.takes(roll.Import{Document: []byte(bad), SkipBad: true})
	require.NoError(t, err)
	require.Equal(t, 2, out.New)
	for cause, in := range map[string]roll.Import{
		"near to emails":                  {Document: []byte("userName,emials\nx,y\n")},
		"nothing tells people apart":      {Document: []byte("displayName\nx\n")},
		`did you mean userName?`:          {Document: []byte("userName\nx\n"), By: "userNam"},
		`did you mean "staff"?`:           {Document: []byte("userName,link:staf\nx,y\n")},
		"tells nobody apart":              {Document: []byte("userName,state\nx,\n"), By: "state"},
		"it is no list in JSON":           {Document: []byte("[{\"values\":")},
		"have changed since the preview":  {Document: []byte("userName\nx\n"), Digest: "00"},
		"it is empty; the first line has": {},
	} {
		_, err := r.Roll.Import(ctx, tester, in, &heard{})
		require.ErrorContains(t, err, cause)
	}
	odd, err := r.Roll.Import(ctx, tester,
		roll.Import{Document: []byte(`[{"values":{"userName":["gil"]},"state":"disabled","state":""},
		{"values":{"userName":["hal"]},"grops":[]}, 7, {"values":{"userName":"ida"}}, {"values":{"userName":["jon"]}}]`)},
		&heard{})
	require.NoError(t, err)
	require.Equal(t, []int{4, 1}, []int{odd.BadRows, odd.New}, odd.Bad)
	for i, cause := range []string{`the member "state" comes twice`, `unknown field "grops"`, "the document is no object",
		"cannot unmarshal"} {
		require.ErrorContains(t, odd.Bad[i], cause)
	}
	in := roll.Import{Document: []byte("userName,title\nfay,Guard\n")}
	seen, err = r.Roll.Import(ctx, tester, in, &heard{})
	require.NoError(t, err)
	_, err = r.People.Change(ctx, tester, 4, people.Edit{Values: map[string][]string{"title": {"Porter"}}})
	require.NoError(t, err)
	in.Digest = seen.Digest
	_, err = r.Roll.Import(ctx, tester, in, &heard{})
	require.ErrorContains(t, err, "have changed since the preview")
	mixed, err := r.Roll.Import(ctx, tester,
		roll.Import{Document: []byte("number,userName\n4,fay\n,FAY\n,kay\n,ada\n,\n")}, &heard{})
	require.NoError(t, err)
	require.Equal(t, []int{1, 2, 2}, []int{mixed.New, mixed.Same, mixed.BadRows}, "%v", mixed.Bad)
	require.EqualError(t, mixed.Bad[0], "line 3, number: this person stands in line 2 already")
	known, err := r.Roll.Import(ctx, tester, roll.Import{Document: []byte("userName\nfay\nstranger\n"), KnownOnly: true},
		&heard{})
	require.NoError(t, err)
	require.Equal(t, []int{0, 1}, []int{known.New, known.BadRows})
	require.NoError(t, r.Roll.Export(ctx, people.Filter{Search: "fay"}, roll.CSV, &bytes.Buffer{}))
	for _, form := range []string{roll.CSV, roll.JSON} {
		err := r.Roll.Export(ctx, people.Filter{Group: "drivrs"}, form, &bytes.Buffer{})
		require.ErrorContains(t, err, `did you mean "drivers"?`)
		var b bytes.Buffer
		require.NoError(t, r.Roll.Export(ctx, people.Filter{Group: "drivers"}, form, &b))
		require.Contains(t, b.String(), "Ada Fenwick")
		require.NotContains(t, b.String(), "Tomás Wick")
		b.Reset()
		require.NoError(t, r.Roll.Export(ctx, people.Filter{UserType: "nobody"}, form, &b))
		require.NotContains(t, b.String(), "Ada Fenwick")
	}
	_, err = r.People.Change(ctx, tester, 4, people.Edit{Values: map[string][]string{"displayName": {"=HYPERLINK(1)"}}})
	require.NoError(t, err)
	var b bytes.Buffer
	require.NoError(t, r.Roll.Export(ctx, people.Filter{Search: "fay"}, roll.CSV, &b))
	require.NotContains(t, b.String(), ",=HYPER", "no cell is taken for a formula")
}

// The accounts of an application are held against whom it would be told of, by what is
// kept, by recorded sign-ins and by the release; what came of it is kept, and the next one
// tells what differs.
func TestAccountsAreCompared(t *testing.T) {
	r := newRig(t)
	_, err := r.takes(roll.Import{Document: []byte("userName,emails,displayName\nada,Ada@w.example,Ada\nbram,bram@w.example,Bram\n" +
		"cleo,cleo@w.example,Cleo\nleft,left@w.example,Left\n")})
	require.NoError(t, err)
	_, err = r.People.Disable(ctx, tester, 4)
	require.NoError(t, err)
	r.said(r.come("dov@w.example")) // known by a recorded sign-in alone
	list := []byte("Benutzer;Login\nA;ada@w.example\nB;bram@w.example\nD;dov@w.example\nL;left@w.example\nX;nobody@w.example\n")
	c, err := r.Comparing.Compare(ctx, tester, comparing.Wish{App: "roster", Document: list}, &heard{})
	require.NoError(t, err)
	require.Equal(t, "Login", c.Column)
	require.Equal(t, "profile:emails", c.Identifier)
	require.Equal(t, map[compare.Verdict]int{compare.Case: 1, compare.Exact: 1, compare.Disabled: 1,
		compare.MissingHere: 2, compare.MissingThere: 2}, c.Counts)
	require.Equal(t, "tell it in small letters", c.Changes[0].Say)
	byName, err := r.Comparing.Compare(ctx, tester, comparing.Wish{App: "roster", Document: list,
		Identifier: "name told"}, &heard{})
	require.NoError(t, err)
	require.Equal(t, 1, byName.Counts[compare.Exact], "whom a recorded sign-in tells of")

	again, err := r.Comparing.Compare(ctx, tester, comparing.Wish{App: "roster",
		Document: append(list, "E;cleo@w.example\n"...),
		Column:   "login", Identifier: "profile:emails"}, &heard{})
	require.NoError(t, err)
	require.Equal(t, []any{c.ID, 1, 0}, []any{again.Before.ID, again.Before.Came, again.Before.Went})
	fits, err := r.Comparing.Latest(ctx)
	require.NoError(t, err)
	require.Equal(t, []int{2, 6}, []int{fits["roster"].Fit, fits["roster"].Of})
	page, err := r.Comparing.Get(ctx, "roster", c.ID, "missing here", 1, 10)
	require.NoError(t, err)
	require.Equal(t, []any{2, 1}, []any{page.Total, len(page.Lines)})
	var b bytes.Buffer
	require.NoError(t, r.Comparing.Export(ctx, "roster", c.ID, "case", &b))
	rows, err := csv.NewReader(&b).ReadAll()
	require.NoError(t, err)
	require.Equal(t, []string{"case", "2", "ada@w.example", "1", "Ada", "Ada@w.example", ""}, rows[1])
	for cause, w := range map[string]comparing.Wish{
		`did you mean "roster"?`: {App: "rooster", Document: list}, `did you mean Login?`: {App: "roster", Document: list,
			Column: "Logn"},
		"did you mean profile:emails?": {App: "roster", Document: list, Identifier: "profile:email"},
		"no accounts below them":       {App: "roster", Document: []byte("a\n")},
		`there is no group "x"`:        {App: "roster", Document: list, Group: "x"}} {
		_, err := r.Comparing.Compare(ctx, tester, w, &heard{})
		require.ErrorContains(t, err, cause)
	}
	_, err = r.Comparing.Get(ctx, "roster", 999, "", 0, 1)
	require.ErrorContains(t, err, `no comparison of roster "999"`)
	_, err = r.Comparing.Get(ctx, "roster", c.ID, "nearly", 0, 1)
	require.ErrorContains(t, err, "is no verdict")
	require.NoError(t, r.People.Remove(ctx, tester, 1))
	page, err = r.Comparing.Get(ctx, "roster", c.ID, "", 0, 100)
	require.NoError(t, err)
	require.NotContains(t, fmt.Sprint(page), "da@w.example", "nothing is left of a removed person")
	for range 12 {
		_, err := r.Comparing.Compare(ctx, tester, comparing.Wish{App: "roster", Document: list}, &heard{})
		require.NoError(t, err)
	}
	all, err := r.Comparing.List(ctx, "roster")
	require.NoError(t, err)
	require.Len(t, all, 10, "the newest ones")
	require.NoError(t, r.Comparing.Remove(ctx, tester, "roster", all[0].ID))
	require.ErrorContains(t, r.Comparing.Remove(ctx, tester, "roster", all[0].ID), "no comparison")
}

// A list says what it says and nothing else: an empty cell changes nothing unless it is to,
// what providers say of groups stays, and whoever is disabled is out at once.
func TestWhatAListChanges(t *testing.T) {
	r := newRig(t)
	for _, n := range []federation.Name{"drivers", "night", "own"} {
		_, err := r.Records.PutUnit(ctx, tester, federation.Unit{Kind: federation.KindGroup, Name: n, Title: string(n)})
		require.NoError(t, err)
	}
	r.staff(federation.Settings{"groupValues": "known", "update": "displayName title"})
	_, b := r.brings("n-1", "groups=drivers", "displayName=Ada", "title=Driver")
	require.NotNil(t, r.Leaving.Session(ctx, b.Session))
	in := func(text string, empties bool) *roll.Imported {
		out, err := r.takes(roll.Import{Document: []byte(text), Empties: empties})
		require.NoError(t, err)
		return out
	}
	out := in("number,title,groups\n1,,night|own\n", false)
	require.Equal(t, 1, out.Changed)
	require.Equal(t, []string{"drivers", "night", "own"}, memberNames(r.person(1)))
	require.Equal(t, "Driver", kept(r.person(1))["title"])
	in("number,title,groups\n1,,own\n", false)
	require.Equal(t, []string{"drivers", "own"}, memberNames(r.person(1)),
		"what the provider says stays, what a list said goes")
	in("number,title,groups\n1,,\n", true)
	require.Equal(t, []string{"drivers"}, memberNames(r.person(1)))
	require.Equal(t, map[string]string{"displayName": "Ada"}, kept(r.person(1)))
	require.Equal(t, 1, in("number,displayName,unproved\n1,Ada,displayName\n", false).Same,
		"the same value keeps its source")
	require.Equal(t, []person.Proof{person.NoProof}, r.person(1).Values[0].Proofs,
		"and is no more proved than the list says")
	require.Equal(t, 1, in("number,displayName\n1,Ada\n", false).Changed)
	require.Equal(t, []person.Proof{person.ByEngineer}, r.person(1).Values[0].Proofs,
		"whoever lists it says that it is theirs")
	require.Equal(t, 1, in("number,displayName\n1,Ada\n", false).Same)
	require.NotEqual(t, person.FromImport, r.person(1).Values[0].From)
	in("number,state\n1,disabled\n", false)
	require.Nil(t, r.Leaving.Session(ctx, b.Session), "their session has ended")
	in("number,state\n1,enabled\n", false)
	r.said(first(r.brings("n-1")))

	// Somebody comes in the middle: what was looked at is not what would be stored.
	list := []byte("userName,displayName\nzoe,Zoe\n")
	seen, err := r.Roll.Import(ctx, tester, roll.Import{Document: list}, &heard{})
	require.NoError(t, err)
	r.knows("userName=ZOE")
	_, err = r.Roll.Import(ctx, tester, roll.Import{Document: list, Digest: seen.Digest}, &heard{})
	require.ErrorContains(t, err, "have changed since the preview")
	require.EqualValues(t, 2, r.count(&store.PersonRow{}))
}

// A group is changed, removed and set back like every record, and who was in it is not
// brought back.
func TestUnitsInTheHistory(t *testing.T) {
	r := newRig(t)
	put := func(revision int, title string) error {
		_, err := r.Records.PutUnit(ctx, tester, federation.Unit{Kind: federation.KindGroup, Name: "drivers", Title: title,
			Revision: revision})
		return err
	}
	require.NoError(t, put(0, "Drivers"))
	require.NoError(t, put(1, "Train drivers"))
	require.ErrorContains(t, put(1, "Both"), "changed meanwhile")
	id := r.knows("displayName=Ada")
	_, err := r.People.Change(ctx, tester, id, people.Edit{Join: []people.Belongs{{Kind: federation.KindGroup,
		Name: "drivers"}}})
	require.NoError(t, err)
	err = r.Records.RemoveUnit(ctx, tester, federation.KindGroup, "drivers")
	by := tester
	by.Confirms = toConfirm(err)
	require.NoError(t, r.Records.RemoveUnit(ctx, by, federation.KindGroup, "drivers"))
	list, _, err := r.Records.History(ctx, records.HistoryFilter{Kind: "group", Limit: 10})
	require.NoError(t, err)
	what := []string{}
	for _, c := range list {
		what = append(what, c.What)
	}
	require.Equal(t, []string{"removed", "changed", "added"}, what)
	rev, err := r.Records.Revision(ctx, list[1].ID)
	require.NoError(t, err)
	require.Equal(t, "Drivers", rev.Differences[0].Before)
	_, _, err = r.Records.Restore(ctx, tester, list[2].ID)
	require.NoError(t, err)
	g, _ := r.Records.Snapshot().Unit(federation.KindGroup, "drivers")
	require.Equal(t, "Drivers", g.Title)
	require.Empty(t, r.person(id).Members)
	_, _, err = r.Records.Restore(ctx, tester, list[1].ID)
	require.NoError(t, err)
	g, _ = r.Records.Snapshot().Unit(federation.KindGroup, "drivers")
	require.Equal(t, []any{"Train drivers", 5}, []any{g.Title, g.Revision}, "it goes on where the history ends")
}

// A list in JSON is read object by object: neither many nor large ones take more than the
// document, and what does not fit is told by where it stands.
func TestListsInJSONAreBounded(t *testing.T) {
	r := newRig(t)
	for _, c := range []struct{ rule, document, refused string }{
		{"many of nothing", "[" + strings.Repeat("{},", 20<<20) + "{}]", "more than 500000 people"},
		{"many that are none", "[" + strings.Repeat("1,", 20<<20) + "1]", "cannot be read, the first"},
		{"many people", "[" + strings.Repeat(`{"number":1},`, 600_000) + `{"number":1}]`, "more than 500000 people"},
		{"a large one", `[{"values":{"x":["` + strings.Repeat("x", 20<<20) + `"]}}]`, "ends within"},
		{"deep", "[" + strings.Repeat(`{"a":`, 5<<20), "ends within"},
		{"nothing between commas", "[{},,{}]", "at octet 4 nothing"},
		{"cut off", `[{"number":1}`, "neither , nor ]"},
		{"followed by more", `[] []`, "something follows"},
		{"an object", `{"number":1}`, "does not begin with ["},
	} {
		document := []byte(c.document)
		var err error
		grown := peak(func() {
			_, err = r.Roll.Import(ctx, tester, roll.Import{Document: document, By: "number", KnownOnly: true}, &heard{})
		})
		require.ErrorContains(t, err, c.refused, c.rule)
		require.Less(t, grown, 450, "%s: MB", c.rule)
	}
}

// peak is how many megabytes more are in use while something is done.
func peak(do func()) int {
	runtime.GC()
	var now runtime.MemStats
	runtime.ReadMemStats(&now)
	before, most := now.HeapInuse, now.HeapInuse
	done := make(chan struct{})
	go func() { defer close(done); do() }()
	for {
		select {
		case <-done:
			return int((most - before) >> 20)
		case <-time.After(5 * time.Millisecond):
			runtime.ReadMemStats(&now)
			most = max(most, now.HeapInuse)
		}
	}
}
