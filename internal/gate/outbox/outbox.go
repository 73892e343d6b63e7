// Package outbox keeps calls that leave later on the disk until they are answered.
package outbox

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"strings"
	"sync"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/gate/fetch"
	"innergate.example/innergate/internal/gate/happening"
	"innergate.example/innergate/internal/gate/random"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/store"
)

// Room sends calls later, and again until they are answered.
type Room struct {
	store      *store.Store
	happenings *happening.Room
	log        *slog.Logger
	now        func() time.Time
	fetch      *fetch.Fetcher
	records    *records.Room
	wake       chan struct{}
	mu         sync.Mutex
	calling    map[string]bool // hosts that are called right now
}

// New makes a room that sends by a fetcher.
func New(s *store.Store, h *happening.Room, log *slog.Logger, now func() time.Time, f *fetch.Fetcher,
	r *records.Room) *Room {
	return &Room{store: s, happenings: h, log: log, now: now, fetch: f, records: r, wake: make(chan struct{}, 1),
		calling: map[string]bool{}}
}

// waiting is what is kept of a call: one that is made already, or a notice to an
// application, which is made anew at each try.
type waiting struct {
	crossing.Queue
	App    federation.ID    `json:"app,omitempty"`
	Notice *crossing.Notice `json:"notice,omitempty"`
	Trace  string           `json:"trace,omitempty"` // of the sign-out that it is about
}

// noticeLife is how long it is tried to tell an application that somebody left.
const noticeLife = 24 * time.Hour

// Put puts a call in.
func (rm *Room) Put(tx *gorm.DB, q crossing.Queue) error { return rm.put(tx, waiting{Queue: q}) }

// Notify puts a notice to an application in; what comes of it stands in a trace, "" for none.
func (rm *Room) Notify(tx *gorm.DB, app federation.ID, n crossing.Notice, trace string) error {
	w := waiting{App: app, Notice: &n, Trace: trace}
	w.Address, w.Until = n.Address, rm.now().Add(noticeLife)
	return rm.put(tx, w)
}

// put puts a call into the queue of its host. One whose queue is full hears nothing more
// until it answers: what is signed out here ends here all the same.
func (rm *Room) put(tx *gorm.DB, w waiting) error {
	plain, err := json.Marshal(w)
	if err != nil {
		return err
	}
	host := hostOf(w.Address)
	var n int64
	if err := tx.Model(&store.OutboxRow{}).Where("host = ?", host).Count(&n).Error; err != nil {
		return err
	}
	if n >= mostWaiting {
		rm.log.Warn("a call is given up: too many to its host wait for an answer", "host", host, "waiting", n)
		return nil
	}
	return tx.Create(&store.OutboxRow{Host: host, Due: rm.now().UTC(), Until: w.Until.UTC(),
		Sealed: rm.store.Seal("outbox", plain)}).Error
}

func hostOf(address string) string {
	if u, err := url.Parse(address); err == nil && u.Host != "" {
		return strings.ToLower(u.Host)
	}
	return address
}

// Wake has what is due sent soon, without waiting for the next round.
func (rm *Room) Wake() {
	select {
	case rm.wake <- struct{}{}:
	default:
	}
}

// Woken tells that something is due.
func (rm *Room) Woken() <-chan struct{} { return rm.wake }

// Bounds.
const (
	mostWaiting = 5000     // calls to one host
	atOnce      = 32       // hosts that are called at a time
	batch       = 50       // calls that are read at a time
	answers     = 64 << 10 // octets of an answer that are read
)

// SendDue sends what is due, to each host in turn, and to many hosts at once: one that does
// not answer holds up nobody else, and what else it has waiting waits with what it did not
// answer. It comes back when what it began is through; hosts that are called already are
// left to who calls them.
func (rm *Room) SendDue(ctx context.Context) error {
	var hosts []string
	err := rm.store.Read.WithContext(ctx).Model(&store.OutboxRow{}).Where("due <= ?", rm.now().UTC()).
		Group("host").Order("min(due)").Pluck("host", &hosts).Error
	if err != nil {
		return err
	}
	var working sync.WaitGroup
	errs := make(chan error, len(hosts))
	for _, host := range hosts {
		if !rm.begin(host) {
			continue
		}
		working.Go(func() {
			defer rm.end(host)
			errs <- rm.sendTo(ctx, host)
		})
	}
	working.Wait()
	close(errs)
	var all []error
	for err := range errs {
		all = append(all, err)
	}
	return errors.Join(all...)
}

