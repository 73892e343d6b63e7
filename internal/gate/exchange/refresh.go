// Package exchange goes on exchanging metadata by the network: it asks addresses
// again, compares, applies or keeps waiting, and takes in aggregates and their
// entities. What takes longer than a request is a job.
package exchange

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/editions"
	"innergate.example/innergate/internal/gate/fetch"
	"innergate.example/innergate/internal/gate/freshness"
	"innergate.example/innergate/internal/gate/jobs"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/store"
)

// Room exchanges metadata.
type Room struct {
	store     *store.Store
	log       *slog.Logger
	now       func() time.Time
	fetch     *fetch.Fetcher
	records   *records.Room
	freshness *freshness.Room
	editions  *editions.Room
	jobs      *jobs.Room
	taking    taking
}

// Parts are what the room works with.
type Parts struct {
	Store     *store.Store
	Log       *slog.Logger
	Now       func() time.Time
	Fetch     *fetch.Fetcher
	Records   *records.Room
	Freshness *freshness.Room
	Editions  *editions.Room
	Jobs      *jobs.Room
}

// New makes a room, and drops what a crash left of
// aggregates.
func New(ctx context.Context, p Parts) (*Room, error) {
	rm := &Room{store: p.Store, log: p.Log, now: p.Now, fetch: p.Fetch, records: p.Records, freshness: p.Freshness,
		editions: p.Editions, jobs: p.Jobs}
	rm.records.Register(rm.kind())
	if err := rm.editions.Sweep(ctx); err != nil {
		return nil, err
	}
	return rm, rm.heal(ctx)
}

// heal has aggregates whose documents are not whole refreshed at once.
func (rm *Room) heal(ctx context.Context) error {
	var rows []store.AggregateRow
	if err := rm.store.Read.WithContext(ctx).Find(&rows).Error; err != nil {
		return err
	}
	for _, row := range rows {
		_, d, err := rm.editions.Row(ctx, row.Name)
		if err != nil {
			return err
		}
		if d.Address == "" || rm.editions.Whole(d) {
			continue
		}
		f, err := rm.freshness.Load(ctx, change.KindAggregate, row.Name)
		if err != nil {
			return err
		}
		f.Next = rm.now().UTC()
		err = rm.store.Write(ctx, func(tx *gorm.DB) error { return freshness.Save(tx, change.KindAggregate, row.Name, f) })
		if err != nil {
			return err
		}
	}
	return nil
}

// Outcomes of a refresh.
const (
	Unchanged = "unchanged"
	Applied   = "applied"
	Awaiting  = "waiting"
	Declined  = "declined before"
	Failed    = "failed"
)

// Refresh asks the address of a record now.
func (rm *Room) Refresh(ctx context.Context, by change.By, kind, name string) (Refreshed, error) {
	return rm.ask(ctx, by, kind, name, false)
}

// RefreshAgain asks the address of a record now, and calls a change back that was
// declined: it waits again, or is applied.
func (rm *Room) RefreshAgain(ctx context.Context, by change.By, kind, name string) (Refreshed, error) {
	return rm.ask(ctx, by, kind, name, true)
}

func (rm *Room) ask(ctx context.Context, by change.By, kind, name string, again bool) (Refreshed, error) {
	r, err := rm.records.Record(kind, name)
	if err != nil {
		return Refreshed{}, err
	}
	if a := r.Basic().Intake.Aggregate(); a != "" {
		return Refreshed{}, change.Conflict(fmt.Sprintf("the %s %q comes from the aggregate %q", kind, name, a),
			"refresh the aggregate")
	}
	address := r.Basic().Intake.Address()
	if address == "" {
		return Refreshed{}, change.Conflict(fmt.Sprintf("the %s %q has no metadata address", kind, name),
			"take in newer metadata from a file, or give an address once")
	}
	d, err := rm.freshness.Load(ctx, kind, name)
	if err != nil {
		return Refreshed{}, err
	}
	if records.Unproved(r) || again {
		d.Conditions = fetch.Conditions{} // the document is needed, changed or not
	}
	got, err := rm.fetch.Trusting(r.Basic().Keeping).Get(ctx, address, d.Conditions, records.MetadataLimit)
	if err != nil && finding.Of(err) == nil {
		return Refreshed{}, err
	}
	return rm.renew(ctx, by, coming{kind: kind, name: name, source: address, Fetched: got, failure: finding.Of(err),
		again: again})
}

// coming is what a record's source gave, or why it gave nothing.
type coming struct {
	kind, name, source string
	fetch.Fetched
	failure *finding.Finding
	again   bool // what was declined is called back
}

