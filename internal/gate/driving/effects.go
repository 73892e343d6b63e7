package driving

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/trace"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/random"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/store"
)

// lostError says that the guard of an effect failed; the transaction is undone.
type lostError struct{ effect crossing.Effect }

// Error names nothing: whoever drives tells the core.
func (*lostError) Error() string { return "the guard of an effect failed" }

// store stores the effects of a turn in one transaction.
func (t *turn) store(got crossing.Turn, r crossing.Rendered, s *stored) (crossing.Effect, error) {
	w := &writing{turn: t, got: got, rendered: r, made: s, session: t.facts.Session}
	var inside []crossing.Effect
	for _, e := range got.Effects {
		switch e := e.(type) {
		case crossing.Tried:
			t.rm.tries.Fail(TriesKey(e.Key, t.event.Browser.Network), t.rm.now())
		case crossing.Moved:
			t.rm.moved(t.ctx, e.App)
		default:
			inside = append(inside, e)
		}
	}
	if err := w.prepare(inside); err != nil {
		return nil, err
	}
	if len(inside) == 0 {
		return nil, nil
	}
	person := s.person
	err := t.rm.store.Write(t.ctx, func(tx *gorm.DB) error {
		s.after, s.person = nil, person // it may be run again
		if w.fresh {
			w.session.Person = w.entrant
		}
		for _, e := range inside {
			if err := w.write(tx, e); err != nil {
				return err
			}
		}
		return nil
	})
	var lost *lostError
	if errors.As(err, &lost) {
		return lost.effect, nil
	}
	return nil, err
}

// cookieLife is how long a browser keeps the cookie of a session: longer than that lasts by
// itself, for it is prolonged by sign-ins which the cookie does not come along with.
const cookieLife = 30 * 24 * time.Hour

// writing is one transaction of a turn.
type writing struct {
	*turn
	got      crossing.Turn
	rendered crossing.Rendered
	made     *stored
	session  *crossing.Session // that the application is told of
	fresh    bool              // the session is stored in this turn
	entrant  person.Person     // whose it is, as it was decided
	record   record            // as it is kept
	dropped  []string          // crossings that had to make room
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
				w.made.cookies = append(w.browser.surplus(), Cookie{Crossing: w.record.State.ID, Value: value,
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
			if w.fresh = true; e.Rename {
				token := random.Text(32)
				s.Ref, s.Presented = string(store.Hash(token)), false
				w.made.cookies = append(w.made.cookies, Cookie{Value: token,
					Life: max(cookieLife, s.Expires.Sub(w.rm.now()))})
			} else {
				s.Ref = w.facts.Session.Ref
			}
			w.session, w.entrant = &s, s.Person
		}
	}
	return nil
}

// write does one effect.
func (w *writing) write(tx *gorm.DB, e crossing.Effect) error {
	switch e := e.(type) {
	case crossing.Keep:
		return w.keep(tx)
	case crossing.End:
		done := tx.Model(&store.CrossingRow{}).Where("id = ? AND ended = ?", w.got.State.ID, false).Update("ended", true)
		if done.Error == nil && done.RowsAffected != 1 {
			return &lostError{e}
		}
		w.after(func() {
			lasting := ""
			if w.session != nil {
				lasting = w.session.Lasting
			}
			w.rm.crossings.ended(w.got.State.ID, lasting)
		})
		return done.Error
	case crossing.Once:
		err := tx.Create(&store.UsedRow{Key: UsedKey(e), Until: e.Until.UTC()}).Error
		if !store.IsTaken(err) {
			return err
		}
		if w.used() {
			return nil // it is refused for that already
		}
		return &lostError{e}
	case crossing.ChangePerson:
		return w.change(tx, e)
	case crossing.PutSession:
		return w.putSession(tx, e)
	case crossing.Issued:
		return w.issued(tx, e)
	case crossing.Give:
		return w.give(tx, e)
	case crossing.Enter:
		return w.known(tx, e, func() error { return w.entered(tx, e) })
	case crossing.PutUpstream:
		if err := w.holds(tx, e); err != nil {
			return err
		}
		return w.rm.sessions.PutUpstream(tx, w.session.Lasting, e.Provider, e.Upstream, w.session.Expires)
	case crossing.PutConsent:
		return w.known(tx, e, func() error { return w.rm.grants.Agree(tx, e.App, w.personID(), e.Scopes) })
	case crossing.HoldMessage:
		h := w.rendered.Hold
		if h == nil {
			return nil
		}
		return tx.Create(&store.HeldRow{Hash: store.Hash(h.Key), Application: string(e.App), Expires: h.Until.UTC(),
			Sealed: w.rm.store.Seal("held", h.Octets)}).Error
	case crossing.Queue:
		return w.rm.outbox.Put(tx, e)
	case crossing.RequestEntry:
		return w.known(tx, e, func() error {
			made, err := w.rm.requests.Ask(tx, e.App, w.personID())
			if person := w.personID(); made {
				w.after(func() { w.rm.requests.Tell(e.App, person) })
			}
			return err
		})
	}
	return errors.New("an effect is not known")
}

