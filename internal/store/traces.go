package store

import (
	"context"
	"encoding/json"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// TraceLimits say how much is kept of traces; the oldest go first. What comes of
// strangers has bounds of its own, so that it can push nothing else out.
type TraceLimits struct {
	Keep      int           // so many at most
	Age       time.Duration // and none that is older; 0 for no limit
	Octets    int64         // on the disk; 0 for a default
	Strangers int           // of them, those in which no counterpart proved to be one; 0 for a default
}

// Bounds that no setting changes.
const (
	defaultOctets    = 1 << 30
	defaultStrangers = 2000
	strangersOctets  = 32 << 20
	traceOctets      = 2 << 20  // of one trace
	strangerOctets   = 64 << 10 // of one in which nobody proved to be a counterpart
	traceSteps       = 300
	queueOctets      = 32 << 20
)

func (l TraceLimits) whole() TraceLimits {
	if l.Octets == 0 {
		l.Octets = defaultOctets
	}
	if l.Strangers == 0 {
		l.Strangers = defaultStrangers
	}
	return l
}

// TraceHead is what a trace is found by.
type TraceHead struct {
	ID          string
	Started     time.Time
	Application string
	Provider    string
	Person      string
	StartedBy   string
	Result      string
	Finding     string
	Millis      int64
	Verified    bool
	Account     int64    // of the person, 0 for nobody on record
	Grounds     []string // what was decided by in this turn; it is counted, not kept
	Run         string   // of a rehearsal; "" for a real sign-in
}

// TraceLog writes traces in the background. When its buffer is full, entries are
// dropped and counted: no sign-in ever waits for a trace.
type TraceLog struct {
	s       *Store
	limits  TraceLimits
	log     *slog.Logger
	entries chan entry
	done    chan struct{}
	dropped atomic.Int64
	queued  atomic.Int64 // octets
	mu      sync.RWMutex
	closed  bool
}

type entry struct {
	head    TraceHead
	steps   [][]byte
	inputs  []byte
	adds    bool          // only steps, to a trace that is there; of the head, only a finding
	written chan struct{} // if set, nothing is to be written but word given that all before is
}

func (e entry) octets() (n int64) {
	for _, s := range e.steps {
		n += int64(len(s))
	}
	return n + int64(len(e.inputs))
}

func newTraceLog(s *Store, limits TraceLimits, log *slog.Logger) *TraceLog {
	t := &TraceLog{s: s, limits: limits.whole(), log: log, entries: make(chan entry, 1024), done: make(chan struct{})}
	go t.run()
	return t
}

// Record adds steps to a trace, and what a turn was decided on, if that is
// given, and sets its head. Both are marshalled to JSON and sealed.
func (t *TraceLog) Record(head TraceHead, steps []any, inputs any) {
	e := entry{head: head}
	marshal := func(v any) []byte {
		octets, err := json.Marshal(v)
		if err != nil {
			t.log.Error("a trace step cannot be written", "trace", head.ID, "error", err)
		}
		return octets
	}
	for _, st := range steps {
		if octets := marshal(st); octets != nil {
			e.steps = append(e.steps, octets)
		}
	}
	if inputs != nil {
		e.inputs = marshal(inputs)
	}
	t.queue(e)
}

// Append adds steps to a trace that is there. With a result, its result and finding are others
// than they were.
func (t *TraceLog) Append(id string, steps []any, result, finding string) {
	e := entry{head: TraceHead{ID: id, Result: result, Finding: finding}, adds: true}
	for _, st := range steps {
		octets, err := json.Marshal(st)
		if err != nil {
			t.log.Error("a trace step cannot be written", "trace", id, "error", err)
			continue
		}
		e.steps = append(e.steps, octets)
	}
	t.queue(e)
}

func (t *TraceLog) queue(e entry) {
	n := e.octets()
	t.mu.RLock()
	defer t.mu.RUnlock()
	if t.closed {
		return
	}
	if t.queued.Add(n) <= queueOctets {
		select {
		case t.entries <- e:
			return
		default:
		}
	}
	t.queued.Add(-n)
	t.Drop()
}

// Drop counts a trace that was not recorded.
func (t *TraceLog) Drop() {
	if n := t.dropped.Add(1); n&(n-1) == 0 {
		t.log.Warn("traces are dropped: too many at once", "dropped", n)
	}
}

func (t *TraceLog) run() {
	defer close(t.done)
	written := 0
	for first := range t.entries {
		batch := t.gather(first)
		err := t.s.traces.Transaction(func(tx *gorm.DB) error {
			for _, e := range batch {
				if err := t.write(tx, e); err != nil {
					return err
				}
			}
			if written += len(batch); written >= 500 {
				written = 0
				return t.limits.prune(tx)
			}
			return nil
		})
		if err != nil {
			t.log.Error("traces cannot be written", "error", err)
		}
		for _, e := range batch {
			t.queued.Add(-e.octets())
			if e.written != nil {
				close(e.written)
			}
		}
	}
}

// gathers is how long what comes is gathered before it is written together. Whoever waits for it does not wait so long.
const gathers = 25 * time.Millisecond

// gather takes what comes within a moment, as long as nobody waits for it.
func (t *TraceLog) gather(first entry) []entry {
	batch := []entry{first}
	end := time.NewTimer(gathers)
	defer end.Stop()
	for len(batch) < 256 && batch[len(batch)-1].written == nil {
		select {
		case e, ok := <-t.entries:
			if !ok {
				return batch
			}
			batch = append(batch, e)
		case <-end.C:
			return batch
		}
	}
	return batch
}

// write adds to one trace, as far as its bounds allow.
func (t *TraceLog) write(tx *gorm.DB, e entry) error {
	if e.written != nil {
		return nil
	}
	var row TraceRow
	if err := tx.Where("id = ?", e.head.ID).Limit(1).Find(&row).Error; err != nil {
		return err
	}
	h := e.head
	if e.adds && row.ID == "" {
		return nil // it made room for others
	}
	if e.adds {
		h = TraceHead{ID: row.ID, Started: row.Started, Application: row.Application, Provider: row.Provider,
			StartedBy: row.StartedBy, Result: row.Result, Finding: row.Finding, Millis: row.Millis, Verified: row.Verified,
			Account: row.Account, Run: row.Run}
	}
	if e.adds && e.head.Result != "" {
		h.Result, h.Finding = e.head.Result, e.head.Finding
	}
	row.ID, row.Started, row.Application, row.Provider, row.StartedBy = h.ID, h.Started, h.Application, h.Provider,
		h.StartedBy
	row.Result, row.Finding, row.Millis, row.Verified = h.Result, h.Finding, h.Millis, row.Verified || h.Verified
	row.Run = h.Run
	if h.Account != 0 {
		row.Account = h.Account
	}
	if h.Person != "" {
		row.Named = t.s.Seal("trace person", []byte(h.Person))
	}
	for _, ground := range h.Grounds {
		if h.Run != "" {
			break // a rehearsal is no use of a rule
		}
		if err := decided(tx, h.Application, ground); err != nil {
			return err
		}
	}
	limit := int64(strangerOctets)
	if row.Verified {
		limit = traceOctets
	}
	steps := make([]StepRow, 0, len(e.steps))
	for _, st := range e.steps {
		if row.Octets+int64(len(st)) > limit || row.Steps >= traceSteps {
			break
		}
		row.Octets, row.Steps = row.Octets+int64(len(st)), row.Steps+1
		steps = append(steps, StepRow{Trace: row.ID, Sealed: t.s.Seal("trace", st)})
	}
	if len(steps) > 0 {
		if err := tx.Create(&steps).Error; err != nil {
			return err
		}
	}
	if n := int64(len(e.inputs)); n > 0 && row.Octets+n <= limit {
		row.Octets += n
		if err := tx.Create(&EntryRow{Trace: row.ID, Sealed: t.s.Seal("trace inputs", e.inputs)}).Error; err != nil {
			return err
		}
	}
	return tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&row).Error
}

