package gate

import (
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/listed"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/driving"
	"innergate.example/innergate/internal/gate/mailing"
	"innergate.example/innergate/internal/gate/people"
	"innergate.example/innergate/internal/gate/traces"
	"innergate.example/innergate/internal/standin"
	"innergate.example/innergate/internal/store"
)

// brings has somebody come anew with attributes, NAME=VALUE|VALUE.
func (r *rig) brings(who string, attributes ...string) (driving.Outcome, driving.Browser) {
	o := r.request(driving.Browser{}, nil)
	b := keep(driving.Browser{}, o)
	done := r.answer(b, r.asked(o).ID, func(a *saml.Answer) {
		a.NameID = saml.NameID{Format: saml.FormatPersistent, Value: who}
		for _, w := range attributes {
			name, values, _ := strings.Cut(w, "=")
			a.Attributes = append(a.Attributes, saml.Attribute{Name: name, Values: saml.Texts(strings.Split(values, "|")...)})
		}
	})
	return done, keep(b, done)
}

// knows makes somebody known by values.
func (r *rig) knows(words ...string) int64 {
	in := people.NewPerson{Edit: people.Edit{Values: map[string][]string{}}}
	for _, w := range words {
		name, values, _ := strings.Cut(w, "=")
		in.Values[name] = strings.Split(values, "|")
	}
	p, err := r.People.Add(ctx, tester, in)
	require.NoError(r.t, err)
	return p.ID
}

func (r *rig) person(id int64) people.Person {
	p, err := r.People.Get(ctx, id)
	require.NoError(r.t, err)
	return p
}

// kept are the values of somebody, by name.
func kept(p people.Person) map[string]string {
	out := map[string]string{}
	for _, v := range p.Values {
		for _, x := range v.Attribute.Values {
			out[v.Name] = strings.TrimPrefix(out[v.Name]+"|"+x.String(), "|")
		}
	}
	return out
}

func (r *rig) staff(settings federation.Settings) {
	require.NoError(r.t, r.changeProvider(func(s federation.Settings) {
		for k, v := range settings {
			s[k] = v
		}
	}))
}

// Whoever is known by a value that the provider is trusted for is linked at their first
// sign-in; what the provider says is kept as the record has it; nobody is taken for
// somebody else.
func TestPeopleAreMatchedAtTheirFirstSignIn(t *testing.T) {
	r := newRig(t)
	r.staff(federation.Settings{"matchBy": "emails", "vouchesFor": "wrenmoor.example", "update": "displayName emails"})
	ada := r.knows("emails=ada@wrenmoor.example", "displayName=A. Fenwick", "employeeNumber=W-1")
	r.said(first(r.brings("n-1", "mail=Ada@wrenmoor.example", "displayName=Ada Fenwick")))
	p := r.person(ada)
	require.Len(t, p.Links, 1)
	require.Equal(t, map[string]string{"emails": "Ada@wrenmoor.example", "displayName": "Ada Fenwick",
		"employeeNumber": "W-1"}, kept(p))
	r.said(first(r.brings("n-1", "displayName=Ada F.")))
	require.Equal(t, "Ada@wrenmoor.example", kept(r.person(ada))["emails"], "by the link, whatever comes or not")
	require.EqualValues(t, 1, r.count(&store.PersonRow{}))

	require.Equal(t, finding.MatchLinked, first(r.brings("n-2", "mail=ada@wrenmoor.example")).Finding.Code,
		"an address that came to be somebody else's")
	r.said(first(r.brings("n-3", "mail=ada@elsewhere.example")))
	require.EqualValues(t, 2, r.count(&store.PersonRow{}), "of a domain that nobody stands for: somebody new")

	r.knows("emails=two@wrenmoor.example", "displayName=One")
	r.knows("emails=two@wrenmoor.example", "displayName=Two")
	require.Equal(t, finding.MatchSeveral, first(r.brings("n-4", "mail=two@wrenmoor.example")).Finding.Code)
	r.staff(federation.Settings{"severalMatches": "ask"})
	o, b := r.brings("n-4", "mail=two@wrenmoor.example")
	require.Equal(t, crossing.PageForm, o.Page)
	require.Equal(t, []crossing.Choice{{Name: "3", Title: "One · two@wrenmoor.example"},
		{Name: "4", Title: "Two · two@wrenmoor.example"}}, o.Form.Options)
	r.restart()
	o = r.Crossings.Submit(ctx, b, o.Crossing, url.Values{"account": {"1"}, "question": {o.Form.Question}})
	require.Equal(t, crossing.PageForm, o.Page, "somebody who was not asked about")
	o = r.Crossings.Submit(ctx, b, o.Crossing, url.Values{"account": {"4"}, "question": {"another"}})
	require.Equal(t, crossing.PageForm, o.Page, "another page")
	r.said(r.Crossings.Submit(ctx, b, o.Crossing, url.Values{"account": {"4"}, "question": {o.Form.Question}}))
	require.Len(t, r.person(4).Links, 1)
	require.Empty(t, r.person(3).Links)

	r.staff(federation.Settings{"firstSignIn": "known"})
	require.Equal(t, finding.PersonUnknown, first(r.brings("n-9", "mail=nobody@wrenmoor.example")).Finding.Code)
	leaver := r.knows("emails=gone@wrenmoor.example")
	_, err := r.People.Disable(ctx, tester, leaver)
	require.NoError(t, err)
	require.Equal(t, finding.PersonDisabled, first(r.brings("n-8", "mail=gone@wrenmoor.example")).Finding.Code,
		"no new account for a leaver")
	require.Empty(t, r.person(leaver).Links)
}

