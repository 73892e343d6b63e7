package records

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/store"
)

// Plan is a change of the configuration: all of it is carried out, or nothing.
type Plan struct {
	Put     []Put
	Removed []federation.Object
	// More is done in the same transaction.
	More func(store.Tx) error
	// Keys says that keys of the gate's own change with it, and are read anew.
	Keys bool
}

// Put is one object as it is to be, at its next revision.
type Put struct {
	Object   federation.Object
	What     string // as history says it
	Document []byte // to be kept, if there is one
	Quiet    bool   // nothing that history should tell of
	Judged   bool   // whoever plans it has seen that it can be so
	Field    string // of what was given that its identity comes from
}

// Puts is a plan of one object.
func Puts(o federation.Object, what string) Plan { return Plan{Put: []Put{{Object: o, What: what}}} }

// over gives the configuration as it is after a plan.
func (rm *Room) over(snap *federation.Snapshot, p Plan) *federation.Snapshot {
	inside := func(o federation.Object) bool { return rm.kinds[o.Ref().Kind].Now == nil }
	var put, gone []federation.Object
	for _, x := range p.Put {
		if inside(x.Object) {
			put = append(put, x.Object)
		}
	}
	for _, o := range p.Removed {
		if inside(o) {
			gone = append(gone, o)
		}
	}
	if len(put)+len(gone) == 0 {
		return snap
	}
	return snap.Having(put, gone)
}

// draft is a plan laid over the configuration, and what it comes to.
type draft struct {
	Plan
	before, after *federation.Snapshot
}

// Change carries out what plan makes for the configuration of now: in one transaction, under one
// number in the history, with one new snapshot. plan may be called more than once: what it is
// given may have changed until the plan is carried out. It reads, and changes nothing.
func (rm *Room) Change(ctx context.Context, by change.By, plan func(now *federation.Snapshot) (Plan, error)) error {
	for range 2 { // what it does to people is looked at while others may change things
		d, err := rm.drafted(ctx, by, plan)
		if err != nil {
			return err
		}
		rm.saving.Lock()
		if rm.began() != d.before {
			rm.saving.Unlock()
			continue
		}
		err = rm.commit(ctx, by, d)
		rm.saving.Unlock()
		return err
	}
	rm.saving.Lock()
	defer rm.saving.Unlock()
	return rm.alone(ctx, by, plan)
}

// ChangeIfFree does so if nobody changes the configuration at the moment; it reports whether.
func (rm *Room) ChangeIfFree(ctx context.Context, by change.By, plan func(now *federation.Snapshot) (Plan,
	error)) (bool, error) {
	if !rm.saving.TryLock() {
		return false, nil
	}
	defer rm.saving.Unlock()
	return true, rm.alone(ctx, by, plan)
}

// alone carries a plan out that is made under the lock.
func (rm *Room) alone(ctx context.Context, by change.By, plan func(now *federation.Snapshot) (Plan, error)) error {
	rm.began()
	d, err := rm.drafted(ctx, by, plan)
	if err != nil {
		return err
	}
	return rm.commit(ctx, by, d)
}

// laid lays a plan over the configuration of now, and sees that it could be carried out.
func (rm *Room) laid(plan func(now *federation.Snapshot) (Plan, error)) (*draft, error) {
	before := rm.Snapshot()
	p, err := plan(before)
	if err != nil {
		return nil, err
	}
	d := &draft{Plan: p, before: before, after: rm.over(before, p)}
	return d, rm.fits(d)
}

// weighed tells what a draft does to people.
func (rm *Room) weighed(ctx context.Context, d *draft) (out change.Consequence, err error) {
	if d.after == d.before {
		return out, nil
	}
	pairs := [][2]*federation.Snapshot{{d.before, d.after}}
	if later := arrived(d.before, d.after); later != d.after { // a change that waits is weighed by what it will be
		pairs = append(pairs, [2]*federation.Snapshot{d.after, later})
	}
	for _, p := range pairs {
		for _, how := range rm.weighing {
			one, err := how(ctx, p[0], p[1])
			if err != nil {
				return out, err
			}
			out = out.And(one)
		}
	}
	return out, nil
}

