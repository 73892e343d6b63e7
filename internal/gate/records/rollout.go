package records

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/store"
)

// PhaseBefore stands, in a change, for the phase and the cohort that a record had before their last change.
const PhaseBefore = "before"

// backTwice is within what time a second step back is taken for the first one, sent twice.
const backTwice = time.Minute

// back puts what a record had before in place of PhaseBefore. A record that never changed goes live. What just went
// back stays as it is: whoever asks for it at the same time wants the same.
func back(old federation.Record, s federation.Settings, now time.Time) (out federation.Settings, stepped bool) {
	if s["phase"] != PhaseBefore {
		return s, false
	}
	out = maps.Clone(s)
	b := old.Basic()
	switch {
	case b.Before.Back && (b.Phase.Passes() || now.Sub(b.Before.Since) < backTwice):
		delete(out, "phase")
	case b.Before.Phase == "":
		out["phase"] = string(federation.Live)
	default:
		out["phase"], out["cohort"] = string(b.Before.Phase), strings.Join(b.Before.Cohort, " ")
	}
	return out, true
}

// completed opens a draft that lacked values once it has them: into the phase in which a complete new record begins.
func completed(snap *federation.Snapshot, old, r federation.Record) {
	was, is := old.Basic(), r.Basic()
	if was.Phase != federation.Draft || is.Phase != federation.Draft || !was.Before.Since.IsZero() ||
		len(old.Part().Missing()) == 0 || len(r.Part().Missing()) > 0 {
		return
	}
	phase, _ := snap.NewRecord(r.Kind())
	is.Phase = cmp.Or(phase, federation.Live)
}

// retires sees that nothing names a record that is to be retired, now or at a moment. The rules and roles of an
// application itself stay with it.
func retires(snap *federation.Snapshot, old, r federation.Record) error {
	was, is := old.Basic(), r.Basic()
	if (is.Phase != federation.Retired || was.Phase == federation.Retired) &&
		(is.NextPhase != federation.Retired || was.NextPhase == federation.Retired) {
		return nil
	}
	gone := map[federation.Ref]bool{r.Ref(): true}
	for _, o := range withRules(snap, []federation.Object{old}) {
		gone[o.Ref()] = true
	}
	return nobodyNames(snap, gone)
}

// rolled keeps what the phase and the cohort of a record were, where a change makes them other. A change that waits
// has to be withdrawn or moved first, in the same call or before.
func (rm *Room) rolled(old, r federation.Record, s federation.Settings, stepped bool) error {
	was, is, now := old.Basic(), r.Basic(), rm.now()
	moved := was.Phase != is.Phase || !slices.Equal(was.Cohort, is.Cohort)
	_, said := s["nextAt"]
	if pending := was.Pending(); moved && !said && now.Before(pending) {
		return change.Field("phase",
			fmt.Errorf("a change to %s waits for %s; say what becomes of it: nextAt= withdraws it, nextAt=%q keeps it",
				was.NextPhase, was.NextAt, was.NextAt))
	}
	if at := is.Pending(); is.NextAt != was.NextAt && is.NextAt != "" && !at.IsZero() && !at.After(now) {
		return change.Field("nextAt", fmt.Errorf("%s has passed; give a moment to come", is.NextAt))
	}
	if is.NextAt == "" {
		is.NextPhase, is.NextCohort, is.NextContact = "", nil, false
	}
	if moved && (was.Phase != is.Phase || is.Phase.Passes()) { // whom a closed record would include is no step back
		is.Before = federation.Before{Phase: was.Phase, Cohort: was.Cohort, Since: now.UTC(), Back: stepped}
	}
	return nil
}

// arrived is the configuration once those changes have come that a change has wait: phases and cohorts are as they
// will be written.
func arrived(before, after *federation.Snapshot) *federation.Snapshot {
	var come []federation.Object
	for _, r := range crossing.Deciding(before, after) {
		now, there := after.Record(r.Kind(), r.Basic().Name)
		old, was := before.Record(r.Kind(), r.Basic().Name)
		if !there || !was || now.Basic().NextAt == "" || now.Basic().NextAt == old.Basic().NextAt &&
			now.Basic().NextPhase == old.Basic().NextPhase && slices.Equal(now.Basic().NextCohort, old.Basic().NextCohort) {
			continue
		}
		c := now.Copy()
		b := c.Basic()
		b.Rollout = federation.Rollout{Phase: b.NextPhase, Cohort: b.NextCohort}
		come = append(come, c)
	}
	if len(come) == 0 {
		return after
	}
	return after.With(come...)
}

// piloted sees that the people whom a cohort names are known.
func (rm *Room) piloted(r federation.Record) error {
	_, _, people := r.Basic().CohortNames()
	if len(people) == 0 {
		return nil
	}
	var there []int64
	if err := rm.store.Read.Model(&store.PersonRow{}).Where("id IN ?", people).Pluck("id", &there).Error; err != nil {
		return err
	}
	for _, n := range people {
		if !slices.Contains(there, n) {
			return change.Field("cohort", fmt.Errorf("there is no person %d", n))
		}
	}
	return nil
}

// ChangeDue writes changes of phases and cohorts whose moment has come into their records, and into the history. They
// act from that moment on in any case; once written they stay, whatever clocks do.
func (rm *Room) ChangeDue(ctx context.Context) error {
	var failed error
	for _, r := range rm.Snapshot().Records() {
		if at := r.Basic().Pending(); at.IsZero() || rm.now().Before(at) {
			continue
		}
		failed = errors.Join(failed, rm.write(ctx, r))
	}
	return failed
}

func (rm *Room) write(ctx context.Context, due federation.Record) error {
	by := change.By{Who: "schedule", Why: "as set for " + due.Basic().NextAt, Approves: true, Meant: true}
	return rm.Change(ctx, by, func(now *federation.Snapshot) (p Plan, err error) {
		r, there := now.Record(due.Kind(), due.Basic().Name)
		if !there || r.Basic().ID != due.Basic().ID {
			return p, nil
		}
		b := r.Basic()
		if at := b.Pending(); at.IsZero() || rm.now().Before(at) {
			return p, nil // it was moved, or is written already
		}
		next, err := rm.changed(now, r, federation.Settings{"phase": string(b.NextPhase),
			"cohort": strings.Join(b.NextCohort, " "), "nextAt": "",
			"nextPhase": "", "nextCohort": "", "nextContact": false})
		if err == nil {
			next.Basic().Before.Since = b.Pending().UTC()
			p.Put = []Put{{Object: next, What: "changed"}}
		}
		return p, err
	})
}
