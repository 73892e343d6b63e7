package people

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"slices"

	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/store"
)

// Joining is the wish to make one account of two.
type Joining struct {
	Into, Other int64 // the one that stays, and the one that goes
	Preview     bool
	Digest      string // of the preview that was looked at
	Enable      bool   // though one of the two is disabled, the one that stays is let in
}

// Joined is what making one account of two comes to.
type Joined struct {
	Links    int      // that are the one's then
	Values   []string // attributes that the one gets of the other
	Differ   []string // attributes that stay as the one has them
	Members  int
	Subjects int      // lasting names that come along
	Lost     []string // applications that know both: the other's name there goes
	Sessions int      // of the other, which end
	// Disabled are those of the two who are disabled. The one that stays is disabled then,
	// unless that was confirmed: whoever left would come in again by their links.
	Disabled []int64
	Stays    bool // the one that stays is let in afterwards
	Digest   string

	values []person.KeptValue
}

// Join makes one account of two: the links of one come to the other, with what that has not; then it is gone. What it
// comes to is decided where it is stored, and has to be what was looked at.
func (rm *Room) Join(ctx context.Context, b change.By, j Joining) (*Joined, error) {
	if j.Into == j.Other {
		return nil, change.Field("other", errors.New("these are the same person; give the number of another one"))
	}
	if err := rm.unnamed(j.Other); err != nil {
		return nil, err
	}
	if j.Preview {
		return rm.weigh(rm.Store.People(ctx), j)
	}
	var out *Joined
	err := rm.leave(ctx, func(tx store.Tx) (leaving []int64, err error) {
		if out, err = rm.weigh(tx.People(), j); err != nil {
			return nil, err
		}
		if err := change.Seen(j.Digest, out.Digest, "one of the two has changed since the preview"); err != nil {
			return nil, err
		}
		return rm.join(tx, b, j, out)
	})
	if err != nil {
		return nil, err
	}
	return out, rm.Store.Traces.Reassign(ctx, j.Other, j.Into)
}

// weigh finds out what joining comes to.
func (rm *Room) weigh(p store.People, j Joining) (*Joined, error) {
	into, err := p.Holdings(j.Into)
	other, more := p.Holdings(j.Other)
	switch err = errors.Join(err, more); {
	case err != nil:
		return nil, err
	case into == nil:
		return nil, change.Field("person", nobody(j.Into))
	case other == nil:
		return nil, change.Field("other", nobody(j.Other))
	}
	out := &Joined{values: slices.Clone(into.Values), Links: len(other.Links), Members: len(other.Members)}
	for _, v := range other.Values {
		at := slices.IndexFunc(into.Values,
			func(m person.KeptValue) bool { return profile.Word(m.Name) == profile.Word(v.Name) })
		switch {
		case at < 0:
			out.Values, out.values = append(out.Values, v.Name), append(out.values, v)
		case !slices.Equal(into.Values[at].Attribute.Values, v.Attribute.Values):
			out.Differ = append(out.Differ, v.Name)
		}
	}
	for _, x := range []*store.Holdings{into, other} {
		if !x.Disabled.IsZero() {
			out.Disabled = append(out.Disabled, x.ID)
		}
	}
	out.Stays = len(out.Disabled) == 0 || j.Enable
	out.Sessions = len(other.Sessions)
	if !out.Stays && into.Disabled.IsZero() {
		out.Sessions += len(into.Sessions)
	}
	for _, app := range slices.Sorted(maps.Keys(other.Subjects)) {
		if _, both := into.Subjects[app]; both {
			out.Lost = append(out.Lost, person.AppName(rm.Records.Snapshot(), app))
			continue
		}
		out.Subjects++
	}
	out.Digest = change.Digest(j.Into, into.Revision, j.Other, other.Revision, j.Enable)
	return out, nil
}

// join does what was weighed.
func (rm *Room) join(tx store.Tx, b change.By, j Joining, out *Joined) (leaving []int64, err error) {
	stays := person.Change{Person: j.Into, Via: person.ByJoin, Who: b.Who, AllValues: true, Exactly: out.values,
		Take: &person.Taking{From: j.Other}, Other: j.Other, State: person.Enabled}
	if leaving = []int64{j.Other}; !out.Stays {
		stays.State, leaving = person.Disabled, append(leaving, j.Into)
	}
	// The one goes after the other has all that was theirs.
	_, err = rm.Apply(tx, stays, person.Change{Person: j.Other, Via: person.ByJoin, Who: b.Who, State: person.Removed,
		Other: j.Into})
	return leaving, errors.Join(refused(err, j.Into, j.Other), rm.note(tx, b, j.Other,
		fmt.Sprintf("joined into %d", j.Into)),
		rm.note(tx, b, j.Into, out.says(j)))
}

// says is what stands in the history of the one that stays.
func (out *Joined) says(j Joining) string {
	said := fmt.Sprintf("joined with %d", j.Other)
	switch {
	case len(out.Disabled) == 0:
	case out.Stays:
		said += "; enabled, though one of them was disabled"
	default:
		said += "; disabled, because one of them was"
	}
	return said
}

// Part takes a link away from somebody, and makes an account of its own for it: whoever
// comes by it is another person from now on, disabled as the one is. All sessions of the one
// end.
func (rm *Room) Part(ctx context.Context, b change.By, id int64, key string) (Person, error) {
	hash, err := hex.DecodeString(key)
	if err != nil || len(hash) == 0 {
		return Person{}, change.Field("link",
			errors.New("give the key of a link; they stand beside the links of the person"))
	}
	var made int64
	err = rm.leave(ctx, func(tx store.Tx) ([]int64, error) {
		links, err := tx.People().LinksOf(id)
		if err == nil {
			err = rm.known(tx.People(), id)
		}
		at := slices.IndexFunc(links, func(l store.Linked) bool { return l.Key == string(hash) })
		switch {
		case err != nil:
			return nil, err
		case at < 0:
			return nil, change.Field("link", change.NotFound("link of the person", key, ""))
		case len(links) == 1:
			return nil, change.Conflict("it is their only link: nobody would come as this person any more",
				"disable or remove the person instead")
		}
		made, err = rm.part(tx, b, id, links[at])
		return []int64{id}, err
	})
	if err == nil {
		err = rm.Store.Traces.Reassign(ctx, id, 0) // it is found out again, by their links
	}
	if err != nil {
		return Person{}, err
	}
	return rm.Get(ctx, made)
}

// part makes an account for a link of somebody.
func (rm *Room) part(tx store.Tx, b change.By, from int64, l store.Linked) (made int64, err error) {
	was, err := tx.People().Kept([]int64{from})
	if err != nil {
		return 0, err
	}
	off := person.Change{Via: person.ByJoin, Who: b.Who, Identifier: Identifier(),
		Take: &person.Taking{From: from, Link: l.Key}, Other: from}
	if !was[from].Disabled.IsZero() {
		off.State = person.Disabled
	}
	done, err := rm.Apply(tx, off)
	if err != nil {
		return 0, err
	}
	made = done[0].Person
	_, err = rm.Apply(tx, person.Change{Person: from, Via: person.ByJoin, Who: b.Who, Other: made})
	return made, errors.Join(err, rm.note(tx, b, from, fmt.Sprintf("parted from %d", made)),
		rm.note(tx, b, made, fmt.Sprintf("parted off %d", from)))
}