// renew takes what came into one record. If something else was taken in
// meanwhile, that stays, and nothing is noted.
func (rm *Room) renew(ctx context.Context, by change.By, c coming) (Refreshed, error) {
	var out renewed
	err := rm.records.Change(ctx, by, func(*federation.Snapshot) (records.Plan, error) {
		var err error
		if out, err = rm.renewed(ctx, c); err != nil || out.passed {
			return records.Plan{}, err
		}
		return rm.keep([]renewed{out}), nil
	})
	return out.Refreshed, err
}

// renewed decides what becomes of a record by what came.
func (rm *Room) renewed(ctx context.Context, c coming) (renewed, error) {
	r, err := rm.records.Record(c.kind, c.name)
	if err != nil {
		return renewed{}, err // removed meanwhile
	}
	if r.Basic().Intake.Source != c.source {
		return renewed{Refreshed: Refreshed{Kind: c.kind, Name: c.name, Outcome: Unchanged}, passed: true}, nil
	}
	d, err := rm.freshness.Load(ctx, c.kind, c.name)
	if err != nil {
		return renewed{}, err
	}
	if c.again {
		d.Declined = ""
	}
	out, err := rm.judge(r, d, c)
	if err == nil {
		err = rm.open(ctx, &out)
	}
	if err != nil {
		return out, err
	}
	wait := freshness.Retry(out.fresh.Failures)
	if out.Outcome != Failed {
		out.fresh.Conditions, wait = c.Conditions, rm.freshness.Interval(r.Basic().Intake)
	}
	out.fresh.Next = rm.now().UTC().Add(wait)
	return out, nil
}

// open tells, where nothing new came, what still waits or was declined.
func (rm *Room) open(ctx context.Context, out *renewed) error {
	if out.settled {
		out.fresh.Declined = ""
	}
	if out.Outcome != Unchanged || out.settled {
		return nil
	}
	waiting, err := rm.Waiting(ctx, out.Kind, out.Name)
	switch {
	case err != nil:
		return err
	case len(waiting) > 0:
		w := waiting[0]
		out.Outcome, out.Digest, out.Differences, out.Findings = Awaiting, w.Digest, w.Differences, w.Findings
	case out.fresh.Declined != "":
		out.Outcome = Declined
	}
	return nil
}

// renewed is a record with newer values, and what became of it.
type renewed struct {
	Refreshed
	records.Put
	fresh   freshness.Kept
	pending []byte // data that waits for approval
	settled bool   // nothing waits any more
	passed  bool   // something else was taken in meanwhile: that stays
}

// judge decides what is to be done with what came for a record.
func (rm *Room) judge(r federation.Record, d freshness.Kept, c coming) (renewed, error) {
	now := rm.now().UTC()
	out := renewed{Refreshed: Refreshed{Kind: c.kind, Name: c.name, Outcome: Unchanged}, fresh: d}
	failure := c.failure
	if failure == nil && !c.Unchanged {
		err := rm.compare(r, c, &out)
		if failure = finding.Of(err); err != nil && failure == nil {
			return out, err
		}
	}
	if out.fresh.Tried = now; failure == nil {
		out.fresh.Checked, out.fresh.Failure, out.fresh.Failures = now, nil, 0
		return out, nil
	}
	failure = failure.From(r.Kind().Side()) // the last good copy stays
	out.Outcome, out.Findings, out.Differences, out.Put = Failed, []*finding.Finding{failure}, nil, records.Put{}
	out.fresh.Failure, out.fresh.Failures = failure, d.Failures+1
	return out, nil
}

