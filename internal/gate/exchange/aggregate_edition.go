package exchange

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/editions"
	"innergate.example/innergate/internal/gate/fetch"
	"innergate.example/innergate/internal/gate/freshness"
	"innergate.example/innergate/internal/gate/jobs"
	"innergate.example/innergate/internal/store"
)

// takeAggregate spools a document, if one is given, and begins the job that
// takes it in. first is set for an aggregate that is not on record yet.
func (rm *Room) takeAggregate(ctx context.Context, by change.By, name string, first *editions.Settings,
	document io.Reader) (jobs.Job, error) {
	if err := os.MkdirAll(rm.editions.Folder(), 0o700); err != nil {
		return jobs.Job{}, err
	}
	if !rm.taking.begin(name) {
		return jobs.Job{}, change.Conflict(fmt.Sprintf("the aggregate %q is being taken in already", name),
			"wait until that job has ended")
	}
	var spooled *os.File
	if document != nil {
		var err error
		if spooled, err = rm.editions.Spool(document); err != nil {
			rm.taking.end(name)
			return jobs.Job{}, err
		}
	}
	return rm.jobs.Start("take in the aggregate "+name, "octets", func(ctx context.Context, p jobs.Progress) (any,
		error) {
		defer rm.taking.end(name)
		report, err := (&incoming{Room: rm, by: by, name: name, first: first, document: spooled}).take(ctx, p)
		if f := finding.Of(err); f != nil && first == nil {
			err = errors.Join(err, rm.aggregateFailed(ctx, name, f))
		}
		return report, err
	}), nil
}

// counting tells how much was read through it.
type counting struct {
	r    io.Reader
	n    int64
	tell func(int64)
}

func (c *counting) Read(b []byte) (int, error) {
	n, err := c.r.Read(b)
	c.n += int64(n)
	c.tell(c.n)
	return n, err
}

func (rm *Room) aggregateFailed(ctx context.Context, name string, f *finding.Finding) error {
	d, err := rm.freshness.Load(ctx, change.KindAggregate, name)
	if err != nil {
		return err
	}
	now := rm.now().UTC()
	d.Failures++
	d.Tried, d.Next, d.Failure = now, now.Add(freshness.Retry(d.Failures)), f
	return rm.store.Write(ctx, func(tx *gorm.DB) error { return freshness.Save(tx, change.KindAggregate, name, d) })
}

// incoming is one edition on its way in.
type incoming struct {
	*Room
	by       change.By
	name     string
	first    *editions.Settings // of an aggregate that is not on record yet
	document *os.File           // in a file of its own; nil to be fetched
	row      store.AggregateRow
	data     editions.Data
	fresh    freshness.Kept
	report   *Report
}

// take takes one edition in: read, verify and index it beside the present one,
// then put it in its place and renew the records that came from it.
func (in *incoming) take(ctx context.Context, p jobs.Progress) (any, error) {
	defer in.close()
	in.report = &Report{}
	if err := in.load(ctx); err != nil {
		return nil, err
	}
	if in.document == nil {
		if unchanged, err := in.get(ctx, p); err != nil || unchanged {
			return &Report{Entities: in.data.Entities, Broken: in.data.Broken, Changes: &editions.Changes{}}, err
		}
	}
	if info, err := in.document.Stat(); err == nil {
		p.Total(info.Size())
		in.data.Size = info.Size()
	}
	before := in.row.Edition
	staged := in.editions.Stage(ctx, in.name, before+1)
	defer func() {
		if err := staged.Drop(); err != nil { // of what is not put in place
			in.log.Error("left-over entities of an aggregate stay", "aggregate", in.name, "error", err)
		}
	}()
	if err := in.read(staged, p); err != nil {
		return nil, err
	}
	var err error
	if before > 0 {
		if in.data.Changes, err = in.editions.Compare(ctx, in.name, before, before+1); err != nil {
			return nil, err
		}
		in.report.Changes = in.data.Changes
	}
	if err := in.place(ctx, staged); err != nil {
		return nil, err
	}
	in.by.Together = &change.Together{}
	if in.report.Records, err = in.renewFrom(ctx, in.by, in.name, in.data); err != nil {
		return nil, err
	}
	in.report.Change = in.by.Together.Number
	return in.report, in.current(ctx, in.fresh.Conditions)
}

// close drops the document, unless it was put in place.
func (in *incoming) close() {
	if in.document != nil {
		_ = in.document.Close()
		_ = os.Remove(in.document.Name())
	}
}

