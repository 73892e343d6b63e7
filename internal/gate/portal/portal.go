// Package portal is the gate's page for people: the applications that they may enter, and what is known of them. What
// somebody finds there the core decides; this room looks up what that needs, and does what people ask for on their
// own page.
package portal

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/gate/approving"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/grants"
	"innergate.example/innergate/internal/gate/leaving"
	"innergate.example/innergate/internal/gate/people"
	"innergate.example/innergate/internal/gate/performing"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/sessions"
	"innergate.example/innergate/internal/gate/traces"
	"innergate.example/innergate/internal/store"
)

// Room is the portal.
type Room struct{ Parts }

// Parts are what the room works with.
type Parts struct {
	Store     *store.Store
	Now       func() time.Time
	Records   *records.Room
	Sessions  *sessions.Room
	People    *people.Room
	Performer *performing.Performer
	Grants    *grants.Room
	Leaving   *leaving.Room
	Requests  *approving.Room
	Traces    *traces.Room
}

// New makes a room.
func New(p Parts) *Room { return &Room{p} }

// Visitor is whoever is at the browser.
type Visitor struct {
	Token   string // value of the session cookie
	Network string
}

// Shown decides what a visitor finds on the portal.
func (rm *Room) Shown(ctx context.Context, v Visitor) (crossing.Shown, error) {
	out, _, err := rm.shown(ctx, v)
	return out, err
}

func (rm *Room) shown(ctx context.Context, v Visitor) (crossing.Shown, crossing.Visit, error) {
	in := crossing.Visit{Session: rm.Sessions.Find(ctx, v.Token), People: map[string]person.Person{}, Network: v.Network}
	if in.Session == nil {
		return crossing.Shown{Out: true}, in, nil
	}
	out, err := rm.look(ctx, rm.Records.Snapshot(), &in)
	return out, in, err
}

// look decides what somebody finds, and looks up whom it needs.
func (rm *Room) look(ctx context.Context, snap *federation.Snapshot, in *crossing.Visit) (out crossing.Shown,
	err error) {
	if err := rm.kept(ctx, in); err != nil {
		return out, err
	}
	now := rm.Now()
	return performing.Decide(ctx, rm.Performer, &performing.Asker{Snap: snap},
		func(f crossing.Facts) (crossing.Shown, *crossing.Lacks, error) {
			f.Whose(in.People)
			out, lacks := crossing.Portal(snap, *in, now)
			return out, lacks, nil
		})
}

// kept are the links and the uses of somebody.
func (rm *Room) kept(ctx context.Context, in *crossing.Visit) error {
	id := in.Session.Person.ID
	if id == 0 {
		return nil
	}
	links, err := rm.Store.People(ctx).LinkedTo(id)
	if err != nil {
		return err
	}
	in.Links = links
	if in.Asked, err = rm.Requests.AskedBy(ctx, id); err != nil {
		return err
	}
	uses, err := rm.Store.Counts(ctx, id)
	in.Used = make(map[federation.ID]int64, len(uses))
	for _, u := range uses {
		in.Used[federation.ID(u.App)] = u.Count
	}
	return err
}

// Of decides what a person would find if they came now by what their providers said last: for engineers. In is false
// of somebody of whom it is not known by which provider they come.
func (rm *Room) Of(ctx context.Context, person int64) (out crossing.Shown, in bool, err error) {
	snap := rm.Records.Snapshot()
	visit, in, err := rm.Traces.LastVisit(ctx, snap, person)
	if err != nil || !in {
		return out, false, err
	}
	out, err = rm.look(ctx, snap, &visit)
	return out, true, err
}

// Ask has a visitor ask for entry to an application, as on the page that refuses them: once, while nobody has decided
// on it. Asked is false where they may not ask for that.
func (rm *Room) Ask(ctx context.Context, v Visitor, app string) (title string, asked bool, err error) {
	shown, _, err := rm.shown(ctx, v)
	if err != nil || shown.Out {
		return "", false, err
	}
	i := slices.IndexFunc(shown.Offers, func(t crossing.Tile) bool { return string(t.App.Name) == app })
	if i < 0 {
		return "", false, nil
	}
	a := shown.Offers[i].App
	err = rm.Requests.AskNow(ctx, a.ID, shown.Person.ID)
	return a.Title, err == nil, err
}

// Session is a session of the visitor's, as their page has it.
type Session struct {
	ID    string // names it to them alone
	Here  bool   // it is the one that they look by
	By    []string
	Began time.Time
	Ends  time.Time
}

// Consent is what the visitor agreed to that an application may be told.
type Consent struct {
	App, Title string
	Scopes     []string
	At         time.Time
}

