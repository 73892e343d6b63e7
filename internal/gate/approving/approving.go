// Package approving keeps admissions that were asked for, until an owner decides on them: by somebody who was
// refused, or by an owner where the application wants a second one to approve.
package approving

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/mailing"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/store"
)

// Entry is who is to be admitted to an application by name.
type Entry struct {
	Everyone bool      `json:"everyone,omitempty"` // whoever nothing else is about
	Groups   []string  `json:"groups,omitempty"`
	People   []int64   `json:"people,omitempty"`
	Until    time.Time `json:"until,omitzero"` // zero for good
	Out      bool      `json:"out,omitempty"`  // of groups: they are kept out
	// AtOnce has admissions act at once from then on, without approval.
	AtOnce bool `json:"atOnce,omitempty"`
}

// States of a request.
const (
	Waiting  = "waiting"
	Approved = "approved"
	Declined = "declined"
	Ended    = "ended" // nobody decided in time
)

// How long a request waits, and after a refusal until the person can ask again.
const (
	waits = 30 * 24 * time.Hour
	again = 24 * time.Hour
)

// Request is an admission that waits, or that was decided on.
type Request struct {
	ID      int64
	App     federation.Name // "" for an application that was removed
	AppID   federation.ID
	Title   string // of the application
	Person  int64  // who asked for themselves; 0 if an owner did
	Author  string // who asked
	Owner   string // who stands behind that
	Why     string
	Entry   Entry
	Asked   time.Time
	Ends    time.Time
	State   string
	Decided time.Time
	By      string
	Remark  string
	People  []Named
	Groups  []Named
	Digest  string // of what is shown: whoever approves has seen that
}

// Named is somebody, or a group, that is to be admitted.
type Named struct {
	Number   int64
	Name     string
	Title    string // of a group its title, of somebody their name
	Called   string // of somebody what tells them apart
	Disabled bool
	Gone     bool
}

// Room keeps them.
type Room struct {
	Parts
	letters letters
}

// Parts are what the room works with.
type Parts struct {
	Store   *store.Store
	Log     *slog.Logger
	Now     func() time.Time
	Records *records.Room
	Mailer  *mailing.Room
	// Behind is the owner who stands behind an author, "" if that is none; Owners counts them.
	Behind func(ctx context.Context, who string) (string, error)
	Owners func(ctx context.Context) (int64, error)
}

// New makes a room.
func New(p Parts) *Room { return &Room{Parts: p} }

// Put has an admission wait that an owner asks for. Its number is given.
func (rm *Room) Put(ctx context.Context, by change.By, a *federation.Application, e Entry) (int64, error) {
	owner, err := rm.Behind(ctx, by.Who)
	if err != nil {
		return 0, err
	}
	n, err := rm.Owners(ctx)
	if err != nil {
		return 0, err
	}
	if owner != "" && n < 2 {
		return 0, change.Conflict(fmt.Sprintf("admissions to %s wait for another owner, and %s is the only one: nobody can approve", a.Name, owner),
			"make another owner (innergate owner add), or let admissions act at once (setting approval)")
	}
	row, err := rm.row(a, e)
	if err != nil {
		return 0, err
	}
	row.Author, row.Owner, row.Why = by.Who, owner, by.Why
	err = rm.Store.Write(ctx, func(tx *gorm.DB) error {
		row.ID = 0
		if err := tx.Create(&row).Error; err != nil {
			return err
		}
		return rm.note(tx, by, string(a.Name), fmt.Sprintf("admission asked for, as request %d", row.ID))
	})
	return row.ID, err
}

func (rm *Room) row(a *federation.Application, e Entry) (row store.RequestRow, err error) {
	now := rm.Now().UTC()
	row = store.RequestRow{App: string(a.ID), Asked: now, Ends: now.Add(waits), State: Waiting}
	row.Entry, err = json.Marshal(e)
	return row, err
}

// Ask has somebody who was refused ask for entry, inside a transaction: once, while nobody has decided on it. made is
// false where they asked already, or were declined just now.
func (rm *Room) Ask(tx *gorm.DB, app federation.ID, person int64) (made bool, err error) {
	a, there := rm.Records.Snapshot().ApplicationOf(app)
	if !there || person == 0 {
		return false, nil
	}
	row, err := rm.row(a, Entry{People: []int64{person}})
	if err != nil {
		return false, err
	}
	now := rm.Now().UTC()
	var before int64
	err = tx.Model(&store.RequestRow{}).Where("app = ? AND person = ? AND (state = ? AND ends > ? OR state = ? AND decided > ?)",
		string(app), person, Waiting, now, Declined, now.Add(-again)).Count(&before).Error
	if err != nil || before > 0 {
		return false, err
	}
	// One that nobody decided on in time makes room.
	err = tx.Model(&store.RequestRow{}).Where("app = ? AND person = ? AND state = ?", string(app), person, Waiting).
		Update("state", Ended).Error
	if err != nil {
		return false, err
	}
	row.Person = person
	if err := tx.Create(&row).Error; err != nil {
		return false, err
	}
	return true, rm.note(tx, change.By{Who: fmt.Sprintf("person %d", person)}, string(a.Name),
		fmt.Sprintf("entry asked for, as request %d", row.ID))
}