func first(o driving.Outcome, _ driving.Browser) driving.Outcome { return o }

// Two first sign-ins of one person by two names at the same moment do not make two
// accounts, and a person who changes in the middle is matched anew; a thousand people at
// once are a thousand.
func TestMatchingUnderRaces(t *testing.T) {
	r := newRig(t)
	r.staff(federation.Settings{"matchBy": "emails", "vouchesFor": "wrenmoor.example", "update": "emails"})
	var wait sync.WaitGroup
	outcomes := make([]driving.Outcome, 2)
	for i := range outcomes {
		o := r.request(driving.Browser{}, nil)
		b := keep(driving.Browser{}, o)
		to := r.asked(o).ID
		wait.Go(func() {
			outcomes[i] = r.answer(b, to, func(a *saml.Answer) {
				a.NameID = saml.NameID{Format: saml.FormatPersistent, Value: fmt.Sprint("same-", i)}
				a.Attributes = append(a.Attributes, saml.Attribute{Name: "mail", Values: saml.Texts("one@wrenmoor.example")})
			})
		})
	}
	wait.Wait()
	require.EqualValues(t, 1, r.count(&store.PersonRow{}))
	refused := 0
	for _, o := range outcomes {
		if o.Finding != nil {
			require.Equal(t, finding.MatchLinked, o.Finding.Code)
			refused++
		}
	}
	require.Equal(t, 1, refused)

	const many = 1000
	for i := range many {
		o := r.request(driving.Browser{}, nil)
		b, to := keep(driving.Browser{}, o), r.asked(o).ID
		wait.Go(func() {
			r.answer(b, to, func(a *saml.Answer) {
				a.NameID = saml.NameID{Format: saml.FormatPersistent, Value: fmt.Sprint("p-", i)}
				a.Attributes = append(a.Attributes, saml.Attribute{Name: "mail",
					Values: saml.Texts(fmt.Sprintf("p%d@wrenmoor.example", i))})
			})
		})
	}
	wait.Wait()
	require.EqualValues(t, many+1, r.count(&store.PersonRow{}))
	page, err := r.People.List(ctx, people.Filter{Search: "p77@wren", Limit: 10})
	require.NoError(t, err)
	require.Len(t, page.People, 1)
}