// known does what is about somebody with an account, if they may be let in still.
func (w *writing) known(tx *gorm.DB, e crossing.Effect, do func() error) error {
	ok, err := w.welcome(tx, w.personID())
	if err == nil && !ok {
		return &lostError{e}
	}
	if err != nil {
		return err
	}
	return do()
}

func (w *writing) after(do func()) { w.made.after = append(w.made.after, do) }

// used reports whether it was found to be used before.
func (w *writing) used() bool {
	used, _ := crossing.Fact(w.facts, crossing.WasUsed{})
	return used
}

// UsedKey is by what it is known that something was used that counts once.
func UsedKey(e crossing.Once) []byte { return store.Hash(string(e.Provider) + "\x1f" + e.ID) }

// keep stores the state for the next turn.
func (w *writing) keep(tx *gorm.DB) error {
	r := w.record
	r.State.Kept = true
	plain, err := json.Marshal(r)
	if err != nil {
		return err
	}
	sealed, n := w.rm.store.Seal("crossing", plain), len(plain)
	if w.got.State.Kept {
		done := tx.Model(&store.CrossingRow{}).Where("id = ? AND ended = ? AND turns = ?", r.State.ID, false,
			w.turns).
			Updates(map[string]any{"turns": r.State.Turns, "sealed": sealed})
		if done.Error == nil && done.RowsAffected != 1 {
			return &lostError{crossing.Keep{}}
		}
		err = done.Error
	} else {
		err = tx.Create(&store.CrossingRow{ID: r.State.ID, Expires: r.State.Expires().UTC(), Turns: r.State.Turns,
			Sealed: sealed}).Error
	}
	if err == nil && len(w.dropped) > 0 {
		err = tx.Where("id IN ?", w.dropped).Delete(&store.CrossingRow{}).Error
	}
	w.after(func() {
		w.rm.crossings.put(r, n)
		w.turns = r.State.Turns
	})
	return err
}

// change stores what becomes of the person.
func (w *writing) change(tx *gorm.DB, e crossing.ChangePerson) error {
	made, without, err := w.rm.records.MakeGroups(tx, change.By{Who: "sign-in"}, e.Make)
	if err != nil {
		return err
	}
	w.after(func() { w.rm.records.Made(made) })
	if f := e.Follow; f != nil && len(without) > 0 {
		e.Follow = &person.Following{From: f.From, Groups: slices.DeleteFunc(slices.Clone(f.Groups),
			func(n federation.Name) bool { return slices.Contains(without, n) })}
	}
	if e.Person == 0 {
		e.Identifier = w.made.person.Identifier
	}
	if e.Settle != "" && w.rendered.Subject != "" {
		e.Known = []person.Subject{{App: e.Settle, Value: w.rendered.Subject, Source: person.SubjectDerived}}
	}
	done, err := w.rm.people.Apply(w.rm.store.In(tx), e.Change)
	var lost *person.LostError
	if errors.As(err, &lost) {
		e.Lost = lost.Guard
		return &lostError{e}
	}
	if err == nil && e.Person == 0 {
		w.made.person.ID = done[0].Person
	}
	return err
}

// welcome reports whether somebody may still be let in: they are there, and not disabled.
// Whoever has no account is.
func (w *writing) welcome(tx *gorm.DB, person int64) (bool, error) {
	if person == 0 {
		return true, nil
	}
	var n int64
	err := tx.Model(&store.PersonRow{}).Where("id = ? AND disabled IS NULL", person).Count(&n).Error
	return n == 1, err
}

