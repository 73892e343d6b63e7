package gate

import (
	"maps"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/rehearsal"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/gate/driving"
	"innergate.example/innergate/internal/gate/phases"
	"innergate.example/innergate/internal/gate/rehearsing"
	"innergate.example/innergate/internal/store"
)

// linked starts a run, and gives the token of its link.
func (r *rig) linked(name string) (rehearsing.Run, string) {
	r.t.Helper()
	run, link, err := r.Rehearsals.Begin(ctx, tester, name, false)
	require.NoError(r.t, err)
	return run, strings.TrimPrefix(link, "https://gate.example/rehearsal/")
}

// marked opens a run in a browser of its own.
func (r *rig) marked(name string) (rehearsing.Run, driving.Browser) {
	r.t.Helper()
	_, token := r.linked(name)
	run, mark, _, err := r.Rehearsals.Press(ctx, token, "192.0.2.1")
	require.NoError(r.t, err)
	return run, driving.Browser{Rehearsal: mark}
}

// came is a run as it is now.
func (r *rig) came(id int64) rehearsing.Run {
	r.t.Helper()
	run, err := r.Rehearsals.Get(ctx, id)
	require.NoError(r.t, err)
	return run
}

// A draft and a paused connection are rehearsed from the gate and from the application; the verdict says what differs,
// and passes after the remedy. Everybody else meets the phase.
func TestARunOfARehearsal(t *testing.T) {
	r := newRig(t)
	r.laid("rehearsal", "ada", federation.Settings{"title": "Ada", "application": "roster",
		"expect": []any{"entered", "name is ada@wrenmoor.example", "attribute groups has drivers"}})
	for _, phase := range []string{"draft", "paused", "live"} {
		require.NoError(t, r.sets("provider", "staff", federation.Settings{"phase": phase}))
		require.NoError(t, r.sets("application", "roster", federation.Settings{"phase": phase}))
		for start, begins := range map[string]func(b driving.Browser) driving.Outcome{
			"gate": func(b driving.Browser) driving.Outcome {
				return r.Crossings.Open(ctx, b,
					driving.Start{App: "roster"})
			},
			"application": func(b driving.Browser) driving.Outcome { return r.request(b, nil) },
		} {
			run, b := r.marked("ada")
			o := begins(b)
			require.Equal(t, "roster", o.Rehearsal, "%s %s: every page says so", phase, start)
			b = keep(b, o)
			require.Equal(t, rehearsal.AtProvider, r.came(run.ID).Seen.Stage, "%s %s %+v", phase, start, o)
			done := r.answer(b, r.asked(o).ID, func(a *saml.Answer) {
				a.Attributes = []saml.Attribute{{Name: "groups", Values: saml.Texts("guards")}}
			})
			require.NotNil(t, done.Departure, "%+v", done.Finding)
			v := r.came(run.ID).Verdict
			require.Equal(t, rehearsal.Failed, v.State)
			require.Equal(t, "guards", v.Lines[2].Came)
			again := begins(b)
			if start == "gate" && again.Departure.Message == "Response" { // in by its own session
				_, err := r.Rehearsals.End(ctx, run.ID)
				require.NoError(t, err)
				continue
			}
			_, err := r.Rehearsals.End(ctx, run.ID)
			require.NoError(t, err)
		}
		run, b := r.marked("ada")
		o := r.request(b, nil)
		b = keep(b, o)
		r.answer(b, r.asked(o).ID, func(a *saml.Answer) {
			a.Attributes = []saml.Attribute{{Name: "groups", Values: saml.Texts("drivers")}}
		})
		require.Equal(t, rehearsal.Passed, r.came(run.ID).Verdict.State, "%+v", r.came(run.ID).Verdict)
		if real := r.request(driving.Browser{}, nil); phase == "live" {
			r.asked(real)
		} else {
			require.Equal(t, finding.ApplicationDisabled, real.Finding.Code)
		}
	}
	heads, counts, err := r.Traces.List(ctx, store.TraceFilter{Limit: 100})
	require.NoError(t, err)
	require.Zero(t, counts[crossing.Entered], "no figure counts a rehearsal: %+v", heads)
	_, counts, err = r.Traces.List(ctx, store.TraceFilter{Limit: 100, Rehearsed: true})
	require.NoError(t, err)
	require.NotZero(t, counts[crossing.Entered])
	stats, err := r.st.Stats(ctx, r.clock.get())
	require.NoError(t, err)
	require.Zero(t, stats.Sessions)
	require.Zero(t, stats.Persons, "whoever was made by a rehearsal is no person that counts")
}

