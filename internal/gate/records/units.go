package records

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
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

func isUnit(kind string) bool {
	return kind == string(federation.KindGroup) || kind == string(federation.KindOrganisation)
}

func (rm *Room) loadUnits() ([]*federation.Unit, error) {
	var rows []store.UnitRow
	if err := rm.store.Read.Find(&rows).Error; err != nil {
		return nil, err
	}
	return each(rows, readUnit)
}

func readUnit(row store.UnitRow) (*federation.Unit, error) {
	x := &federation.Unit{}
	err := json.Unmarshal(row.Data, x)
	x.Kind, x.Name, x.Revision, x.Added = federation.UnitKind(row.Kind), federation.Name(row.Name), row.Revision, row.Added
	return x, err
}

// Unit finds a group or an organisation, or tells a near name.
func (rm *Room) Unit(k federation.UnitKind, name string) (*federation.Unit, error) {
	snap := rm.Snapshot()
	if x, ok := snap.Unit(k, federation.Name(name)); ok {
		return x, nil
	}
	return nil, change.NotFound(string(k), name, nearword.Of(name, snap.UnitNames(k)))
}

// PutUnit makes a group or an organisation, from revision 0, or changes it.
func (rm *Room) PutUnit(ctx context.Context, by change.By, x federation.Unit) (*federation.Unit, error) {
	rm.Lock()
	defer rm.Unlock()
	what := "changed"
	if x.Revision == 0 {
		what = "added"
	}
	return rm.putUnit(ctx, by, x, what)
}

func (rm *Room) putUnit(ctx context.Context, by change.By, x federation.Unit, what string) (*federation.Unit, error) {
	snap := rm.Snapshot()
	old, there := snap.Unit(x.Kind, x.Name)
	if _, err := federation.ParseName(string(x.Name)); err != nil {
		return nil, change.Field("name", err)
	}
	switch {
	case there && x.Revision == 0:
		return nil, change.Field("name", finding.New(finding.NameTaken, finding.Fact("Name", string(x.Name))))
	case there && x.Revision != old.Revision:
		return nil, change.Stale(string(x.Kind), string(x.Name), old.Revision, x.Revision)
	case !there && x.Revision != 0:
		return nil, change.NotFound(string(x.Kind), string(x.Name), nearword.Of(string(x.Name), snap.UnitNames(x.Kind)))
	case !there && len(snap.Units(x.Kind)) >= federation.MostUnits:
		return nil, change.Conflict(fmt.Sprintf("there are %d of them", federation.MostUnits), "remove those that nobody needs first")
	}
	if err := change.OfSetting(snap.CheckUnit(&x)); err != nil {
		return nil, err
	}
	x.Revision++
	if x.Added = rm.now().UTC(); there {
		x.Added = old.Added
	}
	data, err := json.Marshal(&x)
	if err != nil {
		return nil, err
	}
	err = rm.store.Write(ctx, func(tx *gorm.DB) error {
		row := &store.UnitRow{Kind: string(x.Kind), Name: string(x.Name), Revision: x.Revision, Added: x.Added, Data: data}
		if err := unitUnchanged(tx, &x, x.Revision-1); err != nil {
			return err
		}
		if err := tx.Save(row).Error; err != nil {
			return err
		}
		return change.Note{At: rm.now(), By: by, Kind: row.Kind, Name: row.Name, What: what, Revision: x.Revision,
			Data: data}.Write(tx)
	})
	if err != nil {
		return nil, err
	}
	rm.show(rm.Snapshot().WithUnits(nil, &x))
	return &x, nil
}

func unitUnchanged(tx *gorm.DB, x *federation.Unit, revision int) error {
	return change.Unchanged(tx.Where("kind = ?", string(x.Kind)).Session(&gorm.Session{}), &store.UnitRow{}, string(x.Kind),
		string(x.Name), revision)
}

