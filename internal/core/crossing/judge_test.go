package crossing_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
)

var now = time.Date(2026, 11, 26, 8, 0, 0, 0, time.UTC)

// How old a sign-in may be is judged exactly by the gate's own clock; only the answer that
// was just asked for tells the time of another one.
func TestProves(t *testing.T) {
	g := &federation.Gate{Skew: time.Minute}
	ago := func(d time.Duration) time.Time { return now.Add(-d) }
	for _, c := range []struct {
		rule    string
		wish    crossing.Wish
		at      time.Time
		asked   time.Time // zero for a session
		refused finding.Code
	}{
		{"a session as old as may be", crossing.Wish{MaxAge: time.Minute}, ago(time.Minute), time.Time{}, ""},
		{"a session a second older", crossing.Wish{MaxAge: time.Minute}, ago(61 * time.Second), time.Time{},
			finding.AuthnTooOld},
		{"a session of which nobody knows", crossing.Wish{MaxAge: time.Hour}, time.Time{}, time.Time{}, finding.AuthnTooOld},
		{"asked for, by a clock that is behind", crossing.Wish{MaxAge: time.Second}, ago(50 * time.Second),
			ago(2 * time.Second), ""},
		{"asked for, by a clock that is far behind", crossing.Wish{MaxAge: time.Second}, ago(2 * time.Minute),
			ago(2 * time.Second), finding.AuthnTooOld},
		{"asked for, and signed in earlier, as may be", crossing.Wish{MaxAge: time.Hour}, ago(time.Hour), ago(time.Second),
			""},
		{"asked for, by a clock that is ahead", crossing.Wish{MaxAge: time.Second}, now.Add(30 * time.Second),
			ago(time.Second), ""},
		{"asked for, and signed in too early", crossing.Wish{MaxAge: time.Hour}, ago(2 * time.Hour), ago(time.Second),
			finding.AuthnTooOld},
		{"anew, by a session", crossing.Wish{Force: true}, now, time.Time{}, finding.AuthnTooOld},
		{"anew, by a clock that is behind", crossing.Wish{Force: true}, ago(50 * time.Second), ago(time.Second), ""},
		{"when has to be known, and is", crossing.Wish{Timed: true}, ago(time.Hour), time.Time{}, ""},
		{"when has to be known, and nobody tells", crossing.Wish{Timed: true}, time.Time{}, now, finding.AuthnTimeMissing},
		{"nothing is wished", crossing.Wish{}, time.Time{}, time.Time{}, ""},
	} {
		_, err := crossing.Proves(g, c.wish, &crossing.Authentication{At: c.at}, c.asked, now)
		if c.refused == "" {
			require.NoError(t, err, c.rule)
			continue
		}
		require.True(t, finding.Is(err, c.refused), "%s: %v", c.rule, err)
	}
}
