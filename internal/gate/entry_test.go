package gate

import (
	"fmt"
	"math/rand/v2"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/policy"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/driving"
	"innergate.example/innergate/internal/gate/people"
	"innergate.example/innergate/internal/gate/people/roll"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/redeeming"
	"innergate.example/innergate/internal/gate/traces"
)

// rule makes an access rule, whatever that does to people.
func (r *rig) rule(name string, s federation.Settings) { r.t.Helper(); r.laid("rule", name, s) }

// laid makes an object of its settings, or changes it, whatever that does to people.
func (r *rig) laid(kind, name string, s federation.Settings) {
	r.t.Helper()
	by, revision := tester, 0
	if o, err := r.Records.Object(kind, name); err == nil {
		revision = o.At()
	}
	if s["title"] == nil {
		s["title"] = name
	}
	got, err := r.Records.Lay(ctx, by, kind, name, revision, s)
	if got.Consequence.Finding != nil {
		by.Confirms = got.Consequence.Digest
		_, err = r.Records.Lay(ctx, by, kind, name, revision, s)
	}
	require.NoError(r.t, err, "%v", s)
}

func words(all ...string) []any {
	out := []any{}
	for _, w := range all {
		out = append(out, w)
	}
	return out
}

// decides is what the list of everyone, what one person enters, and simulation say of somebody; all say the same.
func (r *rig) decides(app string, number int64, where string, role ...string) (federation.Outcome, traces.Ground) {
	t, snap := r.t, r.Snapshot()
	t.Helper()
	a, err := r.Records.Application(app)
	require.NoError(t, err)
	one, err := r.Traces.Simulate(ctx, snap, traces.Simulation{App: a, Person: number, Role: strings.Join(role, "")})
	require.NoError(t, err)
	if strings.Join(role, "") != "" {
		return one.Decision, traces.GroundOf(one.Foreseen) // lists ask for no role
	}
	all, err := r.Traces.Everyone(ctx, snap, a, noProgress{})
	require.NoError(t, err)
	page, total := all.Page(traces.Whose{Search: fmt.Sprint(number), After: number - 1, Limit: 1})
	require.NotZero(t, total)
	require.Equal(t, one.Decision, page[0].Decision, "%s: the list and simulation", where)
	require.Equal(t, traces.GroundOf(one.Foreseen), page[0].By, where)
	if one.Decision != federation.Deny {
		require.Equal(t, one.Entry.RoleNames(), page[0].Roles, "%s: roles", where)
	}
	theirs, err := r.Traces.EntriesOf(ctx, snap, number)
	require.NoError(t, err)
	for _, e := range theirs {
		if e.App.Name == a.Name {
			require.Equal(t, page[0].Decision, e.Entrant.Decision, "%s: what they enter", where)
		}
	}
	if by := traces.GroundOf(one.Foreseen); by.By != "" {
		for _, j := range one.Judged {
			if j.About {
				require.Equal(t, by.By, j.By, "%s: the first that is about them", where)
				break
			}
		}
	}
	some, err := r.Traces.Some(ctx, snap, a, []int64{number}, noProgress{})
	require.NoError(t, err)
	require.Equal(t, page[0], some.People[0], where)
	return one.Decision, traces.GroundOf(one.Foreseen)
}

