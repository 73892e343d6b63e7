package person_test

import (
	"encoding/json"
	"errors"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing/rpside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
)

// A change is laid over how somebody is: what it does not name stays, what it says already does nothing, and what it
// rests on has to hold.
func TestChangesAreLaid(t *testing.T) {
	p := &federation.Provider{Side: rpside.New(rpside.OpenID)}
	p.Name, p.ID, p.GroupValues = "p", "p-id", "known"
	snap := federation.NewSnapshot(federation.Gate{}).With(p, unit(federation.KindGroup, "drivers", "", ""),
		unit(federation.KindGroup, "guards", "", ""))
	in := func(name string, source federation.ID) person.Membership {
		return person.Membership{Kind: federation.KindGroup, Name: federation.Name(name), Source: source}
	}
	ground := person.Ground{Snap: snap, Now: now, There: func(r federation.Ref) bool {
		_,
			is := snap.Unit(r.Kind, r.Name)
		return is
	}}
	was := person.Record{ID: 7, Revision: 3, Values: kept("@hand", "displayName=Ada", "emails=a@x.example|b@x.example"),
		Members:  []person.Membership{in("drivers", "@hand"), in("guards", "p-id")},
		Admitted: []person.Admission{{Admitted: person.Admitted{App: "a"}}}}
	typed := func(name string, values ...string) *person.Typing {
		return &person.Typing{From: person.FromHand, Values: map[string][]string{name: values}, Most: 2}
	}
	marks := func(m ...person.ValueMark) *person.Typing { return &person.Typing{From: person.FromHand, Marks: m} }
	for _, c := range []struct {
		rule    string
		change  person.Change
		did     string // in JSON
		guard   person.Guard
		refused string
	}{
		{rule: "nothing", change: person.Change{Person: 7}, did: `{}`},
		{rule: "somebody new", change: person.Change{}, did: `{"state":"added"}`},
		{rule: "who is gone", change: person.Change{Person: 8}, guard: person.GuardThere},
		{rule: "another revision", change: person.Change{Person: 7, Revision: 2}, guard: person.GuardRevision},
		{rule: "that revision", change: person.Change{Person: 7, Revision: 3, State: person.Disabled},
			did: `{"state":"disabled"}`},
		{rule: "enabled already", change: person.Change{Person: 7, State: person.Enabled}, did: `{}`},
		{rule: "removed", change: person.Change{Person: 7, State: person.Removed}, did: `{"state":"removed"}`},
		{rule: "joined into another", change: person.Change{Person: 7, State: person.Removed, Other: 9},
			did: `{"state":"joined","other":9}`},
		{rule: "a value", change: person.Change{Person: 7, Typed: typed("displayName", "Ada F.")},
			did: `{"values":["displayName"]}`},
		{rule: "the same value", change: person.Change{Person: 7, Typed: typed("displayName", "Ada")}, did: `{}`},
		{rule: "a value taken away", change: person.Change{Person: 7, Typed: typed("displayName")},
			did: `{"values":["displayName"]}`},
		{rule: "one attribute too many", change: person.Change{Person: 7, Typed: typed("title", "Driver")},
			refused: "would have 3 attributes"},
		{rule: "a mark", change: person.Change{Person: 7, Typed: marks(person.ValueMark{Attribute: "mail",
			Value: "b@x.example", Mark: person.Mark{Primary: true}})}, did: `{"values":["emails"]}`},
		{rule: "a mark of no value", change: person.Change{Person: 7, Typed: marks(person.ValueMark{Attribute: "emails",
			Value: "c@x.example", Mark: person.Mark{Primary: true}})}, refused: "no value"},
		{rule: "a group", change: person.Change{Person: 7, Join: []person.Membership{in("guards", "@hand")}},
			did: `{"stays":["group/guards"]}`},
		{rule: "a group that there is not", change: person.Change{Person: 7, Join: []person.Membership{in("leads",
			"@hand")}}, did: `{}`},
		{rule: "out of a group", change: person.Change{Person: 7, Leave: []person.Membership{in("drivers", "")}},
			did: `{"left":["group/drivers"]}`},
		{rule: "out of one in which they are not", change: person.Change{Person: 7,
			Leave: []person.Membership{in("leads", "")}}, refused: "is not in group leads"},
		{rule: "out of it anyway", change: person.Change{Person: 7, Anyway: true,
			Leave: []person.Membership{in("leads", "")}}, did: `{}`},
		{rule: "out of one that a provider says", change: person.Change{Person: 7,
			Leave: []person.Membership{in("guards", "")}}, refused: "because p says so"},
		{rule: "what a provider says now", change: person.Change{Person: 7, Follow: &person.Following{From: "p-id",
			Groups: []federation.Name{"drivers"}}},
			did: `{"left":["group/guards"],"stays":["group/drivers"]}`},
		{rule: "admitted as before", change: person.Change{Person: 7,
			Admit: []person.Admission{{Admitted: person.Admitted{App: "a"}}}}, did: `{}`},
		{rule: "admitted until then", change: person.Change{Person: 7,
			Admit: []person.Admission{{Admitted: person.Admitted{App: "a", Until: now}}}}, did: `{"admitted":["a"]}`},
		{rule: "admitted no more", change: person.Change{Person: 7, Unadmit: []federation.ID{"a"}},
			did: `{"unadmitted":["a"]}`},
		{rule: "who was not admitted", change: person.Change{Person: 7, Unadmit: []federation.ID{"b"}},
			refused: "not admitted to b"},
	} {
		before, err := json.Marshal(was)
		require.NoError(t, err)
		of := was
		if c.change.Person != 7 {
			of = person.Record{}
		}
		laid, err := c.change.Lay(ground, of)
		after, _ := json.Marshal(was)
		require.Equal(t, string(before), string(after), "%s: what it is laid over stays as it was", c.rule)
		var lost *person.LostError
		switch {
		case c.guard != "":
			require.True(t, errors.As(err, &lost), c.rule)
			require.Equal(t, c.guard, lost.Guard, c.rule)
			continue
		case c.refused != "":
			require.ErrorContains(t, err, c.refused, c.rule)
			continue
		}
		require.NoError(t, err, c.rule)
		var want person.Did
		require.NoError(t, json.Unmarshal([]byte(c.did), &want))
		require.Equal(t, want, laid.Did, c.rule)
		require.Equal(t, c.did == `{}`, laid.Did.Nothing(), c.rule)
		who := person.Person{ID: 7, Values: was.Values, Members: was.Members}
		if c.change.Person == 7 && len(c.change.Admit)+len(c.change.Unadmit) == 0 {
			c.change.Foresee(ground, &who)
			require.Equal(t, []any{laid.Values, laid.Members, !laid.Disabled.IsZero() || c.change.State == person.Removed},
				[]any{who.Values, who.Members, who.Disabled},
				"%s: what is foreseen is what is done", c.rule)
		}
	}
}

