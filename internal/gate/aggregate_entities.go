package gate

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
	"innergate.example/innergate/internal/store"
)

// Entities searches an aggregate.
func (g *Gate) Entities(ctx context.Context, name string, f EntityFilter) ([]Entity, int64, error) {
	row, _, err := g.aggregateRow(ctx, name)
	if err != nil {
		return nil, 0, err
	}
	q := g.entities(ctx, name, row.Edition, f)
	var total int64
	if err := q.Session(&gorm.Session{}).Count(&total).Error; err != nil {
		return nil, 0, err
	}
	var rows []store.EntityRow
	if err := q.Session(&gorm.Session{}).Order("id").Offset(f.Offset).Limit(f.Limit).Find(&rows).Error; err != nil {
		return nil, 0, err
	}
	snap := g.Snapshot()
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
	Filter   EntityFilter
	Kind     string // provider or application
	Provider string // of applications: the provider to tie them to
}

// TakeEntities makes records of entities, in the background. Those that cannot be
// taken are reported; the others are.
func (g *Gate) TakeEntities(ctx context.Context, by By, aggregate string, t Take) (Job, error) {
	row, d, err := g.aggregateRow(ctx, aggregate)
	if err != nil {
		return Job{}, err
	}
	if t.Kind != KindProvider && t.Kind != KindApplication {
		return Job{}, field("kind", fmt.Errorf("entities cannot become %q; say provider or application", t.Kind))
	}
	if t.Provider != "" {
		if _, err := g.Provider(t.Provider); err != nil {
			return Job{}, field("provider", err)
		}
	}
	q := g.entities(ctx, aggregate, row.Edition, EntityFilter{Search: t.Filter.Search, State: t.Filter.State, Role: t.Kind})
	if len(t.Entities) > 0 {
		q = g.store.Read.WithContext(ctx).Where("aggregate = ? AND edition = ? AND entity_id IN ?", aggregate, row.Edition, t.Entities)
	}
	var rows []store.EntityRow
	if err := q.Order("id").Find(&rows).Error; err != nil {
		return Job{}, err
	}
	return g.start(fmt.Sprintf("take over %d of the aggregate %s", max(len(rows), len(t.Entities)), aggregate), "entities", func(ctx context.Context, p progress) (*Report, error) {
		p.total(int64(len(rows)))
		report := &Report{}
		for _, id := range t.Entities {
			if !slices.ContainsFunc(rows, func(r store.EntityRow) bool { return r.EntityID == id }) {
				refuse(report, id, finding.New(finding.AggregateGone, finding.Fact("Entity ID", id)))
			}
		}
		f, err := g.openAggregate(d)
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
			if err := g.takePart(ctx, by, aggregate, t, f, part, seen, names, report); err != nil {
				return report, err
			}
			p.set(int64(i + len(part)))
		}
		return report, nil
	}), nil
}

// takePart makes records of some entities and saves them at once.
func (g *Gate) takePart(ctx context.Context, by By, aggregate string, t Take, f opened, rows []store.EntityRow, seen, names map[string]bool, report *Report) error {
	g.Lock()
	defer g.Unlock()
	snap := g.Snapshot()
	var changes []change
	for _, row := range rows {
		r, octets, err := g.fromEntity(snap, aggregate, t, f, row, names)
		if err == nil && seen[row.EntityID] {
			err = finding.New(finding.AggregateTwice, finding.Fact("Entity ID", row.EntityID))
		}
		if err != nil {
			what := finding.Of(err)
			if what == nil {
				var fe *FieldError
				if !errors.As(err, &fe) {
					return err
				}
				what = finding.New(finding.RefreshFailed, finding.Fact(fe.Field, fe.Error()))
			}
			refuse(report, row.EntityID, what)
			continue
		}
		seen[row.EntityID], names[nameOf(r)] = true, true
		changes = append(changes, change{record: r, what: "added", document: octets})
		if len(report.Taken) < reportLimit*10 {
			report.Taken = append(report.Taken, TakenEntity{EntityID: row.EntityID, Kind: kindOf(r), Name: nameOf(r)})
		}
	}
	return g.put(ctx, by, changes, nil)
}

