// Package people is about those whom the gate knows: who they are, what is kept of them, where they belong, by which
// names they come and are known, and what becomes of them. All writing goes through one door: Apply.
package people

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/grant"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/trace"
	"innergate.example/innergate/internal/gate/approving"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/leaving"
	"innergate.example/innergate/internal/gate/random"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/sessions"
	"innergate.example/innergate/internal/gate/traces"
	"innergate.example/innergate/internal/store"
)

// KindPerson is the kind of people, in the history. It names them by their number alone.
const KindPerson = "person"

// Room is about people.
type Room struct {
	Parts
	forget func(ctx context.Context, person int64) error
	usual  sync.Map // format that a provider names people in, by its ID
}

// Forgets names what else has to forget somebody who is removed.
func (rm *Room) Forgets(forget func(ctx context.Context, person int64) error) { rm.forget = forget }

// Parts are what the room works with.
type Parts struct {
	Store    *store.Store
	Now      func() time.Time
	Records  *records.Room
	Sessions *sessions.Room
	Leaving  *leaving.Room
	Traces   *traces.Room
	Requests *approving.Room
}

// New makes a room.
func New(p Parts) *Room {
	return &Room{Parts: p, forget: func(context.Context, int64) error { return nil }}
}

// Apply stores changes of people within a transaction, each with its event: all of them or none. What one rests on and
// does not hold any more is a *person.LostError; a *person.RefusedError is one that cannot be made.
func (rm *Room) Apply(tx store.Tx, changes ...person.Change) ([]store.Applied, error) {
	return tx.People().Apply(rm.Records.Snapshot(), rm.Now(), changes)
}

// Identifier makes what names of somebody new are derived from: random, and never shown.
func Identifier() string { return random.Text(16) }

// by is a change by hand of somebody who is on record.
func by(b change.By, id int64) person.Change {
	return person.Change{Person: id, Via: person.ByHand, Who: b.Who}
}

// refused puts what Apply says into words for whoever asked by hand; ids are whom the changes were about.
func refused(err error, ids ...int64) error {
	var lost *person.LostError
	var no *person.RefusedError
	switch {
	case errors.As(err, &lost) && lost.At < len(ids) && lost.Guard == person.GuardThere:
		return nobody(ids[lost.At])
	case errors.As(err, &lost):
		return change.Conflict("somebody changed while this was being stored", "look at them again, and do it again")
	case errors.As(err, &no) && no.Way != "":
		return change.Conflict(no.Error(), no.Way)
	case errors.As(err, &no) && no.Field != "":
		return change.Field(no.Field, no.Cause)
	}
	return err
}

// nobody is the error that nobody has a number.
func nobody(id int64) error { return &change.NotFoundError{Kind: KindPerson, Name: fmt.Sprint(id)} }

// known sees that somebody has a number.
func (rm *Room) known(p store.People, id int64) error {
	there, err := p.There(id)
	if err == nil && !there[id] {
		err = nobody(id)
	}
	return err
}

func (rm *Room) note(tx store.Tx, by change.By, id int64, what string) error {
	return change.Note{At: rm.Now(), By: by, Kind: KindPerson, Name: fmt.Sprint(id), What: what}.Write(tx.Rows())
}

// Disable has somebody let in no more: their sessions end, and what these gave. A sign-in and a refresh see it at
// once.
func (rm *Room) Disable(ctx context.Context, b change.By, id int64) (Person, error) {
	return rm.turn(ctx, b, id, person.Disabled)
}

// Enable has somebody let in again.
func (rm *Room) Enable(ctx context.Context, b change.By, id int64) (Person, error) {
	return rm.turn(ctx, b, id, person.Enabled)
}

// turn disables somebody or enables them.
func (rm *Room) turn(ctx context.Context, b change.By, id int64, to person.State) (Person, error) {
	c := by(b, id)
	c.State = to
	if err := rm.store(ctx, b, []person.Change{c}, string(to)); err != nil {
		return Person{}, err
	}
	return rm.Get(ctx, id)
}

// store stores changes by hand that may end what people hold, each with a note in the history. One that does nothing
// is refused if it is about a state.
func (rm *Room) store(ctx context.Context, b change.By, all []person.Change, what string) error {
	ids := make([]int64, len(all))
	for i := range all {
		ids[i] = all[i].Person
	}
	return rm.leave(ctx, func(tx store.Tx) (leaving []int64, err error) {
		done, err := rm.Apply(tx, all...)
		if err != nil {
			return nil, refused(err, ids...)
		}
		for i, d := range done {
			switch state := all[i].State; {
			case d.Did.Nothing() && state == person.Disabled:
				return nil, change.Conflict(fmt.Sprintf("the person %d is disabled already", d.Person), "nothing is to be done")
			case d.Did.Nothing() && state == person.Enabled:
				return nil, change.Conflict(fmt.Sprintf("the person %d is not disabled", d.Person), "nothing is to be done")
			case state == person.Disabled || state == person.Removed:
				leaving = append(leaving, d.Person)
			}
			if err := rm.note(tx, b, d.Person, what); err != nil {
				return nil, err
			}
		}
		return leaving, nil
	})
}

