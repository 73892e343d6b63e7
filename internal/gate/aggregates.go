package gate

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/nearword"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/core/xmlsec"
	"innergate.example/innergate/internal/store"
)

// aggregateData is what an aggregate's row holds: what is decided, and what the
// last document said.
type aggregateData struct {
	AggregateSettings
	File            string        `json:"file,omitempty"` // name in the folder of aggregates
	Document        string        `json:"document,omitempty"`
	Size            int64         `json:"size,omitempty"` // octets
	NamedAs         string        `json:"name,omitempty"` // as the document names itself
	ValidUntil      time.Time     `json:"validUntil,omitzero"`
	CacheDuration   time.Duration `json:"cacheDuration,omitempty"`
	SignatureMethod string        `json:"signatureMethod,omitempty"`
	DigestMethod    string        `json:"digestMethod,omitempty"`
	Verified        bool          `json:"verified,omitempty"`
	Entities        int           `json:"entities,omitempty"`
	Broken          int           `json:"broken,omitempty"`
	Taken           time.Time     `json:"taken,omitzero"`
	Changes         *Changes      `json:"changes,omitempty"`
}

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
func (a Aggregate) Named() string { return firstOf(a.NamedAs, a.Name) }

func (g *Gate) folder() string { return filepath.Join(g.store.Dir(), "aggregates") }

func (g *Gate) aggregateRow(ctx context.Context, name string) (row store.AggregateRow, d aggregateData, err error) {
	err = g.store.Read.WithContext(ctx).Where("name = ?", name).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		var names []string
		if err := g.store.Read.WithContext(ctx).Model(&store.AggregateRow{}).Pluck("name", &names).Error; err != nil {
			return row, d, err
		}
		return row, d, &NotFoundError{KindAggregate, name, nearword.Of(name, names)}
	}
	if err == nil {
		err = json.Unmarshal(row.Data, &d)
	}
	return row, d, err
}

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
func (g *Gate) AddAggregate(ctx context.Context, who, name string, s AggregateSettings, document io.Reader) (Job, error) {
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
	case document == nil && !isAddress(s.Address):
		return Job{}, field("address", unreachable(s.Address, "not a whole http or https address"))
	}
	return g.takeAggregate(ctx, who, name, &s, document)
}

// UploadAggregate takes a newer edition of an aggregate in from a document.
func (g *Gate) UploadAggregate(ctx context.Context, who, name string, document io.Reader) (Job, error) {
	if _, _, err := g.aggregateRow(ctx, name); err != nil {
		return Job{}, err
	}
	return g.takeAggregate(ctx, who, name, nil, document)
}

