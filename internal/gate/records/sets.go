package records

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/nearword"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/store"
)

// KindSet is the kind of sets, in the history.
const KindSet = "set"

func (rm *Room) loadSets() ([]*federation.Set, error) {
	var rows []store.SetRow
	if err := rm.store.Read.Find(&rows).Error; err != nil {
		return nil, err
	}
	return each(rows, readSet)
}

func readSet(row store.SetRow) (*federation.Set, error) {
	s := &federation.Set{}
	err := json.Unmarshal(row.Data, s)
	s.Name, s.Revision, s.Added = federation.Name(row.Name), row.Revision, row.Added
	return s, err
}

// Set finds a set, or tells a near name.
func (rm *Room) Set(name string) (*federation.Set, error) {
	snap := rm.Snapshot()
	if s, ok := snap.Set(federation.Name(name)); ok {
		return s, nil
	}
	return nil, change.NotFound(KindSet, name, nearword.Of(name, snap.SetNames()))
}

// PutSet makes a set, from revision 0, or changes it. Every record that shares it follows
// at once; if one of them could not be so, nothing is changed.
func (rm *Room) PutSet(ctx context.Context, by change.By, s federation.Set) (*federation.Set, error) {
	rm.Lock()
	defer rm.Unlock()
	after, set, err := rm.withSet(s)
	if err != nil {
		return nil, err
	}
	what := "changed"
	if set.Revision == 1 {
		what = "added"
	}
	return set, rm.saveSet(ctx, by, set, after, what)
}

// withSet gives the snapshot with a set at its next revision, if everybody who shares it
// can have it so.
func (rm *Room) withSet(s federation.Set) (*federation.Snapshot, *federation.Set, error) {
	snap := rm.Snapshot()
	old, there := snap.Set(s.Name)
	switch {
	case there && s.Revision != old.Revision:
		return nil, nil, change.Stale(KindSet, string(s.Name), old.Revision, s.Revision)
	case !there && s.Revision != 0:
		return nil, nil, change.NotFound(KindSet, string(s.Name), nearword.Of(string(s.Name), snap.SetNames()))
	case there && s.Way != old.Way && len(snap.Using(s.Name)) > 0:
		return nil, nil, change.Field("way", errors.New("records share the set as it is; make another one"))
	}
	if _, err := federation.ParseName(string(s.Name)); err != nil {
		return nil, nil, change.Field("name", err)
	}
	if err := change.OfSetting(s.Check()); err != nil {
		return nil, nil, err
	}
	s.Revision++
	if s.Added = rm.now().UTC(); there {
		s.Added = old.Added
	}
	after := snap.WithSets(&s)
	for _, r := range after.Using(s.Name) {
		if _, err := after.Resolved(r); err != nil {
			return nil, nil, change.Field("mapping", fmt.Errorf("%s could not have it so: %w", federation.Path(r), err))
		}
		if err := federation.Check(federation.Flat(r)); err != nil {
			return nil, nil, change.Field("mapping", fmt.Errorf("%s could not have it so: %w", federation.Path(r), err))
		}
	}
	return after, &s, nil
}

func (rm *Room) saveSet(ctx context.Context, by change.By, s *federation.Set, after *federation.Snapshot, what string) error {
	data, err := json.Marshal(s)
	if err != nil {
		return err
	}
	if err := rm.weigh(ctx, by, after); err != nil {
		return err
	}
	err = rm.store.Write(ctx, func(tx *gorm.DB) error {
		row := &store.SetRow{Name: string(s.Name), Revision: s.Revision, Added: s.Added, Data: data}
		if err := change.Unchanged(tx, row, KindSet, row.Name, s.Revision-1); err != nil {
			return err
		}
		if err := tx.Save(row).Error; err != nil {
			return err
		}
		return change.Note{At: rm.now(), By: by, Kind: KindSet, Name: row.Name, What: what, Revision: s.Revision,
			Data: data}.Write(tx)
	})
	if err == nil {
		rm.show(after)
	}
	return err
}

