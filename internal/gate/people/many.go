package people

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/traces"
	"innergate.example/innergate/internal/store"
)

// What can be done to many.
const (
	DoDisable = "disable"
	DoEnable  = "enable"
	DoRemove  = "remove"
	DoSet     = "set"
)

// Bounds of what is done to many: people at once, how many are stored together, for as long as which sign-ins wait,
// and how many are told of one by one.
const (
	mostMany   = 10_000
	together   = 500
	toldOfMany = 200
)

// Many is one thing that is done to several people.
type Many struct {
	People []int64
	Filter *Filter // in place of them: all that it lets through
	Do     string
	Edit   Edit
	Digest string // of the preview that was looked at; "" only tells what would be
}

// ManyDone is what that comes to.
type ManyDone struct {
	People      int   // whom it is about
	Same        int   // of these, nothing becomes of them
	Sessions    int64 // that end
	Grants      int64 // that give nothing any more
	Listed      []ManyRow
	Back        string // how it is taken back, "" if nothing becomes of anybody
	Consequence change.Consequence
	Digest      string
	Stored      bool
}

// ManyRow is one of them, and what becomes of them.
type ManyRow struct {
	Person int64
	Name   string
	Did    person.Did
}

// Many does one thing to several people: first it tells what would be, then, with the digest of that, it does just
// so. It is stored in pieces, so that sign-ins go on; whoever changed meanwhile stops it, and what stands before is
// stored.
func (rm *Room) Many(ctx context.Context, b change.By, m Many) (*ManyDone, error) {
	ids, err := rm.chosen(ctx, m)
	if err != nil {
		return nil, err
	}
	edit, err := rm.checked(m.Edit)
	if err != nil {
		return nil, err
	}
	if m.Do == DoSet && len(edit.Values)+len(edit.Marks)+len(edit.Join)+len(edit.Leave) == 0 {
		return nil, change.Field("set",
			errors.New("nothing is said that is to change; give values, or groups to join or leave"))
	}
	out := &ManyDone{People: len(ids)}
	changes, err := rm.weighMany(ctx, b, m.Do, edit, ids, out)
	if out.Back = back(m.Do, changes); err != nil || m.Digest == "" {
		return out, err
	}
	if err := change.Seen(m.Digest, out.Digest, "some of these people have changed since the preview"); err != nil {
		return nil, err
	}
	return out, rm.storeMany(ctx, b, m.Do, changes, out)
}

// chosen are whom it is about, each once.
func (rm *Room) chosen(ctx context.Context, m Many) (ids []int64, err error) {
	if !slices.Contains([]string{DoDisable, DoEnable, DoRemove, DoSet}, m.Do) {
		return nil, change.Field("do", fmt.Errorf("%.50q is nothing that can be done; use disable, enable, remove or set",
			m.Do))
	}
	if ids = slices.Clone(m.People); m.Filter != nil {
		if len(ids) > 0 {
			return nil, change.Field("people", errors.New("give numbers or what they are searched by, not both"))
		}
		f := *m.Filter
		f.Limit, f.Uncounted, f.After = together, true, ""
		for {
			narrow, err := rm.narrowed(f)
			if err != nil {
				return nil, err
			}
			page, err := rm.Store.People(ctx).List(narrow)
			if err != nil {
				return nil, err
			}
			ids = append(ids, page.People...)
			if f.After = page.Next; f.After == "" || len(ids) > mostMany {
				break
			}
		}
	}
	slices.Sort(ids)
	ids = slices.Compact(ids)
	switch {
	case len(ids) > mostMany:
		return nil, change.Field("people", fmt.Errorf("it is about more than %d people; do it in parts, or take a list in",
			mostMany))
	case len(ids) == 0 && m.Filter != nil:
		return nil, change.Field("search", errors.New("nobody is found by that"))
	case len(ids) == 0:
		return nil, change.Field("people", errors.New("nobody is named; give numbers, or what they are searched by"))
	}
	there, err := rm.Store.People(ctx).There(ids...)
	for i, id := range ids {
		if err == nil && !there[id] {
			err = change.Field(fmt.Sprintf("people[%d]", i), nobody(id))
		}
		if err == nil && m.Do == DoRemove {
			err = rm.unnamed(id)
		}
	}
	return ids, err
}