// begin takes a place to call a host, if there is one, and nobody calls it.
func (rm *Room) begin(host string) bool {
	rm.mu.Lock()
	defer rm.mu.Unlock()
	if rm.calling[host] || len(rm.calling) >= atOnce {
		return false
	}
	rm.calling[host] = true
	return true
}

// end gives the place to who had none.
func (rm *Room) end(host string) {
	rm.mu.Lock()
	defer rm.mu.Unlock()
	full := len(rm.calling) >= atOnce
	if delete(rm.calling, host); full {
		rm.Wake()
	}
}

// due is a call whose time has come.
type due struct {
	row store.OutboxRow
	waiting
}

// sendTo sends what is due to a host, until it does not answer.
func (rm *Room) sendTo(ctx context.Context, host string) error {
	for {
		var rows []store.OutboxRow
		if err := rm.store.Read.WithContext(ctx).Where("host = ? AND due <= ?", host, rm.now().UTC()).
			Order("due, id").Limit(batch).Find(&rows).Error; err != nil || len(rows) == 0 {
			return err
		}
		for _, row := range rows {
			d := due{row: row}
			plain, err := rm.store.Open("outbox", row.Sealed)
			if err == nil {
				err = json.Unmarshal(plain, &d.waiting)
			}
			if err != nil {
				return err
			}
			if again, err := rm.send(ctx, d); err != nil || !again {
				return err
			}
		}
	}
}

// send makes one call and notes what came of it, and tells whether to go on with the host:
// not if it did not answer at all.
func (rm *Room) send(ctx context.Context, d due) (again bool, err error) {
	octets, err := rm.made(d)
	silent := false
	if err == nil {
		var reply fetch.Reply
		reply, err = rm.fetch.Call(ctx, &crossing.Call{Address: d.Address, Limit: answers, AnyStatus: true}, octets)
		if silent = err != nil; !silent && reply.Status/100 != 2 {
			err = fmt.Errorf("it answered %d", reply.Status)
		}
	}
	if ctx.Err() != nil {
		return false, nil // the gate stops; it is tried again after the next start
	}
	next := rm.now().Add(time.Minute << min(d.row.Tries, 10)).UTC()
	over := err == nil || errors.Is(err, errGone) || next.After(d.row.Until)
	answer := "heard"
	if err != nil {
		answer = err.Error()
		if f := finding.Of(err); f != nil {
			answer = f.Title
		}
	}
	rm.tell(d, answer, err, over)
	if err != nil && over {
		rm.log.Warn("a call was not answered and is given up", "address", d.Address, "tries", d.row.Tries+1, "error", err)
	}
	return !silent, rm.store.Write(ctx, func(tx *gorm.DB) error {
		if silent { // the others of its host wait as long
			if err := tx.Model(&store.OutboxRow{}).Where("host = ? AND due <= ?", d.row.Host, rm.now().UTC()).
				Update("due", next).Error; err != nil {
				return err
			}
		}
		if over {
			return tx.Delete(&store.OutboxRow{ID: d.row.ID}).Error
		}
		return tx.Model(&store.OutboxRow{}).Where("id = ?", d.row.ID).Updates(map[string]any{"due": next,
			"tries": d.row.Tries + 1, "answer": answer[:min(len(answer), longestAnswer)]}).Error
	})
}

// longestAnswer is what is kept of one, in octets.
const longestAnswer = 300

// Tries after which it is told that nobody answers.
const patience = 3