// A link works once; what is looked at, guessed, or of a run that has ended opens nothing.
func TestLinksOfRehearsals(t *testing.T) {
	r := newRig(t)
	r.laid("rehearsal", "ada", federation.Settings{"title": "Ada", "application": "roster"})
	run, token := r.linked("ada")
	for range 3 {
		_, err := r.Rehearsals.Linked(token, "192.0.2.1")
		require.NoError(t, err, "looking uses nothing up")
	}
	results := make(chan error, 8)
	for range 8 {
		go func() {
			_, _, _, err := r.Rehearsals.Press(ctx, token, "192.0.2.1")
			results <- err
		}()
	}
	opened := 0
	for range 8 {
		if err := <-results; err == nil {
			opened++
		} else {
			require.True(t, finding.Is(err, finding.RehearsalLink), "%v", err)
		}
	}
	require.Equal(t, 1, opened)
	_, err := r.Rehearsals.Linked(token, "192.0.2.1")
	require.True(t, finding.Is(err, finding.RehearsalLink))
	_, second := r.linked("ada")
	for i := 0; ; i++ {
		require.Less(t, i, 100, "guesses are bounded")
		if _, err := r.Rehearsals.Linked("guess", "192.0.2.7"); finding.Is(err, finding.TooManyStarts) {
			break
		}
	}
	_, err = r.Rehearsals.Linked(second, "192.0.2.7")
	require.NoError(t, err, "nobody is locked out of one that is right")
	r.clock.set(r.clock.get().Add(rehearsing.LinkLife))
	_, _, _, err = r.Rehearsals.Press(ctx, second, "192.0.2.1")
	require.True(t, finding.Is(err, finding.RehearsalLink), "after its end")
	r.clock.set(r.clock.get().Add(rehearsing.RunLife))
	require.NoError(t, r.Rehearsals.Sweep(ctx))
	ended := r.came(run.ID)
	require.Equal(t, rehearsal.Stopped, ended.Verdict.State)
	require.Contains(t, ended.Halted, "did not go on")
	_, _, err = r.Rehearsals.Begin(ctx, tester, "adda", false)
	require.ErrorContains(t, err, `did you mean "ada"`)
}

