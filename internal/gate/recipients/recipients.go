// Package recipients tells others what is done to people, or how rehearsals go: it posts signed tokens to each
// recipient, in the order of the events, and again until they are acknowledged.
package recipients

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/rehearsal"
	"innergate.example/innergate/internal/gate/fetch"
	"innergate.example/innergate/internal/gate/random"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/store"
)

// Token makes the signed token that a recipient is posted.
type Token func(g *federation.Gate, n News) (string, error)

// News is what a recipient is told at once.
type News struct {
	To     string
	ID     string
	Events []person.Event
	Turns  []rehearsal.Turned
	After  int64
	Gone   bool
	Now    time.Time
}

// Parts are what the room works with.
type Parts struct {
	Store   *store.Store
	Log     *slog.Logger
	Now     func() time.Time
	Fetch   *fetch.Fetcher
	Records *records.Room
	Token   Token
	Keep    time.Duration // how long events are kept
	Most    int64         // and how many at most
}

// Room tells recipients.
type Room struct {
	Parts
	mu      sync.Mutex
	calling map[federation.Name]bool
}

// New makes a room.
func New(p Parts) *Room { return &Room{Parts: p, calling: map[federation.Name]bool{}} }

// Bounds.
const (
	atOnce   = 100       // events in one token
	rounds   = 200       // tokens to one recipient before the others are looked at again
	longest  = time.Hour // between two tries
	answers  = 16 << 10  // octets of an answer that are read
	shown    = 300       // of these that are kept
	dropping = 5000      // events that go in one transaction
)

// Tell posts what recipients have not heard yet, to many at once. One that does not answer holds up nobody else.
func (rm *Room) Tell(ctx context.Context) error {
	var working sync.WaitGroup
	errs := make(chan error, 1)
	for _, r := range rm.Records.Snapshot().Recipients() {
		if r.Paused || rm.Token == nil || !rm.begin(r.Name) {
			continue
		}
		working.Go(func() {
			defer rm.end(r.Name)
			if err := rm.tell(ctx, r); err != nil && ctx.Err() == nil {
				select {
				case errs <- fmt.Errorf("recipient %s: %w", r.Name, err):
				default:
				}
			}
		})
	}
	working.Wait()
	select {
	case err := <-errs:
		return err
	default:
		return nil
	}
}

func (rm *Room) begin(n federation.Name) bool {
	rm.mu.Lock()
	defer rm.mu.Unlock()
	if rm.calling[n] {
		return false
	}
	rm.calling[n] = true
	return true
}

func (rm *Room) end(n federation.Name) {
	rm.mu.Lock()
	defer rm.mu.Unlock()
	delete(rm.calling, n)
}

// tell posts to one recipient until it has heard everything, or does not answer.
func (rm *Room) tell(ctx context.Context, r *federation.Recipient) error {
	row, err := rm.heard(ctx, r)
	for range rounds {
		if err != nil || row.Due.After(rm.Now()) {
			return err
		}
		news, last, err := rm.news(ctx, r, row.Heard)
		if err != nil || last == 0 {
			return err
		}
		failed := rm.post(ctx, r, news)
		if ctx.Err() != nil {
			return nil // the gate stops; it is told after the next start, if it did not hear this
		}
		if now := rm.Now().UTC(); failed != nil {
			row.Tries++
			row.Due, row.Answer = now.Add(min(longest, time.Minute<<min(row.Tries-1, 10))),
				failed.Error()[:min(len(failed.Error()), shown)]
			rm.Log.Warn("a recipient of events does not acknowledge them", "recipient", r.Name, "tries", row.Tries, "answer",
				row.Answer)
		} else {
			row.Heard, row.HeardAt, row.Tries, row.Due, row.Answer = last, &now, 0, now, ""
		}
		if err := rm.Store.PutRecipient(ctx, row); err != nil || failed != nil {
			return err
		}
	}
	return nil
}

// key is by which it is kept how far a recipient has heard.
func key(r *federation.Recipient) string {
	if r.About == "" {
		return string(r.Name)
	}
	return string(r.Name) + " " + r.About
}

func (rm *Room) heard(ctx context.Context, r *federation.Recipient) (store.RecipientRow, error) {
	return rm.Store.Recipient(ctx, key(r), r.Added, r.About == federation.AboutRehearsals)
}

