package exchange

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/crossing/samlside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/editions"
	"innergate.example/innergate/internal/gate/jobs"
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
		e := Entity{EntityID: r.EntityID, Title: r.Title, Roles: kinds(r.Roles), Records: []string{}}
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

// kinds are the kinds of records that an entity with some roles can become.
func kinds(roles string) []string {
	out := []string{}
	for _, r := range strings.Fields(roles) {
		out = append(out, map[string]string{"IDPSSODescriptor": change.KindProvider,
			"SPSSODescriptor": change.KindApplication}[r])
	}
	return out
}

// Take says which entities are to become records.
type Take struct {
	Entities []string // entity IDs; none means all that Filter matches
	Names    map[string]string
	Filter   editions.Filter
	Kind     string           // provider or application
	Provider string           // of applications: the provider to tie them to
	Phase    federation.Phase // "" for live
	Digest   string           // of the preview that was looked at, "" if none was
}

// TakePreview is what taking entities over would make.
type TakePreview struct {
	Kind   string
	Phase  federation.Phase
	New    int      // records that would be made
	Known  int      // entities that are on record already, and stay as they are
	First  []string // entity IDs of the first ones that would be made
	Digest string   // to be given when they are taken
}

// chosen are the entities that are meant, and what there is of the aggregate.
func (rm *Room) chosen(ctx context.Context, aggregate string, t Take) (row store.AggregateRow, d editions.Data,
	rows []store.EntityRow, err error) {
	if row, d, err = rm.editions.Row(ctx, aggregate); err != nil {
		return
	}
	switch {
	case t.Kind != change.KindProvider && t.Kind != change.KindApplication:
		err = change.Field("kind", fmt.Errorf("entities cannot become %q; say provider or application", t.Kind))
	case t.Phase != "" && !slices.Contains(federation.Phases, string(t.Phase)):
		err = change.Field("phase", fmt.Errorf("there is no phase %q; use %s", t.Phase,
			strings.Join(federation.Phases, " or ")))
	case t.Provider != "" && t.Kind == change.KindProvider:
		err = change.Field("provider", errors.New("only applications are tied to a provider; leave it out"))
	case t.Provider != "":
		if _, e := rm.records.Provider(t.Provider); e != nil {
			err = change.Field("provider", e)
		}
	}
	if err != nil {
		return
	}
	q := rm.editions.Entities(ctx, aggregate, row.Edition, editions.Filter{Search: t.Filter.Search, State: t.Filter.State,
		Role: t.Kind})
	if len(t.Entities) > 0 {
		q = rm.store.Read.WithContext(ctx).Where("aggregate = ? AND edition = ? AND entity_id IN ?", aggregate, row.Edition,
			t.Entities)
	}
	err = q.Order("id").Find(&rows).Error
	return
}

// PreviewTake tells what taking entities over would make.
func (rm *Room) PreviewTake(ctx context.Context, aggregate string, t Take) (TakePreview, error) {
	row, _, rows, err := rm.chosen(ctx, aggregate, t)
	if err != nil {
		return TakePreview{}, err
	}
	out := TakePreview{Kind: t.Kind, Phase: cmp.Or(t.Phase, federation.Live), Digest: digestOf(row, rows, t),
		First: []string{}}
	snap := rm.records.Snapshot()
	for _, r := range rows {
		known := false
		if t.Kind == change.KindProvider {
			_, known = snap.ProviderBy(samlside.Name, r.EntityID)
		} else {
			_, known = snap.ApplicationBy(samlside.Name, r.EntityID)
		}
		if known {
			out.Known++
			continue
		}
		if out.New++; len(out.First) < 20 {
			out.First = append(out.First, r.EntityID)
		}
	}
	return out, nil
}

// digestOf is short for what is chosen.
func digestOf(row store.AggregateRow, rows []store.EntityRow, t Take) string {
	parts := []any{row.Name, row.Edition, t.Kind, t.Provider, t.Phase}
	for _, r := range rows {
		parts = append(parts, r.EntityID)
	}
	return change.Digest(parts...)
}

// TakeEntities makes records of entities, in the background. Those that cannot be
// taken are reported; the others are.
func (rm *Room) TakeEntities(ctx context.Context, by change.By, aggregate string, t Take) (jobs.Job, error) {
	row, d, rows, err := rm.chosen(ctx, aggregate, t)
	if err != nil {
		return jobs.Job{}, err
	}
	if t.Digest != "" {
		if err := change.Seen(t.Digest, digestOf(row, rows, t),
			"what would be taken over is not what was looked at"); err != nil {
			return jobs.Job{}, err
		}
	}
	what := fmt.Sprintf("take over %d of the aggregate %s", max(len(rows), len(t.Entities)), aggregate)
	return rm.jobs.Start(what, "entities", func(ctx context.Context, p jobs.Progress) (any, error) {
		f, err := rm.editions.Open(d)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		by.Together = &change.Together{}
		over := &takingOver{Room: rm, by: by, aggregate: aggregate, edition: row.Edition, take: t, document: f,
			seen: map[string]bool{}, names: map[string]bool{}, report: &Report{}}
		return over.report, over.all(ctx, rows, p)
	}), nil
}

