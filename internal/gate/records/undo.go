package records

import (
	"context"
	"fmt"
	"slices"

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

// Undo takes a change of an object back: it becomes what it was before. A change
// that was made together with others is taken back with all of them, or not at
// all. Nothing that was changed since is touched.
func (rm *Room) Undo(ctx context.Context, by change.By, id int64) (Undone, error) {
	rows, err := rm.together(ctx, id)
	if err != nil {
		return Undone{}, err
	}
	by.Together = &change.Together{}
	var out Undone
	err = rm.Change(ctx, by, func(now *federation.Snapshot) (Plan, error) {
		out = Undone{}
		var put []Put
		var removed []federation.Object
		for _, row := range rows {
			o, was, err := rm.before(ctx, now, row)
			switch {
			case err != nil:
				return Plan{}, err
			case was == nil:
				removed, out.Removed = append(removed, o), append(out.Removed, o.Ref().String())
			default:
				put = append(put, Put{Object: was, What: fmt.Sprintf("took back change %d", row.ID)})
				out.Changed = append(out.Changed, was.Ref().String())
			}
		}
		return rm.back(now, put, removed), nil
	})
	if err != nil {
		return Undone{}, err
	}
	out.Number = by.Together.Number
	return out, nil
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
		if !rm.restorable(r) || len(r.Data) == 0 {
			return nil, change.Conflict(fmt.Sprintf("the change of the %s %q cannot be taken back", r.Kind, r.Name),
				"what was secret in it is gone, or it is no part of the configuration; make it good by a new change")
		}
	}
	return rows, nil
}

// before gives an object of now, and what it was before a change; nil if there was none.
func (rm *Room) before(ctx context.Context, now *federation.Snapshot, row store.HistoryRow) (o, was federation.Object,
	err error) {
	if later, err := rm.later(ctx, row); err != nil {
		return nil, nil, err
	} else if later > 0 {
		return nil, nil, change.Conflict(fmt.Sprintf("the %s %q was changed since, by the change %d", row.Kind, row.Name,
			later),
			"take that back first, or restore what you want from the history")
	}
	from := row // of one that was removed: as it was then
	if row.What != "removed" {
		var rows []store.HistoryRow
		err := rm.store.Read.WithContext(ctx).Where("kind = ? AND name = ? AND revision > 0 AND id < ? AND length(data) > 0",
			row.Kind, row.Name, row.ID).Order("id DESC").Limit(1).Find(&rows).Error
		if err != nil {
			return nil, nil, err
		}
		if k := rm.kinds[federation.Kind(row.Kind)]; len(rows) == 0 && k.Given != nil {
			return nil, rm.in(now, k.Given(), row.Revision+1), nil
		}
		if len(rows) == 0 || rows[0].What == "removed" {
			o, err := rm.find(now, federation.Ref{Kind: federation.Kind(row.Kind), Name: federation.Name(row.Name)})
			return o, nil, err
		}
		from = rows[0]
	}
	if was, err = rm.Restored(from); err != nil {
		return nil, nil, err
	}
	was = rm.in(now, was, row.Revision+1)
	if o = rm.at(now, was.Ref()); o != nil && slices.Equal(o.Describe(), was.Describe()) {
		return nil, nil, change.Conflict(fmt.Sprintf("the %s %q says the same as before the change", row.Kind, row.Name),
			"there is nothing to take back")
	}
	return o, was, nil
}