// tell puts into the trace of a sign-out what came of telling an application: when it heard, when
// it did not three times, and when it is given up.
func (rm *Room) tell(d due, answer string, err error, over bool) {
	if d.Trace == "" || !over && d.row.Tries+1 != patience {
		return
	}
	name := ""
	if a, ok := rm.records.Snapshot().ApplicationOf(d.App); ok {
		name = string(a.Name)
	}
	step := crossing.TraceStep{At: rm.now().UTC(), From: crossing.Application, To: crossing.GateLane,
		Name:    "Sign-out notice",
		Binding: "back channel", Values: []federation.Value{{Label: "Application", Value: name},
			{Label: "Answer", Value: answer}}}
	code := ""
	if err != nil {
		step.Finding = finding.New(finding.NoticeUnanswered, finding.Fact("Address", d.Address),
			finding.Fact("Answer", answer),
			finding.Fact("Tries", fmt.Sprint(d.row.Tries+1)))
		code = string(finding.NoticeUnanswered)
	}
	rm.happenings.Append(d.Trace, []any{step}, crossing.SignedOut, code)
}

// Waiting is a call that was not answered yet.
type Waiting struct {
	App        federation.Name // "" for one to a provider
	Address    string
	Tries      int
	Answer     string // to the last try, "" before the first
	Due, Until time.Time
}

// List lists calls that wait, those that were tried most often first.
func (rm *Room) List(ctx context.Context, limit int) (out []Waiting, err error) {
	err = rm.each(ctx, rm.store.Read.WithContext(ctx).Order("tries DESC, id").Limit(limit), func(d due) {
		w := Waiting{Address: d.Address, Tries: d.row.Tries, Answer: d.row.Answer, Due: d.row.Due, Until: d.row.Until}
		if a, ok := rm.records.Snapshot().ApplicationOf(d.App); ok {
			w.App = a.Name
		}
		out = append(out, w)
	})
	return out, err
}

func (rm *Room) each(_ context.Context, q *gorm.DB, do func(due)) error {
	var rows []store.OutboxRow
	if err := q.Find(&rows).Error; err != nil {
		return err
	}
	for _, row := range rows {
		d := due{row: row}
		plain, err := rm.store.Open("outbox", row.Sealed)
		if err == nil {
			err = json.Unmarshal(plain, &d.waiting)
		}
		if err != nil {
			return err
		}
		do(d)
	}
	return nil
}

// Unheard are the applications that did not answer three times, with what waits for them: for checks.
func (rm *Room) Unheard(ctx context.Context) (map[federation.ID]*finding.Finding, error) {
	out := map[federation.ID]*finding.Finding{}
	err := rm.each(ctx, rm.store.Read.WithContext(ctx).Where("tries >= ?",
		patience).Order("tries DESC, id").Limit(mostWaiting),
		func(d due) {
			if d.Notice != nil && out[d.App] == nil {
				out[d.App] = finding.New(finding.NoticeUnanswered, finding.Fact("Address", d.Address),
					finding.Fact("Answer", d.row.Answer), finding.Passing("Tries", fmt.Sprint(d.row.Tries)),
					finding.Passing("Given up on", d.row.Until.UTC().Format(time.RFC3339)))
			}
		})
	return out, err
}

// Failing counts calls that were tried three times and not answered.
func (rm *Room) Failing(ctx context.Context) (n int64, err error) {
	return n, rm.store.Read.WithContext(ctx).Model(&store.OutboxRow{}).Where("tries >= ?", patience).Count(&n).Error
}

var errGone = errors.New("the application is not on record any more, or wants to hear nothing")

// made gives the octets of a call.
func (rm *Room) made(d due) (crossing.CallOctets, error) {
	if d.Notice == nil {
		return crossing.CallOctets{Header: d.Header, Body: d.Body}, nil
	}
	snap := rm.records.Snapshot()
	app, ok := snap.ApplicationOf(d.App)
	if !ok {
		return crossing.CallOctets{}, errGone
	}
	side := crossing.Of(app.Side).Hearing
	if side == nil {
		return crossing.CallOctets{}, errGone
	}
	return side.Notify(&snap.Gate, *d.Notice, random.ID(), rm.now())
}

// Waits counts calls that were not answered yet.
func (rm *Room) Waits(ctx context.Context) (n int64, err error) {
	return n, rm.store.Read.WithContext(ctx).Model(&store.OutboxRow{}).Count(&n).Error
}
