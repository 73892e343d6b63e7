package cli

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/nearword"
)

func TestTableKeepsToItsWidth(t *testing.T) {
	var out bytes.Buffer
	e := &environment{out: &out}
	long := "https://a.very.long.address.example/" + strings.Repeat("path/", 30) + "end"
	e.table(&out, []string{"state", "name", "entity id"}, []int{1, 2}, [][]string{{"entered", "Zürich–Süd", long}, {"waiting", "b", "-"}}, "nothing")
	lines := strings.Split(strings.TrimSpace(out.String()), "\n")
	require.Len(t, lines, 3)
	require.True(t, strings.HasPrefix(lines[0], "STATE    NAME"), lines[0])
	for _, l := range lines {
		require.LessOrEqual(t, len([]rune(l)), width)
		require.NotContains(t, l, "\x1b", "no colour when not on a terminal")
	}
	require.Contains(t, lines[1], "…")
	require.True(t, strings.HasSuffix(lines[1], "end"), "the middle is cut, not the end")
	out.Reset()
	e.table(&out, []string{"a"}, nil, nil, "nothing yet")
	require.Equal(t, "nothing yet\n", out.String())
}

func TestWordsForTimes(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.Local)
	for want, at := range map[string]time.Time{"today": now.Add(time.Hour), "in 1 day": now.Add(25 * time.Hour), "in 12 days": now.AddDate(0, 0, 12), "3 days ago": now.AddDate(0, 0, -3)} {
		require.Equal(t, want, days(at, now))
	}
	require.Equal(t, "11:00:00", brief(now.Add(-time.Hour), now))
	require.Equal(t, "11-22 12:00", brief(now.AddDate(0, 0, -1), now))
}

func TestNearWord(t *testing.T) {
	names := []string{"provider", "app", "trace", "crew-roster"}
	for given, want := range map[string]string{"provder": "provider", "ap": "app", "tracer": "trace", "crew-rooster": "crew-roster", "zebra": "", "": ""} {
		require.Equal(t, want, nearword.Of(given, names), given)
	}
}