// prune removes what is beyond the limits.
func (l TraceLimits) prune(tx *gorm.DB) error {
	const beyond = `SELECT id FROM (SELECT id, ROW_NUMBER() OVER newest AS n, SUM(octets) OVER newest AS sum
		FROM trace_rows WHERE verified = ? WINDOW newest AS (ORDER BY started DESC, id ROWS UNBOUNDED PRECEDING)) WHERE n > ? OR sum > ?`
	var ids []string
	find := func(sql string, args ...any) error {
		var more []string
		err := tx.Raw(sql, args...).Scan(&more).Error
		ids = append(ids, more...)
		return err
	}
	if err := find(beyond, true, l.Keep, l.Octets); err != nil {
		return err
	}
	if err := find(beyond, false, l.Strangers, int64(strangersOctets)); err != nil {
		return err
	}
	if l.Age > 0 {
		if err := find("SELECT id FROM trace_rows WHERE started < ?", tx.NowFunc().Add(-l.Age)); err != nil {
			return err
		}
	}
	if err := tx.Exec("DELETE FROM decision_rows WHERE day < ?", tx.NowFunc().UTC().AddDate(0, 0,
		-DecisionDays).Format(time.DateOnly)).Error; err != nil {
		return err
	}
	return drop(tx, ids)
}