// weighMany tells what becomes of each, and gives the changes of those of whom anything is other then.
func (rm *Room) weighMany(ctx context.Context, b change.By, do string, edit Edit, ids []int64,
	out *ManyDone) (changes []person.Change, err error) {
	var leaving []int64
	var become []traces.Becoming
	digest := []any{do, edit}
	for chunk := range slices.Chunk(ids, together) {
		names, err := rm.Store.People(ctx).Names(chunk)
		if err != nil {
			return nil, err
		}
		kept, err := rm.Store.People(ctx).Kept(chunk)
		if err != nil {
			return nil, err
		}
		for _, id := range chunk {
			k := kept[id]
			if k == nil {
				continue // they went just now
			}
			c := edit.change(b, id)
			c.Revision, c.Anyway, c.State = k.Revision, true, map[string]person.State{DoDisable: person.Disabled,
				DoEnable: person.Enabled,
				DoRemove: person.Removed}[do]
			laid, err := c.Lay(rm.ground(), k.Record)
			if err != nil {
				return nil, refused(err, id)
			}
			if laid.Did.Nothing() {
				out.Same++
				continue
			}
			if changes = append(changes, c); c.State == person.Disabled || c.State == person.Removed {
				leaving = append(leaving, id)
			}
			if len(out.Listed) < toldOfMany {
				out.Listed = append(out.Listed, ManyRow{id, names[id], laid.Did})
			}
			become = append(become, rm.becoming(c))
			did, err := json.Marshal(laid.Did)
			if err != nil {
				return nil, err
			}
			digest = append(digest, id, k.Revision, string(did))
		}
	}
	sessions, err := rm.Store.People(ctx).Sessions(leaving...)
	if err != nil {
		return nil, err
	}
	out.Sessions = int64(len(sessions))
	if out.Grants, err = rm.Store.People(ctx).Grants(rm.Now(), leaving...); err != nil {
		return nil, err
	}
	if out.Consequence, err = rm.Traces.Foreseen(ctx, rm.Records.Snapshot(), become); err != nil {
		return nil, err
	}
	out.Digest = change.Digest(append(digest, out.Consequence.Digest)...)
	return changes, nil
}

// storeMany does what was weighed.
func (rm *Room) storeMany(ctx context.Context, b change.By, do string, changes []person.Change, out *ManyDone) error {
	what := map[string]string{DoDisable: "disabled", DoEnable: "enabled", DoRemove: "removed", DoSet: "changed"}[do]
	if do == DoRemove {
		ids := make([]int64, len(changes))
		for i := range changes {
			ids[i] = changes[i].Person
		}
		if err := rm.forgetting(ctx, ids...); err != nil {
			return err
		}
		defer rm.Store.Flush()
	}
	done := 0
	for chunk := range slices.Chunk(changes, together) {
		err := rm.Put(ctx, b, chunk, func(store.Applied) string { return what })
		var lost *person.LostError
		if errors.As(err, &lost) {
			return change.Conflict(fmt.Sprintf("the person %d has changed since the preview; %d of %d are %s",
				chunk[lost.At].Person, done,
				len(changes), what), "look at the preview again")
		}
		if err != nil {
			return err
		}
		done += len(chunk)
		for i := range chunk {
			if do != DoRemove {
				break
			}
			if err := rm.forget(ctx, chunk[i].Person); err != nil { // what was begun before they went
				return err
			}
		}
	}
	out.Stored = true
	return nil
}

// ground is what changes are laid by that are only looked at.
func (rm *Room) ground() person.Ground {
	snap := rm.Records.Snapshot()
	return person.Ground{Snap: snap, Now: rm.Now(), There: func(r federation.Ref) bool {
		_, there := snap.Unit(r.Kind, r.Name)
		return there
	}}
}

// becoming is what becomes of somebody by a change, for what it does to their entry.
func (rm *Room) becoming(c person.Change) traces.Becoming {
	g := rm.ground()
	return traces.Becoming{Person: c.Person, Of: func(p *person.Person) { c.Foresee(g, p) }}
}

// longestBack is how many people are named one by one in how something is taken back.
const longestBack = 50

// back says how what is done to people is taken back: of those alone of whom anything becomes.
func back(do string, changes []person.Change) string {
	words := make([]string, min(len(changes), longestBack))
	for i := range words {
		words[i] = fmt.Sprint(changes[i].Person)
	}
	if len(changes) == 0 {
		return ""
	}
	same := strings.Join(words, " ")
	if len(changes) > longestBack {
		same = "--list FILE, with their numbers from innergate person export now"
	}
	switch do {
	case DoDisable:
		return "innergate person enable " + same
	case DoEnable:
		return "innergate person disable " + same
	case DoRemove:
		return "nothing brings them back: innergate person export keeps a list of them, which makes them anew with their values, links and groups"
	}
	return "values of before are kept nowhere: innergate person export keeps a list of them, which puts them back"
}
