// Package checking gives all that can be known of records, of aggregates and of the
// gate itself without a sign-in, and what of it somebody has acknowledged.
package checking

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/nearword"
	"innergate.example/innergate/internal/gate/arrivals"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/copies"
	"innergate.example/innergate/internal/gate/editions"
	"innergate.example/innergate/internal/gate/fetch"
	"innergate.example/innergate/internal/gate/freshness"
	"innergate.example/innergate/internal/gate/random"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/store"
)

// Room checks records.
type Room struct {
	Parts
	found found
}

// Parts are what the room works with.
type Parts struct {
	Store     *store.Store
	Now       func() time.Time
	Fetch     *fetch.Fetcher
	Records   *records.Room
	Editions  *editions.Room
	Freshness *freshness.Room
	Copies    *copies.Room
	Arrivals  *arrivals.Room
	// Kept gives what is kept with people and lets nobody in.
	Kept func(context.Context) (checks.Kept, error)
	// Beside are what other rooms find of records.
	Beside []Beside
	// Unheard is what is found of recipients of events, by their names.
	Unheard func(context.Context) (map[federation.Name]*finding.Finding, error)
}

// Beside is what another room finds of records, by their IDs.
type Beside func(context.Context, *federation.Snapshot) (map[federation.ID]*finding.Finding, error)

// New makes a room that checks the records of another.
func New(p Parts) *Room { return &Room{Parts: p} }

// Checked is a record, an aggregate or the gate itself, with its findings.
type Checked struct {
	Kind, Name, Title string
	Findings          []*finding.Finding
	Acknowledged      []Acknowledged // beside them
}

// Filter narrows checks.
type Filter struct {
	Names    []string // short names; none means all
	Kind     string
	Severity string // at least: error, warning, note
	Code     string // only findings with this code
	Side     string // only findings on which this side must act
	Reach    bool   // ask the addresses too
	Quiet    bool   // only those that have findings
}

// keeps reports whether a finding passes the filter.
func (f Filter) keeps(x *finding.Finding) bool {
	return (f.Code == "" || string(x.Code) == f.Code) && (f.Side == "" || string(x.Side) == f.Side) &&
		(f.Severity == "" || x.Severity == finding.Error || f.Severity == "note" ||
			f.Severity == "warning" && x.Severity == finding.Warning)
}

// check sees whether what the filter names exists.
func (f Filter) check() error {
	var codes []string
	for _, e := range finding.Catalogue() {
		codes = append(codes, string(e.Code))
	}
	if f.Code != "" && !slices.Contains(codes, f.Code) {
		return change.Field("code", change.NotFound("finding", f.Code, nearword.Of(f.Code, codes)))
	}
	return nil
}

// subject is something that can be checked.
type subject struct {
	kind, name, title string
	object            string            // what acknowledgements refer to
	record            federation.Record // nil if it is none
	find              func() []*finding.Finding
}

// Check gives all that can be known without a sign-in: from the records, from how
// fresh they are, and on demand from their addresses.
func (rm *Room) Check(ctx context.Context, f Filter) ([]Checked, error) {
	if err := f.check(); err != nil {
		return nil, err
	}
	all, err := rm.subjects(ctx, len(f.Names) > 0)
	if err != nil {
		return nil, err
	}
	if all, err = chosen(all, f); err != nil {
		return nil, err
	}
	state, err := rm.state(ctx, f.Names)
	if err != nil {
		return nil, err
	}
	known, err := rm.acknowledged(ctx)
	if err != nil {
		return nil, err
	}
	out := []Checked{}
	for _, s := range all {
		fs := slices.Concat(s.find(), state[s.kind+"/"+s.name])
		if f.Reach && s.record != nil {
			fs = append(fs, rm.reach(ctx, s.record)...)
		}
		c := Checked{Kind: s.kind, Name: s.name, Title: s.title, Findings: []*finding.Finding{}}
		for _, x := range checks.Sort(fs) {
			if !f.keeps(x) {
				continue
			}
			if a, ok := known[s.object+" "+x.Mark()]; ok {
				a.Finding = x
				c.Acknowledged = append(c.Acknowledged, a)
			} else {
				c.Findings = append(c.Findings, x)
			}
		}
		if len(c.Findings)+len(c.Acknowledged) > 0 || !f.Quiet {
			out = append(out, c)
		}
	}
	return out, nil
}

