package unattended

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/jobs"
	"innergate.example/innergate/internal/gate/rehearsing"
)

// Bounds of what runs by itself.
const (
	atOnce    = 4 // runs under way
	mostQueue = 1000
	// settles is how long the configuration has to be left alone before what hangs on it is rehearsed, and patience
	// how long that waits at most.
	settles  = 5 * time.Second
	patience = time.Minute
)

// Who runs are noted of that nobody started.
const (
	bySchedule = "the schedule"
	byChange   = "a change"
)

// job is a run that waits for its turn, or is under way.
type job struct {
	plan    *federation.RehearsalPlan
	account string // provider and user name: one run at a time signs in with it
	by      change.By
	run     int64 // 0 until it begins
	link    string
}

// Start starts a run that the gate goes through by itself, as soon as its test account is free.
func (rm *Room) Start(ctx context.Context, by change.By, name string) (rehearsing.Run, error) {
	plan, _, err := rm.Rehearsals.Plan(name)
	if err != nil {
		return rehearsing.Run{}, err
	}
	j, err := rm.job(ctx, by, plan)
	if err != nil {
		return rehearsing.Run{}, err
	}
	run, link, err := rm.Rehearsals.Begin(ctx, by, name, true)
	if err != nil {
		return run, err
	}
	j.run, j.link = run.ID, link
	rm.mu.Lock()
	rm.queue = append(rm.queue, j)
	rm.mu.Unlock()
	rm.pump()
	return run, nil
}

// job is a run of a rehearsal, if its account can be used now. The error is a finding if it cannot.
func (rm *Room) job(ctx context.Context, by change.By, plan *federation.RehearsalPlan) (*job, error) {
	_, p, err := rm.usable(ctx, rm.Records.Snapshot(), plan)
	if err != nil {
		return nil, err
	}
	return &job{plan: plan, account: string(p.ID) + "\x1f" + strings.ToLower(plan.Username), by: by}, nil
}

// pump has waiting runs begin whose account is free.
func (rm *Room) pump() {
	rm.mu.Lock()
	defer rm.mu.Unlock()
	for i := 0; i < len(rm.queue) && len(rm.under) < atOnce; {
		j := rm.queue[i]
		if rm.busy[j.account] {
			i++
			continue
		}
		rm.queue = slices.Delete(rm.queue, i, i+1)
		rm.busy[j.account] = true
		rm.under = append(rm.under, j)
		rm.Go(func() {
			defer rm.pump()
			defer rm.leaves(j)
			// What stands on pages is foreign: a mistake in reading it ends this run, and not the gate.
			if _, err := jobs.Whole(func() (any, error) { rm.works(j); return nil, nil }); err != nil {
				rm.Log.Error("a rehearsal failed by our own fault", "rehearsal", j.plan.Name, "error", err)
			}
		})
	}
}

func (rm *Room) leaves(j *job) {
	rm.mu.Lock()
	defer rm.mu.Unlock()
	rm.under = slices.DeleteFunc(rm.under, func(o *job) bool { return o == j })
	delete(rm.busy, j.account)
}

// works goes through one run.
func (rm *Room) works(j *job) {
	ctx := rm.Context
	if j.run == 0 {
		run, link, err := rm.Rehearsals.Begin(ctx, j.by, string(j.plan.Name), true)
		if err != nil {
			rm.Log.Warn("a rehearsal could not begin by itself", "rehearsal", j.plan.Name, "error", err)
			return
		}
		rm.mu.Lock()
		j.run, j.link = run.ID, link
		rm.mu.Unlock()
	}
	if _, err := rm.run(ctx, j); err != nil && ctx.Err() == nil {
		rm.Log.Error("a rehearsal that runs by itself failed", "rehearsal", j.plan.Name, "error", err)
	}
}

