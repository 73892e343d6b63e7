package gate

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/gate/driving"
	"innergate.example/innergate/internal/store"
)

// orphans counts what hangs on sessions that are not there.
func (r *rig) orphans() (n int64) {
	require.NoError(r.t, r.st.Read.Raw(`SELECT (SELECT count(*) FROM issued_rows WHERE session NOT IN (SELECT CAST(lasting AS BLOB) FROM session_rows))
		+ (SELECT count(*) FROM grant_rows WHERE ended = '' AND NOT offline AND session NOT IN (SELECT lasting FROM session_rows))
		+ (SELECT count(*) FROM upstream_rows WHERE session NOT IN (SELECT lasting FROM session_rows))`).Row().Scan(&n))
	return n
}

// Whatever happens at whatever moment of a turn: an application is answered for nobody who
// may not be told of any more, and nothing is left that no sign-out reaches.
func TestNothingIsOvertaken(t *testing.T) {
	r := newRig(t)
	as := func(who string) func(*saml.Answer) { return func(a *saml.Answer) { a.NameID.Value = who } }
	for name, c := range map[string]struct {
		overtake func(b driving.Browser, id int64)
		refused  bool // at some moment the turn is refused, or begins anew
	}{
		"signed out": {func(b driving.Browser, _ int64) {
			if s := r.Leaving.Session(ctx, b.Session); s != nil {
				_, _ = r.Leaving.SignOut(ctx, s)
			}
		}, true},
		"disabled": {func(_ driving.Browser, id int64) { _, _ = r.People.Disable(ctx, tester, id) }, true},
		"removed":  {func(_ driving.Browser, id int64) { _ = r.People.Remove(ctx, tester, id) }, true},
	} {
		for _, fresh := range []bool{false, true} {
			other := 0
			for look := 1; look < 9; look++ {
				who := fmt.Sprintf("%s-%t-%d@wrenmoor.example", name, fresh, look)
				b := r.enter(as(who))
				id := r.sessions.Find(ctx, b.Session).Person.ID
				var o driving.Outcome
				var to string
				if fresh {
					o = r.request(b, func(q *saml.AuthnRequest) { q.ForceAuthn = true })
					b, to = keep(b, o), r.asked(o).ID
				}
				came := r.at(look, func() { c.overtake(b, id) })
				if fresh {
					o = r.answer(b, to, as(who))
				} else {
					o = r.request(b, nil)
				}
				if !came() {
					c.overtake(b, id)
				}
				if o.Departure == nil || o.Departure.Message != "Response" || o.Finding != nil {
					other++
				}
				require.Zero(t, r.orphans(), "%s at look %d, fresh %t", name, look, fresh)
				if name == "disabled" {
					var n int64
					require.NoError(t, r.st.Read.Model(&store.SessionRow{}).Where("person = ?", id).Count(&n).Error)
					require.Zero(t, n, "%s at look %d, fresh %t", name, look, fresh)
				}
				if name == "signed out" && !fresh {
					require.Nil(t, r.sessions.Find(ctx, b.Session), "at look %d", look)
				}
			}
			if c.refused && !(fresh && name != "disabled") {
				require.NotZero(t, other, "%s, fresh %t: at some moment it is not answered", name, fresh)
			}
		}
	}
}

// Two tabs of one browser end at once, or one after the other while its cookie is on its
// way: there is one session, and signing out ends all that was told.
func TestTwoTabsEndInOneSession(t *testing.T) {
	r := newRig(t)
	for _, before := range []bool{false, true} { // with a session that the cross-site answers do not bring along
		for look := 0; look < 8; look++ {
			who := func(a *saml.Answer) { a.NameID.Value = fmt.Sprintf("tab-%t-%d@wrenmoor.example", before, look) }
			b := driving.Browser{}
			if before {
				b = r.enter(who)
			}
			force := func(q *saml.AuthnRequest) { q.ForceAuthn = before }
			one := r.request(b, force)
			b = keep(b, one)
			two := r.request(b, force)
			b = keep(b, two)
			first, second := r.asked(one).ID, r.asked(two).ID
			post := driving.Browser{Crossings: b.Crossings} // the session's cookie does not come along
			var other driving.Outcome
			came := r.at(look, func() { other = r.answer(post, second, who) })
			done := r.answer(post, first, who)
			if !came() {
				other = r.answer(post, second, who)
			}
			require.NotNil(t, done.Departure, "%+v", done.Finding)
			require.NotNil(t, other.Departure, "%+v", other.Finding)
			var rows []store.SessionRow
			require.NoError(t, r.st.Read.Find(&rows).Error)
			require.Len(t, rows, 1, "look %d, before %t", look, before)
			b = keep(keep(b, done), other)
			s := r.Leaving.Session(ctx, b.Session)
			require.NotNil(t, s, "whichever answer came last, look %d, before %t", look, before)
			told, err := r.Leaving.SignOut(ctx, s)
			require.NoError(t, err)
			require.Zero(t, told)
			require.Zero(t, r.count(&store.IssuedRow{}))
		}
	}
}

// What an application was told stays known for as long as the session lasts, however often
// that is prolonged.
func TestIssuedFollowsTheSession(t *testing.T) {
	r := newRig(t)
	b := r.enter(nil)
	for range 3 {
		r.clock.set(r.clock.get().Add(7 * time.Hour))
		o := r.request(b, func(q *saml.AuthnRequest) { q.ForceAuthn = true })
		b = keep(b, o)
		done := r.answer(b, r.asked(o).ID, nil)
		require.NotNil(t, done.Departure)
		b = keep(b, done)
		require.NoError(t, r.st.Sweep(ctx, r.clock.get()))
	}
	require.EqualValues(t, 4, r.count(&store.IssuedRow{}), "the one of hour 0, too")
	require.EqualValues(t, 1, r.count(&store.SessionRow{}))
}

// A session that ends while it is read does not come back into memory.
func TestAnEndedSessionDoesNotComeBack(t *testing.T) {
	r := newRig(t)
	b := r.enter(nil)
	s := r.Leaving.Session(ctx, b.Session)
	for look := 1; look < 4; look++ {
		r.sessions.Clear()
		came := r.at(look, func() { _, _ = r.Leaving.SignOut(ctx, s) })
		r.sessions.Find(ctx, b.Session)
		if came() {
			require.Nil(t, r.sessions.Find(ctx, b.Session), "look %d", look)
		}
	}
}
