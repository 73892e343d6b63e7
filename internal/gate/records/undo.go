package records

import (
	"context"
	"errors"
	"fmt"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/store"
)

// Undone is what taking a change back came to.
type Undone struct {
	Changed []string // kind/name of records that are what they were
	Removed []string // of those that the change had added
	Number  int64    // of the changes that this made
}

// Undo takes a change of a record back: it becomes what it was before. A change
// that was made together with others is taken back with all of them, or not at
// all. Nothing that was changed since is touched.
func (rm *Room) Undo(ctx context.Context, by change.By, id int64) (Undone, error) {
	rows, err := rm.together(ctx, id)
	if err != nil {
		return Undone{}, err
	}
	rm.Lock()
	defer rm.Unlock()
	var p plan
	var out Undone
	for _, row := range rows {
		if err := rm.undoOne(ctx, row, &p, &out); err != nil {
			return Undone{}, err
		}
	}
	after := p.over(rm.Snapshot())
	if err := free(after, p.removed); err != nil {
		return Undone{}, err
	}
	for _, e := range p.edits {
		r := e.Record
		for _, err := range []error{rm.tied(after, r), change.OfSetting(federation.Check(r)), rm.Fits(after, r,
			"entityId")} {
			if err != nil {
				return Undone{}, err
			}
		}
	}
	p.more = func(tx *gorm.DB) error {
		for _, e := range p.edits {
			if err := rm.freshness.TakenIn(tx, e.Record); err != nil {
				return err
			}
		}
		return nil
	}
	by.Together = &change.Together{}
	err = rm.commit(ctx, by, p)
	out.Number = by.Together.Number
	return out, err
}

// together gives a change with those that were made with it; of each record the
// first one.
func (rm *Room) together(ctx context.Context, id int64) ([]store.HistoryRow, error) {
	row, err := rm.HistoryRow(ctx, id)
	if err != nil {
		return nil, err
	}
	rows := []store.HistoryRow{row}
	if row.Batch > 0 {
		if err := rm.store.Read.WithContext(ctx).Where("batch = ?", row.Batch).Order("id").Find(&rows).Error; err != nil {
			return nil, err
		}
	}
	for _, r := range rows {
		if r.Kind != change.KindProvider && r.Kind != change.KindApplication || r.Revision == 0 {
			return nil, change.Conflict(fmt.Sprintf("the change of the %s %q cannot be taken back", r.Kind, r.Name),
				"only changes of providers and applications can; make it good by a new change")
		}
	}
	return rows, nil
}

// undoOne plans to make one record what it was before a change.
func (rm *Room) undoOne(ctx context.Context, row store.HistoryRow, p *plan, out *Undone) error {
	if later, err := rm.later(ctx, row); err != nil {
		return err
	} else if later > 0 {
		return change.Conflict(fmt.Sprintf("the %s %q was changed since, by the change %d", row.Kind, row.Name, later),
			"take that back first, or restore what you want from the history")
	}
	path := row.Kind + "/" + row.Name
	now, err := rm.Record(row.Kind, row.Name)
	there := err == nil
	from := row // of one that was removed: as it was then
	if row.What != "removed" {
		var before store.HistoryRow
		err := rm.store.Read.WithContext(ctx).Where("kind = ? AND name = ? AND revision > 0 AND id < ? AND length(data) > 0",
			row.Kind, row.Name, row.ID).Order("id DESC").Take(&before).Error
		if from = before; errors.Is(err, gorm.ErrRecordNotFound) || err == nil && from.What == "removed" {
			if !there {
				return change.NotFound(row.Kind, row.Name, "")
			}
			p.removed, out.Removed = append(p.removed, now), append(out.Removed, path)
			return nil
		}
		if err != nil {
			return err
		}
	}
	r, err := rm.Restored(from)
	if err != nil {
		return err
	}
	if there {
		r.Basic().Added, r.Basic().ID = now.Basic().Added, now.Basic().ID
	}
	r.Basic().Revision = row.Revision + 1
	p.edits = append(p.edits, Edit{Record: r, What: fmt.Sprintf("took back change %d", row.ID)})
	out.Changed = append(out.Changed, path)
	return nil
}
