package store

import (
	"context"
	"encoding/json"
	"log/slog"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// TraceLimits say how long traces are kept; the oldest go first.
type TraceLimits struct {
	Keep int           // so many at most
	Age  time.Duration // and none that is older; 0 for no limit
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
	mu      sync.RWMutex
	closed  bool
}

type entry struct {
	head    TraceRow
	steps   [][]byte
	written chan struct{} // if set, nothing is to be written but word given that all before is
}

func newTraceLog(s *Store, limits TraceLimits, log *slog.Logger) *TraceLog {
	t := &TraceLog{s: s, limits: limits, log: log, entries: make(chan entry, 1024), done: make(chan struct{})}
	go t.run()
	return t
}

// Record adds steps to a trace and sets its head. Steps are marshalled to JSON
// and sealed.
func (t *TraceLog) Record(head TraceRow, steps []any) {
	e := entry{head: head}
	for _, st := range steps {
		octets, err := json.Marshal(st)
		if err != nil {
			t.log.Error("a trace step cannot be written", "trace", head.ID, "error", err)
			continue
		}
		e.steps = append(e.steps, octets)
	}
	t.mu.RLock()
	defer t.mu.RUnlock()
	if t.closed {
		return
	}
	select {
	case t.entries <- e:
	default:
		if n := t.dropped.Add(1); n&(n-1) == 0 {
			t.log.Warn("traces are dropped: too many at once", "dropped", n)
		}
	}
}

func (t *TraceLog) run() {
	defer close(t.done)
	written := 0
	for first := range t.entries {
		batch := []entry{first}
	gather:
		for len(batch) < 256 {
			select {
			case e, ok := <-t.entries:
				if !ok {
					break gather
				}
				batch = append(batch, e)
			default:
				break gather
			}
		}
		err := t.s.traces.Transaction(func(tx *gorm.DB) error {
			for _, e := range batch {
				if e.written != nil {
					continue
				}
				if err := tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&e.head).Error; err != nil {
					return err
				}
				for _, st := range e.steps {
					if err := tx.Create(&StepRow{Trace: e.head.ID, Sealed: t.s.Seal("trace", st)}).Error; err != nil {
						return err
					}
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
			if e.written != nil {
				close(e.written)
			}
		}
	}
}

// prune removes what is beyond the limits.
func (l TraceLimits) prune(tx *gorm.DB) error {
	old := []*gorm.DB{tx.Model(&TraceRow{}).Select("id").Order("started DESC").Offset(l.Keep).Limit(-1)}
	if l.Age > 0 {
		old = append(old, tx.Model(&TraceRow{}).Select("id").Where("started < ?", tx.NowFunc().Add(-l.Age)))
	}
	for _, ids := range old {
		if err := tx.Where("trace IN (?)", ids).Delete(&StepRow{}).Error; err != nil {
			return err
		}
		if err := tx.Where("id IN (?)", ids).Delete(&TraceRow{}).Error; err != nil {
			return err
		}
	}
	return nil
}

// Prune removes traces beyond the limits now.
func (t *TraceLog) Prune(ctx context.Context) error {
	t.settle(ctx)
	return t.s.traces.WithContext(ctx).Transaction(t.limits.prune)
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
	Limit       int
	Before      time.Time // for the next page
}

// List gives traces, newest first, and how many there are for each result. It
// waits for what has been recorded up to now.
func (t *TraceLog) List(ctx context.Context, f TraceFilter) ([]TraceRow, map[string]int64, error) {
	t.settle(ctx)
	q := t.s.traces.WithContext(ctx).Model(&TraceRow{})
	if f.Search != "" {
		like := "%" + strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(f.Search) + "%"
		q = q.Where(`id LIKE ? ESCAPE '\' OR application LIKE ? ESCAPE '\' OR provider LIKE ? ESCAPE '\' OR person LIKE ? ESCAPE '\' OR finding LIKE ? ESCAPE '\'`, like, like, like, like, like)
	}
	if f.Application != "" {
		q = q.Where("application = ?", f.Application)
	}
	if f.Provider != "" {
		q = q.Where("provider = ?", f.Provider)
	}
	var counts []struct {
		Result string
		N      int64
	}
	if err := q.Session(&gorm.Session{}).Select("result, count(*) AS n").Group("result").Scan(&counts).Error; err != nil {
		return nil, nil, err
	}
	byResult := map[string]int64{}
	for _, c := range counts {
		byResult[c.Result] = c.N
	}
	if f.Result != "" {
		q = q.Where("result = ?", f.Result)
	}
	if !f.Before.IsZero() {
		q = q.Where("started < ?", f.Before.UTC())
	}
	var rows []TraceRow
	err := q.Session(&gorm.Session{}).Order("started DESC").Limit(f.Limit).Find(&rows).Error
	return rows, byResult, err
}

// Get gives one trace with its steps in JSON; gorm.ErrRecordNotFound if there is
// none.
func (t *TraceLog) Get(ctx context.Context, id string) (TraceRow, []json.RawMessage, error) {
	t.settle(ctx)
	var head TraceRow
	if err := t.s.traces.WithContext(ctx).Where("id = ?", id).Take(&head).Error; err != nil {
		return head, nil, err
	}
	var rows []StepRow
	if err := t.s.traces.WithContext(ctx).Where("trace = ?", id).Order("id").Find(&rows).Error; err != nil {
		return head, nil, err
	}
	var steps []json.RawMessage
	for _, r := range rows {
		plain, err := t.s.Open("trace", r.Sealed)
		if err != nil {
			return head, nil, err
		}
		steps = append(steps, plain)
	}
	return head, steps, nil
}