// drop removes traces.
func drop(tx *gorm.DB, ids []string) error {
	for ; len(ids) > 0; ids = ids[min(len(ids), 500):] {
		part := ids[:min(len(ids), 500)]
		for _, row := range []any{&StepRow{}, &EntryRow{}} {
			if err := tx.Where("trace IN ?", part).Delete(row).Error; err != nil {
				return err
			}
		}
		if err := tx.Where("id IN ?", part).Delete(&TraceRow{}).Error; err != nil {
			return err
		}
	}
	return nil
}

// Remove removes traces for good, before their age.
func (t *TraceLog) Remove(ctx context.Context, ids []string) error {
	return t.s.traces.WithContext(ctx).Transaction(func(tx *gorm.DB) error { return drop(tx, ids) })
}

// Reassign has the traces of an account be those of another one, or with 0 of none that is known: their links have
// moved.
func (t *TraceLog) Reassign(ctx context.Context, from, to int64) error {
	t.settle(ctx)
	return t.s.traces.WithContext(ctx).Model(&TraceRow{}).Where("account = ?", from).Update("account", to).Error
}

// Prune removes traces beyond the limits now, and ends those that waited for a
// browser since before a time.
func (t *TraceLog) Prune(ctx context.Context, waited time.Time) error {
	t.settle(ctx)
	return t.s.traces.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := t.leave(tx, waited); err != nil {
			return err
		}
		return t.limits.prune(tx)
	})
}

// leave ends traces that waited for a browser. Whether somebody was sent to a provider and did
// not come back stands in the last step of each.
func (t *TraceLog) leave(tx *gorm.DB, waited time.Time) error {
	var ids, gone []string
	if err := tx.Model(&TraceRow{}).Where("result = 'waiting' AND started < ?", waited.UTC()).Pluck("id",
		&ids).Error; err != nil {
		return err
	}
	for _, id := range ids {
		var step StepRow
		if err := tx.Where("trace = ?", id).Order("id DESC").Limit(1).Find(&step).Error; err != nil {
			return err
		}
		var last struct{ To string }
		if plain, err := t.s.Open("trace", step.Sealed); err == nil && json.Unmarshal(plain, &last) == nil &&
			last.To == "provider" {
			gone = append(gone, id)
		}
	}
	for part := range slices.Chunk(ids, 500) {
		if err := tx.Model(&TraceRow{}).Where("id IN ?", part).Update("result", "left").Error; err != nil {
			return err
		}
	}
	for part := range slices.Chunk(gone, 500) {
		if err := tx.Model(&TraceRow{}).Where("id IN ?", part).Update("finding", "crossing-left").Error; err != nil {
			return err
		}
	}
	return nil
}

// settle waits until everything that was recorded so far is written.
func (t *TraceLog) settle(ctx context.Context) {
	e := entry{written: make(chan struct{})}
	t.mu.RLock()
	if t.closed {
		t.mu.RUnlock()
		return
	}
	select {
	case t.entries <- e:
	case <-ctx.Done():
	}
	t.mu.RUnlock()
	select {
	case <-e.written:
	case <-ctx.Done():
	}
}

func (t *TraceLog) close() {
	t.mu.Lock()
	t.closed = true
	close(t.entries)
	t.mu.Unlock()
	<-t.done
}

// TraceFilter narrows a list of traces.
type TraceFilter struct {
	Search      string // in reference, application, provider, person, finding
	Result      string
	Application string
	Provider    string
	Since       time.Time // started at that time or later
	Before      time.Time // started earlier
	Offset      int
	Limit       int
	Accounts    []int64 // with a search: those of these people, too
	Account     int64   // of Each: of this person, and those of which it is not known
	Rehearsed   bool    // of List: those of rehearsals, in place of real ones
}

