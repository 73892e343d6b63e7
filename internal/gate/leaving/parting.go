package leaving

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/signout"
	"innergate.example/innergate/internal/gate/random"
	"innergate.example/innergate/internal/store"
)

// Depart ends a session, and gives the address where the person goes next: to the providers that they came by, as far
// as these can be told, and then to back. "" is nowhere.
func (rm *Room) Depart(ctx context.Context, s *crossing.Session, back string) (string, error) {
	next, _, err := rm.signOut(ctx, signout.Event{Kind: signout.Left, Session: s, Back: back})
	return next, err
}

func held(id federation.ID) string { return "signed out at " + string(id) }

// keep stores how a sign-out goes on, under the state that the browser comes back with.
func (rm *Room) keep(tx *gorm.DB, at signout.Participant, state string, s signout.State) error {
	octets, err := json.Marshal(s)
	if err != nil {
		return err
	}
	return tx.Create(&store.HeldRow{Hash: store.Hash(state), Application: held(at.ID), Expires: s.Until.UTC(),
		Sealed: rm.store.Seal("held", octets)}).Error
}

// Resume goes on when a provider sends somebody back whom it has signed out; "" is
// nowhere, also for whoever comes with a state that is not known.
func (rm *Room) Resume(ctx context.Context, name, state string) (string, error) {
	p, ok := rm.records.Snapshot().Provider(federation.Name(name))
	if !ok || state == "" {
		return "", nil
	}
	// What a stranger makes up costs no transaction.
	var n int64
	err := rm.store.Read.WithContext(ctx).Model(&store.HeldRow{}).Where("hash = ?", store.Hash(state)).Count(&n).Error
	if err != nil || n == 0 {
		return "", err
	}
	var t signout.Turn
	next := ""
	err = rm.store.Write(ctx, func(tx *gorm.DB) error {
		next = random.Text(20) // it may be run again
		t = signout.Turn{Next: &signout.Done{}}
		s, there, err := rm.taken(tx, p, state)
		if err != nil || !there {
			return err
		}
		t, err = rm.turn(tx, s, signout.Event{Kind: signout.Returned, From: p.Name}, next)
		return err
	})
	if err != nil {
		return "", err
	}
	rm.returned(p, t)
	return rm.goes(t, next)
}

// returned tells in the trace of a sign-out that a provider has sent the browser back, and where it goes on to.
func (rm *Room) returned(p *federation.Provider, t signout.Turn) {
	if t.State.Trace == "" {
		return
	}
	at := rm.now().UTC()
	rm.happenings.Append(t.State.Trace, append([]any{crossing.TraceStep{At: at, From: crossing.Provider,
		To:   crossing.GateLane,
		Name: "Sign-out answer", Binding: "front channel", Values: []federation.Value{{Label: "Provider",
			Value: string(p.Name)}},
	}}, sent(t, at)...), "", "")
}

// taken is how a sign-out goes on that was kept under a state: it counts once.
func (rm *Room) taken(tx *gorm.DB, p *federation.Provider, state string) (s signout.State, there bool, err error) {
	var row store.HeldRow
	err = tx.Where("hash = ? AND application = ? AND expires > ?", store.Hash(state), held(p.ID),
		rm.now().UTC()).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return s, false, nil
	}
	if err != nil {
		return s, false, err
	}
	octets, err := rm.store.Open("held", row.Sealed)
	if err == nil {
		err = json.Unmarshal(octets, &s)
	}
	if s.At == nil { // it was kept by an earlier build
		s.At, s.Until = &signout.Participant{Name: p.Name, ID: p.ID}, row.Expires
	}
	return s, true, errors.Join(err, tx.Delete(&row).Error)
}

// Told is that a provider has signed somebody out, as it said through the back channel.
type Told struct {
	crossing.Upstream        // its names: without that of the session, of all the person's
	Once              string // of the message: it counts once
	Until             time.Time
}

// Elsewhere ends the sessions that a provider has ended, and gives how many there were.
// What hangs on them ends with them, and applications hear of it.
func (rm *Room) Elsewhere(ctx context.Context, p *federation.Provider, t Told) (n int, err error) {
	list, err := rm.sessions.OfProvider(ctx, p.ID, t.Upstream)
	if err != nil {
		return 0, err
	}
	turns := make([]signout.Turn, len(list))
	err = rm.store.Write(ctx, func(tx *gorm.DB) error {
		err := tx.Create(&store.UsedRow{Key: store.Hash("logout\x1f" + string(p.ID) + "\x1f" + t.Once),
			Until: t.Until.UTC()}).Error
		if store.IsTaken(err) {
			return finding.New(finding.LogoutTokenRefused, finding.Fact("jti", "was used before"))
		}
		for i, s := range list {
			if err == nil {
				turns[i], err = rm.turn(tx, signout.State{},
					signout.Event{Kind: signout.Ended, Session: s, Trace: random.Reference()}, "")
			}
		}
		return err
	})
	if err != nil {
		return 0, err
	}
	for i, s := range list {
		rm.sessions.Drop(s.Ref)
		rm.record(s, crossing.Provider, turns[i])
	}
	rm.outbox.Wake()
	return len(list), nil
}