// What is shown is what is done: the list of everyone who can enter, simulation, a sign-in and a refresh decide alike,
// over random rules, admissions and people.
func TestEntryIsShownAsItIsDecided(t *testing.T) {
	r := newRig(t)
	rnd := rand.New(rand.NewPCG(28, 11))
	some := func(of ...string) []any {
		out := []any{}
		for _, s := range of {
			if rnd.IntN(3) == 0 {
				out = append(out, s)
			}
		}
		return out
	}
	secret := r.client("planner", nil, federation.Settings{"scopes": "offline_access", "roleParameter": "role",
		"releaseMapping": map[string]any{"rest": true, "rules": []any{map[string]any{"to": map[string]any{"name": "roles"},
			"from": []any{map[string]any{"role": true}}}}}}).Shown
	require.NoError(t, r.Records.ChangeContexts(ctx, tester, 1, federation.Ranking{{saml.ContextPassword}, {"urn:card"}}))
	for _, g := range [][2]string{{"operations", ""}, {"drivers", "operations"}, {"contractors", ""}} {
		_, err := r.Records.PutUnit(ctx, tester, federation.Unit{Kind: federation.KindGroup, Name: federation.Name(g[0]),
			Title: g[0], Inside: federation.Name(g[1])})
		require.NoError(t, err)
	}
	_, err := r.Records.Configure(ctx, tester, change.KindProvider, "staff", 0,
		federation.Settings{"trustedFor": "department"})
	require.NoError(t, err)
	const many, rounds = 6, 16
	numbers := make([]int64, many)
	for i := range numbers {
		p, err := r.People.Add(ctx, tester, people.NewPerson{Provider: "staff",
			Subject: profile.Subject{Format: string(saml.FormatPersistent), Value: fmt.Sprint("n-", i)},
			Edit:    people.Edit{Values: map[string][]string{"displayName": {fmt.Sprint("P ", i)}}}})
		require.NoError(t, err)
		numbers[i] = p.ID
	}
	tokens, seen := map[int64]given{}, map[string]int{}
	for round := range rounds {
		for i := range 4 {
			s := federation.Settings{"order": fmt.Sprint(rnd.IntN(4)), "then": []string{"allow", "deny",
				"step-up"}[rnd.IntN(3)], "groups": some("operations", "drivers", "contractors"),
				"networks": some("192.0.2.0/24"), "people": []any{}, "userTypes": some("inspector"), "when": "", "context": "",
				"application": []string{"planner", ""}[rnd.IntN(2)]}
			if s["then"] == "step-up" {
				s["context"] = "urn:card"
			}
			if rnd.IntN(3) == 0 {
				s["when"] = `attributes.department.exists(d, d == "depot")`
			}
			if rnd.IntN(4) == 0 {
				s["people"] = words(fmt.Sprint(numbers[rnd.IntN(many)]))
			}
			r.rule(fmt.Sprint("r", i), s)
		}
		for i := range 3 {
			s := federation.Settings{"application": "planner", "role": fmt.Sprint("as-", i), "order": fmt.Sprint(rnd.IntN(3)),
				"values": words("all", fmt.Sprint("v-", i)),
				"groups": some("operations", "drivers", "contractors"), "people": []any{}, "userTypes": []any{}, "when": ""}
			switch rnd.IntN(4) {
			case 0:
				s["people"] = words(fmt.Sprint(numbers[rnd.IntN(many)]))
			case 1:
				s["when"] = `attributes.department.exists(d, d == "depot")`
			}
			r.laid("role", fmt.Sprint("role-", i), s)
		}
		admitted := federation.Admissions{}
		for _, g := range some("operations", "drivers", "contractors") {
			admitted = admitted.With(federation.Name(g.(string)), &federation.Admission{Out: rnd.IntN(2) == 0})
		}
		(&trial{rig: r}).saves(change.KindApplication, "planner", federation.Settings{"admissions": admitted.Line(),
			"everyone":  []string{"yes", "no"}[rnd.IntN(2)],
			"sentRoles": []string{"", "first", "choose"}[rnd.IntN(3)], "defaultRole": []string{"", "role-0"}[rnd.IntN(2)],
			"roleNeeded": rnd.IntN(4) == 0})
		for i, number := range numbers {
			where := fmt.Sprintf("round %d, n-%d", round, i)
			r.changes(number, rnd)
			r.clock.set(r.clock.get().Add(time.Second))
			was := tokens[number].role
			refused := r.refreshes(tokens, number, secret)
			if refused != nil { // by what is so now, as it was judged when they entered
				decision, by := r.decides("planner", number, where, was)
				require.Equal(t, decision != federation.Allow, *refused, "%s: a refresh, and %s by %v", where, decision, by)
				seen[fmt.Sprint("refresh ", *refused)]++
			}
			b := driving.Browser{Address: []string{"192.0.2.9", "198.51.100.1"}[rnd.IntN(2)]}
			who := comer{who: i, number: number, context: []string{saml.ContextPassword, "urn:card"}[rnd.IntN(2)],
				department: []string{"depot", "office"}[rnd.IntN(2)]}
			if rnd.IntN(3) == 0 {
				who.role = fmt.Sprint("as-", rnd.IntN(4))
			}
			got, chose := r.comes(b, who, secret, tokens)
			decision, by := r.decides("planner", number, where, who.role)
			require.Equal(t, got, decision, "%s: the sign-in as %q, and what is said by %v", where, who.role, by)
			seen[string(got)+" by "+string(by.By)]++
			if got == federation.Allow {
				r.tells(tokens[number].access, number, chose, where)
				seen["chose "+fmt.Sprint(chose != who.role)]++
				seen["asked "+fmt.Sprint(who.role != "")]++
			}
		}
	}
	for _, each := range []string{"allow by rule", "deny by rule", "step-up by rule", "allow by admission",
		"deny by admission", "allow by default", "deny by default",
		"refresh true", "refresh false", "chose true", "asked true", "asked false"} {
		require.NotZero(t, seen[each], "%s never came: %v", each, seen)
	}
}

