package records

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/store"
)

// groupKind are groups, and organisationKind are organisations: what people belong to.
func (rm *Room) groupKind() Kind        { return rm.unitKind(federation.KindGroup) }
func (rm *Room) organisationKind() Kind { return rm.unitKind(federation.KindOrganisation) }

func (rm *Room) unitKind(name federation.Kind) Kind {
	return Kind{Name: name, Most: federation.MostUnits, Make: func(n federation.Name) federation.Settled {
		return &federation.Unit{Kind: name, Name: n}
	}, Read: func(s federation.Stored) (federation.Object, error) {
		x := &federation.Unit{}
		err := json.Unmarshal(s.Data, x)
		x.Kind, x.Name, x.Revision, x.Added = s.Kind, federation.Name(s.Name), s.Revision, s.Added
		return x, err
	}, Fits: func(before, after *federation.Snapshot, p Put) error {
		x := p.Object.(*federation.Unit)
		others := after.Lacking(x) // it is not held against itself
		if old, there := before.Unit(x.Kind, x.Name); there {
			others = after.With(old)
		}
		return change.OfSetting(others.CheckUnit(x))
	}, Held: func(db *gorm.DB, o federation.Object) (*finding.Finding, error) {
		use, err := rm.use(db, o.(*federation.Unit))
		return use.finding(), err
	}, Drop: func(tx *gorm.DB, o federation.Object) error {
		return tx.Where("kind = ? AND name = ?", string(o.Ref().Kind), string(o.Ref().Name)).Delete(&store.MemberRow{}).Error
	}}
}

// Unit finds a group or an organisation, or tells a near name.
func (rm *Room) Unit(k federation.Kind, name string) (*federation.Unit, error) {
	o, err := rm.Object(string(k), name)
	if err != nil {
		return nil, err
	}
	return o.(*federation.Unit), nil
}

// PutUnit makes a group or an organisation, from revision 0, or changes it.
func (rm *Room) PutUnit(ctx context.Context, by change.By, x federation.Unit) (*federation.Unit, error) {
	o, err := rm.put(ctx, by, &x)
	if err != nil {
		return nil, err
	}
	return o.(*federation.Unit), nil
}

// Made makes groups known that a sign-in made, once they are stored.
func (rm *Room) Made(groups []federation.Unit) {
	if len(groups) == 0 {
		return
	}
	rm.swapping.Lock()
	defer rm.swapping.Unlock()
	rm.newcomers = append(rm.newcomers, groups...)
	rm.snapshot.Store(withGroups(rm.Snapshot(), groups))
}

func withGroups(snap *federation.Snapshot, groups []federation.Unit) *federation.Snapshot {
	for _, g := range groups {
		if _, there := snap.Unit(g.Kind, g.Name); !there {
			snap = snap.With(&g)
		}
	}
	return snap
}

// MakeGroups makes groups that a provider's values stand for in the transaction of a
// sign-in, as far as they are not there; nobody who changes the configuration is waited for.
// It gives those that are to be Made known, and the names of those that cannot be made: of
// another value by now, or because there are too many.
func (rm *Room) MakeGroups(tx *gorm.DB, by change.By, groups []federation.Unit) (made []federation.Unit,
	without []federation.Name, err error) {
	var n int64
	if len(groups) > 0 {
		err = tx.Model(&store.ObjectRow{}).Where("kind = ?", string(federation.KindGroup)).Count(&n).Error
	}
	for _, g := range groups {
		if err != nil {
			return nil, nil, err
		}
		there, known, err := groupThere(tx, g)
		switch {
		case err != nil:
			return nil, nil, err
		case known:
			continue
		case there, int(n)+len(made) >= federation.MostUnits, rm.Snapshot().CheckUnit(&g) != nil:
			without = append(without, g.Name)
			continue
		}
		g.Revision, g.Added = 1, rm.now().UTC()
		data, err := json.Marshal(&g)
		if err != nil {
			return nil, nil, err
		}
		row := &store.ObjectRow{Kind: string(g.Kind), Name: string(g.Name), Revision: g.Revision, Added: g.Added, Data: data}
		note := change.Note{At: g.Added, By: by, Kind: row.Kind, Name: row.Name, What: "added", Revision: 1, Data: data}
		if err := errors.Join(tx.Create(row).Error, note.Write(tx)); err != nil {
			return nil, nil, err
		}
		made = append(made, g)
	}
	return made, without, err
}

