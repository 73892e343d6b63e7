package sessions

import (
	"fmt"
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/store"
)

// What is in memory of sessions is bounded in octets; one that fell out of it is read again, and is over when it is.
func TestSessionsInMemoryAreBounded(t *testing.T) {
	dir, now := t.TempDir(), time.Now()
	st, err := store.Open(dir, filepath.Join(dir, "seal.key"), store.TraceLimits{}, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(func() { _ = st.Close() })
	rm := New(st, slog.New(slog.DiscardHandler), func() time.Time { return now }, time.Hour)
	put := func(token string, keep bool) {
		s := &crossing.Session{Ref: string(store.Hash(token)), Lasting: "lasting " + token, Person: person.Person{ID: 7},
			Began: now, Expires: now.Add(8 * time.Hour)}
		row, err := rm.Row(s)
		require.NoError(t, err)
		if keep {
			require.NoError(t, st.Write(t.Context(), func(tx *gorm.DB) error { return store.PutSession(tx, row) }))
		}
		rm.Put(s, row)
	}
	in := func(token string) bool { return rm.new[string(store.Hash(token))] != nil }
	put("first", true)
	put("second", true)
	for i := range 2 * most / 1200 {
		put(fmt.Sprint("other-", i), false)
		if i%1000 == 0 {
			require.NotNil(t, rm.Find(t.Context(), "second"))
		}
	}
	require.Less(t, (len(rm.new)+len(rm.old))*1200, most)
	require.True(t, in("second"), "who comes stays")
	require.False(t, in("first"))
	require.Equal(t, int64(7), rm.Find(t.Context(), "first").Person.ID, "and who comes again is read again")
	require.True(t, in("first"))

	now = now.Add(time.Hour + time.Second)
	require.Nil(t, rm.Find(t.Context(), "first"), "nobody came with it for too long")
	rm.Sweep(now)
	require.Empty(t, rm.new)
	require.Empty(t, rm.old)
	require.Zero(t, rm.octets)
	require.Nil(t, rm.Find(t.Context(), "first"), "which the store knows, too")
}
