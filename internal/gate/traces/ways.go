package traces

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/policy"
	"innergate.example/innergate/internal/gate/change"
)

// Way is by which providers somebody comes to an application, decided as for who is known.
func (r *Reach) Way(app *federation.Application, now time.Time) (policy.Choice, error) {
	a, err := r.Trial(app, nil).Coming()
	if err != nil {
		return policy.Choice{}, err
	}
	return policy.Select(r.snap, app, a, now)
}

// WayOf tells by which providers somebody who is known comes to an application: from a network, if one is asked about,
// and with hints of the application.
func (rm *Room) WayOf(ctx context.Context, snap *federation.Snapshot, app *federation.Application, person int64,
	asked policy.Asking) (policy.Choice, error) {
	some, err := rm.store.People(ctx).Many([]int64{person}, "", "")
	if err == nil && len(some) == 0 {
		err = &change.NotFoundError{Kind: "person", Name: numberOf(person)}
	}
	if err != nil {
		return policy.Choice{}, err
	}
	r := &Reach{snap: snap, who: some[0]}
	if r.words, err = rm.words(ctx, snap, person); err != nil {
		return policy.Choice{}, err
	}
	a, err := r.Trial(app, nil).Coming()
	if err != nil {
		return policy.Choice{}, err
	}
	a.Network, a.Hints = cmp.Or(asked.Network, a.Network), asked.Hints
	return policy.Select(snap, app, a, rm.now())
}

// WayAt tells by which providers a stranger comes, by the address that they type or the application hints.
func (rm *Room) WayAt(ctx context.Context, snap *federation.Snapshot, app *federation.Application,
	a policy.Asking) (c policy.Choice, err error) {
	found := map[string][]person.Person{}
	having := func(s person.Sought) ([]person.Person, bool) {
		people, looked := found[s.String()]
		return people, looked
	}
	who, missing := crossing.StandsFor(snap, app, a.Address, rm.now(), having)
	if missing != nil {
		if found[missing.String()], err = rm.store.People(ctx).Having(*missing, app.ID); err != nil {
			return c, err
		}
		who, _ = crossing.StandsFor(snap, app, a.Address, rm.now(), having)
	}
	a.Typed = who
	return policy.Select(snap, app, a, rm.now())
}

// rerouted are the applications at which a change may select other providers. Of those at which nothing but phases
// does, and for which the same rules choose, one stands for all.
func rerouted(before, after *federation.Snapshot) (out []federation.Name) {
	domains, phases := !before.SameDomains(after), rephased(before, after)
	type alike struct {
		provider federation.Name
		ways     string
	}
	seen := map[alike]bool{}
	for _, a := range after.Applications() {
		old, there := before.Application(a.Name)
		if !there || !a.Attended() {
			continue
		}
		ruled := a.Provider == "" && old.Provider == "" && (before.Ways(a.Name).Mark() != after.Ways(a.Name).Mark() ||
			domains && len(after.Ways(a.Name).Rules) > 0)
		same := alike{a.Provider, after.Ways(a.Name).Mark()}
		phased := a.Provider == old.Provider && (a.Provider == "" && len(phases) > 0 || phases[a.Provider]) && !seen[same]
		if ruled || phased {
			out, seen[same] = append(out, a.Name), phased
		}
	}
	return out
}

// rephased are the providers whose phase or cohort a change sets.
func rephased(before, after *federation.Snapshot) map[federation.Name]bool {
	out := map[federation.Name]bool{}
	for _, r := range crossing.Deciding(before, after) {
		old, there := before.Provider(r.Basic().Name)
		if now, still := after.Provider(r.Basic().Name); r.Kind() == federation.KindProvider && there && still &&
			(old.Phase != now.Phase || !slices.Equal(old.Cohort, now.Cohort)) {
			out[now.Name] = true
		}
	}
	return out
}

// Rerouted tells what a change does to the ways of people who are known: who keeps theirs, who gets another, who has
// none. Where somebody does not keep theirs it has to be confirmed, unless the change is meant to close or to move, as
// phases are.
func (rm *Room) Rerouted(ctx context.Context, before, after *federation.Snapshot) (change.Consequence, error) {
	out, err := rm.rerouting(ctx, before, after)
	meant := crossing.Reopened(before, after)
	if err != nil || out.Finding == nil || meant == after {
		return out, err
	}
	rest, err := rm.rerouting(ctx, before, meant)
	out.Finding, out.Digest = rest.Finding, rest.Digest
	return out, err
}

func (rm *Room) rerouting(ctx context.Context, before, after *federation.Snapshot) (out change.Consequence,
	err error) {
	apps := rerouted(before, after)
	if len(apps) == 0 {
		return out, nil
	}
	now := rm.now()
	end := now.Add(foreseenWithin)
	var mu sync.Mutex
	var lost []string
	err = rm.Each(ctx, before, mostLooked, func(r *Reach) bool {
		next := *r
		next.snap = after
		worst, where := change.Keeps, federation.Name("")
		for _, name := range apps {
			if got := r.reroutes(&next, name, now); got > worst {
				worst, where = got, name
			}
		}
		mu.Lock()
		defer mu.Unlock()
		out.Ways.Count(worst)
		if worst > change.Keeps {
			lost = append(lost, fmt.Sprintf("%d %s %d", r.who.ID, where, worst))
			if len(out.Ways.Examples) < mostAffected {
				who := person.NameOf(r.who.Person, r.who.Subject.Value)
				out.Ways.Examples = append(out.Ways.Examples,
					fmt.Sprintf("%s at %s: %s", who, where, []string{"", "another way", "no way"}[worst]))
			}
		}
		out.Stopped = out.Stopped || rm.now().After(end)
		return !out.Stopped
	})
	if err != nil || len(lost) == 0 {
		return out, err
	}
	slices.Sort(lost)
	slices.Sort(out.Ways.Examples)
	f := finding.New(finding.WayLost, finding.Fact("People who keep their way", strconv.Itoa(out.Ways.Keep)),
		finding.Fact("People who get another", strconv.Itoa(out.Ways.Other)),
		finding.Fact("People who have none", strconv.Itoa(out.Ways.None)))
	for _, x := range out.Ways.Examples[:min(len(out.Ways.Examples), mostExamples)] {
		f = f.With(finding.Fact("For example", x))
	}
	sum := sha256.Sum256([]byte(strings.Join(lost, "\n")))
	out.Finding, out.Digest = f, hex.EncodeToString(sum[:8])
	return out, nil
}

// reroutes is what a change does to somebody's way to an application.
func (r *Reach) reroutes(next *Reach, app federation.Name, now time.Time) change.Way {
	was, _ := r.snap.Application(app)
	is, _ := next.snap.Application(app)
	by := r.Trial(was, nil).Provider
	old, err := r.Way(was, now)
	if err != nil {
		return change.Keeps // none
	}
	got, err := next.Way(is, now)
	keeps := got.Has
	if by != nil && old.Has(by.Name) {
		keeps = func(federation.Name) bool { return got.Has(by.Name) }
	}
	switch {
	case err != nil:
		return change.None
	case !slices.ContainsFunc(old.Providers, keeps):
		return change.Another
	}
	return change.Keeps
}