// compare lays a newer document over a record.
func (rm *Room) compare(r federation.Record, c coming, out *renewed) error {
	hash := records.HashOf(c.Octets)
	if hash == r.Basic().Intake.Document && !records.Unproved(r) {
		out.settled = true
		return nil
	}
	n := r.Copy()
	if err := rm.records.TakeIn(n, c.Octets, records.Taking{From: c.source, Entity: r.Part().Identity()}); err != nil {
		return err
	}
	snap := rm.records.Snapshot()
	if err := rm.records.Fits(snap, snap, n, "address"); err != nil {
		return err
	}
	if err := change.OfSetting(federation.Check(n)); err != nil {
		// A setting relies on what the newer metadata lacks, like a key to encrypt
		// with.
		return finding.New(finding.RefreshFailed, finding.Fact("Cause", err.Error()))
	}
	out.Put = records.Put{Object: n, What: "refreshed", Document: c.Octets}
	out.Differences = slices.DeleteFunc(federation.Differences(r.Describe(), n.Describe()),
		func(d federation.Difference) bool { return d.Label == "validUntil" })
	out.Findings = checks.Change(r.Kind().Side(), out.Differences)
	switch {
	case len(out.Differences) == 0:
		out.Quiet, out.settled = true, true
	case (len(out.Findings) == 0 || !r.Basic().ApproveChanges) && !waits(n, r):
		out.Outcome, out.settled = Applied, true
		n.Basic().Revision++
		if len(out.Findings) > 0 {
			out.fresh.Changed, out.fresh.At = out.Findings, rm.now().UTC()
		}
	case out.fresh.Declined == hash:
		out.Outcome = Declined
	default:
		var err, failed error
		out.Outcome = Awaiting
		out.pending, err = federation.Marshal(n)
		out.Digest, failed = digest(federation.Differences(r.Describe(), n.Describe()), hash)
		return errors.Join(err, failed)
	}
	return nil
}

// waits reports whether a side wants its change approved, whatever the record says.
func waits(n, before federation.Record) bool {
	side := n.Part().Can().Cautious
	return side != nil && side.Waits(before.Part())
}

// keep plans to save what came of judging, and how current the records are now.
func (rm *Room) keep(all []renewed) records.Plan {
	p := records.Plan{More: func(tx store.Tx) error {
		for _, n := range all {
			if err := rm.keepState(tx.Rows(), n); err != nil {
				return err
			}
		}
		return nil
	}}
	for _, n := range all {
		if n.Object != nil && (n.Outcome == Applied || n.Quiet) {
			n.Judged = true
			p.Put = append(p.Put, n.Put)
		}
	}
	return p
}

func (rm *Room) keepState(tx *gorm.DB, n renewed) error {
	if n.settled {
		if err := freshness.DropPending(tx, n.Kind, n.Name); err != nil {
			return err
		}
	}
	if n.pending != nil {
		document, err := store.Pack(n.Document)
		if err != nil {
			return err
		}
		if err := document.Put(tx); err != nil {
			return err
		}
		row := &store.PendingRow{Kind: n.Kind, Name: n.Name, At: rm.now().UTC(), Data: n.pending}
		if err := tx.Save(row).Error; err != nil {
			return err
		}
	}
	return freshness.Save(tx, n.Kind, n.Name, n.fresh)
}

// Waiting lists changes that wait for approval, the oldest first; of one record,
// if kind and name are given.
func (rm *Room) Waiting(ctx context.Context, kind, name string) ([]Pending, error) {
	q := rm.store.Read.WithContext(ctx).Order("at")
	if name != "" {
		q = q.Where("kind = ? AND name = ?", kind, name)
	}
	var rows []store.PendingRow
	if err := q.Find(&rows).Error; err != nil {
		return nil, err
	}
	out := []Pending{}
	for _, row := range rows {
		r, err := rm.records.Record(row.Kind, row.Name)
		if err != nil {
			return nil, err
		}
		n, err := rm.proposed(r, row.Data)
		if err != nil {
			return nil, err
		}
		p := Pending{Kind: row.Kind, Name: row.Name, Title: r.Basic().Title, Since: row.At,
			Differences: federation.Differences(r.Describe(), n.Describe())}
		p.Findings = checks.Change(r.Kind().Side(), p.Differences)
		if p.Digest, err = digest(p.Differences, n.Basic().Intake.Document); err != nil {
			return nil, err
		}
		out = append(out, p)
	}
	return out, nil
}

// proposed gives the record with the other side's values out of data, and with
// the settings it has now.
func (rm *Room) proposed(r federation.Record, data []byte) (federation.Record, error) {
	b := r.Basic()
	other, err := rm.records.Read(federation.Stored{Kind: r.Kind(), Name: string(b.Name), Protocol: r.Part().Protocol(),
		Added: b.Added, Revision: b.Revision, Data: data})
	if err != nil {
		return nil, err
	}
	n := r.Copy()
	settings, err := json.Marshal(r.Part().Settings())
	if err != nil {
		return nil, err
	}
	side, err := other.Part().With(settings)
	if err != nil {
		return nil, err
	}
	federation.Replace(n, side)
	n.Basic().Intake = other.Basic().Intake
	return n, nil
}

// Decision is what becomes of a change that waits.
type Decision struct {
	Kind, Name string
	Digest     string // of the change as it was looked at
	Apply      bool   // otherwise it is dropped, until the metadata changes again
}

