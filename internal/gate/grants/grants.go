// Package grants keeps what sign-ins gave applications (codes and refresh tokens,
// which are not kept themselves, see core/grant), and what people agreed to that
// applications may be told. What is decided about them is decided in the core.
package grants

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/grant"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/store"
)

// Room keeps grants and consents.
type Room struct {
	store   *store.Store
	now     func() time.Time
	records *records.Room
}

// New makes a room over a store.
func New(s *store.Store, now func() time.Time, r *records.Room) *Room {
	return &Room{store: s, now: now, records: r}
}

// longest that a grant is kept, whatever the record of the application says later.
const longest = 400 * 24 * time.Hour

// unredeemed is how long one is kept whose code nobody redeems: longer than the code is good,
// so that a late one is told that it is late.
const unredeemed = 10 * time.Minute

// mostOfOne are the grants of one person that give one application something.
const mostOfOne = 100

// Put keeps a new grant: while its code is good, and lastingly once that was redeemed. The
// grant of a service, which has no code to redeem, is kept until its end.
func (rm *Room) Put(tx *gorm.DB, k crossing.Granted, end time.Time) error {
	row, err := rm.row(k)
	if err != nil {
		return err
	}
	if row.Expires = end.UTC(); !k.Code.Redeemed {
		row.Expires = k.Began.Add(unredeemed).UTC()
		if err := rm.makeRoom(tx, row); err != nil {
			return err
		}
	}
	return store.PutGrant(tx, row)
}

// makeRoom ends the grants of a person that were used least, where there are too many.
func (rm *Room) makeRoom(tx *gorm.DB, row *store.GrantRow) error {
	whose, who := "person = ?", any(row.Person)
	if row.Person == 0 { // somebody who is known for one session only
		whose, who = "session = ?", row.Session
	}
	whose = "app = ? AND ended = '' AND expires > ? AND " + whose
	var n int64
	err := tx.Raw("SELECT count(*) FROM grant_rows WHERE "+whose, row.App, rm.now().UTC(), who).Row().Scan(&n)
	if err != nil || n < mostOfOne {
		return err
	}
	var ids []string
	err = tx.Model(&store.GrantRow{}).Where(whose, row.App, rm.now().UTC(), who).
		Order("used IS NOT NULL, coalesce(used, began), id").Limit(int(n)-mostOfOne+1).Pluck("id", &ids).Error
	if err != nil {
		return err
	}
	return end(tx.Where("id IN ?", ids), grant.Crowded)
}

func (rm *Room) row(k crossing.Granted) (*store.GrantRow, error) {
	plain, err := json.Marshal(k)
	if err != nil {
		return nil, err
	}
	return &store.GrantRow{ID: k.ID, Revision: k.Revision, App: string(k.Client), Person: k.Person, Session: k.Session,
		Offline: k.Offline, Began: k.Began.UTC(), Ended: string(k.Ended), Sealed: rm.store.Seal("grant", plain)}, nil
}

func (rm *Room) read(row store.GrantRow) (k crossing.Granted, err error) {
	plain, err := rm.store.Open("grant", row.Sealed)
	if err == nil {
		err = json.Unmarshal(plain, &k)
	}
	if row.Ended != "" && k.Ended == "" { // by a statement over many
		k.Ended = grant.Ending(row.Ended)
	}
	k.Revision = row.Revision
	return k, err
}

// Get finds a grant; false if there is none of the ID.
func (rm *Room) Get(ctx context.Context, id string) (crossing.Granted, bool, error) {
	row, err := rm.store.GrantOf(ctx, id, rm.now())
	if errors.Is(err, sql.ErrNoRows) {
		return crossing.Granted{}, false, nil
	}
	if err != nil {
		return crossing.Granted{}, false, err
	}
	k, err := rm.read(row)
	return k, err == nil, err
}

// ErrMoved says that a grant is at another revision than the one a decision was made
// from: it is to be read again.
var ErrMoved = errors.New("the grant has moved on")

