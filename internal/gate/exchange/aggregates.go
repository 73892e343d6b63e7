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

func (t *taking) end(name string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	delete(t.now, name)
}

// ChangeAggregate changes settings of an aggregate. Another address or trust key
// acts at its next refresh, which is due at once.
func (rm *Room) ChangeAggregate(ctx context.Context, by change.By, name string, revision int,
	edit editions.Edit) error {
	rm.records.Lock()
	defer rm.records.Unlock()
	row, d, err := rm.editions.Row(ctx, name)
	if err != nil {
		return err
	}
	if row.Revision != revision {
		return change.Stale(change.KindAggregate, name, row.Revision, revision)
	}
	s := edit.Over(d.Settings)
	if s == d.Settings {
		return nil
	}
	return rm.settle(ctx, by, row, d, settling{Settings: s, what: "changed"})
}

// settling is settings that an aggregate is to have from now on.
type settling struct {
	editions.Settings
	what string // as history says it
	back bool   // it was removed, and comes back
}

// settle gives an aggregate its settings. The lock is held.
func (rm *Room) settle(ctx context.Context, by change.By, row store.AggregateRow, d editions.Data, s settling) error {
	if err := checkSettings(s.Settings); err != nil {
		return err
	}
	if s.Address != "" && !federation.IsAddress(s.Address) {
		return change.Field("address", fetch.Unreachable(s.Address, "not a whole http or https address"))
	}
	anew := d.Restored || s.Address != d.Settings.Address || s.TrustKey != d.Settings.TrustKey
	d.Settings = s.Settings
	from := row.Revision
	if s.back {
		from = 0
	}
	row.Revision++
	var err error
	if row.Data, err = json.Marshal(d); err != nil {
		return err
	}
	f, err := rm.freshness.Load(ctx, change.KindAggregate, row.Name)
	if err != nil {
		return err
	}
	if anew {
		f.Conditions, f.Next = fetch.Conditions{}, rm.now().UTC()
	}
	if s.Address == "" {
		f.Next = rm.now().UTC().AddDate(100, 0, 0)
	}
	return rm.store.Write(ctx, func(tx *gorm.DB) error {
		if err := change.Unchanged(tx, &store.AggregateRow{}, change.KindAggregate, row.Name, from); err != nil {
			return err
		}
		if err := tx.Save(&row).Error; err != nil {
			return err
		}
		if err := freshness.Save(tx, change.KindAggregate, row.Name, f); err != nil {
			return err
		}
		return change.Note{At: rm.now(), By: by, Kind: change.KindAggregate, Name: row.Name, What: s.what,
			Revision: row.Revision, Data: row.Data}.Write(tx)
	})
}

// Restore sets what a change was made to back to what it was after that change: a
// record, or the settings of an aggregate. An aggregate that was removed comes back
// without its document: from its address at once, or with the next upload.
func (rm *Room) Restore(ctx context.Context, by change.By, id int64) (kind, name string, err error) {
	h, err := rm.records.HistoryRow(ctx, id)
	if err != nil {
		return "", "", err
	}
	if h.Kind != change.KindAggregate || len(h.Data) == 0 {
		return rm.records.Restore(ctx, by, id)
	}
	var was editions.Data
	if err := json.Unmarshal(h.Data, &was); err != nil {
		return "", "", err
	}
	rm.records.Lock()
	defer rm.records.Unlock()
	what := fmt.Sprintf("restored revision %d", h.Revision)
	row, d, err := rm.editions.Row(ctx, h.Name)
	var gone *change.NotFoundError
	back := errors.As(err, &gone)
	if back {
		row, d, err = store.AggregateRow{Name: h.Name, Added: rm.now().UTC()}, editions.Data{Restored: true}, nil
		if e := rm.store.Read.WithContext(ctx).Model(&store.HistoryRow{}).Where("kind = ? AND name = ?", h.Kind,
			h.Name).Select("max(revision)").Scan(&row.Revision).Error; e != nil {
			return "", "", e
		}
	}
	if err != nil {
		return "", "", err
	}
	return h.Kind, h.Name, rm.settle(ctx, by, row, d, settling{Settings: was.Settings, what: what, back: back})
}

// RemoveAggregate removes an aggregate. Records taken from it stay.
func (rm *Room) RemoveAggregate(ctx context.Context, by change.By, name string) error {
	row, d, err := rm.editions.Row(ctx, name)
	if err != nil {
		return err
	}
	if !rm.taking.begin(name) {
		return change.Conflict(fmt.Sprintf("the aggregate %q is being taken in", name), "wait until that job has ended")
	}
	defer rm.taking.end(name)
	err = rm.store.Write(ctx, func(tx *gorm.DB) error {
		if err := change.Unchanged(tx, &store.AggregateRow{}, change.KindAggregate, name, row.Revision); err != nil {
			return err
		}
		if err := tx.Where("kind = ? AND name = ?", change.KindAggregate, name).Delete(&store.FreshRow{}).Error; err != nil {
			return err
		}
		// What was known of it is not known of the next one with the name.
		if err := tx.Where("object = ?", change.AggregateObject(name)).Delete(&store.AcknowledgedRow{}).Error; err != nil {
			return err
		}
		if err := (change.Note{At: rm.now(), By: by, Kind: change.KindAggregate, Name: name, What: "removed",
			Revision: row.Revision + 1, Data: row.Data}).Write(tx); err != nil {
			return err
		}
		return tx.Delete(&store.AggregateRow{Name: name}).Error
	})
	if err != nil {
		return err
	}
	_ = os.Remove(filepath.Join(rm.editions.Folder(), d.File)) // left over at worst, and swept at the next start
	return rm.editions.Drop(ctx, name, row.Edition)
}