// mailbox has the rig's gate mail to a stand-in, and gives the newest letter.
func (r *rig) mailbox() (fault func(string), newest func() standin.Letter) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(r.t, err)
	box := &standin.Mailbox{}
	box.Start(ln)
	srv := httptest.NewServer(box.Handler())
	r.t.Cleanup(func() { srv.Close(); _ = box.Close() })
	r.mail = mailing.Server{Address: ln.Addr().String(), From: "Gate <gate@wrenmoor.example>", TLS: mailing.TLSNone,
		Timeout: 500 * time.Millisecond}
	r.box = srv.URL
	r.restart()
	return func(name string) {
			res, err := http.PostForm(srv.URL+"/fault", url.Values{"fault": {name}})
			require.NoError(r.t, err)
			require.NoError(r.t, res.Body.Close())
			require.Equal(r.t, http.StatusOK, res.StatusCode)
		}, func() (last standin.Letter) {
			if all := r.letters(); len(all) > 0 {
				last = all[len(all)-1]
			}
			return last
		}
}

// letters are all that the rig's mailbox holds.
func (r *rig) letters() (all []standin.Letter) {
	res, err := http.Get(r.box + "/letters")
	require.NoError(r.t, err)
	defer res.Body.Close()
	require.NoError(r.t, json.NewDecoder(res.Body).Decode(&all))
	return all
}

var sixDigits = regexp.MustCompile(`\b\d{6}\b`)

