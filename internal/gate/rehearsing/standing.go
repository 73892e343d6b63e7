package rehearsing

import (
	"context"
	"maps"
	"slices"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/rehearsal"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/store"
)

// Standing is a sum over what a rehearsal goes by: its own settings, the application and the provider as they say, and
// the rules of access and provider selection that may be about it, what these name, and the gate's own keys. Phases
// are none of it: a rehearsal passes over them.
func Standing(snap *federation.Snapshot, plan *federation.RehearsalPlan) string {
	parts := []any{plan.Revision}
	app, there := snap.Application(plan.App)
	if !there {
		return ""
	}
	add := func(r federation.Record) {
		b := r.Copy()
		b.Basic().Rollout = federation.Rollout{}
		parts = append(parts, b.Describe(), b.Part().Describe())
		for _, to := range r.Refers() { // sets, roles: what it goes by under another name
			if o, there := snap.Object(to.Ref); there && to.Kind != federation.KindProvider &&
				to.Kind != federation.KindApplication {
				parts = append(parts, to.Ref, o.At())
			}
		}
	}
	for _, purpose := range slices.Sorted(maps.Keys(snap.Gate.Keys)) {
		if now := snap.Gate.Keys[purpose].Current; now != nil {
			parts = append(parts, purpose, now.Certificate.DER)
		}
	}
	add(app)
	for _, n := range []federation.Name{plan.Provider, app.Provider} {
		if p, there := snap.Provider(n); there {
			add(p)
		}
	}
	parts = append(parts, snap.Book(plan.App).Mark)
	for _, w := range snap.Ways(plan.App).Rules {
		parts = append(parts, w.Name, w.Revision)
	}
	return change.Digest(parts...)
}

// Proof is how far a connection was proved by a rehearsal.
type Proof struct {
	Rehearsal federation.Name
	Title     string
	Start     string
	State     rehearsal.State // of the newest run, "" if there was none
	At        time.Time
	Run       int64
	Expect    []string
	Before    bool // something that it goes by has been changed since
	Said      *rehearsal.Word
}

// Proofs are those of all applications, by name, each rehearsal's newest run.
func (rm *Room) Proofs(ctx context.Context) (map[federation.Name][]Proof, error) {
	rows, err := rm.Store.LastRuns(ctx)
	if err != nil {
		return nil, err
	}
	snap := rm.Records.Snapshot()
	out := map[federation.Name][]Proof{}
	for _, plan := range snap.AllRehearsals() {
		p := Proof{Rehearsal: plan.Name, Title: plan.Title, Start: plan.Start}
		for _, e := range plan.Expect {
			p.Expect = append(p.Expect, e.String())
		}
		app, there := snap.Application(plan.App)
		if row, ran := rows[string(plan.Name)]; ran && there && row.Application == string(app.ID) {
			r, err := rm.read(row)
			if err != nil {
				return nil, err
			}
			p.State, p.At, p.Run, p.Said = r.Verdict.State, r.Ended, r.ID, r.Seen.Said
			p.Before = r.Stands != Standing(snap, plan)
		}
		out[plan.App] = append(out[plan.App], p)
	}
	return out, nil
}

// Open says what rehearsals leave open of an application: that it was never proved, that a rehearsal failed, or that
// something was changed since it passed. Nothing is said of one that nobody signs in to.
func (rm *Room) Open(ctx context.Context, name federation.Name) (out []string, err error) {
	app, there := rm.Records.Snapshot().Application(name)
	if !there || !app.Attended() {
		return nil, nil
	}
	all, err := rm.Proofs(ctx)
	if err != nil {
		return nil, err
	}
	proved := false
	for _, p := range all[name] {
		switch {
		case p.State == rehearsal.Passed && p.Before:
			out = append(out, "rehearsal "+string(p.Rehearsal)+" passed before the last change; run it again")
		case p.State == rehearsal.Passed:
			proved = true
		case p.State != "":
			out = append(out, "the newest run of rehearsal "+string(p.Rehearsal)+" "+string(p.State))
		}
	}
	if !proved && len(out) == 0 {
		out = append(out, "no rehearsal of it has passed")
	}
	return out, nil
}

// Never finds live applications that no rehearsal ever proved, by their IDs.
func (rm *Room) Never(ctx context.Context, snap *federation.Snapshot) (map[federation.ID]*finding.Finding, error) {
	proved, err := rm.Store.Proved(ctx)
	if err != nil {
		return nil, err
	}
	out := map[federation.ID]*finding.Finding{}
	for _, app := range snap.Applications() {
		if phase, _ := app.PhaseAt(rm.Now()); phase == federation.Live && app.Attended() && !proved[string(app.ID)] &&
			crossing.Of(app.Side).Plain == nil { // of a bookmark there is little to prove
			out[app.ID] = finding.New(finding.RehearsalNever, finding.Fact("Application", string(app.Name)))
		}
	}
	return out, nil
}

// mostPast is how many runs a chart shows.
const mostPast = 2000

// Past are runs that ended within a time, the newest first; of one rehearsal, or of all.
func (rm *Room) Past(ctx context.Context, name string, within time.Duration) ([]store.PastRun, error) {
	return rm.Store.PastRuns(ctx, name, rm.Now().Add(-within), mostPast)
}

// Last are the newest ended runs of the rehearsals on record, one each.
func (rm *Room) Last(ctx context.Context) (out []store.PastRun, err error) {
	rows, err := rm.Store.LastRuns(ctx)
	for _, plan := range rm.Records.Snapshot().AllRehearsals() {
		if r, ran := rows[string(plan.Name)]; ran && r.Ended != nil {
			out = append(out, store.PastRun{ID: r.ID, Rehearsal: r.Rehearsal, Ended: *r.Ended, State: r.State, Took: r.Took,
				Unattended: r.Unattended})
		}
	}
	return out, err
}