// Put stores changes, all of them or none, with a note in the history of those of which note tells something.
// Sessions of whoever is disabled or removed end, with what these gave. A *person.LostError says what does not hold
// any more.
func (rm *Room) Put(ctx context.Context, b change.By, all []person.Change, note func(store.Applied) string) error {
	return rm.leave(ctx, func(tx store.Tx) (leaving []int64, err error) {
		done, err := rm.Apply(tx, all...)
		for i, d := range done {
			if d.Did.State == person.StateDisabled || all[i].State == person.Removed {
				leaving = append(leaving, d.Person)
			}
			if what := note(d); what != "" && err == nil {
				err = rm.note(tx, b, d.Person, what)
			}
		}
		return leaving, err
	})
}

// Remove takes somebody out with all that is theirs; that it was done stays in the history. Should they come again,
// they are somebody new.
func (rm *Room) Remove(ctx context.Context, b change.By, id int64) error {
	if err := rm.unnamed(id); err != nil {
		return err
	}
	if err := rm.forgetting(ctx, id); err != nil {
		return err
	}
	c := by(b, id)
	c.State = person.Removed
	if err := rm.store(ctx, b, []person.Change{c}, "removed"); err != nil {
		return err
	}
	err := rm.forget(ctx, id) // what was begun before they went
	rm.Store.Flush()
	return err
}

// forgetting drops what was recorded of somebody who is to go.
func (rm *Room) forgetting(ctx context.Context, ids ...int64) error {
	traces, err := rm.traces(ctx, ids...)
	if err == nil {
		err = rm.Store.Traces.Remove(ctx, traces)
	}
	for _, id := range ids {
		err = errors.Join(err, rm.forget(ctx, id))
	}
	return err
}

// unnamed sees that no access rule, no role and no starting point names somebody who is to go.
func (rm *Room) unnamed(id int64) error {
	snap := rm.Records.Snapshot()
	for what, names := range map[string][]federation.Name{"access rules": snap.NamedBy(id), "roles": snap.RolesOf(id),
		"starting points": snap.StartsNaming(id)} {
		if len(names) > 0 {
			return change.Conflict(fmt.Sprintf("%s name the person %d: %s", what, id, federation.Listed(names)),
				"take them out of these, or remove these, first")
		}
	}
	return nil
}

// traces finds what was recorded of some people's sign-ins.
func (rm *Room) traces(ctx context.Context, ids ...int64) (out []string, err error) {
	links, err := rm.Store.People(ctx).LinksOf(ids...)
	if err != nil {
		return nil, err
	}
	theirs := map[string]bool{}
	for _, l := range links {
		theirs[l.Key] = true
	}
	snap := rm.Records.Snapshot()
	about := func(e *trace.Entry) bool {
		for _, id := range ids {
			if e.About(id) {
				return true
			}
		}
		return e.Of(snap, func(key string) bool { return theirs[string(store.Hash(key))] })
	}
	err = rm.Store.Traces.Each(ctx, store.TraceFilter{}, func(head store.TraceHead, inputs []json.RawMessage) bool {
		for _, octets := range inputs {
			var e trace.Entry
			if json.Unmarshal(octets, &e) == nil && about(&e) {
				out = append(out, head.ID)
				break
			}
		}
		return true
	})
	return out, err
}

// leave does something in a transaction, and ends in it all sessions of those who leave by it, with what was given in
// these.
func (rm *Room) leave(ctx context.Context, do func(store.Tx) (leaving []int64, err error)) error {
	var ended []string
	err := rm.Store.Change(ctx, func(tx store.Tx) error {
		ended = nil // it may be run again
		leaving, err := do(tx)
		if err != nil {
			return err
		}
		rows, err := tx.People().Sessions(leaving...)
		if err != nil {
			return err
		}
		for _, r := range rows {
			ended = append(ended, string(r.Hash))
			if _, err := rm.Leaving.End(tx.Rows(), &crossing.Session{Ref: string(r.Hash), Lasting: r.Lasting}); err != nil {
				return err
			}
		}
		for _, id := range leaving {
			if err := tx.People().Withdraw(id, string(grant.Withdrawn)); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, ref := range ended {
		rm.Sessions.Drop(ref)
	}
	if len(ended) > 0 {
		rm.Leaving.Wake()
	}
	return nil
}
