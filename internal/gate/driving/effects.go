package driving

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strconv"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/trace"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/performing"
	"innergate.example/innergate/internal/gate/random"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/store"
)

// store stores the effects of a turn in one transaction.
func (t *turn) store(got crossing.Turn, r crossing.Rendered) (*writing, crossing.Effect, error) {
	w := &writing{turn: t, got: got, hold: r.Hold, person: got.Person, session: t.facts.Session}
	if got.Run != nil {
		w.session = t.facts.Rehearsed
	}
	w.before = w.session
	if err := w.prepare(got.Effects); err != nil {
		return nil, nil, err
	}
	lost, err := t.rm.performer.Store(t.ctx, t.asker(w), got.Effects)
	return w, lost, err
}

// cookieLife is how long a browser keeps the cookie of a session: longer than that lasts by
// itself, for it is prolonged by sign-ins which the cookie does not come along with.
const cookieLife = 30 * 24 * time.Hour

// writing is one transaction of a turn.
type writing struct {
	*turn
	got     crossing.Turn
	hold    *crossing.Hold
	person  person.Person     // who enters, also when they are made here
	cookies []Cookie          // that the browser gets by it
	session *crossing.Session // that the application is told of
	before  *crossing.Session // that there was
	fresh   bool              // the session is stored in this turn
	entrant person.Person     // whose it is, as it was decided
	record  record            // as it is kept
	dropped []string          // crossings that had to make room
	tied    bool              // the crossing was ended in the session
	let     map[int64]bool    // who was seen to be let in still, within the transaction
	stands  bool              // so was the session
}

// Again begins anew: the transaction may be run again.
func (w *writing) Again() {
	if w.person = w.got.Person; w.fresh {
		w.session.Person = w.entrant
	}
	w.tied, w.stands, w.let = false, false, nil
}

// prepare makes what has to be made once, however often the transaction is run.
func (w *writing) prepare(effects []crossing.Effect) error {
	for _, e := range effects {
		switch e := e.(type) {
		case crossing.Keep:
			w.record = record{State: w.got.State.Resting(), Reference: w.began.Reference}
			if w.record.Reference == "" {
				w.record.Reference = w.reference
			}
			if len(w.record.State.Browser.Secret) == 0 {
				value, hash := newCookie(w.rm.now())
				w.record.State.Browser.Secret = hash
				w.cookies = append(w.browser.surplus(), Cookie{Crossing: w.record.State.ID, Value: value,
					Life: crossing.PauseLife})
			}
			if w.began.State.ID != w.record.State.ID {
				var err error
				if w.dropped, err = w.rm.crossings.admit(w.record.State.Browser.Network); err != nil {
					return err
				}
			}
		case crossing.PutSession:
			s := e.Session
			s.Revision = e.Revision + 1
			switch w.fresh = true; {
			case s.Run != "": // no cookie names it: the browser is marked for its run
				s.Ref, s.Presented = string(store.Hash(random.Text(32))), false
			case e.Rename:
				token := random.Text(32)
				s.Ref, s.Presented = string(store.Hash(token)), false
				w.cookies = append(w.cookies, Cookie{Value: token,
					Life: max(cookieLife, s.Expires.Sub(w.rm.now()))})
			default:
				s.Ref = w.facts.Session.Ref
			}
			w.session, w.entrant = &s, s.Person
		}
	}
	return nil
}

// stores says how what crossings have stored is stored.
func (rm *Room) stores(p *performing.Performer) {
	performing.Notes(p, func(_ context.Context, a *performing.Asker, e crossing.Tried) {
		rm.tries.Fail(TriesKey(e.Key, a.Network), rm.now())
	})
	performing.Notes(p, func(ctx context.Context, _ *performing.Asker, e crossing.Moved) { rm.moved(ctx, e.App) })
	stores(p, (*writing).keep)
	stores(p, (*writing).end)
	performing.Stores(p, rm.once)
	stores(p, (*writing).change)
	stores(p, (*writing).putSession)
	stores(p, (*writing).issued)
	stores(p, (*writing).give)
	stores(p, (*writing).entered)
	stores(p, (*writing).putUpstream)
	stores(p, (*writing).putConsent)
	stores(p, (*writing).holdMessage)
	performing.Stores(p, func(s *performing.Storing, e crossing.Queue) error { return rm.outbox.Put(s.Tx, e) })
	stores(p, (*writing).requestEntry)
}

