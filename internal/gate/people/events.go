package people

import (
	"context"
	"fmt"
	"time"

	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/store"
)

// EventFilter is which events are given out.
type EventFilter struct {
	After  int64
	Since  time.Time
	Person int64
	Newest bool // the newest first
	Before int64
	Limit  int
}

// EventPage is a page of events, the oldest first.
type EventPage struct {
	Events []person.Event
	Next   int64 // after which to go on
	Oldest int64 // that is kept, 0 for none
}

// Events gives out what was done to people. Whoever goes on after an event that is not kept any more is told so:
// nothing is passed over silently.
func (rm *Room) Events(ctx context.Context, f EventFilter) (out EventPage, err error) {
	var newest int64
	page := store.EventPage{After: f.After, From: f.Since, Person: f.Person, Newest: f.Newest, Before: f.Before,
		Limit: f.Limit}
	if out.Events, out.Oldest, newest, err = rm.Store.People(ctx).Events(page); err != nil {
		return out, err
	}
	if f.Person != 0 && len(out.Events) == 0 {
		if err := rm.known(rm.Store.People(ctx), f.Person); err != nil {
			return out, change.Field("person", err)
		}
	}
	switch {
	case f.After > newest:
		return out, change.Field("after", fmt.Errorf("there is no event %d yet; the newest is %d: was the data put back?",
			f.After, newest))
	case f.After > 0 && f.After < newest && (out.Oldest == 0 || f.After < out.Oldest-1):
		return out, change.Conflict(fmt.Sprintf("events after %d are gone: they are kept for a time only", f.After),
			fmt.Sprintf("read the people anew, then go on after %d", newest))
	}
	if out.Next = max(newest, f.After); len(out.Events) == f.Limit && !f.Newest {
		out.Next = out.Events[len(out.Events)-1].ID
	}
	return out, nil
}
