package gate

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/rehearsal"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/rehearsing"
)

// over waits for the runs of a rehearsal that have ended to be so many, and gives them.
func (r *rig) over(name string, many int) []rehearsing.Run {
	r.t.Helper()
	var all []rehearsing.Run
	require.Eventually(r.t, func() bool {
		var err error
		all, _, err = r.Rehearsals.List(ctx, name, 0, 100)
		require.NoError(r.t, err)
		for _, run := range all {
			if run.Ended.IsZero() {
				return false
			}
		}
		return len(all) >= many
	}, 5*time.Second, 5*time.Millisecond, "%d runs of %s", many, name)
	require.Len(r.t, all, many)
	return all
}

// passes lets time go by, with a look at what is due every two seconds.
func (r *rig) passes(d time.Duration) {
	r.t.Helper()
	for end := r.clock.get().Add(d); r.clock.get().Before(end); r.clock.set(r.clock.get().Add(2 * time.Second)) {
		require.NoError(r.t, r.Unattended.Due(ctx))
	}
}

// A rehearsal runs by its schedule and after changes: several changes are one run, and a flood of them is few.
func TestRehearsalsRunByThemselves(t *testing.T) {
	r := newRig(t)
	r.laid("rehearsal", "ada", federation.Settings{"title": "Ada", "application": "roster", "provider": "staff",
		"username": "ada", "every": "1h", "afterChanges": true})
	r.passes(20 * time.Second)
	r.over("ada", 0)
	_, err := r.Unattended.Start(ctx, tester, "ada")
	require.Equal(t, finding.TestAccountMissing, finding.Of(err).Code)
	_, err = r.Unattended.Password(ctx, tester, "ada", "pw")
	require.NoError(t, err)
	r.passes(20 * time.Second)
	runs := r.over("ada", 1)
	require.Equal(t, "a change", runs[0].By, "the password is one")
	require.Equal(t, rehearsal.Stopped, runs[0].Verdict.State)
	r.passes(59 * time.Minute)
	r.over("ada", 1)
	r.passes(2 * time.Minute)
	require.Equal(t, "the schedule", r.over("ada", 2)[0].By)
	for i := range 100 { // within a minute
		require.NoError(t, r.sets("application", "roster", federation.Settings{"notes": time.Duration(i).String()}))
		r.clock.set(r.clock.get().Add(600 * time.Millisecond))
		require.NoError(t, r.Unattended.Due(ctx))
	}
	r.passes(20 * time.Second)
	all := r.over("ada", 3) // a hundred changes within a minute are one run
	require.NoError(t, r.sets("application", "roster", federation.Settings{"phase": "paused"}))
	r.passes(20 * time.Second)
	r.over("ada", len(all)) // a rehearsal passes over phases
	r.restart()
	r.passes(20 * time.Second)
	r.over("ada", len(all)) // and nothing was changed meanwhile
	require.NoError(t, r.sets("application", "roster", federation.Settings{"notes": "else"}))
	_, _, err = r.Rehearsals.Begin(ctx, tester, "ada", true) // the gate is stopped before it gets on
	require.NoError(t, err)
	r.restart()
	r.passes(20 * time.Second)
	r.over("ada", len(all)+2) // now it was, and what was left behind has ended
}

// The password of a test account goes to no host that it was not given for, and nobody reads it.
func TestAccountsAreBoundToHosts(t *testing.T) {
	r := newRig(t)
	r.laid("rehearsal", "ada", federation.Settings{"title": "Ada", "application": "roster", "provider": "staff",
		"username": "ada"})
	a, err := r.Unattended.Password(ctx, tester, "ada", "a secret of Ada's")
	require.NoError(t, err)
	require.NotEmpty(t, a.Hosts)
	r.laid("rehearsal", "ada", federation.Settings{"hosts": "evil.example"})
	_, err = r.Unattended.Start(ctx, tester, "ada")
	require.Equal(t, finding.TestAccountHosts, finding.Of(err).Code)
	require.Contains(t, err.Error(), "evil.example")
	r.laid("rehearsal", "ada", federation.Settings{"hosts": ""})
	_, err = r.Unattended.Start(ctx, tester, "ada")
	require.NoError(t, err)
	r.over("ada", 1)
	r.laid("rehearsal", "ada", federation.Settings{"username": "bram"})
	_, err = r.Unattended.Start(ctx, tester, "ada")
	require.Equal(t, finding.TestAccountMissing, finding.Of(err).Code, "another account has no password")
	for field, s := range map[string]federation.Settings{"every": {"every": "1m"}, "hosts": {"hosts": "https://x/"},
		"opens": {"opens": "x"}, "mails": {"mails": "nobody"}, "username": {"username": "", "every": "1h"}} {
		plan, _ := r.Snapshot().Rehearsal("ada")
		_, err := r.Records.Lay(ctx, tester, "rehearsal", "ada", plan.Revision, s)
		var of *change.FieldError
		require.ErrorAs(t, err, &of)
		require.Equal(t, field, of.Field)
	}
	require.NoError(t, r.Unattended.Forget(ctx, tester, "ada"))
}