func (g *Gate) fromEntity(snap *federation.Snapshot, aggregate string, t Take, f opened, row store.EntityRow, names map[string]bool) (federation.Record, []byte, error) {
	octets, err := f.cut(row)
	if err != nil {
		return nil, nil, err
	}
	title := row.Title
	if title == "" {
		title = row.EntityID
	}
	name := t.Names[row.EntityID]
	if name == "" {
		name = g.freeName(snap, t.Kind, title, row.EntityID, names)
	} else if err := g.free(snap, t.Kind, name); err != nil {
		return nil, nil, err
	}
	var r federation.Record
	if t.Kind == KindProvider {
		r, err = g.newProvider(NewProvider{Name: name, Protocol: samlside.Name})
	} else {
		r, err = g.newApplication(NewApplication{Name: name, Protocol: samlside.Name, Provider: t.Provider})
	}
	if err == nil {
		err = g.takeIn(r, octets, federation.SourceAggregate+aggregate, false)
	}
	if err != nil {
		return r, nil, err
	}
	settle(r, "")
	if err := g.fits(snap, r, "entityId"); err != nil {
		return r, nil, err
	}
	return r, octets, checked(federation.Check(r))
}

// renewFrom renews the records that came from an aggregate.
func (g *Gate) renewFrom(ctx context.Context, by By, name string, d aggregateData) ([]Refreshed, error) {
	snap := g.Snapshot()
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
	row, _, err := g.aggregateRow(ctx, name)
	if err != nil {
		return nil, err
	}
	f, err := g.openAggregate(d)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	out := []Refreshed{}
	for i := 0; i < len(from); i += 200 {
		part, err := g.renewPart(ctx, by, name, row.Edition, f, from[i:min(i+200, len(from))])
		out = append(out, part...)
		if err != nil {
			return out, err
		}
	}
	return slices.DeleteFunc(out, func(r Refreshed) bool { return r.Outcome == Unchanged }), nil
}

func (g *Gate) renewPart(ctx context.Context, by By, name string, edition int64, f opened, from []federation.Record) ([]Refreshed, error) {
	ids := make([]string, len(from))
	for i, r := range from {
		ids[i] = r.Part().Identity()
	}
	var rows []store.EntityRow
	if err := g.store.Read.WithContext(ctx).Where("aggregate = ? AND edition = ? AND entity_id IN ?", name, edition, ids).Order("id DESC").Find(&rows).Error; err != nil {
		return nil, err
	}
	byID := map[string]store.EntityRow{}
	for _, r := range rows { // the first of an ID comes last
		byID[r.EntityID] = r
	}
	g.Lock()
	defer g.Unlock()
	var out []Refreshed
	var all []renewed
	state := map[int]freshData{}
	for i, was := range from {
		r, err := g.object(kindOf(was), nameOf(was))
		if err != nil {
			continue // removed meanwhile
		}
		d, err := g.fresh(ctx, kindOf(r), nameOf(r))
		if err != nil {
			return out, err
		}
		n, err := renewed{Refreshed: Refreshed{Kind: kindOf(r), Name: nameOf(r), Outcome: Failed}}, error(nil)
		row, ok := byID[r.Part().Identity()]
		d.Failure, d.Gone = nil, !ok
		if !ok {
			n.Findings = []*finding.Finding{finding.New(finding.AggregateGone, finding.Fact("Aggregate", name), finding.Fact("Entity ID", r.Part().Identity()))}
		} else {
			var octets []byte
			if octets, err = f.cut(row); err == nil {
				n, err = g.compare(r, octets, federation.SourceAggregate+name, &d)
			}
			if found := finding.Of(err); found != nil {
				n.Outcome, n.Findings = Failed, []*finding.Finding{found}
				d.Failure, n.change = found, change{}
			} else if err != nil {
				return out, err
			}
		}
		d.Checked, d.Tried, d.Next = g.now().UTC(), g.now().UTC(), g.now().UTC().AddDate(100, 0, 0) // with its aggregate
		state[i] = d
		out, all = append(out, n.Refreshed), append(all, n)
	}
	if err := g.keep(ctx, by, all); err != nil {
		return out, err
	}
	return out, g.store.Write(ctx, func(tx *gorm.DB) error {
		for i, d := range state {
			if err := saveFresh(tx, kindOf(from[i]), nameOf(from[i]), d); err != nil {
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