// Of several values one may be primary: it goes first where there is room for one alone; the mark stays with its
// value, whoever brings that again, and goes with it.
func TestMarks(t *testing.T) {
	for text, want := range map[string]string{"emails=a@x.example:work+primary": "", "phoneNumbers=+44 1:2:mobile": "",
		"emails=a@x.example:primary": "",
		"emails=a@x.example":         "is no mark", "emails=:work": "is no mark", "title=Driver:work": "have no type",
		"emails=a@x:a+b": "two types", "emails=a@x:": "says nothing",
		"emails=a@x:wo rk": "is no type"} {
		m, err := person.MarkOf(text)
		if want != "" {
			require.ErrorContains(t, err, want, text)
			continue
		}
		require.NoError(t, err, text)
		require.Equal(t, text, m.String())
	}
	ground := person.Ground{Snap: federation.NewSnapshot(federation.Gate{}), Now: now}
	was := person.Record{ID: 1, Values: kept("@hand", "emails=a@x.example|b@x.example")}
	set := func(values []string, marks ...person.ValueMark) {
		ty := &person.Typing{From: person.FromHand, Values: map[string][]string{}, Marks: marks}
		if values != nil {
			ty.Values["emails"] = values
		}
		laid, err := (&person.Change{Person: 1, Typed: ty}).Lay(ground, was)
		require.NoError(t, err)
		was = laid.Record
	}
	told := func() string {
		known := person.OnRecord(ground.Snap, nil, profile.Profile{}, person.Person{ID: 1, Values: was.Values}, nil).Known()
		return profile.Joined(profile.Find(known.Attributes, "emails"))
	}
	mark := func(v, kind string, primary bool) person.ValueMark {
		return person.ValueMark{Attribute: "emails", Value: v, Mark: person.Mark{Type: kind, Primary: primary}}
	}
	require.Equal(t, "a@x.example, b@x.example", told())
	set(nil, mark("b@x.example", "home", true))
	require.Equal(t, "b@x.example, a@x.example", told())
	set([]string{"c@x.example", "b@x.example"})
	require.Equal(t, "b@x.example, c@x.example", told(), "it stays with its value")
	set(nil, mark("c@x.example", "work", true))
	require.Equal(t, []person.Mark{{Type: "work", Primary: true}, {Type: "home"}}, was.Values[0].Marks, "one is primary")
	p := &federation.Provider{}
	p.ID = "p"
	out, _ := person.PutValues{From: "p", Values: []person.KeptValue{{Attribute: attributes("emails=b@x.example")[0],
		From: "p"}}}.Over(was.Values, now)
	require.Equal(t, []person.Mark{{Type: "home"}}, out[0].Marks)
	set([]string{"d@x.example"})
	require.Nil(t, was.Values[0].Marks)
}

// What an event lists is bounded, whatever was done.
func TestEventsAreBounded(t *testing.T) {
	many := make([]string, 500)
	for i := range many {
		many[i] = "group/g"
	}
	did := person.Did{Values: []string{"title"}, Joined: many, Left: many}.Bounded()
	require.Equal(t, []int{1, 59, 0, 941}, []int{len(did.Values), len(did.Joined), len(did.Left), did.More})
	require.Equal(t, person.Did{State: "added", Values: []string{"title"}}, person.Did{State: "added",
		Values: []string{"title"}}.Bounded())
}
