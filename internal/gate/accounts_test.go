package gate

import (
	"encoding/json"
	"net/url"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/driving"
	"innergate.example/innergate/internal/gate/people"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/traces"
	"innergate.example/innergate/internal/store"
)

// asMail is ada as the rig's provider calls her.
var asMail = profile.Subject{Format: string(saml.FormatEmail), Value: "ada@wrenmoor.example"}

// come has somebody come anew, and gives what it came to.
func (r *rig) come(who string) driving.Outcome {
	o := r.request(driving.Browser{}, nil)
	b := keep(driving.Browser{}, o)
	return r.answer(b, r.asked(o).ID, func(a *saml.Answer) { a.NameID.Value = who })
}

// Whoever is disabled is let in by nothing any more, from that moment on: no session, no
// sign-in, no refresh, no user-info; and all of it again once they are enabled.
func TestDisabledPeopleAreLetInByNothing(t *testing.T) {
	r := newRig(t)
	app := r.client("planner", nil, federation.Settings{"provider": "staff"})
	code, b := r.code(driving.Browser{}, nil, "scope", "openid offline_access email")
	out, err := r.Redeeming.Token(ctx, caller(redemption(code), "planner", app.Shown))
	require.NoError(t, err)
	held, err := r.People.Get(ctx, 1)
	require.NoError(t, err)
	require.EqualValues(t, []int64{1, 1, 1}, []int64{int64(len(held.Sessions)), held.Grants, int64(len(held.Links))})
	waiting := r.request(driving.Browser{}, nil)

	_, err = r.People.Disable(ctx, tester, 1)
	require.NoError(t, err)
	_, err = r.People.Disable(ctx, tester, 1)
	require.ErrorContains(t, err, "disabled already")
	require.Nil(t, r.Leaving.Session(ctx, b.Session), "the session has ended")
	require.Equal(t, finding.PersonDisabled, r.come("ada@wrenmoor.example").Finding.Code)
	late := r.answer(keep(driving.Browser{}, waiting), r.asked(waiting).ID, nil)
	require.Equal(t, finding.PersonDisabled, late.Finding.Code, "also who was under way")
	_, err = r.Redeeming.Token(ctx, caller(url.Values{"grant_type": {"refresh_token"},
		"refresh_token": {out.RefreshToken}}, "planner", app.Shown))
	require.Equal(t, oidc.InvalidGrant, oidc.RefusalOf(err).Code)
	r.said(r.come("bram@wrenmoor.example"))

	page, err := r.People.List(ctx, people.Filter{State: "disabled", Limit: 10})
	require.NoError(t, err)
	require.EqualValues(t, 1, page.Total)
	require.Equal(t, asMail.Value, page.People[0].Links[0].Subject.Value)
	_, err = r.People.List(ctx, people.Filter{State: "disbled", Limit: 10})
	require.ErrorContains(t, err, "enabled or disabled")
	_, err = r.People.Enable(ctx, tester, 1)
	require.NoError(t, err)
	r.said(r.come("ada@wrenmoor.example"))
	_, err = r.People.Enable(ctx, tester, 1)
	require.ErrorContains(t, err, "not disabled")
	_, err = r.People.Disable(ctx, tester, 77)
	require.ErrorContains(t, err, `no person "77"`)
}

// Where only known people are let in, somebody comes once they were added, as the one who
// was added; nobody is added twice.
func TestOnlyKnownPeopleComeWhereSoIsSet(t *testing.T) {
	r := newRig(t)
	require.NoError(t, r.changeProvider(func(s federation.Settings) { s["firstSignIn"] = "known" }))
	require.Error(t, r.changeProvider(func(s federation.Settings) { s["firstSignIn"] = "nobody" }))
	o := r.come(asMail.Value)
	require.Equal(t, finding.PersonUnknown, o.Finding.Code)
	require.Zero(t, r.count(&store.PersonRow{}), "nobody is made")
	p, err := r.People.Add(ctx, tester, people.NewPerson{Provider: "staff", Subject: asMail})
	require.NoError(t, err)
	r.said(r.come(asMail.Value))
	require.EqualValues(t, 1, r.count(&store.PersonRow{}))
	require.EqualValues(t, 1, p.ID)
	for cause, n := range map[string]people.NewPerson{
		"linked to staff by that name already": {Provider: "staff", Subject: asMail},
		`did you mean "staff"?`:                {Provider: "stafff", Subject: asMail},
		"it is empty":                          {Provider: "staff", Subject: profile.Subject{Value: " "}},
		"another one at each sign-in": {Provider: "staff", Subject: profile.Subject{Value: "x",
			Format: string(saml.FormatTransient)}},
		"control characters": {Provider: "staff", Subject: profile.Subject{Value: "a\nb"}},
	} {
		_, err := r.People.Add(ctx, tester, n)
		require.ErrorContains(t, err, cause)
	}
	var wait sync.WaitGroup
	var mu sync.Mutex
	made := 0
	for range 8 {
		wait.Go(func() {
			if _, err := r.People.Add(ctx, tester, people.NewPerson{Provider: "staff",
				Subject: profile.Subject{Value: "one"}}); err == nil {
				mu.Lock()
				made++
				mu.Unlock()
			}
		})
	}
	wait.Wait()
	require.Equal(t, 1, made)
	require.EqualValues(t, 2, r.count(&store.PersonRow{}))
}

// Nothing of somebody who was removed is left but that it was done; and they come as
// somebody new.
func TestNothingIsLeftOfARemovedPerson(t *testing.T) {
	r := newRig(t)
	require.NoError(t, r.maps(change.KindProvider, "staff",
		`{"to":{"name":"unit"},"from":[{"constant":"north"}],"keep":"person"}`))
	require.NoError(t, r.changeOf(change.KindApplication, "roster",
		func(s federation.Settings) { s["nameIdFormat"] = "persistent" }))
	first, _ := r.said(r.come(asMail.Value))
	r.said(r.come("bram@wrenmoor.example"))
	_, err := r.People.Disable(ctx, tester, 1)
	require.NoError(t, err)
	r.come(asMail.Value) // refused, and recorded
	require.NoError(t, r.People.Remove(ctx, tester, 1))
	for _, row := range []any{&store.PersonRow{}, &store.LinkRow{}, &store.SubjectRow{}, &store.SessionRow{}} {
		require.EqualValues(t, 1, r.count(row), "%T: only the other one's", row)
	}
	heads, _, err := r.Traces.List(ctx, traces.Filter{Search: asMail.Value, Limit: 10})
	require.NoError(t, err)
	require.Empty(t, heads)
	list, _, err := r.Records.History(ctx, records.HistoryFilter{Kind: people.KindPerson, Limit: 10})
	require.NoError(t, err)
	require.Equal(t, []string{"removed", "disabled"}, []string{list[0].What, list[1].What})
	octets, err := json.Marshal(list)
	require.NoError(t, err)
	require.NotContains(t, string(octets), asMail.Value)
	require.ErrorContains(t, r.People.Remove(ctx, tester, 1), `no person "1"`)
	r.clock.set(r.clock.get().Add(crossing.SessionLife + time.Minute))
	again, _ := r.said(r.come(asMail.Value))
	require.NotEqual(t, first.NameID.Value, again.NameID.Value, "somebody new to the application too")
}