// changes has somebody belong elsewhere, be marked otherwise, or be admitted.
func (r *rig) changes(number int64, rnd *rand.Rand) {
	r.t.Helper()
	by := tester
	var took change.Consequence
	by.Took = &took
	again := func(do func(by change.By) error) {
		if err := do(by); took.Finding != nil {
			confirmed := by
			confirmed.Confirms = took.Digest
			require.NoError(r.t, do(confirmed))
		} else if err != nil {
			require.ErrorContains(r.t, err, "not ")
		}
		took = change.Consequence{}
	}
	group := people.Belongs{Kind: federation.KindGroup, Name: []string{"drivers", "contractors",
		"operations"}[rnd.IntN(3)]}
	edit := people.Edit{Join: []people.Belongs{group}}
	switch rnd.IntN(3) {
	case 0:
		edit = people.Edit{Leave: []people.Belongs{group}}
	case 1:
		edit = people.Edit{Values: map[string][]string{"userType": {[]string{"inspector", "clerk"}[rnd.IntN(2)]}}}
	}
	again(func(by change.By) error { _, err := r.People.Change(ctx, by, number, edit); return err })
	switch rnd.IntN(6) {
	case 0:
		again(func(by change.By) error {
			_, err := r.People.Admit(ctx, by, "planner", people.Entry{People: []int64{number},
				Until: r.clock.get().Add(time.Hour)})
			return err
		})
	case 1:
		again(func(by change.By) error {
			return r.People.Unadmit(ctx, by, "planner", people.Entry{People: []int64{number}})
		})
	}
}

// tells sees that an application is told the roles that simulation says, or the one that was asked for or chosen.
func (r *rig) tells(token string, number int64, role, where string) {
	r.t.Helper()
	told, err := r.Redeeming.UserInfo(ctx, redeeming.Caller{}, token)
	require.NoError(r.t, err)
	a, err := r.Records.Application("planner")
	require.NoError(r.t, err)
	one, err := r.Traces.Simulate(ctx, r.Snapshot(), traces.Simulation{App: a, Person: number, Role: role})
	require.NoError(r.t, err)
	is := []string{}
	switch v := told["roles"].(type) {
	case string:
		is = append(is, v)
	case []any:
		for _, x := range v {
			is = append(is, fmt.Sprint(x))
		}
	}
	require.Equal(r.t, append([]string{}, one.Entry.RoleValues()...), is, "%s as %q", where, role)
}

// comer is somebody who signs in.
type comer struct {
	who                       int
	number                    int64
	context, department, role string
}