// RemoveSet removes a set that nobody shares.
func (rm *Room) RemoveSet(ctx context.Context, by change.By, name string) error {
	rm.Lock()
	defer rm.Unlock()
	s, err := rm.Set(name)
	if err != nil {
		return err
	}
	if using := rm.Snapshot().Using(s.Name); len(using) > 0 {
		paths := []string{}
		for _, r := range using[:min(5, len(using))] {
			paths = append(paths, federation.Path(r))
		}
		return change.Conflict(fmt.Sprintf("the set %q is shared by %d records: %s", name, len(using),
			strings.Join(paths, ", ")), "have them name another one, or none, first")
	}
	data, err := json.Marshal(s)
	if err != nil {
		return err
	}
	err = rm.store.Write(ctx, func(tx *gorm.DB) error {
		row := &store.SetRow{Name: name}
		if err := change.Unchanged(tx, row, KindSet, name, s.Revision); err != nil {
			return err
		}
		if err := (change.Note{At: rm.now(), By: by, Kind: KindSet, Name: name, What: "removed", Revision: s.Revision + 1,
			Data: data}).Write(tx); err != nil {
			return err
		}
		return tx.Delete(row).Error
	})
	if err == nil {
		rm.show(rm.Snapshot().LackingSet(s.Name))
	}
	return err
}

// restoreSet sets a set back to what it was after a change.
func (rm *Room) restoreSet(ctx context.Context, by change.By, row store.HistoryRow) error {
	s, err := readSet(store.SetRow{Name: row.Name, Data: row.Data})
	if err != nil {
		return err
	}
	rm.Lock()
	defer rm.Unlock()
	if now, ok := rm.Snapshot().Set(s.Name); ok {
		s.Revision = now.Revision
	}
	after, set, err := rm.withSet(*s)
	if err != nil {
		return err
	}
	return rm.saveSet(ctx, by, set, after, fmt.Sprintf("restored revision %d", row.Revision))
}

// shares sees that a record can be what it is together with the set that it names.
func (rm *Room) shares(snap *federation.Snapshot, r federation.Record) error {
	both, err := snap.Resolved(r)
	if err == nil && both != r {
		err = federation.Check(federation.Flat(both))
	}
	// A set may have lost a rule since that a record leaves out: only what changes is held to it.
	old, known := rm.Snapshot().Record(r.Kind(), r.Basic().Name)
	if err == nil && (!known || !federation.OwnMapping(old).Alike(federation.OwnMapping(r))) {
		err = snap.OmitsOnlyWhatIs(r)
	}
	return change.OfSetting(err)
}

// setValues describes a set for the history.
func setValues(data []byte) ([]federation.Value, error) {
	var s federation.Set
	if err := json.Unmarshal(data, &s); err != nil {
		return nil, err
	}
	return append([]federation.Value{{Label: "Title", Value: s.Title}, {Label: "Way", Value: string(s.Way)},
		{Label: "Notes", Value: s.Notes}}, federation.RuleValues("mapping", s.Mapping)...), nil
}

// weigh looks at what a change does to people, and sees that it was looked at before where
// somebody would be refused or named otherwise by it.
func (rm *Room) weigh(ctx context.Context, by change.By, after *federation.Snapshot) error {
	if rm.consequence == nil {
		return nil
	}
	c, err := rm.consequence(ctx, rm.Snapshot(), after)
	if by.Took != nil {
		*by.Took = c
	}
	if err != nil || c.Finding == nil || by.Confirms == c.Digest {
		return err
	}
	return change.Field("confirm", c.Finding.With(finding.Fact("To confirm", c.Digest)))
}

// Weighs has changes asked about what they do to people.
func (rm *Room) Weighs(how func(ctx context.Context, before, after *federation.Snapshot) (change.Consequence, error)) {
	rm.consequence = how
}

// Weigh tells what a change would do to people.
func (rm *Room) Weigh(ctx context.Context, c Proposed) (change.Consequence, error) {
	before, after, err := rm.Propose(c)
	if err != nil || rm.consequence == nil {
		return change.Consequence{}, err
	}
	return rm.consequence(ctx, before, after)
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
	before = rm.Snapshot()
	after = before
	if c.Set != nil {
		if after, _, err = rm.withSet(*c.Set); err != nil {
			return nil, nil, err
		}
	}
	for _, x := range c.Changes {
		old, ok := after.Record(federation.Kind(x.Kind), federation.Name(x.Name))
		if !ok {
			_, err := rm.Record(x.Kind, x.Name)
			return nil, nil, err
		}
		r, err := rm.changed(after, old, x.Settings)
		if err != nil {
			return nil, nil, err
		}
		after = after.With(r)
	}
	return before, after, nil
}
