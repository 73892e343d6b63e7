package gate

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/xmlsec"
	"innergate.example/innergate/internal/store"
)

// Aggregate is an aggregate on record.
type Aggregate struct {
	Name     string
	Revision int
	Added    time.Time
	aggregateData
	Fresh    Fresh
	Findings []*finding.Finding
}

// Named is how the document names itself, or the short name.
func (a Aggregate) Named() string { return cmp.Or(a.NamedAs, a.Name) }

// Aggregates lists aggregates by name.
func (g *Gate) Aggregates(ctx context.Context) ([]Aggregate, error) {
	var names []string
	if err := g.store.Read.WithContext(ctx).Model(&store.AggregateRow{}).Order("name").Pluck("name", &names).Error; err != nil {
		return nil, err
	}
	out := []Aggregate{}
	for _, n := range names {
		a, err := g.Aggregate(ctx, n)
		if err != nil {
			return nil, err
		}
		out = append(out, a)
	}
	return out, nil
}

// Aggregate gives one aggregate with its findings.
func (g *Gate) Aggregate(ctx context.Context, name string) (Aggregate, error) {
	row, d, err := g.aggregateRow(ctx, name)
	if err != nil {
		return Aggregate{}, err
	}
	f, err := g.fresh(ctx, KindAggregate, name)
	if err != nil {
		return Aggregate{}, err
	}
	a := Aggregate{Name: row.Name, Revision: row.Revision, Added: row.Added, aggregateData: d, Fresh: f.Fresh}
	if d.TrustKey == "" {
		a.Findings = append(a.Findings, finding.New(finding.AggregateUnverified))
	}
	if until := d.ValidUntil; !until.IsZero() && g.now().After(until) {
		a.Findings = append(a.Findings, finding.New(finding.MetadataExpired, finding.Fact("validUntil", until.Format(time.RFC3339))))
	} else if !until.IsZero() && until.Sub(g.now()) < 48*time.Hour {
		a.Findings = append(a.Findings, finding.New(finding.MetadataExpiring, finding.Fact("validUntil", until.Format(time.RFC3339))))
	}
	if xmlsec.RestsOnSHA1(d.SignatureMethod) || xmlsec.RestsOnSHA1(d.DigestMethod) {
		a.Findings = append(a.Findings, finding.New(finding.MetadataSHA1, finding.Fact("SignatureMethod", d.SignatureMethod), finding.Fact("DigestMethod", d.DigestMethod)))
	}
	if f.Failure != nil {
		a.Findings = append(a.Findings, finding.New(finding.RefreshFailed, append([]finding.Evidence{finding.Fact("Cause", f.Failure.Title)}, f.Failure.Evidence...)...))
	}
	return a, nil
}

func aggregateTrust(s AggregateSettings) (federation.Keeping, error) {
	k := federation.Keeping{TrustKey: s.TrustKey}
	_, err := k.Trust()
	return k, checked(err)
}

// AddAggregate takes an aggregate in, from its address or from a document, in
// the background. The document is read before AddAggregate returns; nothing of it counts before its
// signature holds.
func (g *Gate) AddAggregate(ctx context.Context, by By, name string, s AggregateSettings, document io.Reader) (Job, error) {
	if _, err := federation.ParseName(name); err != nil {
		return Job{}, field("name", err)
	}
	if _, _, err := g.aggregateRow(ctx, name); err == nil {
		return Job{}, field("name", finding.New(finding.NameTaken, finding.Fact("Aggregate", name)))
	}
	if _, err := aggregateTrust(s); err != nil {
		return Job{}, err
	}
	switch {
	case document == nil && s.Address == "":
		return Job{}, field("address", finding.New(finding.MetadataEmpty))
	case document != nil && s.Address != "":
		return Job{}, field("address", errors.New("both a document and an address were given; give one of them"))
	case document == nil && !federation.IsAddress(s.Address):
		return Job{}, field("address", unreachable(s.Address, "not a whole http or https address"))
	}
	return g.takeAggregate(ctx, by, name, &s, document)
}