// What is missing is asked for, an address is proved by a mailed code, once, in time and
// within few tries; a mail server that does not answer loses nothing; and whoever proved
// an address is who has it.
func TestMissingValuesAreAskedForAndProved(t *testing.T) {
	r := newRig(t)
	fault, newest := r.mailbox()
	r.staff(federation.Settings{"matchBy": "emails", "askFor": "displayName emails=verified", "update": "emails"})
	ada := r.knows("emails=ada@wrenmoor.example", "displayName=Ada")
	_, err := r.Records.PutUnit(ctx, tester, federation.Unit{Kind: federation.KindOrganisation, Name: "wrenmoor",
		Title:   "W",
		Domains: []string{"wrenmoor.example"}})
	require.NoError(t, err)
	submit := func(b driving.Browser, o driving.Outcome, form ...string) driving.Outcome {
		v := url.Values{"question": {o.Form.Question}}
		for i := 0; i < len(form); i += 2 {
			v.Set(form[i], form[i+1])
		}
		return r.Crossings.Submit(ctx, b, o.Crossing, v)
	}
	code := func() string { return sixDigits.FindString(newest().Text) }

	o, b := r.brings("n-1", "mail=ada@wrenmoor.example")
	require.Equal(t, crossing.PageForm, o.Page)
	require.Len(t, o.Form.Fields, 1, "what tells who they are, first")
	require.Equal(t, "ada@wrenmoor.example", o.Form.Fields[0].Fill, "what nobody stands for is shown")
	require.EqualValues(t, 1, r.count(&store.PersonRow{}), "nobody is made before")
	for value, say := range map[string]string{"no address": "not an e-mail address", strings.Repeat("x", 300) +
		"@x.example": "too long"} {
		o = submit(b, o, "value.emails", value)
		require.Contains(t, o.Form.Wrong, say)
	}
	fault("silent")
	o = submit(b, o, "value.emails", "ada@wrenmoor.example")
	require.Contains(t, o.Form.Wrong, "could not be sent")
	fault("refuse")
	o = submit(b, o, "do", "again")
	require.Contains(t, o.Form.Wrong, "could not be sent")
	fault("")
	r.restart()
	o = submit(b, o, "do", "again")
	require.Empty(t, o.Form.Wrong)
	require.Equal(t, "ada@wrenmoor.example", newest().To)
	require.Contains(t, newest().Subject, "Your code for")
	old := code()
	for range 5 {
		o = submit(b, o, "code", "000000")
	}
	require.Contains(t, o.Form.Wrong, "too often")
	require.Contains(t, submit(b, o, "code", old).Form.Wrong, "too old, or was tried too often")
	o = r.Crossings.Continue(ctx, b, o.Crossing)
	o = submit(b, o, "do", "again")
	require.NotEqual(t, old, code())
	require.Contains(t, submit(b, o, "code", old).Form.Wrong, "not the code")
	o = r.Crossings.Continue(ctx, b, o.Crossing)
	right := submit(b, o, "code", code()[:3]+" "+code()[3:])
	require.Contains(t, right.Next, "/crossing/")
	r.said(r.Crossings.Continue(ctx, b, o.Crossing))
	p := r.person(ada)
	require.Len(t, p.Links, 1, "they are who has the address")
	require.Equal(t, []string{"wrenmoor"}, memberNames(p), "they land where the proved address belongs")
	require.EqualValues(t, 1, r.count(&store.PersonRow{}))
	for _, v := range p.Values {
		if v.Name == "emails" {
			require.Equal(t, []person.Proof{person.ByMail}, v.Proofs)
			require.Equal(t, person.FromPerson, v.From)
		}
	}
	require.Equal(t, crossing.PageFinished, submit(b, o, "code", code()).Page, "used twice")
	r.said(first(r.brings("n-1", "mail=ada@wrenmoor.example")))

	// Of guesses at the same moment one is made, the others are none.
	o, b = r.brings("n-5", "displayName=P")
	o = submit(b, o, "value.emails", "p@wrenmoor.example")
	var wait sync.WaitGroup
	guesses := make([]driving.Outcome, 40)
	for i := range guesses {
		wait.Go(func() { guesses[i] = submit(b, o, "code", fmt.Sprintf("%06d", i)) })
	}
	wait.Wait()
	judged := 0
	for _, g := range guesses {
		if g.Form != nil && g.Form.Wrong != "" && !strings.Contains(g.Form.Wrong, "too old") {
			judged++
		}
	}
	require.LessOrEqual(t, judged, 5)
	require.Less(t, judged, len(guesses))

	o, b = r.brings("n-2", "mail=late@wrenmoor.example", "displayName=L")
	o = submit(b, o, "value.emails", "late@wrenmoor.example")
	r.clock.set(r.clock.get().Add(person.CodeLife + time.Second))
	require.NotEqual(t, crossing.PageFinished, submit(b, o, "code", code()).Page)
	require.EqualValues(t, 1, r.count(&store.PersonRow{}))

	o, b = r.brings("n-3", "displayName=M")
	for i := range 3 {
		o = submit(b, o, "value.emails", fmt.Sprintf("m%d@wrenmoor.example", i))
		require.NotNil(t, o.Form, "%d", i)
		o = submit(b, o, "do", "other")
	}
	require.Equal(t, finding.CodeMails, submit(b, o, "value.emails", "m9@wrenmoor.example").Finding.Code)
	o, b = r.brings("n-4", "displayName=G")
	o = submit(b, o, "value.emails", "g@wrenmoor.example")
	o = submit(b, o, "do", "again")
	o = submit(b, o, "do", "again")
	for range 4 {
		o = submit(b, o, "code", "000000")
	}
	require.Equal(t, finding.CodeGuessed, submit(b, o, "code", "000000").Finding.Code)

	heads, _, err := r.Traces.List(ctx, traces.Filter{Limit: 100})
	require.NoError(t, err)
	all := ""
	for _, h := range heads {
		_, steps, err := r.Traces.Get(ctx, h.ID)
		require.NoError(t, err)
		octets, err := json.Marshal(steps)
		require.NoError(t, err)
		raw, err := r.st.Traces.Inputs(ctx, h.ID)
		require.NoError(t, err)
		all += fmt.Sprintf("%s %s", octets, raw)
	}
	require.Contains(t, all, finding.MailUnreached)
	require.NotContains(t, all, code(), "no code is kept")
}