// Move keeps the next value of a grant, if it is still at the revision before.
func (rm *Room) Move(tx *gorm.DB, was int, next crossing.Granted) error {
	row, err := rm.row(next)
	if err != nil {
		return err
	}
	moved, err := store.MoveGrant(tx, row, was, rm.now())
	if err == nil && !moved {
		return ErrMoved
	}
	if err != nil || !next.Code.Redeemed || next.Ended != "" {
		return err
	}
	return rm.last(tx, next)
}

// last has a grant whose code was redeemed live for its time, or as long as its session.
func (rm *Room) last(tx *gorm.DB, k crossing.Granted) error {
	if k.Offline {
		return tx.Exec("UPDATE grant_rows SET expires = ? WHERE id = ? AND expires < ?", k.Began.Add(longest).UTC(), k.ID,
			k.Began.Add(longest).UTC()).Error
	}
	return store.GrantAsSession(tx, k.ID, k.Session)
}

// EndSession ends what hangs on a session, by its lasting name: everything that
// does not outlive it.
func (rm *Room) EndSession(tx *gorm.DB, lasting string, why grant.Ending) error {
	if lasting == "" {
		return nil
	}
	return end(tx.Where("session = ? AND offline = ?", lasting, false), why)
}

// End ends one grant.
func (rm *Room) End(tx *gorm.DB, id string, why grant.Ending) error {
	return end(tx.Where("id = ?", id), why)
}

// Extend has what hangs on a session live as long as that does now.
func (rm *Room) Extend(tx *gorm.DB, lasting string, until time.Time) error {
	return tx.Model(&store.GrantRow{}).Where("session = ? AND offline = ? AND used IS NOT NULL AND expires < ?", lasting,
		false, until.UTC()).
		Update("expires", until.UTC()).Error
}

func end(q *gorm.DB, why grant.Ending) error {
	return q.Model(&store.GrantRow{}).Where("ended = ''").
		Updates(map[string]any{"ended": string(why), "revision": gorm.Expr("revision + 1")}).Error
}

// Agreed gives the scopes that somebody agreed to for an application.
func (rm *Room) Agreed(ctx context.Context, app federation.ID, person int64) ([]string, error) {
	scopes, err := agreed(rm.store.Read.WithContext(ctx), app, person)
	return scopes, err
}

func agreed(db *gorm.DB, app federation.ID, person int64) ([]string, error) {
	var rows []store.ConsentRow
	err := db.Where("app = ? AND person = ?", string(app), person).Limit(1).Find(&rows).Error
	if err != nil || len(rows) == 0 {
		return []string{}, err
	}
	return strings.Fields(rows[0].Scopes), nil
}

// Agree adds to what somebody agreed to. Somebody who is known for one session only
// is asked each time.
func (rm *Room) Agree(tx *gorm.DB, app federation.ID, person int64, scopes []string) error {
	if person == 0 {
		return nil
	}
	before, err := agreed(tx, app, person)
	if err != nil {
		return err
	}
	all := append(before, scopes...)
	slices.Sort(all)
	return tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&store.ConsentRow{App: string(app), Person: person,
		Scopes: strings.Join(slices.Compact(all), " "), At: rm.now().UTC()}).Error
}

// Consent is what somebody agreed to.
type Consent struct {
	App    federation.ID // of one person's
	Person int64
	Scopes []string
	At     time.Time
}

// Filter narrows a list.
type Filter struct {
	Person        int64 // 0 for everybody
	Offset, Limit int
}

// narrowed is the application whose list is wanted. A person to whom it is narrowed
// must be one.
func (rm *Room) narrowed(ctx context.Context, app string, f Filter) (*federation.Application, error) {
	a, err := rm.records.Application(app)
	if err != nil || f.Person == 0 {
		return a, err
	}
	var n int64
	err = rm.store.Read.WithContext(ctx).Model(&store.PersonRow{}).Where("id = ?", f.Person).Count(&n).Error
	if err == nil && n == 0 {
		err = &change.NotFoundError{Kind: "person", Name: fmt.Sprint(f.Person)}
	}
	return a, err
}

// page reads one page of a list, and how long the whole list is.
func page[R any](of *gorm.DB, f Filter, order string) (rows []R, total int64, err error) {
	of = of.Model(new(R))
	if f.Person != 0 {
		of = of.Where("person = ?", f.Person)
	}
	err = errors.Join(of.Session(&gorm.Session{}).Count(&total).Error,
		of.Order(order).Offset(f.Offset).Limit(f.Limit).Find(&rows).Error)
	return rows, total, err
}