// drafted sees that a plan can be carried out, and that what it does to people was looked at where
// it needs to be.
func (rm *Room) drafted(ctx context.Context, by change.By, plan func(now *federation.Snapshot) (Plan, error)) (*draft,
	error) {
	d, err := rm.laid(plan)
	if err == nil {
		err = rm.approved(ctx, by, d)
	}
	if err != nil {
		return nil, err
	}
	took, err := rm.weighed(ctx, d)
	if err == nil {
		err = by.Confirmed(took)
	}
	return d, err
}

// fits sees that everything in a plan can be so once it is carried out.
func (rm *Room) fits(d *draft) error {
	added := map[federation.Kind]int{}
	for _, p := range d.Put {
		r := p.Object.Ref()
		k, err := rm.kind(r.Kind)
		if err != nil {
			return err
		}
		if rm.at(d.before, r) == nil {
			if _, err := federation.ParseName(string(r.Name)); err != nil {
				return change.Field("name", err)
			}
			if added[r.Kind]++; k.Most > 0 && len(d.before.Objects(r.Kind))+added[r.Kind] > k.Most {
				return change.Conflict(fmt.Sprintf("there are %d of them", k.Most), "remove those that nobody needs first")
			}
		}
		if p.Judged {
			continue
		}
		if k.Fits != nil {
			if err := k.Fits(d.before, d.after, p); err != nil {
				return err
			}
		}
		if err := change.OfSetting(d.after.Missing(p.Object)); err != nil {
			return err
		}
	}
	for _, o := range d.Removed {
		if r := o.Ref(); rm.kinds[r.Kind].Given != nil {
			return change.Conflict(fmt.Sprintf("the %s %q is always there", r.Kind, r.Name), "change it instead")
		}
	}
	return unnamed(d.after, d.Removed)
}

// unnamed sees that nothing is left that names what is removed.
func unnamed(after *federation.Snapshot, removed []federation.Object) error {
	gone := map[federation.Ref]bool{}
	for _, o := range removed {
		if _, back := after.Object(o.Ref()); !back {
			gone[o.Ref()] = true
		}
	}
	return nobodyNames(after, gone)
}

// nobodyNames sees that no object names one of these.
func nobodyNames(after *federation.Snapshot, gone map[federation.Ref]bool) error {
	if len(gone) == 0 {
		return nil
	}
	var first federation.Ref
	by := []string{}
	for _, k := range after.Kinds() {
		for _, o := range after.Objects(k) {
			if gone[o.Ref()] {
				continue
			}
			for _, to := range o.Refers() {
				if gone[to.Ref] && (len(by) == 0 || to.Ref == first) {
					first = to.Ref
					by = append(by, fmt.Sprintf("%s (%s)", o.Ref(), to.Field))
				}
			}
		}
	}
	if len(by) == 0 {
		return nil
	}
	more := ""
	if n := len(by); n > 5 {
		by, more = by[:5], fmt.Sprintf(" and %d more", n-5)
	}
	return change.Conflict(fmt.Sprintf("the %s %q is named by %s%s", first.Kind, first.Name, strings.Join(by, ", "),
		more),
		"have them name another one, or none, first")
}

// written is an object in the form in which it is stored. It is made before the
// transaction, which all others wait for.
type written struct {
	Put
	kind     Kind
	row      any
	data     []byte
	document *store.Packed
	was      int               // revision that the change was made from, 0 if there was none
	secrets  map[string]string // that calls name, by name
	after    *federation.Snapshot
}

// commit carries a draft out: all of it, or nothing. The lock is held.
func (rm *Room) commit(ctx context.Context, by change.By, d *draft) error {
	writes := make([]written, len(d.Put))
	self := d.after.Gate
	for i, p := range d.Put {
		var err error
		if r, is := p.Object.(federation.Record); is {
			if self, err = rm.needed(ctx, self, r); err != nil {
				return err
			}
		}
		if writes[i], err = rm.written(ctx, d, p); err != nil {
			return err
		}
	}
	var number int64
	if by.Together != nil {
		number = by.Together.Number
	}
	if len(d.Put)+len(d.Removed) == 0 && d.More == nil {
		return nil
	}
	err := rm.store.Write(ctx, func(tx *gorm.DB) error {
		if by.Together != nil {
			by.Together.Number = number // it may be run again
		}
		return rm.carryOut(tx, by, d, writes)
	})
	if err != nil {
		if by.Together != nil {
			by.Together.Number = number // what had it is not there
		}
		return err
	}
	if slices.ContainsFunc(d.Removed, func(o federation.Object) bool { return o.Ref().Kind == federation.KindProvider }) {
		rm.sessions.Clear()
	}
	after := d.after
	if d.before != d.after { // the records that were written hold their secrets by name, and their keys
		after = rm.over(d.before, d.Plan)
	}
	rm.show(after.WithGate(self))
	for _, o := range d.Removed {
		if k := rm.kinds[o.Ref().Kind]; k.Gone != nil {
			if err := k.Gone(ctx, o); err != nil {
				return err
			}
		}
	}
	if d.Keys {
		err = rm.reloadKeys(ctx)
	}
	select {
	case rm.touched <- struct{}{}:
	default:
	}
	return err
}