// Recorded sign-ins in which people were matched and asked come to the same when they are
// run again, and to something else where nobody is asked.
func TestMatchingIsReevaluated(t *testing.T) {
	r := newRig(t)
	r.staff(federation.Settings{"matchBy": "emails", "vouchesFor": "wrenmoor.example", "askFor": "displayName"})
	r.knows("emails=ada@wrenmoor.example")
	o, b := r.brings("n-1", "mail=ada@wrenmoor.example")
	r.said(r.Crossings.Submit(ctx, b, o.Crossing, url.Values{"question": {o.Form.Question},
		"value.displayName": {"Ada"}}))
	snap := r.Records.Snapshot()
	p, _ := snap.Provider("staff")
	other := p.Copy().(*federation.Provider)
	other.AskFor = listed.Equals.Parse("")
	for _, c := range []struct {
		after   *federation.Snapshot
		differs int
	}{{snap.With(p.Copy()), 0}, {snap.With(other), 1}} {
		got, err := r.Traces.Reevaluate(ctx, snap, c.after, traces.Which{}, func(int64) {})
		require.NoError(t, err)
		require.Equal(t, c.differs, got.Differs)
		require.Zero(t, got.Untold)
	}
}

// Groups follow the provider, and what hangs on groups and organisations is told before
// they are removed.
func TestGroupsAndOrganisations(t *testing.T) {
	r := newRig(t)
	put := func(x federation.Unit) error {
		if now, ok := r.Records.Snapshot().Unit(x.Kind, x.Name); ok {
			x.Revision = now.Revision
		}
		_, err := r.Records.PutUnit(ctx, tester, x)
		return err
	}
	group := func(name, inside string, values ...string) federation.Unit {
		return federation.Unit{Kind: federation.KindGroup, Name: federation.Name(name), Title: name,
			Inside: federation.Name(inside), Values: values}
	}
	for _, g := range []federation.Unit{group("rail", ""), group("operations", "rail"),
		group("drivers", "operations", "CN=Drivers"), group("guests", "")} {
		require.NoError(t, put(g))
	}
	require.NoError(t, put(federation.Unit{Kind: federation.KindOrganisation, Name: "wrenmoor", Title: "W",
		Providers: []federation.Name{"staff"},
		Groups:    []federation.Name{"guests"}, UserType: "staff"}))
	for cause, x := range map[string]federation.Unit{
		"rail in drivers in operations in rail": group("rail", "drivers"),
		"inside itself":                         group("guests", "guests"),
		`did you mean drivers?`:                 group("new", "drivrs"),
		"means the group drivers already":       group("other", "", "cn=drivers"),
		"is the organisation wrenmoor's already": {Kind: federation.KindOrganisation, Name: "b", Title: "B",
			Providers: []federation.Name{"staff"}},
		`there is no provider "stafff"; did you mean`: {Kind: federation.KindOrganisation, Name: "b", Title: "B",
			Providers: []federation.Name{"stafff"}},
		"is no domain": {Kind: federation.KindOrganisation, Name: "b", Title: "B",
			Domains: []string{"@wrenmoor.example"}},
		"the title is empty": {Kind: federation.KindGroup, Name: "x"},
	} {
		require.ErrorContains(t, put(x), cause)
	}
	_, err := r.Records.PutUnit(ctx, tester, group("rail", ""))
	require.Error(t, err, "made twice")
	stale := group("rail", "")
	stale.Revision = 7
	_, err = r.Records.PutUnit(ctx, tester, stale)
	require.ErrorContains(t, err, "changed meanwhile")

	r.staff(federation.Settings{"groupValues": "known"})
	r.said(first(r.brings("n-1", "groups=CN=Drivers|strangers")))
	require.Equal(t, []string{"drivers", "guests", "wrenmoor"}, memberNames(r.person(1)))
	require.Equal(t, "staff", r.person(1).UserType)
	page, err := r.People.List(ctx, people.Filter{Group: "rail", UserType: "staff", Organisation: "wrenmoor", Limit: 5})
	require.NoError(t, err)
	require.Len(t, page.People, 1, "in a group that lies in it")
	_, err = r.People.Change(ctx, tester, 1, people.Edit{Leave: []people.Belongs{{Kind: federation.KindGroup,
		Name: "drivers"}}})
	require.ErrorContains(t, err, "because staff says so")
	_, err = r.People.Change(ctx, tester, 1, people.Edit{Leave: []people.Belongs{{Kind: federation.KindGroup,
		Name: "guests"}}})
	require.NoError(t, err)
	r.clock.set(r.clock.get().Add(crossing.SessionLife + time.Minute))
	r.said(first(r.brings("n-1")))
	require.Equal(t, []string{"wrenmoor"}, memberNames(r.person(1)), "taken away there, and here; nobody lands twice")

	r.said(first(r.brings("n-1", "groups=CN=Drivers")))
	err = r.Records.RemoveUnit(ctx, tester, federation.KindGroup, "operations")
	require.True(t, finding.Is(err, finding.UnitUsed))
	require.ErrorContains(t, r.Records.RemoveUnit(ctx, tester, federation.KindGroup, "operatins"),
		`did you mean "operations"?`)
	by := tester
	by.Confirms = toConfirm(err)
	require.NoError(t, r.Records.RemoveUnit(ctx, by, federation.KindGroup, "operations"))
	drivers, _ := r.Records.Snapshot().Unit(federation.KindGroup, "drivers")
	require.Empty(t, drivers.Inside)
	require.ErrorContains(t, r.Records.RemoveProvider(ctx, tester, "staff"), "organisation")
	r.restart()
	_, there := r.Records.Snapshot().Unit(federation.KindGroup, "operations")
	require.False(t, there)
	owner, _ := r.Records.Snapshot().OwnerOf("staff")
	require.Equal(t, federation.Name("wrenmoor"), owner.Name)
}