// takingOver makes records of entities.
type takingOver struct {
	*Room
	take      Take
	by        change.By
	aggregate string
	edition   int64
	document  editions.Document
	seen      map[string]bool // entity IDs
	names     map[string]bool // given in this run
	report    *Report
}

// all makes records of all rows, some at a time, so that sign-ins never wait long
// for the one writer.
func (o *takingOver) all(ctx context.Context, rows []store.EntityRow, p jobs.Progress) error {
	p.Total(int64(len(rows)))
	if err := o.unknown(ctx, rows); err != nil {
		return err
	}
	done := 0
	for part := range slices.Chunk(rows, 100) {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := o.part(ctx, part); err != nil {
			return err
		}
		done += len(part)
		p.Set(int64(done))
	}
	o.found()
	return nil
}

// found counts the findings on what was made.
func (o *takingOver) found() {
	c, tally := checks.New(o.records.Snapshot(), o.now()), checks.Tally{}
	for name := range o.names {
		if r, err := o.records.Record(o.take.Kind, name); err == nil {
			tally.Add(c.Record(r))
		}
	}
	o.report.Found = tally.Counts()
}

// unknown reports the entity IDs that the aggregate does not hold, the first ones
// with what is near to them.
func (o *takingOver) unknown(ctx context.Context, rows []store.EntityRow) error {
	there := map[string]bool{}
	for _, r := range rows {
		there[r.EntityID] = true
	}
	looked := 0
	for _, id := range o.take.Entities {
		if there[id] {
			continue
		}
		f := finding.New(finding.AggregateUnknown, finding.Fact("Entity ID", id))
		if looked++; looked <= 10 {
			near, err := o.editions.Near(ctx, o.aggregate, o.edition, id)
			if err != nil {
				return err
			}
			if near != "" {
				f = f.With(finding.Fact("Near to it", near))
			}
		}
		refuse(o.report, id, f)
	}
	return nil
}

// part makes records of some entities and saves them at once.
func (o *takingOver) part(ctx context.Context, rows []store.EntityRow) error {
	var made partMade
	err := o.records.Change(ctx, o.by, func(now *federation.Snapshot) (p records.Plan, err error) {
		made = partMade{names: maps.Clone(o.names), seen: maps.Clone(o.seen)}
		p.Put, err = o.make(now, rows, &made)
		return p, err
	})
	if err != nil {
		return err
	}
	o.names, o.seen = made.names, made.seen
	for _, x := range made.refused {
		refuse(o.report, x.EntityID, x.Problem)
	}
	o.report.Taken = append(o.report.Taken, made.taken[:min(len(made.taken), max(0,
		editions.Listed*10-len(o.report.Taken)))]...)
	o.report.Change = o.by.Together.Number
	return nil
}

// partMade is what a part of the entities comes to.
type partMade struct {
	names, seen map[string]bool
	taken       []TakenEntity
	refused     []Entity
}

// make makes records of entities, as far as they can be taken.
func (o *takingOver) make(now *federation.Snapshot, rows []store.EntityRow, made *partMade) (out []records.Put,
	err error) {
	for _, row := range rows {
		r, octets, err := o.record(now, row, made.names)
		if err == nil && made.seen[row.EntityID] {
			err = finding.New(finding.AggregateTwice, finding.Fact("Entity ID", row.EntityID))
		}
		if err != nil {
			why, err := cause(err)
			if err != nil {
				return nil, err
			}
			made.refused = append(made.refused, Entity{EntityID: row.EntityID, Problem: why})
			continue
		}
		made.seen[row.EntityID], made.names[change.NameOf(r)] = true, true
		out = append(out, records.Put{Object: r, What: "added", Document: octets, Judged: true})
		made.taken = append(made.taken, TakenEntity{EntityID: row.EntityID, Kind: change.KindOf(r), Name: change.NameOf(r)})
	}
	return out, nil
}

// cause is why an entity is not taken. What is our own fault ends the job.
func cause(err error) (*finding.Finding, error) {
	if what := finding.Of(err); what != nil {
		return what, nil
	}
	var fe *change.FieldError
	if !errors.As(err, &fe) {
		return nil, err
	}
	return finding.New(finding.RefreshFailed, finding.Fact(fe.Field, fe.Error())), nil
}