// Told is what an application was told of the visitor last.
type Told struct {
	Title string
	Count int64
	Last  time.Time
	Known bool // what it was told was kept
	What  []crossing.Delivered
}

// Page is the visitor's own page.
type Page struct {
	crossing.Shown
	Values   []crossing.OwnValue
	Groups   []string
	Links    []people.Link
	Sessions []Session
	Consents []Consent
	Told     []Told
}

// Person is the own page of a visitor.
func (rm *Room) Person(ctx context.Context, v Visitor) (out Page, err error) {
	shown, in, err := rm.shown(ctx, v)
	if out.Shown = shown; err != nil || shown.Out {
		return out, err
	}
	snap := rm.Records.Snapshot()
	out.Values = crossing.OwnValues(snap, in, rm.Now())
	for _, m := range shown.Person.Members {
		if u, there := snap.Unit(m.Kind, m.Name); there && !slices.Contains(out.Groups, u.Title) {
			out.Groups = append(out.Groups, u.Title)
		}
	}
	out.Sessions = []Session{sessionOf(snap, in.Session, true)}
	id := shown.Person.ID
	if id == 0 {
		return out, nil
	}
	person, err := rm.People.Get(ctx, id)
	if err != nil {
		return out, err
	}
	out.Links = person.Links
	for _, s := range person.Sessions {
		if s.Lasting != in.Session.Lasting {
			out.Sessions = append(out.Sessions, sessionOf(snap, s, false))
		}
	}
	if out.Consents, err = rm.consents(ctx, snap, id); err == nil {
		out.Told, err = rm.told(ctx, snap, id)
	}
	return out, err
}

func sessionOf(snap *federation.Snapshot, s *crossing.Session, here bool) Session {
	sum := sha256.Sum256([]byte("own page\x1f" + s.Lasting))
	out := Session{ID: hex.EncodeToString(sum[:16]), Here: here, Began: s.Began, Ends: s.Expires}
	for _, p := range s.Proofs {
		title := string(p.Provider)
		if is, there := snap.Provider(p.Provider); there {
			title = is.Title
		}
		out.By = append(out.By, title)
	}
	return out
}

func (rm *Room) consents(ctx context.Context, snap *federation.Snapshot, person int64) (out []Consent, err error) {
	all, err := rm.Grants.ConsentsOf(ctx, person)
	for _, c := range all {
		if a, there := snap.ApplicationOf(c.App); there {
			one := Consent{App: string(a.Name), Title: a.Title, Scopes: c.Scopes, At: c.At}
			if side := crossing.Of(a.Side).Consenting; side != nil {
				one.Scopes = side.InWords(c.Scopes)
			}
			out = append(out, one)
		}
	}
	return out, err
}

func (rm *Room) told(ctx context.Context, snap *federation.Snapshot, person int64) (out []Told, err error) {
	rows, err := rm.Store.Uses(ctx, person)
	if err != nil {
		return nil, err
	}
	for _, r := range rows {
		a, there := snap.ApplicationOf(federation.ID(r.App))
		if !there {
			continue
		}
		one := Told{Title: a.Title, Count: r.Count, Last: r.Last}
		if len(r.Sealed) > 0 {
			plain, err := rm.Store.Open("told", r.Sealed)
			if err == nil {
				err = json.Unmarshal(plain, &one.What)
			}
			if err != nil {
				return nil, err
			}
			one.Known = true
		}
		out = append(out, one)
	}
	return out, nil
}

// End ends a session of the visitor's by the name that their page gave it, or all others at once for "". It tells how
// many ended: one that has ended already is no error.
func (rm *Room) End(ctx context.Context, v Visitor, id string) (ended int, err error) {
	here := rm.Sessions.Find(ctx, v.Token)
	if here == nil || here.Person.ID == 0 {
		return 0, nil
	}
	snap := rm.Records.Snapshot()
	all, err := rm.Sessions.Of(ctx, here.Person.ID)
	for _, s := range all {
		if err == nil && s.Lasting != here.Lasting && (id == "" || sessionOf(snap, s, false).ID == id) {
			_, err = rm.Leaving.SignOut(ctx, s)
			ended++
		}
	}
	return ended, err
}

// Withdraw takes back what the visitor agreed to for an application.
func (rm *Room) Withdraw(ctx context.Context, v Visitor, app string) error {
	here := rm.Sessions.Find(ctx, v.Token)
	if here == nil || here.Person.ID == 0 {
		return nil
	}
	_, err := rm.Grants.Withdraw(ctx, change.By{Who: fmt.Sprintf("person %d", here.Person.ID)}, app, here.Person.ID)
	if gone := (*change.NotFoundError)(nil); errors.As(err, &gone) {
		return nil // it was taken back before
	}
	return err
}