// RefreshAggregate fetches an aggregate anew.
func (g *Gate) RefreshAggregate(ctx context.Context, who, name string) (Job, error) {
	_, d, err := g.aggregateRow(ctx, name)
	if err != nil {
		return Job{}, err
	}
	if d.Address == "" {
		return Job{}, &ConflictError{fmt.Sprintf("the aggregate %q has no address", name), "upload its next edition"}
	}
	return g.takeAggregate(ctx, who, name, nil, nil)
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

// takeAggregate spools a document, if one is given, and begins the job that
// takes it in. first is set for an aggregate that is not on record yet.
func (g *Gate) takeAggregate(ctx context.Context, who, name string, first *AggregateSettings, document io.Reader) (Job, error) {
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
	why := remark(ctx)
	return g.start("take in the aggregate "+name, "octets", func(ctx context.Context, p progress) (*Report, error) {
		defer g.taking.end(name)
		if spooled != nil {
			defer os.Remove(spooled.Name())
			defer spooled.Close()
		}
		report, err := g.aggregateJob(WithRemark(ctx, why), who, name, first, spooled, p)
		if f := finding.Of(err); f != nil && first == nil {
			err = errors.Join(err, g.aggregateFailed(ctx, name, f))
		}
		return report, err
	}), nil
}

// spool writes what comes to a file of its own, as far as the limit allows.
func (g *Gate) spool(src io.Reader) (*os.File, error) {
	f, err := os.CreateTemp(g.folder(), "coming-")
	if err != nil {
		return nil, err
	}
	limit := xmlsec.AggregateLimits.Octets
	n, err := io.Copy(f, io.LimitReader(src, limit+1))
	if err == nil && n > limit {
		err = field("metadata", finding.New(finding.XMLTooLarge, finding.Fact("Limit", fmt.Sprintf("%d octets", limit))))
	}
	if err == nil {
		_, err = f.Seek(0, io.SeekStart)
	}
	if err != nil {
		return nil, errors.Join(err, f.Close(), os.Remove(f.Name()))
	}
	return f, nil
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
func (g *Gate) aggregateJob(ctx context.Context, who, name string, first *AggregateSettings, document *os.File, p progress) (*Report, error) {
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
	was := row.Edition
	row.Edition = edition
	what := "refreshed"
	if first != nil {
		what = "added"
	}
	row.Revision++
	err = g.store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Save(&row).Error; err != nil {
			return err
		}
		return tx.Create(g.history(ctx, who, KindAggregate, name, what, row.Revision, row.Data)).Error
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
	if report.Records, err = g.renewFrom(ctx, who, name, d); err != nil {
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

// dropEdition removes the entities of an edition, some at a time.
func (g *Gate) dropEdition(ctx context.Context, name string, edition int64) error {
	for {
		var n int64
		err := g.store.Write(ctx, func(tx *gorm.DB) error {
			done := tx.Where("id IN (?)", tx.Model(&store.EntityRow{}).Select("id").Where("aggregate = ? AND edition = ?", name, edition).Limit(2000)).Delete(&store.EntityRow{})
			n = done.RowsAffected
			return done.Error
		})
		if err != nil || n == 0 {
			return err
		}
	}
}

// sweepAggregates removes what a crash left behind: files and rows of editions
// that never came to count.
func (g *Gate) sweepAggregates(ctx context.Context) error {
	var rows []store.AggregateRow
	if err := g.store.Read.WithContext(ctx).Find(&rows).Error; err != nil {
		return err
	}
	files := map[string]bool{}
	current := map[string]int64{}
	for _, r := range rows {
		var d aggregateData
		if err := json.Unmarshal(r.Data, &d); err != nil {
			return err
		}
		files[d.File], current[r.Name] = true, r.Edition
	}
	entries, err := os.ReadDir(g.folder())
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	for _, e := range entries {
		if !files[e.Name()] {
			if err := os.Remove(filepath.Join(g.folder(), e.Name())); err != nil {
				return err
			}
		}
	}
	var staged []struct {
		Aggregate string
		Edition   int64
	}
	if err := g.store.Read.WithContext(ctx).Model(&store.EntityRow{}).Distinct("aggregate", "edition").Scan(&staged).Error; err != nil {
		return err
	}
	for _, s := range staged {
		if current[s.Aggregate] != s.Edition {
			if err := g.dropEdition(ctx, s.Aggregate, s.Edition); err != nil {
				return err
			}
		}
	}
	return nil
}

// changes compares two editions by the sums of their entities.
func (g *Gate) changes(ctx context.Context, name string, before, after int64) (*Changes, error) {
	c := &Changes{}
	q := func(where string, count *int, ids *[]string, args ...any) error {
		var all []string
		err := g.store.Read.WithContext(ctx).Raw(`SELECT entity_id FROM entity_rows n WHERE aggregate = ? AND edition = ? AND `+where+` ORDER BY id`, args...).Scan(&all).Error
		*count = len(all)
		*ids = all[:min(len(all), reportLimit)]
		return err
	}
	other := `EXISTS (SELECT 1 FROM entity_rows o WHERE o.aggregate = n.aggregate AND o.edition = ? AND o.entity_id = n.entity_id`
	return c, errors.Join(
		q("NOT "+other+")", &c.Added, &c.AddedIDs, name, after, before),
		q("NOT "+other+")", &c.Removed, &c.GoneIDs, name, before, after),
		q(other+" AND o.sum <> n.sum) AND n.problem IS NULL", &c.Changed, &c.OtherIDs, name, after, before))
}

// EntityFilter narrows a list of entities.
type EntityFilter struct {
	Search string // in entity ID and title
	Role   string // provider or application
	State  string // usable, broken
	Limit  int
	Offset int
}

func (g *Gate) entities(ctx context.Context, name string, edition int64, f EntityFilter) *gorm.DB {
	q := g.store.Read.WithContext(ctx).Model(&store.EntityRow{}).Where("aggregate = ? AND edition = ?", name, edition)
	if f.Search != "" {
		like := "%" + strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(f.Search) + "%"
		q = q.Where(`(entity_id LIKE ? ESCAPE '\' OR title LIKE ? ESCAPE '\')`, like, like)
	}
	if role := map[string]string{KindProvider: "%IDPSSO%", KindApplication: "%SPSSO%"}[f.Role]; role != "" {
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

// Entities searches an aggregate.
func (g *Gate) Entities(ctx context.Context, name string, f EntityFilter) ([]Entity, int64, error) {
	row, _, err := g.aggregateRow(ctx, name)
	if err != nil {
		return nil, 0, err
	}
	q := g.entities(ctx, name, row.Edition, f)
	var total int64
	if err := q.Session(&gorm.Session{}).Count(&total).Error; err != nil {
		return nil, 0, err
	}
	var rows []store.EntityRow
	if err := q.Session(&gorm.Session{}).Order("id").Offset(f.Offset).Limit(f.Limit).Find(&rows).Error; err != nil {
		return nil, 0, err
	}
	snap := g.Snapshot()
	out := []Entity{}
	for _, r := range rows {
		e := Entity{EntityID: r.EntityID, Title: r.Title, Roles: strings.Fields(r.Roles), Records: []string{}}
		if r.Problem != nil {
			if err := json.Unmarshal(r.Problem, &e.Problem); err != nil {
				return nil, 0, err
			}
		}
		if p, ok := snap.ProviderByEntityID(r.EntityID); ok {
			e.Records = append(e.Records, "provider/"+string(p.Name))
		}
		if a, ok := snap.ApplicationByEntityID(r.EntityID); ok {
			e.Records = append(e.Records, "application/"+string(a.Name))
		}
		out = append(out, e)
	}
	return out, total, nil
}

// cut gives the document of one entity of an aggregate.
func (g *Gate) cut(ctx context.Context, aggregate, entityID string) ([]byte, error) {
	row, d, err := g.aggregateRow(ctx, aggregate)
	if err != nil {
		return nil, err
	}
	var e store.EntityRow
	err = g.store.Read.WithContext(ctx).Where("aggregate = ? AND edition = ? AND entity_id = ?", aggregate, row.Edition, entityID).Order("id").Take(&e).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, &NotFoundError{Kind: "entity", Name: entityID}
	}
	if err != nil {
		return nil, err
	}
	f, err := g.openAggregate(d)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return f.cut(e)
}

// opened is the document of an aggregate, for cutting entities out of it.
type opened struct{ *os.File }

func (g *Gate) openAggregate(d aggregateData) (opened, error) {
	f, err := os.Open(filepath.Join(g.folder(), d.File))
	return opened{f}, err
}

func (o opened) cut(e store.EntityRow) ([]byte, error) {
	if e.Problem != nil {
		f := &finding.Finding{}
		if err := json.Unmarshal(e.Problem, f); err != nil {
			return nil, err
		}
		return nil, f
	}
	octets := make([]byte, e.Until-e.From)
	if _, err := o.ReadAt(octets, e.From); err != nil {
		return nil, fmt.Errorf("the document of the aggregate is damaged: %w", err)
	}
	if !bytes.HasPrefix(octets, []byte("<")) {
		return nil, finding.New(finding.XMLEncoding, finding.Fact("Aggregate", "not in UTF-8, so that single entities cannot be cut out of it"))
	}
	return saml.Cut(e.Wrap, octets), nil
}

// Take says which entities are to become records.
type Take struct {
	Entities []string // entity IDs; none means all that Filter matches
	Names    map[string]string
	Filter   EntityFilter
	Kind     string // provider or application
	Provider string // of applications: the provider to tie them to
}

// TakeEntities makes records of entities, in the background. Those that cannot be
// taken are reported; the others are.
func (g *Gate) TakeEntities(ctx context.Context, who, aggregate string, t Take) (Job, error) {
	row, d, err := g.aggregateRow(ctx, aggregate)
	if err != nil {
		return Job{}, err
	}
	if t.Kind != KindProvider && t.Kind != KindApplication {
		return Job{}, field("kind", fmt.Errorf("entities cannot become %q; say provider or application", t.Kind))
	}
	if t.Provider != "" {
		if _, err := g.Provider(t.Provider); err != nil {
			return Job{}, field("provider", err)
		}
	}
	q := g.entities(ctx, aggregate, row.Edition, EntityFilter{Search: t.Filter.Search, State: t.Filter.State, Role: t.Kind})
	if len(t.Entities) > 0 {
		q = g.store.Read.WithContext(ctx).Where("aggregate = ? AND edition = ? AND entity_id IN ?", aggregate, row.Edition, t.Entities)
	}
	var rows []store.EntityRow
	if err := q.Order("id").Find(&rows).Error; err != nil {
		return Job{}, err
	}
	why := remark(ctx)
	return g.start(fmt.Sprintf("take over %d of the aggregate %s", max(len(rows), len(t.Entities)), aggregate), "entities", func(ctx context.Context, p progress) (*Report, error) {
		p.total(int64(len(rows)))
		report := &Report{}
		for _, id := range t.Entities {
			if !slices.ContainsFunc(rows, func(r store.EntityRow) bool { return r.EntityID == id }) {
				refuse(report, id, finding.New(finding.AggregateGone, finding.Fact("Entity ID", id)))
			}
		}
		f, err := g.openAggregate(d)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		seen := map[string]bool{}
		names := map[string]bool{}
		for i := 0; i < len(rows); i += 100 { // so that sign-ins never wait long for the one writer
			if err := ctx.Err(); err != nil {
				return report, err
			}
			part := rows[i:min(i+100, len(rows))]
			if err := g.takePart(WithRemark(ctx, why), who, aggregate, t, f, part, seen, names, report); err != nil {
				return report, err
			}
			p.set(int64(i + len(part)))
		}
		return report, nil
	}), nil
}

// takePart makes records of some entities and saves them at once.
func (g *Gate) takePart(ctx context.Context, who, aggregate string, t Take, f opened, rows []store.EntityRow, seen, names map[string]bool, report *Report) error {
	g.saving.Lock()
	defer g.saving.Unlock()
	snap := g.Snapshot()
	var changes []change
	for _, row := range rows {
		r, octets, err := g.fromEntity(snap, aggregate, t, f, row, names)
		if err == nil && seen[row.EntityID] {
			err = finding.New(finding.AggregateTwice, finding.Fact("Entity ID", row.EntityID))
		}
		if err != nil {
			what := finding.Of(err)
			if what == nil {
				var fe *FieldError
				if !errors.As(err, &fe) {
					return err
				}
				what = finding.New(finding.RefreshFailed, finding.Fact(fe.Field, fe.Error()))
			}
			refuse(report, row.EntityID, what)
			continue
		}
		seen[row.EntityID], names[r.name()] = true, true
		changes = append(changes, change{object: r, what: "added", document: octets})
		if len(report.Taken) < reportLimit*10 {
			report.Taken = append(report.Taken, federation.TakenEntity{EntityID: row.EntityID, Kind: r.kind(), Name: r.name()})
		}
	}
	return g.put(ctx, who, changes, nil)
}

func (g *Gate) fromEntity(snap *federation.Snapshot, aggregate string, t Take, f opened, row store.EntityRow, names map[string]bool) (object, []byte, error) {
	octets, err := f.cut(row)
	if err != nil {
		return object{}, nil, err
	}
	m, err := saml.ReadMetadata(octets, g.now())
	if err != nil {
		return object{}, nil, err
	}
	title := row.Title
	if title == "" {
		title = row.EntityID
	}
	name := t.Names[row.EntityID]
	if name == "" {
		name = g.freeName(snap, t.Kind, title, row.EntityID, names)
	} else if err := free(snap, t.Kind, name); err != nil {
		return object{}, nil, err
	}
	var r object
	if t.Kind == KindProvider {
		r = g.newProvider(NewProvider{Name: name})
	} else {
		r = g.newApplication(NewApplication{Name: name, Provider: t.Provider})
	}
	if err := r.role(m, false); err != nil {
		return r, nil, err
	}
	*r.intake() = federation.TakenFrom(m, federation.SourceAggregate+aggregate, hashOf(octets))
	r.settle("")
	if err := g.fits(snap, r, "entityId"); err != nil {
		return r, nil, err
	}
	return r, octets, r.check()
}

// freeName makes a short name out of a title, or out of the host of an entity ID,
// that no record has.
func (g *Gate) freeName(snap *federation.Snapshot, kind, title, entityID string, taken map[string]bool) string {
	base := federation.NearName(title)
	if u, err := url.Parse(entityID); len(base) < 2 && err == nil && u.Hostname() != "" {
		base = federation.NearName(u.Hostname())
	}
	if len(base) < 2 {
		base = kind
	}
	base = strings.Trim(base[:min(len(base), 58)], "-")
	for n := 1; ; n++ {
		name := base
		if n > 1 {
			name = fmt.Sprintf("%s-%d", base, n)
		}
		if !taken[name] && free(snap, kind, name) == nil {
			return name
		}
	}
}

// renewFrom renews the records that came from an aggregate.
func (g *Gate) renewFrom(ctx context.Context, who, name string, d aggregateData) ([]Refreshed, error) {
	snap := g.Snapshot()
	var from []object
	for _, p := range snap.Providers() {
		if p.SAML.Intake.Aggregate() == name {
			from = append(from, object{provider: p})
		}
	}
	for _, a := range snap.Applications() {
		if a.SAML.Intake.Aggregate() == name {
			from = append(from, object{app: a})
		}
	}
	if len(from) == 0 {
		return nil, nil
	}
	row, _, err := g.aggregateRow(ctx, name)
	if err != nil {
		return nil, err
	}
	f, err := g.openAggregate(d)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	out := []Refreshed{}
	for i := 0; i < len(from); i += 200 {
		part, err := g.renewPart(ctx, who, name, row.Edition, f, from[i:min(i+200, len(from))])
		out = append(out, part...)
		if err != nil {
			return out, err
		}
	}
	return slices.DeleteFunc(out, func(r Refreshed) bool { return r.Outcome == Unchanged }), nil
}

func (g *Gate) renewPart(ctx context.Context, who, name string, edition int64, f opened, from []object) ([]Refreshed, error) {
	ids := make([]string, len(from))
	for i, r := range from {
		ids[i] = r.entityID()
	}
	var rows []store.EntityRow
	if err := g.store.Read.WithContext(ctx).Where("aggregate = ? AND edition = ? AND entity_id IN ?", name, edition, ids).Order("id DESC").Find(&rows).Error; err != nil {
		return nil, err
	}
	byID := map[string]store.EntityRow{}
	for _, r := range rows { // the first of an ID comes last
		byID[r.EntityID] = r
	}
	g.saving.Lock()
	defer g.saving.Unlock()
	var out []Refreshed
	var all []renewed
	state := map[int]freshData{}
	for i, was := range from {
		r, err := g.object(was.kind(), was.name())
		if err != nil {
			continue // removed meanwhile
		}
		d, err := g.fresh(ctx, r.kind(), r.name())
		if err != nil {
			return out, err
		}
		n, err := renewed{Refreshed: Refreshed{Kind: r.kind(), Name: r.name(), Outcome: Failed}}, error(nil)
		row, ok := byID[r.entityID()]
		d.Failure, d.Gone = nil, !ok
		if !ok {
			n.Findings = []*finding.Finding{finding.New(finding.AggregateGone, finding.Fact("Aggregate", name), finding.Fact("Entity ID", r.entityID()))}
		} else {
			var octets []byte
			if octets, err = f.cut(row); err == nil {
				n, err = g.compare(r, octets, federation.SourceAggregate+name, &d)
			}
			if found := finding.Of(err); found != nil {
				n.Outcome, n.Findings = Failed, []*finding.Finding{found}
				d.Failure, n.change = found, change{}
			} else if err != nil {
				return out, err
			}
		}
		d.Checked, d.Tried, d.Next = g.now().UTC(), g.now().UTC(), g.now().UTC().AddDate(100, 0, 0) // with its aggregate
		state[i] = d
		out, all = append(out, n.Refreshed), append(all, n)
	}
	if err := g.keep(ctx, who, all); err != nil {
		return out, err
	}
	return out, g.store.Write(ctx, func(tx *gorm.DB) error {
		for i, d := range state {
			if err := saveFresh(tx, from[i].kind(), from[i].name(), d); err != nil {
				return err
			}
		}
		return nil
	})
}

// ChangeAggregate replaces the settings of an aggregate; they act at its next
// refresh.
func (g *Gate) ChangeAggregate(ctx context.Context, who, name string, revision int, s AggregateSettings) error {
	g.saving.Lock()
	defer g.saving.Unlock()
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
	if s.Address != "" && !isAddress(s.Address) {
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
		if err := tx.Save(&row).Error; err != nil {
			return err
		}
		if err := saveFresh(tx, KindAggregate, name, f); err != nil {
			return err
		}
		return tx.Create(g.history(ctx, who, KindAggregate, name, "changed", row.Revision, row.Data)).Error
	})
}

// RemoveAggregate removes an aggregate. Records taken from it stay.
func (g *Gate) RemoveAggregate(ctx context.Context, who, name string) error {
	row, d, err := g.aggregateRow(ctx, name)
	if err != nil {
		return err
	}
	if !g.taking.begin(name) {
		return &ConflictError{fmt.Sprintf("the aggregate %q is being taken in", name), "wait until that job has ended"}
	}
	defer g.taking.end(name)
	err = g.store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Where("kind = ? AND name = ?", KindAggregate, name).Delete(&store.FreshRow{}).Error; err != nil {
			return err
		}
		if err := tx.Create(g.history(ctx, who, KindAggregate, name, "removed", row.Revision+1, row.Data)).Error; err != nil {
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