// Due starts what is due: by its schedule, or because something that it goes by was changed.
func (rm *Room) Due(ctx context.Context) error {
	snap, now := rm.Records.Snapshot(), rm.Now()
	if err := rm.looks(ctx, snap, now); err != nil {
		return err
	}
	rm.mu.Lock()
	plans := rm.plans
	rm.mu.Unlock()
	var all error
	for _, plan := range plans {
		who := rm.due(plan, now)
		if who == "" {
			continue
		}
		j, err := rm.job(ctx, change.By{Who: who}, plan)
		if finding.Of(err) != nil {
			continue // the list of rehearsals, and the checks, tell that it cannot run
		}
		if err != nil {
			all = errors.Join(all, err)
			continue
		}
		rm.mu.Lock()
		waits := slices.ContainsFunc(rm.queue, func(o *job) bool { return o.plan.Name == plan.Name })
		if !waits && len(rm.queue) < mostQueue {
			rm.queue = append(rm.queue, j)
		}
		rm.mu.Unlock()
	}
	rm.pump()
	return all
}

// looks notes which rehearsals go by something that is another now. The first time it ends the runs that went on when
// the gate was stopped: nobody goes on with them.
func (rm *Room) looks(ctx context.Context, snap *federation.Snapshot, now time.Time) error {
	rm.mu.Lock()
	first, same := rm.looked == nil, rm.looked == snap
	rm.mu.Unlock()
	if same {
		return nil
	}
	plans := slices.DeleteFunc(snap.AllRehearsals(), func(p *federation.RehearsalPlan) bool {
		return p.Every == 0 && !p.AfterChanges
	})
	before := map[federation.Name]bool{} // what ran, and before something was changed
	began := map[federation.Name]time.Time{}
	if first {
		left, err := rm.abandoned(ctx)
		if err != nil {
			return err
		}
		proofs, err := rm.Rehearsals.Proofs(ctx)
		if err != nil {
			return err
		}
		for _, of := range proofs {
			for _, p := range of {
				before[p.Rehearsal], began[p.Rehearsal] = p.Before && !p.At.IsZero() || left[p.Rehearsal], p.At
			}
		}
	}
	stands := map[federation.Name]string{}
	for _, plan := range plans {
		stands[plan.Name] = rehearsing.Standing(snap, plan)
	}
	rm.mu.Lock()
	defer rm.mu.Unlock()
	for _, plan := range plans {
		if first {
			rm.began[plan.Name] = began[plan.Name]
		}
		if plan.AfterChanges && (first && before[plan.Name] || !first && rm.stands[plan.Name] != stands[plan.Name]) &&
			rm.changed[plan.Name].IsZero() {
			rm.changed[plan.Name] = now
		}
	}
	rm.looked, rm.quiet, rm.stands, rm.plans = snap, now, stands, plans
	return nil
}

// abandoned ends the runs that nobody attends and nobody goes through any more, and says of which rehearsals they were.
func (rm *Room) abandoned(ctx context.Context) (of map[federation.Name]bool, all error) {
	rm.mu.Lock()
	mine := map[int64]bool{}
	for _, j := range append(slices.Clone(rm.queue), rm.under...) {
		mine[j.run] = true
	}
	rm.mu.Unlock()
	of = map[federation.Name]bool{}
	for _, id := range rm.Rehearsals.Alone() {
		if !mine[id] {
			run, err := rm.Rehearsals.End(ctx, id)
			of[run.Rehearsal], all = true, errors.Join(all, err)
		}
	}
	return of, all
}

// due says why a rehearsal is to run now, "" if it is not.
func (rm *Room) due(plan *federation.RehearsalPlan, now time.Time) string {
	rm.mu.Lock()
	defer rm.mu.Unlock()
	since := rm.changed[plan.Name]
	if rm.began[plan.Name].IsZero() {
		rm.began[plan.Name] = now // the first time is one time after it was saved
	}
	switch {
	case !since.IsZero() && (now.Sub(rm.quiet) >= settles || now.Sub(since) >= patience):
		delete(rm.changed, plan.Name)
		rm.began[plan.Name] = now
		return byChange
	case plan.Every > 0 && now.Sub(rm.began[plan.Name]) >= plan.Every:
		rm.began[plan.Name] = now
		return bySchedule
	}
	return ""
}

// Next is when a rehearsal runs by its schedule next; zero for never.
func (rm *Room) Next(plan *federation.RehearsalPlan) time.Time {
	rm.mu.Lock()
	defer rm.mu.Unlock()
	if plan.Every == 0 {
		return time.Time{}
	}
	if began := rm.began[plan.Name]; !began.IsZero() {
		return began.Add(plan.Every)
	}
	return rm.Now()
}