// comes has somebody sign in, and tells what was decided, and with which role that was asked for or chosen; who enters
// has a refresh token.
func (r *rig) comes(b driving.Browser, c comer, secret string, tokens map[int64]given) (federation.Outcome, string) {
	r.t.Helper()
	delete(tokens, c.number)
	asks := []string{"role", c.role}
	if c.who%2 == 0 && c.role != "" {
		asks = []string{"claims", fmt.Sprintf(`{"id_token": {"role": {"value": %q}}}`, c.role)}
	}
	o := r.authorize(b, append([]string{"scope", "openid offline_access", "prompt", "consent"}, asks...)...)
	b = keep(b, o)
	o = r.answer(b, r.asked(o).ID, func(a *saml.Answer) {
		a.NameID, a.Context = saml.NameID{Format: saml.FormatPersistent, Value: fmt.Sprint("n-", c.who)}, c.context
		a.Attributes = []saml.Attribute{{Name: "department", Values: saml.Texts(c.department)},
			{Name: "userType", Values: saml.Texts("inspector")}}
	})
	b = keep(b, o)
	if o.Page == crossing.PageForm && len(o.Form.Options) > 0 {
		c.role = o.Form.Options[c.who%len(o.Form.Options)].Name
		o = r.Crossings.Submit(ctx, b, o.Crossing, map[string][]string{"question": {o.Form.Question}, "role": {c.role}})
		b = keep(b, o)
	}
	if o.Page == crossing.PageAgree {
		o = r.Crossings.Submit(ctx, b, o.Crossing, map[string][]string{"agree": {"yes"}, "digest": {o.Agree.Digest}})
	}
	if o.Departure != nil && o.Departure.Message == "AuthnRequest" {
		return federation.StepUp, c.role
	}
	back := r.back(o)
	if code := back.Get("code"); code != "" {
		got, err := r.Redeeming.Token(ctx, caller(redemption(code), "planner", secret))
		require.NoError(r.t, err)
		tokens[c.number] = given{got.AccessToken, got.RefreshToken, c.role}
		return federation.Allow, c.role
	}
	require.Equal(r.t, "access_denied", back.Get("error"))
	return federation.Deny, c.role
}

// refreshes tells whether the refresh of who entered before is refused; nil for who did not.
func (r *rig) refreshes(tokens map[int64]given, number int64, secret string) *bool {
	token := tokens[number]
	if token.refresh == "" {
		return nil
	}
	active := func(token string) bool {
		got, err := r.Redeeming.Introspect(ctx, caller(url.Values{"token": {token}}, "planner", secret))
		require.NoError(r.t, err)
		return got["active"] == true
	}
	_, told := r.Redeeming.UserInfo(ctx, redeeming.Caller{}, token.access)
	access, refresh := active(token.access), active(token.refresh)
	_, err := r.Redeeming.Token(ctx, caller(refreshing(token.refresh), "planner", secret))
	no := err != nil
	require.Equal(r.t, [3]bool{no, !no, !no}, [3]bool{told != nil, access, refresh},
		"user-info, and introspection of both tokens, say what a refresh does")
	return &no
}

// given are the tokens of a sign-in.
type given struct{ access, refresh, role string }

