// Package editions keeps aggregates: their documents in files, their entities as
// rows of the edition that counts. An edition that is being read is beside it
// until it counts.
package editions

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/nearword"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/core/xmlsec"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/store"
)

// Room keeps aggregates.
type Room struct{ store *store.Store }

// New makes a room over a store.
func New(s *store.Store) *Room { return &Room{store: s} }

// Listed bounds lists of entities in a report.
const Listed = 1000

// Data is what an aggregate's row holds: what is decided, and what the
// last document said.
type Data struct {
	Settings
	File            string        `json:"file,omitempty"` // name in the folder of aggregates
	Document        string        `json:"document,omitempty"`
	Size            int64         `json:"size,omitempty"` // octets
	NamedAs         string        `json:"name,omitempty"` // as the document names itself
	ValidUntil      time.Time     `json:"validUntil,omitzero"`
	CacheDuration   time.Duration `json:"cacheDuration,omitempty"`
	SignatureMethod string        `json:"signatureMethod,omitempty"`
	DigestMethod    string        `json:"digestMethod,omitempty"`
	SignedBy        string        `json:"signedBy,omitempty"` // whose key the signature names, in words
	Verified        bool          `json:"verified,omitempty"`
	Entities        int           `json:"entities,omitempty"`
	Broken          int           `json:"broken,omitempty"`
	Taken           time.Time     `json:"taken,omitzero"`
	Changes         *Changes      `json:"changes,omitempty"`
	Restored        bool          `json:"restored,omitempty"` // after it was removed: its document is still to come
}

// Settings are what an engineer decides about an aggregate.
type Settings struct {
	Title    string `json:"title,omitempty"`
	Address  string `json:"address,omitempty"`
	TrustKey string `json:"trustKey,omitempty"`
	Notes    string `json:"notes,omitempty"`
	// AddressCA are certificates in PEM of authorities that the address rests on.
	AddressCA string `json:"addressCA,omitempty"`
}

// Edit is some of the settings, to be changed; those that are nil stay.
type Edit struct{ Title, Address, TrustKey, Notes, AddressCA *string }

// Over gives settings with the changes in them.
func (e Edit) Over(s Settings) Settings {
	for to, from := range map[*string]*string{&s.Title: e.Title, &s.Address: e.Address, &s.TrustKey: e.TrustKey,
		&s.Notes: e.Notes, &s.AddressCA: e.AddressCA} {
		if from != nil {
			*to = *from
		}
	}
	return s
}

// Findings are what can be known of an aggregate without a sign-in. failure is why
// its last refresh failed, nil if it did not; whole tells whether its document is
// there.
func (d Data) Findings(now time.Time, whole bool, failure *finding.Finding) []*finding.Finding {
	var out []*finding.Finding
	add := func(code finding.Code, evidence ...finding.Evidence) {
		out = append(out, finding.New(code, evidence...).From(finding.Sender))
	}
	if !whole {
		add(finding.AggregateDamaged, finding.Fact("Document", cmp.Or(d.File, "gone since the aggregate was removed")))
	}
	if d.TrustKey == "" {
		signed := finding.Fact("Signature", "none")
		if d.SignedBy != "" {
			signed = finding.Fact("Signed by", d.SignedBy)
		}
		add(finding.AggregateUnverified, signed)
	}
	if until := d.ValidUntil; !until.IsZero() && now.After(until) {
		add(finding.MetadataExpired, finding.Fact("validUntil", until.Format(time.RFC3339)))
	} else if !until.IsZero() && until.Sub(now) < 48*time.Hour {
		add(finding.MetadataExpiring, finding.Fact("validUntil", until.Format(time.RFC3339)))
	}
	if xmlsec.RestsOnSHA1(d.SignatureMethod) || xmlsec.RestsOnSHA1(d.DigestMethod) {
		add(finding.MetadataSHA1, finding.Fact("SignatureMethod", d.SignatureMethod),
			finding.Fact("DigestMethod", d.DigestMethod))
	}
	if failure != nil {
		add(finding.RefreshFailed, append([]finding.Evidence{finding.Fact("Cause", failure.Title)}, failure.Evidence...)...)
	}
	return out
}

// Changes is what differs between two editions of an aggregate; lists hold the
// first thousand entity IDs.
type Changes struct {
	Added    int      `json:"added"`
	Removed  int      `json:"removed"`
	Changed  int      `json:"changed"`
	AddedIDs []string `json:"addedIds,omitempty"`
	GoneIDs  []string `json:"removedIds,omitempty"`
	OtherIDs []string `json:"changedIds,omitempty"`
}

// Folder is where the documents of aggregates are.
func (rm *Room) Folder() string { return filepath.Join(rm.store.Dir(), "aggregates") }

