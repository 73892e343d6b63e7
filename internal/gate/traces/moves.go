package traces

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/policy"
	"innergate.example/innergate/internal/gate/change"
)

// foreseenWithin is how long it is looked whose entry a change decides otherwise.
const foreseenWithin = 20 * time.Second

// move is somebody whose entry to an application a change decides otherwise.
type move struct {
	person    int64
	name, app string
	what      string // of change.Affected
	cause     string
	loses     bool
	// Of somebody who enters before and after: roles that they come to hold, and those that they lose.
	gains, drops []string
}

// moves are those of all people who are known.
type moves struct {
	all     []move
	known   int
	stopped bool
}

// touched are the applications whose entry a change may decide otherwise.
func touched(before, after *federation.Snapshot) (out []federation.Name) {
	for _, a := range after.Applications() {
		old, there := before.Application(a.Name)
		if there && a.Attended() && (old.Everyone != a.Everyone || cast(old) != cast(a) || rolled(old, a) ||
			!before.Enters(a.Name, after)) {
			out = append(out, a.Name)
		}
	}
	return out
}

// rolled reports whether an application comes to be open to others, by a pilot.
func rolled(a, b *federation.Application) bool {
	return (a.Phase == federation.Pilot || b.Phase == federation.Pilot) && (a.Phase != b.Phase ||
		!slices.Equal(a.Cohort, b.Cohort))
}

// cast is what the settings of an application say of roles.
func cast(a *federation.Application) any { return [3]any{a.SentRoles, a.DefaultRole, a.RoleNeeded} }

// moves foresees, for everybody who is known, whose entry a change decides otherwise. Whoever comes for the first
// time is not among them.
func (rm *Room) moves(ctx context.Context, before, after *federation.Snapshot) (out moves, err error) {
	apps := touched(before, after)
	if len(apps) == 0 {
		return out, nil
	}
	now := rm.now()
	end := now.Add(foreseenWithin)
	var mu sync.Mutex
	var failed error
	err = rm.Each(ctx, before, mostLooked, func(r *Reach) bool {
		some, err := r.moved(after, apps, now)
		mu.Lock()
		defer mu.Unlock()
		out.known++
		out.all = append(out.all, some...)
		failed = cmp.Or(failed, err)
		out.stopped = out.stopped || rm.now().After(end)
		return failed == nil && !out.stopped
	})
	out.sort()
	return out, cmp.Or(err, failed)
}

// sort puts the worst first.
func (m *moves) sort() {
	slices.SortFunc(m.all, func(a, b move) int {
		return cmp.Or(cmp.Compare(weights[b.what], weights[a.what]), cmp.Compare(a.person, b.person),
			strings.Compare(a.app, b.app))
	})
}

var weights = map[string]int{change.BecomesShut: 4, change.BecomesHeld: 3, change.BecomesCast: 2, change.BecomesLet: 1}

// moved tells to which applications somebody's entry is decided otherwise by another configuration.
func (r *Reach) moved(after *federation.Snapshot, apps []federation.Name, now time.Time) ([]move, error) {
	then := *r
	then.snap = after
	return r.against(&then, apps, now)
}

// against tells to which applications the entry of somebody is decided otherwise than that of who they become.
func (r *Reach) against(then *Reach, apps []federation.Name, now time.Time) (out []move, err error) {
	for _, name := range apps {
		was, _ := r.snap.Application(name)
		is, _ := then.snap.Application(name)
		old, err := r.Foresee(was, now)
		if err != nil {
			return nil, err
		}
		next, err := then.Foresee(is, now)
		if err != nil {
			return nil, err
		}
		m := move{person: r.who.ID, name: person.NameOf(r.who.Person), app: string(name), what: change.BecomesHeld}
		if old.Decision != federation.Deny && next.Decision != federation.Deny {
			m.gains, m.drops = without(next.Entry, old.Entry), without(old.Entry, next.Entry)
		}
		switch {
		case old.Decision == next.Decision && len(m.gains)+len(m.drops) == 0:
			continue
		case old.Decision == next.Decision:
			m.what = change.BecomesCast
		case next.Decision == federation.Deny:
			m.what, m.loses, m.cause = change.BecomesShut, true, next.Finding.Title
		case next.Decision == federation.Allow || old.Decision == federation.Deny:
			m.what = change.BecomesLet
		}
		out = append(out, m)
	}
	return out, nil
}

// without are the roles that somebody enters with by one decision and not by another.
func without(a, b policy.Entry) (out []string) {
	other := b.RoleNames()
	for _, as := range a.RoleNames() {
		if !slices.Contains(other, as) {
			out = append(out, as)
		}
	}
	return out
}

