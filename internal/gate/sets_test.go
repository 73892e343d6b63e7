package gate

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/driving"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/traces"
	"innergate.example/innergate/internal/store"
)

const (
	basic   = "urn:oasis:names:tc:SAML:2.0:attrname-format:basic"
	sameUID = `{"to":{"name":"uid","nameFormat":"` + basic + `"},"from":[{"attribute":"uid"}]}`
)

// setOf is a set of rules in JSON.
func setOf(t testing.TB, name string, way profile.Way, revision int, rules string) federation.Set {
	s := federation.Set{Name: federation.Name(name), Way: way, Title: name, Revision: revision}
	require.NoError(t, json.Unmarshal([]byte(`{"rules":[`+rules+`]}`), &s.Mapping))
	return s
}

const (
	mailOnly = `{"to":{"name":"email"},"from":[{"attribute":"mail"}]}`
	unit     = `{"to":{"name":"unit"},"from":[{"attribute":"unit"}]}`
)

// What a set says counts for everybody who shares it, from the next sign-in on, and what
// a record says itself goes before it.
func TestSetsAreShared(t *testing.T) {
	r := newRig(t)
	person := func(a *saml.Answer) {
		a.Attributes = []saml.Attribute{{Name: "mail", Values: saml.Texts("ada@wrenmoor.example")},
			{Name: "unit", Values: saml.Texts("north")}}
	}
	told := func() map[string]string {
		o := r.request(driving.Browser{}, nil)
		b := keep(driving.Browser{}, o)
		a, _ := r.said(r.answer(b, r.asked(o).ID, person))
		out := map[string]string{}
		for _, x := range a.Attributes {
			out[x.Name] = x.Values[0].Text
		}
		return out
	}
	share := func(s federation.Settings) error {
		_, err := r.Records.Configure(ctx, tester, change.KindApplication, "roster", 0, s)
		return err
	}
	_, err := r.Records.PutSet(ctx, tester, setOf(t, "common", profile.Release, 0, mailOnly+","+unit))
	require.NoError(t, err)
	require.ErrorContains(t, share(federation.Settings{"releaseSet": "comon"}), "did you mean common?")
	require.NoError(t, share(federation.Settings{"releaseSet": "common"}))
	require.Equal(t, map[string]string{"email": "ada@wrenmoor.example", "unit": "north"}, told())

	var own map[string]any
	require.NoError(t, json.Unmarshal([]byte(`{"rules":[{"to":{"name":"unit"},"omit":true},
		{"to":{"name":"email"},"from":[{"attribute":"mail"}],"steps":[{"do":"upper"}]}]}`), &own))
	require.NoError(t, share(federation.Settings{"releaseMapping": own}))
	require.Equal(t, map[string]string{"email": "ADA@WRENMOOR.EXAMPLE"}, told(), "its own rules go before")

	_, err = r.Records.PutSet(ctx, tester, setOf(t, "common", profile.Release, 1, mailOnly+
		`,{"to":{"name":"all"},"from":[{"constant":"yes"}]}`))
	require.NoError(t, err)
	require.Equal(t, map[string]string{"email": "ADA@WRENMOOR.EXAMPLE", "all": "yes"}, told(), "it follows the set")
	r.restart()
	require.Equal(t, map[string]string{"email": "ADA@WRENMOOR.EXAMPLE", "all": "yes"}, told(), "and after a restart")

	for rule, do := range map[string]func() error{
		"a change of a revision that is gone": func() error {
			_, err := r.Records.PutSet(ctx, tester, setOf(t, "common", profile.Release, 1, mailOnly))
			return err
		},
		"another way while it is shared": func() error {
			_, err := r.Records.PutSet(ctx, tester, setOf(t, "common", profile.Intake, 2, mailOnly))
			return err
		},
		"its removal while it is shared": func() error { return r.Records.RemoveSet(ctx, tester, "common") },
		"a set for the other way": func() error {
			_, err := r.Records.PutSet(ctx, tester, setOf(t, "arriving", profile.Intake, 0, mailOnly))
			require.NoError(t, err)
			return share(federation.Settings{"releaseSet": "arriving"})
		},
		"the subject, at an intake": func() error {
			_, err := r.Records.PutSet(ctx, tester, setOf(t, "wrong", profile.Intake, 0,
				`{"to":{"subject":true},"from":[{"attribute":"mail"}]}`))
			if err == nil {
				_, err = r.Records.Configure(ctx, tester, change.KindProvider, "staff", 0,
					federation.Settings{"intakeSet": "wrong"})
			}
			return err
		},
		"more rules than a mapping has": func() error {
			many := mailOnly
			for i := range profile.MostRules - 1 {
				many += fmt.Sprintf(`,{"to":{"name":"n%d"},"from":[{"constant":"x"}]}`, i)
			}
			_, err := r.Records.PutSet(ctx, tester, setOf(t, "many", profile.Release, 0, many))
			require.NoError(t, err)
			return share(federation.Settings{"releaseSet": "many",
				"releaseMapping": map[string]any{"rules": []any{map[string]any{
					"to": map[string]any{"name": "one-more"}, "from": []any{map[string]any{"constant": "x"}}}}}})
		},
	} {
		require.Error(t, do(), rule)
	}
	require.Equal(t, map[string]string{"email": "ADA@WRENMOOR.EXAMPLE", "all": "yes"}, told(),
		"what was refused changed nothing")

	// An application of another protocol shares it without what it cannot have.
	r.client("planner", nil, nil)
	_, err = r.Records.PutSet(ctx, tester, setOf(t, "named", profile.Release, 0, mailOnly+
		`,{"to":{"subject":true},"from":[{"attribute":"mail"}]}`))
	require.NoError(t, err)
	both := func(rules string) error {
		var m map[string]any
		require.NoError(t, json.Unmarshal([]byte(`{"rules":[`+rules+`]}`), &m))
		_, err := r.Records.Configure(ctx, tester, change.KindApplication, "planner", 0,
			federation.Settings{"releaseSet": "named", "releaseMapping": m})
		return err
	}
	require.ErrorContains(t, both(""), "sub is the gate's own")
	require.NoError(t, both(`{"to":{"subject":true},"omit":true}`))
	require.Len(t, mustApplication(r, "planner").Mapping().Rules, 1)

	list, _, err := r.Records.History(ctx, records.HistoryFilter{Kind: string(federation.KindSet), Name: "common",
		Limit: 10})
	require.NoError(t, err)
	require.Len(t, list, 2)
	_, _, err = r.Records.Restore(ctx, tester, list[1].ID)
	require.NoError(t, err)
	require.Equal(t, map[string]string{"email": "ADA@WRENMOOR.EXAMPLE"}, told(), "it can be set back, and is followed")
	require.NoError(t, share(federation.Settings{"releaseSet": "", "releaseMapping": map[string]any{}}))
	require.NoError(t, r.Records.RemoveSet(ctx, tester, "common"))
	require.Contains(t, told(), "mail", "alone again, it is told everything")
}

