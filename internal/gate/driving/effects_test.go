package driving

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/gate/grants"
	"innergate.example/innergate/internal/gate/people"
	"innergate.example/innergate/internal/gate/performing"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/sessions"
	"innergate.example/innergate/internal/store"
)

// Each effect has a guard that fails where what it was decided on is no more, or nothing
// could overtake it.
func TestEveryEffectIsGuarded(t *testing.T) {
	dir, now := t.TempDir(), time.Now()
	clock := func() time.Time { return now }
	st, err := store.Open(filepath.Join(dir, "data"), filepath.Join(dir, "seal.key"), store.TraceLimits{Keep: 10},
		slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer st.Close()
	rm := &Room{store: st, now: clock, people: people.New(people.Parts{Store: st, Now: clock, Records: &records.Room{}}),
		sessions: sessions.New(st, slog.New(slog.DiscardHandler), clock, 0),
		grants:   grants.New(st, clock, nil), tries: nil}
	rm.Performs(performing.New(st))
	rm.crossings, err = loadPlaces(st, now)
	require.NoError(t, err)
	link := []person.Link{{Provider: "p", Key: "key"}}
	number := person.KeptValue{Proofs: []person.Proof{person.ByEngineer}}
	number.Name, number.Attribute.Values = "employeeNumber", profile.Texts("W-1")
	require.NoError(t, st.Write(context.Background(), func(tx *gorm.DB) error { // somebody disabled, who has the number
		return errors.Join(tx.Create(&store.PersonRow{ID: 1, Identifier: "i", Disabled: &now}).Error,
			st.In(tx).People().EnsureIndexed(1, []person.KeptValue{number}),
			tx.Create(&store.UsedRow{Key: store.Hash("p\x1fused"), Until: now.Add(time.Hour)}).Error)
	}))
	var guards []person.Guard
	changes := func(g person.Guard, c person.Change) crossing.Effect {
		guards = append(guards, g)
		return crossing.ChangePerson{Change: c}
	}
	guarded := []crossing.Effect{
		changes(person.GuardValue, person.Change{Link: link, Unless: []person.Sought{{Attribute: "employeeNumber",
			Value: "W-1"}}}),
		changes(person.GuardValue, person.Change{Person: 1, Link: link, Has: &person.Sought{Attribute: "employeeNumber",
			Value: "W-2"}}),
		changes(person.GuardWelcome, person.Change{Person: 1, Welcome: true, Values: &person.PutValues{From: "p"}}),
		changes(person.GuardRevision, person.Change{Person: 1, Revision: 7}), changes(person.GuardThere,
			person.Change{Person: 2}),
		changes(person.GuardLink, person.Change{Person: 1, Name: &link[0]}),
		crossing.PutSession{Old: "gone", Rename: true, Session: crossing.Session{Lasting: "gone"}},
		crossing.RequestEntry{App: "a"}, crossing.Enter{App: "a"}, crossing.Issued{App: "a"}, crossing.Give{},
		crossing.PutConsent{App: "a"}, crossing.PutUpstream{Provider: "p"},
		crossing.End{}, crossing.Keep{}, crossing.Once{Provider: "p", ID: "used", Until: now.Add(time.Hour)},
	}
	free := map[string]string{"HoldMessage": "its key is random",
		"Queue": "it adds one", "Moved": "it is true from then on", "Tried": "it counts"}
	var names []string
	for i, e := range guarded {
		names = append(names, strings.TrimPrefix(fmt.Sprintf("%T", e), "crossing."))
		got := crossing.Turn{State: crossing.State{ID: "c", Kept: true}, Person: person.Person{ID: 1, Key: "key"},
			Effects: []crossing.Effect{e}}
		one := &turn{rm: rm, ctx: context.Background(), snap: &federation.Snapshot{},
			facts: crossing.Facts{Session: &crossing.Session{Lasting: "gone", Person: got.Person}}}
		_, lost, err := one.store(got, crossing.Rendered{})
		require.NoError(t, err, "%T", e)
		require.IsType(t, e, lost, "it is overtaken, and nothing says so")
		if c, is := e.(crossing.ChangePerson); is {
			require.Equal(t, guards[i], lost.(crossing.ChangePerson).Lost, "%+v", c.Change)
		}
	}
	source, err := os.ReadFile("../../core/crossing/next.go")
	require.NoError(t, err)
	for _, m := range regexp.MustCompile(`func \((\w+)\) Effect\(\)`).FindAllStringSubmatch(string(source), -1) {
		require.True(t, free[m[1]] != "" || slices.Contains(names, m[1]),
			"%s has neither a guard here nor a reason why it needs none", m[1])
	}
}