// Nothing that a rehearsal leaves behind enters for real: no session, code, token or mark; and the end of the run ends
// all of it. A restart ends nothing.
func TestRehearsalsLeaveNothing(t *testing.T) {
	r := newRig(t)
	secret := r.client("planner", nil, nil).Shown
	require.NoError(t, r.sets("application", "planner", federation.Settings{"phase": "draft"}))
	r.laid("rehearsal", "plan", federation.Settings{"title": "Plan", "application": "planner", "start": "application"})
	real := r.enter(nil) // somebody is in for real, elsewhere
	run, b := r.marked("plan")
	b.Session, b.Crossings = real.Session, maps.Clone(real.Crossings)
	r.asked(r.authorize(b)) // the real session does not let in
	code, b := r.code(b, nil, "scope", "openid profile offline_access", "prompt", "consent")
	require.Equal(t, real.Session, b.Session, "the cookie of the real session stays as it is")
	got, err := r.Redeeming.Token(ctx, caller(redemption(code), "planner", secret))
	require.NoError(t, err)
	require.Equal(t, rehearsal.Redeemed, r.came(run.ID).Seen.Delivered)
	r.restart()
	got, err = r.Redeeming.Token(ctx, caller(refreshing(got.RefreshToken), "planner", secret))
	require.NoError(t, err, "it goes on after a restart")
	_, err = r.Redeeming.UserInfo(ctx, caller(nil), got.AccessToken)
	require.NoError(t, err)

	// The run's session is of no use to a browser without its mark, nor at another application.
	stolen := b
	stolen.Crossings = maps.Clone(b.Crossings)
	for id := range real.Crossings { // by which the real session is found, too
		delete(stolen.Crossings, id)
	}
	stolen.Rehearsal, stolen.Session = "", ""
	require.NotNil(t, r.authorize(stolen).Finding, "a draft")
	r.asked(r.request(stolen, nil))
	marked := stolen
	marked.Rehearsal = b.Rehearsal
	r.asked(r.request(marked, nil))
	require.Equal(t, "Response", r.request(b, nil).Departure.Message, "whoever is in for real is still in")

	var made []store.MadeRow
	made, err = r.Rehearsals.Made(ctx)
	require.NoError(t, err)
	require.Empty(t, made, "somebody on record was made by no rehearsal")

	_, err = r.Rehearsals.End(ctx, run.ID)
	require.NoError(t, err)
	_, err = r.Redeeming.Token(ctx, caller(refreshing(got.RefreshToken), "planner", secret))
	refusedBy(t, err, oidc.InvalidGrant, finding.GrantEnded)
	_, err = r.Redeeming.UserInfo(ctx, caller(nil), got.AccessToken)
	require.Error(t, err)
	require.NotNil(t, r.authorize(b).Finding, "the mark is worth nothing any more")
	require.Zero(t, r.count(&store.SessionRow{})-1, "only the real session is left")
}

