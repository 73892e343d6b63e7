package gate

import (
	"fmt"
	"net/url"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/gate/driving"
	"innergate.example/innergate/internal/gate/people"
	"innergate.example/innergate/internal/gate/people/roll"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/traces"
	"innergate.example/innergate/internal/store"
)

// People are found by words that begin something known of them, everybody once, page by
// page; what they are not any more does not find them.
func TestPeopleAreSearched(t *testing.T) {
	r := newRig(t)
	list := "userName,displayName,emails,employeeNumber\n"
	for i := range 25 {
		list += fmt.Sprintf("u%d,Mina Thorne %d,mina%d@w.example,N-%03d\n", i, i, i, i)
	}
	list += "ines,Inés Calder,ines.calder@w.example,X-1\n%,Per_cent 100%,per@w.example,Y'1\n"
	_, err := r.takes(roll.Import{Document: []byte(list)})
	require.NoError(t, err)
	find := func(f people.Filter) (names []string) {
		if f.Limit == 0 {
			f.Limit = 10
		}
		page, err := r.People.List(ctx, f)
		require.NoError(t, err, "%v", f)
		for _, p := range page.People {
			names = append(names, p.Name)
		}
		return names
	}
	for search, want := range map[string][]string{
		"ines": {"Inés Calder"}, "INÉS": {"Inés Calder"}, "cal in": {"Inés Calder"}, "calder@": nil,
		"ines.calder@w": {"Inés Calder"},
		"n-007":         {"Mina Thorne 7"}, "n-07": nil, "%": {"Per_cent 100%"}, "per_": {"Per_cent 100%"},
		"y'1":    {"Per_cent 100%"},
		"nobody": nil, "'; drop table person_rows": nil, "mina 17": {"Mina Thorne 17"}, "thorne 1 mina": nil,
		"\U0010ffff": nil,
	} {
		got := find(people.Filter{Search: search, Limit: 1})
		if search == "thorne 1 mina" {
			require.Len(t, got, 1, search)
			continue
		}
		require.Equal(t, want, got, search)
	}
	for i, search := range []string{"mina", "n-0 thorne"} { // the first word leads, also once it is common
		seen, after := map[string]bool{}, ""
		for range 10 {
			page, err := r.People.List(ctx, people.Filter{Search: search, Limit: 7, After: after})
			require.NoError(t, err)
			for _, p := range page.People {
				require.False(t, seen[p.Name], "everybody once")
				seen[p.Name] = true
			}
			if after = page.Next; after == "" {
				break
			}
			require.EqualValues(t, -1, page.Total)
			_, err = r.People.List(ctx, people.Filter{Search: "calder", Limit: 7, After: after})
			require.ErrorContains(t, err, "give what the page before says")
			for j := range i * 20 {
				r.knows(fmt.Sprintf("userName=thorne.%d.%d", len(seen), j), "displayName=Thorne")
			}
		}
		require.Len(t, seen, 25, search)
	}
	for _, f := range []people.Filter{{Search: "a b c d e f g", Limit: 1}, {Search: "mina", After: "no cursor", Limit: 1},
		{After: "x", Limit: 1},
		{Group: "none", Limit: 1}, {Organisation: "none", Limit: 1}, {Provider: "none", Limit: 1}} {
		_, err := r.People.List(ctx, f)
		require.Error(t, err, "%v", f)
	}
	_, err = r.People.Change(ctx, tester, 26, people.Edit{Values: map[string][]string{"displayName": {"Ines Marsh"},
		"emails": nil}})
	require.NoError(t, err)
	require.Nil(t, find(people.Filter{Search: "calder"}))
	require.Equal(t, []string{"Ines Marsh"}, find(people.Filter{Search: "marsh"}))
	require.NoError(t, r.People.Remove(ctx, tester, 26))
	require.Nil(t, find(people.Filter{Search: "marsh"}))
	var left int64
	require.NoError(t, r.st.Read.Model(&store.TermRow{}).Where("person = ?", 26).Count(&left).Error)
	require.Zero(t, left)
}

// People whom a build of before stored are looked for, too, once.
func TestPeopleOfBeforeAreIndexed(t *testing.T) {
	r := newRig(t)
	r.said(r.come(asMail.Value))
	id := r.knows("displayName=Ada Fenwick")
	require.NoError(t, r.st.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec("DELETE FROM term_rows").Error; err != nil {
			return err
		}
		if err := tx.Exec("DELETE FROM match_rows").Error; err != nil {
			return err
		}
		return tx.Exec("DELETE FROM setting_rows WHERE key = 'people-matches'").Error
	}))
	search := func(text string) int {
		page, err := r.People.List(ctx, people.Filter{Search: text, Limit: 5})
		require.NoError(t, err)
		return len(page.People)
	}
	require.Zero(t, search("fenwick"))
	r.restart()
	require.Equal(t, 1, search("fenwick"))
	require.Equal(t, 1, search("ada@wrenmoor"), "by the provider's name for them")
	found, err := r.st.People(ctx).Having(person.Sought{Attribute: "displayName", Value: "Ada Fenwick"}, "")
	require.NoError(t, err)
	require.Equal(t, id, found[0].ID)
}

