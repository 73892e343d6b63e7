package gate

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/store"
)

// takeAggregate spools a document, if one is given, and begins the job that
// takes it in. first is set for an aggregate that is not on record yet.
func (g *Gate) takeAggregate(ctx context.Context, by By, name string, first *AggregateSettings, document io.Reader) (Job, error) {
	if err := os.MkdirAll(g.folder(), 0o700); err != nil {
		return Job{}, err
	}
	if !g.taking.begin(name) {
		return Job{}, &ConflictError{fmt.Sprintf("the aggregate %q is being taken in already", name), "wait until that job has ended"}
	}
	var spooled *os.File
	if document != nil {
		var err error
		if spooled, err = g.spool(document); err != nil {
			g.taking.end(name)
			return Job{}, err
		}
	}
	return g.start("take in the aggregate "+name, "octets", func(ctx context.Context, p progress) (*Report, error) {
		defer g.taking.end(name)
		if spooled != nil {
			defer os.Remove(spooled.Name())
			defer spooled.Close()
		}
		report, err := g.aggregateJob(ctx, by, name, first, spooled, p)
		if f := finding.Of(err); f != nil && first == nil {
			err = errors.Join(err, g.aggregateFailed(ctx, name, f))
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

func (g *Gate) aggregateFailed(ctx context.Context, name string, f *finding.Finding) error {
	d, err := g.fresh(ctx, KindAggregate, name)
	if err != nil {
		return err
	}
	now := g.now().UTC()
	d.Failures++
	d.Tried, d.Next, d.Failure = now, now.Add(retry(d.Failures)), f
	return g.store.Write(ctx, func(tx *gorm.DB) error { return saveFresh(tx, KindAggregate, name, d) })
}

// aggregateJob takes one edition in: read, verify and index it beside the present
// one, then put it in its place and renew the records that came from it.
func (g *Gate) aggregateJob(ctx context.Context, by By, name string, first *AggregateSettings, document *os.File, p progress) (*Report, error) {
	var row store.AggregateRow
	var d aggregateData
	var f freshData
	if first != nil {
		row, d = store.AggregateRow{Name: name, Added: g.now().UTC()}, aggregateData{AggregateSettings: *first}
	} else {
		var err error
		if row, d, err = g.aggregateRow(ctx, name); err != nil {
			return nil, err
		}
		if f, err = g.fresh(ctx, KindAggregate, name); err != nil {
			return nil, err
		}
	}
	if document == nil {
		ctx, cancel := context.WithTimeout(ctx, 10*time.Minute)
		defer cancel()
		got, err := g.fetch.open(ctx, d.Address, f.conditions)
		if err != nil {
			return nil, err
		}
		if got.unchanged {
			return &Report{Entities: d.Entities, Broken: d.Broken, Changes: &Changes{}}, g.aggregateFresh(ctx, name, d, f, got.conditions)
		}
		defer got.body.Close()
		p.total(got.length)
		if document, err = g.spool(got.body); err != nil {
			if finding.Of(err) == nil {
				err = unreachable(d.Address, err.Error())
			}
			return nil, err
		}
		defer os.Remove(document.Name())
		defer document.Close()
		f.conditions = got.conditions
	}
	if info, err := document.Stat(); err == nil {
		p.total(info.Size())
		d.Size = info.Size()
	}
	keep, err := aggregateTrust(d.AggregateSettings)
	if err != nil {
		return nil, err
	}
	trust, err := keep.Trust()
	if err != nil {
		return nil, err
	}
	edition := row.Edition + 1
	report := &Report{}
	st := &staging{g: g, ctx: ctx, aggregate: name, edition: edition, report: report}
	defer st.drop() // of what is not put in place
	read, err := saml.ReadAggregate(&counting{r: document, tell: p.set}, saml.Trusting{Now: g.now(), Keys: trust}, st.add)
	if err == nil {
		err = st.flush()
	}
	if err != nil {
		return nil, err
	}
	report.Entities, report.Broken = read.Entities, read.Broken
	d.NamedAs, d.ValidUntil, d.CacheDuration, d.Verified = read.Name, read.ValidUntil, read.CacheDuration, read.Verified
	d.SignatureMethod, d.DigestMethod, d.Entities, d.Broken, d.Taken = read.SignatureMethod, read.DigestMethod, read.Entities, read.Broken, g.now().UTC()
	if row.Edition > 0 {
		if d.Changes, err = g.changes(ctx, name, row.Edition, edition); err != nil {
			return nil, err
		}
		report.Changes = d.Changes
	}
	old := d.File
	d.File = fmt.Sprintf("%s-%d.xml", name, edition)
	if err := os.Rename(document.Name(), filepath.Join(g.folder(), d.File)); err != nil {
		return nil, err
	}
	if row.Data, err = json.Marshal(d); err != nil {
		return nil, err
	}
	was, from := row.Edition, row.Revision
	row.Edition = edition
	what := "refreshed"
	if first != nil {
		what = "added"
	}
	row.Revision++
	err = g.store.Write(ctx, func(tx *gorm.DB) error {
		if err := unchanged(tx, &store.AggregateRow{}, KindAggregate, name, from); err != nil {
			return err
		}
		if err := tx.Save(&row).Error; err != nil {
			return err
		}
		return Note{At: g.now(), By: by, Kind: KindAggregate, Name: name, What: what, Revision: row.Revision, Data: row.Data}.Write(tx)
	})
	if err != nil {
		return nil, errors.Join(err, os.Remove(filepath.Join(g.folder(), d.File)))
	}
	st.placed = true
	if was > 0 {
		if err := g.dropEdition(ctx, name, was); err != nil {
			return nil, err
		}
		_ = os.Remove(filepath.Join(g.folder(), old)) // left over at worst
	}
	if report.Records, err = g.renewFrom(ctx, by, name, d); err != nil {
		return nil, err
	}
	return report, g.aggregateFresh(ctx, name, d, f, f.conditions)
}

func (g *Gate) aggregateFresh(ctx context.Context, name string, d aggregateData, f freshData, c conditions) error {
	now := g.now().UTC()
	f.Checked, f.Tried, f.Failure, f.Failures, f.conditions = now, now, nil, 0, c
	if f.Next = now.Add(interval(now, d.ValidUntil, d.CacheDuration)); d.Address == "" {
		f.Next = now.AddDate(100, 0, 0) // nothing to ask
	}
	return g.store.Write(ctx, func(tx *gorm.DB) error { return saveFresh(tx, KindAggregate, name, f) })
}

// staging writes entities of a new edition, some hundred at a time, so that the
// one writer is never held up for long.
type staging struct {
	g         *Gate
	ctx       context.Context
	aggregate string
	edition   int64
	report    *Report
	rows      []store.EntityRow
	any       bool
	placed    bool
	flying    chan error
}

func (s *staging) add(e *saml.Entity) error {
	r := store.EntityRow{Aggregate: s.aggregate, Edition: s.edition, EntityID: e.EntityID, Title: e.Title, Roles: strings.Join(e.Roles, " "),
		Sum: int64(e.Sum), From: e.Start, Until: e.End, Wrap: e.Wrap}
	if e.Problem != nil {
		f := finding.Of(e.Problem)
		if f == nil {
			return e.Problem
		}
		f = f.From(finding.Sender)
		refuse(s.report, e.EntityID, f)
		var err error
		if r.Problem, err = json.Marshal(f); err != nil {
			return err
		}
	}
	if s.rows = append(s.rows, r); len(s.rows) < 250 {
		return s.ctx.Err()
	}
	return s.write()
}

// write hands the gathered rows to the writer and goes on reading meanwhile.
func (s *staging) write() error {
	if err := s.landed(); err != nil {
		return err
	}
	rows := s.rows
	s.rows, s.any, s.flying = nil, true, make(chan error, 1)
	done := s.flying
	go func() {
		done <- s.g.store.Write(s.ctx, func(tx *gorm.DB) error { return tx.CreateInBatches(rows, 250).Error })
	}()
	return nil
}

func (s *staging) landed() error {
	if s.flying == nil {
		return nil
	}
	err := <-s.flying
	s.flying = nil
	return err
}

func (s *staging) flush() error {
	if len(s.rows) > 0 {
		if err := s.write(); err != nil {
			return err
		}
	}
	return s.landed()
}

func (s *staging) drop() {
	_ = s.landed() // its rows go in any case
	if s.any && !s.placed {
		if err := s.g.dropEdition(context.WithoutCancel(s.ctx), s.aggregate, s.edition); err != nil {
			s.g.log.Error("left-over entities of an aggregate stay", "aggregate", s.aggregate, "error", err)
		}
	}
}
