package records

import (
	"context"
	"errors"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate/change"
)

// approved sees that an application whose admissions wait for approval admits nobody by its settings alone, and that
// nobody takes that off by themselves who is not the only owner.
func (rm *Room) approved(ctx context.Context, by change.By, d *draft) error {
	if by.Approves {
		return nil
	}
	for _, p := range d.Put {
		a, is := p.Object.(*federation.Application)
		if !is {
			continue
		}
		old, there := d.before.Application(a.Name)
		if !there || !old.Approval || old.ID != a.ID {
			continue
		}
		n, err := rm.owners(ctx)
		if err != nil {
			return err
		}
		switch {
		case !a.Approval && n > 1:
			return change.Field("approval",
				errors.New("admissions wait for approval, and so does taking that off: innergate app admit "+
					string(a.Name)+" --at-once asks another owner for it"))
		case a.Approval && a.Admissions.Widens(old.Admissions):
			return change.Field("admissions", errors.New("admissions wait for approval: innergate app admit "+string(a.Name)+
				" asks for one"))
		case a.Approval && old.Everyone == federation.EveryoneNo && a.Everyone != federation.EveryoneNo:
			return change.Field("everyone", errors.New("admissions wait for approval: innergate app admit "+string(a.Name)+
				" --everyone asks for it"))
		}
	}
	return nil
}

// Owned has the room count owners, by whom admissions are approved.
func (rm *Room) Owned(count func(context.Context) (int64, error)) { rm.owners = count }