func memberNames(p people.Person) (out []string) {
	for _, m := range p.Members {
		out = append(out, string(m.Name))
	}
	return out
}

// One account is made of two, as it was looked at; a link that is taken away is another
// person.
func TestAccountsAreJoinedAndParted(t *testing.T) {
	r := newRig(t)
	require.NoError(t, r.changeOf(change.KindApplication, "roster",
		func(s federation.Settings) { s["nameIdFormat"] = "persistent" }))
	r.staff(federation.Settings{"update": "displayName title"})
	one, _ := r.said(first(r.brings("n-1", "displayName=Ada")))
	two, _ := r.said(first(r.brings("n-2", "displayName=A. F.", "title=Driver")))
	require.NotEqual(t, one.NameID.Value, two.NameID.Value)
	seen, err := r.People.Join(ctx, tester, people.Joining{Into: 1, Other: 2, Preview: true})
	require.NoError(t, err)
	require.Equal(t, []any{1, []string{"title"}, []string{"displayName"}, []string{"roster"}, 1},
		[]any{seen.Links, seen.Values, seen.Differ, seen.Lost, seen.Sessions})
	r.said(first(r.brings("n-2", "displayName=Another")))
	for cause, j := range map[string]people.Joining{
		"changed since the preview": {Into: 1, Other: 2, Digest: seen.Digest}, "same person": {Into: 1, Other: 1,
			Preview: true},
		`no person "9"`: {Into: 1, Other: 9, Preview: true}, "give the digest": {Into: 1, Other: 2}} {
		_, err := r.People.Join(ctx, tester, j)
		require.ErrorContains(t, err, cause)
	}
	seen, err = r.People.Join(ctx, tester, people.Joining{Into: 1, Other: 2, Preview: true})
	require.NoError(t, err)
	_, err = r.People.Join(ctx, tester, people.Joining{Into: 1, Other: 2, Digest: seen.Digest})
	require.NoError(t, err)
	again, _ := r.said(first(r.brings("n-2")))
	require.Equal(t, one.NameID.Value, again.NameID.Value, "the one's name from now on")
	_, err = r.People.Get(ctx, 2)
	require.ErrorContains(t, err, `no person "2"`)
	page, err := r.People.List(ctx, people.Filter{Search: "n-2", Limit: 5})
	require.NoError(t, err)
	require.EqualValues(t, 1, page.People[0].ID)

	p := r.person(1)
	require.Len(t, p.Links, 2)
	key := ""
	for _, l := range p.Links {
		if l.Subject.Value == "n-2" {
			key = l.Key
		}
	}
	_, err = r.People.Part(ctx, tester, 1, "abcd")
	require.ErrorContains(t, err, "there is no link")
	made, err := r.People.Part(ctx, tester, 1, key)
	require.NoError(t, err)
	parted, _ := r.said(first(r.brings("n-2")))
	require.NotEqual(t, one.NameID.Value, parted.NameID.Value)
	require.EqualValues(t, 3, made.ID)
	_, err = r.People.Part(ctx, tester, made.ID, key)
	require.ErrorContains(t, err, "only link")
}

