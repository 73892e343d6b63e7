// Package leaving signs people out: a session ends with everything that was given
// in it, and the applications that were told somebody in it hear of that, through
// the outbox, until they answer.
package leaving

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/grant"
	"innergate.example/innergate/internal/core/signout"
	"innergate.example/innergate/internal/gate/grants"
	"innergate.example/innergate/internal/gate/happening"
	"innergate.example/innergate/internal/gate/limit"
	"innergate.example/innergate/internal/gate/outbox"
	"innergate.example/innergate/internal/gate/performing"
	"innergate.example/innergate/internal/gate/random"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/sessions"
	"innergate.example/innergate/internal/store"
)

// Room signs people out.
type Room struct {
	store      *store.Store
	happenings *happening.Room
	now        func() time.Time
	records    *records.Room
	sessions   *sessions.Room
	performer  *performing.Performer
	grants     *grants.Room
	outbox     *outbox.Room
	// strangers bounds the traces of requests that are refused.
	strangers *limit.Flow
}

// Parts are what the room works with.
type Parts struct {
	Store      *store.Store
	Happenings *happening.Room
	Now        func() time.Time
	Records    *records.Room
	Sessions   *sessions.Room
	Performer  *performing.Performer
	Grants     *grants.Room
	Outbox     *outbox.Room
}

// New makes a room.
func New(p Parts) *Room {
	rm := &Room{store: p.Store, happenings: p.Happenings, now: p.Now, records: p.Records, sessions: p.Sessions,
		performer: p.Performer, grants: p.Grants, outbox: p.Outbox, strangers: limit.NewFlow()}
	rm.performs()
	return rm
}

// turn is a sign-out on its way through the core, within the transaction that stores what it decides.
type turn struct {
	performing.Acting[signout.Turn]
	rm    *Room
	tx    *gorm.DB
	s     signout.State
	e     signout.Event
	state string // that the browser is to come back with
}

// Advance decides.
func (t *turn) Advance(crossing.Effect) signout.Turn {
	return signout.Advance(t.rm.records.Snapshot(), t.s, t.e, t.Facts, t.rm.now())
}

// Lacks is what it lacks; nobody outside is asked.
func (t *turn) Lacks(got signout.Turn) (*crossing.Lacks, []crossing.Effect) {
	lacks, _ := got.Next.(*crossing.Lacks)
	return lacks, nil
}

// Finish stores what was decided.
func (t *turn) Finish(_ context.Context, got signout.Turn) (crossing.Effect, error) {
	t.s = got.State
	return nil, t.Performer.StoreIn(t.tx, t.Asker, got.Effects)
}

// turn takes a sign-out through the core. state is what the browser is to come back with.
func (rm *Room) turn(tx *gorm.DB, s signout.State, e signout.Event, state string) (signout.Turn, error) {
	t := &turn{rm: rm, tx: tx, s: s, e: e, state: state}
	t.Performer, t.Asker = rm.performer, &performing.Asker{Turn: t}
	return performing.Run(tx.Statement.Context, t)
}

// performs has what a sign-out lacks looked up, and what it decides stored.
func (rm *Room) performs() {
	performing.Stores(rm.performer, func(s *performing.Storing, e signout.EndSession) error {
		return rm.drop(s.Tx, e.Session)
	})
	performing.Stores(rm.performer, func(s *performing.Storing, e signout.Tell) error {
		return rm.outbox.Notify(s.Tx, e.App, e.Notice.Notice, s.Turn.(*turn).s.Trace)
	})
	performing.Stores(rm.performer, func(s *performing.Storing, e signout.Keep) error {
		t := s.Turn.(*turn)
		return rm.keep(s.Tx, e.To, t.state, t.s)
	})
	performing.Satisfies(rm.performer, func(_ context.Context, a *performing.Asker, n signout.WasTold) ([]signout.Issued,
		error) {
		return rm.issued(a.Turn.(*turn).tx, n.Session)
	})
	performing.Satisfies(rm.performer, func(_ context.Context, a *performing.Asker, n signout.Stands) (bool, error) {
		var rows int64
		err := a.Turn.(*turn).tx.Model(&store.SessionRow{}).Where("lasting = ?", n.Session).Count(&rows).Error
		return rows > 0, err
	})
	performing.Satisfies(rm.performer, func(_ context.Context, a *performing.Asker, n signout.IsIn) (*crossing.Upstream,
		error) {
		up, kept, err := rm.sessions.UpstreamIn(a.Turn.(*turn).tx, n.Session, n.Provider)
		if !kept {
			return nil, err
		}
		return &up, err
	})
}

// Session is that of a browser, nil if there is none.
func (rm *Room) Session(ctx context.Context, token string) *crossing.Session {
	return rm.sessions.Find(ctx, token)
}

// Asked is a request to sign out as it came in, for the trace.
type Asked struct {
	Binding string
	Shown   string // the request, without what could be used again
	Network string // where it came from, for counting
	From    crossing.Lane
	Name    string // of the message
	Whose   string // name of the provider that it came from, if it did
}

// Refused records why a request to sign out was refused, and gives the reference by
// which an engineer finds that. It is about no sign-in, so it says nothing of whether
// an application works.
func (rm *Room) Refused(a Asked, f *finding.Finding) string {
	reference := random.Reference()
	if !rm.strangers.Take(a.Network, rm.now()) {
		rm.happenings.Drop()
		return reference
	}
	at := rm.now().UTC()
	steps := []any{crossing.TraceStep{At: at, From: a.From, To: crossing.GateLane, Name: a.Name,
		Binding: a.Binding, Octets: a.Shown[:min(len(a.Shown), 4096)], Finding: f.From(finding.Side(a.From))}}
	if a.From == crossing.Application {
		steps = append(steps, crossing.TraceStep{At: at, From: crossing.GateLane, To: crossing.BrowserLane,
			Name: "refused page"})
	}
	rm.happenings.Record(store.TraceHead{ID: reference, Started: at, StartedBy: string(a.From), Provider: a.Whose,
		Result: crossing.Refused, Finding: string(f.Code)}, steps, nil)
	return reference
}

