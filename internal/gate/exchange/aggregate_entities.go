package exchange

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing/samlside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/editions"
	"innergate.example/innergate/internal/gate/freshness"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/store"
)

// Entities searches an aggregate.
func (rm *Room) Entities(ctx context.Context, name string, f editions.Filter) ([]Entity, int64, error) {
	row, _, err := rm.editions.Row(ctx, name)
	if err != nil {
		return nil, 0, err
	}
	q := rm.editions.Entities(ctx, name, row.Edition, f)
	var total int64
	if err := q.Session(&gorm.Session{}).Count(&total).Error; err != nil {
		return nil, 0, err
	}
	var rows []store.EntityRow
	if err := q.Session(&gorm.Session{}).Order("id").Offset(f.Offset).Limit(f.Limit).Find(&rows).Error; err != nil {
		return nil, 0, err
	}
	snap := rm.records.Snapshot()
	out := []Entity{}
	for _, r := range rows {
		e := Entity{EntityID: r.EntityID, Title: r.Title, Roles: strings.Fields(r.Roles), Records: []string{}}
		if r.Problem != nil {
			if err := json.Unmarshal(r.Problem, &e.Problem); err != nil {
				return nil, 0, err
			}
		}
		if p, ok := snap.ProviderBy(samlside.Name, r.EntityID); ok {
			e.Records = append(e.Records, "provider/"+string(p.Name))
		}
		if a, ok := snap.ApplicationBy(samlside.Name, r.EntityID); ok {
			e.Records = append(e.Records, "application/"+string(a.Name))
		}
		out = append(out, e)
	}
	return out, total, nil
}

// Take says which entities are to become records.
type Take struct {
	Entities []string // entity IDs; none means all that Filter matches
	Names    map[string]string
	Filter   editions.Filter
	Kind     string // provider or application
	Provider string // of applications: the provider to tie them to
}

// TakeEntities makes records of entities, in the background. Those that cannot be
// taken are reported; the others are.
func (rm *Room) TakeEntities(ctx context.Context, by change.By, aggregate string, t Take) (Job, error) {
	row, d, err := rm.editions.Row(ctx, aggregate)
	if err != nil {
		return Job{}, err
	}
	if t.Kind != change.KindProvider && t.Kind != change.KindApplication {
		return Job{}, change.Field("kind", fmt.Errorf("entities cannot become %q; say provider or application", t.Kind))
	}
	if t.Provider != "" {
		if _, err := rm.records.Provider(t.Provider); err != nil {
			return Job{}, change.Field("provider", err)
		}
	}
	q := rm.editions.Entities(ctx, aggregate, row.Edition, editions.Filter{Search: t.Filter.Search, State: t.Filter.State,
		Role: t.Kind})
	if len(t.Entities) > 0 {
		q = rm.store.Read.WithContext(ctx).Where("aggregate = ? AND edition = ? AND entity_id IN ?", aggregate, row.Edition,
			t.Entities)
	}
	var rows []store.EntityRow
	if err := q.Order("id").Find(&rows).Error; err != nil {
		return Job{}, err
	}
	return rm.start(fmt.Sprintf("take over %d of the aggregate %s", max(len(rows), len(t.Entities)), aggregate),
		"entities", func(ctx context.Context, p progress) (*Report, error) {
			p.total(int64(len(rows)))
			report := &Report{}
			for _, id := range t.Entities {
				if !slices.ContainsFunc(rows, func(r store.EntityRow) bool { return r.EntityID == id }) {
					refuse(report, id, finding.New(finding.AggregateGone, finding.Fact("Entity ID", id)))
				}
			}
			f, err := rm.editions.Open(d)
			if err != nil {
				return nil, err
			}
			defer f.Close()
			seen := map[string]bool{}
			names := map[string]bool{}
			for i := 0; i < len(rows); i += 100 { // so that sign-ins never wait long for the one writer
				if err := ctx.Err(); err != nil {
					return report, err
				}
				part := rows[i:min(i+100, len(rows))]
				if err := rm.takePart(ctx, by, aggregate, t, f, part, seen, names, report); err != nil {
					return report, err
				}
				p.set(int64(i + len(part)))
			}
			return report, nil
		}), nil
}

// takePart makes records of some entities and saves them at once.
func (rm *Room) takePart(ctx context.Context, by change.By, aggregate string, t Take, f editions.Document,
	rows []store.EntityRow, seen, names map[string]bool, report *Report) error {
	rm.records.Lock()
	defer rm.records.Unlock()
	snap := rm.records.Snapshot()
	var changes []records.Edit
	for _, row := range rows {
		r, octets, err := rm.fromEntity(snap, aggregate, t, f, row, names)
		if err == nil && seen[row.EntityID] {
			err = finding.New(finding.AggregateTwice, finding.Fact("Entity ID", row.EntityID))
		}
		if err != nil {
			what := finding.Of(err)
			if what == nil {
				var fe *change.FieldError
				if !errors.As(err, &fe) {
					return err
				}
				what = finding.New(finding.RefreshFailed, finding.Fact(fe.Field, fe.Error()))
			}
			refuse(report, row.EntityID, what)
			continue
		}
		seen[row.EntityID], names[change.NameOf(r)] = true, true
		changes = append(changes, records.Edit{Record: r, What: "added", Document: octets})
		if len(report.Taken) < editions.Listed*10 {
			report.Taken = append(report.Taken, TakenEntity{EntityID: row.EntityID, Kind: change.KindOf(r),
				Name: change.NameOf(r)})
		}
	}
	return rm.records.Put(ctx, by, changes, nil)
}