// groupThere reports whether there is a group of a name, and whether it is that of its value.
func groupThere(tx *gorm.DB, g federation.Unit) (there, known bool, err error) {
	var rows []store.ObjectRow
	if err := tx.Where("kind = ? AND name = ?", string(g.Kind), string(g.Name)).Limit(1).Find(&rows).Error; err != nil ||
		len(rows) == 0 {
		return false, false, err
	}
	var x federation.Unit
	if err := json.Unmarshal(rows[0].Data, &x); err != nil {
		return true, false, err
	}
	return true, len(g.Values) == 0 || slices.Contains(x.Values, g.Values[0]), nil
}

// UnitUse is what hangs on a group or an organisation.
type UnitUse struct {
	Members int64
	Holds   []federation.Name // groups that lie in it
	Landing []federation.Name // organisations whose people land in it
}

// Use tells what hangs on a group or an organisation.
func (rm *Room) Use(ctx context.Context, x *federation.Unit) (use UnitUse, err error) {
	return rm.use(rm.store.Read.WithContext(ctx), x)
}

func (rm *Room) use(db *gorm.DB, x *federation.Unit) (use UnitUse, err error) {
	err = db.Model(&store.MemberRow{}).Where("kind = ? AND name = ?", string(x.Kind), string(x.Name)).
		Distinct("person").Count(&use.Members).Error
	if x.Kind == federation.KindGroup {
		use.Holds, use.Landing = rm.Snapshot().Inside(x.Name), rm.Snapshot().LandingIn(x.Name)
	}
	return use, err
}

// finding says what would go with it, nil for nothing.
func (u UnitUse) finding() *finding.Finding {
	if u.Members == 0 && len(u.Holds)+len(u.Landing) == 0 {
		return nil
	}
	f := finding.New(finding.UnitUsed, finding.Fact("Members", fmt.Sprint(u.Members)))
	if len(u.Holds) > 0 {
		f = f.With(finding.Fact("Groups in it, which would lie in none", federation.Listed(u.Holds)))
	}
	if len(u.Landing) > 0 {
		f = f.With(finding.Fact("New people of these land in it", federation.Listed(u.Landing)))
	}
	return f
}

// without are the units that change when a group goes: those that lie in it, and those
// whose people land in it.
func without(snap *federation.Snapshot, x *federation.Unit) (others []Put) {
	if x.Kind != federation.KindGroup {
		return nil
	}
	for _, n := range snap.Inside(x.Name) {
		g, _ := snap.Unit(federation.KindGroup, n)
		free := *g
		free.Inside, free.Revision = "", g.Revision+1
		others = append(others, Put{Object: &free, What: "changed"})
	}
	for _, n := range snap.LandingIn(x.Name) {
		o, _ := snap.Unit(federation.KindOrganisation, n)
		other := *o
		other.Groups = slices.DeleteFunc(slices.Clone(o.Groups), func(g federation.Name) bool { return g == x.Name })
		other.Revision++
		others = append(others, Put{Object: &other, What: "changed"})
	}
	return others
}

// RemoveUnit removes a group or an organisation; if something hangs on it, only what was
// looked at. Memberships go with it.
func (rm *Room) RemoveUnit(ctx context.Context, by change.By, k federation.Kind, name string) error {
	by.Together = &change.Together{}
	return rm.Change(ctx, by, func(now *federation.Snapshot) (Plan, error) {
		o, err := rm.find(now, federation.Ref{Kind: k, Name: federation.Name(name)})
		if err != nil {
			return Plan{}, err
		}
		return Plan{Removed: []federation.Object{o}, Put: without(now, o.(*federation.Unit))}, nil
	})
}
