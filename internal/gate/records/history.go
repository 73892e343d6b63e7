package records

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/store"
)

// HistoryFilter narrows the history.
type HistoryFilter struct {
	Kind, Name string
	Search     string // in name, by, what, why
	Limit      int
	Before     int64 // ID, for the next page
}

// History lists changes, the newest first, and how many match.
func (rm *Room) History(ctx context.Context, f HistoryFilter) ([]Change, int64, error) {
	q := rm.store.Read.WithContext(ctx).Model(&store.HistoryRow{})
	if f.Kind != "" {
		q = q.Where("kind = ?", f.Kind)
	}
	if f.Name != "" {
		q = q.Where("name = ?", f.Name)
	}
	if f.Search != "" {
		like := "%" + strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(f.Search) + "%"
		q = q.Where(`(name LIKE ? ESCAPE '\' OR who LIKE ? ESCAPE '\' OR what LIKE ? ESCAPE '\' OR why LIKE ? ESCAPE '\')`,
			like, like, like, like)
	}
	var total int64
	if err := q.Session(&gorm.Session{}).Count(&total).Error; err != nil {
		return nil, 0, err
	}
	if f.Before > 0 {
		q = q.Where("id < ?", f.Before)
	}
	var rows []store.HistoryRow
	err := q.Session(&gorm.Session{}).Omit("data").Order("id DESC").Limit(f.Limit).Find(&rows).Error
	out := []Change{}
	for _, r := range rows {
		out = append(out, rm.entry(r))
	}
	return out, total, err
}

func (rm *Room) entry(r store.HistoryRow) Change {
	return Change{ID: r.ID, At: r.At, Kind: r.Kind, Name: r.Name, Revision: r.Revision, Who: r.Who, What: r.What,
		Why:   r.Why,
		Batch: r.Batch, Restorable: rm.restorable(r)}
}

// restorable reports whether a change left something behind that can be set back.
func (rm *Room) restorable(r store.HistoryRow) bool {
	_, known := rm.kinds[federation.Kind(r.Kind)]
	return r.Revision > 0 && known
}

// Revision shows one change: the record as it was then, and what differs from the
// revision before.
func (rm *Room) Revision(ctx context.Context, id int64) (Revision, error) {
	row, err := rm.HistoryRow(ctx, id)
	if err != nil {
		return Revision{}, err
	}
	out := Revision{Change: rm.entry(row), Values: []federation.Value{}, Differences: []federation.Difference{},
		FromNow: []federation.Difference{}}
	if out.Later, err = rm.later(ctx, row); err != nil || len(row.Data) == 0 {
		return out, err
	}
	if out.Values, err = rm.values(row); err != nil {
		return out, err
	}
	var before store.HistoryRow
	err = rm.store.Read.WithContext(ctx).Where("kind = ? AND name = ? AND id < ? AND length(data) > 0", row.Kind,
		row.Name, row.ID).Order("id DESC").Take(&before).Error
	var was []federation.Value
	switch {
	case errors.Is(err, gorm.ErrRecordNotFound) || err == nil && before.What == "removed":
	case err != nil:
		return out, err
	default:
		if was, err = rm.values(before); err != nil {
			return out, err
		}
	}
	after := out.Values
	if row.What == "removed" {
		was, after = after, nil
	}
	out.Differences = federation.Differences(was, after)
	if out.Restorable {
		var now []federation.Value
		if o, err := rm.Object(row.Kind, row.Name); err == nil {
			now = o.Describe()
		}
		out.FromNow = federation.Differences(now, out.Values)
	}
	return out, nil
}

// later gives the number of the newest change of a record that came after one of
// its revisions, 0 if none did.
func (rm *Room) later(ctx context.Context, row store.HistoryRow) (id int64, err error) {
	if row.Revision == 0 {
		return 0, nil
	}
	err = rm.store.Read.WithContext(ctx).Model(&store.HistoryRow{}).Where("kind = ? AND name = ? AND revision > 0 AND id > ?",
		row.Kind, row.Name, row.ID).Select("coalesce(max(id), 0)").Scan(&id).Error
	return id, err
}