// SignOut ends a session, and records that. Ending one that has ended is no error.
func (rm *Room) SignOut(ctx context.Context, s *crossing.Session) (told int, err error) {
	_, told, err = rm.signOut(ctx, signout.Event{Kind: signout.Ended, Session: s})
	return told, err
}

// signOut takes a sign-out through the core: what it decides on is read in the transaction that stores what it
// decided.
func (rm *Room) signOut(ctx context.Context, e signout.Event) (state string, told int, err error) {
	var t signout.Turn
	e.Trace = random.Reference()
	err = rm.store.Write(ctx, func(tx *gorm.DB) (err error) {
		state = random.Text(20) // it may be run again
		t, err = rm.turn(tx, signout.State{}, e, state)
		return err
	})
	if err != nil {
		return "", 0, err
	}
	rm.sessions.Drop(e.Session.Ref)
	rm.record(e.Session, crossing.BrowserLane, t)
	rm.outbox.Wake()
	next, err := rm.goes(t, state)
	return next, len(t.Notices), err
}

// issued is what applications were told in a session.
func (rm *Room) issued(tx *gorm.DB, session string) ([]signout.Issued, error) {
	var rows []store.IssuedRow
	if err := tx.Where("session = ?", []byte(session)).Order("id").Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]signout.Issued, len(rows))
	for i, r := range rows {
		name, err := rm.store.Open("issued", r.Sealed)
		if err != nil {
			return nil, err
		}
		out[i] = signout.Issued{App: federation.ID(r.Application), Session: r.SessionIndex, Name: json.RawMessage(name)}
	}
	return out, nil
}

// goes is where the browser goes now; "" is nowhere.
func (rm *Room) goes(t signout.Turn, state string) (string, error) {
	switch n := t.Next.(type) {
	case *signout.Send:
		address, ok := signout.Address(rm.records.Snapshot(), n.To, state)
		if !ok {
			return t.State.Back, nil // it was changed this very moment
		}
		return address, nil
	case *signout.Done:
		return n.Back, nil
	}
	return "", fmt.Errorf("a sign-out goes on with %T", t.Next)
}

// record tells in a trace who was signed out, and who hears of it.
func (rm *Room) record(s *crossing.Session, from crossing.Lane, t signout.Turn) {
	at, snap := rm.now().UTC(), rm.records.Snapshot()
	head := store.TraceHead{ID: t.State.Trace, Started: at, StartedBy: string(from), Result: crossing.SignedOut,
		Account:  s.Person.ID,
		Verified: true}
	first := crossing.TraceStep{At: at, From: from, To: crossing.GateLane, Name: "Sign-out request"}
	for _, p := range s.Proofs {
		head.Provider, head.Person = string(p.Provider), p.Subject.Value
		first.Values = append(first.Values, federation.Value{Label: "In by", Value: string(p.Provider)})
	}
	end := crossing.TraceStep{At: at, From: crossing.GateLane, To: crossing.GateLane, Name: "end the session",
		Values: []federation.Value{{Label: "Applications that are told", Value: fmt.Sprint(len(t.Notices))}}}
	for _, name := range t.State.Missed {
		end.Values = append(end.Values, federation.Value{Label: "Still in at", Value: name})
	}
	steps := []any{first, end}
	for _, n := range t.Notices {
		name := ""
		if a, ok := snap.ApplicationOf(n.App); ok {
			name = string(a.Name)
		}
		steps = append(steps, crossing.TraceStep{At: at, From: crossing.GateLane, To: crossing.Application,
			Name:    "Sign-out notice",
			Binding: "back channel", Address: n.Address, Values: []federation.Value{{Label: "Application", Value: name}}})
	}
	rm.happenings.Record(head, append(steps, sent(t, at)...), nil)
}

// sent is the step in which the browser is sent on, if it is.
func sent(t signout.Turn, at time.Time) []any {
	n, is := t.Next.(*signout.Send)
	if !is {
		return nil
	}
	return []any{crossing.TraceStep{At: at, From: crossing.GateLane, To: crossing.Provider, Name: "Sign-out request",
		Binding: "front channel", Values: []federation.Value{{Label: "Provider", Value: string(n.To.Name)}}}}
}

// Wake has notices sent that wait.
func (rm *Room) Wake() { rm.outbox.Wake() }

// End ends a session within a transaction: its row, what hangs on it, and a notice to each application that wants to
// hear. It gives how many will be told.
func (rm *Room) End(tx *gorm.DB, s *crossing.Session) (int, error) {
	t, err := rm.turn(tx, signout.State{}, signout.Event{Kind: signout.Ended, Session: s}, "")
	return len(t.Notices), err
}

// drop removes a session, and what hangs on it.
func (rm *Room) drop(tx *gorm.DB, s *crossing.Session) error {
	return errors.Join(rm.grants.EndSession(tx, s.Lasting, grant.SignedOut),
		tx.Where("session = ?", []byte(s.Lasting)).Delete(&store.IssuedRow{}).Error,
		rm.sessions.DropUpstream(tx, s.Lasting), tx.Where("lasting = ?", s.Lasting).Delete(&store.SessionRow{}).Error)
}