// Row gives what is stored of an aggregate, or tells a near name.
func (rm *Room) Row(ctx context.Context, name string) (row store.AggregateRow, d Data, err error) {
	err = rm.store.Read.WithContext(ctx).Where("name = ?", name).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		var names []string
		if err := rm.store.Read.WithContext(ctx).Model(&store.AggregateRow{}).Pluck("name", &names).Error; err != nil {
			return row, d, err
		}
		return row, d, change.NotFound(change.KindAggregate, name, nearword.Of(name, names))
	}
	if err == nil {
		err = json.Unmarshal(row.Data, &d)
	}
	return row, d, err
}

// All gives what is stored of every aggregate, by name.
func (rm *Room) All(ctx context.Context) (map[string]Data, error) {
	var rows []store.AggregateRow
	err := rm.store.Read.WithContext(ctx).Find(&rows).Error
	out := map[string]Data{}
	for _, r := range rows {
		var d Data
		if err := json.Unmarshal(r.Data, &d); err != nil {
			return nil, err
		}
		d.Title = cmp.Or(d.Title, d.NamedAs, r.Name)
		out[r.Name] = d
	}
	return out, err
}

// Filter narrows a list of entities.
type Filter struct {
	Search string // in entity ID and title
	Role   string // provider or application
	State  string // usable, broken
	Limit  int
	Offset int
}

// Entities begins a query for entities of an edition.
func (rm *Room) Entities(ctx context.Context, name string, edition int64, f Filter) *gorm.DB {
	q := rm.store.Read.WithContext(ctx).Model(&store.EntityRow{}).Where("aggregate = ? AND edition = ?", name, edition)
	if f.Search != "" {
		like := "%" + strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(f.Search) + "%"
		q = q.Where(`(entity_id LIKE ? ESCAPE '\' OR title LIKE ? ESCAPE '\')`, like, like)
	}
	if role := map[string]string{change.KindProvider: "%IDPSSO%", change.KindApplication: "%SPSSO%"}[f.Role]; role != "" {
		q = q.Where("roles LIKE ?", role)
	}
	switch f.State {
	case "usable":
		q = q.Where("problem IS NULL")
	case "broken":
		q = q.Where("problem IS NOT NULL")
	}
	return q
}

// Find gives the entities with some entity IDs; of an ID that is there twice the
// first one.
func (rm *Room) Find(ctx context.Context, name string, ids []string) (map[string]store.EntityRow, error) {
	row, _, err := rm.Row(ctx, name)
	if err != nil {
		return nil, err
	}
	var rows []store.EntityRow
	err = rm.store.Read.WithContext(ctx).Order("id DESC").
		Where("aggregate = ? AND edition = ? AND entity_id IN ?", name, row.Edition, ids).Find(&rows).Error
	out := map[string]store.EntityRow{}
	for _, r := range rows {
		out[r.EntityID] = r
	}
	return out, err
}

// Cut gives the document of one entity of an aggregate.
func (rm *Room) Cut(ctx context.Context, aggregate, entityID string) ([]byte, error) {
	row, d, err := rm.Row(ctx, aggregate)
	if err != nil {
		return nil, err
	}
	var e store.EntityRow
	err = rm.store.Read.WithContext(ctx).Where("aggregate = ? AND edition = ? AND entity_id = ?", aggregate, row.Edition,
		entityID).Order("id").Take(&e).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		near, err := rm.Near(ctx, aggregate, row.Edition, entityID)
		if err != nil {
			return nil, err
		}
		return nil, change.NotFound("entity", entityID, near)
	}
	if err != nil {
		return nil, err
	}
	f, err := rm.Open(d)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return f.Cut(e)
}

// Near gives the entity ID of an edition that is nearest to one that it does not
// hold, "" if none is near.
func (rm *Room) Near(ctx context.Context, aggregate string, edition int64, id string) (string, error) {
	var ids []string
	err := rm.store.Read.WithContext(ctx).Model(&store.EntityRow{}).Where("aggregate = ? AND edition = ?", aggregate,
		edition).Pluck("entity_id", &ids).Error
	return nearword.Of(id, ids), err
}

// Document is the document of an aggregate, for cutting entities out of it.
type Document struct{ *os.File }

// Put makes a document that was spooled that of an edition, on the disk before it
// counts.
func (rm *Room) Put(spooled, name string) error {
	if err := os.Rename(spooled, filepath.Join(rm.Folder(), name)); err != nil {
		return err
	}
	dir, err := os.Open(rm.Folder())
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close())
}

// Whole reports whether the document of an aggregate is there, in its whole
// length.
func (rm *Room) Whole(d Data) bool {
	if d.File == "" {
		return d.Taken.IsZero() && d.Entities == 0 && !d.Restored
	}
	info, err := os.Stat(filepath.Join(rm.Folder(), d.File))
	return err == nil && (d.Size == 0 || info.Size() == d.Size)
}

// Open opens the document of an aggregate; the caller closes it.
func (rm *Room) Open(d Data) (Document, error) {
	f, err := os.Open(filepath.Join(rm.Folder(), d.File))
	if errors.Is(err, fs.ErrNotExist) {
		err = finding.New(finding.AggregateDamaged, finding.Fact("Document", d.File))
	}
	return Document{f}, err
}