// Consents lists what people agreed to for an application, the latest first, and how
// many there are.
func (rm *Room) Consents(ctx context.Context, app string, f Filter) ([]Consent, int64, error) {
	a, err := rm.narrowed(ctx, app, f)
	if err != nil {
		return nil, 0, err
	}
	rows, total, err := page[store.ConsentRow](rm.store.Read.WithContext(ctx).Where("app = ?", string(a.ID)), f,
		"at DESC, person")
	out := []Consent{}
	for _, r := range rows {
		out = append(out, Consent{Person: r.Person, Scopes: strings.Fields(r.Scopes), At: r.At})
	}
	return out, total, err
}

// ConsentsOf lists what one person agreed to, the latest first.
func (rm *Room) ConsentsOf(ctx context.Context, person int64) (out []Consent, err error) {
	var rows []store.ConsentRow
	err = rm.store.Read.WithContext(ctx).Where("person = ?", person).Order("at DESC, app").Find(&rows).Error
	for _, r := range rows {
		out = append(out, Consent{App: federation.ID(r.App), Person: r.Person, Scopes: strings.Fields(r.Scopes), At: r.At})
	}
	return out, err
}

// Grant is one as an engineer sees it.
type Grant struct {
	ID       string
	Person   int64
	Subject  string
	Provider federation.Name
	Scopes   []string
	Offline  bool
	Began    time.Time
	Used     time.Time
	Ended    string
	Trace    string
}

// List lists grants of an application that give something or gave it lately, the
// latest first, and how many there are.
func (rm *Room) List(ctx context.Context, app string, f Filter) ([]Grant, int64, error) {
	a, err := rm.narrowed(ctx, app, f)
	if err != nil {
		return nil, 0, err
	}
	rows, total, err := page[store.GrantRow](rm.store.Read.WithContext(ctx).Where("app = ? AND expires > ?",
		string(a.ID), rm.now().UTC()), f, "began DESC, id")
	out := []Grant{}
	for _, r := range rows {
		if err != nil {
			break
		}
		var k crossing.Granted
		k, err = rm.read(r)
		out = append(out, Grant{ID: k.ID, Person: k.Person, Subject: k.Subject, Provider: k.Word.Provider, Scopes: k.Scopes,
			Offline: k.Offline, Began: k.Began, Used: k.Used, Ended: string(rm.ended(a, k.Grant)), Trace: k.Trace})
	}
	return out, total, err
}

// ended is why a grant gives nothing any more, "" if it does: as it is stored, or because its time
// has gone by since.
func (rm *Room) ended(a *federation.Application, g grant.Grant) grant.Ending {
	side, ok := a.Side.(interface{ Lifetimes() grant.Lifetimes })
	if g.Ended != "" || !ok {
		return g.Ended
	}
	return g.Over(side.Lifetimes(), rm.now())
}

// Withdraw takes back what somebody agreed to for an application, and ends what
// their sign-ins gave it. It tells how many grants ended.
func (rm *Room) Withdraw(ctx context.Context, by change.By, app string, person int64) (ended int64, err error) {
	a, err := rm.records.Application(app)
	if err != nil {
		return 0, err
	}
	err = rm.store.Write(ctx, func(tx *gorm.DB) error {
		gone := tx.Where("app = ? AND person = ?", string(a.ID), person).Delete(&store.ConsentRow{})
		if gone.Error != nil {
			return gone.Error
		}
		done := tx.Model(&store.GrantRow{}).Where("app = ? AND person = ? AND ended = ''", string(a.ID), person).
			Updates(map[string]any{"ended": string(grant.Withdrawn), "revision": gorm.Expr("revision + 1")})
		if ended = done.RowsAffected; done.Error != nil {
			return done.Error
		}
		if gone.RowsAffected == 0 && ended == 0 {
			return &change.NotFoundError{Kind: "consent to " + app + " or grant of person", Name: fmt.Sprint(person)}
		}
		return change.Note{At: rm.now(), By: by, Kind: "consent", Name: app, What: "withdrawn"}.Write(tx)
	})
	return ended, err
}