// A refresh, user-info and every later request see what the person is by then: groups, what
// is kept of them, and that they are let in no more.
func TestTokensFollowThePerson(t *testing.T) {
	r := newRig(t)
	app := r.client("planner", nil, federation.Settings{"provider": "staff", "claimsIn": "both"})
	_, err := r.Records.PutUnit(ctx, tester, federation.Unit{Kind: federation.KindGroup, Name: "night", Title: "Night"})
	require.NoError(t, err)
	code, _ := r.code(driving.Browser{}, nil, "scope", "openid offline_access groups profile")
	out, err := r.Redeeming.Token(ctx, caller(redemption(code), "planner", app.Shown))
	require.NoError(t, err)
	require.NotContains(t, r.claims(out.IDToken, oidc.IDToken), "groups")
	_, err = r.People.Change(ctx, tester, 1, people.Edit{Values: map[string][]string{"nickName": {"Ad"}},
		Join: []people.Belongs{{Kind: federation.KindGroup, Name: "night"}}})
	require.NoError(t, err)
	refresh := func(token string) (redeemed string, claims map[string]any, err error) {
		out, err := r.Redeeming.Token(ctx, caller(url.Values{"grant_type": {"refresh_token"}, "refresh_token": {token}},
			"planner", app.Shown))
		if err != nil {
			return "", nil, err
		}
		return out.RefreshToken, r.claims(out.IDToken, oidc.IDToken), nil
	}
	next, claims, err := refresh(out.RefreshToken)
	require.NoError(t, err)
	require.Equal(t, []any{[]any{"night"}, "Ad"}, []any{claims["groups"], claims["nickname"]})
	_, err = r.People.Change(ctx, tester, 1, people.Edit{Values: map[string][]string{"nickName": nil},
		Leave: []people.Belongs{{Kind: federation.KindGroup, Name: "night"}}})
	require.NoError(t, err)
	next, claims, err = refresh(next)
	require.NoError(t, err)
	require.NotContains(t, claims, "groups")
	require.NotContains(t, claims, "nickname")
	_, err = r.People.Disable(ctx, tester, 1)
	require.NoError(t, err)
	_, _, err = refresh(next)
	require.Error(t, err)
}

