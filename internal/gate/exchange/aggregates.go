package exchange

import (
	"cmp"
	"context"
	"crypto"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"
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

// Aggregate is an aggregate on record.
type Aggregate struct {
	Name     string
	Revision int
	Added    time.Time
	editions.Data
	Fresh    freshness.State
	Findings []*finding.Finding
}

// Named is how the document names itself, or the short name.
func (a Aggregate) Named() string { return cmp.Or(a.NamedAs, a.Name) }

// Aggregates lists aggregates by name.
func (rm *Room) Aggregates(ctx context.Context) ([]Aggregate, error) {
	var names []string
	if err := rm.store.Read.WithContext(ctx).Model(&store.AggregateRow{}).Order("name").Pluck("name",
		&names).Error; err != nil {
		return nil, err
	}
	out := []Aggregate{}
	for _, n := range names {
		a, err := rm.Aggregate(ctx, n)
		if err != nil {
			return nil, err
		}
		out = append(out, a)
	}
	return out, nil
}

// Aggregate gives one aggregate with its findings.
func (rm *Room) Aggregate(ctx context.Context, name string) (Aggregate, error) {
	row, d, err := rm.editions.Row(ctx, name)
	if err != nil {
		return Aggregate{}, err
	}
	f, err := rm.freshness.Load(ctx, change.KindAggregate, name)
	if err != nil {
		return Aggregate{}, err
	}
	a := Aggregate{Name: row.Name, Revision: row.Revision, Added: row.Added, Data: d, Fresh: f.State}
	a.Findings = checks.Sort(d.Findings(rm.now(), rm.editions.Whole(d), f.Failure))
	return a, nil
}

// checkSettings sees whether settings of an aggregate can be kept.
func checkSettings(s editions.Settings) error {
	for name, text := range map[string]string{"title": s.Title, "address": s.Address, "notes": s.Notes,
		"trustKey": s.TrustKey, "addressCA": s.AddressCA} {
		if err := federation.CheckText(text, name != "title" && name != "address"); err != nil {
			return change.Field(name, err)
		}
	}
	if _, err := (federation.Keeping{AddressCA: s.AddressCA}).Authorities(); err != nil {
		return change.OfSetting(err)
	}
	_, err := aggregateTrust(s)
	return err
}

// aggregateTrust reads the keys that are trusted to sign an aggregate.
func aggregateTrust(s editions.Settings) ([]crypto.PublicKey, error) {
	trust, err := federation.Keeping{TrustKey: s.TrustKey}.Trust()
	return trust, change.OfSetting(err)
}

// AddAggregate takes an aggregate in, from its address or from a document, in
// the background. The document is read before AddAggregate returns; nothing of it counts before its
// signature holds.
func (rm *Room) AddAggregate(ctx context.Context, by change.By, name string, s editions.Settings,
	document io.Reader) (jobs.Job, error) {
	if _, err := federation.ParseName(name); err != nil {
		return jobs.Job{}, change.Field("name", err)
	}
	if _, _, err := rm.editions.Row(ctx, name); err == nil {
		return jobs.Job{}, change.Field("name", finding.New(finding.NameTaken, finding.Fact("Aggregate", name)))
	}
	if err := checkSettings(s); err != nil {
		return jobs.Job{}, err
	}
	switch {
	case document == nil && s.Address == "":
		return jobs.Job{}, change.Field("address", finding.New(finding.MetadataEmpty))
	case document != nil && s.Address != "":
		return jobs.Job{}, change.Field("address", errors.New("both a document and an address were given; give one of them"))
	case document == nil && !federation.IsAddress(s.Address):
		return jobs.Job{}, change.Field("address", fetch.Unreachable(s.Address, "not a whole http or https address"))
	}
	return rm.takeAggregate(ctx, by, name, &s, document)
}

// UploadAggregate takes a newer edition of an aggregate in from a document.
func (rm *Room) UploadAggregate(ctx context.Context, by change.By, name string, document io.Reader) (jobs.Job, error) {
	if _, _, err := rm.editions.Row(ctx, name); err != nil {
		return jobs.Job{}, err
	}
	return rm.takeAggregate(ctx, by, name, nil, document)
}

// RefreshAggregate fetches an aggregate anew.
func (rm *Room) RefreshAggregate(ctx context.Context, by change.By, name string) (jobs.Job, error) {
	_, d, err := rm.editions.Row(ctx, name)
	if err != nil {
		return jobs.Job{}, err
	}
	if d.Address == "" {
		return jobs.Job{}, change.Conflict(fmt.Sprintf("the aggregate %q has no address", name), "upload its next edition")
	}
	return rm.takeAggregate(ctx, by, name, nil, nil)
}

// taking is which aggregates are being taken in.
type taking struct {
	mu  sync.Mutex
	now map[string]bool
}

func (t *taking) begin(name string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.now[name] {
		return false
	}
	if t.now == nil {
		t.now = map[string]bool{}
	}
	t.now[name] = true
	return true
}

func (t *taking) busy(name string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.now[name]
}

func (t *taking) end(name string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	delete(t.now, name)
}

// kind is what the configuration has to know of aggregates.
func (rm *Room) kind() records.Kind {
	return records.Kind{Name: change.KindAggregate, Read: editions.ReadObject, Now: rm.editions.Object,
		All: rm.editions.Objects,
		Row: func(o federation.Object) (any, []byte, error) {
			x := o.(*editions.Object)
			data, err := json.Marshal(x.Data)
			x.Row.Data = data
			return &x.Row, data, err
		},
		Fits: func(_, _ *federation.Snapshot, p records.Put) error {
			s := p.Object.(*editions.Object).Settings
			if s.Address != "" && !federation.IsAddress(s.Address) {
				return change.Field("address", fetch.Unreachable(s.Address, "not a whole http or https address"))
			}
			return checkSettings(s)
		},
		Keep: rm.keepAggregate,
		Drop: rm.dropAggregate,
		Gone: func(ctx context.Context, o federation.Object) error {
			x := o.(*editions.Object)
			_ = os.Remove(filepath.Join(rm.editions.Folder(), x.File)) // left over at worst, and swept at the next start
			return rm.editions.Drop(ctx, x.Row.Name, x.Row.Edition)
		}}
}

// keepAggregate has an aggregate asked anew at once if its address or trust key is another one.
func (rm *Room) keepAggregate(tx *gorm.DB, p records.Put) error {
	x := p.Object.(*editions.Object)
	f, err := rm.freshness.Load(tx.Statement.Context, change.KindAggregate, x.Row.Name)
	if err != nil {
		return err
	}
	old, there := rm.editions.Object(x.Row.Name)
	if was := old.(*editions.Object); !there || x.Restored || was.Address != x.Address || was.TrustKey != x.TrustKey {
		f.Conditions, f.Next = fetch.Conditions{}, rm.now().UTC()
	}
	if x.Address == "" {
		f.Next = rm.now().UTC().AddDate(100, 0, 0)
	}
	return freshness.Save(tx, change.KindAggregate, x.Row.Name, f)
}

// dropAggregate takes out how current an aggregate is, and what was acknowledged of it: it is not
// known of the next one with the name.
func (rm *Room) dropAggregate(tx *gorm.DB, o federation.Object) error {
	name := string(o.Ref().Name)
	if rm.taking.busy(name) {
		return change.Conflict(fmt.Sprintf("the aggregate %q is being taken in", name), "wait until that job has ended")
	}
	return errors.Join(tx.Where("kind = ? AND name = ?", change.KindAggregate, name).Delete(&store.FreshRow{}).Error,
		tx.Where("object = ?", change.AggregateObject(name)).Delete(&store.AcknowledgedRow{}).Error)
}

// ChangeAggregate changes settings of an aggregate. Another address or trust key
// acts at its next refresh, which is due at once.
func (rm *Room) ChangeAggregate(ctx context.Context, by change.By, name string, revision int,
	edit editions.Edit) error {
	return rm.records.Change(ctx, by, func(*federation.Snapshot) (records.Plan, error) {
		row, d, err := rm.editions.Row(ctx, name)
		if err != nil {
			return records.Plan{}, err
		}
		if row.Revision != revision {
			return records.Plan{}, change.Stale(change.KindAggregate, name, row.Revision, revision)
		}
		s := edit.Over(d.Settings)
		if s == d.Settings {
			return records.Plan{}, nil
		}
		d.Settings = s
		row.Revision++
		return records.Puts(&editions.Object{Row: row, Data: d}, "changed"), nil
	})
}

// RemoveAggregate removes an aggregate. Records taken from it stay.
func (rm *Room) RemoveAggregate(ctx context.Context, by change.By, name string) error {
	return rm.records.Remove(ctx, by, change.KindAggregate, name)
}