// Of several who change a set at once, one does.
func TestSetsAreChangedByOneAtATime(t *testing.T) {
	r := newRig(t)
	var wait sync.WaitGroup
	var mu sync.Mutex
	made := 0
	for range 8 {
		wait.Go(func() {
			if _, err := r.Records.PutSet(ctx, tester, setOf(t, "common", profile.Release, 0, mailOnly)); err == nil {
				mu.Lock()
				made++
				mu.Unlock()
			}
		})
	}
	wait.Wait()
	require.Equal(t, 1, made)
	require.EqualValues(t, 1, r.count(&store.ObjectRow{}))
}

// Before a change is saved, recorded crossings say who would get something else; a change
// that gives people other names is saved only once that was looked at.
func TestReevaluation(t *testing.T) {
	r := newRig(t)
	for _, who := range []string{"ada", "bram", "celia"} {
		r.enter(func(a *saml.Answer) {
			a.NameID.Value = who + "@wrenmoor.example"
			a.Attributes = []saml.Attribute{{Name: "uid", Values: saml.Texts(who)}}
			if who != "celia" {
				a.Attributes = append(a.Attributes, saml.Attribute{Name: "unit", Values: saml.Texts("north")})
			}
		})
	}
	run := func(s federation.Settings) traces.Evaluated {
		before, after, err := r.Records.Propose(records.Proposed{Changes: []records.SettingChange{{Kind: change.KindApplication,
			Name: "roster", Settings: s}}})
		require.NoError(t, err)
		out, err := r.Traces.Reevaluate(ctx, before, after, traces.Which{}, func(int64) {})
		require.NoError(t, err)
		return out
	}
	rules := func(list string) (m map[string]any) {
		require.NoError(t, json.Unmarshal([]byte(`{"rules":[`+list+`]}`), &m))
		return m
	}
	for rule, c := range map[string]struct {
		set                           federation.Settings
		alike, differs, shut, renamed int
		label                         string
	}{
		"a title": {federation.Settings{"title": "Rosters"}, 3, 0, 0, 0, ""},
		"signing": {federation.Settings{"sign": "both"}, 0, 3, 0, 0, "Signed"},
		"fewer":   {federation.Settings{"releaseMapping": rules(sameUID)}, 1, 2, 0, 0, "unit"},
		"another form": {federation.Settings{"releaseMapping": map[string]any{"rest": true,
			"rules": rules(`{"to":{"name":"uid"},"from":[{"attribute":"uid"}]}`)["rules"]}}, 0, 3, 0, 0, "NameFormat of uid"},
		"a mandatory one": {federation.Settings{"releaseMapping": rules(sameUID + `,{"to":{"name":"unit","nameFormat":"` +
			basic + `"},"from":[{"attribute":"unit"}],"mandatory":true}`)}, 2, 1, 1, 0, "Because"},
		"another name":   {federation.Settings{"releaseMapping": rules(`{"to":{"subject":true},"from":[{"attribute":"uid"}]}`)}, 0, 3, 0, 3, "Name"},
		"another format": {federation.Settings{"nameIdFormat": "persistent"}, 0, 3, 0, 3, "Name"},
		"paused":         {federation.Settings{"phase": "paused"}, 0, 3, 3, 0, "Result"},
	} {
		got := run(c.set)
		require.Equal(t, []int{c.alike, c.differs, c.differs, c.shut, c.renamed},
			[]int{got.Alike, got.Differs, got.People, got.Shut,
				got.Renamed}, "%s: %+v", rule, got)
		require.Equal(t, 3, got.Seen, rule)
		for _, l := range got.Listed {
			labels := []string{}
			for _, d := range l.Differences {
				labels = append(labels, d.Label)
			}
			require.Contains(t, labels, c.label, rule)
			require.NotEmpty(t, l.Person)
		}
	}

	// Whoever was new when it was recorded is known by now.
	before, after, err := r.Records.Propose(records.Proposed{Changes: []records.SettingChange{{Kind: change.KindProvider,
		Name: "staff", Settings: federation.Settings{"firstSignIn": "known"}}}})
	require.NoError(t, err)
	known, err := r.Traces.Reevaluate(ctx, before, after, traces.Which{}, func(int64) {})
	require.NoError(t, err)
	require.Equal(t, []int{3, 0}, []int{known.Alike, known.Shut})

	change1 := federation.Settings{"nameIdFormat": "persistent"}
	save := func(by change.By) error {
		_, err := r.Records.Configure(ctx, by, change.KindApplication, "roster", 0, change1)
		return err
	}
	err = save(tester)
	require.True(t, finding.Is(err, finding.NamesChange), "%v", err)
	require.ErrorContains(t, err, "another name: 3")
	by := tester
	by.Confirms = toConfirm(err)
	change1 = federation.Settings{"nameIdFormat": "transient"}
	require.True(t, finding.Is(save(by), finding.NamesChange), "what was confirmed is another change")
	change1 = federation.Settings{"nameIdFormat": "persistent"}
	require.NoError(t, save(by))
}

