// Package leaving signs people out: a session ends with everything that was given
// in it, and the applications that were told somebody in it hear of that, through
// the outbox, until they answer.
package leaving

import (
	"context"
	"encoding/json"
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
	Grants     *grants.Room
	Outbox     *outbox.Room
}

// New makes a room.
func New(p Parts) *Room {
	return &Room{store: p.Store, happenings: p.Happenings, now: p.Now, records: p.Records, sessions: p.Sessions, grants: p.Grants, outbox: p.Outbox,
		strangers: limit.NewFlow()}
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
	var notices []signout.Notice
	reference := random.Reference()
	err = rm.store.Write(ctx, func(tx *gorm.DB) error {
		notices, err = rm.end(tx, s, reference)
		return err
	})
	if err == nil {
		rm.sessions.Drop(s.Ref)
		rm.record(reference, s, crossing.BrowserLane, notices)
		rm.outbox.Wake()
	}
	return len(notices), err
}

// record tells in a trace who was signed out, and who hears of it.
func (rm *Room) record(reference string, s *crossing.Session, from crossing.Lane, notices []signout.Notice) {
	at, snap := rm.now().UTC(), rm.records.Snapshot()
	head := store.TraceHead{ID: reference, Started: at, StartedBy: string(from), Result: crossing.SignedOut, Account: s.Person.ID,
		Verified: true}
	first := crossing.TraceStep{At: at, From: from, To: crossing.GateLane, Name: "Sign-out request"}
	for _, p := range s.Proofs {
		head.Provider, head.Person = string(p.Provider), p.Subject.Value
		first.Values = append(first.Values, federation.Value{Label: "In by", Value: string(p.Provider)})
	}
	steps := []any{first, crossing.TraceStep{At: at, From: crossing.GateLane, To: crossing.GateLane, Name: "end the session",
		Values: []federation.Value{{Label: "Applications that are told", Value: fmt.Sprint(len(notices))}}}}
	for _, n := range notices {
		name := ""
		if a, ok := snap.ApplicationOf(n.App); ok {
			name = string(a.Name)
		}
		steps = append(steps, crossing.TraceStep{At: at, From: crossing.GateLane, To: crossing.Application, Name: "Sign-out notice",
			Binding: "back channel", Address: n.Address, Values: []federation.Value{{Label: "Application", Value: name}}})
	}
	rm.happenings.Record(head, steps, nil)
}

// Wake has notices sent that wait.
func (rm *Room) Wake() { rm.outbox.Wake() }

// End ends a session within a transaction: its row, what hangs on it, and a notice
// to each application that wants to hear. It gives how many will be told.
func (rm *Room) End(tx *gorm.DB, s *crossing.Session) (int, error) {
	notices, err := rm.end(tx, s, "")
	return len(notices), err
}

func (rm *Room) end(tx *gorm.DB, s *crossing.Session, trace string) ([]signout.Notice, error) {
	var rows []store.IssuedRow
	hangs := []byte(s.Lasting)
	if err := tx.Where("session = ?", hangs).Order("id").Find(&rows).Error; err != nil {
		return nil, err
	}
	issued := make([]signout.Issued, len(rows))
	for i, r := range rows {
		name, err := rm.store.Open("issued", r.Sealed)
		if err != nil {
			return nil, err
		}
		issued[i] = signout.Issued{App: federation.ID(r.Application), Session: r.SessionIndex, Name: json.RawMessage(name)}
	}
	notices := signout.Plan(rm.records.Snapshot(), issued)
	for _, n := range notices {
		if err := rm.outbox.Notify(tx, n.App, n.Notice, trace); err != nil {
			return nil, err
		}
	}
	if err := rm.grants.EndSession(tx, s.Lasting, grant.SignedOut); err != nil {
		return nil, err
	}
	if err := tx.Where("session = ?", hangs).Delete(&store.IssuedRow{}).Error; err != nil {
		return nil, err
	}
	if err := rm.sessions.DropUpstream(tx, s.Lasting); err != nil {
		return nil, err
	}
	return notices, tx.Where("lasting = ?", s.Lasting).Delete(&store.SessionRow{}).Error
}
