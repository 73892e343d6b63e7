package records

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate/change"
)

// setKind are mappings that records share.
func (rm *Room) setKind() Kind {
	return Kind{Name: federation.KindSet, Make: func(n federation.Name) federation.Settled {
		return &federation.Set{Name: n}
	}, Read: func(s federation.Stored) (federation.Object, error) {
		out := &federation.Set{}
		err := json.Unmarshal(s.Data, out)
		out.Name, out.Revision, out.Added = federation.Name(s.Name), s.Revision, s.Added
		return out, err
	}, Fits: setFits}
}

// Set finds a set, or tells a near name.
func (rm *Room) Set(name string) (*federation.Set, error) {
	o, err := rm.Object(string(federation.KindSet), name)
	if err != nil {
		return nil, err
	}
	return o.(*federation.Set), nil
}

// PutSet makes a set, from revision 0, or changes it. Every record that shares it follows
// at once; if one of them could not be so, nothing is changed.
func (rm *Room) PutSet(ctx context.Context, by change.By, s federation.Set) (*federation.Set, error) {
	o, err := rm.put(ctx, by, &s)
	if err != nil {
		return nil, err
	}
	return o.(*federation.Set), nil
}

// RemoveSet removes a set that nobody shares.
func (rm *Room) RemoveSet(ctx context.Context, by change.By, name string) error {
	return rm.Remove(ctx, by, federation.KindSet, name)
}

// setFits sees that everybody who shares a set can have it so.
func setFits(before, after *federation.Snapshot, p Put) error {
	s := p.Object.(*federation.Set)
	if old, there := before.Set(s.Name); there && s.Way != old.Way && len(before.Using(s.Name)) > 0 {
		return change.Field("way", errors.New("records share the set as it is; make another one"))
	}
	if err := change.OfSetting(s.Check()); err != nil {
		return err
	}
	for _, r := range after.Using(s.Name) {
		_, err := after.Resolved(r)
		if err == nil {
			err = federation.Check(federation.Flat(r))
		}
		if err != nil {
			return change.Field("mapping", fmt.Errorf("%s could not have it so: %w", r.Ref(), err))
		}
	}
	return nil
}

// shares sees that a record can be what it is together with the set that it names.
func shares(before, after *federation.Snapshot, r federation.Record) error {
	both, err := after.Resolved(r)
	if err == nil && both != r {
		err = federation.Check(federation.Flat(both))
	}
	// A set may have lost a rule since that a record leaves out: only what changes is held to it.
	old, known := before.Record(r.Kind(), r.Basic().Name)
	if err == nil && (!known || !federation.OwnMapping(old).Alike(federation.OwnMapping(r))) {
		err = after.OmitsOnlyWhatIs(r)
	}
	return change.OfSetting(err)
}

// Weighing tells what a change of the configuration does to people.
type Weighing func(ctx context.Context, before, after *federation.Snapshot) (change.Consequence, error)

// Weighs has a room that knows of consequences asked about changes, before each is carried out.
func (rm *Room) Weighs(how Weighing) { rm.weighing = append(rm.weighing, how) }

// Weigh tells what a change would do to people.
func (rm *Room) Weigh(ctx context.Context, c Proposed) (change.Consequence, error) {
	d, err := rm.laid(func(now *federation.Snapshot) (Plan, error) { return rm.proposed(now, c) })
	if err != nil {
		return change.Consequence{}, err
	}
	return rm.weighed(ctx, d)
}

// Proposed is a change that is only looked at: settings of records, and a set.
type Proposed struct {
	Changes []SettingChange
	Set     *federation.Set
}

// SettingChange is settings of one record as they would be.
type SettingChange struct {
	Kind, Name string
	Settings   federation.Settings
}

// Propose gives the configuration of now, and as it would be after a change, which has to
// be one that could be saved.
func (rm *Room) Propose(c Proposed) (before, after *federation.Snapshot, err error) {
	d, err := rm.laid(func(now *federation.Snapshot) (Plan, error) { return rm.proposed(now, c) })
	if err != nil {
		return nil, nil, err
	}
	return d.before, d.after, nil
}

// proposed plans a change that is only looked at.
func (rm *Room) proposed(now *federation.Snapshot, c Proposed) (p Plan, err error) {
	after := now
	if c.Set != nil {
		s, err := rm.next(now, c.Set)
		if err != nil {
			return p, err
		}
		p.Put, after = append(p.Put, Put{Object: s}), now.With(s)
	}
	for _, x := range c.Changes {
		old, ok := after.Record(federation.Kind(x.Kind), federation.Name(x.Name))
		if !ok {
			_, err := rm.Record(x.Kind, x.Name)
			return p, err
		}
		r, err := rm.changed(after, old, x.Settings)
		if err != nil {
			return p, err
		}
		p.Put, after = append(p.Put, Put{Object: r, Field: "ownFace"}), after.With(r)
	}
	return p, nil
}
