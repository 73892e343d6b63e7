package samlside_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/reason"
	"innergate.example/innergate/internal/core/saml"
)

// rules puts access rules into the world.
func (w *world) rules(all ...federation.Settings) {
	for _, s := range all {
		s["title"] = "the rule " + s["name"].(string)
		name := federation.Name(s["name"].(string))
		delete(s, "name")
		o, err := federation.AccessRules.Plain(name).Apply(s)
		require.NoError(w.t, err)
		require.NoError(w.t, federation.AccessRules.Check(w.snap, o.(*federation.Plain)))
		w.snap = w.snap.Having([]federation.Object{o}, nil)
	}
}

func TestRulesAtASignIn(t *testing.T) {
	drivers := &federation.Unit{Kind: federation.KindGroup, Name: "drivers", Title: "Drivers"}
	member := []person.Membership{{Kind: federation.KindGroup, Name: "drivers", Source: person.FromHand}}
	enter := func(w *world) crossing.Turn {
		w.snap = w.snap.Having([]federation.Object{drivers}, nil)
		return w.answer(w.request(nil).State, nil)
	}
	key := person.LinkKey("", profile.Subject{Format: string(saml.FormatEmail), Value: "ada@wrenmoor.example"})

	w := newWorld(t)
	w.snap = w.snap.Having([]federation.Object{drivers}, nil)
	w.rules(federation.Settings{"name": "keep-out", "then": "deny", "groups": []any{"drivers"},
		"say": "Ask the depot lead."})
	require.Equal(t, crossing.Entered, enter(w).Result, "whoever is not meant enters")
	w.people[key] = person.Person{ID: 7, Key: key, Members: member}
	got := enter(w)
	require.Equal(t, finding.AccessDenied, got.Finding.Code)
	require.Equal(t, "Ask the depot lead.", crossing.ForPerson(got.Finding).Text)
	require.Contains(t, w.sent(got), saml.StatusRequestDenied, "the application hears that it was denied")

	// Nobody enters by default; the drivers do by a rule, which the trace names.
	w = newWorld(t)
	app := *w.app
	app.Everyone = federation.EveryoneNo
	w.app, w.snap = &app, w.snap.With(&app).Having([]federation.Object{drivers}, nil)
	require.Equal(t, finding.AccessNobody, enter(w).Finding.Code)
	w.rules(federation.Settings{"name": "drivers", "application": "roster", "then": "allow", "groups": []any{"drivers"}})
	w.people[key] = person.Person{ID: 7, Key: key, Members: member}
	got = enter(w)
	require.Equal(t, crossing.Entered, got.Result)
	require.Contains(t, reasonsOf(got), reason.AccessRule)

	// A grant is judged by the rules of now, and by the network of then.
	released := func(word *crossing.Answer) error {
		_, need, err := crossing.Renew(w.snap, crossing.Renewal{App: w.app, Word: word, Person: 7, People: w.people}, now)
		require.Nil(t, need)
		return err
	}
	word := &w.keep(got).Proofs[0]
	require.NoError(t, released(word))
	w.people[key] = person.Person{ID: 7, Key: key}
	require.True(t, finding.Is(released(word), finding.AccessNobody), "who has left the group is not told of any more")
	w.rules(federation.Settings{"name": "depot", "application": "roster", "then": "allow",
		"networks": []any{"192.0.2.0/24"}})
	require.Error(t, released(word))
	there := *word
	there.Network = "192.0.2.7"
	require.NoError(t, released(&there))
}

// What a provider says of its own accord marks nobody for a rule; a group, or the provider's record, does.
func TestRulesHearOfMarksThatAreTrusted(t *testing.T) {
	says := func(a *saml.Answer) {
		a.Attributes = append(a.Attributes, saml.Attribute{Name: "userType", Values: saml.Texts("contractor")})
	}
	for rule, c := range map[string]struct {
		of     string
		denied bool
	}{"the provider says so": {"", false}, "its record says so": {"contractor", true}} {
		w := newWorld(t)
		p := *w.provider
		p.UserType = c.of
		w.snap = w.snap.With(&p)
		w.rules(federation.Settings{"name": "out", "then": "deny", "userTypes": []any{"contractor"}})
		got := w.answer(w.request(nil).State, says)
		require.Equal(t, c.denied, finding.Is(errorOf(got.Finding), finding.AccessDenied), rule)
	}
}

