package traces

import (
	"cmp"
	"context"
	"encoding/json"
	"slices"
	"strings"
	"sync"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/policy"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/store"
)

// Bounds of figures.
const (
	mostAwaited  = 20                  // people who have not come yet, by name
	mostLeft     = 500                 // sessions that a step back leaves
	figuresSince = 30 * 24 * time.Hour // where nothing of the record changed
)

// Figures are how a pilot goes: of its cohort who has tried, entered, was refused and has not come yet, and what the
// old way does meanwhile.
type Figures struct {
	Phase    federation.Phase
	Since    time.Time // when phase or cohort changed last
	Cohort   int       // people who are known and in it
	Tried    int       // of those, people whose sign-ins were recorded since
	Entered  int       // of those, people who entered
	Refused  int       // of those, people whose newest sign-in was refused
	Findings []Tally   // of sign-ins that were refused
	Awaited  []Person  // of the cohort who has not come yet, some of them
	Old      Earlier   // how the earlier way goes meanwhile
	Sessions []Left    // opened since by a provider, which a step back leaves
	Made     []Person  // people who became known since, by a provider
	Ways     []WayTo   // to an application
}

// WayTo is a way to an application, and how sign-ins by it went since.
type WayTo struct {
	policy.Leading
	People, Entered, Refused int
}

// Earlier is how the way goes that people come by who are not in a pilot: of an application sign-ins of people
// outside its cohort, of a provider those by others at applications that it may serve.
type Earlier struct {
	People, Entered, Refused int     // who are known: whose sign-ins were recorded, and how the newest one ended
	OfCohort                 int     // of them, people in the cohort who came by it
	Unknown                  int     // sign-ins of nobody who is known
	Findings                 []Tally // of sign-ins that were refused
}

// Tally counts a finding.
type Tally struct {
	Code  string
	Count int
}

// Person is somebody by number and name.
type Person struct {
	Number int64
	Name   string
}

// Left is a session that goes on.
type Left struct {
	Person int64
	Name   string
	Began  time.Time
}

// Rollout gives the figures of a record since its phase or cohort changed last.
func (rm *Room) Rollout(ctx context.Context, snap *federation.Snapshot, r federation.Record) (out Figures, err error) {
	now := rm.now()
	phase, _ := r.Basic().PhaseAt(now)
	out.Phase, out.Since = phase, r.Basic().Before.Since
	if at := r.Basic().Pending(); !at.IsZero() && !now.Before(at) {
		out.Since = at
	}
	if out.Since.IsZero() {
		out.Since = now.Add(-figuresSince)
		if made := r.Since(); made.After(out.Since) {
			out.Since = made
		}
	}
	in := map[int64]string{}
	if in, err = rm.cohort(ctx, snap, r); err != nil {
		return out, err
	}
	out.Cohort = len(in)
	came, err := rm.came(ctx, snap, r, in, &out)
	if err != nil {
		return out, err
	}
	for person, name := range in {
		switch result, tried := came[person]; {
		case !tried:
			out.Awaited = append(out.Awaited, Person{person, name})
		case result == crossing.Entered:
			out.Tried, out.Entered = out.Tried+1, out.Entered+1
		default:
			out.Tried, out.Refused = out.Tried+1, out.Refused+1
		}
	}
	slices.SortFunc(out.Awaited, func(a, b Person) int { return cmp.Compare(a.Number, b.Number) })
	out.Awaited = out.Awaited[:min(len(out.Awaited), mostAwaited)]
	switch r := r.(type) {
	case *federation.Provider:
		err = rm.left(ctx, r, &out)
	case *federation.Application:
		out.Ways, err = rm.waysTo(ctx, snap, r, out.Since)
	}
	return out, err
}

// cohort are the people who are known and whom a record includes, by name.
func (rm *Room) cohort(ctx context.Context, snap *federation.Snapshot, r federation.Record) (map[int64]string, error) {
	now, out := rm.now(), map[int64]string{}
	var mu sync.Mutex
	probe, _ := r.(*federation.Application)
	if probe == nil {
		probe = &federation.Application{} // a provider's cohort is the same at every application
	}
	err := rm.Each(ctx, snap, mostLooked, func(reach *Reach) bool {
		s := crossing.Entrant{App: probe, Stands: person.OnRecord(snap, nil, profile.Profile{}, reach.who.Person,
			nil)}.Subject()
		if _, err := policy.OpenTo(snap, r, &s, now); err == nil {
			mu.Lock()
			out[reach.who.ID] = person.NameOf(reach.who.Person, reach.who.Subject.Value)
			mu.Unlock()
		}
		return true
	})
	return out, err
}

// course is how sign-ins of one way went.
type course struct {
	newest   map[int64]string // result by person
	findings map[string]int
	unknown  int // of nobody who is known
}

func (c *course) count(h store.TraceHead) {
	if h.Finding != "" && h.Result == crossing.Refused {
		c.findings[h.Finding]++
	}
	if h.Account == 0 {
		c.unknown++
	} else if _, newer := c.newest[h.Account]; !newer { // the newest come first
		c.newest[h.Account] = h.Result
	}
}

func (c *course) tallies() (out []Tally) {
	for code, n := range c.findings {
		out = append(out, Tally{code, n})
	}
	slices.SortFunc(out, func(a, b Tally) int { return cmp.Or(b.Count-a.Count, strings.Compare(a.Code, b.Code)) })
	return out
}

