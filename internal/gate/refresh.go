package gate

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/store"
)

// Outcomes of a refresh.
const (
	Unchanged = "unchanged"
	Applied   = "applied"
	Awaiting  = "waiting"
	Declined  = "declined before"
	Failed    = "failed"
)

// Refresh asks the address of a record now.
func (g *Gate) Refresh(ctx context.Context, by By, kind, name string) (Refreshed, error) {
	r, err := g.object(kind, name)
	if err != nil {
		return Refreshed{}, err
	}
	if a := r.Basic().Intake.Aggregate(); a != "" {
		return Refreshed{}, &ConflictError{fmt.Sprintf("the %s %q comes from the aggregate %q", kind, name, a), "refresh the aggregate"}
	}
	address := r.Basic().Intake.Address()
	if address == "" {
		return Refreshed{}, &ConflictError{fmt.Sprintf("the %s %q has no metadata address", kind, name), "take in newer metadata from a file, or give an address once"}
	}
	d, err := g.fresh(ctx, kind, name)
	if err != nil {
		return Refreshed{}, err
	}
	if unproved(r) {
		d.conditions = conditions{} // the document is needed, changed or not
	}
	got, err := g.fetch.get(ctx, address, d.conditions, metadataLimit)
	var out Refreshed
	if err == nil && got.unchanged {
		out = Refreshed{Kind: kind, Name: name, Outcome: Unchanged}
		err = g.saveFresh(ctx, r, &d, got.conditions, g.interval(r.Basic().Intake))
		return out, err
	}
	if err == nil {
		out, err = g.renew(ctx, by, r, got.octets, address, &d)
	}
	if f := finding.Of(err); f != nil {
		return g.failed(ctx, r, d, f)
	}
	if err != nil {
		return out, err
	}
	return out, g.saveFresh(ctx, r, &d, got.conditions, g.interval(r.Basic().Intake))
}

// failed notes that a refresh failed; the last good copy stays.
func (g *Gate) failed(ctx context.Context, r federation.Record, d freshData, f *finding.Finding) (Refreshed, error) {
	f = f.From(r.Kind().Side())
	now := g.now().UTC()
	d.Failures++
	d.Tried, d.Next, d.Failure = now, now.Add(retry(d.Failures)), f
	err := g.store.Write(ctx, func(tx *gorm.DB) error { return saveFresh(tx, kindOf(r), nameOf(r), d) })
	return Refreshed{Kind: kindOf(r), Name: nameOf(r), Outcome: Failed, Findings: []*finding.Finding{f}}, err
}

func (g *Gate) saveFresh(ctx context.Context, r federation.Record, d *freshData, c conditions, wait time.Duration) error {
	now := g.now().UTC()
	d.Checked, d.Tried, d.Next, d.Failure, d.Failures, d.conditions = now, now, now.Add(wait), nil, 0, c
	return g.store.Write(ctx, func(tx *gorm.DB) error { return saveFresh(tx, kindOf(r), nameOf(r), *d) })
}

// renewed is a record with newer values, and what became of it.
type renewed struct {
	Refreshed
	change
	pending []byte // data that waits for approval
}

// compare lays a newer document over a record and decides what is to be done.
func (g *Gate) compare(r federation.Record, octets []byte, source string, d *freshData) (renewed, error) {
	out := renewed{Refreshed: Refreshed{Kind: kindOf(r), Name: nameOf(r), Outcome: Unchanged}}
	hash := hashOf(octets)
	if hash == r.Basic().Intake.Document && !unproved(r) {
		return out, nil
	}
	n := r.Copy()
	if err := g.takeIn(n, octets, source, false); err != nil {
		return out, err
	}
	if err := g.fits(g.Snapshot(), n, "address"); err != nil {
		return out, err
	}
	if err := checked(federation.Check(n)); err != nil {
		// A setting relies on what the newer metadata lacks, like a key to encrypt
		// with.
		return out, finding.New(finding.RefreshFailed, finding.Fact("Cause", err.Error()))
	}
	out.change = change{record: n, what: "refreshed", document: octets}
	out.Differences = slices.DeleteFunc(federation.Differences(federation.Describe(r), federation.Describe(n)), func(d federation.Difference) bool { return d.Label == "validUntil" })
	out.Findings = checks.Change(r.Kind().Side(), out.Differences)
	switch {
	case len(out.Differences) == 0:
		out.quiet = true
	case len(out.Findings) == 0 || !r.Basic().ApproveChanges:
		out.Outcome = Applied
		n.Basic().Revision++
		if len(out.Findings) > 0 {
			d.Changed, d.At = out.Findings, g.now().UTC()
		}
	case d.Declined == hash:
		out.Outcome = Declined
	default:
		out.Outcome = Awaiting
		pending, err := federation.Marshal(n)
		if err != nil {
			return out, err
		}
		out.pending = pending
	}
	return out, nil
}

// renew takes a newer document into one record.
func (g *Gate) renew(ctx context.Context, by By, r federation.Record, octets []byte, source string, d *freshData) (Refreshed, error) {
	g.Lock()
	defer g.Unlock()
	now, err := g.object(kindOf(r), nameOf(r))
	if err != nil {
		return Refreshed{}, err
	}
	if now.Basic().Intake.Source != source { // something else was taken in meanwhile
		return Refreshed{Kind: kindOf(r), Name: nameOf(r), Outcome: Unchanged}, nil
	}
	out, err := g.compare(now, octets, source, d)
	if err != nil {
		return out.Refreshed, err
	}
	return out.Refreshed, g.keep(ctx, by, []renewed{out})
}