// What the same functions decide in a sign-in, they decide again: every recorded crossing
// of a busy day comes to the same under the same configuration.
func TestReevaluationWithoutAChangeIsAlike(t *testing.T) {
	r := newRig(t)
	require.NoError(t, r.maps(change.KindApplication, "roster",
		`{"to":{"name":"team"},"from":[{"attribute":"groups"},{"constant":"none"}]}`))
	b := r.enter(nil)
	r.request(b, nil)
	r.enter(func(a *saml.Answer) { a.NameID = saml.NameID{Format: saml.FormatTransient, Value: "t"} })
	p := r.provides("oakhollow", nil).add(federation.Settings{"scopes": "openid profile email groups"})
	require.NoError(t, r.maps(change.KindProvider, "oakhollow", accountName+","+teams))
	p.through(driving.Browser{}, "roster", "")
	snap := r.Snapshot()
	again := snap // the same records, taken for others
	for _, rec := range snap.Records() {
		again = again.With(rec.Copy())
	}
	got, err := r.Traces.Reevaluate(ctx, snap, again, traces.Which{}, func(int64) {})
	require.NoError(t, err)
	require.Zero(t, got.Differs+got.Untold, "%+v", got.Listed)
	require.GreaterOrEqual(t, got.Alike, 4)
}

// BenchmarkReevaluation runs ten thousand recorded crossings again, once each.
func BenchmarkReevaluation(b *testing.B) {
	r := newRigKeeping(b, 2*traces.MostCrossings)
	r.enter(func(a *saml.Answer) {
		a.Attributes = []saml.Attribute{{Name: "uid", Values: saml.Texts("ada")},
			{Name: "groups", Values: saml.Texts("a", "b", "c")}}
	})
	heads, _, err := r.Traces.List(ctx, traces.Filter{Limit: 1})
	require.NoError(b, err)
	raw, err := r.store.Traces.Inputs(ctx, heads[0].ID)
	require.NoError(b, err)
	for i := range traces.MostCrossings {
		for _, in := range raw {
			r.store.Traces.Record(store.TraceHead{ID: fmt.Sprintf("T%04d-%05d", i%10, i), Started: r.clock.get(),
				Application: "roster",
				Provider:    "staff", Result: crossing.Entered, Verified: true}, nil, in)
		}
		if i%500 == 0 {
			_, err := r.Traces.Count(ctx, traces.Which{}) // the queue is bounded
			require.NoError(b, err)
		}
	}
	before, after, err := r.Records.Propose(records.Proposed{Changes: []records.SettingChange{{Kind: change.KindApplication,
		Name: "roster", Settings: federation.Settings{"releaseMapping": map[string]any{"rules": []any{map[string]any{
			"to": map[string]any{"name": "uid"}, "from": []any{map[string]any{"attribute": "uid"}}}}}}}}})
	require.NoError(b, err)
	for b.Loop() {
		got, err := r.Traces.Reevaluate(context.Background(), before, after, traces.Which{}, func(int64) {})
		require.NoError(b, err)
		require.Greater(b, got.Differs, traces.MostCrossings/2)
	}
}
