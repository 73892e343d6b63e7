package traces

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/trace"
	"innergate.example/innergate/internal/gate/change"
)

// Of what a change does to people, so much is looked at before it is saved.
const (
	mostLooked   = 2000
	lookedWithin = 5 * time.Second
	mostExamples = 3
	mostAffected = 20
)

// Consequence tells what a change does to the people who signed in lately, by running their
// recorded sign-ins through it.
func (rm *Room) Consequence(ctx context.Context, before, after *federation.Snapshot) (out change.Consequence,
	err error) {
	deciding := crossing.Deciding(before, after)
	if len(deciding) == 0 {
		return out, nil
	}
	which := Which{Most: mostLooked, Within: lookedWithin}
	if len(deciding) == 1 {
		switch r := deciding[0]; r.Kind() {
		case federation.KindProvider:
			which.Provider = string(r.Basic().Name)
		default:
			which.Application = string(r.Basic().Name)
		}
	}
	got, err := rm.Reevaluate(ctx, before, after, which, func(int64) {})
	if err != nil {
		return out, err
	}
	out = change.Consequence{Looked: got.Looked - got.Apart, Seen: got.Seen, Shut: got.Shut, Renamed: got.Renamed,
		Held: got.Held,
		Told: got.Told, Let: got.Let, Untold: got.Untold, Stopped: got.Stopped}
	if at := slices.IndexFunc(got.Listed, func(l Listed) bool { return l.Verdict == trace.Untold }); at >= 0 {
		out.Cause = got.Listed[at].Cause
	}
	names, err := rm.namesOf(ctx, got.Others[:min(len(got.Others), mostAffected)])
	if err != nil {
		return out, err
	}
	for i, name := range names {
		l := got.Others[i]
		out.People = append(out.People, change.Affected{Person: l.Compared.Account, Name: name, Application: l.Application,
			Trace: l.ID,
			What:  became(l), Differences: l.Differences})
	}
	moved, err := rm.moves(ctx, before, after)
	if err != nil {
		return out, err
	}
	moved.into(&out, got)
	// What is meant to close or to move acts at once; what else is lost is confirmed.
	if meant := crossing.Reopened(before, after); meant != after {
		if got, err = rm.Reevaluate(ctx, before, meant, which, func(int64) {}); err != nil {
			return out, err
		}
		if moved, err = rm.moves(ctx, before, meant); err != nil {
			return out, err
		}
	}
	return out, rm.losses(ctx, before, after, losing{got, moved}, &out)
}

// became is what would become of somebody, in a word.
func became(l Listed) string {
	return []string{change.BecomesLet, change.BecomesTold, change.BecomesHeld, change.BecomesRenamed,
		change.BecomesShut}[l.weight()+1]
}

// losing is who would lose something: those whose recorded sign-ins were run again, and those whose entry was
// foreseen.
type losing struct {
	Evaluated
	moved moves
}

// losses finds what has to be confirmed.
func (rm *Room) losses(ctx context.Context, before, after *federation.Snapshot, got losing,
	out *change.Consequence) error {
	more := got.moved.beside(got.Evaluated)
	lost := crossing.Losses{Shut: got.Shut, Renamed: got.Renamed, Seen: got.Seen, Known: got.moved.known}
	worst := got.Others[:min(len(got.Others), got.Shut+got.Renamed)]
	names, err := rm.namesOf(ctx, worst[:min(len(worst), mostExamples)])
	if err != nil {
		return err
	}
	for i, name := range names {
		lost.Examples = append(lost.Examples, worst[i].Loss(name))
	}
	for _, l := range worst {
		if !slices.Contains(lost.Apps, l.Application) && len(lost.Apps) < mostExamples {
			lost.Apps = append(lost.Apps, l.Application)
		}
	}
	for _, m := range more {
		if !m.loses {
			continue
		}
		lost.Shut++
		lost.Lose(fmt.Sprintf("%s at %s: %s", m.name, m.app, m.cause), m.app)
	}
	got.moved.drop(&lost)
	if lost.Unmet, err = rm.unmet(ctx, before, after); err != nil {
		return err
	}
	f := lost.Finding()
	if f == nil {
		return nil
	}
	for _, name := range lost.Apps {
		a, ok := after.Application(federation.Name(name))
		if n := int64(0); ok && lost.Renamed > 0 {
			if n = rm.store.CountSubjects(ctx, string(a.ID)); n > 0 {
				f = f.With(finding.Passing("Lasting names it was told, or that were imported", fmt.Sprint(n)))
			}
		}
	}
	out.Finding, out.Digest = f, digest(before, after, f.Code, got.moved)
	return nil
}

// digest is short for what decides differently after a change, and what it does to people.
func digest(before, after *federation.Snapshot, code finding.Code, moved moves) string {
	h := sha256.New()
	fmt.Fprintln(h, code)
	for _, r := range crossing.Deciding(before, after) {
		settings, _ := json.Marshal(federation.SettingsOf(federation.Flat(r))) // texts, truth values and rules
		fmt.Fprintln(h, r.Ref().String(), string(settings))
	}
	for _, m := range moved.all {
		if m.loses {
			fmt.Fprintln(h, m.person, m.app)
		}
	}
	for _, m := range moved.dropping() {
		fmt.Fprintln(h, m.person, m.app, m.drops)
	}
	return hex.EncodeToString(h.Sum(nil)[:8])
}

// unmet are the mandatory rules that a change brings and that no profile meets which is known
// to come: by them everybody would be refused.
func (rm *Room) unmet(ctx context.Context, before, after *federation.Snapshot) (out []string, err error) {
	look := func(snap *federation.Snapshot) (*checks.Checker, error) {
		c := checks.New(snap, rm.now())
		if c.Arrived, err = rm.arrivals.All(ctx); err != nil {
			return nil, err
		}
		c.Kept.Attributes, err = rm.store.People(ctx).KeptAttributes()
		return c, err
	}
	old, err := look(before)
	if err != nil {
		return nil, err
	}
	now, err := look(after)
	if err != nil {
		return nil, err
	}
	for _, r := range crossing.Deciding(before, after) {
		a, is := r.(*federation.Application)
		was, there := before.Application(r.Basic().Name)
		if _, still := after.Application(r.Basic().Name); !is || !there || !still {
			continue
		}
		known := old.Unmet(was)
		for _, rule := range now.Unmet(a) {
			if !slices.Contains(known, rule) {
				out = append(out, string(a.Name)+": "+rule)
			}
		}
	}
	return out, nil
}

// namesOf are what people read of those who signed in.
func (rm *Room) namesOf(ctx context.Context, all []Listed) ([]string, error) {
	ids := make([]int64, len(all))
	for i, l := range all {
		ids[i] = l.Compared.Account
	}
	names, err := rm.store.People(ctx).Names(ids)
	out := make([]string, len(all))
	for i, l := range all {
		if out[i] = names[l.Compared.Account]; out[i] == "" {
			out[i] = l.Person
		}
	}
	return out, err
}
