// Package checking gives all that can be known of records without a sign-in.
package checking

import (
	"context"
	"encoding/json"
	"log/slog"
	"slices"
	"sync"
	"time"

	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/fetch"
	"innergate.example/innergate/internal/gate/freshness"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/store"
)

// Room checks records.
type Room struct {
	store   *store.Store
	now     func() time.Time
	fetch   *fetch.Fetcher
	records *records.Room
	found   found
}

// New makes a room that checks the records of another.
func New(s *store.Store, now func() time.Time, f *fetch.Fetcher, r *records.Room) *Room {
	return &Room{store: s, now: now, fetch: f, records: r}
}

// Checked is a record with its findings.
type Checked struct {
	Kind, Name, Title string
	Findings          []*finding.Finding
}

// Filter narrows checks.
type Filter struct {
	Names    []string // short names; none means all
	Kind     string
	Severity string // at least: error, warning, note
	Reach    bool   // ask the addresses too
	Quiet    bool   // only records that have findings
}

// Check gives all that can be known of records without a sign-in: from the
// records, from how fresh they are, and on demand from their addresses.
func (rm *Room) Check(ctx context.Context, f Filter) ([]Checked, error) {
	snap := rm.records.Snapshot()
	var all []federation.Record
	if len(f.Names) > 0 {
		for _, n := range f.Names {
			found, err := rm.records.Named(n)
			if err != nil {
				return nil, err
			}
			all = append(all, found...)
		}
	} else {
		all = snap.Records()
	}
	state, err := rm.freshness(ctx)
	if err != nil {
		return nil, err
	}
	find := rm.found.of(snap, rm.now(), len(f.Names) > 0)
	out := []Checked{}
	for _, r := range all {
		if f.Kind != "" && change.KindOf(r) != f.Kind {
			continue
		}
		fs := slices.Concat(find(r), state[federation.Path(r)])
		if f.Reach {
			fs = append(fs, rm.reach(ctx, r)...)
		}
		kept := fs[:0]
		for _, x := range checks.Sort(fs) {
			if f.Severity == "" || x.Severity == finding.Error || f.Severity == "note" || f.Severity == "warning" &&
				x.Severity == finding.Warning {
				kept = append(kept, x)
			}
		}
		if len(kept) > 0 || !f.Quiet {
			out = append(out, Checked{change.KindOf(r), change.NameOf(r), r.Basic().Title, kept})
		}
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
func (k *found) of(snap *federation.Snapshot, now time.Time, few bool) func(federation.Record) []*finding.Finding {
	c := checks.New(snap, now)
	if few {
		return c.Record
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.snap != snap || now.Sub(k.at) > time.Minute || now.Before(k.at) {
		k.snap, k.at, k.all = snap, now, map[string][]*finding.Finding{}
		for _, r := range snap.Records() {
			k.all[federation.Path(r)] = c.Record(r)
		}
	}
	all := k.all
	return func(r federation.Record) []*finding.Finding { return all[federation.Path(r)] }
}

// freshness gives the findings on how current records are, by kind and name.
func (rm *Room) freshness(ctx context.Context) (map[string][]*finding.Finding, error) {
	out := map[string][]*finding.Finding{}
	var rows []store.FreshRow
	if err := rm.store.Read.WithContext(ctx).Where("kind <> ?", change.KindAggregate).Find(&rows).Error; err != nil {
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
				append([]finding.Evidence{finding.Fact("Cause", d.Failure.Title), finding.Fact("Last good copy",
					d.Checked.Format(time.RFC3339))}, d.Failure.Evidence...)...))
		}
		if rm.now().Sub(d.At) < freshness.ChangedShown {
			out[at] = append(out[at], d.Changed...)
		}
	}
	var waiting []store.PendingRow
	if err := rm.store.Read.WithContext(ctx).Omit("data").Find(&waiting).Error; err != nil {
		return nil, err
	}
	for _, w := range waiting {
		at := w.Kind + "/" + w.Name
		out[at] = append(out[at], finding.New(finding.ChangeWaiting, finding.Fact("Since", w.At.UTC().Format(time.RFC3339))))
	}
	return out, nil
}

// Remind writes a line into the log for each record whose metadata is past its
// validUntil.
func (rm *Room) Remind(log *slog.Logger) {
	now := rm.now()
	for _, r := range rm.records.Snapshot().Records() {
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
		before := rm.now()
		date, err := rm.fetch.Trusting(r.Basic().Keeping).Probe(ctx, a)
		if f := finding.Of(err); f != nil {
			out = append(out, finding.New(finding.EndpointUnreachable, f.Evidence...).From(r.Kind().Side()))
			continue
		}
		skew := rm.records.Snapshot().Gate.Skew
		if off := date.Sub(before); !apart && !date.IsZero() && (off > skew+2*time.Second || off < -skew-2*time.Second) {
			apart = true
			out = append(out, finding.New(finding.ClockApart, finding.Fact("Address", a),
				finding.Compare("Time", before.UTC().Format(time.RFC3339), date.UTC().Format(time.RFC3339))).From(r.Kind().Side()))
		}
	}
	return out
}