// casts counts by role who comes to hold it and who loses it, in the order of applications and roles.
func (m moves) casts() (out []change.Cast) {
	at := map[[2]string]*change.Cast{}
	of := func(app, role string) *change.Cast {
		if at[[2]string{app, role}] == nil {
			at[[2]string{app, role}] = &change.Cast{App: app, Role: role}
		}
		return at[[2]string{app, role}]
	}
	for _, x := range m.all {
		for _, role := range x.gains {
			of(x.app, role).Gain++
		}
		for _, role := range x.drops {
			of(x.app, role).Lose++
		}
	}
	for _, c := range at {
		out = append(out, *c)
	}
	slices.SortFunc(out, func(a, b change.Cast) int {
		return cmp.Or(strings.Compare(a.App, b.App), strings.Compare(a.Role, b.Role))
	})
	return out
}

// dropping are those who lose a role, each once.
func (m moves) dropping() (out []move) {
	for _, x := range m.all {
		if len(x.drops) > 0 {
			out = append(out, x)
		}
	}
	return out
}

// beside are the moves of those whose recorded sign-ins do not tell the same already.
func (m moves) beside(got Evaluated) (out []move) {
	told := map[int64]bool{}
	for _, l := range got.Others {
		if l.weight() != 0 {
			told[l.Compared.Account] = true
		}
	}
	for _, x := range m.all {
		if !told[x.person] { // each person once, by the worst
			told[x.person] = true
			out = append(out, x)
		}
	}
	return out
}

// differences are the roles that somebody gains and loses, for people.
func (x move) differences() (out []federation.Difference) {
	if len(x.gains)+len(x.drops) > 0 {
		out = append(out, federation.Difference{Label: "Roles", Before: strings.Join(x.drops, ", "),
			After: strings.Join(x.gains, ", ")})
	}
	return out
}

// into counts moves with what recorded sign-ins came to.
func (m moves) into(out *change.Consequence, got Evaluated) {
	out.Known, out.Stopped, out.Casts = m.known, out.Stopped || m.stopped, m.casts()
	for _, x := range m.beside(got) {
		switch x.what {
		case change.BecomesShut:
			out.Shut++
		case change.BecomesHeld:
			out.Held++
		case change.BecomesCast:
			out.Cast++
		default:
			out.Let++
		}
		if len(out.People) < mostAffected {
			out.People = append(out.People, change.Affected{Person: x.person, Name: x.name, Application: x.app, What: x.what,
				Differences: x.differences()})
		}
	}
}

// Becoming is what would become of an account.
type Becoming struct {
	Person int64
	Of     func(p *person.Person)
}

// Foreseen tells to which applications entry would be decided otherwise, once accounts become other. What somebody
// loses has to be confirmed.
func (rm *Room) Foreseen(ctx context.Context, snap *federation.Snapshot, all []Becoming) (out change.Consequence,
	err error) {
	apps := deciding(snap)
	if len(apps) == 0 || len(all) == 0 {
		return out, nil
	}
	words, err := rm.allWords(ctx, snap, mostLooked)
	if err != nil {
		return out, err
	}
	got, now := moves{}, rm.now()
	for chunk := range slices.Chunk(all, pageOfPeople) {
		ids := make([]int64, len(chunk))
		become := map[int64]Becoming{}
		for i, b := range chunk {
			ids[i], become[b.Person] = b.Person, b
		}
		some, err := rm.store.People(ctx).Many(ids, "", "")
		if err != nil {
			return out, err
		}
		for _, who := range some {
			r := &Reach{snap: snap, who: who, words: words[who.ID]}
			next := *r
			become[who.ID].Of(&next.who.Person)
			moved, err := r.against(&next, apps, now)
			if err != nil {
				return out, err
			}
			got.known++
			got.all = append(got.all, moved...)
		}
		if got.stopped = rm.now().After(now.Add(foreseenWithin)); got.stopped {
			break
		}
	}
	got.sort()
	got.into(&out, Evaluated{})
	lost := crossing.Losses{}
	h := sha256.New()
	for _, m := range got.all {
		if !m.loses {
			continue
		}
		lost.Lose(fmt.Sprintf("%s at %s: %s", m.name, m.app, m.cause), m.app)
		fmt.Fprintln(h, m.person, m.app)
	}
	got.drop(&lost)
	for _, m := range got.dropping() {
		fmt.Fprintln(h, m.person, m.app, m.drops)
	}
	lost.Shut = out.Shut
	if out.Finding = lost.Finding(); out.Finding != nil {
		out.Digest = hex.EncodeToString(h.Sum(nil)[:8])
	}
	return out, nil
}

// drop notes who loses a role.
func (m moves) drop(lost *crossing.Losses) {
	for _, x := range m.dropping() {
		lost.Cast++
		lost.Lose(fmt.Sprintf("%s at %s: no longer %s", x.name, x.app, strings.Join(x.drops, ", ")), x.app)
	}
}

// deciding are the applications on whose entry something is said.
func deciding(snap *federation.Snapshot) (out []federation.Name) {
	for _, a := range snap.Applications() {
		if a.Attended() && (a.Everyone == federation.EveryoneNo || snap.Book(a.Name).Says() ||
			len(snap.Book(a.Name).Roles) > 0) {
			out = append(out, a.Name)
		}
	}
	return out
}