// digest is short for what a change that waits comes to: what people are shown of
// it, and the document.
func digest(differences []federation.Difference, document string) (string, error) {
	octets, err := json.Marshal(differences)
	return change.Digest(string(octets), document), err
}

// Decide applies or drops the change that waits, if it is still the one that was
// looked at.
func (rm *Room) Decide(ctx context.Context, by change.By, d Decision) error {
	return rm.records.Change(ctx, by, func(*federation.Snapshot) (records.Plan, error) { return rm.decided(ctx, by, d) })
}

// decided plans to apply or to drop the change that waits.
func (rm *Room) decided(ctx context.Context, by change.By, d Decision) (p records.Plan, err error) {
	kind, name := d.Kind, d.Name
	r, err := rm.records.Record(kind, name)
	if err != nil {
		return p, err
	}
	var row store.PendingRow
	if err := rm.store.Read.WithContext(ctx).Where("kind = ? AND name = ?", kind, name).Take(&row).Error; errors.Is(err,
		gorm.ErrRecordNotFound) {
		return p, change.Conflict(fmt.Sprintf("no change of the %s %q waits for approval", kind, name),
			"refresh it to see whether there is one")
	} else if err != nil {
		return p, err
	}
	n, err := rm.proposed(r, row.Data)
	if err != nil {
		return p, err
	}
	now, err := digest(federation.Differences(r.Describe(), n.Describe()), n.Basic().Intake.Document)
	if err == nil {
		err = change.Seen(d.Digest, now, fmt.Sprintf("the change of the %s %q is another one than was looked at", kind,
			name))
	}
	if err != nil {
		return p, err
	}
	kept, err := rm.freshness.Load(ctx, kind, name)
	if err != nil {
		return p, err
	}
	kept.Declined = ""
	if d.Apply {
		n.Basic().Revision++
		p.Put = []records.Put{{Object: n, What: "approved a change"}}
	} else {
		kept.Declined = n.Basic().Intake.Document
	}
	p.More = func(in store.Tx) error {
		tx := in.Rows()
		if err := freshness.DropPending(tx, kind, name); err != nil {
			return err
		}
		if !d.Apply {
			note := change.Note{At: rm.now(), By: by, What: "declined a change", Revision: r.At()}
			if err := note.WriteOf(tx, r); err != nil {
				return err
			}
		}
		return freshness.Save(tx, kind, name, kept)
	}
	return p, nil
}

// refreshOne asks the address of a record or an aggregate because its time has
// come.
func (rm *Room) refreshOne(ctx context.Context, kind, name string) error {
	by := change.By{Who: "schedule"}
	if kind == change.KindAggregate {
		_, err := rm.RefreshAggregate(ctx, by, name)
		return err
	}
	out, err := rm.Refresh(ctx, by, kind, name)
	if err == nil && out.Outcome != Unchanged {
		rm.log.Info("metadata refreshed", "kind", kind, "name", name, "outcome", out.Outcome)
	}
	return err
}

// RefreshDue asks all addresses whose time has come, a few at once.
func (rm *Room) RefreshDue(ctx context.Context) error {
	if !rm.taking.begin("") {
		return nil // the round before is not through yet
	}
	defer rm.taking.end("")
	var rows []store.FreshRow
	if err := rm.store.Read.WithContext(ctx).Where("next <= ?",
		rm.now().UTC()).Order("next").Limit(500).Find(&rows).Error; err != nil {
		return err
	}
	at := make(chan struct{}, 16)
	for _, row := range rows {
		at <- struct{}{}
		rm.jobs.Go(func() {
			defer func() { <-at }()
			_, err := jobs.Whole(func() (struct{}, error) { return struct{}{}, rm.refreshOne(ctx, row.Kind, row.Name) })
			var ce *change.ConflictError
			var nf *change.NotFoundError // removed meanwhile
			if err != nil && ctx.Err() == nil && !errors.As(err, &ce) && !errors.As(err, &nf) {
				rm.log.Error("metadata cannot be refreshed", "kind", row.Kind, "name", row.Name, "error", err)
			}
		})
	}
	for range cap(at) {
		at <- struct{}{}
	}
	return nil
}

// Refreshed is what a refresh of one record came to.
type Refreshed struct {
	Kind        string
	Name        string
	Digest      string // of a change that waits, to decide on
	Outcome     string
	Differences []federation.Difference
	Findings    []*finding.Finding
}

// Pending is a change that waits for approval.
type Pending struct {
	Kind        string
	Name        string
	Title       string
	Digest      string // of what is shown here, to decide on
	Since       time.Time
	Differences []federation.Difference
	Findings    []*finding.Finding
}