// Cut gives the document of one entity, or the finding that it cannot be used for.
func (o Document) Cut(e store.EntityRow) ([]byte, error) {
	if e.Problem != nil {
		f := &finding.Finding{}
		if err := json.Unmarshal(e.Problem, f); err != nil {
			return nil, err
		}
		return nil, f
	}
	octets := make([]byte, e.Until-e.From)
	if _, err := o.ReadAt(octets, e.From); err != nil {
		return nil, finding.New(finding.AggregateDamaged, finding.Fact("Entity ID", e.EntityID),
			finding.Fact("Cause", err.Error()))
	}
	if !bytes.HasPrefix(octets, []byte("<")) {
		return nil, finding.New(finding.XMLEncoding,
			finding.Fact("Aggregate", "not in UTF-8, so that single entities cannot be cut out of it"))
	}
	return saml.Cut(e.Wrap, octets), nil
}

// Drop removes the entities of an edition, some at a time.
func (rm *Room) Drop(ctx context.Context, name string, edition int64) error {
	for {
		var n int64
		err := rm.store.Write(ctx, func(tx *gorm.DB) error {
			done := tx.Where("id IN (?)", tx.Model(&store.EntityRow{}).Select("id").Where("aggregate = ? AND edition = ?", name,
				edition).Limit(2000)).Delete(&store.EntityRow{})
			n = done.RowsAffected
			return done.Error
		})
		if err != nil || n == 0 {
			return err
		}
	}
}

// Sweep removes what a crash left behind: files and rows of editions
// that never came to count.
func (rm *Room) Sweep(ctx context.Context) error {
	var rows []store.AggregateRow
	if err := rm.store.Read.WithContext(ctx).Find(&rows).Error; err != nil {
		return err
	}
	files := map[string]bool{}
	current := map[string]int64{}
	for _, r := range rows {
		var d Data
		if err := json.Unmarshal(r.Data, &d); err != nil {
			return err
		}
		files[d.File], current[r.Name] = true, r.Edition
	}
	entries, err := os.ReadDir(rm.Folder())
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	for _, e := range entries {
		if !files[e.Name()] {
			if err := os.Remove(filepath.Join(rm.Folder(), e.Name())); err != nil {
				return err
			}
		}
	}
	var staged []struct {
		Aggregate string
		Edition   int64
	}
	if err := rm.store.Read.WithContext(ctx).Model(&store.EntityRow{}).Distinct("aggregate",
		"edition").Scan(&staged).Error; err != nil {
		return err
	}
	for _, s := range staged {
		if current[s.Aggregate] != s.Edition {
			if err := rm.Drop(ctx, s.Aggregate, s.Edition); err != nil {
				return err
			}
		}
	}
	return nil
}

// Compare compares two editions by the sums of their entities, in one pass. Of an
// entity that is there several times the first one counts.
func (rm *Room) Compare(ctx context.Context, name string, before, after int64) (*Changes, error) {
	rows, err := rm.store.Read.WithContext(ctx).Raw(`SELECT edition = ?, entity_id, sum, problem IS NULL FROM entity_rows
		WHERE aggregate = ? AND edition IN (?, ?) ORDER BY edition, id`, after, name, before, after).Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var was, is = map[string]int64{}, map[string]bool{}
	var order []string
	c := &Changes{}
	note := func(count *int, ids *[]string, id string) {
		if *count++; len(*ids) < Listed {
			*ids = append(*ids, id)
		}
	}
	for rows.Next() {
		var late, usable bool
		var id string
		var sum int64
		if err := rows.Scan(&late, &id, &sum, &usable); err != nil {
			return nil, err
		}
		old, there := was[id]
		switch {
		case !late && !there:
			was[id], order = sum, append(order, id)
		case !late || is[id]:
		case !there:
			note(&c.Added, &c.AddedIDs, id)
		case old != sum && usable:
			note(&c.Changed, &c.OtherIDs, id)
		}
		is[id] = is[id] || late
	}
	for _, id := range order {
		if !is[id] {
			note(&c.Removed, &c.GoneIDs, id)
		}
	}
	return c, rows.Err()
}

// Spool writes what comes to a file of its own, as far as the limit allows.
func (rm *Room) Spool(src io.Reader) (*os.File, error) {
	f, err := os.CreateTemp(rm.Folder(), "coming-")
	if err != nil {
		return nil, err
	}
	limit := xmlsec.AggregateLimits.Octets
	n, err := io.Copy(f, io.LimitReader(src, limit+1))
	if err == nil && n > limit {
		err = change.Field("metadata", finding.New(finding.AggregateTooLarge,
			finding.Fact("At most", fmt.Sprintf("%.0f MB", float64(limit)/1e6))))
	}
	if err == nil {
		err = f.Sync() // it counts only once it is on the disk
	}
	if err == nil {
		_, err = f.Seek(0, io.SeekStart)
	}
	if err != nil {
		return nil, errors.Join(err, f.Close(), os.Remove(f.Name()))
	}
	return f, nil
}