// stores has a kind of effects stored that only crossings have.
func stores[E crossing.Effect](p *performing.Performer, do func(*writing, *performing.Storing, E) error) {
	performing.Stores(p, func(s *performing.Storing, e E) error { return do(s.Turn.(*writing), s, e) })
}

// end ends the crossing.
func (w *writing) end(s *performing.Storing, e crossing.End) error {
	into := ""
	if w.fresh {
		into, w.tied = w.session.Lasting, true
	}
	first, err := store.EndCrossing(s.Tx, w.got.State.ID, into)
	if err == nil && !first {
		return performing.Lost(e)
	}
	s.After(func() {
		lasting := ""
		if w.session != nil {
			lasting = w.session.Lasting
		}
		w.rm.crossings.ended(w.got.State.ID, lasting)
	})
	return err
}

// once consumes what counts once. Where a crossing found it used before, it is refused for that already.
func (rm *Room) once(s *performing.Storing, e crossing.Once) error {
	err := store.PutUsed(s.Tx, UsedKey(e), e.Until)
	if !store.IsTaken(err) {
		return err
	}
	if w, is := s.Turn.(*writing); is && w.used() {
		return nil
	}
	return performing.Lost(e)
}

// putUpstream keeps what a provider gave with its word.
func (w *writing) putUpstream(s *performing.Storing, e crossing.PutUpstream) error {
	if err := w.holds(s.Tx, e); err != nil {
		return err
	}
	return w.rm.sessions.PutUpstream(s.Tx, w.session.Lasting, e.Provider, e.Upstream, w.session.Expires)
}

// putConsent remembers what the person agreed to.
func (w *writing) putConsent(s *performing.Storing, e crossing.PutConsent) error {
	return w.known(s.Tx, e, func() error { return w.rm.grants.Agree(s.Tx, e.App, w.person.ID, e.Scopes) })
}

// holdMessage keeps the message for a back channel.
func (w *writing) holdMessage(s *performing.Storing, e crossing.HoldMessage) error {
	h := w.hold
	return s.Tx.Create(&store.HeldRow{Hash: store.Hash(h.Key), Application: string(e.App), Expires: h.Until.UTC(),
		Sealed: w.rm.store.Seal("held", h.Octets)}).Error
}

// requestEntry has somebody ask for entry.
func (w *writing) requestEntry(s *performing.Storing, e crossing.RequestEntry) error {
	return w.known(s.Tx, e, func() error {
		made, err := w.rm.requests.Ask(s.Tx, e.App, w.person.ID)
		if person := w.person.ID; made {
			s.After(func() { w.rm.requests.Tell(e.App, person) })
		}
		return err
	})
}

// known does what is about somebody with an account, if they may be let in still.
func (w *writing) known(tx *gorm.DB, e crossing.Effect, do func() error) error {
	ok, err := w.welcome(tx, w.person.ID)
	if err == nil && !ok {
		return performing.Lost(e)
	}
	if err != nil {
		return err
	}
	return do()
}

// used reports whether it was found to be used before.
func (w *writing) used() bool {
	used, _ := crossing.Fact(w.facts, crossing.WasUsed{})
	return used
}

// UsedKey is by what it is known that something was used that counts once.
func UsedKey(e crossing.Once) []byte { return store.Hash(string(e.Provider) + "\x1f" + e.ID) }

// keep stores the state for the next turn.
func (w *writing) keep(s *performing.Storing, e crossing.Keep) error {
	tx, r := s.Tx, w.record
	r.State.Kept = true
	plain, err := json.Marshal(r)
	if err != nil {
		return err
	}
	n := len(plain)
	row := store.CrossingRow{ID: r.State.ID, Expires: r.State.Expires(), Turns: r.State.Turns,
		Sealed: w.rm.store.Seal("crossing", plain)}
	if w.got.State.Kept {
		kept, failed := store.KeepCrossing(tx, row, w.turns)
		if failed == nil && !kept {
			return performing.Lost(e)
		}
		err = failed
	} else {
		err = store.PutCrossing(tx, row)
	}
	if err == nil && len(w.dropped) > 0 {
		err = tx.Where("id IN ?", w.dropped).Delete(&store.CrossingRow{}).Error
	}
	s.After(func() {
		w.rm.crossings.put(r, n)
		w.turns = r.State.Turns
	})
	return err
}

