package records

import (
	"context"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/store"
)

// Adjusting is what becomes of an application, by what it is when that is stored.
type Adjusting struct {
	Settings federation.Settings
	More     func(store.Tx) error // in the same transaction; nil for nothing
}

// Adjust lays settings over those that an application has by then.
func (rm *Room) Adjust(ctx context.Context, by change.By, app string, how func(a *federation.Application) (Adjusting,
	error)) error {
	return rm.Change(ctx, by, func(now *federation.Snapshot) (p Plan, err error) {
		o, err := rm.find(now, federation.Ref{Kind: federation.KindApplication, Name: federation.Name(app)})
		if err != nil {
			return p, err
		}
		old := o.(*federation.Application)
		todo, err := how(old)
		if err != nil {
			return p, err
		}
		r, err := rm.changed(now, old, todo.Settings)
		if err != nil {
			return p, err
		}
		if p.More = todo.More; r.At() != old.At() {
			p.Put = []Put{{Object: r, What: "changed"}}
		}
		return p, nil
	})
}
