package traces

import (
	"cmp"
	"context"
	"slices"
	"sync"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/policy"
	"innergate.example/innergate/internal/gate/change"
)

// Offers tells at which applications a change offers people a provider that was closed, and how many of those who are
// known may enter one of them, and so gain a choice.
func (rm *Room) Offers(ctx context.Context, before, after *federation.Snapshot) (out change.Consequence, err error) {
	now := rm.now()
	if out.Offered = policy.Offered(before, after, now); len(out.Offered) == 0 {
		return out, nil
	}
	var apps []*federation.Application
	for _, o := range out.Offered {
		for _, name := range o.Apps {
			if a, there := after.Application(name); there && !slices.Contains(apps, a) {
				apps = append(apps, a)
			}
		}
	}
	end := now.Add(foreseenWithin)
	var mu sync.Mutex
	var failed error
	err = rm.Each(ctx, after, mostLooked, func(r *Reach) bool {
		gains, err := r.mayEnter(apps, now)
		mu.Lock()
		defer mu.Unlock()
		if failed = cmp.Or(failed, err); gains {
			out.Choosing++
		}
		out.Stopped = out.Stopped || rm.now().After(end)
		return failed == nil && !out.Stopped
	})
	return out, cmp.Or(err, failed)
}