// A mark that a rule of the intake keeps with the person counts at a sign-in that does not bring it, too; one that
// it made for a session only does not.
func TestRulesHearOfMarksThatAreKept(t *testing.T) {
	w := newWorld(t)
	kept := person.Person{ID: 7, Values: []person.KeptValue{{From: w.provider.ID,
		Attribute: profile.Attribute{Name: profile.AttributeUserType, Values: profile.Texts("contractor")}}}}
	for rule, c := range map[string]struct {
		keep, marked string
	}{"kept": {profile.KeepPerson, "contractor"}, "for the session only": {"", ""}} {
		p := *w.provider
		p.IntakeMapping = profile.Mapping{Rules: []profile.Rule{{To: profile.Target{Name: profile.AttributeUserType},
			From: []profile.Source{{Attribute: "employeeType"}}, Keep: c.keep}}}
		e, err := crossing.Trial{Provider: &p, Person: kept, Snap: w.snap.With(&p), Said: &crossing.Answer{}}.Entering()
		require.NoError(t, err)
		require.Equal(t, c.marked, e.Subject().UserType, rule)
	}
}

func errorOf(f *finding.Finding) error {
	if f == nil {
		return nil
	}
	return f
}

func TestAStepUpIsAskedOnce(t *testing.T) {
	w := newWorld(t)
	w.rules(federation.Settings{"name": "card", "application": "roster", "then": "step-up", "context": smartcard})
	asked := w.request(nil)
	weak := w.answer(asked.State, nil)
	require.Equal(t, crossing.Waiting, weak.Result, "the provider is asked once more")
	require.Contains(t, w.sent(weak), ">"+smartcard+"<")
	require.EqualValues(t, "card", weak.State.Step.Rule)
	again := w.answer(weak.State, nil)
	require.Equal(t, finding.AccessStepUp, again.Finding.Code, "and not a third time")
	strong := w.answer(weak.State, func(a *saml.Answer) { a.Context = smartcard })
	require.Equal(t, crossing.Entered, strong.Result, "%v", strong.Finding)

	w = newWorld(t)
	w.rules(federation.Settings{"name": "fresh", "application": "roster", "then": "step-up", "maxAge": "10m"})
	old := w.answer(w.request(nil).State, func(a *saml.Answer) { a.AuthnInstant = now.Add(-time.Hour) })
	require.Contains(t, w.sent(old), `ForceAuthn="true"`)
	require.Equal(t, crossing.Entered, w.answer(old.State, nil).Result)
	entered := w.answer(old.State, nil)
	word := w.keep(entered).Proofs[0]
	word.Entered = now
	w.session = nil
	_, need, err := crossing.Renew(w.snap, crossing.Renewal{App: w.app, Word: &word, Person: entered.State.Person,
		People: map[string]person.Person{person.LinkKey("", word.Subject): {}}}, now.Add(8*time.Hour))
	require.Nil(t, need)
	require.NoError(t, err, "what was fresh then is fresh enough for its tokens")
	// What the application asked for holds beside what the rule asks for.
	exact := w.request(func(q *saml.AuthnRequest) { q.Contexts, q.Comparison = []string{password}, "exact" })
	require.Equal(t, finding.ContextOther, w.answer(w.answer(exact.State, func(a *saml.Answer) {
		a.AuthnInstant,
			a.Context = now.Add(-time.Hour), password
	}).State,
		func(a *saml.Answer) { a.Context = smartcard }).Finding.Code)
	passive := w.request(func(q *saml.AuthnRequest) { q.IsPassive = true })
	require.Equal(t, finding.AccessStepUp,
		w.answer(passive.State, func(a *saml.Answer) { a.AuthnInstant = now.Add(-time.Hour) }).Finding.Code,
		"where nobody may be asked, nobody is")
}

func reasonsOf(t crossing.Turn) (out []reason.Code) {
	for _, st := range t.Steps {
		for _, r := range st.Reasons {
			out = append(out, r.Code)
		}
	}
	return out
}
