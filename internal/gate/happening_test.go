package gate

import (
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/gate/happening"
	"innergate.example/innergate/internal/store"
)

// What happens is seen as it happens by who watches, step by step as the trace has it; one who takes nothing slows no
// sign-in, and hears how much they missed.
func TestHappeningsAreWatched(t *testing.T) {
	r := newRig(t)
	quick, ok := r.Happenings.Watch(func(h happening.Happening) bool { return h.Head.Application == "roster" })
	require.True(t, ok)
	slow, ok := r.Happenings.Watch(nil)
	require.True(t, ok)
	o := r.come("ada@wrenmoor.example")
	var seen []string
	for range 2 {
		h := <-quick.Came()
		require.Equal(t, o.Reference, h.Trace)
		for _, s := range h.Steps {
			seen = append(seen, s.(crossing.TraceStep).Name)
		}
	}
	require.Contains(t, seen, "AuthnRequest")
	require.Contains(t, seen, "Response")
	_, steps, err := r.st.Traces.Get(ctx, o.Reference)
	require.NoError(t, err)
	require.Len(t, steps, len(seen), "what is watched is what is kept")

	for range 20_000 {
		r.Happenings.Record(store.TraceHead{ID: "X", Started: r.clock.get()}, []any{crossing.TraceStep{Name: "n"}}, nil)
	}
	require.Equal(t, 256, len(slow.Came()), "whoever takes nothing holds up nobody")
	require.EqualValues(t, 2+20_000-256, slow.Missed())
	require.Zero(t, slow.Missed())
	slow.End()
	quick.End()
	for range 100 {
		_, ok := r.Happenings.Watch(nil)
		require.True(t, ok)
	}
	_, ok = r.Happenings.Watch(nil)
	require.False(t, ok, "too many watch")
}