// news is what a recipient has not heard yet, and the number of the last of it; 0 for nothing.
func (rm *Room) news(ctx context.Context, r *federation.Recipient, after int64) (n News, last int64, err error) {
	n = News{To: r.Address, ID: random.Text(16), After: after, Now: rm.Now()}
	if r.About == federation.AboutRehearsals {
		rows, err := rm.Store.Turns(ctx, after, atOnce)
		for _, row := range rows {
			n.Turns = append(n.Turns, rehearsal.Turned{Number: row.ID, At: row.At.Unix(), Rehearsal: row.Rehearsal,
				Application: row.Application, State: rehearsal.State(row.State), Run: row.Run,
				Finding: finding.Code(row.Finding)})
			last = row.ID
		}
		return n, last, err
	}
	events, oldest, _, err := rm.Store.People(ctx).Events(store.EventPage{After: after, Limit: atOnce})
	if n.Events, n.Gone = events, oldest > after+1; len(events) > 0 {
		last = events[len(events)-1].ID
	}
	return n, last, err
}

// post posts one token (RFC 8935 §2.1), and says why it is not acknowledged, nil if it is.
func (rm *Room) post(ctx context.Context, r *federation.Recipient, n News) error {
	token, err := rm.Token(&rm.Records.Snapshot().Gate, n)
	if err != nil {
		return err
	}
	reply, err := rm.Fetch.Call(ctx, &crossing.Call{Name: "events", Address: r.Address, Limit: answers, AnyStatus: true},
		crossing.CallOctets{Header: map[string]string{"Content-Type": "application/secevent+jwt",
			"Accept": "application/json"}, Body: []byte(token)})
	switch f := finding.Of(err); {
	case f != nil:
		return fmt.Errorf("%s", f.Title)
	case err != nil:
		return err
	case reply.Status/100 != 2:
		return errors.New(strings.TrimSpace(fmt.Sprintf("it answered %d %s", reply.Status,
			finding.Clip(string(reply.Octets)))))
	}
	return nil
}

// Sweep drops events that were kept long enough, and what is known of recipients that are not on record any more.
func (rm *Room) Sweep(ctx context.Context) error {
	names := []string{}
	for _, r := range rm.Records.Snapshot().Recipients() {
		names = append(names, key(r))
	}
	if err := rm.Store.DropRecipients(ctx, names); err != nil {
		return err
	}
	for {
		var gone int64
		err := rm.Store.Change(ctx, func(tx store.Tx) (err error) {
			gone, err = tx.DropEvents(rm.Now().Add(-rm.Keep), rm.Most, dropping)
			return err
		})
		if err != nil || gone < dropping {
			return err
		}
	}
}

// State is how far a recipient has heard.
type State struct {
	*federation.Recipient
	Heard   int64 // number of the last event that it acknowledged
	HeardAt time.Time
	Waiting int64 // events that it has not heard
	Tries   int   // that failed since
	Due     time.Time
	Answer  string
}

// patience is after how many tries it is told that a recipient does not answer.
const patience = 3

// Unheard is what is found of those that do not answer.
func (rm *Room) Unheard(ctx context.Context) (map[federation.Name]*finding.Finding, error) {
	list, err := rm.List(ctx)
	out := map[federation.Name]*finding.Finding{}
	for _, s := range list {
		if s.Tries >= patience && !s.Paused {
			out[s.Name] = finding.New(finding.EventsUnheard, finding.Fact("Address", s.Address),
				finding.Passing("Answer", s.Answer),
				finding.Passing("Tries", fmt.Sprint(s.Tries)), finding.Passing("Waiting", fmt.Sprint(s.Waiting)))
		}
	}
	return out, err
}

// List lists recipients.
func (rm *Room) List(ctx context.Context) (out []State, err error) {
	for _, r := range rm.Records.Snapshot().Recipients() {
		row, err := rm.heard(ctx, r)
		if err != nil {
			return nil, err
		}
		count := rm.Store.People(ctx).EventsAfter
		if r.About == federation.AboutRehearsals {
			count = func(after int64) (int64, error) { return rm.Store.TurnsAfter(ctx, after) }
		}
		waiting, err := count(row.Heard)
		if err != nil {
			return nil, err
		}
		s := State{Recipient: r, Heard: row.Heard, Waiting: waiting, Tries: row.Tries, Answer: row.Answer}
		if row.HeardAt != nil {
			s.HeardAt = *row.HeardAt
		}
		if row.Tries > 0 {
			s.Due = row.Due
		}
		out = append(out, s)
	}
	return out, nil
}
