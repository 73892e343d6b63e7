package records

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/nearword"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/store"
)

// Kind is what the room has to know of a kind of objects, beside what they say of themselves.
type Kind struct {
	Name federation.Kind
	// Make makes an object of which nothing is said yet; nil where that takes more than settings.
	Make func(n federation.Name) federation.Settled
	// Read gives an object of what is stored of it, or was.
	Read func(federation.Stored) (federation.Object, error)
	// Row gives what is stored of an object, and its data. Nil has it stored as JSON, in the table
	// of all kinds that need none of their own.
	Row func(federation.Object) (row any, data []byte, err error)
	// Fits sees whether an object can be so among the others as they are after a change.
	Fits func(before, after *federation.Snapshot, p Put) error
	// Held is what somebody would lose with an object, to be confirmed; nil for nothing.
	Held func(db *gorm.DB, o federation.Object) (*finding.Finding, error)
	// Keep stores what belongs to an object, and Drop takes it out, in the change's transaction.
	Keep func(tx *gorm.DB, p Put) error
	Drop func(tx *gorm.DB, o federation.Object) error
	// Gone clears up after a removal that was stored.
	Gone func(ctx context.Context, o federation.Object) error
	// Now gives an object by name, and All gives all of them, where objects of the kind are no part of
	// the snapshot.
	Now func(name string) (federation.Object, bool)
	All func() ([]federation.Object, error)
	// Most is how many there can be, 0 for any number.
	Most int
	// Given is the one that there always is: it can be changed, and is stored once it was.
	Given func() federation.Object
}

// Described is a kind whose objects are what their settings say and nothing else.
func Described(d *federation.Description) Kind {
	k := Kind{Name: d.Kind, Read: d.Read, Make: func(n federation.Name) federation.Settled { return d.Plain(n) },
		Fits: func(_, after *federation.Snapshot, p Put) error {
			if d.Check == nil {
				return nil
			}
			return change.OfSetting(d.Check(after, p.Object.(*federation.Plain)))
		}}
	if d.Always != "" {
		k.Given = func() federation.Object {
			p := d.Plain(d.Always)
			p.Revision = 1
			return p
		}
	}
	return k
}

// Register makes a kind known. Objects of it that are stored are loaded with the others.
func (rm *Room) Register(k Kind) {
	rm.kinds[k.Name] = k
	rm.kindOrder = append(rm.kindOrder, k.Name)
}

// Kinds are the names of all kinds, those of records first.
func (rm *Room) Kinds() []federation.Kind { return rm.kindOrder }

// Settled reports whether settings say everything about objects of a kind, and describes them.
func (rm *Room) Settled(kind federation.Kind) (list []federation.Setting, settled bool) {
	for _, d := range rm.described {
		if d.Kind == kind {
			return d.Settings, true
		}
	}
	return federation.SettingList(kind, nil), rm.kinds[kind].Make != nil
}

// kind finds a kind by name.
func (rm *Room) kind(name federation.Kind) (Kind, error) {
	k, ok := rm.kinds[name]
	if !ok {
		return k, change.Field("kind", fmt.Errorf("there is no kind %q; say %s", name,
			strings.Join(words(rm.kindOrder), ", ")))
	}
	return k, nil
}

func words[T ~string](all []T) []string {
	out := make([]string, len(all))
	for i, x := range all {
		out[i] = string(x)
	}
	return out
}

// Object finds an object of any kind, or tells a near name.
func (rm *Room) Object(kind, name string) (federation.Object, error) {
	return rm.find(rm.Snapshot(), federation.Ref{Kind: federation.Kind(kind), Name: federation.Name(name)})
}

// Objects are those of a kind, by name, that have a text in their name or in what they say.
func (rm *Room) Objects(kind, search string) (out []federation.Object, err error) {
	k, err := rm.kind(federation.Kind(kind))
	if err != nil {
		return nil, err
	}
	all := rm.Snapshot().Objects(k.Name)
	if k.All != nil {
		if all, err = k.All(); err != nil {
			return nil, err
		}
	}
	search = strings.ToLower(search)
	for _, o := range all {
		if search == "" || strings.Contains(string(o.Ref().Name), search) || slices.ContainsFunc(o.Describe(),
			func(v federation.Value) bool {
				return strings.Contains(strings.ToLower(v.Value), search)
			}) {
			out = append(out, o)
		}
	}
	return out, nil
}

// at gives an object as it is; nil if there is none.
func (rm *Room) at(snap *federation.Snapshot, r federation.Ref) federation.Object {
	now := func(string) (federation.Object, bool) { return snap.Object(r) }
	if k := rm.kinds[r.Kind]; k.Now != nil {
		now = k.Now
	}
	if o, ok := now(string(r.Name)); ok {
		return o
	}
	return nil
}

// find finds an object; the error tells a near name.
func (rm *Room) find(snap *federation.Snapshot, r federation.Ref) (federation.Object, error) {
	if o := rm.at(snap, r); o != nil {
		return o, nil
	}
	return nil, change.NotFound(string(r.Kind), string(r.Name), nearword.Of(string(r.Name), snap.Names(r.Kind)))
}

// row gives what is stored of an object, and its data.
func (k Kind) row(o federation.Object) (any, []byte, error) {
	if k.Row != nil {
		return k.Row(o)
	}
	data, err := json.Marshal(o)
	return &store.ObjectRow{Kind: string(k.Name), Name: string(o.Ref().Name), Revision: o.At(), Added: o.Since().UTC(),
		Data: data}, data, err
}