// UploadAggregate takes a newer edition of an aggregate in from a document.
func (g *Gate) UploadAggregate(ctx context.Context, by By, name string, document io.Reader) (Job, error) {
	if _, _, err := g.aggregateRow(ctx, name); err != nil {
		return Job{}, err
	}
	return g.takeAggregate(ctx, by, name, nil, document)
}

// RefreshAggregate fetches an aggregate anew.
func (g *Gate) RefreshAggregate(ctx context.Context, by By, name string) (Job, error) {
	_, d, err := g.aggregateRow(ctx, name)
	if err != nil {
		return Job{}, err
	}
	if d.Address == "" {
		return Job{}, &ConflictError{fmt.Sprintf("the aggregate %q has no address", name), "upload its next edition"}
	}
	return g.takeAggregate(ctx, by, name, nil, nil)
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

// ChangeAggregate replaces the settings of an aggregate; they act at its next
// refresh.
func (g *Gate) ChangeAggregate(ctx context.Context, by By, name string, revision int, s AggregateSettings) error {
	g.Lock()
	defer g.Unlock()
	row, d, err := g.aggregateRow(ctx, name)
	if err != nil {
		return err
	}
	if row.Revision != revision {
		return stale(KindAggregate, name, row.Revision, revision)
	}
	if _, err := aggregateTrust(s); err != nil {
		return err
	}
	if s.Address != "" && !federation.IsAddress(s.Address) {
		return field("address", unreachable(s.Address, "not a whole http or https address"))
	}
	d.AggregateSettings = s
	row.Revision++
	if row.Data, err = json.Marshal(d); err != nil {
		return err
	}
	f, err := g.fresh(ctx, KindAggregate, name)
	if err != nil {
		return err
	}
	f.conditions, f.Next = conditions{}, g.now().UTC() // another key or address: read it anew
	if s.Address == "" {
		f.Next = g.now().UTC().AddDate(100, 0, 0)
	}
	return g.store.Write(ctx, func(tx *gorm.DB) error {
		if err := unchanged(tx, &store.AggregateRow{}, KindAggregate, name, revision); err != nil {
			return err
		}
		if err := tx.Save(&row).Error; err != nil {
			return err
		}
		if err := saveFresh(tx, KindAggregate, name, f); err != nil {
			return err
		}
		return Note{At: g.now(), By: by, Kind: KindAggregate, Name: name, What: "changed", Revision: row.Revision, Data: row.Data}.Write(tx)
	})
}

// RemoveAggregate removes an aggregate. Records taken from it stay.
func (g *Gate) RemoveAggregate(ctx context.Context, by By, name string) error {
	row, d, err := g.aggregateRow(ctx, name)
	if err != nil {
		return err
	}
	if !g.taking.begin(name) {
		return &ConflictError{fmt.Sprintf("the aggregate %q is being taken in", name), "wait until that job has ended"}
	}
	defer g.taking.end(name)
	err = g.store.Write(ctx, func(tx *gorm.DB) error {
		if err := unchanged(tx, &store.AggregateRow{}, KindAggregate, name, row.Revision); err != nil {
			return err
		}
		if err := tx.Where("kind = ? AND name = ?", KindAggregate, name).Delete(&store.FreshRow{}).Error; err != nil {
			return err
		}
		if err := (Note{At: g.now(), By: by, Kind: KindAggregate, Name: name, What: "removed", Revision: row.Revision + 1, Data: row.Data}).Write(tx); err != nil {
			return err
		}
		return tx.Delete(&store.AggregateRow{Name: name}).Error
	})
	if err != nil {
		return err
	}
	_ = os.Remove(filepath.Join(g.folder(), d.File)) // left over at worst, and swept at the next start
	return g.dropEdition(ctx, name, row.Edition)
}