// change stores what becomes of the person.
func (w *writing) change(s *performing.Storing, e crossing.ChangePerson) error {
	made, without, err := w.rm.records.MakeGroups(s.Tx, change.By{Who: "sign-in"}, e.Make)
	if err != nil {
		return err
	}
	s.After(func() { w.rm.records.Made(made) })
	if f := e.Follow; f != nil && len(without) > 0 {
		e.Follow = &person.Following{From: f.From, Groups: slices.DeleteFunc(slices.Clone(f.Groups),
			func(n federation.Name) bool { return slices.Contains(without, n) })}
	}
	w.let = nil
	done, err := w.rm.people.Apply(w.rm.store.In(s.Tx), e.Change)
	var lost *person.LostError
	if errors.As(err, &lost) {
		e.Lost = lost.Guard
		return performing.Lost(e)
	}
	if err == nil && e.Person == 0 {
		w.person.ID, w.person.Identifier = done[0].Person, e.Identifier
	}
	if err == nil && e.Person == 0 && e.Run != "" {
		run, _ := strconv.ParseInt(e.Run, 10, 64)
		err = w.rm.store.NoteMade(s.Tx, store.MadeRow{Person: w.person.ID, Run: run, At: w.rm.now().UTC()})
	}
	return err
}

// welcome reports whether somebody may still be let in: they are there, and not disabled.
// Whoever has no account is.
func (w *writing) welcome(tx *gorm.DB, person int64) (bool, error) {
	if person == 0 || w.let[person] {
		return true, nil
	}
	ok, err := store.Welcome(tx, person)
	if ok {
		w.let = map[int64]bool{person: true}
	}
	return ok, err
}

// holds is the guard of what hangs on the session: it is there, and its person may be let in.
func (w *writing) holds(tx *gorm.DB, e crossing.Effect) error {
	if w.session == nil {
		return performing.Lost(e)
	}
	if !w.stands {
		stands, err := store.SessionStands(tx, w.session.Lasting, w.rm.now())
		if err == nil && !stands {
			return performing.Lost(e)
		}
		if err != nil {
			return err
		}
		w.stands = true
	}
	ok, err := w.welcome(tx, w.person.ID)
	if err == nil && !ok {
		return performing.Lost(e)
	}
	return err
}

// putSession gives the browser a session in place of the one it had.
func (w *writing) putSession(in *performing.Storing, e crossing.PutSession) error {
	s, tx := w.session, in.Tx
	if s.Person.ID == 0 && s.Person.Key != "" {
		s.Person.ID, s.Person.Identifier = w.person.ID, w.person.Identifier
	}
	as, err := w.overtaken(tx, e)
	if err == nil && as {
		return performing.Lost(e)
	}
	if err != nil {
		return err
	}
	if s.Run != "" {
		holds, after, err := w.rm.rehearsals.Hold(tx, s.Run, s.Lasting)
		if err != nil || !holds {
			return cmp.Or(err, performing.Lost(e))
		}
		in.After(after)
	}
	row, err := w.rm.sessions.Row(s)
	if err != nil {
		return err
	}
	if e.Old != "" && e.Same {
		err = w.prolong(tx, row)
	} else {
		if e.Old != "" {
			_, err = w.rm.leaving.End(tx, w.before)
			in.After(w.rm.outbox.Wake)
		}
		if err == nil {
			err = store.PutSession(tx, row)
		}
	}
	if w.stands = err == nil && s.Expires.After(w.rm.now()); err == nil && !w.tied {
		err = store.TieCrossing(tx, w.got.State.ID, s.Lasting)
	}
	in.After(func() {
		if old := w.before; old != nil && old.Ref != s.Ref {
			w.rm.sessions.Drop(old.Ref)
		}
		w.rm.sessions.Put(s, row)
	})
	return err
}

// overtaken reports whether the session that was decided on is another one by now, or the
// person may not be let in any more.
func (w *writing) overtaken(tx *gorm.DB, e crossing.PutSession) (bool, error) {
	if ok, err := w.welcome(tx, w.session.Person.ID); err != nil || !ok {
		return true, err
	}
	var n int64
	if e.Old != "" {
		err := tx.Model(&store.SessionRow{}).Where("lasting = ? AND revision = ?", e.Old, e.Revision).Count(&n).Error
		return n == 0, err
	}
	mine := slices.DeleteFunc(w.rm.crossings.of(w.browser, w.rm.now()),
		func(id string) bool { return id == w.got.State.ID })
	if len(mine) == 0 || w.session.Run != "" {
		return false, nil
	}
	err := tx.Table("crossing_rows c").Joins("JOIN session_rows s ON s.lasting = c.session").
		Where("c.id IN ? AND s.run = '' AND s.expires > ?", mine, w.rm.now().UTC()).Count(&n).Error
	return n > 0, err
}

