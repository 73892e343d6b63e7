// Package outbox keeps calls that leave later on the disk until they are answered.
package outbox

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"net/url"
	"sync"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate/fetch"
	"innergate.example/innergate/internal/gate/random"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/store"
)

// Room sends calls later, and again until they are answered.
type Room struct {
	store   *store.Store
	log     *slog.Logger
	now     func() time.Time
	fetch   *fetch.Fetcher
	records *records.Room
	wake    chan struct{}
	sending sync.Mutex // one round at a time: nothing is sent twice for being slow
}

// New makes a room that sends by a fetcher.
func New(s *store.Store, log *slog.Logger, now func() time.Time, f *fetch.Fetcher, r *records.Room) *Room {
	return &Room{store: s, log: log, now: now, fetch: f, records: r, wake: make(chan struct{}, 1)}
}

// waiting is what is kept of a call: one that is made already, or a notice to an
// application, which is made anew at each try.
type waiting struct {
	crossing.Queue
	App    federation.ID    `json:"app,omitempty"`
	Notice *crossing.Notice `json:"notice,omitempty"`
}

// noticeLife is how long it is tried to tell an application that somebody left.
const noticeLife = 24 * time.Hour

// Put puts a call in.
func (rm *Room) Put(tx *gorm.DB, q crossing.Queue) error { return rm.put(tx, waiting{Queue: q}) }

// Notify puts a notice to an application in.
func (rm *Room) Notify(tx *gorm.DB, app federation.ID, n crossing.Notice) error {
	w := waiting{App: app, Notice: &n}
	w.Address, w.Until = n.Address, rm.now().Add(noticeLife)
	return rm.put(tx, w)
}

func (rm *Room) put(tx *gorm.DB, w waiting) error {
	plain, err := json.Marshal(w)
	if err != nil {
		return err
	}
	return tx.Create(&store.OutboxRow{Due: rm.now().UTC(), Until: w.Until.UTC(), Sealed: rm.store.Seal("outbox",
		plain)}).Error
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

// bounds of one round: calls in all, and counterparts that are called at once.
const (
	round   = 200
	atOnce  = 8
	answers = 64 << 10 // octets of an answer that are read
)

// SendDue sends what is due, to each counterpart in turn and to several at once: a
// slow one holds up nobody else. What is not answered is tried again, after growing
// pauses, until its time is over.
func (rm *Room) SendDue(ctx context.Context) error {
	rm.sending.Lock()
	defer rm.sending.Unlock()
	var rows []store.OutboxRow
	if err := rm.store.Read.WithContext(ctx).Where("due <= ?",
		rm.now().UTC()).Order("due").Limit(round).Find(&rows).Error; err != nil {
		return err
	}
	byHost := map[string][]due{}
	for _, row := range rows {
		d := due{row: row}
		plain, err := rm.store.Open("outbox", row.Sealed)
		if err == nil {
			err = json.Unmarshal(plain, &d.waiting)
		}
		if err != nil {
			return err
		}
		host := d.Address
		if u, err := url.Parse(d.Address); err == nil {
			host = u.Host
		}
		byHost[host] = append(byHost[host], d)
	}
	var working sync.WaitGroup
	places, errs := make(chan struct{}, atOnce), make(chan error, len(rows))
	for _, list := range byHost {
		places <- struct{}{}
		working.Go(func() {
			defer func() { <-places }()
			for _, d := range list {
				errs <- rm.send(ctx, d)
			}
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

// due is a call whose time has come.
type due struct {
	row store.OutboxRow
	waiting
}

// send makes one call and notes what came of it.
func (rm *Room) send(ctx context.Context, d due) error {
	octets, err := rm.made(d)
	if err == nil {
		_, err = rm.fetch.Call(ctx, &crossing.Call{Address: d.Address, Limit: answers}, octets)
	}
	if ctx.Err() != nil {
		return nil // the gate stops; it is tried again after the next start
	}
	next := rm.now().Add(time.Minute << min(d.row.Tries, 10)).UTC()
	over := err == nil || errors.Is(err, errGone) || next.After(d.row.Until)
	if err != nil && over {
		rm.log.Warn("a call was not answered and is given up", "address", d.Address, "tries", d.row.Tries+1, "error", err)
	}
	return rm.store.Write(ctx, func(tx *gorm.DB) error {
		if over {
			return tx.Delete(&store.OutboxRow{ID: d.row.ID}).Error
		}
		return tx.Model(&store.OutboxRow{}).Where("id = ?", d.row.ID).Updates(map[string]any{"due": next,
			"tries": d.row.Tries + 1}).Error
	})
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
	side, ok := app.Side.(crossing.Hearing)
	if !ok {
		return crossing.CallOctets{}, errGone
	}
	return side.Notify(&snap.Gate, *d.Notice, random.ID(), rm.now())
}

// Waiting counts calls that were not answered yet.
func (rm *Room) Waiting(ctx context.Context) (n int64, err error) {
	return n, rm.store.Read.WithContext(ctx).Model(&store.OutboxRow{}).Count(&n).Error
}
