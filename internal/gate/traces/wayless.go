package traces

import (
	"context"
	"slices"
	"strconv"
	"sync"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/policy"
)

// lately keeps what looking at everybody came to, for a minute: pages ask for it again and again.
type lately struct {
	mu   sync.Mutex
	snap *federation.Snapshot
	at   time.Time
	all  map[federation.ID]*finding.Finding
}

func (k *lately) once(snap *federation.Snapshot, now time.Time,
	look func() (map[federation.ID]*finding.Finding, error)) (map[federation.ID]*finding.Finding, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.snap == snap && now.Sub(k.at) < keptFor && !now.Before(k.at) {
		return k.all, nil
	}
	all, err := look()
	if err == nil {
		k.snap, k.at, k.all = snap, now, all
	}
	return all, err
}

// Wayless are the applications to which no provider is left for somebody who is known. People are looked at only where
// a rule of provider selection leads nowhere.
func (rm *Room) Wayless(ctx context.Context, snap *federation.Snapshot) (map[federation.ID]*finding.Finding, error) {
	now := rm.now()
	var apps []*federation.Application
	for _, a := range snap.Applications() {
		dead := func(r *federation.Way) bool { return !policy.Leads(snap, r, now) }
		if a.Attended() && a.Provider == "" && policy.Open(a, now) == nil &&
			(dead(nil) || slices.ContainsFunc(snap.Ways(a.Name).Rules, dead)) {
			apps = append(apps, a)
		}
	}
	if len(apps) == 0 {
		return nil, nil
	}
	return rm.wayless.once(snap, now, func() (map[federation.ID]*finding.Finding,
		error) {
		return rm.withoutWay(ctx, snap, apps)
	})
}

// withoutWay counts and names who has no way to each of the applications.
func (rm *Room) withoutWay(ctx context.Context, snap *federation.Snapshot,
	apps []*federation.Application) (map[federation.ID]*finding.Finding, error) {
	now := rm.now()
	end := now.Add(lookedWithin)
	var mu sync.Mutex
	who, stopped := map[federation.ID][]string{}, false
	err := rm.Each(ctx, snap, mostLooked, func(r *Reach) bool {
		for _, a := range apps {
			if _, err := r.Way(a, now); err != nil {
				mu.Lock()
				who[a.ID] = append(who[a.ID], person.NameOf(r.who.Person, r.who.Subject.Value))
				mu.Unlock()
			}
		}
		mu.Lock()
		defer mu.Unlock()
		stopped = stopped || rm.now().After(end)
		return !stopped
	})
	out := map[federation.ID]*finding.Finding{}
	for id, names := range who {
		slices.Sort(names)
		count := strconv.Itoa(len(names))
		if stopped {
			count = "at least " + count
		}
		f := finding.New(finding.WayNone, finding.Passing("People", count))
		for _, name := range names[:min(len(names), mostExamples)] {
			f = f.With(finding.Passing("For example", name))
		}
		out[id] = f
	}
	return out, err
}