func (rm *Room) fromEntity(snap *federation.Snapshot, aggregate string, t Take, f editions.Document,
	row store.EntityRow, names map[string]bool) (federation.Record, []byte, error) {
	octets, err := f.Cut(row)
	if err != nil {
		return nil, nil, err
	}
	title := row.Title
	if title == "" {
		title = row.EntityID
	}
	name := t.Names[row.EntityID]
	if name == "" {
		name = rm.records.FreeName(snap, t.Kind, title, row.EntityID, names)
	} else if err := rm.records.Free(snap, t.Kind, name); err != nil {
		return nil, nil, err
	}
	var r federation.Record
	if t.Kind == change.KindProvider {
		r, err = rm.records.MakeProvider(records.NewProvider{Name: name, Protocol: samlside.Name})
	} else {
		r, err = rm.records.MakeApplication(records.NewApplication{Name: name, Protocol: samlside.Name, Provider: t.Provider})
	}
	if err == nil {
		err = rm.records.TakeIn(r, octets, federation.SourceAggregate+aggregate, false)
	}
	if err != nil {
		return r, nil, err
	}
	records.Settle(r, "")
	if err := rm.records.Fits(snap, r, "entityId"); err != nil {
		return r, nil, err
	}
	return r, octets, change.OfSetting(federation.Check(r))
}

// renewFrom renews the records that came from an aggregate.
func (rm *Room) renewFrom(ctx context.Context, by change.By, name string, d editions.Data) ([]Refreshed, error) {
	snap := rm.records.Snapshot()
	var from []federation.Record
	for _, p := range snap.Providers() {
		if p.Intake.Aggregate() == name {
			from = append(from, p)
		}
	}
	for _, a := range snap.Applications() {
		if a.Intake.Aggregate() == name {
			from = append(from, a)
		}
	}
	if len(from) == 0 {
		return nil, nil
	}
	row, _, err := rm.editions.Row(ctx, name)
	if err != nil {
		return nil, err
	}
	f, err := rm.editions.Open(d)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	out := []Refreshed{}
	for i := 0; i < len(from); i += 200 {
		part, err := rm.renewPart(ctx, by, name, row.Edition, f, from[i:min(i+200, len(from))])
		out = append(out, part...)
		if err != nil {
			return out, err
		}
	}
	return slices.DeleteFunc(out, func(r Refreshed) bool { return r.Outcome == Unchanged }), nil
}

func (rm *Room) renewPart(ctx context.Context, by change.By, name string, edition int64, f editions.Document,
	from []federation.Record) ([]Refreshed, error) {
	ids := make([]string, len(from))
	for i, r := range from {
		ids[i] = r.Part().Identity()
	}
	var rows []store.EntityRow
	if err := rm.store.Read.WithContext(ctx).Where("aggregate = ? AND edition = ? AND entity_id IN ?", name, edition,
		ids).Order("id DESC").Find(&rows).Error; err != nil {
		return nil, err
	}
	byID := map[string]store.EntityRow{}
	for _, r := range rows { // the first of an ID comes last
		byID[r.EntityID] = r
	}
	rm.records.Lock()
	defer rm.records.Unlock()
	var out []Refreshed
	var all []renewed
	state := map[int]freshness.Kept{}
	for i, was := range from {
		r, err := rm.records.Record(change.KindOf(was), change.NameOf(was))
		if err != nil {
			continue // removed meanwhile
		}
		d, err := rm.freshness.Load(ctx, change.KindOf(r), change.NameOf(r))
		if err != nil {
			return out, err
		}
		n, err := renewed{Refreshed: Refreshed{Kind: change.KindOf(r), Name: change.NameOf(r), Outcome: Failed}}, error(nil)
		row, ok := byID[r.Part().Identity()]
		d.Failure, d.Gone = nil, !ok
		if !ok {
			n.Findings = []*finding.Finding{finding.New(finding.AggregateGone, finding.Fact("Aggregate", name),
				finding.Fact("Entity ID", r.Part().Identity()))}
		} else {
			var octets []byte
			if octets, err = f.Cut(row); err == nil {
				n, err = rm.compare(r, octets, federation.SourceAggregate+name, &d)
			}
			if found := finding.Of(err); found != nil {
				n.Outcome, n.Findings = Failed, []*finding.Finding{found}
				d.Failure, n.Edit = found, records.Edit{}
			} else if err != nil {
				return out, err
			}
		}
		d.Checked, d.Tried, d.Next = rm.now().UTC(), rm.now().UTC(), rm.now().UTC().AddDate(100, 0, 0) // with its aggregate
		state[i] = d
		out, all = append(out, n.Refreshed), append(all, n)
	}
	if err := rm.keep(ctx, by, all); err != nil {
		return out, err
	}
	return out, rm.store.Write(ctx, func(tx *gorm.DB) error {
		for i, d := range state {
			if err := freshness.Save(tx, change.KindOf(from[i]), change.NameOf(from[i]), d); err != nil {
				return err
			}
		}
		return nil
	})
}

// Entity is one entity of an aggregate.
type Entity struct {
	EntityID string
	Title    string
	Roles    []string
	Problem  *finding.Finding
	Records  []string
}