// People are admitted by name, until a moment, and it acts at once; what takes entry away has to be confirmed; it goes
// with the person and stays with the application that it was given for.
func TestAdmissionsOfPeople(t *testing.T) {
	r := newRig(t)
	secret := r.client("planner", nil, federation.Settings{"scopes": "offline_access", "everyone": "no"}).Shown
	ada, bram := r.knows("employeeNumber=W-1", "displayName=Ada Fenwick"), r.knows("employeeNumber=W-2",
		"displayName=Bram Oduya")
	enters := func(id int64) bool {
		got, _ := r.decides("planner", id, "")
		return got == federation.Allow
	}
	require.False(t, enters(ada))
	for _, c := range []struct {
		e          people.Entry
		field, why string
	}{
		{people.Entry{}, "people", "nobody is named"},
		{people.Entry{People: []int64{99}}, "people[0]", "no person"},
		{people.Entry{Groups: []string{"driver"}}, "groups[0]", "no group"},
		{people.Entry{People: []int64{ada}, Until: r.clock.get()}, "until", "has passed"},
		{people.Entry{People: []int64{ada}, Out: true}, "out", "only groups"},
		{people.Entry{Everyone: true, Until: r.clock.get().Add(time.Hour)}, "until", "has no end"},
	} {
		err := r.admits("planner", c.e)
		var fe *change.FieldError
		require.ErrorAs(t, err, &fe, "%+v", c.e)
		require.Equal(t, c.field, fe.Field)
		require.ErrorContains(t, err, c.why)
	}
	require.ErrorContains(t, r.admits("plannr", people.Entry{People: []int64{ada}}), `did you mean "planner"`)
	require.NoError(t, r.admits("planner", people.Entry{People: []int64{ada}, Until: r.clock.get().Add(time.Hour)}))
	require.True(t, enters(ada))
	require.False(t, enters(bram))
	tokens := map[int64]given{}
	_, err := r.People.Link(ctx, tester, ada, "staff", profile.Subject{Format: string(saml.FormatPersistent),
		Value: "n-1"})
	require.NoError(t, err)
	came, _ := r.comes(driving.Browser{}, comer{who: 1, number: ada, context: saml.ContextPassword, department: "depot"},
		secret, tokens)
	require.Equal(t, federation.Allow, came)
	theirs, err := r.People.AdmissionsOf(ctx, ada)
	require.NoError(t, err)
	require.Equal(t, [2]string{"planner", "test"}, [2]string{string(theirs[0].App), theirs[0].Author})

	// Its end acts by itself: at the next sign-in, and where tokens are refreshed.
	r.clock.set(r.clock.get().Add(time.Hour))
	require.False(t, enters(ada))
	require.True(t, *r.refreshes(tokens, ada, secret))
	came, _ = r.comes(driving.Browser{}, comer{who: 1, number: ada, context: saml.ContextPassword, department: "depot"},
		secret, tokens)
	require.Equal(t, federation.Deny, came)

	// Taking entry away is confirmed by what was looked at.
	require.NoError(t, r.admits("planner", people.Entry{People: []int64{ada, bram}}))
	err = r.People.Unadmit(ctx, tester, "planner", people.Entry{People: []int64{bram}})
	require.True(t, finding.Is(err, finding.EntryLost))
	require.Contains(t, finding.Of(err).Evidence, finding.Fact("For example",
		"Bram Oduya at planner: No rule lets the person in"))
	by := tester
	by.Confirms = toConfirm(err)
	require.ErrorContains(t, r.People.Unadmit(ctx, by, "planner", people.Entry{People: []int64{ada}}), "refused",
		"that of somebody else")
	require.NoError(t, r.People.Unadmit(ctx, by, "planner", people.Entry{People: []int64{bram}}))
	require.ErrorContains(t, r.People.Unadmit(ctx, by, "planner", people.Entry{People: []int64{bram}}), "not admitted")
	require.False(t, enters(bram))

	// An application of the same name does not inherit them; of two accounts that are joined the longer one stays.
	_, err = r.People.Change(ctx, tester, ada, people.Edit{Values: map[string][]string{"employeeNumber": {"W-1"}}})
	require.NoError(t, err)
	require.NoError(t, r.admits("planner", people.Entry{People: []int64{bram}, Until: r.clock.get().Add(time.Hour)}))
	j, err := r.People.Join(ctx, tester, people.Joining{Into: bram, Other: ada, Preview: true})
	require.NoError(t, err)
	_, err = r.People.Join(ctx, tester, people.Joining{Into: bram, Other: ada, Digest: j.Digest})
	require.NoError(t, err)
	theirs, err = r.People.AdmissionsOf(ctx, bram)
	require.NoError(t, err)
	require.Len(t, theirs, 1)
	require.True(t, theirs[0].Until.IsZero(), "for good")
	for _, id := range []string{"log-1", "log-2"} {
		r.client("log", federation.Typed{"clientId": id}, federation.Settings{"everyone": "no"})
		got, _ := r.decides("log", bram, "")
		require.Equal(t, federation.Deny, got)
		require.NoError(t, r.admits("log", people.Entry{People: []int64{bram}}))
		require.NoError(t, r.Records.RemoveApplication(ctx, tester, "log"))
	}

	// A rule that names somebody holds their account.
	r.rule("bram", federation.Settings{"then": "allow", "people": words(fmt.Sprint(bram))})
	require.ErrorContains(t, r.People.Remove(ctx, tester, bram), "bram")
	_, err = r.Records.Lay(ctx, tester, "rule", "nobody", 0, federation.Settings{"title": "x", "then": "allow",
		"people": words("99")})
	require.ErrorContains(t, err, "no person 99")
}