// keep saves what came of comparing. The lock is held.
func (g *Gate) keep(ctx context.Context, by By, all []renewed) error {
	var changes []change
	for _, n := range all {
		if n.record != nil && (n.Outcome == Applied || n.quiet) {
			changes = append(changes, n.change)
		}
	}
	return g.put(ctx, by, changes, func(tx *gorm.DB) error {
		for _, n := range all {
			switch {
			case n.Outcome == Awaiting:
				if _, err := store.PutDocument(tx, n.document); err != nil {
					return err
				}
				if err := tx.Save(&store.PendingRow{Kind: n.Kind, Name: n.Name, At: g.now().UTC(), Data: n.pending}).Error; err != nil {
					return err
				}
			case n.Outcome == Applied || n.Outcome == Unchanged:
				if err := dropPending(tx, n.Kind, n.Name); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// Waiting lists changes that wait for approval, the oldest first; of one record,
// if kind and name are given.
func (g *Gate) Waiting(ctx context.Context, kind, name string) ([]Pending, error) {
	q := g.store.Read.WithContext(ctx).Order("at")
	if name != "" {
		q = q.Where("kind = ? AND name = ?", kind, name)
	}
	var rows []store.PendingRow
	if err := q.Find(&rows).Error; err != nil {
		return nil, err
	}
	out := []Pending{}
	for _, row := range rows {
		r, err := g.object(row.Kind, row.Name)
		if err != nil {
			return nil, err
		}
		n, err := g.proposed(r, row.Data)
		if err != nil {
			return nil, err
		}
		p := Pending{Kind: row.Kind, Name: row.Name, Title: r.Basic().Title, Since: row.At, Differences: federation.Differences(federation.Describe(r), federation.Describe(n))}
		p.Findings = checks.Change(r.Kind().Side(), p.Differences)
		out = append(out, p)
	}
	return out, nil
}

// proposed gives the record with the other side's values out of data, and with
// the settings it has now.
func (g *Gate) proposed(r federation.Record, data []byte) (federation.Record, error) {
	b := r.Basic()
	other, err := g.read(r.Part().Protocol(), federation.Stored{Kind: r.Kind(), Name: string(b.Name), Added: b.Added, Revision: b.Revision, Data: data})
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

// Approve applies the change that waits, Decline drops it until the metadata
// changes again.
func (g *Gate) Approve(ctx context.Context, by By, kind, name string) error {
	return g.decide(ctx, by, kind, name, true)
}

// Decline drops the change that waits until the metadata changes again.
func (g *Gate) Decline(ctx context.Context, by By, kind, name string) error {
	return g.decide(ctx, by, kind, name, false)
}

func (g *Gate) decide(ctx context.Context, by By, kind, name string, apply bool) error {
	g.Lock()
	defer g.Unlock()
	r, err := g.object(kind, name)
	if err != nil {
		return err
	}
	var row store.PendingRow
	if err := g.store.Read.WithContext(ctx).Where("kind = ? AND name = ?", kind, name).Take(&row).Error; errors.Is(err, gorm.ErrRecordNotFound) {
		return &ConflictError{fmt.Sprintf("no change of the %s %q waits for approval", kind, name), "refresh it to see whether there is one"}
	} else if err != nil {
		return err
	}
	n, err := g.proposed(r, row.Data)
	if err != nil {
		return err
	}
	if !apply {
		d, err := g.fresh(ctx, kind, name)
		if err != nil {
			return err
		}
		d.Declined = n.Basic().Intake.Document
		return g.store.Write(ctx, func(tx *gorm.DB) error {
			if err := dropPending(tx, kind, name); err != nil {
				return err
			}
			if err := (Note{At: g.now(), By: by, What: "declined a change", Revision: r.Basic().Revision}).WriteOf(tx, r); err != nil {
				return err
			}
			return saveFresh(tx, kind, name, d)
		})
	}
	for _, err := range []error{g.fits(g.Snapshot(), n, "entityId"), checked(federation.Check(n))} {
		if err != nil {
			return err
		}
	}
	n.Basic().Revision++
	return g.put(ctx, by, []change{{record: n, what: "approved a change"}}, func(tx *gorm.DB) error { return dropPending(tx, kind, name) })
}

// refreshDue asks all addresses whose time has come, a few at once.
func (g *Gate) refreshDue(ctx context.Context) error {
	if !g.taking.begin("") {
		return nil // the round before is not through yet
	}
	defer g.taking.end("")
	var rows []store.FreshRow
	if err := g.store.Read.WithContext(ctx).Where("next <= ?", g.now().UTC()).Order("next").Limit(500).Find(&rows).Error; err != nil {
		return err
	}
	at := make(chan struct{}, 4)
	for _, row := range rows {
		at <- struct{}{}
		g.jobs.wait.Go(func() {
			defer func() { <-at }()
			var err error
			if row.Kind == KindAggregate {
				_, err = g.RefreshAggregate(ctx, By{Who: "schedule"}, row.Name)
			} else {
				var out Refreshed
				if out, err = g.Refresh(ctx, By{Who: "schedule"}, row.Kind, row.Name); err == nil && out.Outcome != Unchanged {
					g.log.Info("metadata refreshed", "kind", row.Kind, "name", row.Name, "outcome", out.Outcome)
				}
			}
			var ce *ConflictError
			if err != nil && ctx.Err() == nil && !errors.As(err, &ce) {
				g.log.Error("metadata cannot be refreshed", "kind", row.Kind, "name", row.Name, "error", err)
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
	Outcome     string
	Differences []federation.Difference
	Findings    []*finding.Finding
}

// Pending is a change that waits for approval.
type Pending struct {
	Kind        string
	Name        string
	Title       string
	Since       time.Time
	Differences []federation.Difference
	Findings    []*finding.Finding
}