// show makes a snapshot the one that everything goes by. Groups that sign-ins made while it
// was prepared are in it, too.
func (rm *Room) show(next *federation.Snapshot) {
	rm.swapping.Lock()
	defer rm.swapping.Unlock()
	rm.snapshot.Store(withGroups(next, rm.newcomers))
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
			snap = snap.WithUnits(nil, &g)
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
		err = tx.Model(&store.UnitRow{}).Where("kind = ?", string(federation.KindGroup)).Count(&n).Error
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
		row := &store.UnitRow{Kind: string(g.Kind), Name: string(g.Name), Revision: g.Revision, Added: g.Added, Data: data}
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
	var rows []store.UnitRow
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
func (u UnitUse) finding(x *federation.Unit) (*finding.Finding, string) {
	if u.Members == 0 && len(u.Holds)+len(u.Landing) == 0 {
		return nil, ""
	}
	f := finding.New(finding.UnitUsed, finding.Fact("Members", fmt.Sprint(u.Members)))
	if len(u.Holds) > 0 {
		f = f.With(finding.Fact("Groups in it, which would lie in none", listed(u.Holds)))
	}
	if len(u.Landing) > 0 {
		f = f.With(finding.Fact("New people of these land in it", listed(u.Landing)))
	}
	sum := sha256.Sum256(fmt.Appendf(nil, "%s %s %d %d %q %q", x.Kind, x.Name, x.Revision, u.Members, u.Holds, u.Landing))
	digest := hex.EncodeToString(sum[:8])
	return f.With(finding.Fact("To confirm", digest)), digest
}

// without are the units that change when a group goes: those that lie in it, and those
// whose people land in it.
func without(snap *federation.Snapshot, x *federation.Unit) (others []*federation.Unit) {
	if x.Kind != federation.KindGroup {
		return nil
	}
	for _, n := range snap.Inside(x.Name) {
		g, _ := snap.Unit(federation.KindGroup, n)
		free := *g
		free.Inside, free.Revision = "", g.Revision+1
		others = append(others, &free)
	}
	for _, n := range snap.LandingIn(x.Name) {
		o, _ := snap.Unit(federation.KindOrganisation, n)
		other := *o
		other.Groups = slices.DeleteFunc(slices.Clone(o.Groups), func(g federation.Name) bool { return g == x.Name })
		other.Revision++
		others = append(others, &other)
	}
	return others
}

// RemoveUnit removes a group or an organisation; if something hangs on it, only what was
// looked at. Memberships go with it.
func (rm *Room) RemoveUnit(ctx context.Context, by change.By, k federation.UnitKind, name string) error {
	rm.Lock()
	defer rm.Unlock()
	x, err := rm.Unit(k, name)
	if err != nil {
		return err
	}
	others, number := without(rm.Snapshot(), x), int64(0)
	if by.Together != nil {
		number = by.Together.Number
	}
	err = rm.store.Write(ctx, func(tx *gorm.DB) error {
		use, err := rm.use(tx, x)
		if err != nil {
			return err
		}
		if f, digest := use.finding(x); f != nil && by.Confirms != digest {
			return change.Field("confirm", f)
		}
		if err := unitUnchanged(tx, x, x.Revision); err != nil {
			return err
		}
		by := by
		by.Together = &change.Together{Number: number} // it may be run again
		return rm.removeUnit(tx, by, x, others)
	})
	if err == nil {
		rm.show(rm.Snapshot().WithUnits(x, others...))
	}
	return err
}

// removeUnit takes one out, with who belongs to it, and stores what changes with it.
func (rm *Room) removeUnit(tx *gorm.DB, by change.By, x *federation.Unit, others []*federation.Unit) error {
	if err := rm.noteUnit(tx, by, x, "removed", x.Revision+1); err != nil {
		return err
	}
	for _, o := range others {
		data, err := json.Marshal(o)
		if err != nil {
			return err
		}
		err = tx.Model(&store.UnitRow{}).Where("kind = ? AND name = ?", string(o.Kind), string(o.Name)).Updates(map[string]any{
			"data": data, "revision": o.Revision}).Error
		if err == nil {
			err = rm.noteUnit(tx, by, o, "changed", o.Revision)
		}
		if err != nil {
			return err
		}
	}
	gone := tx.Where("kind = ? AND name = ?", string(x.Kind), string(x.Name)).Session(&gorm.Session{})
	return errors.Join(gone.Delete(&store.MemberRow{}).Error, gone.Delete(&store.UnitRow{}).Error)
}

func (rm *Room) noteUnit(tx *gorm.DB, by change.By, x *federation.Unit, what string, revision int) error {
	data, err := json.Marshal(x)
	if err != nil {
		return err
	}
	return change.Note{At: rm.now(), By: by, Kind: string(x.Kind), Name: string(x.Name), What: what, Revision: revision,
		Data: data}.Write(tx)
}

// restoreUnit sets one back to what it was after a change. Who belonged to it is not in
// the history.
func (rm *Room) restoreUnit(ctx context.Context, by change.By, row store.HistoryRow) error {
	x, err := readUnit(store.UnitRow{Kind: row.Kind, Name: row.Name, Data: row.Data})
	if err != nil {
		return err
	}
	rm.Lock()
	defer rm.Unlock()
	x.Revision = 0
	if now, ok := rm.Snapshot().Unit(x.Kind, x.Name); ok {
		x.Revision = now.Revision
	}
	_, err = rm.putUnit(ctx, by, *x, fmt.Sprintf("restored revision %d", row.Revision))
	return err
}

func listed(all []federation.Name) string {
	words := make([]string, len(all))
	for i, n := range all {
		words[i] = string(n)
	}
	return strings.Join(words, ", ")
}

// unitValues describes one for the history.
func unitValues(x *federation.Unit) []federation.Value {
	out := []federation.Value{{Label: "Title", Value: x.Title}, {Label: "Notes", Value: x.Notes}, {Label: "User type", Value: x.UserType}}
	if x.Kind == federation.KindGroup {
		return append(out, federation.Value{Label: "Inside", Value: string(x.Inside)},
			federation.Value{Label: "Values", Value: strings.Join(x.Values, ", ")})
	}
	return append(out, federation.Value{Label: "Providers", Value: listed(x.Providers)},
		federation.Value{Label: "Domains", Value: strings.Join(x.Domains, ", ")}, federation.Value{Label: "Landing groups", Value: listed(x.Groups)})
}