// prolong stores the session in place of that of before, and has what hangs on it last as
// long.
func (w *writing) prolong(tx *gorm.DB, row *store.SessionRow) error {
	done := tx.Model(&store.SessionRow{}).Where("lasting = ?", row.Lasting).Updates(map[string]any{"hash": row.Hash,
		"provider": row.Provider, "expires": row.Expires, "sealed": row.Sealed, "used": row.Used, "revision": row.Revision})
	return errors.Join(done.Error,
		tx.Model(&store.IssuedRow{}).Where("session = ?", []byte(row.Lasting)).Update("expires", row.Expires).Error,
		tx.Model(&store.UpstreamRow{}).Where("session = ? AND expires < ?", row.Lasting,
			row.Expires).Update("expires", row.Expires).Error,
		w.rm.grants.Extend(tx, row.Lasting, row.Expires))
}

// give keeps the grant that goes with the message.
func (w *writing) give(s *performing.Storing, e crossing.Give) error {
	if err := w.holds(s.Tx, e); err != nil {
		return err
	}
	e.Grant.Person = w.person.ID
	reference := cmp.Or(w.began.Reference, w.reference)
	return w.rm.grants.Put(s.Tx, crossing.Granted{Grant: e.Grant, Word: e.Word, Trace: reference, Run: e.Run},
		w.session.Expires)
}

// issued remembers what the application was told within the session, for
// sign-out.
func (w *writing) issued(s *performing.Storing, e crossing.Issued) error {
	if err := w.holds(s.Tx, e); err != nil || e.Name == nil {
		return err
	}
	name, err := json.Marshal(e.Name)
	if err != nil {
		return err
	}
	if e.Once {
		if err := s.Tx.Where("session = ? AND application = ? AND session_index = ?", []byte(w.session.Lasting),
			string(e.App), e.Session).Delete(&store.IssuedRow{}).Error; err != nil {
			return err
		}
	}
	return store.PutIssued(s.Tx, store.IssuedRow{Session: []byte(w.session.Lasting), Application: string(e.App),
		SessionIndex: e.Session, Sealed: w.rm.store.Seal("issued", name), At: w.rm.now(), Expires: w.session.Expires})
}

// mostTold is how many octets are kept of what an application was told of somebody.
const mostTold = 16 << 10

// entered counts an entry, and keeps what the application was told.
func (w *writing) entered(s *performing.Storing, e crossing.Enter) error {
	return w.known(s.Tx, e, func() error { return w.counted(s.Tx, e) })
}

func (w *writing) counted(tx *gorm.DB, e crossing.Enter) error {
	row := store.UseRow{Person: w.person.ID, App: string(e.App), Last: w.rm.now(), Sealed: []byte{}}
	if row.Person == 0 {
		return nil
	}
	veil := trace.NewVeil(w.snap, w.got.About.Application, w.got.About.Provider)
	plain, err := json.Marshal(veil.Delivered(e.Told, w.got.Person))
	if err != nil {
		return err
	}
	if len(plain) <= mostTold {
		row.Sealed = w.rm.store.Seal("told", plain)
	}
	return errors.Join(w.rm.store.NoteUse(tx, row), w.rm.store.Unmark(tx, row.Person))
}

// moving is implemented by sides that leave an address which applications share.
type moving interface {
	HasMoved() federation.ApplicationSide
}

// moved notes that an application has come by an address of its own. It is state,
// so that no revision is made; if it fails, the next request tries again.
func (rm *Room) moved(ctx context.Context, name federation.Name) {
	// The next sign-in notes it if somebody changes the configuration now: no one waits for that.
	_, err := rm.records.ChangeIfFree(ctx, change.By{}, func(now *federation.Snapshot) (records.Plan, error) {
		app, ok := now.Application(name)
		if !ok {
			return records.Plan{}, nil
		}
		side, ok := app.Side.(moving)
		if !ok {
			return records.Plan{}, nil
		}
		b := app.Copy()
		federation.Replace(b, side.HasMoved())
		return records.Plan{Put: []records.Put{{Object: b, Quiet: true, Judged: true}}}, nil
	})
	if err != nil {
		rm.log.Error("that an application has moved cannot be stored", "application", name, "error", err)
	}
}

// waited is since when a crossing that still waits is over.
func waited(now time.Time) time.Time { return now.Add(-crossing.Life - time.Minute) }