// List gives traces, newest first, and how many there are for each result. It
// waits for what has been recorded up to now.
func (t *TraceLog) List(ctx context.Context, f TraceFilter) ([]TraceHead, map[string]int64, error) {
	t.settle(ctx)
	q := t.s.traces.WithContext(ctx).Model(&TraceRow{}).Where("(run <> '') = ?", f.Rehearsed).Order("started DESC, id")
	if f.Application != "" {
		q = q.Where("application = ?", f.Application)
	}
	if f.Provider != "" {
		q = q.Where("provider = ?", f.Provider)
	}
	if !f.Since.IsZero() {
		q = q.Where("started >= ?", f.Since.UTC())
	}
	out, counts, skipped := []TraceHead{}, map[string]int64{}, 0
	if f.Search == "" {
		var rows []struct {
			Result string
			N      int64
		}
		if err := q.Session(&gorm.Session{}).Select("result, count(*) AS n").Group("result").Order("result").Scan(&rows).Error; err != nil {
			return nil, nil, err
		}
		for _, r := range rows {
			counts[r.Result] = r.N
		}
		if f.Result != "" {
			q = q.Where("result = ?", f.Result)
		}
		if !f.Before.IsZero() {
			q = q.Where("started < ?", f.Before.UTC())
		}
		q = q.Offset(f.Offset).Limit(f.Limit)
	}
	rows, err := q.Session(&gorm.Session{}).Rows()
	if err != nil {
		return nil, nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var row TraceRow
		if err := t.s.traces.ScanRows(rows, &row); err != nil {
			return nil, nil, err
		}
		head := t.head(row)
		if f.Search != "" {
			// Names of people are sealed, so a search has to open them: there are not
			// more traces than the limits keep.
			if !head.holds(f.Search) && (row.Account == 0 || !slices.Contains(f.Accounts, row.Account)) {
				continue
			}
			counts[row.Result]++
			if f.Result != "" && row.Result != f.Result || !f.Before.IsZero() && !row.Started.Before(f.Before) ||
				len(out) >= f.Limit {
				continue
			}
			if skipped++; skipped <= f.Offset {
				continue
			}
		}
		out = append(out, head)
	}
	return out, counts, rows.Err()
}

// Lasts gives the newest trace that came to an end, of each application and of each
// provider, by name. With proved, only those in which a counterpart proved to be
// one; what the others tell, strangers can make up.
func (t *TraceLog) Lasts(ctx context.Context, proved bool) (apps, providers map[string]TraceHead, err error) {
	t.settle(ctx)
	last := func(by string) (map[string]TraceHead, error) {
		var rows []TraceRow
		// SQLite gives the other columns of the row that has the maximum.
		err := t.s.traces.WithContext(ctx).Raw(`SELECT id, application, provider, started_by, result, finding, millis, verified, account, started, max(started)
			FROM trace_rows WHERE result IN ('entered', 'refused') AND run = '' AND verified = ? GROUP BY `+by, proved).Scan(&rows).Error
		out := map[string]TraceHead{}
		for _, r := range rows {
			out[map[string]string{"application": r.Application, "provider": r.Provider}[by]] = t.head(r)
		}
		return out, err
	}
	if apps, err = last("application"); err == nil {
		providers, err = last("provider")
	}
	return apps, providers, err
}

// Last gives the newest trace of an application or provider that came to an end;
// gorm.ErrRecordNotFound if there is none.
func (t *TraceLog) Last(ctx context.Context, of, name string, proved bool) (TraceHead, error) {
	t.settle(ctx)
	q := t.s.traces.WithContext(ctx).Where("result IN ('entered', 'refused') AND run = '' AND verified = ?", proved)
	switch of {
	case "provider":
		q = q.Where("provider = ?", name)
	default:
		q = q.Where("application = ?", name)
	}
	var row TraceRow
	err := q.Order("started DESC").Take(&row).Error
	return t.head(row), err
}

func (h TraceHead) holds(text string) bool {
	text = strings.ToLower(text)
	for _, s := range []string{h.ID, h.Application, h.Provider, h.Person, h.Finding} {
		if strings.Contains(strings.ToLower(s), text) {
			return true
		}
	}
	return false
}

func (t *TraceLog) head(r TraceRow) TraceHead {
	h := TraceHead{ID: r.ID, Started: r.Started, Application: r.Application, Provider: r.Provider, StartedBy: r.StartedBy,
		Result:  r.Result,
		Finding: r.Finding, Millis: r.Millis, Verified: r.Verified, Account: r.Account, Run: r.Run}
	if len(r.Named) > 0 {
		name, err := t.s.Open("trace person", r.Named)
		if err != nil {
			t.log.Error("the name in a trace cannot be opened", "trace", r.ID, "error", err)
		}
		h.Person = string(name)
	}
	return h
}

// Get gives one trace with its steps in JSON; gorm.ErrRecordNotFound if there is
// none.
func (t *TraceLog) Get(ctx context.Context, id string) (TraceHead, []json.RawMessage, error) {
	t.settle(ctx)
	var row TraceRow
	if err := t.s.traces.WithContext(ctx).Where("id = ?", id).Take(&row).Error; err != nil {
		return TraceHead{}, nil, err
	}
	var rows []StepRow
	if err := t.s.traces.WithContext(ctx).Where("trace = ?", id).Order("id").Find(&rows).Error; err != nil {
		return TraceHead{}, nil, err
	}
	var steps []json.RawMessage
	for _, r := range rows {
		plain, err := t.s.Open("trace", r.Sealed)
		if err != nil {
			return TraceHead{}, nil, err
		}
		steps = append(steps, plain)
	}
	return t.head(row), steps, nil
}