// An application that is tied to a provider is entered by whom that knows, or finds by values.
func TestWhoIsNotLinkedToTheProvider(t *testing.T) {
	r := newRig(t)
	r.client("planner", nil, nil)
	other, err := r.Records.AddProvider(ctx, tester, records.NewRecord{Name: "club", Protocol: "oauth2",
		Source: records.Source{Typed: federation.Typed{
			"authorize": "https://club.example/a", "token": "https://club.example/t", "userinfo": "https://club.example/u",
			"clientId": "gate", "clientSecret": "s"}},
		Settings: federation.Settings{"identifier": "id"}})
	require.NoError(t, err)
	p, err := r.People.Add(ctx, tester, people.NewPerson{Provider: string(other.Name),
		Subject: profile.Subject{Value: "n"}})
	require.NoError(t, err)
	a, err := r.Records.Application("planner")
	require.NoError(t, err)
	got, err := r.Traces.Simulate(ctx, r.Snapshot(), traces.Simulation{App: a, Person: p.ID})
	require.NoError(t, err)
	require.Equal(t, finding.AccessUnlinked, got.Finding.Code)
	decision, _ := r.decides("planner", p.ID, "")
	require.Equal(t, federation.Deny, decision)
	r.staff(federation.Settings{"matchBy": "employeeNumber"})
	decision, _ = r.decides("planner", p.ID, "")
	require.Equal(t, federation.Allow, decision, "they may be found by a value")
}

// A list admits many: bad rows are told by their lines, nothing is stored before it was looked at, and only that.
func TestAListOfAdmissions(t *testing.T) {
	r := newRig(t)
	r.client("planner", nil, federation.Settings{"everyone": "no"})
	var list strings.Builder
	list.WriteString("employeeNumber,until\n")
	for i := range 1200 {
		r.knows(fmt.Sprint("employeeNumber=W-", i))
		fmt.Fprintf(&list, "W-%d,2099-01-31\n", i)
	}
	bad := list.String() + "W-7,\nX-1,\nW-1300,soon\n,\nW-5,2001-01-01\n"
	seen, err := r.Roll.Admit(ctx, tester, "planner", roll.Import{Document: []byte(bad)}, &heard{})
	require.NoError(t, err)
	require.Equal(t, [3]int{1200, 5, 0}, [3]int{seen.New, seen.BadRows, seen.Same})
	causes := []string{}
	for _, b := range seen.Bad {
		causes = append(causes, fmt.Sprintf("%d %s: %s", b.Line, b.Column, b.Cause))
	}
	require.Equal(t, []string{"1202 employeeNumber: this person stands in line 9 already",
		"1203 employeeNumber: nobody on record has it",
		"1204 employeeNumber: nobody on record has it", "1205 employeeNumber: people are found by it, and it is empty",
		"1206 employeeNumber: this person stands in line 7 already"}, causes)
	_, err = r.Roll.Admit(ctx, tester, "planner", roll.Import{Document: []byte(bad), Digest: seen.Digest}, &heard{})
	require.ErrorContains(t, err, "5 rows cannot be used")
	seen, err = r.Roll.Admit(ctx, tester, "planner", roll.Import{Document: []byte(list.String())}, &heard{})
	require.NoError(t, err)
	require.NoError(t, r.admits("planner", people.Entry{People: []int64{1}}))
	_, err = r.Roll.Admit(ctx, tester, "planner", roll.Import{Document: []byte(list.String()), Digest: seen.Digest},
		&heard{})
	require.ErrorContains(t, err, "have changed since")
	seen, err = r.Roll.Admit(ctx, tester, "planner", roll.Import{Document: []byte(list.String())}, &heard{})
	require.NoError(t, err)
	require.Equal(t, [2]int{1199, 1}, [2]int{seen.New, seen.Changed})
	got, err := r.Roll.Admit(ctx, tester, "planner", roll.Import{Document: []byte(list.String()), Digest: seen.Digest},
		&heard{})
	require.NoError(t, err)
	require.True(t, got.Stored)
	a, err := r.Records.Application("planner")
	require.NoError(t, err)
	all, err := r.Traces.Everyone(ctx, r.Snapshot(), a, noProgress{})
	require.NoError(t, err)
	require.Equal(t, traces.Counted{Decision: federation.Allow, By: traces.Ground{By: policy.ByAdmission}, Count: 1200},
		all.Counts[0])
	said, err := r.Roll.Simulate(ctx, "planner", roll.Import{Document: []byte("number\n3\n1\n")}, &heard{})
	require.NoError(t, err)
	require.Len(t, said.People, 2)
}