// of narrows queries to the rows of the kind.
func (k Kind) of(tx *gorm.DB) *gorm.DB {
	if k.Row != nil {
		return tx
	}
	return tx.Where("kind = ?", string(k.Name)).Session(&gorm.Session{})
}

// unchanged sees, inside a transaction, that an object is still at the revision that a change was
// made from, 0 if there was none.
func (k Kind) unchanged(tx *gorm.DB, row any, name string, revision int) error {
	err := change.Unchanged(k.of(tx), row, string(k.Name), name, revision)
	if err != nil && k.Given != nil {
		return change.Unchanged(k.of(tx), row, string(k.Name), name, 0)
	}
	return err
}

// loadObjects gives the objects of kinds that share a table.
func (rm *Room) loadObjects() ([]federation.Object, error) {
	var rows []store.ObjectRow
	if err := rm.store.Read.Find(&rows).Error; err != nil {
		return nil, err
	}
	return each(rows, func(row store.ObjectRow) (federation.Object, error) {
		k, err := rm.kind(federation.Kind(row.Kind))
		if err != nil {
			return nil, fmt.Errorf("%s %s: this build does not know the kind", row.Kind, row.Name)
		}
		return k.Read(federation.Stored{Kind: k.Name, Name: row.Name, Revision: row.Revision, Added: row.Added,
			Data: row.Data})
	})
}

// put makes an object, from revision 0, or changes it.
func (rm *Room) put(ctx context.Context, by change.By, o federation.Object) (out federation.Object, err error) {
	err = rm.Change(ctx, by, func(now *federation.Snapshot) (p Plan, err error) {
		if out, err = rm.next(now, o); err != nil {
			return p, err
		}
		what := "changed"
		if out.At() == 1 {
			what = "added"
		}
		return Puts(out, what), nil
	})
	return out, err
}

// next gives an object at its next revision, if it was made from the one that there is.
func (rm *Room) next(now *federation.Snapshot, o federation.Object) (federation.Object, error) {
	r := o.Ref()
	old := rm.at(now, r)
	switch {
	case old != nil && o.At() == 0:
		return nil, change.Field("name", finding.New(finding.NameTaken, finding.Fact(r.Kind.Title(), string(r.Name))))
	case old != nil && o.At() != old.At():
		return nil, change.Stale(string(r.Kind), string(r.Name), old.At(), o.At())
	case old == nil && o.At() != 0:
		_, err := rm.find(now, r)
		return nil, err
	}
	return o.Next(o.At()+1, old, rm.now().UTC()), nil
}

// Remove takes an object out that nothing names; of an application its access rules, too.
func (rm *Room) Remove(ctx context.Context, by change.By, kind federation.Kind, name string) error {
	if by.Together == nil {
		by.Together = &change.Together{}
	}
	return rm.Change(ctx, by, func(now *federation.Snapshot) (Plan, error) {
		o, err := rm.find(now, federation.Ref{Kind: kind, Name: federation.Name(name)})
		if err != nil {
			return Plan{}, err
		}
		return Plan{Removed: withRules(now, []federation.Object{o})}, nil
	})
}

// Looked is what laying settings over an object comes to.
type Looked struct {
	Object      federation.Object
	New         bool
	Differences []federation.Difference
	Consequence change.Consequence
}

// Look tells what laying settings over an object would come to; Lay does it.
func (rm *Room) Look(ctx context.Context, kind, name string, revision int, s federation.Settings) (out Looked,
	err error) {
	d, err := rm.laid(func(now *federation.Snapshot) (p Plan, err error) {
		p, out, err = rm.settled(now, kind, name, revision, s)
		return p, err
	})
	if err == nil {
		out.Consequence, err = rm.weighed(ctx, d)
	}
	return out, err
}

// Lay lays settings over an object of any kind that they say everything about. Revision 0 makes one.
func (rm *Room) Lay(ctx context.Context, by change.By, kind, name string, revision int,
	s federation.Settings) (out Looked, err error) {
	by.Took = &out.Consequence
	err = rm.Change(ctx, by, func(now *federation.Snapshot) (Plan, error) {
		p, looked, err := rm.settled(now, kind, name, revision, s)
		out.Object, out.New, out.Differences = looked.Object, looked.New, looked.Differences
		return p, err
	})
	return out, err
}

// settled plans to lay settings over an object.
func (rm *Room) settled(now *federation.Snapshot, kind, name string, revision int, s federation.Settings) (p Plan,
	out Looked,
	err error) {
	k, err := rm.kind(federation.Kind(kind))
	if err != nil {
		return p, out, err
	}
	if k.Make == nil {
		return p, out, change.Conflict(fmt.Sprintf("a %s is more than its settings", kind), "use the calls for its kind")
	}
	r := federation.Ref{Kind: k.Name, Name: federation.Name(name)}
	old := rm.at(now, r)
	from := k.Make(r.Name)
	var before []federation.Value
	if old != nil {
		from, before = old.(federation.Settled), old.Describe()
	}
	over, err := from.Apply(s)
	if err != nil {
		return p, out, change.OfSetting(err)
	}
	out.New = old == nil
	if out.Object, err = rm.next(now, over.Next(revision, old, rm.now().UTC())); err != nil {
		return p, out, err
	}
	out.Differences = federation.Differences(before, out.Object.Describe())
	what := "changed"
	if out.New {
		what = "added"
	} else if len(out.Differences) == 0 {
		out.Object = old
		return p, out, nil
	}
	return Puts(out.Object, what), out, nil
}