// came goes through sign-ins since phase or cohort changed: the newest result of everybody in the cohort, and how the
// earlier way goes.
func (rm *Room) came(ctx context.Context, snap *federation.Snapshot, r federation.Record, in map[int64]string,
	out *Figures) (map[int64]string, error) {
	name, f := string(r.Basic().Name), store.TraceFilter{}
	provider := r.Kind() == federation.KindProvider
	if !provider {
		f.Application = name
	}
	pilot, old := course{map[int64]string{}, map[string]int{}, 0}, course{map[int64]string{}, map[string]int{}, 0}
	err := rm.store.Traces.Each(ctx, f, func(h store.TraceHead, _ []json.RawMessage) bool {
		if h.Started.Before(out.Since) {
			return false // the newest come first
		}
		_, member := in[h.Account]
		switch app, there := snap.Application(federation.Name(h.Application)); {
		case h.Result != crossing.Entered && h.Result != crossing.Refused:
		case provider && h.Provider == name, !provider && (member || out.Phase != federation.Pilot):
			pilot.count(h)
		case !provider || there && (app.Provider == "" || string(app.Provider) == name):
			old.count(h)
		}
		return true
	})
	out.Findings = pilot.tallies()
	out.Old = Earlier{People: len(old.newest), Unknown: old.unknown, Findings: old.tallies()}
	for person, result := range old.newest {
		if _, member := in[person]; member {
			out.Old.OfCohort++
		}
		if result == crossing.Entered {
			out.Old.Entered++
		} else {
			out.Old.Refused++
		}
	}
	return pilot.newest, err
}

// waysTo are the ways to an application, and how sign-ins by each went since.
func (rm *Room) waysTo(ctx context.Context, snap *federation.Snapshot, app *federation.Application,
	since time.Time) (out []WayTo, err error) {
	if !app.Attended() {
		return nil, nil
	}
	by := map[string]*course{}
	for _, l := range policy.LeadsTo(snap, app, rm.now()) {
		out = append(out, WayTo{Leading: l})
		by[string(l.Provider.Name)] = &course{map[int64]string{}, map[string]int{}, 0}
	}
	err = rm.store.Traces.Each(ctx, store.TraceFilter{Application: string(app.Name)},
		func(h store.TraceHead, _ []json.RawMessage) bool {
			if h.Started.Before(since) {
				return false // the newest come first
			}
			if c := by[h.Provider]; c != nil && (h.Result == crossing.Entered || h.Result == crossing.Refused) {
				c.count(h)
			}
			return true
		})
	for i := range out {
		newest := by[string(out[i].Provider.Name)].newest
		out[i].People = len(newest)
		for _, result := range newest {
			if result == crossing.Entered {
				out[i].Entered++
			}
		}
		out[i].Refused = out[i].People - out[i].Entered
	}
	return out, err
}

// left are the sessions that were opened by a provider since, and the people whom it made known.
func (rm *Room) left(ctx context.Context, p *federation.Provider, out *Figures) error {
	db := rm.store.Read.WithContext(ctx)
	var sessions []store.SessionRow
	err := db.Where("' ' || provider || ' ' LIKE ? AND began >= ? AND expires > ?", "% "+string(p.ID)+" %",
		out.Since.UTC(), rm.now().UTC()).
		Order("began DESC").Limit(mostLeft).Find(&sessions).Error
	if err != nil {
		return err
	}
	var made []int64
	err = db.Model(&store.PersonRow{}).Where("added >= ? AND id IN (?)", out.Since.UTC(),
		db.Model(&store.LinkRow{}).Select("person").Where("provider = ?",
			string(p.ID))).Order("id").Limit(mostLeft).Pluck("id", &made).Error
	if err != nil {
		return err
	}
	ids := slices.Clone(made)
	for _, s := range sessions {
		ids = append(ids, s.Person)
	}
	names, err := rm.store.People(ctx).Names(ids)
	for _, s := range sessions {
		out.Sessions = append(out.Sessions, Left{s.Person, names[s.Person], s.Began})
	}
	for _, id := range made {
		out.Made = append(out.Made, Person{id, names[id]})
	}
	return err
}

// Piloted finds records whose pilot includes nobody who is known: for checks.
func (rm *Room) Piloted(ctx context.Context, snap *federation.Snapshot) (map[federation.ID]*finding.Finding, error) {
	return rm.unpeopled.once(snap, rm.now(), func() (map[federation.ID]*finding.Finding,
		error) {
		return rm.piloted(ctx, snap)
	})
}

func (rm *Room) piloted(ctx context.Context, snap *federation.Snapshot) (map[federation.ID]*finding.Finding, error) {
	out := map[federation.ID]*finding.Finding{}
	for _, r := range snap.Records() {
		phase, cohort := r.Basic().PhaseAt(rm.now())
		if phase != federation.Pilot || len(cohort.Networks) > 0 {
			continue
		}
		in, err := rm.cohort(ctx, snap, r)
		if err != nil {
			return nil, err
		}
		if len(in) == 0 {
			out[r.Basic().ID] = finding.New(finding.CohortEmpty, finding.Fact("Cohort", strings.Join(r.Basic().Cohort, " ")))
		}
	}
	return out, nil
}