// AskNow has somebody ask for entry, as Ask does, and tells whoever may approve.
func (rm *Room) AskNow(ctx context.Context, app federation.ID, person int64) error {
	made := false
	err := rm.Store.Write(ctx, func(tx *gorm.DB) (err error) {
		made, err = rm.Ask(tx, app, person)
		return err
	})
	if err == nil && made {
		rm.Tell(app, person)
	}
	return err
}

// AskedBy are the applications to which somebody asked for entry, and nobody has decided yet.
func (rm *Room) AskedBy(ctx context.Context, person int64) (out []federation.ID, err error) {
	err = rm.Store.Read.WithContext(ctx).Model(&store.RequestRow{}).Where("person = ? AND state = ? AND ends > ?", person,
		Waiting, rm.Now().UTC()).
		Pluck("app", &out).Error
	return out, err
}

func (rm *Room) note(tx *gorm.DB, by change.By, app, what string) error {
	return change.Note{At: rm.Now(), By: by, Kind: string(federation.KindApplication), Name: app, What: what}.Write(tx)
}

// Filter narrows requests.
type Filter struct {
	App   string // short name
	State string
	After int64 // number below which the page begins; 0 for the newest
	Limit int
}

// List gives requests, the newest first, and how many wait.
func (rm *Room) List(ctx context.Context, f Filter) (out []Request, waiting int64, err error) {
	db, now := rm.Store.Read.WithContext(ctx), rm.Now().UTC()
	if err := db.Model(&store.RequestRow{}).Where("state = ? AND ends > ?", Waiting,
		now).Count(&waiting).Error; err != nil {
		return nil, 0, err
	}
	q := db.Order("id DESC").Limit(f.Limit)
	if f.App != "" {
		a, err := rm.Records.Application(f.App)
		if err != nil {
			return nil, 0, change.Field("application", err)
		}
		q = q.Where("app = ?", string(a.ID))
	}
	switch f.State {
	case Waiting:
		q = q.Where("state = ? AND ends > ?", Waiting, now)
	case Ended:
		q = q.Where("state = ? OR state = ? AND ends <= ?", Ended, Waiting, now)
	case Approved, Declined:
		q = q.Where("state = ?", f.State)
	}
	if f.After > 0 {
		q = q.Where("id < ?", f.After)
	}
	var rows []store.RequestRow
	if err := q.Find(&rows).Error; err != nil {
		return nil, 0, err
	}
	for _, row := range rows {
		one, err := rm.shown(db, row)
		if err != nil {
			return nil, 0, err
		}
		out = append(out, one)
	}
	return out, waiting, nil
}

// Get gives one request.
func (rm *Room) Get(ctx context.Context, id int64) (Request, error) {
	return rm.get(rm.Store.Read.WithContext(ctx), id)
}

func (rm *Room) get(db *gorm.DB, id int64) (Request, error) {
	var row store.RequestRow
	err := db.Where("id = ?", id).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		err = &change.NotFoundError{Kind: "request", Name: fmt.Sprint(id)}
	}
	if err != nil {
		return Request{}, err
	}
	return rm.shown(db, row)
}

// shown is what people see of a request, with the digest of what it would do.
func (rm *Room) shown(db *gorm.DB, row store.RequestRow) (Request, error) {
	out := Request{ID: row.ID, AppID: federation.ID(row.App), Person: row.Person, Author: row.Author, Owner: row.Owner,
		Why:   row.Why,
		Asked: row.Asked, Ends: row.Ends, State: row.State, By: row.By, Remark: row.Remark}
	if row.Decided != nil {
		out.Decided = *row.Decided
	}
	if err := json.Unmarshal(row.Entry, &out.Entry); err != nil {
		return out, err
	}
	snap := rm.Records.Snapshot()
	if a, there := snap.ApplicationOf(out.AppID); there {
		out.App, out.Title = a.Name, a.Title
	}
	if out.State == Waiting && !rm.Now().Before(out.Ends) {
		out.State = Ended
	}
	some, err := rm.Store.In(db).People().Many(out.Entry.People, "", "")
	if err != nil {
		return out, err
	}
	for _, id := range out.Entry.People {
		one := Named{Number: id, Title: fmt.Sprintf("Person %d", id), Gone: true}
		if at := slices.IndexFunc(some, func(p store.Candidate) bool { return p.ID == id }); at >= 0 {
			p := some[at].Person
			one = Named{Number: id, Title: person.NameOf(p), Called: person.Called(p), Disabled: p.Disabled}
		}
		out.People = append(out.People, one)
	}
	for _, name := range out.Entry.Groups {
		one := Named{Name: name, Title: name, Gone: true}
		if u, there := snap.Unit(federation.KindGroup, federation.Name(name)); there {
			one = Named{Name: name, Title: u.Title}
		}
		out.Groups = append(out.Groups, one)
	}
	out.Digest = change.Digest(out.ID, out.AppID, out.Title, string(row.Entry), out.People, out.Groups)
	return out, nil
}