// What new records begin with is a setting of the gate, for those who do not say it.
func TestWhatNewRecordsBeginWith(t *testing.T) {
	r := newRig(t)
	begins := func(name string, s federation.Settings) (string, federation.Phase) {
		a := r.client(name, federation.Typed{"clientId": name}, s)
		return a.Everyone, a.Phase
	}
	everyone, phase := begins("before", nil)
	require.Equal(t, [2]string{"", "live"}, [2]string{everyone, string(phase)},
		"a sign-in works at once, without new options")
	_, err := r.Records.Lay(ctx, tester, "defaults", "new-records", 1, federation.Settings{"everyone": "no",
		"applicationPhase": "paused", "providerPhase": "paused"})
	require.NoError(t, err)
	everyone, phase = begins("after", nil)
	require.Equal(t, [2]string{"no", "paused"}, [2]string{everyone, string(phase)})
	everyone, phase = begins("said", federation.Settings{"everyone": "yes", "phase": "live"})
	require.Equal(t, [2]string{"yes", "live"}, [2]string{everyone, string(phase)}, "what is said counts")
	_, err = r.Records.Lay(ctx, tester, "defaults", "others", 0, federation.Settings{"everyone": "no"})
	require.ErrorContains(t, err, "one alone")
	_, err = r.Records.Lay(ctx, tester, "defaults", "new-records", 2, federation.Settings{"providerPhase": "retired"})
	require.ErrorContains(t, err, "retired")
	old, err := r.Records.Application("before")
	require.NoError(t, err)
	require.Empty(t, old.Everyone, "those that are there stay as they are")
	require.ErrorContains(t, r.Records.Remove(ctx, tester, "defaults", "new-records"), "always there")
	r.restart()
	everyone, _ = begins("later", nil)
	require.Equal(t, "no", everyone)
}

// A link opens without a sign-in while nothing is said of who may enter it; else it asks for one.
func TestALinkAsksOnceSomethingIsSaid(t *testing.T) {
	r := newRig(t)
	_, err := r.Records.AddApplication(ctx, tester, records.NewRecord{Name: "archive", Protocol: "link",
		Source: records.Source{Typed: federation.Typed{"link": "https://archive.example/"}}})
	require.NoError(t, err)
	_, err = r.Records.PutUnit(ctx, tester, federation.Unit{Kind: federation.KindGroup, Name: "drivers", Title: "g"})
	require.NoError(t, err)
	asks := func() bool {
		o := r.Crossings.Open(ctx, driving.Browser{}, driving.Start{App: "archive"})
		if o.Departure == nil && o.Next == "https://archive.example/" {
			return false
		}
		require.Equal(t, "AuthnRequest", o.Departure.Message)
		return true
	}
	sets := func(name string, on bool, value string) {
		if !on {
			value = ""
		}
		(&trial{rig: r}).saves(change.KindApplication, "archive", federation.Settings{name: value})
	}
	require.False(t, asks())
	require.Equal(t, finding.TargetForeign, r.Crossings.Open(ctx, driving.Browser{},
		driving.Start{App: "archive", Target: "https://evil.example/"}).Finding.Code)
	for name, says := range map[string]func(on bool){
		"a provider": func(on bool) { sets("provider", on, "staff") },
		"everyone":   func(on bool) { sets("everyone", on, "no") },
		"admissions": func(on bool) { sets("admissions", on, "drivers=yes") },
		"a rule": func(on bool) {
			if r.rule("gate", federation.Settings{"then": "deny", "networks": words("203.0.113.0/24")}); !on {
				require.NoError(t, r.Records.Remove(ctx, tester, "rule", "gate"))
			}
		},
	} {
		says(true)
		require.True(t, asks(), name)
		says(false)
		require.False(t, asks(), name)
	}
}

