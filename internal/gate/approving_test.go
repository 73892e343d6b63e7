package gate

import (
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate/approving"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/people"
	"innergate.example/innergate/internal/gate/people/roll"
	"innergate.example/innergate/internal/gate/records"
)

// Admissions wait for another owner, whichever way they are made; what is approved is what was seen, once, in time.
func TestAdmissionsWaitForAnotherOwner(t *testing.T) {
	r := newRig(t)
	one, two := change.By{Who: "signal-box"}, change.By{Who: "yard-office"}
	r.client("planner", nil, federation.Settings{"everyone": "no", "approval": true})
	_, err := r.Records.PutUnit(ctx, tester, federation.Unit{Kind: federation.KindGroup, Name: "drivers",
		Title: "Drivers"})
	require.NoError(t, err)
	ada := r.knows("displayName=Ada")
	ask := func(by change.By, e people.Entry) (int64, string) {
		t.Helper()
		id, err := r.People.Admit(ctx, by, "planner", e)
		require.NoError(t, err)
		q, err := r.Requests.Get(ctx, id)
		require.NoError(t, err)
		return id, q.Digest
	}
	require.NoError(t, r.Operators.AddOwner(ctx, tester, "signal-box", "a password of one"))
	_, err = r.People.Admit(ctx, one, "planner", people.Entry{People: []int64{ada}})
	require.ErrorContains(t, err, "nobody can approve")
	require.NoError(t, r.Operators.AddOwner(ctx, tester, "yard-office", "a password of two"))
	for name, by := range map[string]change.By{"ci": one, "of-ci": {Who: "token ci"}, "host": {Who: "host root"}} {
		_, _, err := r.Operators.AddToken(ctx, by, name, time.Time{})
		require.NoError(t, err)
	}

	// Past it leads no way.
	_, err = r.People.Admit(ctx, one, "planner", people.Entry{People: []int64{99}})
	require.ErrorContains(t, err, "person \"99\"")
	for _, s := range []federation.Settings{{"admissions": "drivers=yes"}, {"everyone": "yes"}, {"everyone": ""},
		{"approval": false}} {
		_, err := r.Records.Configure(ctx, one, change.KindApplication, "planner", 0, s)
		require.ErrorContains(t, err, "wait for approval", "%v", s)
	}
	_, err = r.Roll.Admit(ctx, one, "planner", roll.Import{Document: []byte("number\n1\n")}, &heard{})
	require.ErrorContains(t, err, "a list cannot ask for")
	_, err = r.Records.Configure(ctx, one, change.KindApplication, "planner", 0,
		federation.Settings{"admissions": "drivers=no"})
	require.NoError(t, err, "keeping out acts at once")
	history, _, err := r.Records.History(ctx, records.HistoryFilter{Kind: change.KindApplication, Name: "planner",
		Limit: 1})
	require.NoError(t, err)
	_, err = r.Records.Undo(ctx, one, history[0].ID)
	require.ErrorContains(t, err, "wait for approval", "undoing lets them in")

	// Who approves.
	id, digest := ask(one, people.Entry{People: []int64{ada}, Groups: []string{"drivers"}})
	for who, says := range map[string]string{"signal-box": "you asked for it yourself",
		"token ci": "you asked for it yourself", "token of-ci": "you asked for it yourself",
		"token host": "is no owner", "nobody": "is no owner", "": "is no owner"} {
		require.ErrorContains(t, r.People.Approve(ctx, change.By{Who: who}, id, digest), says, who)
	}
	require.ErrorContains(t, r.People.Approve(ctx, two, id, ""), "give the digest")
	_, err = r.People.Disable(ctx, tester, ada)
	require.NoError(t, err)
	require.ErrorContains(t, r.People.Approve(ctx, two, id, digest), "not what was looked at",
		"who it is about has changed")
	_, err = r.People.Enable(ctx, tester, ada)
	require.NoError(t, err)
	var wait sync.WaitGroup
	ended := make([]error, 8)
	for i := range ended {
		wait.Go(func() { ended[i] = r.People.Approve(ctx, two, id, digest) })
	}
	wait.Wait()
	done := 0
	for _, err := range ended {
		if err == nil {
			done++
		} else {
			require.Regexp(t, "approved by|decided on by somebody else|changed meanwhile", err.Error())
		}
	}
	require.Equal(t, 1, done, "of many at once one approves: %v", ended)
	decision, _ := r.decides("planner", ada, "approved")
	require.Equal(t, federation.Allow, decision)

	// In time.
	id, digest = ask(two, people.Entry{Groups: []string{"drivers"}, Until: r.clock.get().Add(time.Hour)})
	r.clock.set(r.clock.get().Add(2 * time.Hour))
	require.ErrorContains(t, r.People.Approve(ctx, one, id, digest), "this end has passed")
	require.NoError(t, r.Requests.Decline(ctx, one, id))
	require.ErrorContains(t, r.Requests.Decline(ctx, one, id), "was declined by signal-box already")
	id, digest = ask(two, people.Entry{Groups: []string{"drivers"}})
	r.clock.set(r.clock.get().Add(31 * 24 * time.Hour))
	require.ErrorContains(t, r.People.Approve(ctx, one, id, digest), "ended at")

	// Taking it off waits, too.
	id, digest = ask(two, people.Entry{AtOnce: true})
	require.NoError(t, r.People.Approve(ctx, one, id, digest))
	require.NoError(t, r.admits("planner", people.Entry{Groups: []string{"drivers"}}))
	history, _, err = r.Records.History(ctx, records.HistoryFilter{Kind: change.KindApplication, Name: "planner",
		Limit: 50})
	require.NoError(t, err)
	told := ""
	for _, h := range history {
		told += h.What + " " + h.Why + "\n"
	}
	require.Contains(t, told, fmt.Sprintf("request %d approved asked for by yard-office; seen: %s", id, digest))
}