// Decision is what an owner decides on a request.
type Decision struct {
	ID      int64
	Digest  string // of what they saw
	Approve bool
}

// Decides sees that somebody may decide on a request, and that it is still what they saw.
func (rm *Room) Decides(ctx context.Context, by change.By, d Decision) (Request, error) {
	q, err := rm.Get(ctx, d.ID)
	if err != nil {
		return q, err
	}
	owner, err := rm.Behind(ctx, by.Who)
	switch {
	case err != nil:
		return q, err
	case owner == "":
		return q, change.Conflict(fmt.Sprintf("%s is no owner, nor made by one who still is", by.Who),
			"decide in the console, or with a token that an owner made there")
	case d.Approve && q.Person == 0 && owner == q.Owner:
		return q, change.Conflict("you asked for it yourself", "another owner approves it")
	}
	return q, rm.stands(q, d)
}

// stands sees that a request can be decided on, and is what was seen.
func (rm *Room) stands(q Request, d Decision) error {
	switch {
	case q.State == Ended:
		return change.Conflict(fmt.Sprintf("the request %d ended at %s", q.ID, q.Ends.UTC().Format(time.RFC3339)),
			"have it asked for again")
	case q.State != Waiting:
		return change.Conflict(fmt.Sprintf("the request %d was %s by %s already", q.ID, q.State, q.By),
			"nothing is to be done")
	case !d.Approve:
		return nil
	case q.App == "":
		return change.Conflict("the application was removed", "decline the request")
	}
	return change.Seen(d.Digest, q.Digest, fmt.Sprintf("the request %d is not what was looked at any more", q.ID))
}

// Decide stores a decision, inside the transaction that carries it out: what it rests on is read there once more.
func (rm *Room) Decide(tx *gorm.DB, by change.By, d Decision) error {
	q, err := rm.get(tx, d.ID)
	if err == nil {
		err = rm.stands(q, d)
	}
	if err != nil {
		return err
	}
	state := map[bool]string{true: Approved, false: Declined}[d.Approve]
	done := tx.Model(&store.RequestRow{}).Where("id = ? AND state = ?", d.ID, Waiting).
		Updates(map[string]any{"state": state, "decided": rm.Now().UTC(), "by": by.Who, "remark": by.Why})
	if done.Error == nil && done.RowsAffected != 1 {
		return change.Conflict(fmt.Sprintf("the request %d was decided on by somebody else just now", d.ID),
			"look at it again")
	}
	if done.Error != nil {
		return done.Error
	}
	by.Why = fmt.Sprintf("asked for by %s; seen: %s; %s", q.Asker(), q.Digest, by.Why)
	return rm.note(tx, by, string(q.App), fmt.Sprintf("request %d %s", d.ID, state))
}

// Decline refuses a request.
func (rm *Room) Decline(ctx context.Context, by change.By, id int64) error {
	d := Decision{ID: id}
	if _, err := rm.Decides(ctx, by, d); err != nil {
		return err
	}
	return rm.Store.Write(ctx, func(tx *gorm.DB) error { return rm.Decide(tx, by, d) })
}

// Asker is who asked.
func (q Request) Asker() string {
	if q.Person != 0 {
		return fmt.Sprintf("person %d", q.Person)
	}
	return q.Author
}

// Alone are the applications whose admissions wait for another owner, where there is only one: for checks.
func (rm *Room) Alone(ctx context.Context, snap *federation.Snapshot) (out map[federation.ID]*finding.Finding,
	err error) {
	out = map[federation.ID]*finding.Finding{}
	for _, a := range snap.Applications() {
		if a.Approval {
			out[a.ID] = finding.New(finding.ApprovalAlone)
		}
	}
	if len(out) == 0 {
		return nil, nil
	}
	if n, err := rm.Owners(ctx); err != nil || n > 1 {
		return nil, err
	}
	return out, nil
}