// carryOut stores what a draft changes.
func (rm *Room) carryOut(tx *gorm.DB, by change.By, d *draft, writes []written) error {
	for _, o := range d.Removed {
		if err := rm.removeOne(tx, by, o); err != nil {
			return err
		}
	}
	for _, w := range writes {
		if err := rm.putOne(tx, by, w); err != nil {
			return err
		}
	}
	if d.More != nil {
		return d.More(rm.store.In(tx))
	}
	return nil
}

// written gives an object as it is stored.
func (rm *Room) written(ctx context.Context, d *draft, p Put) (w written, err error) {
	w = written{Put: p, kind: rm.kinds[p.Object.Ref().Kind], after: d.after}
	if r, is := p.Object.(federation.Record); is {
		if err := rm.prepare(ctx, r, &w); err != nil {
			return w, err
		}
	}
	if now := rm.at(d.before, p.Object.Ref()); now != nil {
		w.was = now.At()
	}
	w.row, w.data, err = w.kind.row(w.Object)
	return w, err
}

func (rm *Room) putOne(tx *gorm.DB, by change.By, w written) error {
	r := w.Object.Ref()
	if w.document != nil {
		if err := w.document.Put(tx); err != nil {
			return err
		}
	}
	if err := w.kind.unchanged(tx, w.row, string(r.Name), w.was); err != nil {
		return err
	}
	if err := rm.keepSecrets(tx, w); err != nil {
		return err
	}
	if w.kind.Keep != nil {
		if err := w.kind.Keep(tx, w.Put); err != nil {
			return err
		}
	}
	if err := tx.Save(w.row).Error; err != nil || w.Quiet {
		return err
	}
	return change.Note{At: rm.now(), By: by, What: w.What, Revision: w.Object.At(), Data: w.data}.WriteOf(tx, w.Object)
}

// removeOne takes an object out, with what belongs to it, if nobody loses anything by it or that
// was looked at.
func (rm *Room) removeOne(tx *gorm.DB, by change.By, o federation.Object) error {
	k, name := rm.kinds[o.Ref().Kind], string(o.Ref().Name)
	row, data, err := k.row(o)
	if err != nil {
		return err
	}
	if k.Held != nil {
		f, err := k.Held(tx, o)
		if err != nil {
			return err
		}
		if digest := digestOf(o, f); f != nil && by.Confirms != digest {
			return change.Field("confirm", f.With(finding.Fact("To confirm", digest)))
		}
	}
	if err := k.unchanged(tx, row, name, o.At()); err != nil {
		return err
	}
	if k.Drop != nil {
		if err := k.Drop(tx, o); err != nil {
			return err
		}
	}
	note := change.Note{At: rm.now(), By: by, What: "removed", Revision: o.At() + 1, Data: data}
	return errors.Join(note.WriteOf(tx, o), tx.Delete(row).Error)
}

// digestOf is short for what would be lost with an object.
func digestOf(o federation.Object, f *finding.Finding) string {
	if f == nil {
		return ""
	}
	return change.Digest(o.Ref(), o.At(), f.Evidence)
}

// began notes that a change of the configuration begins, and gives what it begins with. The lock
// is held.
func (rm *Room) began() *federation.Snapshot {
	rm.swapping.Lock()
	defer rm.swapping.Unlock()
	rm.newcomers = nil // whoever looks at the configuration from here on sees them
	return rm.snapshot.Load()
}

// show makes a snapshot the one that everything goes by. Groups that sign-ins made while it
// was prepared are in it, too.
func (rm *Room) show(next *federation.Snapshot) {
	rm.swapping.Lock()
	defer rm.swapping.Unlock()
	rm.snapshot.Store(withGroups(next, rm.newcomers))
}

// Changed tells that something was saved, once however often.
func (rm *Room) Changed() <-chan struct{} { return rm.touched }