// Who asks for entry asks once, however often; after a refusal not for a day; and goes with their account.
func TestOneAsksOnce(t *testing.T) {
	r := newRig(t)
	require.NoError(t, r.Operators.AddOwner(ctx, tester, "signal-box", "a password of one"))
	a := r.client("planner", nil, federation.Settings{"everyone": "no", "askForEntry": true})
	ada := r.knows("displayName=Ada")
	asks := func(app federation.ID, person int64) (n int) {
		for range 200 {
			made := false
			require.NoError(t, r.store.Write(ctx, func(tx *gorm.DB) (err error) { // it may be run again
				made, err = r.Requests.Ask(tx, app, person)
				return err
			}))
			if made {
				n++
			}
		}
		return n
	}
	require.Equal(t, 1, asks(a.ID, ada))
	require.Zero(t, asks("nothing", ada))
	require.Zero(t, asks(a.ID, 0))
	require.NoError(t, r.Requests.Decline(ctx, change.By{Who: "signal-box"}, 1))
	require.Zero(t, asks(a.ID, ada))
	r.clock.set(r.clock.get().Add(25 * time.Hour))
	require.Equal(t, 1, asks(a.ID, ada))
	r.clock.set(r.clock.get().Add(31 * 24 * time.Hour))
	require.Equal(t, 1, asks(a.ID, ada), "nobody decided in time")
	all, waiting, err := r.Requests.List(ctx, approving.Filter{Limit: 10})
	require.NoError(t, err)
	states := []string{}
	for _, q := range all {
		states = append(states, q.State)
	}
	require.Equal(t, "waiting ended declined", strings.Join(states, " "))
	require.EqualValues(t, 1, waiting)
	require.NoError(t, r.People.Remove(ctx, tester, ada))
	all, _, err = r.Requests.List(ctx, approving.Filter{Limit: 10})
	require.NoError(t, err)
	require.Empty(t, all)
}