// What traces are not to keep is not kept of questions and candidates either.
func TestQuestionsAreVeiled(t *testing.T) {
	r := newRig(t)
	r.staff(federation.Settings{"matchBy": "employeeNumber", "severalMatches": "ask", "askFor": "displayName",
		"traceValues": "displayName=off employeeNumber=off"})
	r.knows("employeeNumber=W-kingfisher", "displayName=First Hidden")
	r.knows("employeeNumber=W-kingfisher", "title=Clerk")
	o, b := r.brings("n-1", "employeeNumber=W-kingfisher")
	o = r.Crossings.Submit(ctx, b, o.Crossing, url.Values{"question": {o.Form.Question}, "account": {"2"}})
	require.Len(t, o.Form.Fields, 1)
	r.said(r.Crossings.Submit(ctx, b, o.Crossing, url.Values{"question": {o.Form.Question},
		"value.displayName": {"Second Hidden"}}))
	heads, _, err := r.Traces.List(ctx, traces.Filter{Limit: 10})
	require.NoError(t, err)
	raw, err := r.st.Traces.Inputs(ctx, heads[0].ID)
	require.NoError(t, err)
	_, steps, err := r.Traces.Get(ctx, heads[0].ID)
	require.NoError(t, err)
	text := fmt.Sprintf("%s %v", raw, steps)
	for _, hidden := range []string{"kingfisher", "First Hidden", "Second Hidden"} {
		require.NotContains(t, text, hidden)
	}
	require.Equal(t, "Second Hidden", kept(r.person(2))["displayName"])
	require.NoError(t, r.People.Remove(ctx, tester, 1))
	heads, _, err = r.Traces.List(ctx, traces.Filter{Limit: 10})
	require.NoError(t, err)
	require.Empty(t, heads, "a trace in which somebody was among those that fit tells of them")
}

// Where groups are made for values, they are made once, whoever comes at the same moment,
// and a value that can be no name makes none.
func TestGroupsAreMadeForValues(t *testing.T) {
	r := newRig(t)
	r.staff(federation.Settings{"groupValues": "create"})
	r.said(first(r.brings("n-1", "groups=Night Shift|night shift|NIGHT_SHIFT|***|CN=Fell Line,OU=Rail")))
	require.Equal(t, []string{"cnfell-lineourail", "night-shift"}, memberNames(r.person(1)))
	g, ok := r.Records.Snapshot().GroupCalled("cn=fell line,ou=rail")
	require.True(t, ok)
	require.Equal(t, "CN=Fell Line,OU=Rail", g.Title)
	r.said(first(r.brings("n-2", "groups=Night Shift")))
	require.Len(t, r.Records.Snapshot().Units(federation.KindGroup), 2)
	r.restart()
	r.said(first(r.brings("n-1", "groups=Night Shift")))
	require.Equal(t, []string{"night-shift"}, memberNames(r.person(1)))
}

// A mail server or not, an application that may ask nothing gets nobody who would have to
// be asked; a refresh and the person's session see what they are later.
func TestQuestionsAndPassiveRequests(t *testing.T) {
	r := newRig(t)
	r.client("planner", nil, federation.Settings{"provider": "staff"})
	_, b := r.code(driving.Browser{}, nil)
	r.staff(federation.Settings{"askFor": "nickName"})
	o := r.authorize(b, "prompt", "none")
	require.Equal(t, finding.QuestionNeeded, o.Finding.Code)
	require.Equal(t, "interaction_required", r.back(o).Get("error"))
	o = r.authorize(b)
	require.Equal(t, crossing.PageForm, o.Page)
}

// Sign-ins that make groups wait for nobody who changes the configuration, and are lost in no
// change that was begun before them.
func TestGroupsAreMadeDuringAChange(t *testing.T) {
	r := newRig(t)
	r.staff(federation.Settings{"groupValues": "create"})
	all := func() {
		var wait sync.WaitGroup
		for n := range 20 {
			o, b := r.request(driving.Browser{}, nil), driving.Browser{}
			b = keep(b, o)
			wait.Go(func() {
				done := r.answer(b, r.asked(o).ID, func(a *saml.Answer) {
					a.NameID = saml.NameID{Format: saml.FormatPersistent, Value: fmt.Sprint("n-", n)}
					a.Attributes = []saml.Attribute{{Name: "groups", Values: saml.Texts("Night Shift", fmt.Sprint("Own ", n))}}
				})
				if done.Departure == nil {
					t.Errorf("%d: %v", n, done.Finding)
				}
			})
		}
		wait.Wait()
	}
	// A change is planned anew where something was saved meanwhile, the third time while others wait.
	tries := 0
	set := federation.Set{Name: "common", Way: profile.Release, Title: "Common"}
	require.NoError(t, r.Records.Change(ctx, tester, func(now *federation.Snapshot) (records.Plan, error) {
		if tries++; tries < 3 {
			first(r.brings(fmt.Sprint("t-", tries), fmt.Sprint("groups=Before ", tries)))
		} else {
			all()
		}
		return records.Puts(set.Next(1, nil, r.clock.get()), "added"), nil
	}))
	require.Equal(t, 3, tries)
	require.Len(t, r.Records.Snapshot().Units(federation.KindGroup), 23)
	_, err := r.Records.Set("common")
	require.NoError(t, err)
	change := make(chan error, 1)
	go func() {
		for i := range 30 {
			_, err := r.Records.PutUnit(ctx, tester, federation.Unit{Kind: federation.KindOrganisation,
				Name: federation.Name(fmt.Sprint("o", i)), Title: "O"})
			if err != nil {
				change <- err
				return
			}
		}
		change <- nil
	}()
	for n := range 30 {
		first(r.brings(fmt.Sprint("m-", n), fmt.Sprint("groups=Later ", n)))
	}
	require.NoError(t, <-change)
	require.Len(t, r.Records.Snapshot().Units(federation.KindGroup), 53)
	r.restart()
	require.Len(t, r.Records.Snapshot().Units(federation.KindGroup), 53)
	require.Len(t, r.Records.Snapshot().Units(federation.KindOrganisation), 30)
}
