package store

import (
	"bytes"
	"context"
	"encoding/json"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"gorm.io/gorm"
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
	packer  packer // of run alone
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
	e := entry{head: head, steps: t.encoded(head.ID, steps)}
	if inputs != nil {
		if all := t.encoded(head.ID, []any{inputs}); len(all) > 0 {
			e.inputs = all[0]
		}
	}
	t.queue(e)
}

// Append adds steps to a trace that is there. With a result, its result and finding are others
// than they were.
func (t *TraceLog) Append(id string, steps []any, result, finding string) {
	t.queue(entry{head: TraceHead{ID: id, Result: result, Finding: finding}, adds: true, steps: t.encoded(id, steps)})
}

var encoders = sync.Pool{New: func() any { return new(bytes.Buffer) }}

// encoded gives each in JSON, with the marks of XML as they are: nobody puts it into a page without another encoding.
func (t *TraceLog) encoded(id string, all []any) (out [][]byte) {
	b := encoders.Get().(*bytes.Buffer)
	defer func() {
		if b.Reset(); b.Cap() < spare {
			encoders.Put(b)
		}
	}()
	to := json.NewEncoder(b)
	to.SetEscapeHTML(false)
	ends := make([]int, 0, len(all))
	for _, v := range all {
		if err := to.Encode(v); err != nil {
			t.log.Error("a trace step cannot be written", "trace", id, "error", err)
			continue
		}
		ends = append(ends, b.Len())
	}
	at, octets := 0, bytes.Clone(b.Bytes())
	for _, end := range ends {
		out = append(out, octets[at:end-1:end-1]) // without the line break
		at = end
	}
	return out
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
			b := &traceBatch{t: t, tx: tx, rows: map[string]*TraceRow{}, counts: map[[2]string]int{}}
			for _, e := range batch {
				if err := b.write(e); err != nil {
					return err
				}
			}
			if err := b.finish(); err != nil {
				return err
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
		t.packer.rest()
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
func (b *traceBatch) write(e entry) error {
	if e.written != nil {
		return nil
	}
	row, err := b.row(e.head.ID)
	if err != nil {
		return err
	}
	switch {
	case e.adds && row.ID == "":
		return nil // it made room for others
	case !e.adds:
		b.heads(row, e.head)
	case e.head.Result != "":
		row.Result, row.Finding = e.head.Result, e.head.Finding
	}
	limit := int64(strangerOctets)
	if row.Verified {
		limit = traceOctets
	}
	p := part{}
	for _, st := range e.steps {
		if row.Octets+int64(len(st)) > limit || row.Steps >= traceSteps {
			break
		}
		row.Octets, row.Steps = row.Octets+int64(len(st)), row.Steps+1
		p.steps = append(p.steps, st)
	}
	if n := int64(len(e.inputs)); n > 0 && row.Octets+n <= limit {
		row.Octets, p.inputs = row.Octets+n, e.inputs
	}
	if len(p.steps) == 0 && p.inputs == nil {
		return nil
	}
	return execs(b.tx, "INSERT INTO part_rows (trace, sealed) VALUES (?, ?)", row.ID,
		b.t.s.Seal("trace part", b.t.packer.pack(p)))
}

// heads sets the head of a trace to that of its latest turn.
func (b *traceBatch) heads(row *TraceRow, h TraceHead) {
	row.ID, row.Started, row.Application, row.Provider, row.StartedBy = h.ID, h.Started, h.Application, h.Provider, h.StartedBy
	row.Result, row.Finding, row.Millis, row.Verified = h.Result, h.Finding, h.Millis, row.Verified || h.Verified
	row.Run = h.Run
	if h.Account != 0 {
		row.Account = h.Account
	}
	if h.Person != "" {
		row.Named = b.t.s.Seal("trace person", []byte(h.Person))
	}
	if h.Run == "" { // a rehearsal is no use of a rule
		for _, ground := range h.Grounds {
			b.counts[[2]string{ground, h.Application}]++
		}
	}
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
		for _, row := range []any{&StepRow{}, &EntryRow{}, &PartRow{}} {
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
		steps, err := t.stepsOf(tx, id)
		if err != nil {
			return err
		}
		var last struct{ To string }
		if n := len(steps); n > 0 && json.Unmarshal(steps[n-1], &last) == nil && last.To == "provider" {
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
	steps, err := t.stepsOf(t.s.traces.WithContext(ctx), id)
	return t.head(row), steps, err
}

// Inputs gives what the turns of a crossing were decided on, in JSON.
func (t *TraceLog) Inputs(ctx context.Context, id string) ([]json.RawMessage, error) {
	t.settle(ctx)
	all, err := t.inputsOf(t.s.traces.WithContext(ctx), []string{id})
	return all[id], err
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
		ids := make([]string, len(rows))
		for i, r := range rows {
			ids[i] = r.ID
		}
		inputs, err := t.inputsOf(t.s.traces.WithContext(ctx), ids)
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