// Inputs gives what the turns of a crossing were decided on, in JSON.
func (t *TraceLog) Inputs(ctx context.Context, id string) ([]json.RawMessage, error) {
	t.settle(ctx)
	var rows []EntryRow
	if err := t.s.traces.WithContext(ctx).Where("trace = ?", id).Order("id").Find(&rows).Error; err != nil {
		return nil, err
	}
	var out []json.RawMessage
	for _, r := range rows {
		plain, err := t.s.Open("trace inputs", r.Sealed)
		if err != nil {
			return nil, err
		}
		out = append(out, plain)
	}
	return out, nil
}

// page is how many traces Each reads at a time.
const page = 200

// Each calls with traces of people who were let in, or in which a counterpart proved to be
// one, newest first, and what
// their turns were decided on, in JSON, until there are no more or it says so. Of the
// filter, application, provider and result count.
func (t *TraceLog) Each(ctx context.Context, f TraceFilter, do func(TraceHead, []json.RawMessage) (more bool)) error {
	t.settle(ctx)
	last := TraceRow{Started: t.s.traces.NowFunc().Add(100 * 365 * 24 * time.Hour)}
	for {
		q := f.proved(t.s.traces.WithContext(ctx)).Where("(started < ? OR started = ? AND id > ?)",
			last.Started, last.Started, last.ID).Order("started DESC, id").Limit(page)
		var rows []TraceRow
		if err := q.Find(&rows).Error; err != nil || len(rows) == 0 {
			return err
		}
		inputs, err := t.inputs(ctx, rows)
		if err != nil {
			return err
		}
		for _, r := range rows {
			if !do(t.head(r), inputs[r.ID]) {
				return nil
			}
		}
		last = rows[len(rows)-1]
	}
}

// proved are the traces of people who were let in for real, or in which a counterpart proved to be one, of an
// application, a provider and a result.
func (f TraceFilter) proved(q *gorm.DB) *gorm.DB {
	q = q.Where("(verified = ? OR result = 'entered') AND run = ''", true)
	if f.Account != 0 {
		q = q.Where("account IN (0, ?)", f.Account)
	}
	for column, v := range map[string]string{"application": f.Application, "provider": f.Provider, "result": f.Result} {
		if v != "" {
			q = q.Where(column+" = ?", v)
		}
	}
	return q
}

// Count is how many traces Each goes through.
func (t *TraceLog) Count(ctx context.Context, f TraceFilter) (n int64, err error) {
	t.settle(ctx)
	err = f.proved(t.s.traces.WithContext(ctx).Model(&TraceRow{})).Count(&n).Error
	return n, err
}

// inputs are what the turns of several traces were decided on.
func (t *TraceLog) inputs(ctx context.Context, of []TraceRow) (map[string][]json.RawMessage, error) {
	ids := make([]string, len(of))
	for i, r := range of {
		ids[i] = r.ID
	}
	var rows []EntryRow
	if err := t.s.traces.WithContext(ctx).Where("trace IN ?", ids).Order("id").Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make(map[string][]json.RawMessage, len(of))
	for _, r := range rows {
		plain, err := t.s.Open("trace inputs", r.Sealed)
		if err != nil {
			return nil, err
		}
		out[r.Trace] = append(out[r.Trace], plain)
	}
	return out, nil
}

// sealNames seals names of people that were written before they were sealed.
func (s *Store) sealNames() error {
	if !s.traces.Migrator().HasColumn(&TraceRow{}, "person") {
		return nil
	}
	var rows []struct{ ID, Person string }
	if err := s.traces.Table("trace_rows").Select("id, person").Where("person <> ''").Scan(&rows).Error; err != nil {
		return err
	}
	err := s.traces.Transaction(func(tx *gorm.DB) error {
		for _, r := range rows {
			err := tx.Table("trace_rows").Where("id = ?", r.ID).Updates(map[string]any{"named": s.Seal("trace person",
				[]byte(r.Person)), "verified": true}).Error
			if err != nil {
				return err
			}
		}
		return tx.Exec("ALTER TABLE trace_rows DROP COLUMN person").Error
	})
	if err != nil || len(rows) == 0 {
		return err
	}
	return compact(s.traces)
}
