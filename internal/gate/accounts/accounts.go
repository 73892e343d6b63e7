// Package accounts is what becomes of people whom the gate knows: adding, disabling,
// enabling and removing them, and what they hold.
package accounts

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/grant"
	"innergate.example/innergate/internal/gate/approving"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/leaving"
	"innergate.example/innergate/internal/gate/people"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/sessions"
	"innergate.example/innergate/internal/gate/traces"
	"innergate.example/innergate/internal/store"
)

// KindPerson is the kind of people, in the history. It names them by their number alone.
const KindPerson = "person"

// Room is about accounts.
type Room struct {
	Parts
	forget func(ctx context.Context, person int64) error
}

// Forgets names what else has to forget somebody who is removed.
func (rm *Room) Forgets(forget func(ctx context.Context, person int64) error) { rm.forget = forget }

// Parts are what the room works with.
type Parts struct {
	Store    *store.Store
	Now      func() time.Time
	Records  *records.Room
	People   *people.Room
	Sessions *sessions.Room
	Leaving  *leaving.Room
	Traces   *traces.Room
	Requests *approving.Room
}

// New makes a room.
func New(p Parts) *Room {
	return &Room{Parts: p, forget: func(context.Context, int64) error { return nil }}
}

func (rm *Room) row(db *gorm.DB, id int64) (row store.PersonRow, err error) {
	err = db.Where("id = ?", id).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		err = &change.NotFoundError{Kind: "person", Name: fmt.Sprint(id)}
	}
	return row, err
}

func (rm *Room) note(tx *gorm.DB, by change.By, id int64, what string) error {
	return change.Note{At: rm.Now(), By: by, Kind: KindPerson, Name: fmt.Sprint(id), What: what}.Write(tx)
}

// Disable has somebody let in no more: their sessions end, and what these gave. A sign-in
// and a refresh see it at once.
func (rm *Room) Disable(ctx context.Context, by change.By, id int64) (Person, error) {
	err := rm.leave(ctx, id, func(tx *gorm.DB, row store.PersonRow) error {
		if row.Disabled != nil {
			return change.Conflict(fmt.Sprintf("the person %d is disabled already", id), "nothing is to be done")
		}
		if err := tx.Model(&row).Update("disabled", rm.Now().UTC()).Error; err != nil {
			return err
		}
		return rm.note(tx, by, id, "disabled")
	})
	if err != nil {
		return Person{}, err
	}
	return rm.Get(ctx, id)
}

// Enable has somebody let in again.
func (rm *Room) Enable(ctx context.Context, by change.By, id int64) (Person, error) {
	err := rm.Store.Write(ctx, func(tx *gorm.DB) error {
		row, err := rm.row(tx, id)
		if err != nil {
			return err
		}
		if row.Disabled == nil {
			return change.Conflict(fmt.Sprintf("the person %d is not disabled", id), "nothing is to be done")
		}
		if err := tx.Model(&row).Update("disabled", nil).Error; err != nil {
			return err
		}
		return rm.note(tx, by, id, "enabled")
	})
	if err != nil {
		return Person{}, err
	}
	return rm.Get(ctx, id)
}

// Remove takes somebody out with all that is theirs; that it was done stays in the
// history. Should they come again, they are somebody new.
func (rm *Room) Remove(ctx context.Context, by change.By, id int64) error {
	if err := rm.unnamed(id); err != nil {
		return err
	}
	traces, err := rm.traces(ctx, id)
	if err == nil {
		err = errors.Join(rm.Store.Traces.Remove(ctx, traces), rm.forget(ctx, id))
	}
	if err != nil {
		return err
	}
	err = rm.leave(ctx, id, func(tx *gorm.DB, row store.PersonRow) error {
		for _, theirs := range []any{&store.LinkRow{}, &store.SubjectRow{}, &store.ConsentRow{}, &store.GrantRow{},
			&store.TermRow{}, &store.MatchRow{}, &store.MemberRow{}, &store.AdmissionRow{}, &store.RequestRow{}, &store.UseRow{}} {
			if err := tx.Where("person = ?", id).Delete(theirs).Error; err != nil {
				return err
			}
		}
		if err := tx.Delete(&row).Error; err != nil {
			return err
		}
		return rm.note(tx, by, id, "removed")
	})
	if err == nil {
		err = rm.forget(ctx, id) // what was begun before they went
		rm.Store.Flush()
	}
	return err
}

// unnamed sees that no access rule and no role names somebody who is to go.
func (rm *Room) unnamed(id int64) error {
	snap := rm.Records.Snapshot()
	for what, names := range map[string][]federation.Name{"access rules": snap.NamedBy(id), "roles": snap.RolesOf(id), "starting points": snap.StartsNaming(id)} {
		if len(names) > 0 {
			return change.Conflict(fmt.Sprintf("%s name the person %d: %s", what, id, federation.Listed(names)),
				"take them out of these, or remove these, first")
		}
	}
	return nil
}

// traces finds what was recorded of somebody's sign-ins.
func (rm *Room) traces(ctx context.Context, id int64) (out []string, err error) {
	var links []store.LinkRow
	if err := rm.Store.Read.WithContext(ctx).Where("person = ?", id).Find(&links).Error; err != nil {
		return nil, err
	}
	theirs := map[string]bool{}
	for _, l := range links {
		theirs[string(l.Key)] = true
	}
	snap := rm.Records.Snapshot()
	err = rm.Store.Traces.Each(ctx, store.TraceFilter{}, func(head store.TraceHead, inputs []json.RawMessage) bool {
		for _, octets := range inputs {
			var e crossing.Entry
			if json.Unmarshal(octets, &e) == nil && (e.About(id) || e.Of(snap, func(key string) bool { return theirs[string(store.Hash(key))] })) {
				out = append(out, head.ID)
				break
			}
		}
		return true
	})
	return out, err
}

// leave ends all sessions of somebody and what was given in them, and does the rest in the
// same transaction.
func (rm *Room) leave(ctx context.Context, id int64, do func(*gorm.DB, store.PersonRow) error) error {
	var ended []string
	err := rm.Store.Write(ctx, func(tx *gorm.DB) error {
		ended = nil // it may be run again
		row, err := rm.row(tx, id)
		if err != nil {
			return err
		}
		var rows []store.SessionRow
		if err := tx.Where("person = ?", id).Find(&rows).Error; err != nil {
			return err
		}
		for _, r := range rows {
			ended = append(ended, string(r.Hash))
			if _, err := rm.Leaving.End(tx, &crossing.Session{Ref: string(r.Hash), Lasting: r.Lasting}); err != nil {
				return err
			}
		}
		err = tx.Model(&store.GrantRow{}).Where("person = ? AND ended = ''", id).Updates(map[string]any{
			"ended": string(grant.Withdrawn), "revision": gorm.Expr("revision + 1")}).Error
		if err != nil {
			return err
		}
		return do(tx, row)
	})
	if err != nil {
		return err
	}
	for _, ref := range ended {
		rm.Sessions.Drop(ref)
	}
	rm.Leaving.Wake()
	return nil
}