// subjects are all that can be checked: the gate first, then records, then
// aggregates. With few, nothing is kept of what checking them came to.
func (rm *Room) subjects(ctx context.Context, few bool) ([]subject, error) {
	snap := rm.Records.Snapshot()
	checker := checks.New(snap, rm.Now())
	var err error
	if checks.Mapping(snap) {
		if checker.Arrived, err = rm.Arrivals.All(ctx); err != nil {
			return nil, err
		}
	}
	if checker.Kept, err = rm.Kept(ctx); err != nil {
		return nil, err
	}
	find := rm.found.of(checker, snap, few)
	out := []subject{{kind: change.KindGate, name: change.KindGate, title: snap.Gate.Base, object: change.KindGate,
		find: checker.Gate}}
	beside := map[federation.ID][]*finding.Finding{}
	for _, find := range rm.Beside {
		some, err := find(ctx, snap)
		if err != nil {
			return nil, err
		}
		for id, f := range some {
			beside[id] = append(beside[id], f)
		}
	}
	for _, r := range snap.Records() {
		out = append(out, subject{change.KindOf(r), change.NameOf(r), r.Basic().Title, objectOf(r), r,
			func() []*finding.Finding { return append(slices.Clone(find(r)), beside[r.Basic().ID]...) }})
	}
	aggregates, err := rm.Editions.All(ctx)
	if err != nil {
		return nil, err
	}
	for _, name := range slices.Sorted(maps.Keys(aggregates)) {
		d := aggregates[name]
		kept, err := rm.Freshness.Load(ctx, change.KindAggregate, name)
		if err != nil {
			return nil, err
		}
		out = append(out, subject{kind: change.KindAggregate, name: name, title: d.Title,
			object: change.AggregateObject(name),
			find:   func() []*finding.Finding { return d.Findings(rm.Now(), rm.Editions.Whole(d), kept.Failure) }})
	}
	unheard, err := rm.Unheard(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range snap.Recipients() {
		out = append(out, subject{kind: string(federation.KindRecipient), name: string(r.Name), title: r.Title,
			object: fmt.Sprintf("%s/%s/%d", federation.KindRecipient, r.Name,
				r.Added.Unix()), // another one of the name is another one
			find: func() []*finding.Finding {
				return slices.DeleteFunc([]*finding.Finding{unheard[r.Name]}, func(f *finding.Finding) bool { return f == nil })
			}})
	}
	return out, nil
}

// objectOf is what acknowledgements on a record refer to.
func objectOf(r federation.Record) string { return change.KindOf(r) + "/" + string(r.Basic().ID) }

// chosen are those of all that a filter names. A name that is none, or one of
// another kind, is an error.
func chosen(all []subject, f Filter) ([]subject, error) {
	if len(f.Names) == 0 {
		return slices.DeleteFunc(all, func(s subject) bool { return f.Kind != "" && s.kind != f.Kind }), nil
	}
	var out []subject
	for _, name := range f.Names {
		var other string
		var names []string
		before := len(out)
		for _, s := range all {
			switch {
			case s.name == name && (f.Kind == "" || s.kind == f.Kind):
				out = append(out, s)
			case s.name == name:
				other = s.kind
			case f.Kind == "" || s.kind == f.Kind:
				names = append(names, s.name)
			}
		}
		if len(out) > before {
			continue
		}
		kind := f.Kind
		if kind == "" {
			kind = "provider, application, aggregate or recipient"
		}
		return nil, &change.NotFoundError{Kind: kind, Name: name, Near: nearword.Of(name, names), Other: other}
	}
	return out, nil
}

// found keeps what checking all records of a snapshot came to, for a minute:
// pages ask for it again and again.
type found struct {
	mu   sync.Mutex
	snap *federation.Snapshot
	at   time.Time
	all  map[string][]*finding.Finding
}

// of gives a function that checks one record; with few, nothing is kept.
func (k *found) of(c *checks.Checker, snap *federation.Snapshot, few bool) func(federation.Record) []*finding.Finding {
	if few {
		return c.Record
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.snap != snap || c.Now.Sub(k.at) > time.Minute || c.Now.Before(k.at) {
		k.snap, k.at, k.all = snap, c.Now, map[string][]*finding.Finding{}
		for _, r := range snap.Records() {
			k.all[r.Ref().String()] = c.Record(r)
		}
	}
	all := k.all
	return func(r federation.Record) []*finding.Finding { return all[r.Ref().String()] }
}

// state gives the findings on how current records are, by kind and name: of those
// with some names, or, without, of all.
func (rm *Room) state(ctx context.Context, names []string) (map[string][]*finding.Finding, error) {
	out := map[string][]*finding.Finding{}
	of := rm.Store.Read.WithContext(ctx)
	if len(names) > 0 {
		of = of.Where("name IN ?", names)
	}
	of = of.Session(&gorm.Session{})
	var rows []store.FreshRow
	if err := of.Where("kind <> ?", change.KindAggregate).Find(&rows).Error; err != nil {
		return nil, err
	}
	for _, row := range rows {
		var d freshness.Kept
		if err := json.Unmarshal(row.Data, &d); err != nil {
			return nil, err
		}
		at := row.Kind + "/" + row.Name
		if d.Gone {
			out[at] = append(out[at], finding.New(finding.AggregateGone))
		}
		if d.Failure != nil {
			out[at] = append(out[at], finding.New(finding.RefreshFailed,
				append([]finding.Evidence{finding.Fact("Cause", d.Failure.Title), finding.Passing("Last good copy",
					d.Checked.Format(time.RFC3339))}, d.Failure.Evidence...)...))
		}
		if d.Declined != "" {
			out[at] = append(out[at], finding.New(finding.ChangeDeclined, finding.Fact("SHA-256 of the document", d.Declined)))
		}
		if rm.Now().Sub(d.At) < freshness.ChangedShown {
			out[at] = append(out[at], d.Changed...)
		}
	}
	copied, err := rm.Copies.Findings(ctx, freshness.ChangedShown)
	if err != nil {
		return nil, err
	}
	for at, found := range copied {
		out[at] = append(out[at], found...)
	}
	var waiting []store.PendingRow
	if err := of.Omit("data").Find(&waiting).Error; err != nil {
		return nil, err
	}
	for _, w := range waiting {
		at := w.Kind + "/" + w.Name
		out[at] = append(out[at], finding.New(finding.ChangeWaiting, finding.Passing("Since",
			w.At.UTC().Format(time.RFC3339))))
	}
	return out, nil
}

// Remind writes a line into the log for each record whose metadata is past its
// validUntil.
func (rm *Room) Remind(log *slog.Logger) {
	now := rm.Now()
	for _, r := range rm.Records.Snapshot().Records() {
		if until := r.Basic().Intake.ValidUntil; !until.IsZero() && now.After(until) {
			log.Warn("the metadata is past its validUntil", "kind", change.KindOf(r), "name", change.NameOf(r),
				"validUntil", until.UTC(), "stopped", r.Basic().Expired(now))
		}
	}
}

// reach asks the addresses of a record: whether they answer, and what their
// servers' clocks show.
func (rm *Room) reach(ctx context.Context, r federation.Record) []*finding.Finding {
	addresses := []string{}
	if a := r.Basic().Intake.Address(); a != "" {
		addresses = append(addresses, a)
	}
	for _, e := range r.Part().Endpoints() {
		addresses = append(addresses, e.Location)
	}
	var out []*finding.Finding
	seen := map[string]bool{}
	apart := false
	for _, a := range addresses {
		if seen[a] {
			continue
		}
		seen[a] = true
		before := rm.Now()
		date, err := rm.Fetch.Trusting(r.Basic().Keeping).Probe(ctx, a)
		if f := finding.Of(err); f != nil {
			out = append(out, finding.New(finding.EndpointUnreachable, f.Evidence...).From(r.Kind().Side()))
			continue
		}
		skew := rm.Records.Snapshot().Gate.Skew
		if off := date.Sub(before); !apart && !date.IsZero() && (off > skew+2*time.Second || off < -skew-2*time.Second) {
			apart = true
			out = append(out, finding.New(finding.ClockApart, finding.Fact("Address", a),
				finding.Compare("Time", before.UTC().Format(time.RFC3339), date.UTC().Format(time.RFC3339))).From(r.Kind().Side()))
		}
	}
	return append(out, rm.live(ctx, r)...)
}

// live gets what the record relies on anew, and tries a request of ours, as far as that
// goes without a person.
func (rm *Room) live(ctx context.Context, r federation.Record) (out []*finding.Finding) {
	if _, none, err := rm.Copies.Of(ctx, r, true); err == nil && none != nil {
		out = append(out, none.From(r.Kind().Side()))
	}
	out = append(out, rm.document(ctx, r)...)
	p, ok := r.(*federation.Provider)
	if !ok {
		return out
	}
	side := p.Side.Can().Trying
	if side == nil {
		return out
	}
	gate := &rm.Records.Snapshot().Gate
	address := side.Try(gate, p, random.ID())
	if address == "" {
		return out
	}
	reply, err := rm.Fetch.Trusting(p.Keeping).Look(ctx, address)
	if f := finding.Of(err); f != nil {
		return append(out, finding.New(finding.EndpointUnreachable, f.Evidence...).From(finding.Provider))
	}
	if f := side.Tried(gate, p, reply); err == nil && f != nil {
		out = append(out, f)
	}
	return out
}

// document sees whether the document at a record's address can still be taken in.
func (rm *Room) document(ctx context.Context, r federation.Record) []*finding.Finding {
	address := r.Basic().Intake.Address()
	if address == "" {
		return nil
	}
	got, err := rm.Fetch.Trusting(r.Basic().Keeping).Get(ctx, address, fetch.Conditions{}, records.MetadataLimit)
	if err == nil {
		err = rm.Records.TakeIn(r.Copy(), got.Octets, records.Taking{From: address, Entity: r.Part().Identity()})
	}
	f := finding.Of(err)
	if f == nil {
		return nil
	}
	return []*finding.Finding{finding.New(finding.RefreshFailed, append([]finding.Evidence{finding.Fact("Cause",
		f.Title)},
		f.Evidence...)...).From(r.Kind().Side())}
}