// HistoryRow gives what is stored of a change.
func (rm *Room) HistoryRow(ctx context.Context, id int64) (row store.HistoryRow, err error) {
	err = rm.store.Read.WithContext(ctx).Where("id = ?", id).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		err = &change.NotFoundError{Kind: "change", Name: fmt.Sprint(id)}
	}
	return row, err
}

// RemovedOf are the removals of a kind that history knows, the earliest first, without what was removed.
func (rm *Room) RemovedOf(ctx context.Context, kind string) (out []store.HistoryRow, err error) {
	return out, rm.store.Read.WithContext(ctx).Omit("data").Where("kind = ? AND what = ?", kind,
		"removed").Order("id").Find(&out).Error
}

// values reads what a change left behind. Nothing secret is ever written there:
// keys of our own, tokens and passwords have no data in the history.
func (rm *Room) values(row store.HistoryRow) ([]federation.Value, error) {
	if _, known := rm.kinds[federation.Kind(row.Kind)]; !known {
		return []federation.Value{}, nil
	}
	o, err := rm.Restored(row)
	if err != nil {
		return nil, err
	}
	return o.Describe(), nil
}

// Restored reads an object out of the history.
func (rm *Room) Restored(row store.HistoryRow) (federation.Object, error) {
	k, err := rm.kind(federation.Kind(row.Kind))
	if err != nil {
		return nil, err
	}
	return k.Read(federation.Stored{Kind: k.Name, Name: row.Name, Protocol: row.Protocol, Revision: row.Revision,
		Added: row.At, Data: row.Data})
}

// Restore sets an object back to what it was after a change; one that was removed
// comes back. It gets a new revision.
func (rm *Room) Restore(ctx context.Context, by change.By, id int64) (kind, name string, err error) {
	row, err := rm.HistoryRow(ctx, id)
	if err != nil {
		return "", "", err
	}
	if !rm.restorable(row) || len(row.Data) == 0 {
		return "", "", change.Conflict(fmt.Sprintf("a %s cannot be set back: what was secret in it is gone, or it is made anew from its source", row.Kind), "make a new one")
	}
	was, err := rm.Restored(row)
	if err != nil {
		return "", "", err
	}
	return row.Kind, row.Name, rm.Change(ctx, by, func(now *federation.Snapshot) (Plan, error) {
		var last int
		if err := rm.store.Read.WithContext(ctx).Model(&store.HistoryRow{}).Where("kind = ? AND name = ?", row.Kind,
			row.Name).Select("max(revision)").Scan(&last).Error; err != nil {
			return Plan{}, err
		}
		return rm.back(now, []Put{{Object: rm.in(now, was, last+1), What: fmt.Sprintf("restored revision %d",
			row.Revision)}}, nil), nil
	})
}

// in gives an object of the history as it would be now: it stays the one that is there.
func (rm *Room) in(now *federation.Snapshot, was federation.Object, revision int) federation.Object {
	old := rm.at(now, was.Ref())
	return was.Next(revision, old, rm.now().UTC())
}

// back plans to set objects back, and to take some out.
func (rm *Room) back(now *federation.Snapshot, put []Put, removed []federation.Object) Plan {
	return Plan{Put: put, Removed: removed, More: func(tx store.Tx) error {
		for _, p := range put {
			if r, is := p.Object.(federation.Record); is {
				if err := rm.freshness.TakenIn(tx.Rows(), r); err != nil {
					return err
				}
			}
		}
		return nil
	}}
}

// Change is one change in the history.
type Change struct {
	ID       int64
	At       time.Time
	Kind     string
	Name     string
	Revision int
	Who      string
	What     string
	Why      string
	Batch    int64 // number of the first of the changes made together with it; 0 if it was made alone
	// Restorable tells whether the record can be set back to this.
	Restorable bool
}

// Revision is one change with what it did.
type Revision struct {
	Change
	Values      []federation.Value
	Differences []federation.Difference
	FromNow     []federation.Difference
	Later       int64 // number of the newest change that came after it to the same record, 0 if none did
}
