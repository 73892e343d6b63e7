package change_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/gate/change"
)

func TestConsequencesOfSeveralRooms(t *testing.T) {
	asks := func(digest string) change.Consequence {
		return change.Consequence{Looked: 2, Shut: 1, Finding: finding.New(finding.NamesChange, finding.Fact("People", "1")),
			Digest: digest,
			People: []change.Affected{{Name: digest}}}
	}
	one, two, none := asks("a"), asks("b"), change.Consequence{}
	require.Equal(t, one, one.And(none))
	require.Equal(t, one, none.And(one))
	both := one.And(two)
	require.Equal(t, 4, both.Looked)
	require.Equal(t, 2, both.Shut)
	require.Len(t, both.People, 2)
	require.Len(t, both.Finding.Evidence, 2)
	require.NotContains(t, []string{"a", "b", ""}, both.Digest,
		"what one room asks about does not confirm what another asks")
	quiet := change.Consequence{Looked: 1}
	require.Equal(t, "a", one.And(quiet).Digest)
	require.Equal(t, "a", quiet.And(one).Digest)
}

func TestWhatIsDoneIsWhatWasLookedAt(t *testing.T) {
	now := change.Digest("x", 7)
	require.NoError(t, change.Seen(now, now, "moved"))
	require.ErrorContains(t, change.Seen("", now, "moved"), "digest")
	require.ErrorContains(t, change.Seen(change.Digest("x", 8), now, "it has moved"), "it has moved")
	require.NotEqual(t, change.Digest("a b"), change.Digest("a", "b"))
}