// load gets what is on record.
func (in *incoming) load(ctx context.Context) (err error) {
	if in.first != nil {
		in.row, in.data = store.AggregateRow{Name: in.name, Added: in.now().UTC()}, editions.Data{Settings: *in.first}
		return nil
	}
	if in.row, in.data, err = in.editions.Row(ctx, in.name); err != nil {
		return err
	}
	in.fresh, err = in.freshness.Load(ctx, change.KindAggregate, in.name)
	return err
}

// get fetches the document, unless it is what it was.
func (in *incoming) get(ctx context.Context, p jobs.Progress) (unchanged bool, err error) {
	if !in.editions.Whole(in.data) {
		in.fresh.Conditions = fetch.Conditions{} // the document is needed, changed or not
	}
	short, cancel := context.WithTimeout(ctx, 10*time.Minute)
	defer cancel()
	got, err := in.fetch.Trusting(federation.Keeping{AddressCA: in.data.AddressCA}).Open(short, in.data.Address,
		in.fresh.Conditions)
	if err != nil {
		return false, err
	}
	if got.Unchanged {
		return true, in.current(ctx, got.Conditions)
	}
	defer got.Body.Close()
	p.Total(got.Length)
	if in.document, err = in.editions.Spool(got.Body); err != nil && finding.Of(err) == nil {
		err = fetch.Unreachable(in.data.Address, err.Error())
	}
	in.fresh.Conditions = got.Conditions
	return false, err
}

// read stages the entities, and holds the document against the trust key.
func (in *incoming) read(staged *editions.Staging, p jobs.Progress) error {
	trust, err := aggregateTrust(in.data.Settings)
	if err != nil {
		return err
	}
	read, err := saml.ReadAggregate(&counting{r: in.document, tell: p.Set}, saml.Trusting{Now: in.now(), Keys: trust},
		func(e *saml.Entity) error {
			f, err := staged.Add(e)
			if f != nil {
				refuse(in.report, e.EntityID, f)
			}
			return err
		})
	if err == nil {
		err = staged.Flush()
	}
	if err != nil {
		return err
	}
	in.report.Entities, in.report.Broken = read.Entities, read.Broken
	d := &in.data
	d.SignedBy, d.Restored = read.SignedBy, false
	d.NamedAs, d.ValidUntil, d.CacheDuration, d.Verified = read.Name, read.ValidUntil, read.CacheDuration, read.Verified
	d.SignatureMethod, d.DigestMethod, d.Entities, d.Broken, d.Taken = read.SignatureMethod, read.DigestMethod,
		read.Entities, read.Broken, in.now().UTC()
	return nil
}

// place has the edition that was staged count from now on, and drops the one
// before.
func (in *incoming) place(ctx context.Context, staged *editions.Staging) (err error) {
	was, from, old := in.row.Edition, in.row.Revision, in.data.File
	in.row.Edition, in.row.Revision = was+1, from+1
	in.data.File = fmt.Sprintf("%s-%d.xml", in.name, in.row.Edition)
	if err := in.editions.Put(in.document.Name(), in.data.File); err != nil {
		return err
	}
	if in.row.Data, err = json.Marshal(in.data); err != nil {
		return err
	}
	what := "refreshed"
	if in.first != nil {
		what = "added"
	}
	err = in.store.Write(ctx, func(tx *gorm.DB) error {
		if err := change.Unchanged(tx, &store.AggregateRow{}, change.KindAggregate, in.name, from); err != nil {
			return err
		}
		if err := tx.Save(&in.row).Error; err != nil {
			return err
		}
		return change.Note{At: in.now(), By: in.by, Kind: change.KindAggregate, Name: in.name, What: what,
			Revision: in.row.Revision, Data: in.row.Data}.Write(tx)
	})
	if err != nil {
		return errors.Join(err, os.Remove(filepath.Join(in.editions.Folder(), in.data.File)))
	}
	if staged.Placed(); was == 0 {
		return nil
	}
	_ = os.Remove(filepath.Join(in.editions.Folder(), old)) // left over at worst
	return in.editions.Drop(ctx, in.name, was)
}

// current notes that the edition on record is as of now.
func (in *incoming) current(ctx context.Context, c fetch.Conditions) error {
	f, now := in.fresh, in.now().UTC()
	f.Checked, f.Tried, f.Failure, f.Failures, f.Conditions = now, now, nil, 0, c
	if f.Next = now.Add(freshness.Interval(now, in.data.ValidUntil, in.data.CacheDuration)); in.data.Address == "" {
		f.Next = now.AddDate(100, 0, 0) // nothing to ask
	}
	return in.store.Write(ctx, func(tx *gorm.DB) error { return freshness.Save(tx, change.KindAggregate, in.name, f) })
}