// holds is the guard of what hangs on the session: it is there, and its person may be let in.
func (w *writing) holds(tx *gorm.DB, e crossing.Effect) error {
	if w.session == nil {
		return &lostError{e}
	}
	var n int64
	err := tx.Model(&store.SessionRow{}).Where("lasting = ? AND expires > ?", w.session.Lasting,
		w.rm.now().UTC()).Count(&n).Error
	if err == nil && n == 0 {
		return &lostError{e}
	}
	ok := false
	if err == nil {
		ok, err = w.welcome(tx, w.personID())
	}
	if err == nil && !ok {
		return &lostError{e}
	}
	return err
}

// putSession gives the browser a session in place of the one it had.
func (w *writing) putSession(tx *gorm.DB, e crossing.PutSession) error {
	s := w.session
	if s.Person.ID == 0 && s.Person.Key != "" {
		s.Person.ID, s.Person.Identifier = w.made.person.ID, w.made.person.Identifier
	}
	as, err := w.overtaken(tx, e)
	if err == nil && as {
		return &lostError{e}
	}
	if err != nil {
		return err
	}
	row, err := w.rm.sessions.Row(s)
	if err != nil {
		return err
	}
	if e.Old != "" && e.Same {
		err = w.prolong(tx, row)
	} else {
		if e.Old != "" {
			_, err = w.rm.leaving.End(tx, w.facts.Session)
			w.after(w.rm.outbox.Wake)
		}
		if err == nil {
			err = tx.Create(row).Error
		}
	}
	if err == nil {
		err = tx.Model(&store.CrossingRow{}).Where("id = ?", w.got.State.ID).Update("session", s.Lasting).Error
	}
	w.after(func() {
		if old := w.facts.Session; old != nil && old.Ref != s.Ref {
			w.rm.sessions.Drop(old.Ref)
		}
		w.rm.sessions.Put(s)
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
	mine := w.rm.crossings.of(w.browser, w.rm.now())
	if len(mine) == 0 {
		return false, nil
	}
	err := tx.Table("crossing_rows c").Joins("JOIN session_rows s ON s.lasting = c.session").
		Where("c.id IN ? AND s.expires > ?", mine, w.rm.now().UTC()).Count(&n).Error
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

// personID is who enters, also when they are made in this turn.
func (w *writing) personID() int64 {
	if w.made.person.ID != 0 {
		return w.made.person.ID
	}
	return w.got.Person.ID
}

// give keeps the grant that was made with the message.
func (w *writing) give(tx *gorm.DB, e crossing.Give) error {
	if err := w.holds(tx, e); err != nil || w.rendered.Grant == nil {
		return err
	}
	g := *w.rendered.Grant
	g.Person = w.personID()
	reference := w.began.Reference
	if reference == "" {
		reference = w.reference
	}
	return w.rm.grants.Put(tx, crossing.Granted{Grant: g, Word: e.Word, Trace: reference}, w.session.Expires)
}

// issued remembers what the application was told within the session, for
// sign-out.
func (w *writing) issued(tx *gorm.DB, e crossing.Issued) error {
	if w.rendered.Name == nil {
		return w.holds(tx, e)
	}
	if err := w.holds(tx, e); err != nil {
		return err
	}
	name, err := json.Marshal(w.rendered.Name)
	if err != nil {
		return err
	}
	if w.rendered.Grant != nil { // it is told the same again: once is enough
		if err := tx.Where("session = ? AND application = ? AND session_index = ?", []byte(w.session.Lasting),
			string(e.App),
			w.rendered.Session).Delete(&store.IssuedRow{}).Error; err != nil {
			return err
		}
	}
	return tx.Create(&store.IssuedRow{Session: []byte(w.session.Lasting), Application: string(e.App),
		SessionIndex: w.rendered.Session,
		Sealed:       w.rm.store.Seal("issued", name), At: w.rm.now().UTC(), Expires: w.session.Expires.UTC()}).Error
}

// mostTold is how many octets are kept of what an application was told of somebody.
const mostTold = 16 << 10

// entered counts an entry, and keeps what the application was told.
func (w *writing) entered(tx *gorm.DB, e crossing.Enter) error {
	row := store.UseRow{Person: w.personID(), App: string(e.App), Last: w.rm.now(), Sealed: []byte{}}
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
	return w.rm.store.NoteUse(tx, row)
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