// A page that asks can be reloaded, left and found again: it mails nothing anew, says what it
// said, and outlives the code. Nobody has many codes mailed, by whatever spelling of an
// address, and a restart forgets nothing; what strangers asked for keeps nobody from theirs.
func TestCodesAreMailedWithinBounds(t *testing.T) {
	r := newRig(t)
	_, newest := r.mailbox()
	r.staff(federation.Settings{"matchBy": "emails", "askFor": "emails=verified", "update": "emails"})
	letters := func() int64 { return r.count(&store.MailedRow{}) / 4 }
	from := func(network, who string) (driving.Outcome, driving.Browser) {
		o, b := r.brings(who)
		b.Address = network
		return o, b
	}
	submit := func(b driving.Browser, o driving.Outcome, form ...string) driving.Outcome {
		v := url.Values{"question": {o.Form.Question}, form[0]: {form[1]}}
		return r.Crossings.Submit(ctx, b, o.Crossing, v)
	}
	o, b := from("192.0.2.1", "n-1")
	require.Equal(t, "email", o.Form.Fields[0].Type)
	require.True(t, o.Asks())
	require.Equal(t, "Fill in what is empty.", submit(b, o, "value.emails", " ").Form.Wrong)
	require.Equal(t, "Fill in what is empty.", r.Crossings.Continue(ctx, b, o.Crossing).Form.Wrong)
	o = submit(b, o, "value.emails", "victim@wrenmoor.example")
	code := sixDigits.FindString(newest().Text)
	require.Equal(t, "code", submit(b, o, "value.emails", "victim@wrenmoor.example").Form.Fields[0].Name, "sent twice")
	for range 3 {
		o = r.Crossings.Continue(ctx, b, o.Crossing)
		require.Equal(t, "Type the code", o.Form.Title)
	}
	require.EqualValues(t, 1, letters())
	r.clock.set(r.clock.get().Add(person.CodeLife + time.Minute))
	require.Contains(t, submit(b, o, "code", code).Form.Wrong, "too old")
	require.Contains(t, r.Crossings.Continue(ctx, b, o.Crossing).Form.Wrong, "too old")
	o = submit(b, o, "do", "again")
	require.Contains(t, submit(b, o, "code", sixDigits.FindString(newest().Text)).Next, "/crossing/")

	r.clock.set(r.clock.get().Add(time.Hour))
	require.NoError(t, r.st.Sweep(ctx, r.clock.get()))
	require.Zero(t, letters())
	ask := func(network, who, address string) string {
		o, b := from(network, who)
		return submit(b, o, "value.emails", address).Form.Wrong
	}
	for n := range 20 {
		said := ask("192.0.2.1", "n-2", fmt.Sprintf("Victim+%d@wrenmoor.example", n))
		require.Equal(t, n >= 4, strings.Contains(said, "Too many codes"), "%d: %s", n, said)
		if n == 10 {
			r.restart()
		}
	}
	require.EqualValues(t, 4, letters())
	for n := range 10 { // other people at other networks go on
		_ = ask(fmt.Sprint("198.51.100.", n%2), fmt.Sprint("m-", n), "victim@wrenmoor.example")
	}
	require.EqualValues(t, 8, letters())
	require.Empty(t, ask("203.0.113.9", "n-9", "victim@wrenmoor.example"), "the victim's own")
	for n := range 8 {
		said := ask(fmt.Sprint("203.0.113.", n), "n-3", fmt.Sprintf("a%d@wrenmoor.example", n))
		require.Equal(t, n >= 6, said != "", "one person, %d", n)
	}
	for n := range 40 {
		said := ask("203.0.113.200", fmt.Sprint("k-", n), fmt.Sprintf("b%d@wrenmoor.example", n))
		require.Equal(t, n >= 30, said != "", "one network, %d", n)
	}
	heads, _, err := r.Traces.List(ctx, traces.Filter{Limit: 100})
	require.NoError(t, err)
	told := 0
	for _, h := range heads { // all began at the same time
		_, steps, err := r.Traces.Get(ctx, h.ID)
		require.NoError(t, err)
		octets, err := json.Marshal(steps)
		require.NoError(t, err)
		told += min(strings.Count(string(octets), string(finding.MailLimit)), 1)
	}
	require.GreaterOrEqual(t, told, 10, "the traces tell why")
}