// Two who admit at once do not undo each other; rules go with their application, and come back with it; a change that
// was made from another one is told.
func TestTwoAtOnceAndBack(t *testing.T) {
	r := newRig(t)
	r.client("planner", nil, federation.Settings{"everyone": "no"})
	var wait sync.WaitGroup
	for i := range 8 {
		name := fmt.Sprint("g-", i)
		_, err := r.Records.PutUnit(ctx, tester, federation.Unit{Kind: federation.KindGroup, Name: federation.Name(name),
			Title: name})
		require.NoError(t, err)
		wait.Go(func() {
			require.NoError(t, r.admits("planner", people.Entry{Groups: []string{name}}))
		})
	}
	wait.Wait()
	a, err := r.Records.Application("planner")
	require.NoError(t, err)
	require.Len(t, a.Admissions, 8)
	require.ErrorContains(t, r.Records.RemoveUnit(ctx, tester, federation.KindGroup, "g-3"),
		"application/planner (admissions)")
	r.rule("own", federation.Settings{"application": "planner", "then": "deny", "groups": words("g-1")})
	_, err = r.Records.Lay(ctx, tester, "rule", "own", 7, federation.Settings{"then": "allow"})
	require.ErrorContains(t, err, "changed meanwhile")
	require.NoError(t, r.Records.RemoveApplication(ctx, tester, "planner"))
	_, there := r.Snapshot().Rule("own")
	require.False(t, there)
	changes, _, err := r.Records.History(ctx, records.HistoryFilter{Limit: 1})
	require.NoError(t, err)
	_, err = r.Records.Undo(ctx, tester, changes[0].ID)
	require.NoError(t, err)
	_, there = r.Snapshot().Rule("own")
	require.True(t, there)
	a, err = r.Records.Application("planner")
	require.NoError(t, err)
	require.Len(t, a.Admissions, 8)
	require.Equal(t, federation.Name("g-1"), r.Snapshot().Book("planner").Rules[0].Groups[0])
	_, in := r.Snapshot().Surround([]federation.Name{"g-2"})
	_, said, ok := r.Snapshot().Book("planner").Nearest(r.Snapshot(), []federation.Name{"g-2"}, in, r.clock.get())
	require.True(t, ok && !said.Out)
}

// A provider that goes live tells at which applications people gain a choice, and how many.
func TestANewConnectionTellsWhoGainsAChoice(t *testing.T) {
	r := newRig(t)
	r.knows("employeeNumber=W-1")
	r.knows("employeeNumber=W-2")
	_, err := r.Records.AddApplication(ctx, tester, records.NewRecord{Name: "board", Protocol: "link",
		Source: records.Source{Typed: federation.Typed{"link": "https://b.example/"}}})
	require.NoError(t, err)
	var took change.Consequence
	by := tester
	by.Took = &took
	club := records.NewRecord{Name: "club", Protocol: "oauth2", Phase: federation.Paused,
		Source: records.Source{Typed: federation.Typed{
			"authorize": "https://club.example/a", "token": "https://club.example/t", "userinfo": "https://club.example/u",
			"clientId": "gate", "clientSecret": "s"}},
		Settings: federation.Settings{"identifier": "id"}}
	_, err = r.Records.AddProvider(ctx, by, club)
	require.NoError(t, err)
	require.Empty(t, took.Offered, "one that is paused is offered to nobody")
	want := []policy.Offer{{Provider: "club", Apps: []federation.Name{"board", "roster"}}}
	if a, _ := r.Records.Application("roster"); a.Provider != "" {
		want[0].Apps = want[0].Apps[:1]
	}
	_, err = r.Records.Configure(ctx, by, change.KindProvider, "club", 0, federation.Settings{"phase": "live"})
	require.NoError(t, err)
	require.Equal(t, want, took.Offered)
	require.Equal(t, 2, took.Choosing)
	took = change.Consequence{}
	_, err = r.Records.Configure(ctx, by, change.KindProvider, "club", 0, federation.Settings{"title": "Club"})
	require.NoError(t, err)
	require.Empty(t, took.Offered, "nothing new")
}

// admits admits people or groups to an application by name.
func (r *rig) admits(app string, e people.Entry) error {
	_, err := r.People.Admit(ctx, tester, app, e)
	return err
}
