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

// way is how signing out goes on: providers to which the person is sent, one after the
// other, and where they go at last. It is kept under the state that they come back with.
type way struct {
	Parts []part `json:"parts,omitempty"`
	Back  string `json:"back,omitempty"`
}

// part is one provider where the person is in.
type part struct {
	Name     federation.Name   `json:"name"`
	ID       federation.ID     `json:"id"`
	Upstream crossing.Upstream `json:"upstream"`
}

// life is how long a provider may take to send the person back.
const life = 10 * time.Minute

// Depart ends a session, and gives the address where the person goes next: to the
// providers that they came by, as far as these can be told, and then to back. "" is
// nowhere.
func (rm *Room) Depart(ctx context.Context, s *crossing.Session, back string) (string, error) {
	w := way{Back: back}
	for _, p := range s.Proofs {
		up, ok, err := rm.sessions.Upstream(ctx, s.Lasting, p.ProviderID)
		if err != nil {
			return "", err
		}
		if ok {
			w.Parts = append(w.Parts, part{p.Provider, p.ProviderID, up})
		}
	}
	if _, err := rm.SignOut(ctx, s); err != nil {
		return "", err
	}
	return rm.next(ctx, w)
}

// next is where the person goes now.
func (rm *Room) next(ctx context.Context, w way) (string, error) {
	snap := rm.records.Snapshot()
	for len(w.Parts) > 0 {
		at := w.Parts[0]
		w.Parts = w.Parts[1:]
		p, ok := snap.Provider(at.Name)
		if !ok || !p.Is(at.Name, at.ID) {
			continue
		}
		side := crossing.Of(p.Side).Parting
		if side == nil {
			continue
		}
		state := random.Text(20)
		address, ok := side.Part(&snap.Gate, p, at.Upstream, state)
		if !ok {
			continue
		}
		return address, rm.keep(ctx, p, state, w)
	}
	return w.Back, nil
}

func held(p *federation.Provider) string { return "signed out at " + string(p.ID) }

func (rm *Room) keep(ctx context.Context, p *federation.Provider, state string, w way) error {
	octets, err := json.Marshal(w)
	if err != nil {
		return err
	}
	return rm.store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Create(&store.HeldRow{Hash: store.Hash(state), Application: held(p),
			Expires: rm.now().Add(life).UTC(), Sealed: rm.store.Seal("held", octets)}).Error
	})
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
	var octets []byte
	err = rm.store.Write(ctx, func(tx *gorm.DB) error {
		octets = nil
		var row store.HeldRow
		err := tx.Where("hash = ? AND application = ? AND expires > ?", store.Hash(state), held(p),
			rm.now().UTC()).Take(&row).Error
		if errors.Is(err, gorm.ErrRecordNotFound) {
			return nil
		}
		if err != nil {
			return err
		}
		if octets, err = rm.store.Open("held", row.Sealed); err != nil {
			return err
		}
		return tx.Delete(&row).Error
	})
	if err != nil || octets == nil {
		return "", err
	}
	var w way
	if err := json.Unmarshal(octets, &w); err != nil {
		return "", err
	}
	return rm.next(ctx, w)
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
	references, notices := make([]string, len(list)), make([][]signout.Notice, len(list))
	err = rm.store.Write(ctx, func(tx *gorm.DB) error {
		err := tx.Create(&store.UsedRow{Key: store.Hash("logout\x1f" + string(p.ID) + "\x1f" + t.Once),
			Until: t.Until.UTC()}).Error
		if store.IsTaken(err) {
			return finding.New(finding.LogoutTokenRefused, finding.Fact("jti", "was used before"))
		}
		for i, s := range list {
			if err == nil {
				references[i] = random.Reference()
				notices[i], err = rm.end(tx, s, references[i])
			}
		}
		return err
	})
	if err != nil {
		return 0, err
	}
	for i, s := range list {
		rm.sessions.Drop(s.Ref)
		rm.record(references[i], s, crossing.Provider, notices[i])
	}
	rm.outbox.Wake()
	return len(list), nil
}
