package gate

import (
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/records"
)

// sets changes settings of a record, and confirms what needs to be.
func (r *rig) sets(kind, name string, s federation.Settings) error {
	by := tester
	_, err := r.Records.Configure(ctx, by, kind, name, 0, s)
	if err != nil && toConfirm(err) != "" {
		by.Confirms = toConfirm(err)
		_, err = r.Records.Configure(ctx, by, kind, name, 0, s)
	}
	return err
}

// atOnce has several do the same at the same time.
func atOnce(n int, do func()) {
	var all sync.WaitGroup
	for range n {
		all.Go(do)
	}
	all.Wait()
}

// A change that waits is mailed to each once: also by several at once, after a failure and over a restart; anew if it
// is moved; not once it has come, or was withdrawn.
func TestChangesThatWaitAreAnnouncedOnce(t *testing.T) {
	r := newRig(t)
	fault, _ := r.mailbox()
	at := func(d time.Duration) string { return r.clock.get().Add(d).Format(time.RFC3339) }
	require.NoError(t, r.sets(change.KindProvider, "staff",
		federation.Settings{"owner": "Edda Lunn <edda.lunn@wrenmoor.example>, https://wiki.example",
			"contact": "petra.quill@oakhollow.example", "nextAt": at(time.Hour), "nextPhase": "pilot", "nextCohort": "share:10",
			"nextContact": true}))
	fault("refuse")
	require.Error(t, r.Phases.Announce(ctx))
	require.Empty(t, r.letters())
	fault("")
	atOnce(4, func() { require.NoError(t, r.Phases.Announce(ctx)) })
	require.Len(t, r.letters(), 2)
	for _, l := range r.letters() {
		ours := strings.Contains(l.To, "edda")
		require.Equal(t, ours, strings.Contains(l.Text, "share:10"), "whom it includes is not for the other side: %s",
			l.Text)
		require.Equal(t, ours, strings.Contains(l.Text, "/console/connect/providers/staff"))
	}
	got, err := r.Phases.Of(ctx, change.KindProvider, "staff")
	require.NoError(t, err)
	require.Equal(t, []string{"edda.lunn@wrenmoor.example", "petra.quill@oakhollow.example"}, got.Told)
	r.restart()
	require.NoError(t, r.Phases.Announce(ctx))
	require.Len(t, r.letters(), 2)
	require.NoError(t, r.sets(change.KindProvider, "staff", federation.Settings{"nextAt": at(2 * time.Hour)}))
	require.NoError(t, r.Phases.Announce(ctx))
	require.Len(t, r.letters(), 4, "moved")
	require.NoError(t, r.sets(change.KindProvider, "staff", federation.Settings{"nextAt": at(3 * time.Hour)}))
	require.NoError(t, r.sets(change.KindProvider, "staff", federation.Settings{"nextAt": ""}))
	require.NoError(t, r.Phases.Announce(ctx))
	require.NoError(t, r.sets(change.KindApplication, "roster", federation.Settings{"owner": "edda.lunn@wrenmoor.example",
		"nextAt": at(time.Minute), "nextPhase": "paused"}))
	r.clock.set(r.clock.get().Add(2 * time.Minute))
	require.NoError(t, r.Phases.Announce(ctx))
	require.Len(t, r.letters(), 4, "withdrawn, and come already")
}

// A change at a moment acts from then on whatever happens to the gate, is written once, and stays when the clock
// jumps; two who go back at once go back once.
func TestAChangeComesOnceWhateverTheClockDoes(t *testing.T) {
	r := newRig(t)
	start := r.clock.get()
	phase := func() federation.Phase {
		a, err := r.Records.Application("roster")
		require.NoError(t, err)
		p, _ := a.PhaseAt(r.clock.get())
		return p
	}
	bySchedule := func() (n int) {
		entries, _, err := r.Records.History(ctx, records.HistoryFilter{Kind: change.KindApplication, Name: "roster",
			Limit: 100})
		require.NoError(t, err)
		for _, e := range entries {
			if e.Who == "schedule" {
				n++
			}
		}
		return n
	}
	set := func(s federation.Settings) {
		t.Helper()
		require.NoError(t, r.sets(change.KindApplication, "roster", s))
	}
	set(federation.Settings{"nextAt": start.Add(time.Hour).Format(time.RFC3339), "nextPhase": "paused"})
	r.clock.set(start.Add(time.Hour - time.Second))
	require.Equal(t, federation.Live, phase())
	r.clock.set(start.Add(time.Hour + time.Second))
	require.Equal(t, federation.Paused, phase(), "before it is written")
	r.restart()
	require.Equal(t, federation.Paused, phase(), "whatever became of the gate at the moment")
	atOnce(4, func() { require.NoError(t, r.Records.ChangeDue(ctx)) })
	require.Equal(t, 1, bySchedule())
	for _, jump := range []time.Duration{-24 * time.Hour, 24 * time.Hour} {
		r.clock.set(start.Add(jump))
		require.NoError(t, r.Records.ChangeDue(ctx))
		require.Equal(t, federation.Paused, phase(), "written, it stays: %s", jump)
	}
	require.Equal(t, 1, bySchedule())

	back := federation.Settings{"phase": records.PhaseBefore}
	for _, c := range []struct{ from, to string }{{"pilot", "live"}, {"live", "paused"}, {"paused", "live"}} {
		r.clock.set(r.clock.get().Add(time.Hour))
		set(federation.Settings{"phase": c.from, "cohort": "share:10"})
		set(federation.Settings{"phase": c.to, "cohort": ""})
		atOnce(2, func() { require.NoError(t, r.sets(change.KindApplication, "roster", back)) })
		require.Equal(t, c.from, string(phase()), "two go back at once from %s", c.to)
	}
	r.clock.set(r.clock.get().Add(time.Hour))
	set(back)
	require.Equal(t, federation.Live, phase(), "a closed record goes on to what it was before")
}