// Whoever comes first in a rehearsal is marked until they come for real; another browser does not go on with it.
func TestWhoRehearsalsMake(t *testing.T) {
	r := newRig(t)
	r.laid("rehearsal", "ada", federation.Settings{"title": "Ada", "application": "roster"})
	run, b := r.marked("ada")
	o := r.request(b, nil)
	other := keep(driving.Browser{}, o)
	require.Equal(t, finding.RehearsalOver, r.answer(other, r.asked(o).ID, nil).Finding.Code)
	o = r.request(b, nil)
	r.answer(keep(b, o), r.asked(o).ID, nil)
	require.True(t, r.came(run.ID).Seen.Made)
	made, err := r.Rehearsals.Made(ctx)
	require.NoError(t, err)
	require.Len(t, made, 1)
	require.Equal(t, run.ID, made[0].Run)
	require.NoError(t, r.sets("application", "roster", federation.Settings{"phase": "draft"}))
	opened, _ := r.Rehearsals.Opened(r.Snapshot()).Application("roster")
	require.True(t, opened.Phase.Passes(), "what was made for it is fetched by artifact, too")
	require.NoError(t, r.sets("application", "roster", federation.Settings{"phase": "live"}))
	r.enter(nil)
	made, err = r.Rehearsals.Made(ctx)
	require.NoError(t, err)
	require.Empty(t, made, "they have come for real")
	require.EqualValues(t, 1, r.count(&store.PersonRow{}), "as the same person")

	never := func() bool {
		found, err := r.Rehearsals.Never(ctx, r.Snapshot())
		require.NoError(t, err)
		app, _ := r.Snapshot().Application("roster")
		f := found[app.ID]
		return f != nil && f.Code == finding.RehearsalNever
	}
	require.True(t, never(), "the run has not ended yet")
	said, err := r.Rehearsals.Say(ctx, tester, run.ID, rehearsal.Word{Symptom: rehearsal.ErrorText, Text: "no such user"})
	require.NoError(t, err)
	require.Equal(t, rehearsal.Failed, said.Verdict.State)
	require.Contains(t, said.Verdict.Causes[0].Text, "no account by the name ada@wrenmoor.example")
	_, err = r.Rehearsals.Say(ctx, tester, run.ID, rehearsal.Word{Symptom: "sad"})
	require.ErrorContains(t, err, "let-in")

	// What it was proved with is known, and that something was changed since.
	_, err = r.Rehearsals.End(ctx, run.ID)
	require.NoError(t, err)
	proof := func() rehearsing.Proof {
		all, err := r.Rehearsals.Proofs(ctx)
		require.NoError(t, err)
		require.Len(t, all["roster"], 1)
		return all["roster"][0]
	}
	require.Equal(t, rehearsal.Failed, proof().State)
	require.True(t, never())
	run, b = r.marked("ada")
	o = r.request(b, nil)
	r.answer(keep(b, o), r.asked(o).ID, nil)
	_, err = r.Rehearsals.End(ctx, run.ID)
	require.NoError(t, err)
	require.False(t, never(), "it was proved")
	run, _ = r.marked("ada")
	_, err = r.Rehearsals.End(ctx, run.ID)
	require.NoError(t, err)
	require.Equal(t, rehearsal.Stopped, proof().State)
	require.False(t, never(), "it was, whatever the newest run came to")
	_, err = r.Rehearsals.Say(ctx, tester, run.ID, rehearsal.Word{Symptom: rehearsal.LetIn})
	require.ErrorContains(t, err, "nothing was delivered")
	run, b = r.marked("ada")
	o = r.request(b, nil)
	r.answer(keep(b, o), r.asked(o).ID, nil)
	_, err = r.Rehearsals.End(ctx, run.ID)
	require.NoError(t, err)
	require.Equal(t, rehearsal.Passed, proof().State)
	require.False(t, proof().Before)
	require.NoError(t, r.sets("application", "roster", federation.Settings{"phase": "paused"}))
	require.False(t, proof().Before, "a phase changes nothing of it")
	require.NoError(t, r.sets("application", "roster", federation.Settings{"sign": "both"}))
	require.True(t, proof().Before)
	open, err := r.Phases.Of(ctx, "application", "roster")
	require.NoError(t, err)
	require.Contains(t, open.InTheWay, phases.Obstacle{Severity: finding.Warning,
		What: "rehearsal ada passed before the last change; run it again"})
	r.clock.set(r.clock.get().Add(time.Hour))
}

// A run that is ended while its sign-in arrives leaves no session, whichever comes first, and stays ended. Who is
// removed is no account that a rehearsal made.
func TestRunsEndInTheMiddle(t *testing.T) {
	r := newRig(t)
	r.laid("rehearsal", "ada", federation.Settings{"title": "Ada", "application": "roster"})
	for i := range 25 {
		run, b := r.marked("ada")
		o := r.request(b, nil)
		var both sync.WaitGroup
		both.Go(func() { r.answer(keep(b, o), r.asked(o).ID, nil) })
		both.Go(func() {
			time.Sleep(time.Duration(i) * 300 * time.Microsecond) // sooner and later in the sign-in
			_, err := r.Rehearsals.End(ctx, run.ID)
			require.NoError(t, err)
		})
		both.Wait()
		require.Zero(t, r.count(&store.SessionRow{}), "no session outlives its run")
		require.False(t, r.came(run.ID).Ended.IsZero())
	}
	open, err := r.store.OpenRuns(ctx)
	require.NoError(t, err)
	require.Empty(t, open, "on the disk as well")
	_, b := r.marked("ada")
	o := r.request(b, nil)
	r.answer(keep(b, o), r.asked(o).ID, nil)
	made, err := r.Rehearsals.Made(ctx)
	require.NoError(t, err)
	require.Len(t, made, 1)
	require.NoError(t, r.People.Remove(ctx, tester, made[0].Person))
	made, err = r.Rehearsals.Made(ctx)
	require.NoError(t, err)
	require.Empty(t, made)
}