// record makes one of an entity.
func (o *takingOver) record(snap *federation.Snapshot, row store.EntityRow, names map[string]bool) (federation.Record,
	[]byte, error) {
	octets, err := o.document.Cut(row)
	if err != nil {
		return nil, nil, err
	}
	title, name := cmp.Or(row.Title, row.EntityID), o.take.Names[row.EntityID]
	if name == "" {
		name = o.records.FreeName(snap, o.take.Kind, title, row.EntityID, names)
	} else if err := o.records.Free(snap, o.take.Kind, name); err != nil {
		return nil, nil, err
	}
	var r federation.Record
	if o.take.Kind == change.KindProvider {
		r, err = o.records.Make(records.NewRecord{Kind: federation.KindProvider, Name: name, Protocol: samlside.Name})
	} else {
		r, err = o.records.Make(records.NewRecord{Kind: federation.KindApplication, Name: name, Protocol: samlside.Name,
			Provider: o.take.Provider})
	}
	if err == nil {
		err = o.records.TakeIn(r, octets, records.Taking{From: federation.SourceAggregate + o.aggregate})
	}
	if err != nil {
		return r, nil, err
	}
	r.Basic().Phase = o.take.Phase
	records.Settle(r)
	if err := o.records.Fits(snap, snap, r, federation.IdentityField(r.Part())); err != nil {
		return r, nil, err
	}
	return r, octets, change.OfSetting(federation.Check(r))
}

// renewFrom renews the records that came from an aggregate.
func (rm *Room) renewFrom(ctx context.Context, by change.By, name string, d editions.Data) ([]Refreshed, error) {
	from := slices.DeleteFunc(rm.records.Snapshot().Records(), func(r federation.Record) bool {
		return r.Basic().Intake.Aggregate() != name
	})
	if len(from) == 0 {
		return nil, nil
	}
	f, err := rm.editions.Open(d)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	out := []Refreshed{}
	for some := range slices.Chunk(from, 200) {
		part, err := rm.renewPart(ctx, by, name, f, some)
		if out = append(out, part...); err != nil {
			return out, err
		}
	}
	return slices.DeleteFunc(out, func(r Refreshed) bool { return r.Outcome == Unchanged }), nil
}

// renewPart renews some of them at once.
func (rm *Room) renewPart(ctx context.Context, by change.By, name string, f editions.Document,
	from []federation.Record) (out []Refreshed, err error) {
	ids := make([]string, len(from))
	for i, r := range from {
		ids[i] = r.Part().Identity()
	}
	rows, err := rm.editions.Find(ctx, name, ids)
	if err != nil {
		return nil, err
	}
	err = rm.records.Change(ctx, by, func(*federation.Snapshot) (records.Plan, error) {
		var all []renewed
		out = nil
		for _, was := range from {
			n, err := rm.renewedFrom(ctx, name, was, f, rows)
			if err != nil {
				return records.Plan{}, err
			}
			if !n.passed {
				out, all = append(out, n.Refreshed), append(all, n)
			}
		}
		return rm.keep(all), nil
	})
	return out, err
}

// renewedFrom decides what becomes of a record by an aggregate.
func (rm *Room) renewedFrom(ctx context.Context, name string, was federation.Record, f editions.Document,
	rows map[string]store.EntityRow) (n renewed, err error) {
	c := coming{kind: change.KindOf(was), name: change.NameOf(was), source: federation.SourceAggregate + name}
	r, err := rm.records.Record(c.kind, c.name)
	if err != nil || r.Basic().Intake.Source != c.source {
		return renewed{passed: true}, nil // removed, or something else was taken in meanwhile
	}
	d, err := rm.freshness.Load(ctx, c.kind, c.name)
	if err != nil {
		return n, err
	}
	row, there := rows[r.Part().Identity()]
	if d.Gone = !there; !there {
		c.failure = finding.New(finding.AggregateGone, finding.Fact("Aggregate", name),
			finding.Fact("Entity ID", r.Part().Identity()))
	} else if c.Octets, err = f.Cut(row); err != nil {
		if c.failure = finding.Of(err); c.failure == nil {
			return n, err
		}
	}
	if n, err = rm.judge(r, d, c); err != nil {
		return n, err
	}
	if !there {
		n.fresh.Failure, n.fresh.Failures = nil, 0 // the aggregate was read; it says so by leaving it out
	}
	n.fresh.Next = rm.now().UTC().AddDate(100, 0, 0) // with its aggregate
	return n, nil
}

// Entity is one entity of an aggregate.
type Entity struct {
	EntityID string
	Title    string
	Roles    []string
	Problem  *finding.Finding
	Records  []string
}
